//! The parts of a program.

use crate::{RegionKey, RegionOf, SampleId, StrandId};
use serde::{Deserialize, Serialize};

/// A stretch of audio that regions play.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sample {
    /// Its name for good.
    pub id: SampleId,
    /// Name without folder or ending, unique in the program; files are named after it.
    pub name: String,
    /// Where the frames come from: for a take in Ladder its id, for an import its file.
    pub source: String,
    /// Frames per second.
    pub rate_hz: u32,
    /// Its first channel in the source, which may hold those of several mics.
    #[serde(default)]
    pub first_channel: u16,
    /// So many channels of the source it is made from; what is done to the sides may leave fewer.
    pub source_channels: u16,
    /// 1 or 2.
    pub channels: u16,
    /// Length.
    pub frames: u64,
}

/// When a loop is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LoopRuns {
    /// At key-up the sound plays on past the loop's end.
    WhileHeld,
    /// The loop goes on through the release.
    ThroughRelease,
}

/// Which way a loop is gone.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LoopWay {
    /// From start to end, and again from the start.
    #[default]
    Forward,
    /// From start to end and back to the start. It turns in place, so that nothing is crossfaded.
    BackAndForth,
}

/// A loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Loop {
    /// First frame of the loop.
    pub start_frame: u64,
    /// First frame after the loop.
    pub end_frame: u64,
    /// Frames before the end over which the sound fades into what lies before the start.
    pub crossfade_frames: u64,
    /// How alike the two sounds of the crossfade are, 0 to 100: it keeps the power of such a pair, see [`crate::crossfade_gains`].
    pub likeness_percent: u8,
    /// Which way it is gone.
    pub way: LoopWay,
    /// When it is left.
    pub runs: LoopRuns,
}

impl Loop {
    /// A forward loop without a crossfade.
    pub fn plain(start_frame: u64, end_frame: u64, runs: LoopRuns) -> Self {
        Self {
            start_frame,
            end_frame,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: LoopWay::Forward,
            runs,
        }
    }

    /// Frames of one round.
    pub fn round_frames(&self) -> u64 {
        let length = self.end_frame - self.start_frame;
        match self.way {
            LoopWay::Forward => length,
            LoopWay::BackAndForth => 2 * length,
        }
    }

    /// The place after one round. Where a loop goes back and forth, places past its end are those on the way back.
    pub fn round_end(&self) -> u64 {
        self.start_frame + self.round_frames()
    }

    /// The frame heard at a place before [`Loop::round_end`].
    pub fn frame_at(&self, place: u64) -> u64 {
        if place < self.end_frame {
            place
        } else {
            (2 * self.end_frame - 1).saturating_sub(place)
        }
    }

    /// Whether it goes on after the key is up. One that turns has no way out but the release.
    pub fn runs_through_release(&self) -> bool {
        self.runs == LoopRuns::ThroughRelease || self.way == LoopWay::BackAndForth
    }

    /// Whether the loop lies inside `frames` and its crossfade has audio to fade from.
    pub fn fits(&self, frames: u64) -> bool {
        self.start_frame < self.end_frame
            && self.end_frame <= frames
            && self.crossfade_frames <= self.start_frame
            && self.crossfade_frames <= self.end_frame - self.start_frame
    }
}

/// A region's turn among the round robins of its cell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RoundRobin {
    /// From 0.
    pub position: u32,
    /// How many take turns; 1 for none.
    pub length: u32,
}

/// The course of a fade.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum FadeCurve {
    /// In a straight line.
    #[default]
    Straight,
    /// A quarter of a sine: two that cross keep the power.
    EqualPower,
    /// As a sound dies away by itself: 40 dB.
    Exponential,
}

/// What sounds on which keys and velocities, and how.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Region {
    /// Its name for good, and that of its strand.
    pub key: RegionKey,
    /// Index into [`crate::Program::samples`].
    pub sample: usize,
    /// Lowest and highest key, both included.
    pub low_key: u8,
    /// See `low_key`.
    pub high_key: u8,
    /// Lowest and highest velocity, both included, 1 to 127.
    pub low_velocity: u8,
    /// See `low_velocity`.
    pub high_velocity: u8,
    /// The key at which the sample sounds as recorded, but for `recording_cents`.
    pub root_key: u8,
    /// How far the recording lies above its root.
    pub recording_cents: f64,
    /// Added on playing, beyond what corrects the recording.
    pub tune_cents: f64,
    /// Level.
    pub gain_db: f64,
    /// −1 left to 1 right, equal power.
    pub pan: f64,
    /// First frame played.
    pub start_frame: u64,
    /// First frame not played.
    pub end_frame: u64,
    /// Fade-in from the start.
    pub fade_in_frames: u64,
    /// Fade-out to the end.
    pub fade_out_frames: u64,
    /// The course of both.
    pub fade_curve: FadeCurve,
    /// `None` plays to the end.
    #[serde(rename = "loop")]
    pub looped: Option<Loop>,
    /// Its turn.
    pub round_robin: RoundRobin,
}

impl Region {
    /// A whole sample on every key and at every velocity, as it was recorded.
    pub fn whole(sample: usize, root_key: u8, frames: u64) -> Self {
        Self {
            key: RegionKey {
                strand: StrandId(0),
                of: RegionOf::Own(sample as u64),
            },
            sample,
            low_key: 0,
            high_key: 127,
            low_velocity: 1,
            high_velocity: 127,
            root_key,
            recording_cents: 0.0,
            tune_cents: 0.0,
            gain_db: 0.0,
            pan: 0.0,
            start_frame: 0,
            end_frame: frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            looped: None,
            round_robin: RoundRobin {
                position: 0,
                length: 1,
            },
        }
    }
}

/// The event a strand sounds on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SoundsOn {
    /// The key goes down.
    KeyDown,
    /// The key comes up.
    KeyUp,
}

/// A named set of regions that sound on the same event and share one shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Strand {
    /// Its name for good.
    pub id: StrandId,
    /// As the maker sees it.
    pub name: String,
    /// What starts it.
    pub sounds_on: SoundsOn,
    /// Level of the whole strand.
    pub gain_db: f64,
    /// How its regions play.
    pub shape: Shape,
}

/// Loudness over time and over velocity. Decay and release are times to 100 dB down, linear in dB (SoundFont 2.04,
/// generators 36 and 38); the attack is linear in amplitude.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Shape {
    /// Milliseconds from silence to full.
    pub attack_ms: f64,
    /// Milliseconds for 100 dB, ended at the sustain level.
    pub decay_ms: f64,
    /// Level while held, 0 dB or less.
    pub sustain_db: f64,
    /// Milliseconds for 100 dB after key-up.
    pub release_ms: f64,
    /// How strongly velocity drives level, 0 to 1; see [`crate::velocity_gain_db`].
    pub velocity_to_level: f64,
}

impl Default for Shape {
    fn default() -> Self {
        // A release of about 300 ms where nothing else is known: common practice. To be heard ending after 300 ms
        // (60 dB down) it takes 500 ms for 100 dB.
        Self {
            attack_ms: 2.0,
            decay_ms: 0.0,
            sustain_db: 0.0,
            release_ms: 500.0,
            velocity_to_level: 0.0,
        }
    }
}
