//! Loops of a take: judged, found, fitted, and heard as the engine plays them.

use super::Created;
use crate::App;
use crate::audio::{treated_take, with_library};
use crate::problem::Problem;
use crate::workers::Seeking;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use program::{Program, StrandId};
use serde::{Deserialize, Serialize};
use shown::seen;
use signal::LoopLengths;
use utoipa::{IntoParams, ToSchema};
use work::{JobKind, SearchedFrom, Sought};

/// A loop to judge.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct LoopWish {
    /// First frame of the loop.
    start: u64,
    /// First frame after it.
    end: u64,
    /// Frames of one period.
    period: f64,
    /// Crossfade before the end.
    #[serde(default)]
    crossfade: u64,
    /// How alike its ends are taken for; as alike as they are where it is left out.
    likeness: Option<u8>,
    /// How far the lowest key that it serves lies over its root, in semitones.
    lowest: Option<f64>,
    /// The same of the highest.
    highest: Option<f64>,
}

/// On either side of a seam that is drawn.
const AROUND_MS: f64 = 12.0;

/// What a loop is worth.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct SeamView {
    /// Mismatch; `null` where the audio does not reach.
    seam_db: Option<f64>,
    /// Level change inside.
    drift_db: f64,
    /// How far its seams stand out of the sound; `null` where there is nothing to compare with.
    audible_db: Option<f64>,
    /// The same at the lowest key that it serves; `null` where none was given.
    audible_lowest_db: Option<f64>,
    /// The same at the highest.
    audible_highest_db: Option<f64>,
    /// How alike its ends are, 0 to 100: by this they are crossfaded.
    likeness_percent: u8,
    /// The first channel around its end, from 12 ms before to 12 ms after.
    end: Vec<f32>,
    /// The same around its start.
    start: Vec<f32>,
    /// As it will sound: the end with its crossfade, then the start.
    heard: Vec<f32>,
}

/// Judges a loop of a take.
#[utoipa::path(get, path = "/api/takes/{id}/seam", params(("id" = u64, Path), LoopWish), responses((status = 200, body = SeamView)))]
pub(super) async fn take_seam(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<LoopWish>,
) -> Result<Json<SeamView>, Problem> {
    let take = treated_take(&app, id).await?;
    let audio = with_library(&app, move |library| take.whole(library)).await?;
    let (start, end) = (wish.start as usize, wish.end as usize);
    if start >= end || end > audio.frames() {
        return Err(Problem::refused(
            "A loop must lie inside its take and end after it starts.",
        ));
    }
    let view = tokio::task::spawn_blocking(move || {
        let seam = signal::seam_db(&audio, start, end, wish.period.clamp(2.0, 48_000.0));
        let likeness_percent = seam.map_or(100, signal::likeness_percent);
        let looped = instrument::TakeLoop {
            likeness_percent: wish.likeness.unwrap_or(likeness_percent),
            ..instrument::TakeLoop::plain(wish.start, wish.end, wish.crossfade)
        };
        let around = work::around_seam(&audio, &looped, signal::frames_of_ms(audio.rate_hz, AROUND_MS));
        let mono = audio.to_mono();
        let played = looped.played();
        let at = |semitones: Option<f64>| {
            let semitones = semitones?.clamp(-48.0, 48.0);
            signal::audible_at_db(&mono, audio.rate_hz, played, semitones)
        };
        SeamView {
            audible_lowest_db: at(wish.lowest),
            audible_highest_db: at(wish.highest),
            seam_db: seam.filter(|db| db.is_finite()),
            drift_db: signal::drift_db(&audio, start, end),
            audible_db: signal::audible_db(&mono, audio.rate_hz, played),
            likeness_percent,
            end: around.end,
            start: around.start,
            heard: around.heard,
        }
    })
    .await?;
    Ok(Json(view))
}

/// A loop to hear.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct HeardLoop {
    /// The loop, as JSON of a `TakeLoop`.
    looped: String,
    /// At which key.
    key: u8,
    /// How often it is gone round.
    rounds: u32,
    /// Only around the last seam.
    #[serde(default)]
    seam_only: bool,
    /// As the strand that plays it plays it, with its shape and the effects that it is heard through.
    #[serde(default)]
    shaped: bool,
}

/// Before and after a seam that is heard by itself.
const AROUND_SEAM_S: f64 = 0.7;
const MOST_HEARD_S: f64 = 60.0;

/// What plays a take: the program, the first strand that does, and the strike of its layer. Nothing where no strand plays it.
async fn played_by(app: &App, take: u64) -> Result<Option<(Program, StrandId, u8)>, Problem> {
    let row = app
        .store
        .take(take)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let seen = seen(&app.store, row.instrument_id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let view = seen.view;
    let plays = |region: &&program::Region| {
        let sample = view.program.samples.get(region.sample);
        sample.is_some_and(|sample| work::take_of_source(&sample.source).ok() == Some(take))
    };
    let strand = view
        .program
        .regions
        .iter()
        .find(plays)
        .map(|region| region.key.strand);
    let cell = view.takes.iter().find(|of| of.id == take).map(|of| of.cell);
    let layer = cell.and_then(|cell| view.plan.pass(cell.pass)?.layer(cell.layer));
    let strike = layer.map_or(100, |layer| layer.strike_velocity);
    Ok(strand.map(|strand| (view.program, strand, strike)))
}

/// A take with a loop, as the engine plays it: stereo, interleaved 32-bit floats at the take's rate.
#[utoipa::path(get, path = "/api/takes/{id}/looped", params(("id" = u64, Path), HeardLoop), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 422, body = Problem)))]
pub(super) async fn looped_audio(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<HeardLoop>,
) -> Result<impl IntoResponse, Problem> {
    let looped: instrument::TakeLoop =
        serde_json::from_str(&wish.looped).map_err(|_| Problem::refused("This is no loop."))?;
    let mut take = treated_take(&app, id).await?;
    if looped.start_frame < take.treatment.start_frame
        || looped.start_frame >= looped.end_frame
        || looped.end_frame > take.treatment.end_frame
    {
        return Err(Problem::refused(
            "A loop must lie inside its take and end after it starts.",
        ));
    }
    take.treatment.looped = Some(looped);
    let by = if wish.shaped {
        played_by(&app, id).await?
    } else {
        None
    };
    let heard = with_library(&app, move |library| {
        let audio = take.audio(library, (0, 2), 0, u64::MAX)?;
        let rounds = wish.rounds.min(100);
        Ok(work::hear_loop(
            audio,
            &take.treatment,
            (wish.key, rounds),
            MOST_HEARD_S,
            by.as_ref().map(|(program, strand, strike)| work::PlayedBy {
                program,
                strand: *strand,
                strike: *strike,
            }),
        ))
    })
    .await?;
    let heard = if wish.seam_only {
        let reach = (AROUND_SEAM_S * f64::from(heard.audio.rate_hz)) as usize;
        heard
            .audio
            .slice(heard.last_seam.saturating_sub(reach), heard.last_seam + reach)
    } else {
        heard.audio
    };
    let headers = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, "no-store"),
    ];
    Ok((headers, work::as_bytes(&heard)))
}

/// Loops of some lengths, in some part of the sound.
#[derive(Debug, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub(super) struct LengthWish {
    /// Seconds.
    shortest_s: f64,
    /// Seconds.
    longest_s: f64,
    /// Searched from this share of the sound on, 0 to 1.
    #[serde(default)]
    from_share: Option<f64>,
    /// Searched from so many seconds after its start on, where no share is said.
    #[serde(default)]
    from_s: Option<f64>,
}

/// Places to loop a take as it is cleaned now, of some lengths only, best first; none where it has no pitch.
#[utoipa::path(get, path = "/api/takes/{id}/loops", params(("id" = u64, Path), LengthWish), responses((status = 200, body = Vec<signal::LoopCandidate>)))]
pub(super) async fn take_loops(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<LengthWish>,
) -> Result<Json<Vec<signal::LoopCandidate>>, Problem> {
    let take = treated_take(&app, id).await?;
    let sought = wish.sought();
    let found = with_library(&app, move |library| work::loops_of(library, &take, sought)).await?;
    Ok(Json(found))
}

impl LengthWish {
    fn sought(&self) -> Sought {
        let from = match (self.from_share, self.from_s) {
            (Some(share), _) => SearchedFrom::Share(share),
            (None, Some(seconds)) => SearchedFrom::Seconds(seconds),
            (None, None) => SearchedFrom::Start,
        };
        Sought {
            lengths: LoopLengths {
                shortest_s: self.shortest_s.clamp(0.005, 60.0),
                longest_s: self.longest_s.clamp(0.01, 120.0),
            },
            from,
        }
    }
}

/// Takes whose loops are looked for.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct SeekWish {
    /// Their numbers.
    takes: Vec<u64>,
    /// How long loops may be; of any length where it is left out.
    #[serde(default)]
    lengths: Option<LengthWish>,
    /// Whether level and slow change of colour are held over the loops, which are looked for in what is then heard.
    #[serde(default)]
    evened: bool,
    /// For "Undo …".
    label: String,
}

/// Looks for the best loop of each take, by a job that ends with one change.
#[utoipa::path(post, path = "/api/instruments/{id}/loops", params(("id" = u64, Path)), request_body = SeekWish, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn seek_loops(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<SeekWish>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let snapshot = seen.snapshot(|take| wish.takes.contains(&take.id));
    if snapshot.takes.is_empty() {
        return Err(Problem::refused(
            "Choose takes that are measured: there is nothing to look through.",
        ));
    }
    let sought = wish.lengths.map_or_else(Sought::default, |of| of.sought());
    let label = wish.label.chars().take(120).collect();
    let input = serde_json::to_value(Seeking {
        snapshot: app.store.put_snapshot(&snapshot).await?,
        sought,
        evened: wish.evened,
        label,
    })?;
    let id = app.store.enqueue(id, JobKind::Loops, &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// A loop's end that is to be put where it fits.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct SnapWish {
    /// The end that was moved.
    moved: u64,
    /// The other end.
    fixed: u64,
    /// Frames of one period.
    period: f64,
    /// To what.
    #[param(inline)]
    to: Snap,
}

/// What a loop's end is drawn to.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum Snap {
    /// The nearest rising zero crossing.
    Zero,
    /// Where it is most like the other end.
    Likeness,
}

/// A frame.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct FrameView {
    /// From the take's first.
    frame: u64,
}

/// Where a loop's end fits, near where it was put: within one period, or 5 ms.
#[utoipa::path(get, path = "/api/takes/{id}/snap", params(("id" = u64, Path), SnapWish), responses((status = 200, body = FrameView)))]
pub(super) async fn take_snap(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<SnapWish>,
) -> Result<Json<FrameView>, Problem> {
    let take = treated_take(&app, id).await?;
    let audio = with_library(&app, move |library| take.whole(library)).await?;
    let period = wish.period.clamp(2.0, 48_000.0);
    let within = signal::frames_of_ms(audio.rate_hz, 5.0).max(period as usize);
    let (moved, fixed) = (
        (wish.moved as usize).min(audio.frames()),
        (wish.fixed as usize).min(audio.frames()),
    );
    let frame = tokio::task::spawn_blocking(move || match wish.to {
        Snap::Zero => signal::nearest_rising_zero(&audio, moved, within),
        Snap::Likeness => signal::most_alike_near(&audio, fixed, moved, within, period),
    })
    .await?;
    Ok(Json(FrameView { frame: frame as u64 }))
}
