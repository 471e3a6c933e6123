//! Patterns: how an instrument is made, kept, begun with, and laid under other recordings.

use super::Created;
use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use instrument::{Fit, Pattern, Plan, Share};
use serde::{Deserialize, Serialize};
use shown::seen;
use store::PatternRow;
use utoipa::ToSchema;

/// A pattern.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PatternView {
    /// Its number.
    id: u64,
    /// As its maker calls it.
    name: String,
    /// The plan.
    plan: Plan,
    /// The parts of which it says something beside.
    shares: Vec<Share>,
}

/// The patterns, by name.
#[utoipa::path(get, path = "/api/patterns", responses((status = 200, body = Vec<PatternView>)))]
pub(super) async fn patterns(State(app): State<App>) -> Result<Json<Vec<PatternView>>, Problem> {
    let rows = app.store.patterns().await?;
    let view = |row: PatternRow| PatternView {
        id: row.id,
        name: row.name,
        shares: row.pattern.shares().into_iter().collect(),
        plan: row.pattern.plan,
    };
    Ok(Json(rows.into_iter().map(view).collect()))
}

/// A pattern to keep: how an instrument is made, under a name.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct NewPattern {
    /// 1 to 120 letters.
    name: String,
    /// Whose.
    instrument: u64,
}

/// Keeps how an instrument is made as a pattern: its plan, and what was said of its map, strands, shapes, effects and panel.
#[utoipa::path(post, path = "/api/patterns", request_body = NewPattern, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn keep_pattern(
    State(app): State<App>,
    Json(new): Json<NewPattern>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let name = super::checked_name(&new.name, "A pattern")?;
    let seen = seen(&app.store, new.instrument)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let id = app.store.keep_pattern(name, &Pattern::of(seen.under())).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// Forgets a pattern; what it was laid under stays as it is.
#[utoipa::path(delete, path = "/api/patterns/{id}", params(("id" = u64, Path)), responses((status = 204)))]
pub(super) async fn forget_pattern(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<StatusCode, Problem> {
    app.store.forget_pattern(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Which parts of a pattern are laid.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct LayWish {
    /// One at least.
    shares: Vec<Share>,
}

/// What laying it does.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FitView {
    /// Settings that become others.
    changes: usize,
    /// What of the pattern fits nothing, a sentence each.
    fits_nothing: Vec<String>,
    /// Strands that the pattern says nothing of.
    nothing_under: Vec<String>,
}

impl FitView {
    fn of(fit: &Fit) -> Self {
        Self {
            changes: fit.wishes.len(),
            fits_nothing: fit.fits_nothing.clone(),
            nothing_under: fit.nothing_under.clone(),
        }
    }
}

pub(super) async fn found(app: &App, id: u64) -> Result<PatternRow, Problem> {
    let found = app.store.pattern(id).await?;
    found.ok_or_else(|| Problem::missing("pattern"))
}

async fn fit(app: &App, instrument: u64, row: &PatternRow, shares: &[Share]) -> Result<Fit, Problem> {
    let seen = seen(&app.store, instrument)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    Ok(row.pattern.fit(seen.under(), shares))
}

/// Lays parts of a pattern under an instrument, by one change.
pub(super) async fn lay(
    app: &App,
    instrument: u64,
    row: &PatternRow,
    shares: &[Share],
) -> Result<FitView, Problem> {
    let fit = fit(app, instrument, row, shares).await?;
    let view = FitView::of(&fit);
    if !fit.wishes.is_empty() {
        let label = format!("lay the pattern “{}” under it", row.name);
        (app.store.change(instrument, &label, fit.wishes).await?)
            .map_err(|error| Problem::refused(error.to_string()))?;
    }
    Ok(view)
}

/// What laying parts of a pattern under an instrument would do.
#[utoipa::path(post, path = "/api/instruments/{id}/patterns/{pattern}/fit", params(("id" = u64, Path), ("pattern" = u64, Path)), request_body = LayWish, responses((status = 200, body = FitView), (status = 404, body = Problem)))]
pub(super) async fn fit_pattern(
    State(app): State<App>,
    Path((id, pattern)): Path<(u64, u64)>,
    Json(wish): Json<LayWish>,
) -> Result<Json<FitView>, Problem> {
    let row = found(&app, pattern).await?;
    Ok(Json(FitView::of(&fit(&app, id, &row, &wish.shares).await?)))
}

/// Lays parts of a pattern under an instrument, by one change.
#[utoipa::path(post, path = "/api/instruments/{id}/patterns/{pattern}", params(("id" = u64, Path), ("pattern" = u64, Path)), request_body = LayWish, responses((status = 200, body = FitView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn lay_pattern(
    State(app): State<App>,
    Path((id, pattern)): Path<(u64, u64)>,
    Json(wish): Json<LayWish>,
) -> Result<Json<FitView>, Problem> {
    let row = found(&app, pattern).await?;
    Ok(Json(lay(&app, id, &row, &wish.shares).await?))
}
