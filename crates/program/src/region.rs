//! What sounds on which keys and strikes, and the audio it plays.

use crate::{Cut, Loop, RegionKey, RegionOf, SampleId, Send, ShapeId, Span, StrandId, When};
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

/// A word of a file that was brought in which Ladder does not know: it is written again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Foreign {
    /// The word.
    pub word: String,
    /// What it was set to.
    pub value: String,
}

/// What sounds on which keys and velocities, and how.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Region {
    /// Its name for good, and that of its strand.
    pub key: RegionKey,
    /// Index into [`crate::Program::samples`].
    pub sample: usize,
    /// When it sounds.
    pub when: When,
    /// The key at which the sample sounds as recorded, but for `recording_cents`.
    pub root_key: u8,
    /// How far the recording lies above its root.
    pub recording_cents: f64,
    /// Added on playing, beyond what corrects the recording.
    pub tune_cents: f64,
    /// How far the pitch follows the key: 1 fully, 0 not at all, −1 backwards.
    pub key_follow: f64,
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
    /// Whether it is played to its end though the key comes up.
    pub to_end: bool,
    /// How it plays, where that is not as its strand does.
    pub shape: Option<ShapeId>,
    /// What cuts it off, beside what cuts off its strand.
    pub cut: Cut,
    /// Where else it is heard.
    pub sends: Vec<Send>,
    /// What else was said of it in a file that it came from.
    pub foreign: Vec<Foreign>,
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
            when: When::ALWAYS,
            root_key,
            recording_cents: 0.0,
            tune_cents: 0.0,
            key_follow: 1.0,
            gain_db: 0.0,
            pan: 0.0,
            start_frame: 0,
            end_frame: frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            looped: None,
            to_end: false,
            shape: None,
            cut: Cut::default(),
            sends: Vec::new(),
            foreign: Vec::new(),
        }
    }

    /// The same on these keys.
    pub fn on_keys(mut self, low: u8, high: u8) -> Self {
        self.when.keys = Span::of(low, high);
        self
    }
}

/// The event that a pass is recorded for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SoundsOn {
    /// The key goes down.
    KeyDown,
    /// The key comes up.
    KeyUp,
}
