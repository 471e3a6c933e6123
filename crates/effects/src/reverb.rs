//! A room, of nothing recorded: eight lines that feed each other through a Hadamard matrix, which loses nothing (Jot and Chaigne, *Digital Delay Networks
//! for Designing Artificial Reverberators*, AES 90, 1991), behind four all-passes that make many of one (Schroeder, *Natural Sounding Artificial
//! Reverberation*, JAES 10, 1962). Each line loses as much as its length of the time in which all falls by 60 dB.

use crate::biquad::OnePole;
use crate::line::Line;
use crate::{Process, Settings, keeps};

const LINES: usize = 8;
/// In milliseconds, of a room of middling size: none a multiple of another (our own choice).
const LINES_MS: [f64; LINES] = [31.3, 35.9, 39.7, 43.1, 48.7, 53.3, 58.9, 64.7];
/// Lengths of the all-passes, in milliseconds, left and right.
const SPREAD_MS: [[f64; 4]; 2] = [[4.71, 3.59, 12.73, 9.31], [5.17, 3.19, 13.37, 8.77]];
const SPREAD: f32 = 0.6;
/// How each line is fed, and heard: no row of the matrix, which would make one line of all.
const FED: [f32; LINES] = [0.5, 0.5, 0.5, -0.5, -0.5, 0.5, 0.5, 0.5];
const HEARD: [f32; LINES] = [1.0, 1.0, -1.0, 1.0, 1.0, 1.0, 1.0, -1.0];
/// Lengths of a room of size 0 and of 100, beside the middling.
const SIZES: (f64, f64) = (0.3, 2.0);
const BEFORE_MOST_MS: f64 = 200.0;
/// How fast a size goes to another.
const GROWS_MS: f64 = 120.0;

/// An all-pass around a line.
#[derive(Debug)]
struct Spread {
    line: Line,
    frames: usize,
}

impl Spread {
    fn new(ms: f64, rate_hz: f64) -> Self {
        let frames = (ms / 1_000.0 * rate_hz) as usize;
        Self {
            line: Line::new(frames),
            frames,
        }
    }

    fn next(&mut self, x: f32) -> f32 {
        let before = self.line.ago(self.frames - 1);
        let inner = x - SPREAD * before;
        self.line.put(inner);
        before + SPREAD * inner
    }
}

/// See above.
#[derive(Debug)]
pub(crate) struct Reverb {
    rate_hz: f64,
    before: [Line; 2],
    before_frames: f32,
    before_to: f32,
    spread: [[Spread; 4]; 2],
    lines: [Line; LINES],
    /// Lengths beside those of a middling room: now, and where they go.
    size: f32,
    size_to: f32,
    grows: f32,
    lengths: [f32; LINES],
    keeps: [f32; LINES],
    tone: [OnePole; LINES],
    level: f32,
    set: Option<Settings>,
}

impl Reverb {
    pub(crate) fn new(rate_hz: f64) -> Self {
        let frames = |ms: f64| ms / 1_000.0 * rate_hz;
        let longest = |ms: f64| Line::new(frames(ms * SIZES.1) as usize + 2);
        Self {
            rate_hz,
            before: [0, 1].map(|_| Line::new(frames(BEFORE_MOST_MS) as usize + 2)),
            before_frames: 1.0,
            before_to: 1.0,
            spread: SPREAD_MS.map(|side| side.map(|ms| Spread::new(ms, rate_hz))),
            lines: LINES_MS.map(longest),
            size: 0.0,
            size_to: 0.0,
            grows: keeps(GROWS_MS, rate_hz) as f32,
            lengths: [1.0; LINES],
            keeps: [0.0; LINES],
            tone: [OnePole::default(); LINES],
            level: 0.0,
            set: None,
        }
    }

    /// What each line keeps for a time, and how loud all that comes out of them is beside what goes in.
    fn lose(&mut self, seconds: f64) {
        let mut kept = 0.0;
        for ((keeps, length), ms) in self.keeps.iter_mut().zip(&mut self.lengths).zip(LINES_MS) {
            *length = libm::roundf((ms / 1_000.0 * self.rate_hz) as f32 * self.size);
            *keeps = libm::pow(10.0, -3.0 * f64::from(*length) / (self.rate_hz * seconds)) as f32;
            kept += f64::from(*keeps * *keeps) / LINES as f64;
        }
        // Of power, a round leaves so much, k; all rounds together k/(1 − k). What the tone takes beside is not made up: of low tones it takes nothing.
        self.level = libm::sqrt((1.0 - kept).max(1e-6) / kept) as f32;
    }
}

/// By the Hadamard matrix of eight, over √8.
fn stirred(mut x: [f32; LINES]) -> [f32; LINES] {
    for half in [1, 2, 4] {
        for first in (0..LINES).filter(|n| n & half == 0) {
            let (a, b) = (x[first], x[first + half]);
            (x[first], x[first + half]) = (a + b, a - b);
        }
    }
    x.map(|x| x * 0.353_553_4)
}

impl Process for Reverb {
    fn set(&mut self, settings: &Settings, _: f64) {
        if self.set == Some(*settings) && self.size == self.size_to {
            return;
        }
        let is_first = self.set.is_none();
        self.set = Some(*settings);
        let [size, seconds, tone, before_ms, ..] = *settings;
        self.size_to = (SIZES.0 * libm::pow(SIZES.1 / SIZES.0, size / 100.0)) as f32;
        self.before_to = (before_ms / 1_000.0 * self.rate_hz).max(1.0) as f32;
        if is_first {
            (self.size, self.before_frames) = (self.size_to, self.before_to);
        }
        self.lose(seconds);
        for line in &mut self.tone {
            line.set(tone, self.rate_hz);
        }
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        if self.size != self.size_to {
            let near = (self.size - self.size_to).abs() < 1e-3;
            let keeps = libm::powf(self.grows, left.len() as f32);
            self.size = if near {
                self.size_to
            } else {
                self.size_to + (self.size - self.size_to) * keeps
            };
        }
        for (left, right) in left.iter_mut().zip(right) {
            if self.before_frames != self.before_to {
                let near = (self.before_frames - self.before_to).abs() < 0.01;
                self.before_frames = if near {
                    self.before_to
                } else {
                    self.before_to + (self.before_frames - self.before_to) * self.grows
                };
            }
            let mut sides = [*left, *right];
            for ((side, before), spread) in sides.iter_mut().zip(&mut self.before).zip(&mut self.spread) {
                before.put(*side);
                *side = spread
                    .iter_mut()
                    .fold(before.between(self.before_frames), |x, spread| spread.next(x));
            }
            let mut heard = [0.0; LINES];
            for (n, heard) in heard.iter_mut().enumerate() {
                let late = self.lines[n].between(self.lengths[n] - 1.0);
                *heard = self.tone[n].next(late) * self.keeps[n];
            }
            let wet = [0, 1]
                .map(|side| (side..LINES).step_by(2).map(|n| heard[n] * HEARD[n]).sum::<f32>() * self.level);
            for (n, again) in stirred(heard).into_iter().enumerate() {
                // Each side into every second line, half of the power each.
                self.lines[n].put(again + sides[n % 2] * FED[n]);
            }
            (*left, *right) = (wet[0], wet[1]);
        }
    }

    fn clear(&mut self) {
        self.before.iter_mut().for_each(Line::clear);
        self.lines.iter_mut().for_each(Line::clear);
        self.tone.iter_mut().for_each(OnePole::clear);
        for spread in self.spread.iter_mut().flatten() {
            spread.line.clear();
        }
        (self.size, self.before_frames) = (self.size_to, self.before_to);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    /// What comes of an impulse.
    fn answer(size: f64, seconds: f64, frames: usize) -> Vec<f32> {
        let mut reverb = Reverb::new(RATE);
        reverb.set(&[size, seconds, 20_000.0, 0.0, 100.0, 0.0, 0.0, 0.0], 120.0);
        let mut left = vec![0.0; frames];
        let mut right = left.clone();
        (left[0], right[0]) = (1.0, 1.0);
        for (left, right) in left.chunks_mut(32).zip(right.chunks_mut(32)) {
            reverb.run(left, right);
        }
        left
    }

    /// What is under 1 kHz of it.
    fn low(answer: &[f32]) -> Vec<f32> {
        let mut poles = [OnePole::default(); 2];
        poles.iter_mut().for_each(|pole| pole.set(1_000.0, RATE));
        answer
            .iter()
            .map(|x| poles.iter_mut().fold(*x, |x, pole| pole.next(x)))
            .collect()
    }

    /// ISO 3382-1:2009: the time in which the sound under 1 kHz falls by 60 dB, from the slope of the backward-integrated energy between −5 and −35 dB.
    fn reverberation_s(answer: &[f32]) -> f64 {
        let answer = low(answer);
        let mut energy = 0.0;
        let mut curve: Vec<f64> = answer
            .iter()
            .rev()
            .map(|x| {
                energy += f64::from(x * x);
                energy
            })
            .collect();
        curve.reverse();
        let under = |db: f64| {
            curve
                .iter()
                .position(|e| 10.0 * (e / curve[0]).log10() < -db)
                .unwrap()
        };
        2.0 * (under(35.0) - under(5.0)) as f64 / RATE
    }

    #[test]
    fn it_falls_by_60_db_in_the_time_that_is_said() {
        for size in [0.0, 50.0, 100.0] {
            for seconds in [0.4, 1.6, 6.0] {
                let found = reverberation_s(&answer(size, seconds, (seconds * 1.5 * RATE) as usize));
                assert!((found / seconds - 1.0).abs() < 0.1, "{size} {seconds}: {found}");
            }
        }
    }

    /// The sum of the squares of what comes of an impulse is what noise is louder by.
    #[test]
    fn a_room_is_as_loud_as_what_sounds_in_it() {
        for size in [0.0, 50.0, 100.0] {
            for seconds in [0.3, 1.6, 10.0] {
                let energy = |of: &[f32]| low(of).iter().map(|x| f64::from(x * x)).sum::<f64>();
                let mut pulse = vec![0.0; 4_800];
                pulse[0] = 1.0;
                let answer = answer(size, seconds, (seconds * 1.5 * RATE) as usize);
                let db = 10.0 * (energy(&answer) / energy(&pulse)).log10();
                assert!(db.abs() < 1.5, "{size} {seconds}: {db} dB");
            }
        }
    }

    /// Echoes lie so thick after a tenth of a second that no frame of a millisecond is silent.
    #[test]
    fn echoes_are_many() {
        let of = answer(50.0, 1.6, 48_000);
        let loud = |part: &[f32]| part.iter().map(|x| x * x).sum::<f32>().sqrt();
        let most = of[4_800..9_600].chunks(48).map(loud).fold(0.0, f32::max);
        let few = of[4_800..9_600]
            .chunks(48)
            .filter(|part| loud(part) < most / 100.0);
        assert_eq!(few.count(), 0);
    }
}
