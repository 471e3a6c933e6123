//! The routes, described by one OpenAPI document.

mod evening;
mod exports;
mod files;
mod long_takes;
mod looping;
mod making;
mod out_and_back;
mod planning;
mod recording;
mod spreading;
mod taking_in;
mod tuning;

pub(crate) use making::{lacks_judgement, lacks_levels, render_soon};

use crate::App;
use crate::audio;
use crate::live::{LATE_IDS, Message, message_of};
use crate::problem::Problem;
use crate::view::{Card, InstrumentView, cards, view_of};
use axum::extract::ws::{WebSocket, WebSocketUpgrade};
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Json, Router};
use instrument::{Fact, Plan, Said, Target};
use serde::{Deserialize, Serialize};
use utoipa::{OpenApi, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(title = "Ladder", description = "The API of Ladder's own page."),
    components(schemas(
        Problem,
        Message,
        session::Order,
        signal::Stage,
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
        .routes(routes!(planning::midi_file))
        .routes(routes!(planning::patterns, planning::keep_pattern))
        .routes(routes!(planning::forget_pattern))
        .routes(routes!(list, create))
        .routes(routes!(show))
        .routes(routes!(flat_program))
        .routes(routes!(audio::thumbnails))
        .routes(routes!(change))
        .routes(routes!(undo))
        .routes(routes!(redo))
        .routes(routes!(recording::run))
        .routes(routes!(recording::order))
        .routes(routes!(recording::through))
        .routes(routes!(looping::looped_audio))
        .routes(routes!(looping::take_snap))
        .routes(routes!(tuning::take_spectrogram))
        .routes(routes!(looping::take_loops))
        .routes(routes!(looping::seek_loops))
        .routes(routes!(making::make_takes))
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
        .routes(routes!(files::forget_files))
        .routes(routes!(out_and_back::takes_out))
        .routes(routes!(out_and_back::take_back))
        .routes(routes!(exports::list_exports, exports::begin_export))
        .routes(routes!(exports::imports))
        .routes(routes!(exports::losses))
        .routes(routes!(exports::job))
        .routes(routes!(exports::cancel))
        .routes(routes!(exports::job_file))
        .routes(routes!(audio::take_audio))
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

/// The shelf.
#[utoipa::path(get, path = "/api/instruments", responses((status = 200, body = Vec<Card>)))]
async fn list(State(app): State<App>) -> Result<Json<Vec<Card>>, Problem> {
    Ok(Json(cards(&app.store).await?))
}

/// A new instrument.
#[derive(Debug, Deserialize, ToSchema)]
struct NewInstrument {
    /// 1 to 120 letters.
    name: String,
    /// What will be recorded.
    plan: Plan,
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
    let id = app.store.create_instrument(name, &wish.plan).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// Everything about an instrument.
#[utoipa::path(get, path = "/api/instruments/{id}", params(("id" = u64, Path)), responses((status = 200, body = InstrumentView), (status = 404, body = Problem)))]
async fn show(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<InstrumentView>, Problem> {
    let mut view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    view.run = app.recorder.progress(id);
    view.check = app.recorder.check(id);
    Ok(Json(view))
}

/// The program as the engine takes it (`postcard`).
#[utoipa::path(get, path = "/api/instruments/{id}/program", params(("id" = u64, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
async fn flat_program(State(app): State<App>, Path(id): Path<u64>) -> Result<impl IntoResponse, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    Ok((
        [(header::CONTENT_TYPE, "application/octet-stream")],
        postcard::to_allocvec(&view.program)?,
    ))
}

/// One field to set.
#[derive(Debug, Deserialize, ToSchema)]
struct Wish {
    /// Of what.
    target: Target,
    /// Which.
    fact: Fact,
    /// To what.
    after: Said,
}

/// One gesture.
#[derive(Debug, Deserialize, ToSchema)]
struct NewChange {
    /// For "Undo …".
    label: String,
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
    let label: String = new.label.chars().take(120).collect();
    let renders = new.wishes.iter().any(|wish| wish.fact.is_rendered());
    let wishes = new
        .wishes
        .into_iter()
        .map(|wish| (wish.target, wish.fact, wish.after))
        .collect();
    app.store
        .change(id, &label, wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    if renders {
        making::render_soon(&app.store, id).await?;
    }
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
    making::render_soon(&app.store, id).await?;
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
}

async fn events(State(app): State<App>, Query(wish): Query<After>, upgrade: WebSocketUpgrade) -> Response {
    upgrade.on_upgrade(move |socket| async move {
        if let Err(error) = tell(app, wish.after, socket).await {
            tracing::debug!("a page left: {error:#}");
        }
    })
}

/// First what was missed (and a little of what was not, since events may show late), then what comes.
async fn tell(app: App, after: Option<u64>, mut socket: WebSocket) -> anyhow::Result<()> {
    let mut messages = app.live.listen();
    if let Some(after) = after {
        for event in app.store.events_after(after.saturating_sub(LATE_IDS)).await? {
            send(&mut socket, &message_of(event)).await?;
        }
    }
    loop {
        tokio::select! {
            message = messages.recv() => match message {
                Ok(message) => send(&mut socket, &message).await?,
                // Too slow: the page opens a new line and catches up.
                Err(_) => return Ok(()),
            },
            incoming = socket.recv() => if incoming.is_none_or(|message| message.is_err()) { return Ok(()) },
        }
    }
}

async fn send(socket: &mut WebSocket, message: &Message) -> anyhow::Result<()> {
    Ok(socket
        .send(axum::extract::ws::Message::Text(
            serde_json::to_string(message)?.into(),
        ))
        .await?)
}
