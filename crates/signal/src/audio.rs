//! Sound in memory: one vector of samples per channel.

/// Planar audio; every channel has the same length. Full scale is ±1.
#[derive(Debug, Clone, PartialEq)]
pub struct Audio {
    /// Frames per second.
    pub rate_hz: u32,
    /// `channels[c][frame]`.
    pub channels: Vec<Vec<f32>>,
}

impl Audio {
    /// One channel.
    pub fn mono(rate_hz: u32, samples: Vec<f32>) -> Self {
        Self {
            rate_hz,
            channels: vec![samples],
        }
    }

    /// Number of frames.
    pub fn frames(&self) -> usize {
        self.channels.first().map_or(0, Vec::len)
    }

    /// Frames `first..end`, cut to what is there.
    pub fn slice(&self, first: usize, end: usize) -> Self {
        let end = end.min(self.frames());
        let first = first.min(end);
        Self {
            rate_hz: self.rate_hz,
            channels: self
                .channels
                .iter()
                .map(|channel| channel[first..end].to_vec())
                .collect(),
        }
    }

    /// Some of its channels, cut to those that are there.
    pub fn channels_of(mut self, first: usize, count: usize) -> Self {
        let first = first.min(self.channels.len());
        self.channels.drain(..first);
        self.channels.truncate(count);
        self
    }

    /// The mean of all channels; where they cancel each other, the first channel.
    pub fn to_mono(&self) -> Vec<f32> {
        let Some(first) = self.channels.first() else {
            return Vec::new();
        };
        if self.channels.len() == 1 {
            return first.clone();
        }
        let scale = 1.0 / self.channels.len() as f32;
        let mut sum = first.clone();
        for channel in &self.channels[1..] {
            for (total, sample) in sum.iter_mut().zip(channel) {
                *total += sample;
            }
        }
        let power = |samples: &[f32]| samples.iter().map(|&x| f64::from(x) * f64::from(x)).sum::<f64>();
        for total in &mut sum {
            *total *= scale;
        }
        if power(&sum) < 0.05 * power(first) {
            first.clone()
        } else {
            sum
        }
    }

    /// The interleaved samples, frame after frame.
    pub fn interleaved(&self) -> Vec<f32> {
        let mut out = Vec::with_capacity(self.frames() * self.channels.len());
        for frame in 0..self.frames() {
            out.extend(self.channels.iter().map(|channel| channel[frame]));
        }
        out
    }

    /// From interleaved samples; an incomplete last frame is dropped.
    pub fn from_interleaved(rate_hz: u32, channels: usize, samples: &[f32]) -> Self {
        let mut planar = vec![Vec::with_capacity(samples.len() / channels.max(1)); channels];
        for frame in samples.chunks_exact(channels.max(1)) {
            for (channel, sample) in planar.iter_mut().zip(frame) {
                channel.push(*sample);
            }
        }
        Self {
            rate_hz,
            channels: planar,
        }
    }
}

/// Frames nearest to a time in milliseconds.
pub fn frames_of_ms(rate_hz: u32, ms: f64) -> usize {
    (f64::from(rate_hz) * ms / 1000.0).round().max(0.0) as usize
}

/// 20·log₁₀ of an amplitude; `-inf` for silence.
pub fn amplitude_to_db(amplitude: f64) -> f64 {
    20.0 * amplitude.log10()
}

/// The inverse of [`amplitude_to_db`].
pub fn db_to_amplitude(db: f64) -> f64 {
    10f64.powf(db / 20.0)
}
