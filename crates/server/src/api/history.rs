//! What was done to an instrument, step by step.

use super::UndoneView;
use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use serde::Serialize;
use utoipa::ToSchema;

/// One thing that was done.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct StepView {
    /// Its number.
    id: u64,
    /// What was done.
    label: String,
    /// When, UTC.
    made_at: String,
    /// Whether it was undone since.
    undone: bool,
    /// Whether it can be undone by itself.
    may_undo: bool,
}

/// What was done, newest first: the last hundred steps.
#[utoipa::path(get, path = "/api/instruments/{id}/steps", params(("id" = u64, Path)), responses((status = 200, body = Vec<StepView>)))]
pub(super) async fn steps(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<StepView>>, Problem> {
    let steps = app.store.steps(id).await?.into_iter().map(|step| StepView {
        id: step.id,
        label: step.label,
        made_at: step.made_at.and_utc().to_rfc3339(),
        undone: step.undone,
        may_undo: step.may_undo,
    });
    Ok(Json(steps.collect()))
}

/// Undoes one step, whatever came after it, unless that depends on it.
#[utoipa::path(post, path = "/api/instruments/{id}/steps/{step}/undo", params(("id" = u64, Path), ("step" = u64, Path)), responses((status = 200, body = UndoneView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn undo_step(
    State(app): State<App>,
    Path((id, step)): Path<(u64, u64)>,
) -> Result<Json<UndoneView>, Problem> {
    let label = app.store.undo_step(id, step).await?;
    Ok(Json(UndoneView {
        label: label.ok_or_else(|| Problem::missing("step"))?,
        left_alone: 0,
    }))
}
