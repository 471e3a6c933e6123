//! Sums of squares, so that the RMS of any stretch costs two look-ups.

use crate::Audio;

/// Running sum of the squared samples, meaned over channels.
pub(crate) struct Energy {
    sums: Vec<f64>,
}

impl Energy {
    pub(crate) fn of(audio: &Audio) -> Self {
        let scale = 1.0 / audio.channels.len().max(1) as f64;
        let mut sums = vec![0.0; audio.frames() + 1];
        for channel in &audio.channels {
            for (slot, &x) in sums[1..].iter_mut().zip(channel) {
                *slot += f64::from(x) * f64::from(x) * scale;
            }
        }
        let mut total = 0.0;
        for slot in &mut sums {
            total += *slot;
            *slot = total;
        }
        Self { sums }
    }

    pub(crate) fn frames(&self) -> usize {
        self.sums.len() - 1
    }

    /// RMS of frames `first..end`, cut to what is there; 0 for an empty stretch.
    pub(crate) fn rms(&self, first: usize, end: usize) -> f64 {
        let end = end.min(self.frames());
        if first >= end {
            return 0.0;
        }
        ((self.sums[end] - self.sums[first]).max(0.0) / (end - first) as f64).sqrt()
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
