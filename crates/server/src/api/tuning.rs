//! What is heard of a take's pitch: its course, its spectrum, its spectrogram.

use crate::App;
use crate::audio::{Stretch, stretch};
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::IntoResponse;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// The pitch of a take over time, and its spectrum.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PitchView {
    /// Middle frames of the stretches heard.
    frames: Vec<u64>,
    /// Their frequencies.
    hz: Vec<f64>,
    /// Levels in dB over bands of equal ratio from 20 Hz to half the rate, each as loud as it ever is in the stretch.
    spectrum_db: Vec<f32>,
    /// What stands out of it, rising in frequency.
    partials: Vec<PartialView>,
    /// The one pitch of the whole stretch.
    pitch: Option<signal::Pitch>,
}

/// A partial of a sound.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PartialView {
    /// Its frequency.
    hz: f64,
    /// Its level, full scale 0.
    db: f64,
}

/// Pitch over time and spectrum of a take's treated stretch.
#[utoipa::path(get, path = "/api/takes/{id}/pitch", params(("id" = u64, Path), Stretch), responses((status = 200, body = PitchView)))]
pub(super) async fn take_pitch(
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
        let held = signal::HeldSpectrum::of(&mono, rate, 20.0, 400);
        PitchView {
            frames: curve
                .iter()
                .map(|point| wish.first + point.frame as u64)
                .collect(),
            hz: curve.iter().map(|point| point.hz).collect(),
            spectrum_db: held.bands_db,
            partials: held
                .partials
                .iter()
                .map(|partial| PartialView {
                    hz: partial.hz,
                    db: signal::amplitude_to_db(partial.amplitude),
                })
                .collect(),
            pitch,
        }
    })
    .await?;
    Ok(Json(view))
}

/// A spectrogram to draw.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct SpectrogramWish {
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
pub(super) async fn take_spectrogram(
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
