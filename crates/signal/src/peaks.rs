//! What a waveform looks like from afar.

use crate::Audio;
use serde::{Deserialize, Serialize};

/// The extent of the samples under one column, and their mean square.
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
    /// Of some samples; all 0 where there are none.
    pub fn of<'a>(samples: impl IntoIterator<Item = &'a f32>) -> Self {
        let (mut low, mut high, mut power, mut count) = (f32::MAX, f32::MIN, 0.0, 0.0f32);
        for &x in samples {
            (low, high) = (low.min(x), high.max(x));
            power += x * x;
            count += 1.0;
        }
        if count == 0.0 {
            return Self::default();
        }
        Self {
            low,
            high,
            power: power / count,
        }
    }

    /// Of stretches of equal length, side by side or one after another; all 0 where there are none.
    pub fn joined(peaks: impl IntoIterator<Item = Self>) -> Self {
        let mut peaks = peaks.into_iter();
        let Some(mut all) = peaks.next() else {
            return Self::default();
        };
        let mut count = 1.0;
        for peak in peaks {
            (all.low, all.high) = (all.low.min(peak.low), all.high.max(peak.high));
            all.power += peak.power;
            count += 1.0;
        }
        all.power /= count;
        all
    }
}

/// `columns` peaks of equal width over all of it, all channels together; where there are fewer frames than columns, frames are seen several times.
pub fn peak_columns(audio: &Audio, columns: usize) -> Vec<Peak> {
    let frames = audio.frames();
    (0..columns)
        .map(|n| {
            let from = n * frames / columns;
            let to = ((n + 1) * frames)
                .div_ceil(columns)
                .clamp(from + 1, frames.max(from + 1));
            Peak::of(
                audio
                    .channels
                    .iter()
                    .flat_map(|channel| channel.get(from..to).unwrap_or_default()),
            )
        })
        .collect()
}

/// A picture of the whole in `columns` columns: the largest absolute sample of each, 0 to 255 of full scale.
pub fn thumbnail(audio: &Audio, columns: usize) -> Vec<u8> {
    peak_columns(audio, columns)
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
        let audio = Audio::mono(48_000, samples);
        for columns in [10, 333, 1000] {
            let seen = peak_columns(&audio, columns);
            assert_eq!(seen.len(), columns);
            assert_eq!(seen[654_321 * columns / 1_000_000].high, 0.9);
        }
        assert_eq!(peak_columns(&audio.slice(654_320, 654_323), 6)[2].high, 0.9);
        assert_eq!(peak_columns(&audio.slice(5, 5), 2), [Peak::default(); 2]);
    }
}
