//! Sums of squares, so that the RMS of any stretch costs two look-ups and a few frames.

use crate::Audio;

/// Frames between two sums: a sum for every frame would take more memory than the sound.
const BLOCK: usize = 8;

/// Running sum of the squared samples, meaned over channels.
pub(crate) struct Energy<'a> {
    audio: &'a Audio,
    /// Of all frames before each block.
    sums: Vec<f64>,
}

impl<'a> Energy<'a> {
    pub(crate) fn of(audio: &'a Audio) -> Self {
        let mut energy = Self {
            audio,
            sums: vec![0.0; audio.frames() / BLOCK + 1],
        };
        let mut total = 0.0;
        for block in 1..energy.sums.len() {
            total += energy.power((block - 1) * BLOCK, block * BLOCK);
            energy.sums[block] = total;
        }
        energy
    }

    pub(crate) fn frames(&self) -> usize {
        self.audio.frames()
    }

    /// Sum over a few frames, added up one by one.
    fn power(&self, first: usize, end: usize) -> f64 {
        let channels = &self.audio.channels;
        let sum: f64 = channels
            .iter()
            .flat_map(|channel| &channel[first..end])
            .map(|&x| f64::from(x) * f64::from(x))
            .sum();
        sum / channels.len().max(1) as f64
    }

    /// Sum over all frames before one.
    fn before(&self, frame: usize) -> f64 {
        let block = frame / BLOCK;
        self.sums[block] + self.power(block * BLOCK, frame)
    }

    /// RMS of frames `first..end`, cut to what is there; 0 for an empty stretch.
    pub(crate) fn rms(&self, first: usize, end: usize) -> f64 {
        let end = end.min(self.frames());
        if first >= end {
            return 0.0;
        }
        let power = if end - first < 2 * BLOCK {
            self.power(first, end)
        } else {
            (self.before(end) - self.before(first)).max(0.0)
        };
        (power / (end - first) as f64).sqrt()
    }

    /// The lowest RMS of any window inside `first..end`, moved in quarter windows; `None` where none fits.
    pub(crate) fn quietest(&self, first: usize, end: usize, window: usize) -> Option<f64> {
        let end = end.min(self.frames());
        if window == 0 || first + window > end {
            return None;
        }
        (first..=end - window)
            .step_by((window / 4).max(1))
            .map(|at| self.rms(at, at + window))
            .min_by(f64::total_cmp)
    }
}
