//! The spectrum of a stretch of sound and the partials in it.

use realfft::RealFftPlanner;

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
    let len = samples.len();
    if len < 4 {
        return Vec::new();
    }
    let mut planner = RealFftPlanner::<f32>::new();
    let fft = planner.plan_fft_forward(len);
    let mut input: Vec<f32> = samples
        .iter()
        .enumerate()
        .map(|(n, x)| x * (0.5 - 0.5 * (std::f32::consts::TAU * n as f32 / len as f32).cos()))
        .collect();
    let mut output = fft.make_output_vec();
    if fft.process(&mut input, &mut output).is_err() {
        return Vec::new();
    }
    let scale = 4.0 / len as f64;
    output.iter().map(|bin| f64::from(bin.norm()) * scale).collect()
}

/// The spectrum in dB over `columns` bands of equal ratio between `low_hz` and half the rate: the loudest bin of each.
pub fn magnitude_spectrum_db(samples: &[f32], rate_hz: u32, low_hz: f64, columns: usize) -> Vec<f32> {
    let bins = magnitudes(samples);
    if bins.is_empty() {
        return vec![-140.0; columns];
    }
    let nyquist = f64::from(rate_hz) / 2.0;
    let bin_of = |column: usize| {
        let hz = low_hz * (nyquist / low_hz).powf(column as f64 / columns as f64);
        hz / f64::from(rate_hz) * samples.len() as f64
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
    let bins = magnitudes(samples);
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
                hz: (bin as f64 + signed) * f64::from(rate_hz) / samples.len() as f64,
                amplitude: top / lobe,
            }
        })
        .collect();
    found.sort_by(|a, b| b.amplitude.total_cmp(&a.amplitude));
    found.truncate(MOST_PARTIALS);
    found.sort_by(|a, b| a.hz.total_cmp(&b.hz));
    found
}
