//! What `ladder measure` says of a file.

use instrument::{Kind, best_loop, heard_for};
use program::LoopWay;
use serde::Serialize;
use signal::{Audio, Measurement, measure};

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
    /// How far its seams stand out of the sound; 0 or less cannot be told from it. See [`signal::audible_db`].
    pub audible_db: Option<f64>,
    /// The same where it stands out most three semitones to either side.
    pub audible_ends_db: Option<f64>,
    /// How far its level moves.
    pub pumps_db: Option<f64>,
    /// How alike its ends are: by this they are crossfaded.
    pub likeness_percent: u8,
    /// Which way it is gone.
    pub way: LoopWay,
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

/// A file that was measured.
#[derive(Debug, Clone, PartialEq)]
pub struct Measured {
    /// As it was named.
    pub name: String,
    /// Frames per second.
    pub rate_hz: u32,
    /// Channels.
    pub channels: usize,
    /// Length.
    pub frames: usize,
    /// What was measured.
    pub facts: Measurement,
}

impl Measured {
    /// Measures a file's audio.
    pub fn of(name: &str, audio: &Audio) -> Self {
        Self {
            name: name.to_owned(),
            rate_hz: audio.rate_hz,
            channels: audio.channels.len(),
            frames: audio.frames(),
            facts: measure(audio),
        }
    }
}

impl FileReport {
    /// Of a file, of a kind of sound and heard for a key where those are known. Without a kind, what dies away is not looped.
    pub fn of(file: &Measured, kind: Option<Kind>, key: Option<u8>) -> Self {
        let facts = match key {
            Some(key) => heard_for(key, file.facts.clone()),
            None => file.facts.clone(),
        };
        let looped = match kind {
            Some(kind) => best_loop(kind, file.rate_hz, &facts.loops),
            None => facts.loops.first().filter(|_| !facts.dies_away),
        };
        Self {
            file: file.name.clone(),
            rate_hz: file.rate_hz,
            channels: file.channels,
            frames: file.frames,
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
            looped: looped.map(|l| LoopReport {
                start_frame: l.start_frame,
                end_frame: l.end_frame,
                crossfade_frames: l.crossfade_frames,
                seam_db: l.seam_db,
                drift_db: l.drift_db,
                audible_db: l.audible_db,
                audible_ends_db: l.audible_ends_db,
                pumps_db: l.pumps_db,
                likeness_percent: l.likeness_percent,
                way: LoopWay::Forward,
            }),
        }
    }
}
