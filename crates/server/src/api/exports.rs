//! Exports: what a format would lose, the jobs that write them, and their files.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::Exporting;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use formats::Format;
use instrument::{Cell, MiddleC, Named, name_by_rule};
use program::{Program, StrandId};
use serde::{Deserialize, Serialize};
use shown::{InstrumentView, JobView, LossView, seen, view_of};
use std::collections::HashMap;

use utoipa::ToSchema;
use work::{ExportSettings, JobKind, foresee};

/// A format to export to.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum FormatName {
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
pub(crate) struct NewExport {
    /// To what.
    format: FormatName,
    /// Width of the audio: 16 or 24; of WAV files 32, too.
    bits: u16,
    /// Whether audio files are FLAC; else they are WAV.
    #[serde(default)]
    flac: bool,
    /// Whether audio files are written alone, with roots and loops inside where they hold them.
    #[serde(default)]
    alone: bool,
    /// How audio files are called, see [`instrument::name_by_rule`]; as the recordings are called here, where it is left out.
    #[serde(default)]
    names: Option<String>,
    /// How middle C is written in them.
    #[serde(default)]
    middle_c: MiddleC,
    /// Strands that are left out.
    #[serde(default)]
    without: Vec<StrandId>,
}

/// An export before it is made.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Preview {
    /// How many files there will be.
    files: usize,
    /// So long, for the most part.
    bytes: u64,
    /// The names of the first of them.
    names: Vec<String>,
    /// What the format does not hold, and what is written instead.
    losses: Vec<LossView>,
}

/// As what, and what of an instrument, is to be written.
pub(super) fn asked(view: &InstrumentView, new: &NewExport) -> Result<(ExportSettings, Program), Problem> {
    let settings = ExportSettings::of(new.format.into(), new.bits)
        .and_then(|settings| settings.with(new.flac, new.alone))
        .map_err(|error| Problem::refused(error.to_string()))?;
    let mut program = view.program.clone();
    program
        .regions
        .retain(|region| !new.without.contains(&region.key.strand));
    if let Some(rule) = &new.names {
        let cells: HashMap<u64, Cell> = view.takes.iter().map(|take| (take.id, take.cell)).collect();
        for sample in &mut program.samples {
            let Some(&cell) = work::take_of_source(&sample.source)
                .ok()
                .and_then(|take| cells.get(&take))
            else {
                continue;
            };
            let named = Named {
                name: &sample.name,
                cell,
            };
            sample.name =
                name_by_rule(rule, &view.name, &view.plan, new.middle_c, named).map_err(Problem::refused)?;
        }
    }
    Ok((settings, program))
}

/// An export before it is made.
#[utoipa::path(post, path = "/api/instruments/{id}/exports/preview", params(("id" = u64, Path)), request_body = NewExport, responses((status = 200, body = Preview), (status = 422, body = Problem)))]
pub(super) async fn preview_export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<Json<Preview>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let (settings, program) = asked(&view, &new)?;
    let foreseen = foresee(&program, settings)?;
    Ok(Json(Preview {
        files: foreseen.files,
        bytes: foreseen.bytes,
        names: foreseen.names,
        losses: foreseen.losses.into_iter().map(loss_view).collect(),
    }))
}

pub(super) fn loss_view(loss: formats::Loss) -> LossView {
    LossView {
        what: loss.what,
        regions: loss.regions,
    }
}

/// Begins an export.
#[utoipa::path(post, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), request_body = NewExport, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn begin_export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let (settings, program) = asked(&seen.view, &new)?;
    // What is exported is what is heard now, whatever is edited before it is written.
    let snapshot = app
        .store
        .put_snapshot(&seen.snapshot_of(program, |take| take.chosen))
        .await?;
    let exporting = Exporting { settings, snapshot };
    let id = app
        .store
        .enqueue(id, JobKind::Export, &serde_json::to_value(exporting)?)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest exports.
#[utoipa::path(get, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn list_exports(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    Ok(Json(
        app.store
            .jobs(id, &[JobKind::Export])
            .await?
            .into_iter()
            .map(JobView::of)
            .collect(),
    ))
}

/// The newest imports of long takes.
#[utoipa::path(get, path = "/api/instruments/{id}/imports", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn imports(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    let jobs = app.store.jobs(id, &[JobKind::Import]).await?;
    Ok(Json(jobs.into_iter().map(JobView::of).collect()))
}

/// What a format would lose.
#[utoipa::path(get, path = "/api/instruments/{id}/losses/{format}", params(("id" = u64, Path), ("format" = FormatName, Path)), responses((status = 200, body = Vec<LossView>)))]
pub(super) async fn losses(
    State(app): State<App>,
    Path((id, format)): Path<(u64, FormatName)>,
) -> Result<Json<Vec<LossView>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let lost = formats::lower(&view.program, format.into()).losses;
    Ok(Json(lost.into_iter().map(loss_view).collect()))
}

/// One job.
#[utoipa::path(get, path = "/api/jobs/{id}", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn job(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// Cancels a job; tells how it stands then, which may be that it had ended.
#[utoipa::path(post, path = "/api/jobs/{id}/cancel", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn cancel(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app
        .store
        .cancel(id)
        .await?
        .ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// Tries a job again that has failed; tells how it stands then.
#[utoipa::path(post, path = "/api/jobs/{id}/again", params(("id" = u64, Path)), responses((status = 200, body = JobView), (status = 404, body = Problem)))]
pub(super) async fn again(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<JobView>, Problem> {
    let job = app
        .store
        .try_again(id)
        .await?
        .ok_or_else(|| Problem::missing("job"))?;
    Ok(Json(JobView::of(job)))
}

/// The file that an export made.
#[utoipa::path(get, path = "/api/jobs/{id}/file", params(("id" = u64, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(super) async fn job_file(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let job = app.store.job(id).await?.ok_or_else(|| Problem::missing("job"))?;
    let result = job.result.unwrap_or_default();
    let path = result["file"]
        .as_str()
        .ok_or_else(|| Problem::refused("There is no file of this job, or it is not ready."))?;
    let name = result["name"].as_str().unwrap_or("export");
    let (length, bytes) = app.store.read_file(path).await?;
    super::download(name, length, bytes)
}
