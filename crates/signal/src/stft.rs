//! Short-time spectra, there and back again.
//!
//! Windows are the square root of Hann's, going and coming; at a quarter of the window's length apart their squares add up to 2.

use crate::fft;
use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealToComplex};
use std::ops::Range;
use std::sync::Arc;

/// A window is about so long, as a power of two: 2,048 frames at 44.1 and 48 kHz.
const WINDOW_S: f64 = 0.043;
const OVERLAP: usize = 4;

/// Bins of a spectrum of so many frames.
pub(crate) fn bins(size: usize) -> usize {
    size / 2 + 1
}

pub(crate) struct Stft {
    window: Vec<f32>,
    there: Arc<dyn RealToComplex<f32>>,
    back: Arc<dyn ComplexToReal<f32>>,
}

impl Stft {
    pub(crate) fn new(rate_hz: u32) -> Self {
        let exact = f64::from(rate_hz.max(1_000)) * WINDOW_S;
        Self::of_size(1 << (exact.log2().round() as u32))
    }

    /// `size` is a power of two.
    pub(crate) fn of_size(size: usize) -> Self {
        let window = (0..size)
            .map(|n| (0.5 - 0.5 * (std::f32::consts::TAU * n as f32 / size as f32).cos()).sqrt())
            .collect();
        Self {
            window,
            there: fft::forward(size),
            back: fft::inverse(size),
        }
    }

    pub(crate) fn size(&self) -> usize {
        self.window.len()
    }

    /// Frames from one spectrum to the next.
    pub(crate) fn hop(&self) -> usize {
        self.size() / OVERLAP
    }

    /// The frames that spectrum `n` is of; the first ones reach before the beginning.
    pub(crate) fn span(&self, n: usize) -> Range<i64> {
        let first = n as i64 * self.hop() as i64 - (self.size() - self.hop()) as i64;
        first..first + self.size() as i64
    }

    /// Spectra of `bins(size)` bins, so many that every frame lies under four windows.
    pub(crate) fn forward(&self, samples: &[f32]) -> Vec<Vec<Complex<f32>>> {
        if samples.is_empty() {
            return Vec::new();
        }
        let count = (samples.len() - 1) / self.hop() + OVERLAP;
        let mut input = vec![0.0; self.size()];
        (0..count)
            .map(|n| {
                let first = self.span(n).start;
                for (k, (slot, window)) in input.iter_mut().zip(&self.window).enumerate() {
                    let at = usize::try_from(first + k as i64).ok();
                    *slot = at.and_then(|at| samples.get(at)).copied().unwrap_or(0.0) * window;
                }
                let mut spectrum = self.there.make_output_vec();
                // Both buffers were made by the plan: their lengths fit.
                let _ = self.there.process(&mut input, &mut spectrum);
                spectrum
            })
            .collect()
    }

    /// The sound of spectra, `frames` long.
    pub(crate) fn back(&self, spectra: &[Vec<Complex<f32>>], frames: usize) -> Vec<f32> {
        let mut out = vec![0.0f32; frames];
        let mut piece = self.back.make_output_vec();
        // The inverse is not normalised, and the squares of the windows add up to half their number.
        let scale = 2.0 / (self.size() * OVERLAP) as f32;
        for (n, spectrum) in spectra.iter().enumerate() {
            let mut spectrum = spectrum.clone();
            // What is real in the spectrum of a real sound has to be so exactly.
            let last = spectrum.len() - 1;
            (spectrum[0].im, spectrum[last].im) = (0.0, 0.0);
            let _ = self.back.process(&mut spectrum, &mut piece);
            let first = self.span(n).start;
            for (k, (x, window)) in piece.iter().zip(&self.window).enumerate() {
                if let Some(slot) = usize::try_from(first + k as i64)
                    .ok()
                    .and_then(|at| out.get_mut(at))
                {
                    *slot += x * window * scale;
                }
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_and_back_is_the_same_sound() {
        let stft = Stft::new(48_000);
        assert_eq!(
            (stft.size(), Stft::new(44_100).size(), Stft::new(96_000).size()),
            (2_048, 2_048, 4_096)
        );
        for frames in [0, 1, 511, 512, 513, 5_000] {
            let samples: Vec<f32> = (0..frames).map(|n| (n as f32 * 0.37).sin()).collect();
            let again = stft.back(&stft.forward(&samples), frames);
            assert_eq!(again.len(), frames);
            assert!(
                samples.iter().zip(&again).all(|(a, b)| (a - b).abs() < 1e-5),
                "{frames}"
            );
        }
    }
}
