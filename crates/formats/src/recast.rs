//! Audio in another form than it was recorded in: at another rate, with its sides made one.

use crate::Format;
use program::{Loop, LoopRuns, LoopWay, Program, Sample};
use serde::{Deserialize, Serialize};
use signal::RESAMPLING_REACH;

/// The highest rate a SoundFont holds (2.04, section 7.10).
pub const SOUNDFONT_MOST_HZ: u32 = 50_000;
/// Frames that a SoundFont has of a loop at least, and before and after it (section 7.10). Loops at another rate are no shorter in any format.
const LEAST_LOOP: f64 = 32.0;
const BESIDE_LOOP: f64 = 8.0;

/// The form of written audio.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct AudioForm {
    /// Frames per second; `None` for each as it was recorded.
    pub rate_hz: Option<u32>,
    /// Whether two sides are made one.
    pub one_side: bool,
}

impl AudioForm {
    /// The rate that a sample is written at. What a format does not hold comes down to the highest usual rate below that it is a multiple of, or else 48,000 Hz.
    pub(crate) fn rate_of(self, sample: &Sample, format: Format) -> u32 {
        let rate = self.rate_hz.unwrap_or(sample.rate_hz);
        if format != Format::SoundFont2 || rate <= SOUNDFONT_MOST_HZ {
            rate
        } else if rate.is_multiple_of(44_100) {
            44_100
        } else {
            48_000
        }
    }

    /// So many decibels what has one side is lowered by, beside all that is written with it, when sides are made one. The mean of two sides is heard 3 dB softer from the
    /// middle than the two were: what had one side before comes down with them, so that levels stay as they were to each other and nothing is cut off at full scale.
    pub(crate) fn narrow_db<'a>(self, mut programs: impl Iterator<Item = &'a Program>) -> f64 {
        let is_wide = |program: &Program| {
            let played = program
                .regions
                .iter()
                .filter_map(|region| program.samples.get(region.sample));
            played.into_iter().any(|sample| sample.channels > 1)
        };
        if self.one_side && programs.any(is_wide) {
            10.0 * 2.0_f64.log10()
        } else {
            0.0
        }
    }
}

/// How often a loop is written out, for a format that wants it longer than it is, or later.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rounds {
    /// Rounds that are written before the loop.
    pub before: u64,
    /// Rounds that are in it.
    pub inside: u64,
    /// Frames after it that go on as its start does, in place of what follows there; 0 keeps that.
    pub after_frames: u64,
}

impl Rounds {
    /// As it is.
    pub const PLAIN: Self = Self {
        before: 0,
        inside: 1,
        after_frames: 0,
    };

    /// How often a loop is written so that it is long enough for the format, and has enough beside it, at `ratio` frames for each of the recording. What is heard
    /// after it is kept, where that is enough.
    pub(crate) fn of(
        looped: &Loop,
        (start_frame, end_frame): (u64, u64),
        ratio: f64,
        format: Format,
    ) -> Self {
        let is_recast = ratio != 1.0;
        if format != Format::SoundFont2 && !is_recast {
            return Self::PLAIN;
        }
        let round = looped.round_frames();
        let scaled = |frames: f64| (frames / ratio).ceil() as u64 + u64::from(is_recast);
        let beside = scaled(BESIDE_LOOP);
        let missing = beside.saturating_sub(looped.start_frame - start_frame);
        let heard_after = looped.runs == LoopRuns::WhileHeld && looped.way == LoopWay::Forward;
        let is_kept = heard_after && end_frame - looped.end_frame >= beside;
        // A resampler hears this much on either side of a frame: it must hear nothing but the loop.
        let reach = if is_recast { 2 * RESAMPLING_REACH as u64 } else { 0 };
        Self {
            before: missing.div_ceil(round),
            inside: scaled(LEAST_LOOP).div_ceil(round),
            after_frames: if is_kept { 0 } else { beside + reach },
        }
    }
}

/// How baked audio comes to another rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Recast {
    /// Frames per second.
    pub rate_hz: u32,
    /// Frames for each frame before: so near to that of the rates that the loop has a whole number of them.
    pub ratio: f64,
    /// All frames.
    pub frames: u64,
}

impl Recast {
    /// Of so many frames with this loop, as written at the rate that it was recorded in; with the loop as it lies then.
    pub(crate) fn of(
        (from_hz, rate_hz): (u32, u32),
        frames: u64,
        looped: Option<Loop>,
        rounds: Rounds,
    ) -> (Self, Option<Loop>) {
        let rates = f64::from(rate_hz) / f64::from(from_hz);
        let Some(looped) = looped else {
            let frames = (frames as f64 * rates).round().max(1.0) as u64;
            let recast = Self {
                rate_hz,
                ratio: rates,
                frames,
            };
            return (recast, None);
        };
        let before = looped.end_frame - looped.start_frame;
        let round = (before as f64 * rates).round().max(1.0);
        let ratio = round / before as f64;
        let first = if rounds.after_frames > 0 {
            // So late that what was heard in place of its frames is the loop alone, from the first to the last: it goes round as it did.
            ((looped.start_frame + RESAMPLING_REACH as u64) as f64 * ratio).round()
        } else {
            // Its end is not later than it was: behind it lies what comes after the key.
            (looped.start_frame as f64 * ratio).floor()
        };
        let recast = Self {
            rate_hz,
            ratio,
            frames: (frames as f64 * ratio).round() as u64,
        };
        let looped = Loop {
            start_frame: first as u64,
            end_frame: (first + round) as u64,
            ..looped
        };
        (recast, Some(looped))
    }

    /// How many cents lower than it was it sounds, since its ratio is not that of the rates.
    pub(crate) fn lower_by_cents(&self, from_hz: u32) -> f64 {
        1200.0 * (self.ratio * f64::from(from_hz) / f64::from(self.rate_hz)).log2()
    }
}
