//! Echoes.

use crate::biquad::OnePole;
use crate::line::Line;
use crate::{Process, Settings, keeps};

/// Longest, by the table of settings and at the slowest tempo of 1 quarter note a minute it stays there.
const LONGEST_MS: f64 = 2_000.0;
/// How fast the time goes to another: it is heard as a glide.
const GLIDES_MS: f64 = 90.0;

/// Two lines that feed themselves, or each other.
#[derive(Debug)]
pub(crate) struct Delay {
    rate_hz: f64,
    lines: [Line; 2],
    tone: [OnePole; 2],
    /// How late, in frames: now, and where it goes.
    late: f32,
    to: f32,
    glides: f32,
    again: f32,
    crosses: bool,
    /// Of what is heard again, so that all echoes together have the power of what went in.
    level: f32,
    set: Option<(Settings, f64)>,
}

impl Delay {
    pub(crate) fn new(rate_hz: f64) -> Self {
        let longest = (LONGEST_MS / 1_000.0 * rate_hz) as usize + 1;
        Self {
            rate_hz,
            lines: [Line::new(longest), Line::new(longest)],
            tone: Default::default(),
            late: 0.0,
            to: 0.0,
            glides: keeps(GLIDES_MS, rate_hz) as f32,
            again: 0.0,
            crosses: false,
            level: 1.0,
            set: None,
        }
    }
}

impl Process for Delay {
    fn set(&mut self, settings: &Settings, tempo: f64) {
        if self.set == Some((*settings, tempo)) {
            return;
        }
        let is_first = self.set.is_none();
        self.set = Some((*settings, tempo));
        let [time_ms, quarters, again, goes, tone, ..] = *settings;
        let ms = if quarters > 0.0 {
            quarters * 60_000.0 / tempo
        } else {
            time_ms
        };
        self.to = (ms.min(LONGEST_MS) / 1_000.0 * self.rate_hz).max(1.0) as f32;
        if is_first {
            self.late = self.to;
        }
        let again = again / 100.0;
        self.again = again as f32;
        self.level = libm::sqrt(1.0 - again * again) as f32;
        self.crosses = goes >= 0.5;
        for side in &mut self.tone {
            side.set(tone, self.rate_hz);
        }
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for (left, right) in left.iter_mut().zip(right) {
            // Within a hundredth of a frame it is there.
            self.late = if (self.late - self.to).abs() < 0.01 {
                self.to
            } else {
                self.to + (self.late - self.to) * self.glides
            };
            // One frame less: what goes in now was put there before it is read the next time.
            let [one, other] = [&self.lines[0], &self.lines[1]].map(|line| line.between(self.late - 1.0));
            let echo = [self.tone[0].next(one), self.tone[1].next(other)];
            if self.crosses {
                // Both come in on the left.
                self.lines[0].put((*left + *right) / 2.0 + echo[1] * self.again);
                self.lines[1].put(echo[0] * self.again);
            } else {
                self.lines[0].put(*left + echo[0] * self.again);
                self.lines[1].put(*right + echo[1] * self.again);
            }
            (*left, *right) = (echo[0] * self.level, echo[1] * self.level);
        }
    }

    fn clear(&mut self) {
        self.lines.iter_mut().for_each(Line::clear);
        self.tone.iter_mut().for_each(OnePole::clear);
        self.late = self.to;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    fn echoes(settings: Settings, tempo: f64, frames: usize) -> (Vec<f32>, Vec<f32>) {
        let mut delay = Delay::new(RATE);
        delay.set(&settings, tempo);
        let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
        (left[0], right[0]) = (1.0, 1.0);
        for (left, right) in left.chunks_mut(32).zip(right.chunks_mut(32)) {
            delay.run(left, right);
        }
        (left, right)
    }

    fn peaks(side: &[f32]) -> Vec<usize> {
        let most = |n: &usize| {
            let around = &side[n.saturating_sub(400)..(n + 400).min(side.len())];
            side[*n].abs() > 0.01 && around.iter().all(|x| x.abs() <= side[*n].abs())
        };
        (0..side.len()).filter(most).collect()
    }

    #[test]
    fn echoes_come_to_the_frame() {
        let open = 20_000.0;
        let (left, _) = echoes([25.0, 0.0, 50.0, 0.0, open, 100.0, 0.0, 0.0], 120.0, 6_000);
        assert_eq!(peaks(&left), [1_200, 2_400, 3_600, 4_800]);
        // An eighth note at 150 a minute is 200 ms.
        let (left, right) = echoes([25.0, 0.5, 50.0, 1.0, open, 100.0, 0.0, 0.0], 150.0, 30_000);
        assert_eq!(peaks(&left), [9_600, 28_800]);
        assert_eq!(peaks(&right), [19_200]);
    }

    #[test]
    fn each_echo_is_as_much_softer_as_is_said() {
        let (left, _) = echoes([10.0, 0.0, 60.0, 0.0, 20_000.0, 100.0, 0.0, 0.0], 120.0, 6_000);
        let sum = |from: usize| left[from..from + 480].iter().sum::<f32>();
        // Of the sum a filter takes nothing.
        assert!(
            (sum(1_000) / sum(500) - 0.6).abs() < 0.001,
            "{}",
            sum(1_000) / sum(500)
        );
    }
}
