//! Reading a sample between its frames: a windowed sinc, its cutoff lowered where the sample runs faster than it was recorded.

mod lanes;

use lanes::{Fours, LANES, Lanes, Weights};

/// Positions between two frames for which coefficients are kept; between them they are interpolated.
const PHASES: usize = 512;
/// Frames on either side at the recorded speed; more where the cutoff is lower.
const HALF_TAPS: usize = 12;
/// One set of coefficients for each third of an octave upward, two octaves in all.
const SETS_PER_OCTAVE: usize = 3;
const OCTAVES: usize = 2;

/// Widest stretch read on either side of a position.
pub(crate) const WIDEST_HALF: usize = HALF_TAPS << OCTAVES;

/// Coefficients for one speed and those below it.
pub(crate) struct Set {
    half: usize,
    /// Of each phase `2·half` coefficients in eights, each with how far those of the next phase are from them.
    coefficients: Vec<Weights>,
}

/// Coefficients for every speed.
pub(crate) struct Interpolator {
    sets: Vec<Set>,
}

/// Zeroth-order modified Bessel function, by its power series (Abramowitz & Stegun 9.6.12).
fn bessel_i0(x: f64) -> f64 {
    let (mut sum, mut term) = (1.0, 1.0);
    for k in 1..60 {
        term *= (x / (2.0 * f64::from(k))) * (x / (2.0 * f64::from(k)));
        sum += term;
    }
    sum
}

impl Interpolator {
    pub(crate) fn new() -> Self {
        let sets = (0..=SETS_PER_OCTAVE * OCTAVES)
            .map(|n| Set::new(libm::exp2(n as f64 / SETS_PER_OCTAVE as f64), n == 0))
            .collect();
        Self { sets }
    }

    /// What reads at a speed, in sample frames per output frame.
    pub(crate) fn at(&self, ratio: f64) -> &Set {
        let mut index = 0;
        let step = 1.259_921_049_894_873_2; // 2^(1/3)
        let mut reach = 1.000_1;
        while reach < ratio && index + 1 < self.sets.len() {
            reach *= step;
            index += 1;
        }
        &self.sets[index]
    }
}

/// Where something is read, in frames after the first that can be.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Place {
    pub(crate) position: f64,
    /// Frames from one to the next.
    pub(crate) ratio: f64,
    /// By how much that grows from one to the next.
    pub(crate) steeper: f64,
}

impl Place {
    /// So many frames later.
    fn go_on(&mut self, frames: usize) {
        let n = frames as f64;
        self.position += n * self.ratio + n * (n - 1.0) / 2.0 * self.steeper;
        self.ratio += n * self.steeper;
    }
}

impl Set {
    fn new(ratio: f64, unity: bool) -> Self {
        let eights = libm::ceil(HALF_TAPS as f64 * ratio * 2.0 / LANES as f64);
        let half = (eights as usize * LANES / 2).min(WIDEST_HALF);
        // The transition of a Kaiser window of β = 9 (90 dB) takes about 5.8/taps of the rate (Kaiser 1974).
        let transition = 5.8 / (2 * half) as f64;
        let cutoff = if unity {
            1.0 - transition / 2.0
        } else {
            (1.0 / ratio - transition / 2.0).max(0.1)
        };
        let (beta, taps) = (9.0, 2 * half);
        let row_at = |phase: usize| {
            let fraction = phase as f64 / PHASES as f64;
            let row: Vec<f64> = (0..taps)
                .map(|tap| {
                    let x = tap as f64 - (half - 1) as f64 - fraction;
                    let shape = 1.0 - (x / half as f64) * (x / half as f64);
                    let window = if shape > 0.0 {
                        bessel_i0(beta * libm::sqrt(shape)) / bessel_i0(beta)
                    } else {
                        0.0
                    };
                    let angle = std::f64::consts::PI * x * cutoff;
                    let sinc = if angle.abs() < 1e-9 {
                        1.0
                    } else {
                        libm::sin(angle) / angle
                    };
                    sinc * cutoff * window
                })
                .collect();
            let sum: f64 = row.iter().sum();
            row.into_iter().map(|c| c / sum).collect::<Vec<_>>()
        };
        let mut coefficients = Vec::with_capacity(PHASES * taps / LANES);
        let mut row = row_at(0);
        for phase in 0..PHASES {
            let next = row_at(phase + 1);
            let steps: Vec<f64> = next.iter().zip(&row).map(|(next, here)| next - here).collect();
            let eights = row.as_chunks().0.iter().zip(steps.as_chunks().0);
            coefficients.extend(eights.map(|(row, step)| Weights {
                row: row.map(|c| c as f32),
                step: step.map(|c| c as f32),
            }));
            row = next;
        }
        Self { half, coefficients }
    }

    /// Frames needed on either side of a position.
    pub(crate) fn half(&self) -> usize {
        self.half
    }

    /// Reads frames of one side or two that lie together, each so much further than the one before: how many, until what is read of ends. Both sides get
    /// the one where there is no other.
    pub(crate) fn read(
        &self,
        (one, other): (&[f32], Option<&[f32]>),
        place: &mut Place,
        (left, right): (&mut [f32], &mut [f32]),
    ) -> usize {
        let read = match other {
            Some(other) => lanes::read(self, [one, other], *place, [left, right]),
            None => {
                let read = lanes::read(self, [one], *place, [left]);
                right[..read].copy_from_slice(&left[..read]);
                read
            }
        };
        place.go_on(read);
        read
    }

    /// The value at `fraction` after the frame in the middle of `window` (`2·half` frames, the middle one at `half − 1`).
    pub(crate) fn value(&self, fraction: f64, window: &[f32]) -> f32 {
        let place = fraction * PHASES as f64;
        let phase = (place as usize).min(PHASES - 1);
        let between = Fours.all((place - phase as f64) as f32);
        let eights = self.half * 2 / LANES;
        let rows = &self.coefficients[phase * eights..(phase + 1) * eights];
        let mut sum = Fours.all(0.0);
        for (Weights { row, step }, x) in rows.iter().zip(window.as_chunks().0) {
            let weight = Fours.fused(Fours.of(step), between, Fours.of(row));
            sum = Fours.fused(Fours.of(x), weight, sum);
        }
        Fours.sum(sum)
    }
}
