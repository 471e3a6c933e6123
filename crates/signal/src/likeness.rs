//! How alike one stretch is to every later one, all at once: by the correlation theorem, in blocks that overlap (overlap-save; Oppenheim &
//! Schafer, *Discrete-Time Signal Processing*, block convolution).

use crate::fft;
use realfft::num_complex::Complex;
use realfft::{ComplexToReal, RealToComplex};
use std::ops::Range;
use std::sync::Arc;

/// Blocks are so many times as long as the stretch, and no shorter than this.
const BLOCK_TIMES: usize = 8;
const SHORTEST_BLOCK: usize = 2_048;

/// Compares one sound with itself, all its sides at once.
pub(crate) struct Likeness<'a> {
    sides: &'a [Vec<f32>],
    /// Running sum of squares, over all sides.
    powers: Vec<f64>,
    window: usize,
    block: usize,
    there: Arc<dyn RealToComplex<f32>>,
    back: Arc<dyn ComplexToReal<f32>>,
}

impl<'a> Likeness<'a> {
    /// Compares stretches of so many samples, one or more, of sides of one length.
    pub(crate) fn new(sides: &'a [Vec<f32>], window: usize) -> Self {
        let block = (window * BLOCK_TIMES).next_power_of_two().max(SHORTEST_BLOCK);
        let mut powers = vec![0.0; sides.first().map_or(0, Vec::len) + 1];
        for side in sides {
            let mut sum = 0.0;
            for (power, &x) in powers[1..].iter_mut().zip(side) {
                sum += f64::from(x) * f64::from(x);
                *power += sum;
            }
        }
        Self {
            sides,
            powers,
            window,
            block,
            there: fft::forward(block),
            back: fft::inverse(block),
        }
    }

    /// Power of the difference over mean power, 0 for the same and 2 for what has nothing in common, of the stretch that begins at `from` and the one that
    /// begins at each of `places`; of those places alone whose stretch lies inside.
    pub(crate) fn mismatches(&self, from: usize, places: Range<usize>) -> Vec<f32> {
        let window = self.window;
        let frames = self.powers.len() - 1;
        let end = places.end.min((frames + 1).saturating_sub(window));
        if from + window > frames || places.start >= end {
            return Vec::new();
        }
        let power = |at: usize| self.powers[at + window] - self.powers[at];
        let mut products = vec![0.0f32; end - places.start];
        for side in self.sides {
            let stretch = self.spectrum(&side[from..from + window]);
            for (first, products) in (places.start..end)
                .step_by(self.block - window + 1)
                .zip(products.chunks_mut(self.block - window + 1))
            {
                let mut bins = self.spectrum(&side[first..frames.min(first + self.block)]);
                for (bin, of_stretch) in bins.iter_mut().zip(&stretch) {
                    *bin *= of_stretch.conj();
                }
                for (sum, product) in products.iter_mut().zip(self.correlations(bins)) {
                    *sum += product;
                }
            }
        }
        let mismatch = |(product, at): (f32, usize)| {
            let both = power(from) + power(at);
            let apart = both - 2.0 * f64::from(product);
            if both > 0.0 {
                (2.0 * apart / both).max(0.0) as f32
            } else {
                0.0
            }
        };
        products.into_iter().zip(places.start..).map(mismatch).collect()
    }

    /// Of some samples, no more than a block, and silence after them.
    fn spectrum(&self, samples: &[f32]) -> Vec<Complex<f32>> {
        let mut block = self.there.make_input_vec();
        block[..samples.len()].copy_from_slice(samples);
        let mut bins = self.there.make_output_vec();
        // Lengths are those that were planned: it cannot fail.
        let _ = self.there.process(&mut block, &mut bins);
        bins
    }

    fn correlations(&self, mut bins: Vec<Complex<f32>>) -> impl Iterator<Item = f32> {
        // What rounding leaves of the parts that are real by their nature.
        for edge in [0, bins.len() - 1] {
            bins[edge].im = 0.0;
        }
        let mut products = self.back.make_output_vec();
        let _ = self.back.process(&mut bins, &mut products);
        let scale = 1.0 / self.block as f32;
        products.into_iter().map(move |product| product * scale)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};

    #[test]
    fn every_mismatch_is_that_of_the_plain_sum() {
        let mut random = rand_pcg::Pcg64::seed_from_u64(4);
        let sides: Vec<Vec<f32>> = (0..2)
            .map(|_| (0..9_000).map(|_| random.random_range(-1.0..1.0)).collect())
            .collect();
        for window in [1, 37, 300] {
            let likeness = Likeness::new(&sides, window);
            let found = likeness.mismatches(500, 400..20_000);
            assert_eq!(found.len(), 9_000 + 1 - window - 400);
            for (found, at) in found.iter().zip(400..) {
                let (mut difference, mut power) = (0.0, 0.0);
                for side in &sides {
                    for (a, b) in side[500..500 + window].iter().zip(&side[at..at + window]) {
                        difference += (a - b).powi(2);
                        power += a * a + b * b;
                    }
                }
                let plain = 2.0 * difference / power;
                assert!((found - plain).abs() < 1e-3, "{found} for {plain} at {at}");
            }
        }
        assert!(Likeness::new(&sides, 300).mismatches(8_800, 0..10).is_empty());
    }
}
