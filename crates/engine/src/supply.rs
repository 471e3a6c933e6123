//! Whether a voice has the audio that it is about to read, and what it will want.

use crate::Interpolator;
use crate::reader::slabs_of;
use crate::slabs::{SLAB_FRAMES, SlabName, Slabs};
use crate::stretch::Course;
use crate::voice::Voice;
use program::SampleId;
use std::ops::{ControlFlow, Range};

/// Audio is asked for so long before it is played.
const AHEAD_S: f64 = 1.5;
/// What is needed sooner than that comes in small pieces.
const SOON_S: f64 = 0.3;
/// Slabs that are asked for at once, also where only the first of them is needed by then: a request for every slab would be forty a second for each
/// voice.
const SMALL_PIECE_SLABS: u32 = 16;
const PIECE_SLABS: u32 = 48;

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

    /// The next piece of audio that it will need and that is not there, where it may have so many slabs of each channel ahead.
    pub(crate) fn wants(&self, slabs: &Slabs, interpolator: &Interpolator, share: u32) -> Option<Want> {
        let sample = self.stretch.sample;
        let is_missing = |slab| {
            let name = SlabName {
                sample,
                slab,
                channel: 0,
            };
            slabs.find(name).is_none()
        };
        // In a small pool what one voice has ahead would push out what another is about to play.
        let share_s = f64::from(share / 2) * SLAB_FRAMES as f64 / self.ratio / self.rate_hz;
        let ahead_s = AHEAD_S.min(share_s);
        let ahead = libm::ceil(ahead_s * self.rate_hz * self.ratio) as u64;
        let span = ahead + u64::from(PIECE_SLABS) * SLAB_FRAMES as u64;
        let course = self.course(interpolator.at(self.ratio).half());
        let from = self.position as u64;
        let missing = |range: Range<u64>, after: u64| {
            let Some(slab) = slabs_of(&range).find(|slab| is_missing(*slab)) else {
                return ControlFlow::Continue(());
            };
            let since = (u64::from(slab) * SLAB_FRAMES as u64).saturating_sub(range.start);
            let within_s = (after + since) as f64 / self.ratio / self.rate_hz;
            if within_s > ahead_s {
                return ControlFlow::Continue(());
            }
            let piece = if within_s < SOON_S {
                SMALL_PIECE_SLABS
            } else {
                PIECE_SLABS
            }
            .min(share / 2);
            let most = slabs_of(&range).end.min(slab + piece);
            let end = (slab..most).find(|slab| !is_missing(*slab)).unwrap_or(most);
            ControlFlow::Break(Want {
                sample,
                slab,
                count: end - slab,
                within_s,
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
