//! Which regions answer a key.

use crate::{Program, SoundsOn};

/// One count a key, for round robins.
#[derive(Debug, Clone)]
pub struct Counters([u32; 128]);

impl Default for Counters {
    fn default() -> Self {
        Self([0; 128])
    }
}

impl Counters {
    /// The turn of this strike; the next one gets the next.
    pub fn take_turn(&mut self, key: u8) -> u32 {
        let slot = &mut self.0[usize::from(key & 127)];
        let turn = *slot;
        *slot = slot.wrapping_add(1);
        turn
    }
}

/// Indices of the regions that sound when `key` is struck (or let go) at `velocity`, for the given turn.
pub fn regions_for_key(
    program: &Program,
    on: SoundsOn,
    key: u8,
    velocity: u8,
    turn: u32,
) -> impl Iterator<Item = usize> + '_ {
    program
        .regions
        .iter()
        .enumerate()
        .filter_map(move |(index, region)| {
            let sounds = program
                .strand_of(region)
                .is_some_and(|strand| strand.sounds_on == on)
                && (region.low_key..=region.high_key).contains(&key)
                && (region.low_velocity..=region.high_velocity).contains(&velocity)
                && turn % region.round_robin.length.max(1) == region.round_robin.position;
            sounds.then_some(index)
        })
}
