//! The seam of a loop, its crossfade or its way back, put among the slabs once as it is heard: every voice that comes there reads it as it lies.

use crate::drive::Nudge;
use crate::interpolate::WIDEST_HALF;
use crate::reader::{Reader, slabs_of};
use crate::slabs::{Kept, SLAB_FRAMES, STORED_FRAMES, SlabName, Slabs};
use crate::stretch::{Course, Stretch, crossfade};
use program::{Program, Region};
use std::ops::ControlFlow;

/// A seam is heard frame by frame where it is shorter than that, or the loop than four times as much.
const SHORTEST_SEAM: u64 = 2 * WIDEST_HALF as u64;

/// Slabs that the seam of a region may take, at most.
pub(crate) fn seam_slabs(program: &Program, region: &Region) -> usize {
    let Stretch { looped, channels, .. } = Stretch::of(program, region, &Nudge::default());
    let frames = looped.map_or(0, |looped| {
        looped.round_end() - (looped.end_frame - crossfade(&looped)) + SHORTEST_SEAM
    });
    if frames == 0 {
        return 0;
    }
    (frames as usize / SLAB_FRAMES + 2) * usize::from(channels)
}

impl Course<'_> {
    /// Where the seam of the loop begins, what of it lies before the first of its own slabs, and its end: the crossfade, or the way back. The slabs
    /// count from the second.
    fn seam(&self) -> Option<(u64, u64, u64)> {
        let looped = self.looped?;
        let from = looped.end_frame - crossfade(&looped);
        let long = looped.round_end() - from >= SHORTEST_SEAM && looped.round_frames() >= 4 * SHORTEST_SEAM;
        long.then(|| (from, from.saturating_sub(SHORTEST_SEAM), looped.round_end()))
    }

    /// For how many frames to come, at this ratio, it is within the seam of its loop, and the frame from which the slabs of that seam count.
    pub(crate) fn seam_run(&self, position: f64, ratio: f64) -> Option<(u64, usize)> {
        let (from, base, end) = self.seam()?;
        let (stretch, half) = (self.stretch, self.half as u64);
        let read_from = |start: u64| start + half - 1;
        let mut first = (from.saturating_sub(half))
            .max(read_from(stretch.start_frame))
            .max(stretch.start_frame + stretch.fade_in_frames);
        if let (Some(looped), true) = (self.looped, self.looping) {
            first = first.max(read_from(looped.start_frame));
        }
        if position < first as f64 || position >= end as f64 {
            return None;
        }
        Some((base, ((end as f64 - position) / ratio) as usize))
    }

    /// Puts what it will read of its seam within so many frames among the slabs, where all that it is made from is there. It is what is heard, frame
    /// by frame, so that every voice reads it as it lies.
    pub(crate) fn make_seam(&self, slabs: &mut Slabs, position: u64, span: u64) {
        let Some((from, base, end)) = self.seam() else {
            return;
        };
        let until = (position + span + self.half as u64).min(end);
        if until <= from || position >= end {
            return;
        }
        let slab_frames = SLAB_FRAMES as u64;
        let first = position.max(from).saturating_sub(base + self.half as u64) / slab_frames;
        for slab in first..=(until - 1 - base) / slab_frames {
            for channel in 0..self.stretch.channels {
                let name = SlabName {
                    sample: self.stretch.seam,
                    slab: slab as u32,
                    channel,
                };
                if let Some(place) = slabs.find(name) {
                    slabs.played_now(place);
                } else if !self.put_seam(slabs, name, base + slab * slab_frames) {
                    return;
                }
            }
        }
    }

    /// One slab of it, from a frame on; false where something is missing.
    fn put_seam(&self, slabs: &mut Slabs, name: SlabName, first: u64) -> bool {
        let once = Self {
            looping: false,
            ..*self
        };
        let sample = self.stretch.sample;
        let is_there = once.reads(first, STORED_FRAMES as u64, |range, _| {
            let mut all = slabs_of(&range).map(|slab| SlabName { sample, slab, ..name });
            if all.all(|name| slabs.find(name).is_some()) {
                ControlFlow::Continue(())
            } else {
                ControlFlow::Break(())
            }
        });
        if is_there.is_break() {
            return false;
        }
        let mut frames = [0.0; STORED_FRAMES];
        let reader = Reader::new(slabs, sample);
        for (frame, at) in frames.iter_mut().zip(first as i64..) {
            *frame = once.frame_at(&reader, name.channel, at);
        }
        slabs.put(name, Kept::WhilePlayed, frames.into_iter());
        true
    }
}
