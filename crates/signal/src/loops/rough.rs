//! A place to loop before it was heard.

use crate::PlayedLoop;

/// A place that may serve, in frames of the sound that is searched.
#[derive(Debug, Clone, Copy)]
pub(super) struct Rough {
    pub(super) start: usize,
    pub(super) end: usize,
    /// Correlation of what lies around both, 0 to 1.
    pub(super) likeness: f32,
}

impl Rough {
    /// As it is played with a crossfade.
    pub(super) fn played(&self, crossfade_frames: usize) -> PlayedLoop {
        PlayedLoop {
            start_frame: self.start,
            end_frame: self.end,
            crossfade_frames,
            likeness_percent: (self.likeness * 100.0) as u8,
        }
    }
}
