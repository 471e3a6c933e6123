//! How far left and right lie apart.

use crate::{Process, Settings};

/// What differs between the sides, made larger or smaller.
#[derive(Debug, Default)]
pub(crate) struct Width {
    by: f32,
}

impl Process for Width {
    fn set(&mut self, settings: &Settings, _: f64) {
        self.by = (settings[0] / 100.0) as f32;
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for (left, right) in left.iter_mut().zip(right) {
            let (middle, side) = ((*left + *right) / 2.0, (*left - *right) / 2.0 * self.by);
            (*left, *right) = (middle + side, middle - side);
        }
    }

    fn clear(&mut self) {}
}
