//! Recordings, and takes that are to be made of them.

use formats::WavLayout;
use instrument::{Cell, Origin};
use serde::{Deserialize, Serialize};

/// How a recording is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordingForm {
    /// Frames per second.
    pub rate_hz: u32,
    /// Interleaved in every frame.
    pub channels: u16,
    /// 24, or 32 (float).
    pub bits: u16,
}

impl RecordingForm {
    /// Of a WAV file of so many frames.
    pub fn layout(self, frames: u64) -> WavLayout {
        WavLayout {
            rate_hz: self.rate_hz,
            channels: self.channels,
            bits: self.bits,
            frames,
            sampler: None,
        }
    }

    /// Bytes of one frame.
    pub fn frame_bytes(self) -> u64 {
        u64::from(self.channels) * u64::from(self.bits / 8)
    }
}

/// A recording that lies in the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recording {
    /// Hash of its rate, channels, width and samples.
    pub hash: String,
    /// How it is kept.
    pub form: RecordingForm,
    /// Length.
    pub frames: u64,
}

/// A part of a recording: the audio of a take.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Hash of the recording.
    pub recording: String,
    /// How that is kept.
    pub form: RecordingForm,
    /// Its first frame there.
    pub first_frame: u64,
    /// Its length.
    pub frames: u64,
}

/// A take to be added.
#[derive(Debug, Clone, PartialEq)]
pub struct NewTake {
    /// Where it belongs.
    pub cell: Cell,
    /// Its recording, which lies in the store.
    pub recording: Recording,
    /// The take's first frame in it.
    pub first_frame: u64,
    /// The take's length.
    pub frames: u64,
    /// Where it came from.
    pub origin: Origin,
    /// The spool that it arrived in: a take that is added twice from one spool is one take.
    pub spool: Option<String>,
}

impl NewTake {
    /// All of a recording.
    pub fn whole(cell: Cell, recording: Recording, origin: Origin) -> Self {
        Self {
            cell,
            first_frame: 0,
            frames: recording.frames,
            recording,
            origin,
            spool: None,
        }
    }
}
