//! New takes from old, and the jobs that render.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::Makings;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use instrument::{Cell, FillRule, Making, PassId};
use program::LoopWay;
use serde::Deserialize;
use shown::JobView;
use shown::{Seen, TakeView, seen};
use utoipa::ToSchema;
use work::JobKind;

/// Takes to make others from.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct MakeWish {
    /// Their numbers.
    takes: Vec<u64>,
    /// How.
    how: Making,
}

/// Makes a new take from each of the given ones: of the same cells, but for those that are put at another key.
#[utoipa::path(post, path = "/api/instruments/{id}/make", params(("id" = u64, Path)), request_body = MakeWish, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn make_takes(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<MakeWish>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    wish.how.check().map_err(Problem::refused)?;
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let of = seen
        .view
        .takes
        .iter()
        .filter(|take| take.treatment.is_some() && wish.takes.contains(&take.id))
        .map(|take| (take.id, wish.how))
        .collect();
    begin(
        &app,
        &seen,
        of,
        "Choose takes that are measured: there is nothing to make others from.",
    )
    .await
}

/// Makes takes for the rungs of a pass that were not recorded, by a rule that says from which.
#[utoipa::path(post, path = "/api/instruments/{id}/passes/{pass}/fill", params(("id" = u64, Path), ("pass" = u64, Path)), request_body = FillRule, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn fill_rungs(
    State(app): State<App>,
    Path((id, pass)): Path<(u64, u64)>,
    Json(rule): Json<FillRule>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let view = &seen.view;
    let taken: Vec<(Cell, u64)> = view
        .takes
        .iter()
        .filter(|take| take.chosen && take.treatment.is_some())
        .map(|take| (take.cell, take.id))
        .collect();
    let of = rule.makings(&view.plan, PassId(pass), &taken);
    begin(
        &app,
        &seen,
        of,
        "Every rung has a take, or none reaches the empty ones.",
    )
    .await
}

async fn begin(
    app: &App,
    seen: &Seen,
    of: Vec<(u64, Making)>,
    nothing: &str,
) -> Result<(StatusCode, Json<Created>), Problem> {
    if of.is_empty() {
        return Err(Problem::refused(nothing));
    }
    let snapshot = seen.snapshot(|take| of.iter().any(|(id, _)| *id == take.id));
    let snapshot = app.store.put_snapshot(&snapshot).await?;
    let input = serde_json::to_value(Makings { of, snapshot })?;
    let id = app.store.enqueue(seen.view.id, JobKind::Make, &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest jobs that make, loop or render takes.
#[utoipa::path(get, path = "/api/instruments/{id}/makings", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn makings(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    let kinds = [
        JobKind::Make,
        JobKind::Render,
        JobKind::Loops,
        JobKind::MeasureAgain,
    ];
    let jobs = app.store.jobs(id, &kinds).await?;
    Ok(Json(jobs.into_iter().map(JobView::of).collect()))
}

/// Whether it is not known yet how loud it is as it is cleaned.
pub(crate) fn lacks_levels(take: &TakeView) -> bool {
    take.cleaned.is_some() && take.levels.is_none()
}

/// Whether its loop is not judged yet.
pub(crate) fn lacks_judgement(take: &TakeView) -> bool {
    let looped = take.treatment.as_ref().and_then(|treatment| treatment.looped);
    take.seam.is_none() && looped.is_some_and(|l| l.way == LoopWay::Forward)
}
