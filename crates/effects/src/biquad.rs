//! Two poles and two zeros, set as R. Bristow-Johnson's *Audio EQ Cookbook* has it, and a filter of one pole.

use std::f64::consts::PI;

/// No frequency is nearer to half the rate.
const HIGHEST_SHARE: f64 = 0.49;

/// a0 is 1.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Coefficients {
    b: [f64; 3],
    a: [f64; 2],
}

fn angle(hz: f64, rate_hz: f64) -> f64 {
    2.0 * PI * hz.min(HIGHEST_SHARE * rate_hz) / rate_hz
}

impl Coefficients {
    fn of(b: [f64; 3], a: [f64; 3]) -> Self {
        Self {
            b: b.map(|b| b / a[0]),
            a: [a[1] / a[0], a[2] / a[0]],
        }
    }

    /// A bell of so many dB.
    pub(crate) fn peak(hz: f64, q: f64, db: f64, rate_hz: f64) -> Self {
        let (a, w) = (libm::pow(10.0, db / 40.0), angle(hz, rate_hz));
        let (alpha, cos) = (libm::sin(w) / (2.0 * q), libm::cos(w));
        Self::of(
            [1.0 + alpha * a, -2.0 * cos, 1.0 - alpha * a],
            [1.0 + alpha / a, -2.0 * cos, 1.0 - alpha / a],
        )
    }

    /// All under a frequency by so many dB, with a slope of 1.
    pub(crate) fn low_shelf(hz: f64, db: f64, rate_hz: f64) -> Self {
        Self::shelf(hz, db, rate_hz, 1.0)
    }

    /// All over a frequency by so many dB, with a slope of 1.
    pub(crate) fn high_shelf(hz: f64, db: f64, rate_hz: f64) -> Self {
        Self::shelf(hz, db, rate_hz, -1.0)
    }

    /// The cookbook's two shelves differ in the sign of the cosine, and of what stands beside z⁻¹.
    fn shelf(hz: f64, db: f64, rate_hz: f64, low: f64) -> Self {
        let (a, w) = (libm::pow(10.0, db / 40.0), angle(hz, rate_hz));
        let cos = low * libm::cos(w);
        let beside = 2.0 * libm::sqrt(a) * libm::sin(w) / 2.0 * std::f64::consts::SQRT_2;
        Self::of(
            [
                a * ((a + 1.0) - (a - 1.0) * cos + beside),
                low * 2.0 * a * ((a - 1.0) - (a + 1.0) * cos),
                a * ((a + 1.0) - (a - 1.0) * cos - beside),
            ],
            [
                (a + 1.0) + (a - 1.0) * cos + beside,
                low * -2.0 * ((a - 1.0) + (a + 1.0) * cos),
                (a + 1.0) + (a - 1.0) * cos - beside,
            ],
        )
    }
}

/// A biquad of two sides.
#[derive(Debug, Clone, Default)]
pub(crate) struct Biquad {
    pub(crate) set: Coefficients,
    /// Of each side what went in last and before that, and what came out.
    state: [[f64; 4]; 2],
}

impl Biquad {
    pub(crate) fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let Coefficients { b, a } = self.set;
        for (side, state) in [left, right].into_iter().zip(&mut self.state) {
            for frame in side {
                let x = f64::from(*frame);
                // Direct form 1: what it keeps is sound, whatever it is set to, so that nothing jumps where it is set to something else.
                let [x1, x2, y1, y2] = *state;
                let y = b[0] * x + b[1] * x1 + b[2] * x2 - a[0] * y1 - a[1] * y2;
                *state = [x, x1, y, y1];
                *frame = y as f32;
            }
        }
    }

    pub(crate) fn clear(&mut self) {
        self.state = Default::default();
    }
}

/// Low-pass of one pole.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct OnePole {
    keeps: f32,
    state: f32,
}

impl OnePole {
    /// 3 dB down at a frequency: of 1 − p over 1 − p·z⁻¹ (Orfanidis, *Introduction to Signal Processing*, 2010, 7.2: the pole that halves the power there).
    pub(crate) fn set(&mut self, hz: f64, rate_hz: f64) {
        let open = 2.0 - libm::cos(angle(hz, rate_hz));
        self.keeps = (open - libm::sqrt(open * open - 1.0)) as f32;
    }

    pub(crate) fn next(&mut self, x: f32) -> f32 {
        self.state = x + (self.state - x) * self.keeps;
        self.state
    }

    pub(crate) fn clear(&mut self) {
        self.state = 0.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    /// What is heard of a sine, in dB, by the coefficients alone.
    fn response_db(set: Coefficients, hz: f64) -> f64 {
        let w = 2.0 * PI * hz / RATE;
        let sum = |c: [f64; 3]| {
            let re = c[0] + c[1] * w.cos() + c[2] * (2.0 * w).cos();
            let im = -c[1] * w.sin() - c[2] * (2.0 * w).sin();
            re * re + im * im
        };
        10.0 * (sum(set.b) / sum([1.0, set.a[0], set.a[1]])).log10()
    }

    /// The cookbook's analogue prototypes at the frequency that the bilinear transform has for one: s = j·tan(w/2)/tan(w0/2).
    fn prototype_db(of: &str, hz: f64, at: f64, q: f64, db: f64) -> f64 {
        let s = (PI * hz / RATE).tan() / (PI * at / RATE).tan();
        let a = 10f64.powf(db / 40.0);
        // Of real and imaginary parts of numerator and denominator.
        let (top, bottom) = match of {
            "peak" => ((1.0 - s * s, s * a / q), (1.0 - s * s, s / (a * q))),
            "low" => (
                (a * (a - s * s), a * a.sqrt() / q * s),
                (1.0 - a * s * s, a.sqrt() / q * s),
            ),
            _ => (
                (a * (1.0 - a * s * s), a * a.sqrt() / q * s),
                (a - s * s, a.sqrt() / q * s),
            ),
        };
        let power = |(re, im): (f64, f64)| re * re + im * im;
        10.0 * (power(top) / power(bottom)).log10()
    }

    #[test]
    fn bells_and_shelves_are_those_of_the_cookbook() {
        for db in [-18.0, -3.0, 0.0, 6.0, 18.0] {
            for at in [60.0, 1_000.0, 9_000.0] {
                for hz in [20.0, 200.0, 1_000.0, 5_000.0, 15_000.0, 22_000.0] {
                    let peak = Coefficients::peak(at, 0.9, db, RATE);
                    let low = Coefficients::low_shelf(at, db, RATE);
                    let high = Coefficients::high_shelf(at, db, RATE);
                    // A slope of 1 is a Q of 1/√2.
                    let flat = std::f64::consts::FRAC_1_SQRT_2;
                    for (set, of, q) in [(peak, "peak", 0.9), (low, "low", flat), (high, "high", flat)] {
                        let (is, meant) = (response_db(set, hz), prototype_db(of, hz, at, q, db));
                        assert!((is - meant).abs() < 1e-6, "{of} {db} {at} {hz}: {is} {meant}");
                    }
                }
            }
        }
    }

    #[test]
    fn what_runs_is_what_the_coefficients_say() {
        let set = Coefficients::high_shelf(2_000.0, -9.0, RATE);
        for hz in [150.0, 2_000.0, 9_000.0] {
            let mut biquad = Biquad {
                set,
                ..Biquad::default()
            };
            let sine = |n: usize| (2.0 * PI * hz * n as f64 / RATE).sin() as f32;
            let (mut left, mut right) = (
                (0..9_600).map(sine).collect::<Vec<_>>(),
                (0..9_600).map(sine).collect::<Vec<_>>(),
            );
            biquad.run(&mut left, &mut right);
            let power = |side: &[f32]| side[4_800..].iter().map(|x| f64::from(x * x)).sum::<f64>() / 4_800.0;
            let db = 10.0 * (2.0 * power(&left)).log10();
            assert!((db - response_db(set, hz)).abs() < 0.01, "{hz}: {db}");
            assert_eq!(left, right);
        }
    }

    #[test]
    fn one_pole_is_3_db_down_where_it_is_said_to_be() {
        let mut pole = OnePole::default();
        pole.set(3_000.0, RATE);
        let p = f64::from(pole.keeps);
        let w: f64 = 2.0 * PI * 3_000.0 / RATE;
        let power = (1.0 - p).powi(2) / (1.0 - 2.0 * p * w.cos() + p * p);
        assert!((10.0 * power.log10() + 3.0103).abs() < 0.001);
    }
}
