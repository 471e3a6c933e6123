//! Instruments as wholes: made twice, and removed for good.

use super::{Created, checked_name};
use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A copy of an instrument.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewCopy {
    /// 1 to 120 letters.
    name: String,
}

/// Makes an instrument once more, sharing its recordings.
#[utoipa::path(post, path = "/api/instruments/{id}/copy", params(("id" = u64, Path)), request_body = NewCopy, responses((status = 201, body = Created), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn copy(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<NewCopy>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let name = checked_name(&wish.name, "An instrument")?;
    let id = app
        .store
        .duplicate(id, name)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// What goes with an instrument that is removed for good.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FreesView {
    /// Its takes.
    takes: u64,
    /// Recordings that nothing else is a part of.
    recordings: u64,
    /// What those take on the disk.
    bytes: u64,
}

/// What removing an instrument for good would free.
#[utoipa::path(get, path = "/api/instruments/{id}/frees", params(("id" = u64, Path)), responses((status = 200, body = FreesView), (status = 404, body = Problem)))]
pub(super) async fn frees(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<FreesView>, Problem> {
    let frees = app.store.frees(id).await?;
    let frees = frees.ok_or_else(|| Problem::missing("instrument"))?;
    Ok(Json(FreesView {
        takes: frees.takes,
        recordings: frees.recordings,
        bytes: frees.bytes,
    }))
}

/// Removes an instrument for good that was set aside.
#[utoipa::path(delete, path = "/api/instruments/{id}", params(("id" = u64, Path)), responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn remove_for_good(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<StatusCode, Problem> {
    if app.store.remove_for_good(id).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::missing("instrument"))
    }
}
