//! Measuring again what an earlier version of Ladder measured.

use super::Created;
use crate::App;
use crate::problem::Problem;
use crate::workers::Again;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::Deserialize;
use shown::seen;
use utoipa::ToSchema;
use work::JobKind;

/// Takes that are measured again.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct AgainWish {
    /// Which; all that an earlier version measured where they are left out.
    takes: Option<Vec<u64>>,
}

/// Measures takes again that an earlier version of Ladder measured, by a job that ends with one change.
#[utoipa::path(post, path = "/api/instruments/{id}/measure-again", params(("id" = u64, Path)), request_body = AgainWish, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn measure_again(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<AgainWish>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let wished = |take: u64| wish.takes.as_ref().is_none_or(|takes| takes.contains(&take));
    let outdated = seen
        .view
        .takes
        .iter()
        .filter(|take| take.outdated && wished(take.id));
    let takes: Vec<u64> = outdated.map(|take| take.id).collect();
    if takes.is_empty() {
        return Err(Problem::refused(
            "All of these were measured by this version of Ladder: measuring them again would find the same.",
        ));
    }
    let label = match takes.len() {
        1 => "measure a take again".to_owned(),
        count => format!("measure {count} takes again"),
    };
    let input = serde_json::to_value(Again { takes, label })?;
    let id = app.store.enqueue(id, JobKind::MeasureAgain, &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}
