//! An outside box that sound is played through: an echo with some hiss.

use crate::Block;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;
use std::collections::VecDeque;

const ECHO_S: f64 = 0.28;
const FEEDBACK: f32 = 0.4;
const WET: f32 = 0.5;
const HISS_DBFS: f32 = -72.0;

/// An echo behind a converter with a delay of its own.
pub struct EchoBox {
    frame: u64,
    /// Interleaved stereo by the frame at which it leaves.
    playing: Vec<(u64, Vec<f32>)>,
    echo: VecDeque<[f32; 2]>,
    converter: VecDeque<[f32; 2]>,
    random: Pcg32,
}

impl EchoBox {
    /// A box at rest, so many milliseconds of converter away.
    pub fn new(rate_hz: u32, delay_ms: f64, seed: u64) -> Self {
        let line = |seconds: f64| {
            let frames = (f64::from(rate_hz) * seconds).round() as usize;
            VecDeque::from(vec![[0.0; 2]; frames.max(1)])
        };
        Self {
            frame: 0,
            playing: Vec::new(),
            echo: line(ECHO_S),
            converter: line(delay_ms / 1000.0),
            random: Pcg32::seed_from_u64(seed),
        }
    }

    /// Sound to leave from an input frame on, interleaved stereo. Gives the frame at which it really leaves: not before now.
    pub fn play(&mut self, at_frame: u64, samples: Vec<f32>) -> u64 {
        let at = at_frame.max(self.frame);
        self.playing.push((at, samples));
        at
    }

    /// Next frame to come.
    pub fn frame(&self) -> u64 {
        self.frame
    }

    /// The next frames that come back, stereo.
    pub fn render(&mut self, frames: usize) -> Block {
        let mut block = Block {
            first_frame: self.frame,
            samples: Vec::with_capacity(frames * 2),
        };
        let hiss = 10f32.powf(HISS_DBFS / 20.0) * 3f32.sqrt();
        for _ in 0..frames {
            let mut dry = [0.0f32; 2];
            for (at, samples) in &self.playing {
                let n = self.frame.checked_sub(*at).map(|n| n as usize * 2);
                if let Some([left, right]) = n.and_then(|n| samples.get(n..n + 2)) {
                    dry = [dry[0] + left, dry[1] + right];
                }
            }
            let echo = self.echo.pop_front().unwrap_or_default();
            self.echo
                .push_back([0, 1].map(|side| dry[side] + FEEDBACK * echo[side]));
            self.converter
                .push_back([0, 1].map(|side| dry[side] + WET * echo[side]));
            for sample in self.converter.pop_front().unwrap_or_default() {
                let heard = sample + hiss * self.random.random_range(-1.0f32..1.0);
                block.samples.push(heard.clamp(-1.0, 1.0));
            }
            self.frame += 1;
        }
        let now = self.frame;
        self.playing
            .retain(|(at, samples)| at + samples.len() as u64 / 2 > now);
        block
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_played_comes_back_late_and_again() {
        let mut echo = EchoBox::new(48_000, 12.0, 1);
        assert_eq!(echo.play(1_000, vec![0.8, 0.4]), 1_000);
        let back = echo.render(20_000).samples;
        let at = |frame: usize| back[frame * 2];
        assert!((at(1_000 + 576) - 0.8).abs() < 1e-3);
        assert!((at(1_000 + 576 + 13_440) - 0.4).abs() < 1e-3);
        assert!(at(5_000).abs() < 1e-3);
    }
}
