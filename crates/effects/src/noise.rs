//! Hiss that follows the note.

use crate::biquad::OnePole;
use crate::{Process, Settings, gain, keeps};

/// How fast it comes with the note, and goes.
const COMES_MS: f64 = 2.0;
const GOES_MS: f64 = 60.0;

/// Noise as loud beside what sounds as is said.
#[derive(Debug)]
pub(crate) struct Noise {
    rate_hz: f64,
    keeps: [f32; 2],
    level: f32,
    tone: [OnePole; 2],
    follows: f32,
    seed: u32,
    set: Option<Settings>,
}

impl Noise {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            keeps: [keeps(COMES_MS, rate_hz) as f32, keeps(GOES_MS, rate_hz) as f32],
            level: 0.0,
            tone: Default::default(),
            follows: 0.0,
            seed: 1,
            set: None,
        }
    }

    /// −1 to 1 (Marsaglia, *Xorshift RNGs*, Journal of Statistical Software 8, 2003).
    fn next(&mut self) -> f32 {
        self.seed ^= self.seed << 13;
        self.seed ^= self.seed >> 17;
        self.seed ^= self.seed << 5;
        self.seed as i32 as f32 / 2_147_483_648.0
    }
}

impl Process for Noise {
    fn set(&mut self, settings: &Settings, _: f64) {
        if self.set == Some(*settings) {
            return;
        }
        self.set = Some(*settings);
        self.level = gain(settings[0]) as f32;
        for tone in &mut self.tone {
            tone.set(settings[1], self.rate_hz);
        }
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        for (left, right) in left.iter_mut().zip(right) {
            let loud = left.abs().max(right.abs());
            let keeps = self.keeps[usize::from(loud < self.follows)];
            self.follows = loud + (self.follows - loud) * keeps;
            let by = self.follows * self.level;
            let (one, other) = (self.next(), self.next());
            *left += by * self.tone[0].next(one);
            *right += by * self.tone[1].next(other);
        }
    }

    fn clear(&mut self) {
        self.follows = 0.0;
        self.tone.iter_mut().for_each(OnePole::clear);
    }
}
