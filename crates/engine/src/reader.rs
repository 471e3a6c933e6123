//! Reading the frames of a sample where they lie in slabs.

use crate::slabs::{SLAB_FRAMES, SlabName, Slabs};
use program::SampleId;
use std::cell::Cell;
use std::ops::Range;

/// The slabs that a range of frames lies in.
pub(crate) fn slabs_of(range: &Range<u64>) -> Range<u32> {
    let slab = |frame: u64| (frame / SLAB_FRAMES as u64) as u32;
    slab(range.start)..slab(range.end.saturating_sub(1)) + 1
}

/// A slab by its number, and its frames.
type Read<'a> = Cell<Option<(u32, &'a [f32])>>;

/// Reads a sample's frames where they lie in slabs, and remembers where it read last.
pub(crate) struct Reader<'a> {
    slabs: &'a Slabs,
    sample: SampleId,
    /// Of each channel two slabs: those of an even and those of an odd number.
    last: [[Read<'a>; 2]; 2],
}

impl<'a> Reader<'a> {
    pub(crate) fn new(slabs: &'a Slabs, sample: SampleId) -> Self {
        Self {
            slabs,
            sample,
            last: Default::default(),
        }
    }

    /// So many frames from `first`, at most [`crate::MARGIN_FRAMES`]; `None` where they are not there.
    #[inline]
    pub(crate) fn window(&self, channel: u8, first: u64, count: usize) -> Option<&'a [f32]> {
        let at = (first % SLAB_FRAMES as u64) as usize;
        self.slab(channel, (first / SLAB_FRAMES as u64) as u32)?
            .get(at..at + count)
    }

    /// Frames from `first` to the end of the slab that it lies in.
    #[inline]
    pub(crate) fn run(&self, channel: u8, first: u64) -> Option<&'a [f32]> {
        let at = (first % SLAB_FRAMES as u64) as usize;
        self.slab(channel, (first / SLAB_FRAMES as u64) as u32)?.get(at..)
    }

    pub(crate) fn frame(&self, channel: u8, at: u64) -> f32 {
        self.window(channel, at, 1).map_or(0.0, |one| one[0])
    }

    fn slab(&self, channel: u8, slab: u32) -> Option<&'a [f32]> {
        let last = &self.last[usize::from(channel & 1)][(slab & 1) as usize];
        if let Some((number, frames)) = last.get()
            && number == slab
        {
            return Some(frames);
        }
        let name = SlabName {
            sample: self.sample,
            slab,
            channel,
        };
        let frames = self.slabs.frames(self.slabs.find(name)?);
        last.set(Some((slab, frames)));
        Some(frames)
    }
}
