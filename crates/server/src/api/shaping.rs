//! How strands play: what the board of Shape shows.

use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{KeyLevels, key_levels};
use program::StrandId;
use serde::Serialize;
use shown::{seen, view_of};
use std::collections::HashMap;
use utoipa::ToSchema;

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

/// A strand by itself, as it is heard.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct StrandHeardView {
    /// Its number.
    strand: u64,
    /// K-weighted level of its middle key's loudest 400 ms; `null` where that is silent.
    loudness_lufs: Option<f64>,
}

/// How loud an instrument is as it is heard, with controllers where they stand at first.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct HeardView {
    /// The key that loudness was measured with; `null` where nothing sounds.
    key: Option<u8>,
    /// Strands that keys start, and that are not muted.
    strands: Vec<StrandHeardView>,
    /// All of them together; `null` where that is silent.
    loudness_lufs: Option<f64>,
    /// Ten keys, or as many as sound, that were struck as hard as can be.
    chord: Vec<u8>,
    /// Their true peak; `null` where they are silent.
    peak_dbtp: Option<f64>,
}

/// Renders a middle key, and ten keys struck hard, and measures how loud they are.
#[utoipa::path(get, path = "/api/instruments/{id}/heard", params(("id" = u64, Path)), responses((status = 200, body = HeardView), (status = 404, body = Problem)))]
pub(super) async fn heard(State(app): State<App>, Path(id): Path<u64>) -> Result<Json<HeardView>, Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let snapshot = seen.snapshot(|take| take.chosen);
    let heard = with_library(&app, move |library| work::heard(library, &snapshot)).await?;
    Ok(Json(HeardView {
        key: heard.key,
        strands: (heard.strands.iter())
            .map(|one| StrandHeardView {
                strand: one.strand.0,
                loudness_lufs: one.loudness_lufs,
            })
            .collect(),
        loudness_lufs: heard.loudness_lufs,
        chord: heard.chord,
        peak_dbtp: heard.peak_dbtp,
    }))
}
