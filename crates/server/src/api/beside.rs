//! An instrument beside its source: recordings of that, what both are apart, and what brings them nearer; and a take beside another.

use crate::App;
use crate::audio::{MOST_FRAMES, treated_take, with_library};
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use check::Nearer;
use serde::Deserialize;
use serde_json::json;
use shown::{BesideView, MATCHING, beside_of, both_of, proposed};
use utoipa::{IntoParams, ToSchema};
use work::{JobKind, TakeBeside, built_audio, source_audio, take_beside};

const CHANGED: &str = "What was built has changed since it was compared: compare it again.";

async fn found(app: &App, id: u64) -> Result<Vec<BesideView>, Problem> {
    beside_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))
}

async fn one(app: &App, id: u64, long_take: u64) -> Result<BesideView, Problem> {
    let all = found(app, id).await?;
    let one = all.into_iter().find(|one| one.long_take == long_take);
    one.ok_or_else(|| Problem::missing("recording of a source"))
}

/// Recordings of its source, newest first, with what both are apart.
#[utoipa::path(get, path = "/api/instruments/{id}/beside", params(("id" = u64, Path)), responses((status = 200, body = Vec<BesideView>)))]
pub(super) async fn show_beside(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Vec<BesideView>>, Problem> {
    Ok(Json(found(&app, id).await?))
}

/// How a comparison is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Comparing {
    /// Whether one that was cancelled, or went wrong, is begun again.
    #[serde(default)]
    again: bool,
}

/// Lays the instrument as it is now beside a recording of its source, unless that is done or under way.
#[utoipa::path(post, path = "/api/instruments/{id}/beside/{long_take}", params(("id" = u64, Path), ("long_take" = u64, Path), Comparing), responses((status = 204)))]
pub(super) async fn compare(
    State(app): State<App>,
    Path((id, long_take)): Path<(u64, u64)>,
    Query(Comparing { again }): Query<Comparing>,
) -> Result<StatusCode, Problem> {
    let of = one(&app, id, long_take).await?;
    if again || of.compared.as_ref() != Some(&of.of) {
        let input = json!({ "long_take": long_take, "of": of.of });
        app.store.enqueue_once(id, JobKind::Beside, &input, again).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// What is taken of a match.
#[derive(Deserialize, ToSchema)]
pub(super) struct Taking {
    /// What; all of it where it is left out.
    #[serde(default)]
    what: Option<Nearer>,
}

/// Takes what was proposed, as one change that is undone as one.
#[utoipa::path(post, path = "/api/instruments/{id}/beside/{long_take}/match", params(("id" = u64, Path), ("long_take" = u64, Path)), request_body = Taking,
    responses((status = 204), (status = 409, description = "The instrument has changed since.", body = Problem)))]
pub(super) async fn take_match(
    State(app): State<App>,
    Path((id, long_take)): Path<(u64, u64)>,
    Json(Taking { what }): Json<Taking>,
) -> Result<StatusCode, Problem> {
    let now = one(&app, id, long_take).await?.of;
    let wanted = proposed(&app.store, id, (long_take, what)).await?;
    let (of, says, wishes) = wanted.ok_or_else(|| Problem::refused("That is not proposed any more."))?;
    if of != now {
        return Err(Problem::refused(CHANGED));
    }
    app.store
        .change(id, &format!("{MATCHING}{says}"), wishes)
        .await?
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}

/// A take beside another of the same instrument, the other at its pitch.
#[utoipa::path(get, path = "/api/takes/{id}/beside/{other}", params(("id" = u64, Path), ("other" = u64, Path)), responses((status = 200, body = TakeBeside)))]
pub(super) async fn take_beside_another(
    State(app): State<App>,
    Path((id, other)): Path<(u64, u64)>,
) -> Result<Json<TakeBeside>, Problem> {
    let (one, other) = (treated_take(&app, id).await?, treated_take(&app, other).await?);
    let row = app
        .store
        .take(id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let plan = shown::plan_of(&app.store, row.instrument_id).await?;
    let strike = plan.and_then(|plan| plan.layer_of(one.cell).map(|(_, layer)| layer.strike_velocity));
    let beside = with_library(&app, move |library| {
        take_beside(library, (&one, &other), strike.unwrap_or_default())
    });
    Ok(Json(beside.await?))
}

/// One of both.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum Which {
    /// The source, as it was recorded.
    Source,
    /// What was built, as it plays the same now.
    Built,
}

/// Audio of one of both: as that of takes, from the first frame of the recording or of the score.
#[utoipa::path(get, path = "/api/instruments/{id}/beside/{long_take}/{which}", params(("id" = u64, Path), ("long_take" = u64, Path), ("which" = Which, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(super) async fn hear_both(
    State(app): State<App>,
    Path((id, long_take, which)): Path<(u64, u64, Which)>,
) -> Result<impl IntoResponse, Problem> {
    let both = both_of(&app.store, id, long_take).await?;
    let (mut recording, score, snapshot) = both.ok_or_else(|| Problem::missing("recording of a source"))?;
    recording.frames = recording.frames.min(MOST_FRAMES);
    let bytes = with_library(&app, move |library| {
        let audio = match which {
            Which::Source => source_audio(library, &recording)?,
            Which::Built => built_audio(library, &snapshot, &score, recording.form.rate_hz)?,
        };
        Ok(work::as_bytes(&audio))
    });
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], bytes.await?))
}
