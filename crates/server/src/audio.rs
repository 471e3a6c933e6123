//! What is drawn and heard of a take.

use crate::App;
use crate::problem::Problem;
use anyhow::Context;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::IntoResponse;
use futures::StreamExt;
use serde::{Deserialize, Serialize};
use signal::{Audio, Peak};
use std::collections::BTreeMap;
use store::{RecordingForm, StoreLibrary};
use utoipa::{IntoParams, ToSchema};
use work::{DRAWN_FROM_FRAMES, TreatedTake, peaks_path};

/// Frames sent at once at most.
pub(crate) const MOST_FRAMES: u64 = DRAWN_FROM_FRAMES;
const MOST_COLUMNS: usize = 4_096;
/// Heads asked for at once, and frames of each.
const MOST_HEADS: usize = 256;
const MOST_HEAD_FRAMES: u64 = 1 << 16;
/// Heads that are read beside one another.
const HEADS_AT_ONCE: usize = 4;
/// So few frames are drawn from themselves, not from an overview: 1.4 s at 48 kHz.
const FRAMES_AT_HAND: u64 = 1 << 16;
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
    /// Cleaned: without this stage. Away: what this stage takes of what those before it leave.
    #[serde(default)]
    #[param(inline)]
    pub(crate) stage: Option<signal::Stage>,
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

/// A take as it is treated now.
pub(crate) async fn treated_take(app: &App, id: u64) -> Result<TreatedTake, Problem> {
    app.store
        .treated(id)
        .await?
        .ok_or_else(|| Problem::missing("take, or it is not measured yet"))
}

/// Works with audio on a thread of its own; no more at once than memory bears.
pub(crate) async fn with_library<T: Send + 'static>(
    app: &App,
    work: impl FnOnce(&StoreLibrary) -> anyhow::Result<T> + Send + 'static,
) -> anyhow::Result<T> {
    let _turn = app.listening.acquire().await?;
    let library = app.store.library();
    tokio::task::spawn_blocking(move || work(&library)).await?
}

pub(crate) async fn stretch(app: &App, take: u64, first: u64, end: u64) -> Result<Audio, Problem> {
    let take = app
        .store
        .take(take)
        .await?
        .ok_or_else(|| Problem::missing("take"))?;
    let end = end.min(take.frames);
    if first >= end {
        return Err(Problem::refused("That stretch of the take is empty."));
    }
    Ok(app.store.take_audio(&take, first..end, 0..usize::MAX).await?)
}

async fn frames_of(app: &App, id: u64, wish: &Stretch) -> Result<Audio, Problem> {
    let end = wish.end.min(wish.first.saturating_add(MOST_FRAMES));
    let of = (wish.first_channel, wish.channels.unwrap_or(usize::MAX));
    if wish.version == Version::Raw {
        Ok(stretch(app, id, wish.first, end).await?.channels_of(of.0, of.1))
    } else {
        let take = treated_take(app, id).await?;
        let (first, end) = (wish.first, end.min(take.part.frames));
        if first >= end {
            return Err(Problem::refused("That stretch of the take is empty."));
        }
        let (version, stage) = (wish.version, wish.stage);
        Ok(with_library(app, move |library| match (version, stage) {
            (Version::Away, stage) => take.taken_away(library, of, (first, end), stage),
            (_, Some(stage)) => take.without(stage).audio(library, of, first, end),
            (_, None) => take.audio(library, of, first, end),
        })
        .await?)
    }
}

/// Frames of a take, interleaved 32-bit floats, little-endian; at most about a million at once.
#[utoipa::path(get, path = "/api/takes/{id}/audio", params(("id" = u64, Path), Stretch),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(crate) async fn take_audio(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Stretch>,
) -> Result<impl IntoResponse, Problem> {
    let audio = frames_of(&app, id, &wish).await?;
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
    Ok((headers, work::as_bytes(&audio)))
}

/// Where a key begins to sound.
#[derive(Debug, Deserialize, ToSchema)]
pub struct Head {
    take: u64,
    /// A name of what cleaning makes of it; as recorded where it is left out.
    #[serde(default)]
    name: Option<String>,
    first: u64,
    end: u64,
    first_channel: usize,
    channels: usize,
}

/// Frames of many takes at once, of each in turn: how many, as 32 bits, and the frames as for one take; none of one that cannot be read.
#[utoipa::path(post, path = "/api/heads", request_body = Vec<Head>,
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 422, body = Problem)))]
pub(crate) async fn heads(
    State(app): State<App>,
    Json(wishes): Json<Vec<Head>>,
) -> Result<impl IntoResponse, Problem> {
    let frames = |head: &Head| head.end.saturating_sub(head.first);
    if wishes.len() > MOST_HEADS || wishes.iter().any(|head| frames(head) > MOST_HEAD_FRAMES) {
        return Err(Problem::refused("So much audio is not sent at once."));
    }
    let read = move |head: Head| {
        let app = app.clone();
        async move {
            let version = if head.name.is_some() {
                Version::Cleaned
            } else {
                Version::Raw
            };
            let wish = Stretch {
                first: head.first,
                end: head.end,
                first_channel: head.first_channel,
                channels: Some(head.channels),
                version,
                stage: None,
                name: head.name,
            };
            let audio = frames_of(&app, head.take, &wish).await.ok();
            let frames = audio.as_ref().map_or(0, |audio| audio.frames() as u32);
            let mut bytes = frames.to_le_bytes().to_vec();
            bytes.extend(audio.iter().flat_map(work::as_bytes));
            Ok::<_, std::io::Error>(bytes)
        }
    };
    let parts = futures::stream::iter(wishes).map(read).buffered(HEADS_AT_ONCE);
    let headers = [
        (header::CONTENT_TYPE, "application/octet-stream"),
        (header::CACHE_CONTROL, "no-store"),
    ];
    Ok((headers, axum::body::Body::from_stream(parts)))
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
        let take = treated_take(&app, id).await?;
        let end = wish.end.min(row.frames);
        if wish.first >= end {
            return Err(Problem::refused("That stretch is empty."));
        }
        let of = (0, usize::MAX);
        let columns = wish.columns.clamp(1, MOST_COLUMNS);
        let peaks = with_library(&app, move |library| {
            let audio = match wish.version {
                Version::Away => take.taken_away(library, of, (wish.first, end), None)?,
                _ => take.audio(library, of, wish.first, end)?,
            };
            Ok(signal::peak_columns(&one_of(audio, wish.channel), columns))
        })
        .await?;
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
    if frames > FRAMES_AT_HAND && frames / columns as u64 >= work::OVERVIEW_FRAMES {
        let path = peaks_path(part.recording);
        if let Some(header) = app.store.bytes_of(&path, work::Overview::HEADER).await? {
            let overview = work::Overview::read(&header).context("an overview cannot be read")?;
            let (span, channel) = ((first, first + frames), wish.channel);
            let part = overview.part(span.0, span.1, columns);
            let bytes = app
                .store
                .bytes_of(&path, part.bytes.clone())
                .await?
                .unwrap_or_default();
            let peaks =
                tokio::task::spawn_blocking(move || part.columns(&bytes, span, columns, channel)).await?;
            return Ok(Json(PeaksView::of(&peaks)));
        }
    }
    if frames > MOST_FRAMES {
        return Err(Problem::refused("Its picture is still being drawn."));
    }
    let audio = app
        .store
        .read_recording(part.recording, part.form, first..first + frames, 0..usize::MAX)
        .await?;
    let audio = one_of(audio, wish.channel);
    let peaks = tokio::task::spawn_blocking(move || signal::peak_columns(&audio, columns)).await?;
    Ok(Json(PeaksView::of(&peaks)))
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
    let takes = app.store.thumbnails(id).await?;
    let hex = |bytes: Vec<u8>| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let takes = takes
        .into_iter()
        .map(|(take, bytes)| (take, hex(bytes)))
        .collect();
    Ok(Json(Thumbnails {
        columns: work::THUMBNAIL_COLUMNS,
        takes,
    }))
}
