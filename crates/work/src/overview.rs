//! A long recording from afar: a pyramid of peaks for its picture and levels for its slicing, as two files that are read in parts.

use signal::{Envelope, EnvelopeMaker, Peak};
use std::ops::Range;

/// Frames under one peak of the finest level.
pub const OVERVIEW_FRAMES: u64 = 256;
/// Each level has so many times fewer peaks than the one before.
const COARSER: u64 = 8;
/// Bytes of one channel's peak: lowest and highest sample and the RMS, 16 bits each.
const PEAK_BYTES: u64 = 6;
/// Before the levels: how many frames and channels there are, 64 bits each.
const HEADER_BYTES: u64 = 16;
const FULL: f32 = 32_767.0;

/// Where the peaks of a recording lie.
pub fn peaks_path(recording: &str) -> String {
    format!("overviews/{recording}.pyramid")
}

/// Where its levels lie.
pub fn levels_path(recording: &str) -> String {
    format!("overviews/{recording}.levels")
}

/// Where in the peaks' file what lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Overview {
    frames: u64,
    channels: u64,
}

/// A part of the peaks' file, and what it holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OverviewPart {
    /// Where it lies.
    pub bytes: Range<u64>,
    channels: usize,
    /// Frames under one of its peaks, and the first of them.
    block: u64,
    first_frame: u64,
}

impl Overview {
    /// The bytes of the peaks' file that [`Overview::read`] wants.
    pub const HEADER: Range<u64> = 0..HEADER_BYTES;

    /// Reads the beginning of the peaks' file; `None` where it is too short to be one.
    pub fn read(header: &[u8]) -> Option<Self> {
        let number = |at: usize| Some(u64::from_le_bytes(header.get(at..at + 8)?.try_into().ok()?));
        let (frames, channels) = (number(0)?, number(8)?);
        (channels > 0).then_some(Self { frames, channels })
    }

    fn header(self) -> [u8; HEADER_BYTES as usize] {
        let mut bytes = [0; HEADER_BYTES as usize];
        bytes[..8].copy_from_slice(&self.frames.to_le_bytes());
        bytes[8..].copy_from_slice(&self.channels.to_le_bytes());
        bytes
    }

    /// Frames under one peak of each level, finest first; the last level has a single peak.
    fn blocks(self) -> impl Iterator<Item = u64> {
        let mut last = false;
        std::iter::successors(Some(OVERVIEW_FRAMES), |block| Some(block * COARSER)).take_while(move |block| {
            let wanted = !last;
            last = *block >= self.frames;
            wanted
        })
    }

    /// The part that draws frames `first..end` in `columns` columns: of the coarsest level that is no coarser than they are.
    pub fn part(self, first: u64, end: u64, columns: usize) -> OverviewPart {
        let end = end.min(self.frames);
        let first = first.min(end);
        let per_column = (end - first) / (columns as u64).max(1);
        let peak_bytes = PEAK_BYTES * self.channels;
        let (mut offset, mut found) = (HEADER_BYTES, (HEADER_BYTES, OVERVIEW_FRAMES));
        for block in self.blocks() {
            if block > per_column.max(OVERVIEW_FRAMES) {
                break;
            }
            found = (offset, block);
            offset += self.frames.div_ceil(block) * peak_bytes;
        }
        let (offset, block) = found;
        OverviewPart {
            bytes: offset + first / block * peak_bytes..offset + end.div_ceil(block) * peak_bytes,
            channels: self.channels as usize,
            block,
            first_frame: first / block * block,
        }
    }
}

impl OverviewPart {
    /// Draws frames `first..end` in `columns` columns from this part's bytes, all channels together or one of them.
    pub fn columns(
        &self,
        bytes: &[u8],
        (first, end): (u64, u64),
        columns: usize,
        channel: Option<usize>,
    ) -> Vec<Peak> {
        let value = |b: &[u8]| f32::from(i16::from_le_bytes([b[0], b[1]])) / FULL;
        let peaks: Vec<Peak> = bytes
            .chunks_exact(PEAK_BYTES as usize * self.channels)
            .map(|of| {
                let sides = of.chunks_exact(PEAK_BYTES as usize).map(|b| Peak {
                    low: value(b),
                    high: value(&b[2..]),
                    power: value(&b[4..]).powi(2),
                });
                match channel {
                    Some(channel) => Peak::joined(sides.skip(channel).take(1)),
                    None => Peak::joined(sides),
                }
            })
            .collect();
        if peaks.is_empty() || end <= first {
            return Vec::new();
        }
        let (span, offset) = (end - first, first - self.first_frame.min(first));
        let count = columns as u64;
        (0..count)
            .map(|n| {
                let from = (offset + n * span / count) / self.block;
                let to = (offset + ((n + 1) * span).div_ceil(count)).div_ceil(self.block);
                let from = (from as usize).min(peaks.len() - 1);
                let to = (to as usize).clamp(from + 1, peaks.len());
                Peak::joined(peaks[from..to].iter().copied())
            })
            .collect()
    }
}

/// Makes both files from a stream.
pub struct OverviewMaker {
    channels: usize,
    frames: u64,
    peaks: Vec<Peak>,
    block: Vec<f32>,
    envelope: EnvelopeMaker,
}

impl OverviewMaker {
    /// For interleaved samples of a rate.
    pub fn new(rate_hz: u32, channels: usize) -> Self {
        Self {
            channels: channels.max(1),
            frames: 0,
            peaks: Vec::new(),
            block: Vec::new(),
            envelope: EnvelopeMaker::new(rate_hz, channels),
        }
    }

    /// The next frames, interleaved.
    pub fn push(&mut self, samples: &[f32]) {
        self.envelope.push(samples);
        self.frames += (samples.len() / self.channels) as u64;
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
        let of = |channel| Peak::of(self.block[channel..].iter().step_by(self.channels));
        self.peaks.extend((0..self.channels).map(of));
        self.block.clear();
    }

    /// The peaks' file and the levels' file.
    pub fn finish(mut self) -> (Vec<u8>, Vec<u8>) {
        if !self.block.is_empty() {
            self.end_block();
        }
        let overview = Overview {
            frames: self.frames,
            channels: self.channels as u64,
        };
        let mut bytes = overview.header().to_vec();
        let mut level = self.peaks;
        for _ in overview.blocks() {
            bytes.extend(level.iter().flat_map(|peak| {
                [peak.low, peak.high, peak.power.sqrt()]
                    .map(|value| (value.clamp(-1.0, 1.0) * FULL).round() as i16)
                    .into_iter()
                    .flat_map(i16::to_le_bytes)
            }));
            level = level
                .chunks(self.channels * COARSER as usize)
                .flat_map(|group| {
                    (0..self.channels)
                        .map(|channel| Peak::joined(group[channel..].iter().step_by(self.channels).copied()))
                })
                .collect();
        }
        let envelope = self.envelope.finish();
        let levels = envelope
            .levels
            .iter()
            .flat_map(|level| level.to_le_bytes())
            .collect();
        (bytes, levels)
    }
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

    /// 100,000 stereo frames; one is loud, on the right side alone.
    fn recorded() -> (Vec<u8>, Vec<u8>) {
        let mut samples = vec![0.0f32; 200_000];
        samples[2 * 61_728 + 1] = 0.75;
        let mut maker = OverviewMaker::new(48_000, 2);
        samples.chunks(997 * 2).for_each(|part| maker.push(part));
        maker.finish()
    }

    fn seen(file: &[u8], first: u64, end: u64, columns: usize, channel: Option<usize>) -> (usize, Vec<f32>) {
        let overview = Overview::read(&file[..16]).unwrap();
        let part = overview.part(first, end, columns);
        let bytes = &file[part.bytes.start as usize..part.bytes.end as usize];
        let peaks = part.columns(bytes, (first, end), columns, channel);
        (bytes.len(), peaks.iter().map(|peak| peak.high).collect())
    }

    #[test]
    fn one_loud_frame_is_seen_in_its_place_from_any_distance() {
        let (file, levels) = recorded();
        for (first, end, columns) in [
            (0, 100_000, 5),
            (0, 100_000, 50),
            (50_000, 70_000, 40),
            (61_000, 62_000, 4),
        ] {
            let (_, highs) = seen(&file, first, end, columns, None);
            assert_eq!(highs.len(), columns);
            let at = ((61_728 - first) * columns as u64 / (end - first)) as usize;
            assert!((highs[at] - 0.75).abs() < 1e-3, "{first}..{end}: {highs:?}");
            // A column further off than one peak is wide shows none of it.
            let far = (at + columns / 2) % columns;
            assert_eq!(highs[far], 0.0, "{first}..{end}: {highs:?}");
        }
        assert!(
            envelope_of(&levels, 48_000)
                .levels
                .iter()
                .any(|level| *level > 0.03)
        );
    }

    #[test]
    fn sides_are_seen_apart() {
        let (file, _) = recorded();
        let of = |channel| seen(&file, 0, 100_000, 50, channel).1[30];
        assert_eq!(of(Some(0)), 0.0);
        assert!((of(Some(1)) - 0.75).abs() < 1e-3 && of(None) == of(Some(1)));
    }

    #[test]
    fn from_afar_little_is_read() {
        let (file, _) = recorded();
        // 391 peaks of 256 frames; 49 of 2,048; 7 of 16,384; 1 of 131,072: of two sides.
        assert_eq!(file.len(), 16 + (391 + 49 + 7 + 1) * 12);
        assert_eq!(seen(&file, 0, 100_000, 40, None).0, 49 * 12);
        assert_eq!(seen(&file, 0, 100_000, 5, None).0, 7 * 12);
        assert_eq!(Overview::read(&[0; 16]), None);
        assert_eq!(Overview::read(&[1, 2]), None);
    }
}
