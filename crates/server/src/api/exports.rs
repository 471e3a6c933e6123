//! Exports: what a format would lose, the jobs that write them, and their files.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::Exporting;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use formats::Format;
use serde::Deserialize;
use shown::{JobView, LossView, seen, view_of};

use utoipa::ToSchema;
use work::JobKind;

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
pub(super) struct NewExport {
    /// To what.
    format: FormatName,
    /// Width of the audio: 16 or 24; of WAV files 32, too.
    bits: u16,
}

/// Begins an export.
#[utoipa::path(post, path = "/api/instruments/{id}/exports", params(("id" = u64, Path)), request_body = NewExport, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn begin_export(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(new): Json<NewExport>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let settings = work::ExportSettings::of(new.format.into(), new.bits)
        .map_err(|error| Problem::refused(error.to_string()))?;
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    // What is exported is what is heard now, whatever is edited before it is written.
    let snapshot = app.store.put_snapshot(&seen.snapshot(|take| take.chosen)).await?;
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
    let encoded = super::percent_encoded(name);
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
