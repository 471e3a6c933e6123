//! New takes from old, and the jobs that render.

use super::Created;
use super::exports::JobView;
use crate::App;
use crate::making::Makings;
use crate::problem::Problem;
use crate::view::{TakeView, view_of};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use instrument::{Cell, Making, missing_from_neighbours};
use program::LoopWay;
use serde::Deserialize;
use store::Store;
use utoipa::ToSchema;

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
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let of = view
        .takes
        .iter()
        .filter(|take| take.treatment.is_some() && wish.takes.contains(&take.id))
        .map(|take| (take.id, wish.how))
        .collect();
    begin(
        &app,
        id,
        of,
        "Choose takes that are measured: there is nothing to make others from.",
    )
    .await
}

/// Makes takes for the rungs of a pass that were not recorded, each from its nearest neighbour.
#[utoipa::path(post, path = "/api/instruments/{id}/passes/{pass}/fill", params(("id" = u64, Path), ("pass" = u16, Path)), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn fill_rungs(
    State(app): State<App>,
    Path((id, pass)): Path<(u64, u16)>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let taken: Vec<(Cell, u64)> = view
        .takes
        .iter()
        .filter(|take| take.chosen && take.treatment.is_some())
        .map(|take| (take.cell, take.id))
        .collect();
    let of = missing_from_neighbours(&view.plan, pass, &taken);
    begin(
        &app,
        id,
        of,
        "Every rung has a take, or none has one to make others from.",
    )
    .await
}

async fn begin(
    app: &App,
    id: u64,
    of: Vec<(u64, Making)>,
    nothing: &str,
) -> Result<(StatusCode, Json<Created>), Problem> {
    if of.is_empty() {
        return Err(Problem::refused(nothing));
    }
    let input = serde_json::to_value(Makings { of })?;
    let id = app.store.enqueue(id, "make", &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The newest jobs that make, loop or render takes.
#[utoipa::path(get, path = "/api/instruments/{id}/makings", params(("id" = u64, Path)), responses((status = 200, body = Vec<JobView>)))]
pub(super) async fn makings(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<JobView>>, Problem> {
    let mut jobs = app.store.jobs(id, "make").await?;
    for kind in ["render", "loops"] {
        jobs.extend(app.store.jobs(id, kind).await?);
    }
    jobs.sort_by_key(|job| std::cmp::Reverse(job.id));
    Ok(Json(jobs.into_iter().map(super::exports::job_view).collect()))
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

/// Renders and judges what is not rendered and judged yet, unless a job for it waits already.
pub(crate) async fn render_soon(store: &Store, id: u64) -> anyhow::Result<()> {
    let view = view_of(store, id).await?;
    let unknown = |take: &TakeView| take.chosen && (lacks_levels(take) || lacks_judgement(take));
    if !view.is_some_and(|view| view.takes.iter().any(unknown)) {
        return Ok(());
    }
    if store
        .jobs(id, "render")
        .await?
        .iter()
        .all(|job| job.state != "waiting")
    {
        store.enqueue(id, "render", &serde_json::json!({})).await?;
    }
    Ok(())
}
