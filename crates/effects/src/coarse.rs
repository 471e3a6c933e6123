//! A lower rate and fewer bits.

use crate::{Process, Settings};

/// Frames that are held, in steps.
#[derive(Debug)]
pub(crate) struct Coarse {
    rate_hz: f64,
    /// How much of a held frame goes by in one.
    by: f64,
    steps: f32,
    phase: f64,
    held: [f32; 2],
}

impl Coarse {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            by: 1.0,
            steps: 1.0,
            phase: 1.0,
            held: [0.0; 2],
        }
    }
}

impl Process for Coarse {
    fn set(&mut self, settings: &Settings, _: f64) {
        let [rate, bits, ..] = *settings;
        self.by = (rate / self.rate_hz).min(1.0);
        self.steps = libm::pow(2.0, bits - 1.0) as f32;
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for (left, right) in left.iter_mut().zip(right) {
            if self.phase >= 1.0 {
                self.phase -= 1.0;
                let step = |x: f32| libm::roundf(x * self.steps) / self.steps;
                self.held = [step(*left), step(*right)];
            }
            self.phase += self.by;
            [*left, *right] = self.held;
        }
    }

    fn clear(&mut self) {
        self.held = [0.0; 2];
        self.phase = 1.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frames_are_held_and_stand_on_steps() {
        let mut coarse = Coarse::new(48_000.0);
        coarse.set(&[12_000.0, 3.0, 100.0, 0.0, 0.0, 0.0, 0.0, 0.0], 120.0);
        let mut left: Vec<f32> = (0..32).map(|n| n as f32 / 32.0).collect();
        let mut right = left.clone();
        coarse.run(&mut left, &mut right);
        // A quarter of the rate: four alike. Three bits are steps of a quarter.
        for four in left.chunks(4) {
            assert!(four.iter().all(|x| *x == four[0]), "{left:?}");
            assert_eq!(four[0] * 4.0, (four[0] * 4.0).round());
        }
        assert!(left[31] > 0.7);
    }
}
