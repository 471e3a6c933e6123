//! A line between page and server that can be told to be bad.

use crate::Block;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;

/// What goes wrong, each as a share of the blocks, 0 to 1.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Faults {
    /// Blocks that vanish.
    pub drop: f64,
    /// Blocks that arrive after their successor.
    pub reorder: f64,
    /// Times that the line breaks, for 30 blocks.
    pub disconnect: f64,
}

/// Delivers blocks, badly if told to.
pub struct Link {
    faults: Faults,
    random: Pcg32,
    held: Vec<Block>,
    broken_for: u32,
}

impl Link {
    /// A line with faults, by seed.
    pub fn new(faults: Faults, seed: u64) -> Self {
        Self {
            faults,
            random: Pcg32::seed_from_u64(seed),
            held: Vec::new(),
            broken_for: 0,
        }
    }

    /// Sends one block; gives what arrives.
    pub fn send(&mut self, block: Block) -> Vec<Block> {
        if self.broken_for > 0 {
            self.broken_for -= 1;
            return Vec::new();
        }
        if self.faults == Faults::default() {
            return vec![block];
        }
        if self.random.random_bool(self.faults.disconnect) {
            self.broken_for = 30;
            self.held.clear();
            return Vec::new();
        }
        if self.random.random_bool(self.faults.drop) {
            return Vec::new();
        }
        if self.random.random_bool(self.faults.reorder) {
            self.held.push(block);
            return Vec::new();
        }
        let mut arrived = vec![block];
        arrived.append(&mut self.held);
        arrived
    }
}
