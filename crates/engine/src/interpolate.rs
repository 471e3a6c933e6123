//! Reading a sample between its frames: a windowed sinc, its cutoff lowered where the sample runs faster than it was recorded.

/// Positions between two frames for which coefficients are kept; between them they are interpolated.
const PHASES: usize = 512;
/// Frames on either side at the recorded speed; more where the cutoff is lower.
const HALF_TAPS: usize = 12;
/// One set of coefficients for each third of an octave upward, two octaves in all.
const SETS_PER_OCTAVE: usize = 3;
const OCTAVES: usize = 2;

/// Widest stretch read on either side of a position.
pub(crate) const WIDEST_HALF: usize = HALF_TAPS << OCTAVES;

struct Set {
    half: usize,
    /// `(PHASES + 1) × 2·half` coefficients.
    coefficients: Vec<f32>,
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

    /// The set for a speed in sample frames per output frame.
    fn set(&self, ratio: f64) -> &Set {
        let mut index = 0;
        let step = 1.259_921_049_894_873_2; // 2^(1/3)
        let mut reach = 1.000_1;
        while reach < ratio && index + 1 < self.sets.len() {
            reach *= step;
            index += 1;
        }
        &self.sets[index]
    }

    /// Frames needed on either side of a position.
    pub(crate) fn half(&self, ratio: f64) -> usize {
        self.set(ratio).half
    }

    /// The value at `fraction` after the frame in the middle of `window` (`2·half` frames, the middle one at `half − 1`).
    pub(crate) fn value(&self, ratio: f64, fraction: f64, window: &[f32]) -> f32 {
        let set = self.set(ratio);
        let (low, high, between) = set.rows(fraction);
        let (mut a, mut b) = ([0.0f32; 4], [0.0f32; 4]);
        for ((x, l), h) in window
            .chunks_exact(4)
            .zip(low.chunks_exact(4))
            .zip(high.chunks_exact(4))
        {
            for lane in 0..4 {
                a[lane] += x[lane] * l[lane];
                b[lane] += x[lane] * h[lane];
            }
        }
        let a = (a[0] + a[1]) + (a[2] + a[3]);
        let b = (b[0] + b[1]) + (b[2] + b[3]);
        a + (b - a) * between
    }
}

impl Set {
    fn new(ratio: f64, unity: bool) -> Self {
        let half = (libm::ceil(HALF_TAPS as f64 * ratio / 2.0) as usize * 2).min(WIDEST_HALF);
        // The transition of a Kaiser window of β = 9 (90 dB) takes about 5.8/taps of the rate (Kaiser 1974).
        let transition = 5.8 / (2 * half) as f64;
        let cutoff = if unity {
            1.0 - transition / 2.0
        } else {
            (1.0 / ratio - transition / 2.0).max(0.1)
        };
        let (beta, taps) = (9.0, 2 * half);
        let mut coefficients = Vec::with_capacity((PHASES + 1) * taps);
        for phase in 0..=PHASES {
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
            coefficients.extend(row.iter().map(|c| (c / sum) as f32));
        }
        Self { half, coefficients }
    }

    fn rows(&self, fraction: f64) -> (&[f32], &[f32], f32) {
        let taps = 2 * self.half;
        let place = fraction * PHASES as f64;
        let phase = (place as usize).min(PHASES - 1);
        let rows = &self.coefficients[phase * taps..(phase + 2) * taps];
        (&rows[..taps], &rows[taps..], (place - phase as f64) as f32)
    }
}
