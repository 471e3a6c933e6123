//! Reading a sample between its frames: a windowed sinc, its cutoff lowered where the sample runs faster than it was recorded.

use wide::f32x4;

/// Positions between two frames for which coefficients are kept; between them they are interpolated.
const PHASES: usize = 512;
/// Frames on either side at the recorded speed; more where the cutoff is lower.
const HALF_TAPS: usize = 12;
/// One set of coefficients for each third of an octave upward, two octaves in all.
const SETS_PER_OCTAVE: usize = 3;
const OCTAVES: usize = 2;

/// Widest stretch read on either side of a position.
pub(crate) const WIDEST_HALF: usize = HALF_TAPS << OCTAVES;

/// Whether what is being compiled may fuse a product and a sum.
#[cfg(not(target_arch = "wasm32"))]
macro_rules! has_fused {
    () => {
        multiversion::target::target_cfg_f!(target_feature = "fma")
    };
}
#[cfg(target_arch = "wasm32")]
macro_rules! has_fused {
    () => {
        false
    };
}

fn lanes(samples: &[f32]) -> impl Iterator<Item = f32x4> {
    samples
        .as_chunks()
        .0
        .iter()
        .map(|&four: &[f32; 4]| f32x4::from(four))
}

/// Coefficients for one speed and those below it.
pub(crate) struct Set {
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
    fn go_on(&mut self) {
        self.position += self.ratio;
        self.ratio += self.steeper;
    }
}

/// Two sides, with eight lanes and fused sums where the processor has them.
#[cfg_attr(
    not(target_arch = "wasm32"),
    multiversion::multiversion(targets("x86_64+avx+avx2+fma"))
)]
fn read_two(
    set: &Set,
    (one, other): (&[f32], &[f32]),
    place: &mut Place,
    left: &mut [f32],
    right: &mut [f32],
) -> usize {
    let taps = 2 * set.half;
    let mut read = 0;
    for (l, r) in left.iter_mut().zip(right) {
        let frame = place.position as usize;
        let (Some(x), Some(y)) = (one.get(frame..frame + taps), other.get(frame..frame + taps)) else {
            break;
        };
        let fraction = place.position - frame as f64;
        let (low, high, between) = set.rows(fraction);
        [*l, *r] = if has_fused!() {
            fused_two((low, high, between), x, y)
        } else {
            set.values(fraction, x, y)
        };
        place.go_on();
        read += 1;
    }
    read
}

/// The same of one side.
#[cfg_attr(
    not(target_arch = "wasm32"),
    multiversion::multiversion(targets("x86_64+avx+avx2+fma"))
)]
fn read_one(set: &Set, one: &[f32], place: &mut Place, left: &mut [f32]) -> usize {
    let taps = 2 * set.half;
    let mut read = 0;
    for l in left {
        let frame = place.position as usize;
        let Some(x) = one.get(frame..frame + taps) else {
            break;
        };
        let fraction = place.position - frame as f64;
        *l = if has_fused!() {
            fused_one(set.rows(fraction), x)
        } else {
            set.value(fraction, x)
        };
        place.go_on();
        read += 1;
    }
    read
}

/// Two rows of coefficients, and the share of the second.
type Rows<'a> = (&'a [f32], &'a [f32], f32);

#[inline(always)]
fn fused_two((low, high, between): Rows, one: &[f32], other: &[f32]) -> [f32; 2] {
    let (mut sum, mut other_sum) = ([0.0f32; 8], [0.0f32; 8]);
    let windows = one.as_chunks().0.iter().zip(other.as_chunks().0);
    for ((l, h), (x, y)) in low.as_chunks().0.iter().zip(high.as_chunks().0).zip(windows) {
        let (l, h, x, y): (&[f32; 8], &[f32; 8], &[f32; 8], &[f32; 8]) = (l, h, x, y);
        for n in 0..8 {
            let weight = (h[n] - l[n]).mul_add(between, l[n]);
            sum[n] = x[n].mul_add(weight, sum[n]);
            other_sum[n] = y[n].mul_add(weight, other_sum[n]);
        }
    }
    [in_pairs(sum), in_pairs(other_sum)]
}

#[inline(always)]
fn fused_one((low, high, between): Rows, one: &[f32]) -> f32 {
    let mut sum = [0.0f32; 8];
    for ((l, h), x) in low
        .as_chunks()
        .0
        .iter()
        .zip(high.as_chunks().0)
        .zip(one.as_chunks().0)
    {
        let (l, h, x): (&[f32; 8], &[f32; 8], &[f32; 8]) = (l, h, x);
        for n in 0..8 {
            let weight = (h[n] - l[n]).mul_add(between, l[n]);
            sum[n] = x[n].mul_add(weight, sum[n]);
        }
    }
    in_pairs(sum)
}

#[inline(always)]
fn in_pairs(sum: [f32; 8]) -> f32 {
    let four = [sum[0] + sum[4], sum[1] + sum[5], sum[2] + sum[6], sum[3] + sum[7]];
    (four[0] + four[2]) + (four[1] + four[3])
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
        match other {
            Some(other) => read_two(self, (one, other), place, left, right),
            None => {
                let read = read_one(self, one, place, left);
                right[..read].copy_from_slice(&left[..read]);
                read
            }
        }
    }

    /// The value at `fraction` after the frame in the middle of `window` (`2·half` frames, the middle one at `half − 1`).
    #[inline]
    pub(crate) fn value(&self, fraction: f64, window: &[f32]) -> f32 {
        let (low, high, between) = self.rows(fraction);
        let (mut sum, between) = (f32x4::ZERO, f32x4::splat(between));
        for ((l, h), x) in lanes(low).zip(lanes(high)).zip(lanes(window)) {
            sum += x * (l + (h - l) * between);
        }
        sum.reduce_add()
    }

    /// The same of two channels.
    #[inline]
    pub(crate) fn values(&self, fraction: f64, window: &[f32], other: &[f32]) -> [f32; 2] {
        let (low, high, between) = self.rows(fraction);
        let (mut sum, mut other_sum, between) = (f32x4::ZERO, f32x4::ZERO, f32x4::splat(between));
        let windows = lanes(window).zip(lanes(other));
        for ((l, h), (x, y)) in lanes(low).zip(lanes(high)).zip(windows) {
            let weight = l + (h - l) * between;
            sum += x * weight;
            other_sum += y * weight;
        }
        [sum.reduce_add(), other_sum.reduce_add()]
    }

    #[inline]
    fn rows(&self, fraction: f64) -> Rows<'_> {
        let taps = 2 * self.half;
        let place = fraction * PHASES as f64;
        let phase = (place as usize).min(PHASES - 1);
        let rows = &self.coefficients[phase * taps..(phase + 2) * taps];
        (&rows[..taps], &rows[taps..], (place - phase as f64) as f32)
    }
}
