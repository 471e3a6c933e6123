//! Editions: made, listed, fetched, compared, and taken back.

use super::exports::{NewExport, asked, loss_view};
use super::{Created, download};
use crate::App;
use crate::problem::Problem;
use crate::workers::Freezing;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use instrument::{Changed, Frozen};
use program::Program;
use serde::{Deserialize, Serialize};
use shown::{JobView, LossView, Seen, seen};
use store::EditionRow;
use utoipa::{IntoParams, ToSchema};
use work::{EditionFile, JobKind, edition_path};

/// Files of one edition.
const MOST_FILES: usize = 8;
/// Letters of its notes.
const MOST_NOTES: usize = 4_000;

/// A file of an edition.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct EditionFileView {
    /// As it is called.
    name: String,
    /// Its size.
    bytes: u64,
    /// The hash of its bytes, which never changes.
    hash: String,
    /// What it could not hold.
    losses: Vec<LossView>,
}

/// An edition.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct EditionView {
    /// Its number among all.
    id: u64,
    /// Its number among those of its instrument, from 1.
    number: u32,
    /// What its maker says of it.
    notes: String,
    /// When, UTC.
    made_at: String,
    /// Its files.
    files: Vec<EditionFileView>,
}

/// All of an instrument.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct EditionsView {
    /// Newest first.
    editions: Vec<EditionView>,
    /// Those that are being made, or were not.
    going: Vec<JobView>,
}

/// An edition to make.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewEdition {
    /// What its maker says of it.
    #[serde(default)]
    notes: String,
    /// What is written.
    files: Vec<NewExport>,
}

fn view(row: EditionRow) -> EditionView {
    let file = |file: EditionFile| EditionFileView {
        name: file.name,
        bytes: file.bytes,
        hash: file.hash,
        losses: file.losses.into_iter().map(loss_view).collect(),
    };
    EditionView {
        id: row.id,
        number: row.number,
        notes: row.notes,
        made_at: row.made_at.and_utc().to_rfc3339(),
        files: row.files.into_iter().map(file).collect(),
    }
}

/// The editions of an instrument.
#[utoipa::path(get, path = "/api/instruments/{id}/editions", params(("id" = u64, Path)), responses((status = 200, body = EditionsView)))]
pub(super) async fn list_editions(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<EditionsView>, Problem> {
    let jobs = app.store.jobs(id, &[JobKind::Freeze]).await?;
    let going = jobs.into_iter().map(JobView::of);
    Ok(Json(EditionsView {
        editions: app.store.editions(id).await?.into_iter().map(view).collect(),
        going: going
            .filter(|job| job.state != "done" && job.state != "cancelled")
            .collect(),
    }))
}

async fn instrument(app: &App, id: u64) -> Result<Seen, Problem> {
    seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))
}

/// Begins to make an edition of an instrument as it is now.
#[utoipa::path(post, path = "/api/instruments/{id}/editions", params(("id" = u64, Path)), request_body = NewEdition, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn freeze(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewEdition>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    if new.files.is_empty() || new.files.len() > MOST_FILES {
        return Err(Problem::refused("An edition has between 1 and 8 files."));
    }
    if new.notes.chars().count() > MOST_NOTES {
        return Err(Problem::refused("Notes have 4,000 letters at most."));
    }
    let seen = instrument(&app, id).await?;
    let mut snapshots = vec![app.store.put_snapshot(&seen.frozen()).await?];
    let mut settings = Vec::with_capacity(new.files.len());
    for file in &new.files {
        let (of, program) = asked(&seen.view, file)?;
        settings.push(of);
        let snapshot = seen.snapshot_of(program, |take| take.chosen);
        snapshots.push(app.store.put_snapshot(&snapshot).await?);
    }
    let freezing = Freezing {
        notes: new.notes.trim().to_owned(),
        shell: app.shell_for(&settings).await?,
        settings,
        snapshots,
    };
    let id = app
        .store
        .enqueue(id, JobKind::Freeze, &serde_json::to_value(freezing)?)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

async fn found(app: &App, id: u64) -> Result<(EditionRow, Frozen), Problem> {
    let found = app.store.edition(id).await?;
    found.ok_or_else(|| Problem::missing("edition"))
}

/// A file of an edition, by its place: the same bytes for ever.
#[utoipa::path(get, path = "/api/editions/{id}/files/{place}", params(("id" = u64, Path), ("place" = usize, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem)))]
pub(super) async fn edition_file(
    State(app): State<App>,
    Path((id, place)): Path<(u64, usize)>,
) -> Result<Response, Problem> {
    let (row, _) = found(&app, id).await?;
    let file = row.files.get(place).ok_or_else(|| Problem::missing("file"))?;
    let (length, bytes) = app.store.read_file(&edition_path(&file.hash)).await?;
    download(&file.name, length, bytes)
}

/// What sounded in an edition, for who fetches its audio.
#[utoipa::path(get, path = "/api/editions/{id}/program", params(("id" = u64, Path)), responses((status = 200, body = Program), (status = 404, body = Problem)))]
pub(super) async fn edition_program(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Program>, Problem> {
    let (_, frozen) = found(&app, id).await?;
    Ok(Json(frozen.program))
}

/// From which edition on.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Since {
    /// The later edition; the instrument as it is now, where it is left out.
    to: Option<u64>,
}

/// What changed since an edition: up to a later one, or up to now.
#[utoipa::path(get, path = "/api/editions/{id}/changed", params(("id" = u64, Path), Since), responses((status = 200, body = Changed), (status = 404, body = Problem)))]
pub(super) async fn changed_since(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(Since { to }): Query<Since>,
) -> Result<Json<Changed>, Problem> {
    let (row, before) = found(&app, id).await?;
    let after = match to {
        Some(to) => found(&app, to).await?.1,
        None => instrument(&app, row.instrument_id).await?.frozen(),
    };
    Ok(Json(before.changed(&after)))
}

/// Takes an edition back as what is worked on, by one change.
#[utoipa::path(post, path = "/api/editions/{id}/take-back", params(("id" = u64, Path)), responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn take_edition_back(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<StatusCode, Problem> {
    let (row, frozen) = found(&app, id).await?;
    let wishes = instrument(&app, row.instrument_id).await?.take_back(&frozen);
    let label = format!("take edition {} back", row.number);
    app.store
        .change(row.instrument_id, &label, wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}
