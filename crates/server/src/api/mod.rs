//! The routes, described by one OpenAPI document.

mod beside;
mod bringing;
mod checking;
mod editions;
mod effects;
mod evening;
mod exports;
mod files;
mod history;
mod keeping;
mod long_takes;
mod looping;
mod making;
mod measuring;
mod out_and_back;
mod panel;
mod patterns;
mod phrases;
mod planning;
mod recording;
mod shaping;
mod shelving;
mod spreading;
mod strands;
mod taking_in;
mod together;
mod tuning;

pub(crate) use making::{lacks_judgement, lacks_levels};

use crate::App;
use crate::audio;
use crate::live::{Message, message_of};
use crate::problem::Problem;
use axum::body::Bytes;
use axum::extract::ws::{WebSocket, WebSocketUpgrade};
use axum::extract::{DefaultBodyLimit, Path, Query, State};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Json, Router};
use instrument::{NAMES_END, Plan, Share, Wish};
use serde::{Deserialize, Serialize};
use shown::{Card, cards_as_json};
use shown::{InstrumentView, view_of};
use std::time::Duration;
use utoipa::{IntoParams, OpenApi, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::router::UtoipaMethodRouterExt;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(title = "Ladder", description = "The API of Ladder's own page."),
    components(schemas(
        Problem,
        Message,
        session::Order,
        signal::Stage,
        instrument::FilterForm,
        instrument::RouteSaid,
        beside::Which,
        crate::recording::FromPage,
        crate::recording::ToPage
    ))
)]
struct Description;

fn router() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Description::openapi())
        .routes(routes!(planning::rigs))
        .routes(routes!(planning::cost))
        .routes(routes!(planning::offer))
        .routes(routes!(planning::layers))
        .routes(routes!(planning::chord))
        .routes(routes!(planning::midi_file))
        .routes(routes!(effects::effects))
        .routes(routes!(panel::lay_out_panel))
        .routes(routes!(panel::keep_picture).layer(DefaultBodyLimit::max(16 << 20)))
        .routes(routes!(panel::picture))
        .routes(routes!(keeping::kept))
        .routes(routes!(keeping::keep, keeping::forget))
        .routes(routes!(patterns::patterns, patterns::keep_pattern))
        .routes(routes!(patterns::forget_pattern))
        .routes(routes!(patterns::fit_pattern))
        .routes(routes!(patterns::lay_pattern))
        .routes(routes!(phrases::read).layer(DefaultBodyLimit::max(phrases::MOST_BYTES)))
        .routes(routes!(phrases::write).layer(DefaultBodyLimit::max(phrases::MOST_BYTES)))
        .routes(routes!(list, create))
        .routes(routes!(show, shelving::remove_for_good))
        .routes(routes!(shelving::copy))
        .routes(routes!(shelving::frees))
        .routes(routes!(flat_program))
        .routes(routes!(audio::thumbnails))
        .routes(routes!(change))
        .routes(routes!(change_plan))
        .routes(routes!(undo))
        .routes(routes!(redo))
        .routes(routes!(history::steps))
        .routes(routes!(history::undo_step))
        .routes(routes!(recording::run))
        .routes(routes!(recording::order))
        .routes(routes!(recording::through))
        .routes(routes!(looping::looped_audio))
        .routes(routes!(looping::take_snap))
        .routes(routes!(tuning::take_spectrogram))
        .routes(routes!(looping::take_loops))
        .routes(routes!(looping::seek_loops))
        .routes(routes!(measuring::measure_again))
        .routes(routes!(making::make_takes))
        .routes(routes!(making::print_effects))
        .routes(routes!(making::fill_rungs))
        .routes(routes!(making::makings))
        .routes(routes!(evening::propose))
        .routes(routes!(spreading::spread_corrections))
        .routes(routes!(long_takes::bring_long_take))
        .routes(routes!(long_takes::long_take_peaks))
        .routes(routes!(long_takes::long_take_audio))
        .routes(routes!(long_takes::cut))
        .routes(routes!(long_takes::hear))
        .routes(routes!(long_takes::phrase))
        .routes(routes!(long_takes::deal_out))
        .routes(routes!(long_takes::slices_to_takes))
        .routes(routes!(files::list_files, files::bring_file))
        .routes(routes!(taking_in::take_files_in))
        .routes(routes!(taking_in::instrument_of_file))
        .routes(routes!(taking_in::waiting_audio))
        .routes(routes!(files::forget_files))
        .routes(routes!(bringing::begin_set))
        .routes(routes!(bringing::show_set, bringing::forget_set))
        .routes(routes!(bringing::add_to_set))
        .routes(routes!(
            bringing::take_of_set,
            bringing::taking_of_set,
            bringing::stop_taking
        ))
        .routes(routes!(bringing::set_to_instrument))
        .routes(routes!(bringing::source_file))
        .routes(routes!(strands::act))
        .routes(routes!(shaping::levels))
        .routes(routes!(shaping::layer_levels))
        .routes(routes!(checking::show_findings, checking::act_on_findings))
        .routes(routes!(checking::show_report))
        .routes(routes!(beside::show_beside))
        .routes(routes!(beside::compare))
        .routes(routes!(beside::take_match))
        .routes(routes!(beside::hear_both))
        .routes(routes!(beside::take_beside_another))
        .routes(routes!(shaping::heard))
        .routes(routes!(strands::regions_at_once))
        .routes(routes!(strands::split_regions))
        .routes(routes!(out_and_back::takes_out))
        .routes(routes!(out_and_back::take_back))
        .routes(routes!(exports::list_exports, exports::begin_export))
        .routes(routes!(exports::preview_export))
        .routes(routes!(together::preview_together))
        .routes(routes!(together::begin_together))
        .routes(routes!(editions::list_editions, editions::freeze))
        .routes(routes!(editions::edition_file))
        .routes(routes!(editions::edition_program))
        .routes(routes!(editions::changed_since))
        .routes(routes!(editions::take_edition_back))
        .routes(routes!(exports::imports))
        .routes(routes!(exports::losses))
        .routes(routes!(exports::job))
        .routes(routes!(exports::cancel))
        .routes(routes!(exports::again))
        .routes(routes!(exports::job_file))
        .routes(routes!(audio::take_audio))
        .routes(routes!(audio::heads))
        .routes(routes!(audio::take_peaks))
        .routes(routes!(tuning::take_pitch))
        .routes(routes!(looping::take_seam))
}

/// The document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    router().split_for_parts().1
}

pub(crate) fn routes(app: App) -> Router {
    let (routes, document) = router().split_for_parts();
    routes
        .route(
            "/api/openapi.json",
            axum::routing::get(move || async move { Json(document) }),
        )
        .route("/api/events", axum::routing::get(events))
        .route("/api/instruments/{id}/line", axum::routing::get(recording::line))
        .route(
            "/api/{*rest}",
            axum::routing::any(|| async { Problem::missing("address") }),
        )
        .with_state(app)
}

/// A name for good for what is new: by chance, out of so many that none is met twice.
fn fresh_name() -> u64 {
    (uuid::Uuid::new_v4().as_u128() % u128::from(NAMES_END)) as u64
}

/// A name without spaces around it; an error where it is empty or too long.
fn checked_name<'a>(name: &'a str, what: &str) -> Result<&'a str, Problem> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(Problem::refused(format!(
            "{what} needs a name of 1 to 120 letters."
        )));
    }
    Ok(name)
}

/// A file's name as RFC 5987 wants it, in UTF-8, percent-encoded.
fn percent_encoded(name: &str) -> String {
    name.bytes()
        .map(|b| {
            if b.is_ascii_alphanumeric() || b"-._".contains(&b) {
                char::from(b).to_string()
            } else {
                format!("%{b:02X}")
            }
        })
        .collect()
}

/// That a body is to be kept as a file of this name, for `Content-Disposition`.
fn attachment(name: &str) -> String {
    format!("attachment; filename*=UTF-8''{}", percent_encoded(name))
}

/// A file that is kept on the disk of whoever asked.
fn download<E: Into<axum::BoxError> + 'static>(
    name: &str,
    length: u64,
    bytes: impl futures::Stream<Item = Result<Bytes, E>> + Send + 'static,
) -> Result<Response, Problem> {
    let disposition = HeaderValue::from_str(&attachment(name))?;
    let headers = [
        (
            header::CONTENT_TYPE,
            HeaderValue::from_static("application/octet-stream"),
        ),
        (header::CONTENT_DISPOSITION, disposition),
        (header::CONTENT_LENGTH, HeaderValue::from(length)),
    ];
    Ok((headers, axum::body::Body::from_stream(bytes)).into_response())
}

/// The shelf.
#[utoipa::path(get, path = "/api/instruments", responses((status = 200, body = Vec<Card>)))]
async fn list(State(app): State<App>) -> Result<Response, Problem> {
    let answer = app
        .shelf
        .answer(0, async || Ok(Some(cards_as_json(&app.store).await?.into())));
    json(answer.await?, "shelf")
}

/// JSON that several may have asked for.
fn json(answer: Option<Bytes>, what: &str) -> Result<Response, Problem> {
    let bytes = answer.ok_or_else(|| Problem::missing(what))?;
    Ok(([(header::CONTENT_TYPE, "application/json")], bytes).into_response())
}

/// A new instrument.
#[derive(Debug, Deserialize, ToSchema)]
struct NewInstrument {
    /// 1 to 120 letters.
    name: String,
    /// What will be recorded.
    plan: Plan,
    /// The pattern that it begins with: all of it is laid under what will be recorded.
    #[serde(default)]
    pattern: Option<u64>,
}

/// Its number.
#[derive(Debug, Serialize, ToSchema)]
struct Created {
    /// Its number.
    id: u64,
}

/// Makes an instrument.
#[utoipa::path(post, path = "/api/instruments", request_body = NewInstrument, responses((status = 201, body = Created), (status = 422, body = Problem)))]
async fn create(
    State(app): State<App>,
    Json(wish): Json<NewInstrument>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let name = checked_name(&wish.name, "An instrument")?;
    wish.plan
        .check()
        .map_err(|error| Problem::refused(error.to_string()))?;
    let pattern = match wish.pattern {
        Some(pattern) => Some(patterns::found(&app, pattern).await?),
        None => None,
    };
    let id = app.store.create_instrument(name, &wish.plan).await?;
    if let Some(pattern) = pattern {
        patterns::lay(&app, id, &pattern, &Share::ALL).await?;
    }
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// Everything about an instrument.
#[utoipa::path(get, path = "/api/instruments/{id}", params(("id" = u64, Path)), responses((status = 200, body = InstrumentView), (status = 404, body = Problem)))]
async fn show(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let answer = app.views.answer(id, async || {
        // Read first: of a run that has ended all takes are there.
        let run = app.recorder.progress(id);
        let Some(mut view) = view_of(&app.store, id).await? else {
            return Ok(None);
        };
        view.run = run;
        if let Some(check) = view.run.as_ref().and_then(|run| run.check.clone()) {
            view.check = Some(check);
        }
        let written = tokio::task::spawn_blocking(move || view.to_json()).await??;
        Ok(Some(written.into()))
    });
    json(answer.await?, "instrument")
}

/// As what a program is to be heard.
#[derive(Debug, Deserialize, IntoParams)]
struct HeardAs {
    /// As a format holds it; `None` for the whole.
    #[serde(rename = "as")]
    format: Option<exports::FormatName>,
    /// As it was in this edition; `None` as it is.
    edition: Option<u64>,
    /// Without effects.
    #[serde(default)]
    dry: bool,
}

/// The program as the engine takes it, see [`program::Pieces`]: the whole, or as a format will hold it, on the same samples.
#[utoipa::path(get, path = "/api/instruments/{id}/program", params(("id" = u64, Path), HeardAs), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
async fn flat_program(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(HeardAs { format, edition, dry }): Query<HeardAs>,
) -> Result<Response, Problem> {
    let pieces = async || {
        let whole = match edition {
            None => view_of(&app.store, id).await?.map(|view| view.program),
            Some(edition) => {
                let found = app.store.edition(edition).await?;
                let own = found.filter(|(row, _)| row.instrument_id == id);
                own.map(|(_, frozen)| frozen.program)
            }
        };
        let whole = whole.map(|whole| if dry { whole.dry() } else { whole });
        let Some(whole) = &whole else {
            return Ok(None);
        };
        let pieces = match format {
            None => program::to_pieces(whole),
            Some(format) => program::to_pieces(&formats::lower(whole, format.into()).heard(whole)),
        };
        Ok(Some(pieces?.into()))
    };
    let answer = match (format, edition, dry) {
        (None, None, false) => app.programs.answer(id, pieces).await?,
        _ => pieces().await?,
    };
    let bytes = answer.ok_or_else(|| Problem::missing("instrument"))?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], bytes).into_response())
}

/// What is done, for "Undo …".
#[derive(Debug, Deserialize, ToSchema)]
#[serde(transparent)]
struct Label(String);

impl Label {
    /// No longer than a menu has room for.
    fn shortened(&self) -> String {
        self.0.chars().take(120).collect()
    }
}

/// One gesture.
#[derive(Debug, Deserialize, ToSchema)]
struct NewChange {
    label: Label,
    /// All that it sets.
    wishes: Vec<Wish>,
}

/// Does an edit.
#[utoipa::path(post, path = "/api/instruments/{id}/changes", params(("id" = u64, Path)), request_body = NewChange, responses((status = 204), (status = 422, body = Problem)))]
async fn change(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewChange>,
) -> Result<StatusCode, Problem> {
    app.store
        .change(id, &new.label.shortened(), new.wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}

/// A plan that becomes another.
#[derive(Debug, Deserialize, ToSchema)]
struct NewPlan {
    label: Label,
    /// What it was.
    from: Plan,
    /// What it should be.
    to: Plan,
}

/// Edits the plan: what differs between the two is set, part by part, and what somebody else said of other parts meanwhile stays.
#[utoipa::path(post, path = "/api/instruments/{id}/plan", params(("id" = u64, Path)), request_body = NewPlan, responses((status = 204), (status = 422, body = Problem)))]
async fn change_plan(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewPlan>,
) -> Result<StatusCode, Problem> {
    app.store
        .change_plan(id, &new.label.shortened(), &new.from, &new.to)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}

/// What an undo did.
#[derive(Debug, Serialize, ToSchema)]
struct UndoneView {
    /// What was undone or done again.
    label: String,
    /// Fields left alone, since they were changed since.
    left_alone: usize,
}

async fn step(app: &App, id: u64, again: bool) -> Result<Json<UndoneView>, Problem> {
    let undone = app.store.step_back(id, again).await?;
    let nothing = if again {
        "There is nothing to do again."
    } else {
        "There is nothing to undo."
    };
    let undone = undone.ok_or_else(|| Problem::refused(nothing))?;
    Ok(Json(UndoneView {
        label: undone.label,
        left_alone: undone.left_alone,
    }))
}

/// Undoes the newest edit.
#[utoipa::path(post, path = "/api/instruments/{id}/undo", params(("id" = u64, Path)), responses((status = 200, body = UndoneView), (status = 422, body = Problem)))]
async fn undo(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<UndoneView>, Problem> {
    step(&app, id, false).await
}

/// Does the last undone edit again.
#[utoipa::path(post, path = "/api/instruments/{id}/redo", params(("id" = u64, Path)), responses((status = 200, body = UndoneView), (status = 422, body = Problem)))]
async fn redo(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<UndoneView>, Problem> {
    step(&app, id, true).await
}

/// Where a page wants to go on.
#[derive(Debug, Deserialize)]
struct After {
    after: Option<u64>,
    /// The instrument that it looks at: of others it is not told how far jobs and recordings are.
    instrument: Option<u64>,
}

async fn events(State(app): State<App>, Query(wish): Query<After>, upgrade: WebSocketUpgrade) -> Response {
    upgrade.on_upgrade(move |socket| async move {
        if let Err(error) = tell(app, wish, socket).await {
            tracing::debug!("a page left: {error:#}");
        }
    })
}

/// A page that takes nothing for so long has gone.
const LONGEST_SEND: Duration = Duration::from_secs(30);

/// First all that was missed, however much, then what comes.
async fn tell(app: App, wish: After, mut socket: WebSocket) -> anyhow::Result<()> {
    let mut messages = app.live.listen();
    let _looking = wish.instrument.map(|instrument| app.live.look(instrument));
    let mut last = wish.after;
    while let Some(after) = last {
        let missed = app.store.events_after(after).await?;
        let Some(newest) = missed.last().map(|event| event.id) else {
            break;
        };
        for event in missed {
            send(&mut socket, &message_of(event)).await?;
        }
        last = Some(newest);
    }
    loop {
        tokio::select! {
            message = messages.recv() => match message {
                Ok(Message::Event { id, .. }) if last.is_some_and(|last| id <= last) => {}
                Ok(message) if message.is_for(wish.instrument) => send(&mut socket, &message).await?,
                Ok(_) => {}
                // Too slow: the page opens a new line and catches up.
                Err(_) => return Ok(()),
            },
            incoming = socket.recv() => if incoming.is_none_or(|message| message.is_err()) { return Ok(()) },
        }
    }
}

async fn send(socket: &mut WebSocket, message: &Message) -> anyhow::Result<()> {
    let text = axum::extract::ws::Message::Text(serde_json::to_string(message)?.into());
    Ok(tokio::time::timeout(LONGEST_SEND, socket.send(text)).await??)
}
