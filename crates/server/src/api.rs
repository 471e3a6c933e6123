//! The routes, described by one OpenAPI document.

use crate::App;
use crate::audio;
use crate::live::{LATE_IDS, Message, message_of};
use crate::problem::Problem;
use crate::recorder::Order;
use crate::view::{Card, InstrumentView, cards, plan_of, view_of};
use axum::extract::ws::{WebSocket, WebSocketUpgrade};
use axum::extract::{Path, Query, State};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Json, Router};
use formats::Format;
use instrument::{Cost, Fact, Plan, Said, Target, cost_of};
use serde::{Deserialize, Serialize};
use utoipa::{OpenApi, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(title = "Ladder", description = "The API of Ladder's own page."),
    components(schemas(Problem, Message, OrderName, FormatName))
)]
struct Description;

fn router() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Description::openapi())
        .routes(routes!(rigs))
        .routes(routes!(plan_cost))
        .routes(routes!(list, create))
        .routes(routes!(show))
        .routes(routes!(flat_program))
        .routes(routes!(audio::thumbnails))
        .routes(routes!(change))
        .routes(routes!(undo))
        .routes(routes!(redo))
        .routes(routes!(run))
        .routes(routes!(order))
        .routes(routes!(exports, export))
        .routes(routes!(losses))
        .routes(routes!(job))
        .routes(routes!(cancel))
        .routes(routes!(job_file))
        .routes(routes!(audio::take_audio))
        .routes(routes!(audio::take_peaks))
        .routes(routes!(audio::take_pitch))
        .routes(routes!(audio::take_seam))
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
        .route(
            "/api/{*rest}",
            axum::routing::any(|| async { Problem::missing("address") }),
        )
        .with_state(app)
}

/// A rig that can be recorded.
#[derive(Debug, Serialize, ToSchema)]
struct RigView {
    /// For the plan.
    id: String,
    /// As it is shown.
    name: String,
    /// Names of its programs, from 1.
    programs: Vec<String>,
}

/// The rigs.
#[utoipa::path(get, path = "/api/rigs", responses((status = 200, body = Vec<RigView>)))]
async fn rigs() -> Json<Vec<RigView>> {
    let view = |(model, id, name): &(rig::Model, &str, &str)| RigView {
        id: (*id).to_owned(),
        name: (*name).to_owned(),
        programs: model.programs().iter().map(|name| (*name).to_owned()).collect(),
    };
    Json(rig::Model::ALL.iter().map(view).collect())
}

/// What a plan will cost.
#[utoipa::path(post, path = "/api/plan/cost", request_body = Plan, responses((status = 200, body = Cost), (status = 422, body = Problem)))]
async fn plan_cost(Json(plan): Json<Plan>) -> Result<Json<Cost>, Problem> {
    plan.check()
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(cost_of(&plan)))
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
    let name = wish.name.trim();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(Problem::refused(
            "An instrument needs a name of 1 to 120 letters.",
        ));
    }
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
    let wishes = new
        .wishes
        .into_iter()
        .map(|wish| (wish.target, wish.fact, wish.after))
        .collect();
    app.store
        .change(id, &label, wishes)
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

/// How fast the simulated rig runs.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum Speed {
    /// As a device would.
    Real,
    /// As fast as the machine can.
    Full,
}

/// A run to begin.
#[derive(Debug, Deserialize, ToSchema)]
struct NewRun {
    /// Of the simulated rig.
    speed: Speed,
}

/// Records what is missing.
#[utoipa::path(post, path = "/api/instruments/{id}/run", params(("id" = u64, Path)), request_body = NewRun, responses((status = 204), (status = 422, body = Problem)))]
async fn run(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewRun>,
) -> Result<StatusCode, Problem> {
    let speed = match new.speed {
        Speed::Real => "real",
        Speed::Full => "full",
    };
    app.recorder.begin(id, speed).await?.map_err(Problem::refused)?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a run is told.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum OrderName {
    /// Stand still after this cell.
    Pause,
    /// Go on.
    Resume,
    /// Leave this cell out.
    Skip,
    /// End the run.
    Stop,
}

/// Tells a run what to do.
#[utoipa::path(post, path = "/api/instruments/{id}/run/{order}", params(("id" = u64, Path), ("order" = OrderName, Path)), responses((status = 204), (status = 422, body = Problem)))]
async fn order(
    State(app): State<App>,
    Path((id, order)): Path<(u64, OrderName)>,
) -> Result<StatusCode, Problem> {
    let order = match order {
        OrderName::Pause => Order::Pause,
        OrderName::Resume => Order::Resume,
        OrderName::Skip => Order::Skip,
        OrderName::Stop => Order::Stop,
    };
    if app.recorder.order(id, order) {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::refused("No run is going."))
    }
}

/// A format to export to.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
enum FormatName {
    /// SFZ with WAV files, in a zip.
    Sfz,
    /// SoundFont 2.
    SoundFont2,
}

impl From<FormatName> for Format {
    fn from(name: FormatName) -> Self {
        match name {
            FormatName::Sfz => Self::Sfz,
            FormatName::SoundFont2 => Self::SoundFont2,
        }
    }
}

/// An export to make.
#[derive(Debug, Deserialize, ToSchema)]
struct NewExport {
    /// To what.
    format: FormatName,
    /// Width of WAV files: 16, 24 or 32.
    bits: u16,
}

/// A job.
#[derive(Debug, Serialize, ToSchema)]
struct JobView {
    /// Its number.
    id: u64,
    /// `waiting`, `running`, `done`, `failed`, `cancelled`.
    state: String,
    /// 0 to 1.
    share: f64,
    /// What it was given.
    #[schema(value_type = Object)]
    input: serde_json::Value,
    /// What came out.
    result: Option<JobResult>,
    /// What went wrong.
    error: Option<String>,
}

/// What an export made.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
struct JobResult {
    /// Name of the file.
    #[serde(default)]
    name: String,
    /// Its size.
    #[serde(default)]
    bytes: u64,
    /// What the format could not hold.
    #[serde(default)]
    losses: Vec<LossView>,
}

/// Something a format cannot hold.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
struct LossView {
    /// A sentence.
    what: String,
    /// Regions it concerns.
    regions: usize,
}

fn job_view(job: store::Job) -> JobView {
    let result = job.result.and_then(|value| serde_json::from_value(value).ok());
    JobView {
        id: job.id,
        state: job.state,
        share: job.share,
        input: job.input,
        result,
        error: job.error,
    }
}

/// Begins an export.
#[utoipa::path(post, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), request_body = NewExport, responses((status = 201, body = Created), (status = 422, body = Problem)))]
async fn export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    plan_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    if !matches!(new.bits, 16 | 24 | 32) {
        return Err(Problem::refused("WAV files are written with 16, 24 or 32 bits."));
    }
    let settings = work::ExportSettings {
        format: new.format.into(),
        bits: new.bits,
    };
    let id = app
        .store
        .enqueue(id, "export", &serde_json::to_value(settings)?)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest exports.
#[utoipa::path(get, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
async fn exports(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<Vec<JobView>>, Problem> {
    Ok(Json(
        app.store
            .jobs(id, "export")
            .await?
            .into_iter()
            .map(job_view)
            .collect(),
    ))
}

/// What a format would lose.
#[utoipa::path(get, path = "/api/instruments/{id}/losses/{format}", params(("id" = u64, Path), ("format" = FormatName, Path)), responses((status = 200, body = Vec<LossView>)))]
async fn losses(
    State(app): State<App>,
    Path((id, format)): Path<(u64, FormatName)>,
) -> Result<Json<Vec<LossView>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let lost = formats::lower(&view.program, format.into()).losses;
    Ok(Json(
        lost.into_iter()
            .map(|loss| LossView {
                what: loss.what,
                regions: loss.regions,
            })
            .collect(),
    ))
}

/// One job.
#[utoipa::path(get, path = "/api/jobs/{id}", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
async fn job(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    Ok(Json(job_view(
        app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?,
    )))
}

/// Cancels a job.
#[utoipa::path(post, path = "/api/jobs/{id}/cancel", params(("id" = u64, Path)), responses((status = 204)))]
async fn cancel(State(app): State<App>, Path(id): Path<u64>) -> Result<StatusCode, Problem> {
    app.store.cancel(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The file that an export made.
#[utoipa::path(get, path = "/api/jobs/{id}/file", params(("id" = u64, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
async fn job_file(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let job = app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?;
    let result = job
        .result
        .ok_or_else(|| Problem::refused("This export is not ready."))?;
    let (path, name) = (
        result["file"].as_str().unwrap_or(""),
        result["name"].as_str().unwrap_or("export"),
    );
    let (length, bytes) = app.store.read_file(path).await?;
    // RFC 6266 and RFC 5987: the name in UTF-8, percent-encoded.
    let encoded: String = name
        .bytes()
        .map(|b| {
            if b.is_ascii_alphanumeric() || b"-._".contains(&b) {
                char::from(b).to_string()
            } else {
                format!("%{b:02X}")
            }
        })
        .collect();
    let disposition = HeaderValue::from_str(&format!("attachment; filename*=UTF-8''{encoded}"))?;
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
