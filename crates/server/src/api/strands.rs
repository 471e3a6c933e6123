//! Acts on strands and regions that set several of their facts at once.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use instrument::{
    AtOnce, Copies, CutAt, Fact, Facts, Over, Wish, choose_by_keys, copies, resolve, set_at_once, share_out,
    split,
};
use program::{Program, StrandId};
use serde::Deserialize;
use utoipa::ToSchema;

/// One act.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum StrandAct {
    /// Copies of a strand are made that sound with it.
    Copy {
        /// Of which.
        of: StrandId,
        /// How many, and where they lie.
        copies: Copies,
    },
    /// Strands share something out evenly.
    ShareOut {
        /// Which.
        strands: Vec<StrandId>,
        /// What.
        over: Over,
        /// Each fades into the next over so many steps; 0 for not at all.
        fade: u8,
    },
    /// Each of some strands is chosen by a key of its own, outside of what sounds.
    ChooseByKeys {
        /// Which.
        strands: Vec<StrandId>,
    },
}

/// Does one act, undone as one.
#[utoipa::path(post, path = "/api/instruments/{id}/strands", params(("id" = u64, Path)), request_body = StrandAct, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn act(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(act): Json<StrandAct>,
) -> Result<StatusCode, Problem> {
    edit(
        &app,
        id,
        "There is no such strand any more.",
        move |program, facts| act.wishes(program, facts),
    )
    .await
}

impl StrandAct {
    /// What it is called, and what it says.
    fn wishes(self, program: &Program, facts: &Facts) -> (String, Vec<Wish>) {
        let name = |id: StrandId| {
            program
                .strand(id)
                .map_or("a strand", |strand| &strand.name)
                .to_owned()
        };
        match self {
            Self::Copy { of, copies: wish } => (
                format!("make copies of {}", name(of)),
                copies(program, facts, of, wish, &mut super::fresh_name),
            ),
            Self::ShareOut { strands, over, fade } => {
                let what = match over {
                    Over::Keys => "the keys",
                    Over::Strikes => "the strikes",
                    Over::Controller(_) => "a controller",
                    Over::Movement => "a slow movement",
                };
                let label = format!("share out {what} among {} strands", strands.len());
                (label, share_out(program, &strands, over, fade))
            }
            Self::ChooseByKeys { strands } => (
                format!("choose {} strands by keys", strands.len()),
                choose_by_keys(program, &strands),
            ),
        }
    }
}

/// Regions that are cut in two.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct Splitting {
    /// Which, by strand and number.
    regions: Vec<(StrandId, u64)>,
    /// Where.
    at: CutAt,
}

/// Cuts regions in two, undone as one.
#[utoipa::path(post, path = "/api/instruments/{id}/regions/split", params(("id" = u64, Path)), request_body = Splitting, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn split_regions(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<Splitting>,
) -> Result<StatusCode, Problem> {
    const NOWHERE: &str =
        "None of these regions lies across that place: name a key or a strike inside of one.";
    edit(&app, id, NOWHERE, move |program, facts| {
        let wishes = split(program, facts, &wish.regions, wish.at, &mut super::fresh_name);
        ("cut regions in two".to_owned(), wishes)
    })
    .await
}

/// A number of many regions.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct RegionsAtOnce {
    label: super::Label,
    /// Which, by strand and number.
    regions: Vec<(StrandId, u64)>,
    /// Which number.
    fact: Fact,
    /// How it is set.
    how: AtOnce,
}

/// Sets a number of many regions, undone as one.
#[utoipa::path(post, path = "/api/instruments/{id}/regions", params(("id" = u64, Path)), request_body = RegionsAtOnce, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn regions_at_once(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<RegionsAtOnce>,
) -> Result<StatusCode, Problem> {
    edit(
        &app,
        id,
        "There is no such region any more.",
        move |program, facts| {
            let wishes = set_at_once(program, facts, &wish.regions, wish.fact, wish.how);
            (wish.label.shortened(), wishes)
        },
    )
    .await
}

/// Keeps what follows from an instrument as it stands, as one edit; where nothing does, that is said.
async fn edit(
    app: &App,
    id: u64,
    nothing: &'static str,
    wishes: impl FnOnce(&Program, &Facts) -> (String, Vec<Wish>) + Send + 'static,
) -> Result<StatusCode, Problem> {
    let mut whole = app
        .store
        .whole(id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let (label, wishes) = tokio::task::spawn_blocking(move || {
        let program = resolve(whole.known()).program;
        wishes(&program, &whole.facts)
    })
    .await
    .map_err(anyhow::Error::from)?;
    if wishes.is_empty() {
        return Err(Problem::refused(nothing));
    }
    app.store
        .change(id, &label, wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}
