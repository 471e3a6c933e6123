//! Audio cut into windows of one length, each judged as it is full; and the highest sample since it was last asked for.

use crate::lead::take_peak_dbfs;
use signal::{Audio, frames_of_ms};

pub(crate) struct Windows {
    rate_hz: u32,
    channels: usize,
    frames: usize,
    window: Vec<f32>,
    peak: f32,
}

/// A window that is full.
pub(crate) struct Heard {
    /// Interleaved.
    pub(crate) samples: Vec<f32>,
    /// Over all channels, full scale 1.
    pub(crate) rms: f64,
}

impl Windows {
    pub(crate) fn new(rate_hz: u32, channels: usize, ms: f64) -> Self {
        Self {
            rate_hz,
            channels: channels.max(1),
            frames: frames_of_ms(rate_hz, ms).max(1),
            window: Vec::new(),
            peak: 0.0,
        }
    }

    /// Frames of one window.
    pub(crate) fn frames(&self) -> u64 {
        self.frames as u64
    }

    /// Frames nearest to a time.
    pub(crate) fn ms(&self, ms: f64) -> u64 {
        frames_of_ms(self.rate_hz, ms) as u64
    }

    /// Takes interleaved samples; gives the windows that are full now.
    pub(crate) fn push(&mut self, samples: &[f32]) -> Vec<Heard> {
        self.peak = samples.iter().fold(self.peak, |top, x| top.max(x.abs()));
        let length = self.frames * self.channels;
        let (mut full, mut rest) = (Vec::new(), samples);
        while !rest.is_empty() {
            let take = (length - self.window.len()).min(rest.len());
            self.window.extend_from_slice(&rest[..take]);
            rest = &rest[take..];
            if self.window.len() == length {
                let samples = std::mem::take(&mut self.window);
                let power: f64 = samples.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
                let rms = (power / length as f64).sqrt();
                full.push(Heard { samples, rms });
            }
        }
        full
    }

    /// The highest sample since the last call, in dBFS.
    pub(crate) fn take_peak_dbfs(&mut self) -> f64 {
        take_peak_dbfs(&mut self.peak)
    }

    /// Interleaved samples of this input, planar.
    pub(crate) fn planar(&self, samples: &[f32]) -> Audio {
        Audio::from_interleaved(self.rate_hz, self.channels, samples)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn windows_are_full_however_the_samples_come() {
        let samples: Vec<f32> = (0..1_000).map(|n| (n % 7) as f32 / 10.0).collect();
        let all = |piece: usize| -> Vec<f32> {
            let mut windows = Windows::new(1_000, 2, 20.0);
            let heard: Vec<Heard> = samples
                .chunks(piece)
                .flat_map(|part| windows.push(part))
                .collect();
            assert!(heard.iter().all(|heard| heard.samples.len() == 40));
            assert!((windows.take_peak_dbfs() - signal::amplitude_to_db(0.6)).abs() < 1e-4);
            heard.into_iter().flat_map(|heard| heard.samples).collect()
        };
        assert_eq!(all(6), samples);
        assert_eq!(all(400), samples);
    }
}
