//! What a waveform looks like from afar.

use crate::Audio;
use serde::{Deserialize, Serialize};

/// Frames under one peak of the lowest level.
pub const PEAK_BLOCK_FRAMES: usize = 64;

/// The extent of the samples under one column, and their RMS.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Peak {
    /// Lowest sample.
    pub low: f32,
    /// Highest sample.
    pub high: f32,
    /// Mean square.
    pub power: f32,
}

impl Peak {
    fn joined(self, other: Self) -> Self {
        Self {
            low: self.low.min(other.low),
            high: self.high.max(other.high),
            power: (self.power + other.power) / 2.0,
        }
    }

    fn of(samples: impl Iterator<Item = f32>) -> Self {
        let mut peak = Self {
            low: f32::MAX,
            high: f32::MIN,
            power: 0.0,
        };
        let mut count = 0.0f32;
        for x in samples {
            peak.low = peak.low.min(x);
            peak.high = peak.high.max(x);
            peak.power += x * x;
            count += 1.0;
        }
        if count == 0.0 {
            Self::default()
        } else {
            Self {
                power: peak.power / count,
                ..peak
            }
        }
    }
}

/// Levels of peaks, each half as many as the one below: any stretch is drawn by reading a few columns' worth.
#[derive(Debug, Clone, PartialEq)]
pub struct PeakPyramid {
    frames: usize,
    levels: Vec<Vec<Peak>>,
}

impl PeakPyramid {
    /// Of the mean of all channels' extents: the lowest low and highest high of any channel.
    pub fn of(audio: &Audio) -> Self {
        let frames = audio.frames();
        let mut level: Vec<Peak> = (0..frames)
            .step_by(PEAK_BLOCK_FRAMES)
            .map(|first| {
                let end = (first + PEAK_BLOCK_FRAMES).min(frames);
                Peak::of(
                    audio
                        .channels
                        .iter()
                        .flat_map(|channel| channel[first..end].iter().copied()),
                )
            })
            .collect();
        let mut levels = Vec::new();
        while level.len() > 1 {
            let next = level
                .chunks(2)
                .map(|pair| pair[1..].iter().fold(pair[0], |a, &b| a.joined(b)))
                .collect();
            levels.push(std::mem::replace(&mut level, next));
        }
        levels.push(level);
        Self { frames, levels }
    }

    /// `columns` peaks of equal width over frames `first..end`; as fine as [`PEAK_BLOCK_FRAMES`], no finer.
    pub fn columns(&self, first: usize, end: usize, columns: usize) -> Vec<Peak> {
        let end = end.min(self.frames);
        if first >= end || columns == 0 {
            return Vec::new();
        }
        let per_column = (end - first) as f64 / columns as f64;
        let mut level = 0;
        while level + 1 < self.levels.len() && ((PEAK_BLOCK_FRAMES << (level + 1)) as f64) <= per_column {
            level += 1;
        }
        let block = (PEAK_BLOCK_FRAMES << level) as f64;
        let peaks = &self.levels[level];
        (0..columns)
            .map(|column| {
                let from = ((first as f64 + per_column * column as f64) / block) as usize;
                let to = ((first as f64 + per_column * (column + 1) as f64) / block).ceil() as usize;
                let from = from.min(peaks.len() - 1);
                peaks[from..to.clamp(from + 1, peaks.len())]
                    .iter()
                    .copied()
                    .reduce(Peak::joined)
                    .unwrap_or_default()
            })
            .collect()
    }
}

/// A picture of the whole in `columns` columns: the largest absolute sample of each, 0 to 255 of full scale.
pub fn thumbnail(audio: &Audio, columns: usize) -> Vec<u8> {
    PeakPyramid::of(audio)
        .columns(0, audio.frames(), columns)
        .iter()
        .map(|peak| (peak.high.max(-peak.low).clamp(0.0, 1.0) * 255.0).round() as u8)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_single_loud_frame_is_seen_from_any_distance() {
        let mut samples = vec![0.0; 1_000_000];
        samples[654_321] = 0.9;
        let pyramid = PeakPyramid::of(&Audio::mono(48_000, samples));
        for columns in [10, 333, 1000] {
            let seen = pyramid.columns(0, 1_000_000, columns);
            assert_eq!(seen.len(), columns);
            assert_eq!(seen[654_321 * columns / 1_000_000].high, 0.9);
        }
        assert!(pyramid.columns(5, 5, 10).is_empty());
    }
}
