//! Overtones: a bent line between what goes in and what comes out. What would fold back over half the rate is kept down by going along the line's
//! integral (Parker, Zavalishin and Le Bivic, *Reducing the Aliasing of Nonlinear Waveshaping*, DAFx 2016, equation 9).

use crate::biquad::OnePole;
use crate::{Process, Settings, gain};
use std::f64::consts::PI;

/// Nearer than that, the line itself is taken at the middle.
const NEAR: f64 = 1e-4;
/// At this level a sine comes out as loud as it went in, in dB.
const AS_LOUD_AT_DB: f64 = -12.0;
/// How far from its middle the tape-like form works.
const TAPE_BIAS: f64 = 0.35;
/// What has no frequency is taken away under so many Hz.
const BLOCKS_HZ: f64 = 8.0;

/// How the line bends.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
enum Form {
    #[default]
    Soft,
    Hard,
    Tape,
}

impl Form {
    fn of(place: f64) -> Self {
        match place as u8 {
            0 => Self::Soft,
            1 => Self::Hard,
            _ => Self::Tape,
        }
    }

    fn value(self, x: f64) -> f64 {
        match self {
            Self::Soft => libm::tanh(x),
            Self::Hard => x.clamp(-1.0, 1.0),
            Self::Tape => libm::tanh(x + TAPE_BIAS) - libm::tanh(TAPE_BIAS),
        }
    }

    fn integral(self, x: f64) -> f64 {
        // ln cosh, which for large ones is their size less ln 2.
        let soft = |x: f64| x.abs() + libm::log1p(libm::exp(-2.0 * x.abs())) - std::f64::consts::LN_2;
        match self {
            Self::Soft => soft(x),
            Self::Hard if x.abs() <= 1.0 => x * x / 2.0,
            Self::Hard => x.abs() - 0.5,
            Self::Tape => soft(x + TAPE_BIAS) - x * libm::tanh(TAPE_BIAS),
        }
    }

    /// The factor by which a sine of a level comes out as loud as it went in.
    fn as_loud(self, drive: f64) -> f64 {
        const POINTS: usize = 64;
        let level = gain(AS_LOUD_AT_DB);
        let out: Vec2 = (0..POINTS).fold(Vec2::default(), |sums, n| {
            let y = self.value(drive * level * libm::sin(2.0 * PI * (n as f64 + 0.5) / POINTS as f64));
            Vec2(sums.0 + y, sums.1 + y * y)
        });
        let mean = out.0 / POINTS as f64;
        let power = out.1 / POINTS as f64 - mean * mean;
        level / libm::sqrt(2.0 * power)
    }
}

/// A sum, and one of squares.
#[derive(Default)]
struct Vec2(f64, f64);

/// One side.
#[derive(Debug, Clone, Copy, Default)]
struct Side {
    before: (f64, f64),
    /// What the blocker of what has no frequency keeps.
    blocked: (f64, f64),
    tone: OnePole,
}

/// See above.
#[derive(Debug)]
pub(crate) struct Drive {
    rate_hz: f64,
    form: Form,
    by: f64,
    out: f64,
    blocks: f64,
    sides: [Side; 2],
    set: Option<Settings>,
}

impl Drive {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            form: Form::Soft,
            by: 1.0,
            out: 1.0,
            blocks: libm::exp(-2.0 * PI * BLOCKS_HZ / rate_hz),
            sides: [Side::default(); 2],
            set: None,
        }
    }
}

impl Process for Drive {
    fn set(&mut self, settings: &Settings, _: f64) {
        if self.set == Some(*settings) {
            return;
        }
        self.set = Some(*settings);
        let [form, drive_db, tone, ..] = *settings;
        let form = Form::of(form);
        if form != self.form {
            self.form = form;
            for side in &mut self.sides {
                side.before.1 = form.integral(side.before.0);
            }
        }
        self.by = gain(drive_db);
        self.out = self.form.as_loud(self.by);
        for side in &mut self.sides {
            side.tone.set(tone, self.rate_hz);
        }
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for (side, frames) in self.sides.iter_mut().zip([left, right]) {
            for frame in frames {
                let x = f64::from(*frame) * self.by;
                let (before, integral) = (side.before, self.form.integral(x));
                let y = if (x - before.0).abs() < NEAR {
                    self.form.value((x + before.0) / 2.0)
                } else {
                    (integral - before.1) / (x - before.0)
                };
                side.before = (x, integral);
                let out = y - side.blocked.0 + self.blocks * side.blocked.1;
                side.blocked = (y, out);
                *frame = side.tone.next((out * self.out) as f32);
            }
        }
    }

    fn clear(&mut self) {
        for side in &mut self.sides {
            *side = Side {
                before: (0.0, self.form.integral(0.0)),
                blocked: (0.0, 0.0),
                tone: side.tone,
            };
            side.tone.clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;
    /// A whole number of rounds in 48,000 frames.
    const HZ: f64 = 100.0;

    /// Amplitudes of the first harmonics of what comes of a sine.
    fn harmonics(settings: Settings, level: f64) -> Vec<f64> {
        let mut drive = Drive::new(RATE);
        drive.set(&settings, 120.0);
        drive.clear();
        let mut left: Vec<f32> = (0..96_000)
            .map(|n| (level * (2.0 * PI * HZ * n as f64 / RATE).sin()) as f32)
            .collect();
        let mut right = left.clone();
        for (left, right) in left.chunks_mut(32).zip(right.chunks_mut(32)) {
            drive.run(left, right);
        }
        let part = &left[48_000..];
        (1..=5)
            .map(|h| {
                let w = 2.0 * PI * HZ * f64::from(h) / RATE;
                let (re, im) = part.iter().enumerate().fold((0.0, 0.0), |(re, im), (n, x)| {
                    (
                        re + f64::from(*x) * (w * n as f64).cos(),
                        im + f64::from(*x) * (w * n as f64).sin(),
                    )
                });
                2.0 * (re * re + im * im).sqrt() / part.len() as f64
            })
            .collect()
    }

    /// The harmonics of a bent sine are the Fourier coefficients of one round of it, whatever bends it.
    #[test]
    fn harmonics_are_those_of_the_bent_line() {
        for (form, drive_db, level) in [(0.0, 20.0, 0.4), (1.0, 20.0, 0.4), (2.0, 12.0, 0.5)] {
            let found = harmonics([form, drive_db, 20_000.0, 100.0, 0.0, 0.0, 0.0, 0.0], level);
            let by = gain(drive_db) * level;
            let meant: Vec<f64> = (1..=5)
                .map(|h| {
                    let points = 20_000;
                    let (re, im) = (0..points).fold((0.0, 0.0), |(re, im), n| {
                        let t = 2.0 * PI * (f64::from(n) + 0.5) / f64::from(points);
                        let y = match form as u8 {
                            0 => (by * t.sin()).tanh(),
                            1 => (by * t.sin()).clamp(-1.0, 1.0),
                            _ => (by * t.sin() + 0.35).tanh() - 0.35f64.tanh(),
                        };
                        let w = f64::from(h) * t;
                        (re + y * w.cos(), im + y * w.sin())
                    });
                    2.0 * (re * re + im * im).sqrt() / f64::from(points)
                })
                .collect();
            for h in 1..5 {
                let (is, of) = (found[h] / found[0], meant[h] / meant[0]);
                assert!((is - of).abs() < 0.002, "{form} harmonic {}: {is} {of}", h + 1);
            }
        }
        // Soft and hard bend both ways alike: there are no even ones.
        let even = harmonics([0.0, 20.0, 20_000.0, 100.0, 0.0, 0.0, 0.0, 0.0], 0.4);
        assert!(even[1] < 1e-4 && even[3] < 1e-4 && even[2] > 0.01);
    }

    #[test]
    fn a_sine_comes_out_as_loud_as_it_went_in() {
        for form in 0..3 {
            for drive_db in [0.0, 12.0, 40.0] {
                let of = [f64::from(form), drive_db, 20_000.0, 100.0, 0.0, 0.0, 0.0, 0.0];
                let level = gain(AS_LOUD_AT_DB);
                let power: f64 = harmonics(of, level).iter().map(|a| a * a).sum();
                let db = 10.0 * (power / (level * level)).log10();
                // The harmonics over the fifth have the rest.
                assert!((-1.0..=0.05).contains(&db), "{form} {drive_db}: {db}");
            }
        }
    }
}
