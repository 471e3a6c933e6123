//! How strands play: what the board of Shape shows.

use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{KeyLevels, LayerStep, key_levels, layer_steps};
use program::{On, StrandId};
use shown::{InstrumentView, seen, view_of};
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
    Ok(Json(key_levels(&view.program, of, &loudness_of(&view))))
}

/// Where layers go over into one another, of all strands that a key that goes down starts, and by how much.
#[utoipa::path(get, path = "/api/instruments/{id}/layer-levels", params(("id" = u64, Path)), responses((status = 200, body = Vec<LayerStep>), (status = 404, body = Problem)))]
pub(super) async fn layer_levels(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<LayerStep>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let loudness = loudness_of(&view);
    let strands = view.program.strands.iter();
    let struck = strands.filter(|strand| matches!(strand.on, On::KeyDown(_)) && !strand.muted);
    let steps = struck.flat_map(|strand| layer_steps(&view.program, strand, &loudness));
    Ok(Json(steps.collect()))
}

/// How loud each sample of a program was measured to be.
fn loudness_of(view: &InstrumentView) -> Vec<Option<f64>> {
    let by_take: HashMap<u64, f64> = (view.takes.iter())
        .filter_map(|take| Some((take.id, take.levels?.loudness_lufs?)))
        .collect();
    (view.program.samples.iter())
        .map(|sample| by_take.get(&work::take_of_source(&sample.source).ok()?).copied())
        .collect()
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
