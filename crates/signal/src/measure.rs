//! All that is measured of a take, in one pass.

use crate::{
    Audio, LoopCandidate, Pitch, balance_db, clipped_frames, correlation, find_loops, find_pitch,
    loudness_lufs, peak_dbfs, sound_bounds,
};
use serde::{Deserialize, Serialize};

/// Counts up whenever an algorithm here gives other results: suggestions are pinned to it.
pub const MEASURE_VERSION: u32 = 4;

/// The facts of one take. Frames count from the take's first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Measurement {
    /// First frame of the sound; 0 for silence.
    pub start_frame: usize,
    /// First frame after the sound; the take's length for silence.
    pub end_frame: usize,
    /// How sure the start is, see [`crate::Bounds`].
    #[serde(default)]
    pub start_sure: Option<f64>,
    /// How sure the end is.
    #[serde(default)]
    pub end_sure: Option<f64>,
    /// `None` where there is no one pitch.
    pub pitch: Option<Pitch>,
    /// Highest sample; `None` for silence.
    pub peak_dbfs: Option<f64>,
    /// See [`loudness_lufs`], of the trimmed take.
    pub loudness_lufs: Option<f64>,
    /// See [`crate::Bounds`].
    pub noise_floor_dbfs: Option<f64>,
    /// See [`clipped_frames`].
    pub clipped_frames: u64,
    /// Left over right; `None` in mono.
    pub balance_db: Option<f64>,
    /// Likeness of left and right; `None` in mono.
    pub correlation: Option<f64>,
    /// Places to loop, best first; empty where nothing is worth looping.
    pub loops: Vec<LoopCandidate>,
}

/// Measures a take. Samples that are no numbers count as silence.
pub fn measure(audio: &Audio) -> Measurement {
    let cleaned;
    let audio = if audio.channels.iter().flatten().all(|x| x.is_finite()) {
        audio
    } else {
        let mut copy = audio.clone();
        copy.channels
            .iter_mut()
            .flatten()
            .filter(|x| !x.is_finite())
            .for_each(|x| *x = 0.0);
        cleaned = copy;
        &cleaned
    };
    let bounds = sound_bounds(audio);
    let (start, end) = bounds.map_or((0, audio.frames()), |b| (b.start_frame, b.end_frame));
    let mono = audio.to_mono();
    let pitch = bounds.and_then(|_| find_pitch(&mono, audio.rate_hz, start, end));
    let loops = pitch.map_or_else(Vec::new, |pitch| {
        find_loops(audio, start, end, f64::from(audio.rate_hz) / pitch.hz)
    });
    let trimmed = audio.slice(start, end);
    Measurement {
        start_frame: start,
        end_frame: end,
        start_sure: bounds.map(|b| b.start_sure),
        end_sure: bounds.map(|b| b.end_sure),
        pitch,
        peak_dbfs: Some(peak_dbfs(audio)).filter(|db| db.is_finite()),
        loudness_lufs: loudness_lufs(&trimmed),
        noise_floor_dbfs: bounds.and_then(|b| b.noise_floor_dbfs),
        clipped_frames: clipped_frames(audio),
        balance_db: balance_db(audio),
        correlation: correlation(audio),
        loops,
    }
}

/// Only the pitch of the sound in a take.
pub fn measure_pitch(audio: &Audio) -> Option<Pitch> {
    let bounds = sound_bounds(audio)?;
    find_pitch(
        &audio.to_mono(),
        audio.rate_hz,
        bounds.start_frame,
        bounds.end_frame,
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn empty_silent_and_broken_audio_is_measured_without_harm() {
        for audio in [
            Audio::mono(48_000, Vec::new()),
            Audio {
                rate_hz: 48_000,
                channels: Vec::new(),
            },
            Audio::mono(48_000, vec![0.0; 10]),
            Audio::mono(48_000, vec![f32::NAN; 4_800]),
            Audio::mono(48_000, vec![1.0; 4_800]),
            Audio::mono(8_000, vec![0.5; 3]),
        ] {
            let facts = measure(&audio);
            assert!(facts.end_frame <= audio.frames());
            assert!(facts.pitch.is_none());
        }
    }
}
