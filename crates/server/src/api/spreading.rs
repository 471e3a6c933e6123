//! What was said of one take, put on others.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use instrument::{Part, Spread, SpreadTake, Target, spread};
use serde::{Deserialize, Serialize};
use shown::{TakeView, view_of};
use utoipa::ToSchema;

/// From which take, what, how, and on which.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct SpreadWish {
    /// The take whose corrections are put on others.
    from: u64,
    /// Those others.
    onto: Vec<u64>,
    /// Which corrections.
    part: Part,
    /// How.
    how: Spread,
}

/// What was done.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct SpreadView {
    /// Takes that were changed.
    changed: usize,
    /// Takes that were left alone: they are not measured, or it does not fit them.
    left_alone: usize,
}

fn seen(take: &TakeView) -> Option<SpreadTake<'_>> {
    Some(SpreadTake {
        suggestion: take.suggestion.as_ref()?,
        said: &take.correction,
        rate_hz: take.rate_hz,
        frames: take.frames,
    })
}

/// Puts what was said of one take on others, as one change.
#[utoipa::path(post, path = "/api/instruments/{id}/spread", params(("id" = u64, Path)), request_body = SpreadWish, responses((status = 200, body = SpreadView), (status = 422, body = Problem)))]
pub(super) async fn spread_corrections(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<SpreadWish>,
) -> Result<Json<SpreadView>, Problem> {
    let view = view_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let from = view
        .takes
        .iter()
        .find(|take| take.id == wish.from)
        .and_then(seen)
        .ok_or_else(|| Problem::missing("take"))?;
    let onto = view
        .takes
        .iter()
        .filter(|take| take.id != wish.from && wish.onto.contains(&take.id));
    let (mut wishes, mut done) = (
        Vec::new(),
        SpreadView {
            changed: 0,
            left_alone: 0,
        },
    );
    for take in onto {
        let said = seen(take).map_or_else(Vec::new, |to| spread(wish.part, wish.how, from, to));
        if said.is_empty() {
            done.left_alone += 1;
            continue;
        }
        done.changed += 1;
        wishes.extend(
            said.into_iter()
                .map(|(fact, said)| (Target::Take(take.id), fact, said)),
        );
    }
    if wishes.is_empty() {
        return Err(Problem::refused(
            "Nothing was set by hand here that fits the other takes.",
        ));
    }
    let what = match wish.part {
        Part::Trim => "trim",
        Part::Tune => "tuning",
        Part::Loop => "loop",
    };
    let label = match wish.how {
        Spread::Values => format!("same {what} on {} takes", done.changed),
        Spread::Offsets => format!("{what} moved alike on {} takes", done.changed),
    };
    app.store
        .change(id, &label, wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(done))
}
