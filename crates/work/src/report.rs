//! What `ladder measure` says of a file.

use serde::Serialize;
use signal::{Audio, measure};

/// The loop it would choose. Every end frame is the first after.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct LoopReport {
    /// First frame of the loop.
    pub start_frame: usize,
    /// First frame after it.
    pub end_frame: usize,
    /// Suggested crossfade.
    pub crossfade_frames: usize,
    /// Mismatch of the seam.
    pub seam_db: f64,
    /// Level change inside.
    pub drift_db: f64,
}

/// One file's facts, as one JSON object.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FileReport {
    /// As it was named.
    pub file: String,
    /// Frames per second.
    pub rate_hz: u32,
    /// Channels.
    pub channels: usize,
    /// Length.
    pub frames: usize,
    /// First frame of the sound.
    pub start_frame: usize,
    /// First frame after the sound.
    pub end_frame: usize,
    /// Of the fundamental.
    pub pitch_hz: Option<f64>,
    /// Nearest MIDI key.
    pub key: Option<u8>,
    /// How far the recording is above it.
    pub cents: Option<f64>,
    /// How sure the pitch is, 0 to 1.
    pub confidence: Option<f64>,
    /// Highest sample.
    pub peak_dbfs: Option<f64>,
    /// Of the loudest 400 ms.
    pub loudness_lufs: Option<f64>,
    /// Outside the sound.
    pub noise_floor_dbfs: Option<f64>,
    /// See the bars page.
    pub clipped_frames: u64,
    /// Left over right.
    pub balance_db: Option<f64>,
    /// Likeness of left and right.
    pub correlation: Option<f64>,
    /// `null` where nothing is worth looping.
    #[serde(rename = "loop")]
    pub looped: Option<LoopReport>,
}

impl FileReport {
    /// Measures a file's audio.
    pub fn of(file: &str, audio: &Audio) -> Self {
        let facts = measure(audio);
        Self {
            file: file.to_owned(),
            rate_hz: audio.rate_hz,
            channels: audio.channels.len(),
            frames: audio.frames(),
            start_frame: facts.start_frame,
            end_frame: facts.end_frame,
            pitch_hz: facts.pitch.map(|p| p.hz),
            key: facts.pitch.map(|p| p.key),
            cents: facts.pitch.map(|p| p.cents),
            confidence: facts.pitch.map(|p| p.confidence),
            peak_dbfs: facts.peak_dbfs,
            loudness_lufs: facts.loudness_lufs,
            noise_floor_dbfs: facts.noise_floor_dbfs,
            clipped_frames: facts.clipped_frames,
            balance_db: facts.balance_db,
            correlation: facts.correlation,
            looped: facts.loops.first().map(|l| LoopReport {
                start_frame: l.start_frame,
                end_frame: l.end_frame,
                crossfade_frames: l.crossfade_frames,
                seam_db: l.seam_db,
                drift_db: l.drift_db,
            }),
        }
    }
}
