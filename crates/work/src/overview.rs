//! A long recording from afar: peaks for its picture and levels for its slicing, as two files that are read in parts.

use signal::{Audio, Envelope, EnvelopeMaker, Peak};
use std::ops::Range;

/// Frames under one peak.
pub const OVERVIEW_FRAMES: u64 = 256;
/// Bytes of one peak: lowest and highest sample and the RMS, 16 bits each.
const PEAK_BYTES: u64 = 6;
const FULL: f32 = 32_767.0;

/// Makes both from a stream.
pub struct OverviewMaker {
    channels: usize,
    peaks: Vec<u8>,
    block: Vec<f32>,
    envelope: EnvelopeMaker,
}

impl OverviewMaker {
    /// For interleaved samples of a rate.
    pub fn new(rate_hz: u32, channels: usize) -> Self {
        Self {
            channels: channels.max(1),
            peaks: Vec::new(),
            block: Vec::new(),
            envelope: EnvelopeMaker::new(rate_hz, channels),
        }
    }

    /// The next frames, interleaved.
    pub fn push(&mut self, samples: &[f32]) {
        self.envelope.push(samples);
        let whole = OVERVIEW_FRAMES as usize * self.channels;
        let mut rest = samples;
        while !rest.is_empty() {
            let take = (whole - self.block.len()).min(rest.len());
            self.block.extend_from_slice(&rest[..take]);
            rest = &rest[take..];
            if self.block.len() == whole {
                self.end_block();
            }
        }
    }

    fn end_block(&mut self) {
        let low = self.block.iter().fold(f32::MAX, |a, &b| a.min(b));
        let high = self.block.iter().fold(f32::MIN, |a, &b| a.max(b));
        let power = self.block.iter().map(|x| x * x).sum::<f32>() / self.block.len().max(1) as f32;
        for value in [low, high, power.sqrt()] {
            let value = (value.clamp(-1.0, 1.0) * FULL).round() as i16;
            self.peaks.extend(value.to_le_bytes());
        }
        self.block.clear();
    }

    /// The peaks' file and the levels' file.
    pub fn finish(mut self) -> (Vec<u8>, Vec<u8>) {
        if !self.block.is_empty() {
            self.end_block();
        }
        let envelope = self.envelope.finish();
        let levels = envelope
            .levels
            .iter()
            .flat_map(|level| level.to_le_bytes())
            .collect();
        (self.peaks, levels)
    }
}

/// Which bytes of the peaks' file hold frames `first..end`.
pub fn peak_bytes(first: u64, end: u64) -> Range<u64> {
    first / OVERVIEW_FRAMES * PEAK_BYTES..end.div_ceil(OVERVIEW_FRAMES) * PEAK_BYTES
}

/// Draws `columns` columns from the bytes that [`peak_bytes`] named.
pub fn overview_columns(bytes: &[u8], columns: usize) -> Vec<Peak> {
    let value = |b: &[u8]| f32::from(i16::from_le_bytes([b[0], b[1]])) / FULL;
    let peaks: Vec<Peak> = bytes
        .chunks_exact(PEAK_BYTES as usize)
        .map(|b| Peak {
            low: value(b),
            high: value(&b[2..]),
            power: value(&b[4..]).powi(2),
        })
        .collect();
    if peaks.is_empty() {
        return Vec::new();
    }
    (0..columns)
        .map(|n| {
            let from = n * peaks.len() / columns;
            let to = ((n + 1) * peaks.len()).div_ceil(columns).max(from + 1);
            let part = &peaks[from..to.min(peaks.len())];
            Peak {
                low: part.iter().fold(f32::MAX, |a, p| a.min(p.low)),
                high: part.iter().fold(f32::MIN, |a, p| a.max(p.high)),
                power: part.iter().map(|p| p.power).sum::<f32>() / part.len() as f32,
            }
        })
        .collect()
}

/// Draws `columns` columns of audio that is at hand, frame by frame.
pub fn audio_columns(audio: &Audio, columns: usize) -> Vec<Peak> {
    let frames = audio.frames();
    (0..columns)
        .map(|n| {
            let from = n * frames / columns;
            let to = ((n + 1) * frames)
                .div_ceil(columns)
                .clamp(from + 1, frames.max(from + 1));
            let part = audio
                .channels
                .iter()
                .flat_map(|c| c.get(from..to).unwrap_or_default());
            let (mut low, mut high, mut power, mut count) = (f32::MAX, f32::MIN, 0.0, 0.0f32);
            for &x in part {
                (low, high) = (low.min(x), high.max(x));
                power += x * x;
                count += 1.0;
            }
            if count == 0.0 {
                return Peak::default();
            }
            Peak {
                low,
                high,
                power: power / count,
            }
        })
        .collect()
}

/// The levels' file, read back.
pub fn envelope_of(bytes: &[u8], rate_hz: u32) -> Envelope {
    Envelope {
        step_frames: signal::frames_of_ms(rate_hz, signal::ENVELOPE_STEP_MS).max(1),
        levels: bytes
            .chunks_exact(4)
            .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
            .collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_loud_frame_is_seen_from_afar_and_from_near() {
        let mut samples = vec![0.0f32; 200_000];
        samples[123_456] = 0.75;
        let mut maker = OverviewMaker::new(48_000, 2);
        samples.chunks(997 * 2).for_each(|part| maker.push(part));
        let (peaks, levels) = maker.finish();
        // Frame 61,728 of 100,000.
        let whole = peak_bytes(0, 100_000);
        assert_eq!(peaks.len() as u64, whole.end);
        let columns = overview_columns(&peaks, 50);
        assert!((columns[30].high - 0.75).abs() < 1e-3 && columns[10].high == 0.0);
        let near = peak_bytes(61_000, 62_000);
        let part = &peaks[near.start as usize..near.end as usize];
        assert!(overview_columns(part, 4).iter().any(|p| p.high > 0.7));
        assert!(
            envelope_of(&levels, 48_000)
                .levels
                .iter()
                .any(|level| *level > 0.03)
        );
        let audio = Audio::from_interleaved(48_000, 2, &samples);
        assert_eq!(audio_columns(&audio.slice(61_720, 61_736), 16)[8].high, 0.75);
        assert!(overview_columns(&[], 5).is_empty());
    }
}
