//! What moves slowly: chorus, tremolo, vibrato.

use crate::line::Line;
use crate::{Process, Settings};
use std::f64::consts::PI;

/// Longest by the tables of settings: a chorus 8 ms around 20; of a vibrato 100 cents at 0.5 Hz, which is 19 ms.
const CHORUS_MOST_MS: f64 = 30.0;
const VIBRATO_MOST_MS: f64 = 42.0;

/// Where a round of a slow movement is, 0 to 1.
#[derive(Debug, Clone, Copy, Default)]
struct Phase(f64);

impl Phase {
    /// Goes on by so many frames.
    fn go(&mut self, hz: f64, frames: usize, rate_hz: f64) -> (f64, f64) {
        let before = self.0;
        let after = before + hz * frames as f64 / rate_hz;
        self.0 = after - libm::floor(after);
        (before, after)
    }
}

fn sine(rounds: f64) -> f64 {
    libm::sin(2.0 * PI * rounds)
}

/// From one value to another within a block.
fn between((from, to): (f64, f64), frames: usize) -> impl Iterator<Item = f32> {
    let by = (to - from) / frames.max(1) as f64;
    (1..=frames).map(move |n| (from + by * n as f64) as f32)
}

/// Two that are slightly off on each side, a quarter of a round apart; or one on each side, half a round apart.
#[derive(Debug)]
pub(crate) struct Chorus {
    rate_hz: f64,
    lines: [Line; 2],
    phase: Phase,
    hz: f64,
    /// In frames: a block ago, and now.
    depth: (f64, f64),
    /// The same of what they move around.
    middle: (f64, f64),
    one_a_side: bool,
}

impl Chorus {
    pub(crate) fn new(rate_hz: f64) -> Self {
        let longest = (CHORUS_MOST_MS / 1_000.0 * rate_hz) as usize;
        Self {
            rate_hz,
            lines: [Line::new(longest), Line::new(longest)],
            phase: Phase::default(),
            hz: 0.0,
            depth: (0.0, 0.0),
            middle: (0.0, 0.0),
            one_a_side: false,
        }
    }
}

impl Process for Chorus {
    fn set(&mut self, settings: &Settings, _: f64) {
        let [hz, depth_ms, _, around_ms, voices, ..] = *settings;
        let frames = |ms: f64| ms / 1_000.0 * self.rate_hz;
        (self.hz, self.depth.1) = (hz, frames(depth_ms));
        // None is ever early.
        self.middle.1 = frames(around_ms).max(self.depth.1 + 1.0);
        if self.middle.0 == 0.0 {
            self.middle.0 = self.middle.1;
        }
        self.one_a_side = voices >= 0.5;
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let frames = left.len();
        let (before, after) = self.phase.go(self.hz, frames, self.rate_hz);
        for (n, (line, side)) in self.lines.iter_mut().zip([left, right]).enumerate() {
            // Around the round: four voices, two a side, or two.
            let at = |(middle, depth): (f64, f64), rounds: f64, voice: f64| {
                middle + depth * sine(rounds + voice / 4.0)
            };
            let (was, is) = ((self.middle.0, self.depth.0), (self.middle.1, self.depth.1));
            let of_side = n as f64;
            let voices = if self.one_a_side {
                [2.0 * of_side; 2]
            } else {
                [of_side, of_side + 2.0]
            };
            let [one, other] =
                voices.map(|voice| between((at(was, before, voice), at(is, after, voice)), frames));
            for ((frame, one), other) in side.iter_mut().zip(one).zip(other) {
                line.put(*frame);
                *frame = (line.between(one) + line.between(other)) / 2.0;
            }
        }
        (self.depth.0, self.middle.0) = (self.depth.1, self.middle.1);
    }

    fn clear(&mut self) {
        self.lines.iter_mut().for_each(Line::clear);
    }
}

/// Level that goes down and comes back.
#[derive(Debug, Default)]
pub(crate) struct Tremolo {
    rate_hz: f64,
    phase: Phase,
    hz: f64,
    depth: f64,
    apart: f64,
}

impl Tremolo {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            ..Self::default()
        }
    }
}

impl Process for Tremolo {
    fn set(&mut self, settings: &Settings, _: f64) {
        let [hz, depth, apart, ..] = *settings;
        (self.hz, self.depth, self.apart) = (hz, depth / 100.0, apart / 360.0);
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let frames = left.len();
        let (before, after) = self.phase.go(self.hz, frames, self.rate_hz);
        for (n, side) in [left, right].into_iter().enumerate() {
            let level = |rounds: f64| {
                let rounds = rounds + self.apart * n as f64;
                1.0 - self.depth * (0.5 - 0.5 * libm::cos(2.0 * PI * rounds))
            };
            for (frame, level) in side
                .iter_mut()
                .zip(between((level(before), level(after)), frames))
            {
                *frame *= level;
            }
        }
    }

    fn clear(&mut self) {
        self.phase = Phase::default();
    }
}

/// Pitch that goes up and down: what is read from later and later is lower, by 1 − d′ where d is how late.
#[derive(Debug)]
pub(crate) struct Vibrato {
    rate_hz: f64,
    lines: [Line; 2],
    phase: Phase,
    hz: f64,
    depth: f64,
    late: f64,
}

impl Vibrato {
    pub(crate) fn new(rate_hz: f64) -> Self {
        let longest = (VIBRATO_MOST_MS / 1_000.0 * rate_hz) as usize;
        Self {
            rate_hz,
            lines: [Line::new(longest), Line::new(longest)],
            phase: Phase::default(),
            hz: 0.0,
            depth: 0.0,
            late: 0.0,
        }
    }
}

impl Process for Vibrato {
    fn set(&mut self, settings: &Settings, _: f64) {
        let [hz, cents, ..] = *settings;
        let ratio = libm::exp2(cents / 1_200.0) - 1.0;
        let depth = ratio / (2.0 * PI * hz) * self.rate_hz;
        // It begins where it stays.
        if self.late == 0.0 {
            (self.late, self.depth) = (depth + 2.0, depth);
        }
        (self.hz, self.depth) = (hz, depth);
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let frames = left.len();
        let (before, after) = self.phase.go(self.hz, frames, self.rate_hz);
        let (was, is) = (self.late, self.depth + 2.0);
        self.late = is;
        let at = |late: f64, rounds: f64| late + (late - 2.0) * sine(rounds);
        for (line, side) in self.lines.iter_mut().zip([left, right]) {
            for (frame, late) in side
                .iter_mut()
                .zip(between((at(was, before), at(is, after)), frames))
            {
                line.put(*frame);
                *frame = line.between(late.max(1.0));
            }
        }
    }

    fn clear(&mut self) {
        self.lines.iter_mut().for_each(Line::clear);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    /// What comes of a sine.
    fn heard(process: &mut dyn Process, settings: Settings, hz: f64, frames: usize) -> Vec<f32> {
        let mut out = Vec::new();
        for first in (0..frames).step_by(32) {
            let sine = |n: usize| (2.0 * PI * hz * (first + n) as f64 / RATE).sin() as f32;
            let mut left: Vec<f32> = (0..32).map(sine).collect();
            let mut right = left.clone();
            process.set(&settings, 120.0);
            process.run(&mut left, &mut right);
            out.extend(left);
        }
        out
    }

    /// Pitch by the distance of rising crossings of zero.
    #[test]
    fn a_vibrato_goes_as_many_cents_up_and_down_as_it_says() {
        let mut vibrato = Vibrato::new(RATE);
        let settings = [5.0, 50.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0];
        let out = heard(&mut vibrato, settings, 1_000.0, 48_000);
        let crossings: Vec<f64> = (4_800..out.len() - 1)
            .filter(|&n| out[n] <= 0.0 && out[n + 1] > 0.0)
            .map(|n| n as f64 + f64::from(-out[n] / (out[n + 1] - out[n])))
            .collect();
        let cents = crossings
            .windows(2)
            .map(|two| 1_200.0 * (RATE / (two[1] - two[0]) / 1_000.0).log2());
        let (low, high) = cents.fold((0.0f64, 0.0f64), |(low, high), c| (low.min(c), high.max(c)));
        assert!(
            (high - 50.0).abs() < 1.0 && (low + 50.0).abs() < 2.5,
            "{low} {high}"
        );
    }

    #[test]
    fn a_tremolo_only_lowers_and_comes_back() {
        let mut tremolo = Tremolo::new(RATE);
        let out = heard(
            &mut tremolo,
            [4.0, 60.0, 180.0, 0.0, 0.0, 0.0, 0.0, 0.0],
            1_000.0,
            48_000,
        );
        let peak = |part: &[f32]| part.iter().fold(0.0f32, |most, x| most.max(x.abs()));
        let peaks: Vec<f32> = out.chunks(480).map(peak).collect();
        let (low, high) = peaks
            .iter()
            .fold((1.0f32, 0.0f32), |(low, high), x| (low.min(*x), high.max(*x)));
        assert!(high <= 1.0 && high > 0.98, "{high}");
        assert!((low - 0.4).abs() < 0.02, "{low}");
    }

    /// A click through a chorus that stands still comes so late as it lies around, on both sides; where it moves, two voices a side come apart and one does not.
    #[test]
    fn a_chorus_lies_around_its_delay_with_as_many_voices_as_it_says() {
        let after = |settings: Settings| {
            let mut chorus = Chorus::new(RATE);
            let (mut heard, mut other) = (Vec::new(), Vec::new());
            for first in (0..9_600).step_by(32) {
                let click = |n: usize| f32::from(u8::from(first + n == 4_800));
                let mut left: Vec<f32> = (0..32).map(click).collect();
                let mut right = left.clone();
                chorus.set(&settings, 120.0);
                chorus.run(&mut left, &mut right);
                heard.extend(left);
                other.extend(right);
            }
            let late = |of: &[f32]| {
                (4_800..9_600)
                    .filter(|&n| of[n].abs() > 0.2)
                    .map(|n| n - 4_800)
                    .collect::<Vec<_>>()
            };
            [late(&heard), late(&other)]
        };
        let still = |around: f64| after([1.0, 0.0, 100.0, around, 0.0, 0.0, 0.0, 0.0]);
        assert_eq!(still(5.0), [vec![240], vec![240]], "5 ms at 48 kHz");
        assert_eq!(still(12.0), [vec![576], vec![576]]);
        let [two, _] = after([5.0, 4.0, 100.0, 10.0, 0.0, 0.0, 0.0, 0.0]);
        let [one, other] = after([5.0, 4.0, 100.0, 10.0, 1.0, 0.0, 0.0, 0.0]);
        assert!(
            two.last()
                .zip(two.first())
                .is_some_and(|(last, first)| last - first > 10),
            "{two:?}"
        );
        assert!(
            one.last()
                .zip(one.first())
                .is_some_and(|(last, first)| last - first < 3),
            "{one:?}"
        );
        assert!(!other.is_empty(), "one on each side");
    }
}
