//! A band-limited saw and pulse.

/// A saw by PolyBLEP: the step is rounded off by a quadratic over one frame on either side
/// (V. Välimäki & A. Huovilainen, IEEE Signal Processing Magazine 24, 2007).
#[derive(Debug, Clone, Copy)]
pub(crate) struct Saw {
    pub(crate) phase: f32,
}

fn blep(phase: f32, step: f32) -> f32 {
    if phase < step {
        let t = phase / step;
        2.0 * t - t * t - 1.0
    } else if phase > 1.0 - step {
        let t = (phase - 1.0) / step;
        t * t + 2.0 * t + 1.0
    } else {
        0.0
    }
}

impl Saw {
    /// The next saw sample, for a step in periods a frame.
    pub(crate) fn saw(&mut self, step: f32) -> f32 {
        let value = 2.0 * self.phase - 1.0 - blep(self.phase, step);
        self.advance(step);
        value
    }

    /// The next pulse sample: the difference of two saws, `width` apart.
    pub(crate) fn pulse(&mut self, step: f32, width: f32) -> f32 {
        let other = (self.phase + width).fract();
        let value =
            (2.0 * self.phase - 1.0 - blep(self.phase, step)) - (2.0 * other - 1.0 - blep(other, step));
        self.advance(step);
        value * 0.5
    }

    fn advance(&mut self, step: f32) {
        self.phase += step;
        if self.phase >= 1.0 {
            self.phase -= 1.0;
        }
    }
}
