//! Values that a rule gives many takes: proposed here, put there as one change.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{LevelOf, LevelRule, Proposed, TuningOf, TuningRule, even_levels, tune};
use serde::Deserialize;
use shown::view_of;
use utoipa::ToSchema;

/// What to even, and how.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum Evening {
    /// Levels.
    Levels {
        /// How.
        rule: LevelRule,
        /// The share of the difference between layers that stays, 0 to 1.
        layers_kept: f64,
    },
    /// Tuning.
    Tuning {
        /// How.
        rule: TuningRule,
    },
}

/// Which takes.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct EveningWish {
    /// How.
    even: Evening,
    /// Their numbers.
    takes: Vec<u64>,
}

/// What a rule would give some takes: gains in dB, or cents added on playing. Nothing is done yet.
#[utoipa::path(post, path = "/api/instruments/{id}/even", params(("id" = u64, Path)), request_body = EveningWish, responses((status = 200, body = Vec<Proposed>), (status = 404, body = Problem)))]
pub(super) async fn propose(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<EveningWish>,
) -> Result<Json<Vec<Proposed>>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    // Curves and layers are those of the whole ladder, however few takes are asked for.
    let takes = || {
        view.takes
            .iter()
            .filter(|take| take.chosen || wish.takes.contains(&take.id))
    };
    let mut proposed = match wish.even {
        Evening::Levels { rule, layers_kept } => {
            let unknown = takes().filter(|take| take.levels.is_none()).count();
            if unknown > 0 {
                return Err(Problem::refused(format!(
                    "The levels of {unknown} takes are still being measured: even them when they are known."
                )));
            }
            let known = takes().filter_map(|take| {
                let levels = take.levels?;
                Some(LevelOf {
                    take: take.id,
                    cell: take.cell,
                    peak_dbfs: levels.peak_dbfs?,
                    loudness_lufs: levels.loudness_lufs?,
                })
            });
            even_levels(rule, layers_kept, &known.collect::<Vec<_>>())
        }
        Evening::Tuning { rule } => {
            let known = takes().filter_map(|take| {
                let treatment = take.treatment.as_ref()?;
                Some(TuningOf {
                    take: take.id,
                    root_key: treatment.root_key,
                    recording_cents: treatment.recording_cents,
                })
            });
            tune(rule, &known.collect::<Vec<_>>())
        }
    };
    proposed.retain(|value| wish.takes.contains(&value.take));
    Ok(Json(proposed))
}
