//! What is drawn and heard of a take.

use crate::App;
use crate::problem::Problem;
use crate::treated::Treated;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::IntoResponse;
use serde::{Deserialize, Serialize};
use signal::{Audio, Peak};
use std::collections::BTreeMap;
use store::RecordingForm;
use utoipa::{IntoParams, ToSchema};

/// Frames sent at once at most.
pub(crate) const MOST_FRAMES: u64 = 1 << 20;
const MOST_COLUMNS: usize = 4_096;
/// Longer takes are drawn as recorded: five minutes at 48 kHz.
const MOST_CLEANED_FRAMES: u64 = 300 * 48_000;

/// A stretch of a take.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Stretch {
    /// First frame, from the take's first.
    pub(crate) first: u64,
    /// First frame after.
    pub(crate) end: u64,
    /// Its first channel; the first of all where it is left out.
    #[serde(default)]
    pub(crate) first_channel: usize,
    /// So many channels; all that follow where it is left out.
    pub(crate) channels: Option<usize>,
    /// How it is heard.
    #[serde(default)]
    #[param(inline)]
    pub(crate) version: Version,
    /// A name of what was made of it, so that a browser keeps each apart.
    #[serde(default)]
    pub(crate) name: Option<String>,
}

/// How a take is heard.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Version {
    /// As recorded.
    #[default]
    Raw,
    /// Cleaned as its treatment says.
    Cleaned,
    /// What cleaning takes away.
    Away,
}

/// Interleaved 32-bit floats, little-endian.
pub(crate) fn as_bytes(audio: &Audio) -> Vec<u8> {
    audio.interleaved().iter().flat_map(|x| x.to_le_bytes()).collect()
}

async fn stretch(app: &App, take: u64, first: u64, end: u64) -> Result<Audio, Problem> {
    let take = app
        .store
        .take(take)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let end = end.min(take.frames);
    if first >= end {
        return Err(Problem::refused("That stretch of the take is empty."));
    }
    Ok(app.store.take_audio(&take, first, end).await?)
}

/// Frames of a take, interleaved 32-bit floats, little-endian; at most about a million at once.
#[utoipa::path(get, path = "/api/takes/{id}/audio", params(("id" = u64, Path), Stretch),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(crate) async fn take_audio(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Stretch>,
) -> Result<impl IntoResponse, Problem> {
    let end = wish.end.min(wish.first.saturating_add(MOST_FRAMES));
    let of = (wish.first_channel, wish.channels.unwrap_or(usize::MAX));
    let audio = if wish.version == Version::Raw {
        stretch(&app, id, wish.first, end).await?.channels_of(of.0, of.1)
    } else {
        let take = Treated::of(&app.store, id)
            .await?
            .ok_or_else(|| Problem::missing("take"))?;
        if wish.first >= end.min(take.row.frames) {
            return Err(Problem::refused("That stretch of the take is empty."));
        }
        if wish.version == Version::Away {
            take.taken_away(&app.store, of, wish.first, end).await?
        } else {
            take.audio(&app.store, of, wish.first, end).await?
        }
    };
    // What was cleaned changes with its settings, unless it is asked for by its name.
    let lasting = wish.version == Version::Raw || wish.name.is_some();
    let kept = if lasting {
        "private, max-age=31536000, immutable"
    } else {
        "no-store"
    };
    let headers = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, kept),
    ];
    Ok((headers, as_bytes(&audio)))
}

/// A stretch and its columns.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Columns {
    /// First frame, from the take's first.
    first: u64,
    /// First frame after.
    end: u64,
    /// How many columns.
    columns: usize,
    /// How it is seen.
    #[serde(default)]
    #[param(inline)]
    version: Version,
    /// Of this channel alone.
    #[serde(default)]
    channel: Option<usize>,
}

/// Lowest and highest sample of each column, and its RMS.
#[derive(Debug, Serialize, ToSchema)]
pub struct PeaksView {
    /// Lowest samples.
    low: Vec<f32>,
    /// Highest samples.
    high: Vec<f32>,
    /// RMS.
    rms: Vec<f32>,
}

impl PeaksView {
    fn of(peaks: &[Peak]) -> Self {
        Self {
            low: peaks.iter().map(|p| p.low).collect(),
            high: peaks.iter().map(|p| p.high).collect(),
            rms: peaks.iter().map(|p| p.power.sqrt()).collect(),
        }
    }
}

/// What a stretch of a take looks like.
#[utoipa::path(get, path = "/api/takes/{id}/peaks", params(("id" = u64, Path), Columns), responses((status = 200, body = PeaksView)))]
pub(crate) async fn take_peaks(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Columns>,
) -> Result<Json<PeaksView>, Problem> {
    let row = app
        .store
        .take(id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    if wish.version != Version::Raw && row.frames <= MOST_CLEANED_FRAMES {
        let take = Treated::of(&app.store, id)
            .await?
            .ok_or_else(|| Problem::missing("take"))?;
        let end = wish.end.min(row.frames);
        if wish.first >= end {
            return Err(Problem::refused("That stretch is empty."));
        }
        let of = (0, usize::MAX);
        let audio = match wish.version {
            Version::Away => take.taken_away(&app.store, of, wish.first, end).await?,
            _ => take.audio(&app.store, of, wish.first, end).await?,
        };
        let audio = one_of(audio, wish.channel);
        let columns = wish.columns.clamp(1, MOST_COLUMNS);
        let peaks = tokio::task::spawn_blocking(move || work::audio_columns(&audio, columns)).await?;
        return Ok(Json(PeaksView::of(&peaks)));
    }
    let whole = Part {
        recording: &row.recording,
        form: row.form,
        first: row.first_frame,
        frames: row.frames,
    };
    peaks_of(&app, whole, wish).await
}

fn one_of(audio: Audio, channel: Option<usize>) -> Audio {
    match channel {
        Some(channel) => audio.channels_of(channel, 1),
        None => audio,
    }
}

/// A part of a recording.
pub(crate) struct Part<'a> {
    pub(crate) recording: &'a str,
    pub(crate) form: RecordingForm,
    pub(crate) first: u64,
    pub(crate) frames: u64,
}

/// What a stretch of a part looks like: from its overview where there is one and it is fine enough, else from its frames.
pub(crate) async fn peaks_of(app: &App, part: Part<'_>, wish: Columns) -> Result<Json<PeaksView>, Problem> {
    let columns = wish.columns.clamp(1, MOST_COLUMNS);
    let end = wish.end.min(part.frames);
    if wish.first >= end {
        return Err(Problem::refused("That stretch is empty."));
    }
    let (first, frames) = (part.first + wish.first, end - wish.first);
    if frames > MOST_FRAMES {
        let range = work::peak_bytes(first, first + frames);
        let found = app.store.bytes_of(&peaks_path(part.recording), range).await?;
        let Some(bytes) = found else {
            return Err(Problem::refused("Its picture is still being drawn."));
        };
        return Ok(Json(PeaksView::of(&work::overview_columns(&bytes, columns))));
    }
    let audio = app
        .store
        .read_recording(part.recording, part.form, first, frames)
        .await?;
    let audio = one_of(audio, wish.channel);
    let peaks = tokio::task::spawn_blocking(move || work::audio_columns(&audio, columns)).await?;
    Ok(Json(PeaksView::of(&peaks)))
}

/// Where the peaks of a long recording lie.
pub(crate) fn peaks_path(recording: &str) -> String {
    format!("overviews/{recording}.peaks")
}

/// Where the levels of a long recording lie.
pub(crate) fn levels_path(recording: &str) -> String {
    format!("overviews/{recording}.levels")
}

/// The pitch of a take over time, and its spectrum.
#[derive(Debug, Serialize, ToSchema)]
pub struct PitchView {
    /// Middle frames of the stretches heard.
    frames: Vec<u64>,
    /// Their frequencies.
    hz: Vec<f64>,
    /// Levels in dB over bands of equal ratio from 20 Hz to half the rate.
    spectrum_db: Vec<f32>,
    /// The one pitch of the whole stretch.
    pitch: Option<signal::Pitch>,
}

/// Pitch over time and spectrum of a take's treated stretch.
#[utoipa::path(get, path = "/api/takes/{id}/pitch", params(("id" = u64, Path), Stretch), responses((status = 200, body = PitchView)))]
pub(crate) async fn take_pitch(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Stretch>,
) -> Result<Json<PitchView>, Problem> {
    let audio = stretch(&app, id, wish.first, wish.end).await?;
    let view = tokio::task::spawn_blocking(move || {
        let (mono, rate) = (audio.to_mono(), audio.rate_hz);
        let pitch = signal::find_pitch(&mono, rate, 0, mono.len());
        let curve = pitch.map_or_else(Vec::new, |p| {
            signal::pitch_curve(&mono, rate, 0, mono.len(), p.hz, (mono.len() / 80).max(512))
        });
        let middle = mono.len() / 3;
        let part = &mono[middle..(middle + 65_536).min(mono.len()) & !1];
        PitchView {
            frames: curve
                .iter()
                .map(|point| wish.first + point.frame as u64)
                .collect(),
            hz: curve.iter().map(|point| point.hz).collect(),
            spectrum_db: signal::magnitude_spectrum_db(part, rate, 20.0, 400),
            pitch,
        }
    })
    .await?;
    Ok(Json(view))
}

/// A spectrogram to draw.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SpectrogramWish {
    /// How many spectra, evenly over the whole take.
    columns: usize,
    /// Of how many bands each.
    rows: usize,
}

/// The lowest frequency of a spectrogram.
const SPECTROGRAM_FROM_HZ: f64 = 40.0;
const MOST_PIXELS: usize = 1_024;

/// Spectra of a take over time: a byte each, from −110 to 0 dBFS, column after column, low bands (from 40 Hz) first.
#[utoipa::path(get, path = "/api/takes/{id}/spectrogram", params(("id" = u64, Path), SpectrogramWish), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(crate) async fn take_spectrogram(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<SpectrogramWish>,
) -> Result<impl IntoResponse, Problem> {
    let audio = stretch(&app, id, 0, u64::MAX).await?;
    let (columns, rows) = (
        wish.columns.clamp(1, MOST_PIXELS),
        wish.rows.clamp(1, MOST_PIXELS),
    );
    let picture = tokio::task::spawn_blocking(move || {
        signal::spectrogram(
            &audio.to_mono(),
            audio.rate_hz,
            SPECTROGRAM_FROM_HZ,
            columns,
            rows,
        )
    })
    .await?;
    let headers = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, "private, max-age=31536000, immutable"),
    ];
    Ok((headers, picture))
}

/// A loop to judge.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LoopWish {
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
}

/// On either side of a seam that is drawn.
const AROUND_MS: f64 = 12.0;

/// What a loop is worth.
#[derive(Debug, Serialize, ToSchema)]
pub struct SeamView {
    /// Mismatch; `null` where the audio does not reach.
    seam_db: Option<f64>,
    /// Level change inside.
    drift_db: f64,
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
pub(crate) async fn take_seam(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<LoopWish>,
) -> Result<Json<SeamView>, Problem> {
    let take = Treated::of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let audio = take.audio(&app.store, (0, usize::MAX), 0, u64::MAX).await?;
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
        SeamView {
            seam_db: seam.filter(|db| db.is_finite()),
            drift_db: signal::drift_db(&audio, start, end),
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
pub struct HeardLoop {
    /// The loop, as JSON of a `TakeLoop`.
    looped: String,
    /// At which key.
    key: u8,
    /// How often it is gone round.
    rounds: u32,
    /// Only around the last seam.
    #[serde(default)]
    seam_only: bool,
}

/// Before and after a seam that is heard by itself.
const AROUND_SEAM_S: f64 = 0.7;
const MOST_HEARD_S: f64 = 60.0;

/// A take with a loop, as the engine plays it: stereo, interleaved 32-bit floats at the take's rate.
#[utoipa::path(get, path = "/api/takes/{id}/looped", params(("id" = u64, Path), HeardLoop), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 422, body = Problem)))]
pub(crate) async fn looped_audio(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<HeardLoop>,
) -> Result<impl IntoResponse, Problem> {
    let looped: instrument::TakeLoop =
        serde_json::from_str(&wish.looped).map_err(|_| Problem::refused("This is no loop."))?;
    let mut take = Treated::of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    if looped.start_frame < take.treatment.start_frame
        || looped.start_frame >= looped.end_frame
        || looped.end_frame > take.treatment.end_frame
    {
        return Err(Problem::refused(
            "A loop must lie inside its take and end after it starts.",
        ));
    }
    take.treatment.looped = Some(looped);
    let audio = take.audio(&app.store, (0, 2), 0, u64::MAX).await?;
    let heard = tokio::task::spawn_blocking(move || {
        work::hear_loop(
            audio,
            &take.treatment,
            wish.key,
            wish.rounds.min(100),
            MOST_HEARD_S,
        )
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
    Ok((headers, as_bytes(&heard)))
}

/// Loops of some lengths.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LengthWish {
    /// Seconds.
    shortest_s: f64,
    /// Seconds.
    longest_s: f64,
}

/// Places to loop a take as it is cleaned now, of some lengths only, best first; none where it has no pitch.
#[utoipa::path(get, path = "/api/takes/{id}/loops", params(("id" = u64, Path), LengthWish), responses((status = 200, body = Vec<signal::LoopCandidate>)))]
pub(crate) async fn take_loops(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<LengthWish>,
) -> Result<Json<Vec<signal::LoopCandidate>>, Problem> {
    let take = Treated::of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let Some(pitch) = take.facts.pitch else {
        return Ok(Json(Vec::new()));
    };
    let audio = take.audio(&app.store, (0, usize::MAX), 0, u64::MAX).await?;
    let lengths = signal::LoopLengths {
        shortest_s: wish.shortest_s.clamp(0.005, 60.0),
        longest_s: wish.longest_s.clamp(0.01, 120.0),
    };
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let period = f64::from(audio.rate_hz) / pitch.hz;
    let found =
        tokio::task::spawn_blocking(move || signal::find_loops_of(&audio, start, end, period, lengths))
            .await?;
    Ok(Json(found))
}

/// A loop's end that is to be put where it fits.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SnapWish {
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
pub(crate) enum Snap {
    /// The nearest rising zero crossing.
    Zero,
    /// Where it is most like the other end.
    Likeness,
}

/// A frame.
#[derive(Debug, Serialize, ToSchema)]
pub struct FrameView {
    /// From the take's first.
    frame: u64,
}

/// Where a loop's end fits, near where it was put: within one period, or 5 ms.
#[utoipa::path(get, path = "/api/takes/{id}/snap", params(("id" = u64, Path), SnapWish), responses((status = 200, body = FrameView)))]
pub(crate) async fn take_snap(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<SnapWish>,
) -> Result<Json<FrameView>, Problem> {
    let take = Treated::of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let audio = take.audio(&app.store, (0, usize::MAX), 0, u64::MAX).await?;
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

/// All pictures of a board at once.
#[derive(Debug, Serialize, ToSchema)]
pub struct Thumbnails {
    /// Columns of each.
    columns: usize,
    /// By take: the largest sample of each column, 0 to 255, two hexadecimal digits each.
    takes: BTreeMap<u64, String>,
}

/// The board's pictures.
#[utoipa::path(get, path = "/api/instruments/{id}/thumbnails", params(("id" = u64, Path)), responses((status = 200, body = Thumbnails)))]
pub(crate) async fn thumbnails(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<Json<Thumbnails>, Problem> {
    let takes = app.store.takes(Some(id)).await?;
    let hex = |bytes: Vec<u8>| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let takes = takes
        .into_iter()
        .filter_map(|take| Some((take.id, hex(take.thumbnail?))))
        .collect();
    Ok(Json(Thumbnails {
        columns: work::THUMBNAIL_COLUMNS,
        takes,
    }))
}
