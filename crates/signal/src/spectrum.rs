//! The spectrum of a stretch of sound and the partials in it.

use crate::fft;

/// One spectral peak.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Partial {
    /// Frequency, between bins.
    pub hz: f64,
    /// Amplitude of the sinusoid, full scale 1.
    pub amplitude: f64,
}

/// Magnitudes of the Hann-windowed spectrum, `len/2 + 1` bins, scaled so that a sinusoid on a bin reads its amplitude.
pub(crate) fn magnitudes(samples: &[f32]) -> Vec<f64> {
    lowest_magnitudes(samples, samples.len())
}

/// The first of them.
fn lowest_magnitudes(samples: &[f32], most: usize) -> Vec<f64> {
    let len = samples.len();
    if len < 4 {
        return Vec::new();
    }
    let fft = fft::forward(len);
    let mut input: Vec<f32> = samples.iter().zip(&*fft::hann(len)).map(|(x, w)| x * w).collect();
    let mut output = fft.make_output_vec();
    if fft.process(&mut input, &mut output).is_err() {
        return Vec::new();
    }
    let scale = 4.0 / len as f64;
    output
        .iter()
        .take(most)
        .map(|bin| f64::from(bin.norm_sqr()).sqrt() * scale)
        .collect()
}

/// The spectrum in dB over `columns` bands of equal ratio between `low_hz` and half the rate: the loudest bin of each.
pub fn magnitude_spectrum_db(samples: &[f32], rate_hz: u32, low_hz: f64, columns: usize) -> Vec<f32> {
    in_bands(&magnitudes(samples), samples.len(), rate_hz, low_hz, columns)
}

fn in_bands(bins: &[f64], len: usize, rate_hz: u32, low_hz: f64, columns: usize) -> Vec<f32> {
    if bins.is_empty() {
        return vec![-140.0; columns];
    }
    let nyquist = f64::from(rate_hz) / 2.0;
    let bin_of = |column: usize| {
        let hz = low_hz * (nyquist / low_hz).powf(column as f64 / columns as f64);
        hz / f64::from(rate_hz) * len as f64
    };
    (0..columns)
        .map(|column| {
            let first = (bin_of(column) as usize).min(bins.len() - 1);
            let end = (bin_of(column + 1).ceil() as usize).clamp(first + 1, bins.len());
            let top = bins[first..end].iter().fold(0.0f64, |top, &x| top.max(x));
            (20.0 * top.max(1e-7).log10()) as f32
        })
        .collect()
}

/// A whole sound is looked at in stretches of so long, as a power of two of frames: partials of the lowest notes stand apart in them.
const HELD_WINDOW_S: f64 = 0.34;
/// No more of them than this, evenly over the sound.
const MOST_HELD: usize = 64;

/// The spectrum of a whole sound, each frequency as loud as it ever is: what dies at once is seen beside what rings on.
#[derive(Debug, Clone, PartialEq)]
pub struct HeldSpectrum {
    /// In dB over bands of equal ratio: the loudest bin of each.
    pub bands_db: Vec<f32>,
    /// What stands out of it, rising in frequency.
    pub partials: Vec<Partial>,
}

impl HeldSpectrum {
    /// Over `columns` bands from `low_hz` to half the rate. The first stretch is centred on the first frame, so that a stroke is in it.
    pub fn of(samples: &[f32], rate_hz: u32, low_hz: f64, columns: usize) -> Self {
        let window = ((f64::from(rate_hz) * HELD_WINDOW_S) as usize)
            .next_power_of_two()
            .max(64);
        let stretches = (2 * samples.len() / window + 1).min(MOST_HELD);
        let mut held = vec![0.0f64; window / 2 + 1];
        let mut piece = vec![0.0f32; window];
        for n in 0..stretches {
            around(samples, n * samples.len() / stretches, &mut piece);
            for (held, now) in held.iter_mut().zip(magnitudes(&piece)) {
                *held = held.max(now);
            }
        }
        Self {
            bands_db: in_bands(&held, window, rate_hz, low_hz, columns),
            partials: partials_in(&held, window, rate_hz),
        }
    }
}

/// Fills a stretch with what lies around a frame, silence where there is nothing.
fn around(samples: &[f32], middle: usize, piece: &mut [f32]) {
    let first = middle as i64 - piece.len() as i64 / 2;
    for (n, slot) in (first..).zip(piece) {
        *slot = usize::try_from(n)
            .ok()
            .and_then(|n| samples.get(n))
            .copied()
            .unwrap_or(0.0);
    }
}

/// Levels of a spectrogram between these, dBFS, are 0 to 255.
pub const SPECTROGRAM_DB: (f64, f64) = (-110.0, 0.0);
/// One column's stretch is so long.
const SPECTROGRAM_WINDOW_S: f64 = 0.085;

/// Spectra over time: `columns` of them, evenly over the whole, each of `rows` bands of equal ratio from `low_hz` to half the rate, low bands first;
/// a byte each, see [`SPECTROGRAM_DB`].
pub fn spectrogram(samples: &[f32], rate_hz: u32, low_hz: f64, columns: usize, rows: usize) -> Vec<u8> {
    let window = ((f64::from(rate_hz) * SPECTROGRAM_WINDOW_S) as usize).max(64) & !1;
    let (lowest, highest) = SPECTROGRAM_DB;
    let mut piece = vec![0.0f32; window];
    (0..columns)
        .flat_map(|column| {
            let middle = (column as f64 + 0.5) / columns as f64 * samples.len() as f64;
            around(samples, middle as usize, &mut piece);
            magnitude_spectrum_db(&piece, rate_hz, low_hz, rows)
        })
        .map(|db| ((f64::from(db) - lowest) / (highest - lowest) * 255.0).clamp(0.0, 255.0) as u8)
        .collect()
}

/// How far over its neighbourhood a bin must stand to be a partial, and how far under the loudest it may lie.
const OVER_NEIGHBOURS: f64 = 5.0;
const UNDER_LOUDEST: f64 = 1e-3;
const NEIGHBOURHOOD_BINS: usize = 96;
const MOST_PARTIALS: usize = 48;

/// The partials of a stretch, rising in frequency.
///
/// The place between bins is Grandke's for the Hann window, δ = (2α − 1)/(α + 1) with α the larger
/// neighbour over the top bin (T. Grandke, IEEE Trans. Instrum. Meas. 32, 1983); exact for one sinusoid.
pub fn partials(samples: &[f32], rate_hz: u32) -> Vec<Partial> {
    partials_in(&magnitudes(samples), samples.len(), rate_hz)
}

/// The same of what lies under a frequency alone, compared with what lies there.
pub(crate) fn partials_under(samples: &[f32], rate_hz: u32, highest_hz: f64) -> Vec<Partial> {
    let bins = highest_hz * samples.len() as f64 / f64::from(rate_hz);
    let bins = lowest_magnitudes(samples, bins as usize + 2 * NEIGHBOURHOOD_BINS);
    partials_in(&bins, samples.len(), rate_hz)
}

fn partials_in(bins: &[f64], len: usize, rate_hz: u32) -> Vec<Partial> {
    let loudest = bins.iter().fold(0.0f64, |top, &x| top.max(x));
    if loudest <= 0.0 {
        return Vec::new();
    }
    let floors: Vec<f64> = bins
        .chunks(NEIGHBOURHOOD_BINS)
        .map(|block| {
            let mut sorted = block.to_vec();
            let middle = sorted.len() / 2;
            *sorted.select_nth_unstable_by(middle, f64::total_cmp).1
        })
        .collect();
    let mut found: Vec<Partial> = (2..bins.len().saturating_sub(2))
        .filter(|&bin| {
            let x = bins[bin];
            x > bins[bin - 1]
                && x >= bins[bin + 1]
                && x > loudest * UNDER_LOUDEST
                && x > floors[bin / NEIGHBOURHOOD_BINS] * OVER_NEIGHBOURS
        })
        .map(|bin| {
            let (left, top, right) = (bins[bin - 1], bins[bin], bins[bin + 1]);
            let alpha = left.max(right) / top;
            let delta = ((2.0 * alpha - 1.0) / (alpha + 1.0)).clamp(0.0, 0.5);
            let signed = if right >= left { delta } else { -delta };
            // The Hann main lobe at δ bins from its top: sinc(δ)/(1 − δ²).
            let lobe = if delta < 1e-9 {
                1.0
            } else {
                (std::f64::consts::PI * delta).sin() / (std::f64::consts::PI * delta) / (1.0 - delta * delta)
            };
            Partial {
                hz: (bin as f64 + signed) * f64::from(rate_hz) / len as f64,
                amplitude: top / lobe,
            }
        })
        .collect();
    found.sort_by(|a, b| b.amplitude.total_cmp(&a.amplitude));
    found.truncate(MOST_PARTIALS);
    found.sort_by(|a, b| a.hz.total_cmp(&b.hz));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    /// Fletcher & Rossing, *The Physics of Musical Instruments*: a bar with free ends rings at 1 : 2.756 : 5.404 times its lowest mode, and
    /// the higher ones are gone soon.
    #[test]
    fn what_dies_at_once_is_seen_beside_what_rings_on() {
        let samples: Vec<f32> = (0..144_000)
            .map(|n| {
                let t = f64::from(n) / 48_000.0;
                let mode = |ratio: f64, dies: f64| (t * 370.0 * ratio * TAU).sin() * (-t * dies).exp();
                ((mode(1.0, 2.0) + mode(2.756, 12.0) * 0.5 + mode(5.404, 30.0) * 0.25) * 0.4) as f32
            })
            .collect();
        let held = HeldSpectrum::of(&samples, 48_000, 20.0, 400);
        let found: Vec<f64> = held.partials.iter().map(|p| p.hz / 370.0).collect();
        for ratio in [1.0, 2.756, 5.404] {
            assert!(
                found.iter().any(|x| (x / ratio - 1.0).abs() < 0.005),
                "{ratio}: {found:?}"
            );
        }
        assert_eq!(found.len(), 3, "{found:?}");
        // A sine reads its level.
        let sine: Vec<f32> = (0..96_000)
            .map(|n| (f64::from(n) / 48_000.0 * 1_000.0 * TAU).sin() as f32 * 0.5)
            .collect();
        let top = HeldSpectrum::of(&sine, 48_000, 20.0, 400).bands_db;
        let top = top.iter().copied().fold(f32::MIN, f32::max);
        assert!((top + 6.02).abs() < 1.5, "{top}");
        assert_eq!(HeldSpectrum::of(&[], 48_000, 20.0, 4).partials, []);
    }

    #[test]
    fn a_spectrogram_shows_which_tone_sounds_when() {
        // 440 Hz, then 1,760 Hz.
        let samples: Vec<f32> = (0..96_000)
            .map(|n| {
                let hz = if n < 48_000 { 440.0 } else { 1_760.0 };
                ((f64::from(n) / 48_000.0 * hz * TAU).sin() * 0.5) as f32
            })
            .collect();
        let (columns, rows) = (20, 64);
        let picture = spectrogram(&samples, 48_000, 55.0, columns, rows);
        assert_eq!(picture.len(), columns * rows);
        let loudest = |column: usize| {
            let of = &picture[column * rows..(column + 1) * rows];
            let top = (0..rows).max_by_key(|&row| of[row]).unwrap();
            // The middle of its band.
            55.0 * (24_000.0f64 / 55.0).powf((top as f64 + 0.5) / rows as f64)
        };
        assert!((loudest(4) / 440.0).log2().abs() < 0.15, "{}", loudest(4));
        assert!((loudest(15) / 1_760.0).log2().abs() < 0.15, "{}", loudest(15));
        assert!(spectrogram(&[], 48_000, 55.0, 3, 8).iter().all(|x| *x == 0));
    }
}
