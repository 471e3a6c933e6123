//! Whether a voice has the audio that it is about to read, and what it will want.

use crate::Interpolator;
use crate::reader::slabs_of;
use crate::slabs::{SLAB_FRAMES, SlabName, Slabs};
use crate::stretch::Course;
use crate::voice::Voice;
use program::SampleId;
use std::ops::{ControlFlow, Range};

/// Audio is asked for so long before it is played.
const AHEAD_MS: f64 = 1_500.0;
/// Slabs that are asked for at once.
const PIECE_SLABS: u32 = 16;

/// Audio that a voice will need and that is not there.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Want {
    /// Of which sample.
    pub sample: SampleId,
    /// The first slab.
    pub slab: u32,
    /// And so many.
    pub count: u32,
    /// When it is needed, in seconds from now.
    pub within_s: f64,
}

impl Voice {
    /// Whether all that it reads within so many output frames is there. What is, is played now.
    pub(crate) fn has_audio(&self, slabs: &mut Slabs, half: usize, frames: f64) -> bool {
        let (sample, channels) = (self.stretch.sample, self.stretch.channels);
        let span = libm::ceil(frames * self.ratio) as u64;
        self.course(half)
            .reads(self.position as u64, span, |range, _| {
                for slab in slabs_of(&range) {
                    for channel in 0..channels {
                        match slabs.find(SlabName {
                            sample,
                            slab,
                            channel,
                        }) {
                            Some(place) => slabs.played_now(place),
                            None => return ControlFlow::Break(()),
                        }
                    }
                }
                ControlFlow::Continue(())
            })
            .is_continue()
    }

    /// The next piece of audio that it will need and that is not there.
    pub(crate) fn wants(&self, slabs: &Slabs, interpolator: &Interpolator) -> Option<Want> {
        let sample = self.stretch.sample;
        let is_missing = |slab| {
            let name = SlabName {
                sample,
                slab,
                channel: 0,
            };
            slabs.find(name).is_none()
        };
        let span = libm::ceil(AHEAD_MS / 1000.0 * self.rate_hz * self.ratio) as u64;
        let course = self.course(interpolator.at(self.ratio).half());
        let from = self.position as u64;
        let missing = |range: Range<u64>, after: u64| {
            let Some(slab) = slabs_of(&range).find(|slab| is_missing(*slab)) else {
                return ControlFlow::Continue(());
            };
            let most = slabs_of(&range).end.min(slab + PIECE_SLABS);
            let end = (slab..most).find(|slab| !is_missing(*slab)).unwrap_or(most);
            let since = (u64::from(slab) * SLAB_FRAMES as u64).saturating_sub(range.start);
            ControlFlow::Break(Want {
                sample,
                slab,
                count: end - slab,
                within_s: (after + since) as f64 / self.ratio / self.rate_hz,
            })
        };
        let found = course.reads(from, span, missing);
        // A key that comes up may let it out of its loop at any time.
        let out = course.looped.filter(|looped| !looped.runs_through_release());
        let found = match (found, out) {
            (ControlFlow::Continue(()), Some(_)) => Course {
                looped: None,
                ..course
            }
            .reads(from, span, missing),
            (found, _) => found,
        };
        found.break_value()
    }
}
