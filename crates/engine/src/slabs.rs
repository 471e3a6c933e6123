//! The audio of samples, in slabs out of one pool that never grows over its budget, however many samples there are.
//!
//! A slab is one channel of [`SLAB_FRAMES`] frames of a sample, and the [`MARGIN_FRAMES`] after them, so that whatever is read around a place lies
//! together. It comes whole. Slabs are found by what they hold, not by a table of each sample: a library of any size costs the same.

use crate::interpolate::WIDEST_HALF;
use program::SampleId;

/// Frames of a sample from one slab to the next.
pub const SLAB_FRAMES: usize = 1_024;
/// Frames of the next slab that a slab has as well.
pub const MARGIN_FRAMES: usize = 2 * WIDEST_HALF;
/// Bytes of audio in a slab, and of what is known about it.
pub const SLAB_BYTES: usize = STORED_FRAMES * size_of::<f32>() + size_of::<Slot>() + size_of::<u32>();

/// Frames of a slab with its margin.
pub(crate) const STORED_FRAMES: usize = SLAB_FRAMES + MARGIN_FRAMES;
/// Memory for slabs is taken by so many at once.
const BLOCK_SLABS: usize = 64;
const NONE: u32 = u32::MAX;

/// What a slab holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SlabName {
    pub(crate) sample: SampleId,
    /// Which of the sample's slabs.
    pub(crate) slab: u32,
    pub(crate) channel: u8,
}

/// Why a slab is there, which says for how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// A key that is struck begins with it: kept beside what is played, in at most half of the pool.
    AsHead,
    /// It was asked for by a voice, or there was room.
    WhilePlayed,
}

#[derive(Debug, Clone, Copy)]
struct Slot {
    name: SlabName,
    kept: Kept,
    /// The next one with the same hash.
    next: u32,
    /// Neighbours in the row of the same kind, by when they were played last.
    newer: u32,
    older: u32,
}

/// Those of one kind, from the one that was not played for longest.
#[derive(Debug, Clone, Copy)]
struct Row {
    oldest: u32,
    newest: u32,
    count: usize,
}

/// The pool. Room is taken block by block as slabs come, until the budget is reached; then those give way that were not played for longest.
#[derive(Debug)]
pub(crate) struct Slabs {
    most: usize,
    blocks: Vec<Vec<f32>>,
    slots: Vec<Slot>,
    /// By hash, the first slot of a chain.
    chains: Vec<u32>,
    /// Those that were given back.
    free: u32,
    heads: Row,
    played: Row,
}

impl Row {
    const EMPTY: Self = Self {
        oldest: NONE,
        newest: NONE,
        count: 0,
    };
}

impl Slabs {
    /// A pool of at most so many bytes, and never less than one block.
    pub(crate) fn new(budget_bytes: usize) -> Self {
        let most = (budget_bytes / SLAB_BYTES).clamp(BLOCK_SLABS, NONE as usize - 1);
        Self {
            most,
            blocks: Vec::with_capacity(most.div_ceil(BLOCK_SLABS)),
            slots: Vec::with_capacity(most),
            chains: vec![NONE; (most / 2 + 1).next_power_of_two()],
            free: NONE,
            heads: Row::EMPTY,
            played: Row::EMPTY,
        }
    }

    /// Forgets everything; memory stays.
    pub(crate) fn clear(&mut self) {
        self.chains.fill(NONE);
        (self.heads, self.played) = (Row::EMPTY, Row::EMPTY);
        self.free = NONE;
        for place in 0..self.slots.len() as u32 {
            self.slots[place as usize].next = self.free;
            self.free = place;
        }
    }

    /// Slabs that are there.
    pub(crate) fn count(&self) -> usize {
        self.heads.count + self.played.count
    }

    /// Slabs that there can be.
    pub(crate) fn most(&self) -> usize {
        self.most
    }

    /// Puts frames into a slab, from its first; what is missing to a whole one is silence. What is there already stays.
    pub(crate) fn put(&mut self, name: SlabName, kept: Kept, frames: impl Iterator<Item = f32>) {
        if let Some(place) = self.find(name) {
            self.played_now(place);
            return;
        }
        let Some(place) = self.room(kept) else {
            return;
        };
        let chain = self.chain_of(name);
        self.slots[place as usize] = Slot {
            name,
            kept,
            next: self.chains[chain],
            newer: NONE,
            older: NONE,
        };
        self.chains[chain] = place;
        self.append(place);
        let slab = self.frames_mut(place);
        let mut count = 0;
        for (to, from) in slab.iter_mut().zip(frames) {
            *to = from;
            count += 1;
        }
        slab[count..].fill(0.0);
    }

    /// Where a slab lies.
    pub(crate) fn find(&self, name: SlabName) -> Option<u32> {
        let mut place = self.chains[self.chain_of(name)];
        while place != NONE {
            let slot = &self.slots[place as usize];
            if slot.name == name {
                return Some(place);
            }
            place = slot.next;
        }
        None
    }

    /// Frames of a slab: [`SLAB_FRAMES`] and [`MARGIN_FRAMES`].
    pub(crate) fn frames(&self, place: u32) -> &[f32] {
        let at = place as usize % BLOCK_SLABS * STORED_FRAMES;
        &self.blocks[place as usize / BLOCK_SLABS][at..at + STORED_FRAMES]
    }

    fn frames_mut(&mut self, place: u32) -> &mut [f32] {
        let at = place as usize % BLOCK_SLABS * STORED_FRAMES;
        &mut self.blocks[place as usize / BLOCK_SLABS][at..at + STORED_FRAMES]
    }

    /// It is the one that was played last.
    pub(crate) fn played_now(&mut self, place: u32) {
        if self.row(self.slots[place as usize].kept).newest != place {
            self.take_out(place);
            self.append(place);
        }
    }

    /// Room for one more; `None` where a slab of this kind has to stand back.
    fn room(&mut self, kept: Kept) -> Option<u32> {
        if kept == Kept::AsHead && self.heads.count >= self.most / 2 {
            return Some(self.evict(self.heads.oldest));
        }
        if self.free != NONE {
            let place = self.free;
            self.free = self.slots[place as usize].next;
            return Some(place);
        }
        if self.slots.len() < self.most {
            let place = self.slots.len() as u32;
            if place as usize == self.blocks.len() * BLOCK_SLABS {
                let slabs = BLOCK_SLABS.min(self.most - place as usize);
                self.blocks.push(vec![0.0; slabs * STORED_FRAMES]);
            }
            self.slots.push(Slot {
                name: SlabName {
                    sample: SampleId(0),
                    slab: 0,
                    channel: 0,
                },
                kept,
                next: NONE,
                newer: NONE,
                older: NONE,
            });
            return Some(place);
        }
        let oldest = if self.played.count > 0 {
            self.played.oldest
        } else {
            self.heads.oldest
        };
        (oldest != NONE).then(|| self.evict(oldest))
    }

    fn evict(&mut self, place: u32) -> u32 {
        self.take_out(place);
        let chain = self.chain_of(self.slots[place as usize].name);
        let next = self.slots[place as usize].next;
        if self.chains[chain] == place {
            self.chains[chain] = next;
            return place;
        }
        let mut at = self.chains[chain];
        while at != NONE {
            let slot = &mut self.slots[at as usize];
            if slot.next == place {
                slot.next = next;
                break;
            }
            at = slot.next;
        }
        place
    }

    fn row(&mut self, kept: Kept) -> &mut Row {
        match kept {
            Kept::AsHead => &mut self.heads,
            Kept::WhilePlayed => &mut self.played,
        }
    }

    fn append(&mut self, place: u32) {
        let row = self.row(self.slots[place as usize].kept);
        let before = row.newest;
        row.newest = place;
        row.count += 1;
        if before == NONE {
            row.oldest = place;
        } else {
            self.slots[before as usize].newer = place;
        }
        let slot = &mut self.slots[place as usize];
        (slot.older, slot.newer) = (before, NONE);
    }

    fn take_out(&mut self, place: u32) {
        let Slot {
            kept, newer, older, ..
        } = self.slots[place as usize];
        if older != NONE {
            self.slots[older as usize].newer = newer;
        }
        if newer != NONE {
            self.slots[newer as usize].older = older;
        }
        let row = self.row(kept);
        row.count -= 1;
        if row.oldest == place {
            row.oldest = newer;
        }
        if row.newest == place {
            row.newest = older;
        }
    }

    /// Fibonacci hashing (Knuth, The Art of Computer Programming 3, 6.4) of what it holds.
    fn chain_of(&self, name: SlabName) -> usize {
        let mixed = name.sample.0 ^ (u64::from(name.slab) << 1 | u64::from(name.channel)).rotate_left(40);
        let hash = mixed.wrapping_mul(0x9E37_79B9_7F4A_7C15);
        (hash >> 32) as usize & (self.chains.len() - 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(sample: u64, slab: u32) -> SlabName {
        SlabName {
            sample: SampleId(sample),
            slab,
            channel: 0,
        }
    }

    fn with(slabs: &mut Slabs, sample: u64, slab: u32, kept: Kept) {
        slabs.put(
            name(sample, slab),
            kept,
            std::iter::repeat_n(sample as f32, SLAB_FRAMES),
        );
    }

    #[test]
    fn what_was_put_is_found_and_what_is_missing_is_silence() {
        let mut slabs = Slabs::new(1_000_000);
        slabs.put(name(7, 3), Kept::WhilePlayed, (0..100).map(|n| n as f32));
        let place = slabs.find(name(7, 3)).unwrap();
        assert_eq!(slabs.frames(place)[99], 99.0);
        assert_eq!(slabs.frames(place)[100..], vec![0.0; STORED_FRAMES - 100]);
        assert_eq!(slabs.find(name(7, 2)), None);
        assert_eq!(
            slabs.find(SlabName {
                channel: 1,
                ..name(7, 3)
            }),
            None
        );
    }

    #[test]
    fn the_pool_is_never_over_its_budget_and_the_least_recently_played_go_first() {
        let mut slabs = Slabs::new(100 * SLAB_BYTES);
        for n in 0..100 {
            with(&mut slabs, n, 0, Kept::WhilePlayed);
        }
        let first = slabs.find(name(0, 0)).unwrap();
        slabs.played_now(first);
        for n in 100..130 {
            with(&mut slabs, n, 0, Kept::WhilePlayed);
        }
        assert_eq!((slabs.count(), slabs.slots.len()), (100, 100));
        let there: Vec<u64> = (0..130).filter(|n| slabs.find(name(*n, 0)).is_some()).collect();
        let expected: Vec<u64> = [0].into_iter().chain(31..130).collect();
        assert_eq!(there, expected);
        for n in there {
            let place = slabs.find(name(n, 0)).unwrap();
            assert_eq!(slabs.frames(place)[5], n as f32);
        }
        let bytes = slabs
            .blocks
            .iter()
            .map(|block| block.capacity() * 4)
            .sum::<usize>()
            + slabs.slots.capacity() * size_of::<Slot>()
            + slabs.chains.capacity() * 4;
        assert!(bytes <= 100 * SLAB_BYTES + 128 * 4, "{bytes}");
    }

    #[test]
    fn heads_keep_half_of_the_pool_and_no_more() {
        let mut slabs = Slabs::new(100 * SLAB_BYTES);
        for n in 0..80 {
            with(&mut slabs, n, 0, Kept::AsHead);
        }
        assert_eq!(slabs.count(), 50);
        for n in 0..1_000 {
            with(&mut slabs, 900, n, Kept::WhilePlayed);
        }
        assert_eq!(slabs.count(), 100);
        assert!((30..80).all(|n| slabs.find(name(n, 0)).is_some()));
    }

    /// Against a plain list: whatever comes and is played in whatever order.
    #[test]
    fn it_is_what_a_plain_list_would_be() {
        let (mut slabs, mut plain) = (Slabs::new(64 * SLAB_BYTES), Vec::<u64>::new());
        let mut state = 1u32;
        for _ in 0..20_000 {
            // Numerical Recipes' generator, 32 bits.
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let n = u64::from(state >> 16) % 150;
            plain.retain(|other| *other != n);
            plain.push(n);
            if plain.len() > 64 {
                plain.remove(0);
            }
            with(&mut slabs, n, 0, Kept::WhilePlayed);
        }
        assert_eq!(slabs.count(), 64);
        assert!(plain.iter().all(|n| slabs.find(name(*n, 0)).is_some()));
        slabs.clear();
        assert_eq!((slabs.count(), slabs.find(name(plain[0], 0))), (0, None));
        with(&mut slabs, 1, 1, Kept::AsHead);
        assert_eq!(slabs.slots.len(), 64);
    }
}
