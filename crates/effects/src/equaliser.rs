//! Three bands, and bright against dark.

use crate::biquad::{Biquad, Coefficients};
use crate::{Process, Settings, gain};

/// A shelf, a bell, a shelf.
#[derive(Debug)]
pub(crate) struct Equaliser {
    rate_hz: f64,
    bands: [Biquad; 3],
    set: Option<Settings>,
}

impl Equaliser {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            bands: Default::default(),
            set: None,
        }
    }
}

impl Process for Equaliser {
    fn set(&mut self, settings: &Settings, _: f64) {
        if self.set == Some(*settings) {
            return;
        }
        self.set = Some(*settings);
        let [low, low_hz, mid, mid_hz, q, high, high_hz, _] = *settings;
        self.bands[0].set = Coefficients::low_shelf(low_hz, low, self.rate_hz);
        self.bands[1].set = Coefficients::peak(mid_hz, q, mid, self.rate_hz);
        self.bands[2].set = Coefficients::high_shelf(high_hz, high, self.rate_hz);
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for band in &mut self.bands {
            band.run(left, right);
        }
    }

    fn clear(&mut self) {
        self.bands.iter_mut().for_each(Biquad::clear);
    }
}

/// What is over a frequency goes up by as much as what is under it goes down.
#[derive(Debug)]
pub(crate) struct Tilt {
    rate_hz: f64,
    shelf: Biquad,
    under: f32,
    set: Option<Settings>,
}

impl Tilt {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            shelf: Biquad::default(),
            under: 1.0,
            set: None,
        }
    }
}

impl Process for Tilt {
    fn set(&mut self, settings: &Settings, _: f64) {
        if self.set == Some(*settings) {
            return;
        }
        self.set = Some(*settings);
        let [bright, around, ..] = *settings;
        self.shelf.set = Coefficients::high_shelf(around, 2.0 * bright, self.rate_hz);
        self.under = gain(-bright) as f32;
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        self.shelf.run(left, right);
        for frame in left.iter_mut().chain(right) {
            *frame *= self.under;
        }
    }

    fn clear(&mut self) {
        self.shelf.clear();
    }
}
