//! How strands play: what the board of Shape shows.

use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{KeyLevels, key_levels};
use program::StrandId;
use shown::{seen, view_of};
use std::collections::HashMap;
use work::Heard;

/// How loud every key of a strand sounds at every strike, by the engine's own laws and what was measured of its takes.
#[utoipa::path(get, path = "/api/instruments/{id}/strands/{strand}/levels", params(("id" = u64, Path), ("strand" = u64, Path)), responses((status = 200, body = Vec<KeyLevels>), (status = 404, body = Problem)))]
pub(super) async fn levels(
    State(app): State<App>,
    Path((id, strand)): Path<(u64, u64)>,
) -> Result<Json<Vec<KeyLevels>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let of = view
        .program
        .strand(StrandId(strand))
        .ok_or_else(|| Problem::missing("strand"))?;
    let by_take: HashMap<u64, f64> = (view.takes.iter())
        .filter_map(|take| Some((take.id, take.levels?.loudness_lufs?)))
        .collect();
    let loudness: Vec<Option<f64>> = (view.program.samples.iter())
        .map(|sample| by_take.get(&work::take_of_source(&sample.source).ok()?).copied())
        .collect();
    Ok(Json(key_levels(&view.program, of, &loudness)))
}

/// Renders a middle key, and ten keys struck hard, and measures how loud they are.
#[utoipa::path(get, path = "/api/instruments/{id}/heard", params(("id" = u64, Path)), responses((status = 200, body = Heard), (status = 404, body = Problem)))]
pub(super) async fn heard(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<Heard>, Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let snapshot = seen.snapshot(|take| take.chosen);
    Ok(Json(
        with_library(&app, move |library| work::heard(library, &snapshot)).await?,
    ))
}
