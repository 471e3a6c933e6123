//! A voice's filter: one, two or four poles, low-, high-, band-pass or notch, whose cutoff may move.
//!
//! Integrators that keep their trapezoids (Zavalishin, *The Art of VA Filter Design*, 2012; the two-pole form as Simper gives it, 2013): the response
//! is that of the analogue filter through the bilinear transform, warped so that the cutoff lies where it is said to, and it stays as quiet while the
//! cutoff moves.

use program::{Filter, Passes};
use std::f64::consts::{FRAC_1_SQRT_2, PI};
use wide::f32x4;

/// No cutoff is higher, as a share of the rate, or lower, in Hz.
const HIGHEST_SHARE: f64 = 0.49;
const LOWEST_HZ: f64 = 5.0;
/// The duller of Butterworth's two for 4 poles: 1 / (2·cos(π/8)).
const FLAT_Q: f64 = 0.541_196_100_146_197;
/// What is taken away is made up by so much at most: 24 dB.
const MOST_MADE_UP: f32 = 16.0;
/// How fast it follows what it has to make up.
const FOLLOWS_MS: f64 = 50.0;

/// What a filter is at one moment.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Coefficients {
    /// tan(π·cutoff/rate).
    g: f32,
    /// 1/Q of each of two sections.
    k: [f32; 2],
}

/// What its coefficients follow from.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Given {
    passes: Passes,
    poles: u8,
    cutoff_hz: f64,
    resonance_db: f64,
}

/// Two integrators of two sides.
type Integrators = [[f32; 2]; 2];

/// A filter, and what it keeps of the sound.
#[derive(Debug, Clone, Copy)]
pub(crate) struct VoiceFilter {
    passes: Passes,
    poles: u8,
    makes_up: bool,
    given: Given,
    now: Coefficients,
    state: [Integrators; 2],
    /// Mean squares of what went in and what came out, and the gain that makes one of the other.
    powers: [f32; 2],
    gain: f32,
    follows: f32,
}

impl Given {
    fn of(filter: &Filter, cutoff_hz: f64, resonance_db: f64) -> Self {
        Self {
            passes: filter.passes,
            poles: filter.poles,
            cutoff_hz,
            resonance_db,
        }
    }

    fn g(&self, rate_hz: f64) -> f32 {
        let cutoff = self.cutoff_hz.clamp(LOWEST_HZ, HIGHEST_SHARE * rate_hz);
        libm::tan(PI * cutoff / rate_hz) as f32
    }

    /// With Butterworth's Q for 2 poles and his two for 4 where the resonance is 0; else so that at the cutoff it is as far over what passes as the
    /// resonance says, within 0.3 dB from 3 dB on: our own way from the one to the other.
    fn k(&self) -> [f32; 2] {
        let raised = libm::pow(10.0, self.resonance_db.clamp(0.0, 60.0) / 10.0);
        let at_cutoff = libm::sqrt(raised - 0.5 / (raised * raised));
        // Of Butterworth's four poles the two that are sharper resonate.
        let (q, other) = match self.poles {
            4 if matches!(self.passes, Passes::Low | Passes::High) => (at_cutoff / FLAT_Q, FLAT_Q),
            _ => (at_cutoff, FRAC_1_SQRT_2),
        };
        [(1.0 / q) as f32, (1.0 / other) as f32]
    }

    fn coefficients(&self, rate_hz: f64) -> Coefficients {
        Coefficients {
            g: self.g(rate_hz),
            k: self.k(),
        }
    }

    /// The same, where those of what was given before are known.
    fn coefficients_after(&self, before: &Self, known: Coefficients, rate_hz: f64) -> Coefficients {
        Coefficients {
            g: if self.cutoff_hz == before.cutoff_hz {
                known.g
            } else {
                self.g(rate_hz)
            },
            k: if (Self {
                cutoff_hz: before.cutoff_hz,
                ..*self
            }) == *before
            {
                known.k
            } else {
                self.k()
            },
        }
    }
}

impl VoiceFilter {
    pub(crate) fn new(filter: &Filter, cutoff_hz: f64, resonance_db: f64, rate_hz: f64) -> Self {
        let given = Given::of(filter, cutoff_hz, resonance_db);
        Self {
            passes: filter.passes,
            poles: filter.poles,
            makes_up: filter.makes_up,
            given,
            now: given.coefficients(rate_hz),
            state: [[[0.0; 2]; 2]; 2],
            powers: [0.0; 2],
            gain: 1.0,
            follows: (1.0 / (FOLLOWS_MS / 1000.0 * rate_hz)) as f32,
        }
    }

    /// Takes another form from now on, with what it keeps of the sound.
    pub(crate) fn follow(&mut self, filter: &Filter) {
        (self.passes, self.poles, self.makes_up) = (filter.passes, filter.poles, filter.makes_up);
    }

    /// Filters both sides in place; by their end it has got to the cutoff and resonance.
    pub(crate) fn run(&mut self, to: (&Filter, f64, f64), rate_hz: f64, left: &mut [f32], right: &mut [f32]) {
        let (filter, cutoff_hz, resonance_db) = to;
        let given = Given::of(filter, cutoff_hz, resonance_db);
        let to = given.coefficients_after(&self.given, self.now, rate_hz);
        let before = if self.makes_up { power(left, right) } else { 0.0 };
        let share = 1.0 / left.len().max(1) as f32;
        let g = Ramp::new(self.now.g, to.g, share);
        match self.poles {
            0 | 1 => one_pole(self.passes, g, &mut self.state[0], left, right),
            poles => {
                let sections = self.state.iter_mut().zip(self.now.k.into_iter().zip(to.k));
                for (state, (k, to_k)) in sections.take(usize::from(poles / 2)) {
                    let k = Ramp::new(k, to_k, share);
                    // Which of its outputs is heard is known before the first frame.
                    let sides = (&mut *left, &mut *right);
                    match self.passes {
                        Passes::Low => two_poles(g, k, state, sides, |_, _, v2, _| v2),
                        Passes::High => two_poles(g, k, state, sides, |v0, v1, v2, k| v0 - k * v1 - v2),
                        // Whole at its middle.
                        Passes::Band => two_poles(g, k, state, sides, |_, v1, _, k| k * v1),
                        Passes::Notch => two_poles(g, k, state, sides, |v0, v1, _, k| v0 - k * v1),
                    }
                }
            }
        }
        (self.given, self.now) = (given, to);
        if self.makes_up {
            self.make_up(before, left, right);
        }
    }

    fn make_up(&mut self, before: f32, left: &mut [f32], right: &mut [f32]) {
        let share = (self.follows * left.len() as f32).min(1.0);
        let after = power(left, right);
        let begins = self.powers[0] == 0.0;
        for (kept, new) in self.powers.iter_mut().zip([before, after]) {
            *kept = if begins {
                new
            } else {
                *kept + (new - *kept) * share
            };
        }
        let to = (self.powers[0] / self.powers[1].max(1e-12))
            .sqrt()
            .min(MOST_MADE_UP);
        if begins {
            self.gain = to;
        }
        let step = (to - self.gain) / left.len().max(1) as f32;
        for (l, r) in left.iter_mut().zip(right) {
            self.gain += step;
            *l *= self.gain;
            *r *= self.gain;
        }
    }
}

fn power(left: &[f32], right: &[f32]) -> f32 {
    left.iter().chain(right).map(|x| x * x).sum::<f32>() / (2 * left.len().max(1)) as f32
}

/// From one value to another, evenly over some frames.
#[derive(Debug, Clone, Copy)]
struct Ramp {
    now: f32,
    step: f32,
}

impl Ramp {
    fn new(from: f32, to: f32, share: f32) -> Self {
        Self {
            now: from,
            step: (to - from) * share,
        }
    }

    #[inline(always)]
    fn next(&mut self) -> f32 {
        self.now += self.step;
        self.now
    }
}

fn one_pole(passes: Passes, mut g: Ramp, state: &mut Integrators, left: &mut [f32], right: &mut [f32]) {
    for (l, r) in left.iter_mut().zip(right) {
        let g = g.next();
        let share = g / (1.0 + g);
        for (side, z) in [l, r].into_iter().zip(&mut state[0]) {
            let v = (*side - *z) * share;
            let low = v + *z;
            *z = low + v;
            *side = match passes {
                Passes::High => *side - low,
                _ => low,
            };
        }
    }
}

/// What is heard is taken of what goes in, the two integrators' outputs and 1/Q. Both sides are lanes of one vector.
#[inline(always)]
fn two_poles(
    mut g: Ramp,
    mut k: Ramp,
    state: &mut Integrators,
    (left, right): (&mut [f32], &mut [f32]),
    heard: impl Fn(f32x4, f32x4, f32x4, f32x4) -> f32x4,
) {
    let [mut first, mut second] = state.map(|[l, r]| f32x4::from([l, r, 0.0, 0.0]));
    let two = f32x4::splat(2.0);
    for (l, r) in left.iter_mut().zip(right) {
        let (g, k) = (g.next(), k.next());
        let a1 = 1.0 / (1.0 + g * (g + k));
        let [a1, a2, g, k] = [a1, g * a1, g, k].map(f32x4::splat);
        let v0 = f32x4::from([*l, *r, 0.0, 0.0]);
        // As little as can be between one frame's integrators and the next one's.
        let v1 = (a2 * v0 + a1 * first) - a2 * second;
        let [heard_l, heard_r, ..] = heard(v0, v1, second + g * v1, k).to_array();
        first = two * v1 - first;
        second += (two * g) * v1;
        (*l, *r) = (heard_l, heard_r);
    }
    *state = [first, second].map(|sides| {
        let [l, r, ..] = sides.to_array();
        [l, r]
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    fn filter(passes: Passes, poles: u8) -> Filter {
        Filter {
            passes,
            poles,
            cutoff_hz: 1_000.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        }
    }

    /// What it does to a sine, in dB, after it has settled.
    fn db_at(filter: &Filter, hz: f64) -> f64 {
        let mut voice = VoiceFilter::new(filter, filter.cutoff_hz, filter.resonance_db, RATE);
        let to = (filter, filter.cutoff_hz, filter.resonance_db);
        let (mut inside, mut outside) = (0.0, 0.0);
        let mut frame = 0u32;
        for block in 0..750 {
            let sine = |n: u32| (f64::from(n) / RATE * hz * std::f64::consts::TAU).sin() as f32;
            let mut left: Vec<f32> = (0..128).map(|n| sine(frame + n)).collect();
            let mut right = left.clone();
            frame += 128;
            let before = power(&left, &right);
            voice.run(to, RATE, &mut left, &mut right);
            if block >= 375 {
                inside += f64::from(before);
                outside += f64::from(power(&left, &right));
            }
        }
        10.0 * (outside / inside).log10()
    }

    #[test]
    fn the_cutoff_lies_three_decibels_down_within_a_hundredth() {
        for passes in [Passes::Low, Passes::High] {
            for poles in [1, 2, 4] {
                for cutoff_hz in [100.0, 1_000.0, 8_000.0] {
                    let filter = Filter {
                        cutoff_hz,
                        ..filter(passes, poles)
                    };
                    let (below, above) = (db_at(&filter, cutoff_hz * 0.99), db_at(&filter, cutoff_hz * 1.01));
                    let (loud, soft) = match passes {
                        Passes::Low => (below, above),
                        _ => (above, below),
                    };
                    assert!(
                        loud > -3.01 && soft < -3.01,
                        "{passes:?} {poles} {cutoff_hz}: {loud} {soft}"
                    );
                }
            }
        }
    }

    #[test]
    fn slopes_are_six_decibels_an_octave_and_pole() {
        for poles in [1u8, 2, 4] {
            let low = Filter {
                cutoff_hz: 200.0,
                ..filter(Passes::Low, poles)
            };
            let high = Filter {
                cutoff_hz: 4_000.0,
                ..filter(Passes::High, poles)
            };
            let falls = db_at(&low, 1_600.0) - db_at(&low, 3_200.0);
            let rises = db_at(&high, 500.0) - db_at(&high, 250.0);
            let wanted = 6.02 * f64::from(poles);
            assert!(
                (falls - wanted).abs() < 1.0 && (rises - wanted).abs() < 1.0,
                "{falls} {rises}"
            );
        }
    }

    #[test]
    fn resonance_raises_the_cutoff_by_what_is_said_and_a_notch_takes_it_away() {
        for (passes, poles) in [(Passes::Low, 2), (Passes::High, 2), (Passes::Low, 4)] {
            let at = |resonance_db| {
                db_at(
                    &Filter {
                        resonance_db,
                        ..filter(passes, poles)
                    },
                    1_000.0,
                )
            };
            assert!(
                (at(0.0) + 3.01).abs() < 0.01 && (at(3.0) - 3.0).abs() < 0.3 && (at(12.0) - 12.0).abs() < 0.1
            );
        }
        assert!(db_at(&filter(Passes::Notch, 2), 1_000.0) < -60.0);
        assert!(db_at(&filter(Passes::Notch, 4), 100.0).abs() < 0.2);
        for poles in [2, 4] {
            let band = filter(Passes::Band, poles);
            assert!(db_at(&band, 1_000.0).abs() < 0.05);
            assert!(db_at(&band, 100.0) < -8.0 * f64::from(poles));
        }
    }

    #[test]
    fn what_it_takes_away_is_made_up() {
        let low = Filter {
            makes_up: true,
            ..filter(Passes::Low, 2)
        };
        assert!((db_at(&low, 2_000.0)).abs() < 0.1);
        // But not more than there can be.
        assert!(db_at(&low, 12_000.0) < -15.0);
    }

    /// The largest change from one frame to the next but one, against that of the sine alone.
    #[test]
    fn a_cutoff_that_moves_through_all_octaves_does_not_click() {
        let moves = filter(Passes::Low, 4);
        let mut voice = VoiceFilter::new(&moves, 10_000.0, 20.0, RATE);
        let mut all = Vec::new();
        for block in 0..400usize {
            let sine =
                |n: usize| ((block * 32 + n) as f64 / RATE * 200.0 * std::f64::consts::TAU).sin() as f32;
            let mut left: Vec<f32> = (0..32).map(sine).collect();
            let mut right = left.clone();
            let cutoff = 10_000.0 * (-(block as f64) / 400.0 * 3.0).exp2();
            voice.run((&moves, cutoff, 20.0), RATE, &mut left, &mut right);
            all.extend(left);
        }
        let bend = all[1_000..]
            .windows(3)
            .map(|w| (w[2] - 2.0 * w[1] + w[0]).abs())
            .fold(0.0, f32::max);
        // That of a sine of amplitude 1 at 200 Hz is (2π·200/48000)² = 0.0007.
        assert!(bend < 0.003, "{bend}");
    }
}
