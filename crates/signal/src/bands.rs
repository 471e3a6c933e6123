//! Levels of bands of equal ratio over time: the colour of a sound as it goes.

use crate::fft;
use rustfft::Fft;
use rustfft::num_complex::Complex;
use std::sync::Arc;

/// Bands of one moment.
pub(crate) const BANDS: usize = 24;
/// Levels of one moment, in dB.
pub(crate) type Levels = [f32; BANDS];

const FROM_HZ: f64 = 60.0;
const TO_HZ: f64 = 16_000.0;
/// What is further under the loudest moment of all bands counts as that far under it: 50 dB, as a power.
const FAINTEST: f32 = 1e-5;
/// Bands that never come within this of the loudest are not heard beside it, in dB.
const FAINT_DB: f32 = 50.0;

/// Makes [`Levels`] of sounds of one rate: Hann windows of 20 ms.
pub(crate) struct Bands {
    window: Vec<f32>,
    /// Frames from one moment to the next: 10 ms.
    pub(crate) hop: usize,
    /// First bin of each band, and the first after the last.
    edges: [usize; BANDS + 1],
    fft: Arc<dyn Fft<f32>>,
    /// Two windows at once, one as the real part and one as the imaginary.
    both: Vec<Complex<f32>>,
    scratch: Vec<Complex<f32>>,
}

impl Bands {
    pub(crate) fn new(rate_hz: u32) -> Self {
        Self::of_window(rate_hz, ((0.02 * f64::from(rate_hz)) as usize).max(8))
    }

    /// Of windows of nearly the same length, whose spectra are made faster.
    pub(crate) fn fast(rate_hz: u32) -> Self {
        Self::of_window(rate_hz, fft::near_len(0.02 * f64::from(rate_hz)))
    }

    fn of_window(rate_hz: u32, frames: usize) -> Self {
        let rate = f64::from(rate_hz);
        let window = (0..frames)
            .map(|n| {
                let turn = n as f64 / (frames - 1) as f64;
                (0.5 - 0.5 * (std::f64::consts::TAU * turn).cos()) as f32
            })
            .collect();
        let fft = fft::complex(frames);
        let top = TO_HZ.min(rate / 2.0 * 0.95).max(FROM_HZ * 2.0);
        let edges = std::array::from_fn(|n| {
            let hz = FROM_HZ * (top / FROM_HZ).powf(n as f64 / BANDS as f64);
            ((hz * frames as f64 / rate).ceil() as usize).min(frames / 2 + 1)
        });
        Self {
            hop: ((0.01 * rate) as usize).max(1),
            edges,
            both: vec![Complex::default(); frames],
            scratch: vec![Complex::default(); fft.get_inplace_scratch_len()],
            fft,
            window,
        }
    }

    /// Frames of one window.
    pub(crate) fn window(&self) -> usize {
        self.window.len()
    }

    /// Power in each band of the windows that begin at two frames. Two real sounds are transformed as one complex one, and taken apart by the
    /// symmetry of their spectra (Press et al., *Numerical Recipes*, "FFT of Two Real Functions").
    fn powers_of_two(&mut self, samples: &[f32], at: [usize; 2]) -> [Levels; 2] {
        let frames = self.window.len();
        let [a, b] = at.map(|at| &samples[at..at + frames]);
        for (((slot, x), y), w) in self.both.iter_mut().zip(a).zip(b).zip(&self.window) {
            *slot = Complex::new(x * w, y * w);
        }
        self.fft.process_with_scratch(&mut self.both, &mut self.scratch);
        let mut powers = [[0.0f32; BANDS]; 2];
        let [of_a, of_b] = &mut powers;
        for ((edges, of_a), of_b) in self.edges.windows(2).zip(of_a).zip(of_b) {
            let (first, end) = (edges[0], edges[1]);
            // The bin that mirrors one lies as far from the end.
            let mirrored = self.both[frames + 1 - end.max(1)..frames + 1 - first.max(1)]
                .iter()
                .rev();
            for (z, y) in self.both[first..end].iter().zip(mirrored) {
                let (sum, difference) = (z + y, z - y);
                *of_a += sum.re * sum.re + difference.im * difference.im;
                *of_b += sum.im * sum.im + difference.re * difference.re;
            }
        }
        powers.map(|of| of.map(|x| x / 4.0))
    }

    /// Power in each band of the windows that begin at some frames, as many of them as lie inside.
    pub(crate) fn at_all(&mut self, samples: &[f32], places: impl Iterator<Item = usize>) -> Vec<Levels> {
        let last = samples.len().checked_sub(self.window.len());
        let mut places = places.take_while(|at| last.is_some_and(|last| *at <= last));
        let mut all = Vec::with_capacity(places.size_hint().0);
        while let Some(at) = places.next() {
            let next = places.next();
            let [first, second] = self.powers_of_two(samples, [at, next.unwrap_or(at)]);
            all.push(first);
            all.extend(next.map(|_| second));
        }
        all
    }

    /// Powers of all moments that lie inside, every `hop` frames.
    pub(crate) fn over(&mut self, samples: &[f32], hop: usize) -> Vec<Levels> {
        self.at_all(samples, (0..).step_by(hop))
    }
}

/// The highest power in any band.
pub(crate) fn loudest(powers: &[Levels]) -> f32 {
    powers.iter().flatten().copied().fold(0.0, f32::max)
}

/// In dB, over a floor 50 dB under the loudest.
pub(crate) fn in_db(powers: &[Levels], loudest: f32) -> Vec<Levels> {
    let floor = (loudest * FAINTEST).max(f32::MIN_POSITIVE);
    powers
        .iter()
        .map(|of| std::array::from_fn(|band| 10.0 * (of[band] + floor).log10()))
        .collect()
}

/// The bands that are heard at some moment.
pub(crate) fn heard(levels: &[Levels]) -> Vec<usize> {
    let top: Levels = std::array::from_fn(|band| levels.iter().map(|of| of[band]).fold(f32::MIN, f32::max));
    let over = top.iter().copied().fold(f32::MIN, f32::max) - FAINT_DB;
    (0..BANDS).filter(|&band| top[band] > over).collect()
}

/// How far two moments lie apart: RMS over some bands, in dB.
pub(crate) fn apart(a: &Levels, b: &Levels, bands: &[usize]) -> f32 {
    let sum: f32 = bands.iter().map(|&band| (a[band] - b[band]).powi(2)).sum();
    (sum / bands.len().max(1) as f32).sqrt()
}

/// In dB, with no floor but what numbers hold.
pub(crate) fn raw_db(powers: &Levels) -> Levels {
    const DB_PER_OCTAVE: f32 = 3.010_3;
    powers.map(|x| DB_PER_OCTAVE * (x + 1e-20).log2())
}

/// What is so far under the loudest moment is silence, in dB.
const SILENT_DB: f32 = 90.0;

/// How loud each moment of a stretch of [`raw_db`] is, in dB; silence is 90 dB under the loudest.
pub(crate) fn loudness_db(stretch: &[Levels]) -> Vec<f32> {
    let all: Vec<f32> = stretch
        .iter()
        .map(|of| {
            let power: f32 = of.iter().map(|db| 10f32.powf(db / 10.0)).sum();
            10.0 * power.max(f32::MIN_POSITIVE).log10()
        })
        .collect();
    let loudest = all.iter().copied().fold(f32::MIN, f32::max);
    all.into_iter().map(|db| db.max(loudest - SILENT_DB)).collect()
}

/// Which bands are heard beside the rest, and what is under the floor: levels of one stretch are compared by it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Ear {
    /// 1 for a band that is heard, else 0.
    heard: Levels,
    bands: f32,
    floor_db: f32,
}

impl Ear {
    /// For a stretch of [`raw_db`]. Empty stretches are heard wholly.
    pub(crate) fn of(stretch: &[Levels]) -> Self {
        let mut top = [-200.0f32; BANDS];
        for of in stretch {
            for band in 0..BANDS {
                top[band] = top[band].max(of[band]);
            }
        }
        let floor_db = top.iter().copied().fold(f32::MIN, f32::max) - FAINT_DB;
        let heard = top.map(|x| if x > floor_db { 1.0 } else { 0.0 });
        Self {
            bands: heard.iter().sum::<f32>().max(1.0),
            heard,
            floor_db,
        }
    }

    /// What is heard of a moment: nothing under the floor, and of bands that are not heard nothing.
    pub(crate) fn heard(&self, of: &Levels) -> Levels {
        std::array::from_fn(|band| of[band].max(self.floor_db) * self.heard[band])
    }

    /// How many bands are heard.
    pub(crate) fn bands(&self) -> f32 {
        self.bands
    }

    /// How far two moments lie apart: RMS over the bands that are heard, in dB.
    pub(crate) fn apart(&self, a: &Levels, b: &Levels) -> f64 {
        // In eight sums, so that they are made side by side.
        let mut sums = [0.0f32; 8];
        for first in (0..BANDS).step_by(8) {
            for (n, sum) in sums.iter_mut().enumerate() {
                let band = first + n;
                let apart = a[band].max(self.floor_db) - b[band].max(self.floor_db);
                *sum += apart * apart * self.heard[band];
            }
        }
        let sum: f32 = sums.iter().sum();
        f64::from((sum / self.bands).sqrt())
    }
}
