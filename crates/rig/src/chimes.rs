//! The Slate chimes: struck bars of stone with free ends.

use crate::{Gesture, MidiMessage, Player};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;

/// Transverse modes of a bar with free ends (N. H. Fletcher & T. D. Rossing, *The Physics of Musical Instruments*).
pub const BAR_RATIOS: [f64; 4] = [1.0, 2.756, 5.404, 8.933];
/// How loud each is for a middling strike, and how fast it dies: seconds to −60 dB at 500 Hz.
const AMPLITUDES: [f32; 4] = [1.0, 0.32, 0.12, 0.05];
const FALLS_S: [f32; 4] = [2.6, 0.9, 0.4, 0.2];
/// Keys under this one are no bars but the felt that damps them, laid down.
const LOWEST_BAR: u8 = 36;
const FELT_S: f32 = 0.35;
/// The mallet's knock.
const KNOCK_S: f32 = 0.006;
const DOOR_S: f32 = 0.5;
const BREATH_S: f32 = 0.9;
/// A damped bar is gone after this.
const DAMPED_S: f32 = 0.12;
/// Quieter than this a mode is over.
const OVER: f32 = 1e-6;

struct Mode {
    re: f32,
    im: f32,
    cos: f32,
    sin: f32,
    to_left: f32,
}

struct Noise {
    level: f32,
    fall: f32,
    low: f32,
    smooth: f32,
}

pub(crate) struct SlateChimes {
    rate: f32,
    seed: u64,
    random: Pcg32,
    modes: Vec<Mode>,
    noises: Vec<Noise>,
}

impl SlateChimes {
    pub(crate) fn new(rate_hz: u32, seed: u64) -> Self {
        Self {
            rate: rate_hz as f32,
            seed,
            random: Pcg32::seed_from_u64(seed ^ 0xba7),
            modes: Vec::new(),
            noises: Vec::new(),
        }
    }

    /// Strength 0 to about 1; more than that overdrives the converter.
    fn strike(&mut self, key: u8, strength: f32) {
        if key < LOWEST_BAR {
            self.noise(0.5 * strength, FELT_S, 0.04);
            return;
        }
        // Every bar has its own small mistuning, the same whenever it is struck.
        let mut own = Pcg32::seed_from_u64(self.seed ^ (u64::from(key) << 24));
        let cents = own.random_range(-14.0f64..14.0);
        let base = 440.0 * 2f64.powf((f64::from(key) - 69.0 + cents / 100.0) / 12.0);
        let lean = 0.5 + (f32::from(key) - 66.0).clamp(-30.0, 30.0) / 120.0;
        for (n, ratio) in BAR_RATIOS.iter().enumerate() {
            let hz = base * ratio;
            if hz > f64::from(self.rate) * 0.45 {
                continue;
            }
            // A harder strike brings out the upper modes; no two strikes hit the same spot.
            let bright = strength.min(1.2).powf(0.5 * n as f32);
            let spot: f32 = self.random.random_range(0.9..1.1);
            let amplitude = 0.55 * strength * AMPLITUDES[n] * bright * spot;
            let fall = FALLS_S[n] * (500.0 / base as f32).sqrt();
            let shrink = 10f32.powf(-3.0 / (fall * self.rate));
            let (sin, cos) = (std::f64::consts::TAU * hz / f64::from(self.rate)).sin_cos();
            self.modes.push(Mode {
                re: amplitude,
                im: 0.0,
                cos: cos as f32 * shrink,
                sin: sin as f32 * shrink,
                to_left: lean,
            });
        }
        self.noise(0.12 * strength, KNOCK_S, 0.6);
    }

    fn noise(&mut self, level: f32, seconds: f32, smooth: f32) {
        self.noises.push(Noise {
            level,
            fall: 10f32.powf(-3.0 / (seconds * self.rate)),
            low: 0.0,
            smooth,
        });
    }
}

impl Player for SlateChimes {
    fn midi(&mut self, message: MidiMessage) {
        if let MidiMessage::NoteOn { key, velocity, .. } = message {
            self.strike(key, f32::from(velocity) / 127.0);
        }
    }

    fn gesture(&mut self, gesture: Gesture) {
        match gesture {
            Gesture::Strike { key, strength } => self.strike(key, strength),
            Gesture::Door => self.noise(0.35, DOOR_S, 0.03),
            Gesture::Breath => self.noise(0.004, BREATH_S, 0.5),
            Gesture::Damp => {
                let shrink = 10f32.powf(-3.0 / (DAMPED_S * self.rate));
                for mode in &mut self.modes {
                    (mode.cos, mode.sin) = (mode.cos * shrink, mode.sin * shrink);
                }
            }
        }
    }

    fn render(&mut self, left: &mut [f32], right: &mut [f32]) {
        for mode in &mut self.modes {
            for (l, r) in left.iter_mut().zip(right.iter_mut()) {
                (mode.re, mode.im) = (
                    mode.re * mode.cos - mode.im * mode.sin,
                    mode.re * mode.sin + mode.im * mode.cos,
                );
                *l += mode.im * mode.to_left * 1.4;
                *r += mode.im * (1.0 - mode.to_left) * 1.4;
            }
        }
        self.modes.retain(|mode| mode.re.abs() + mode.im.abs() > OVER);
        for noise in &mut self.noises {
            for (l, r) in left.iter_mut().zip(right.iter_mut()) {
                let white = self.random.random_range(-1.0f32..1.0);
                noise.low += noise.smooth * (white - noise.low);
                noise.level *= noise.fall;
                *l += noise.low * noise.level;
                *r += noise.low * noise.level;
            }
        }
        self.noises.retain(|noise| noise.level > OVER);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Fletcher & Rossing: 1 : 2.756 : 5.404 : 8.933.
    #[test]
    fn a_bar_sounds_its_four_modes() {
        let mut chimes = SlateChimes::new(48_000, 3);
        chimes.strike(69, 0.8);
        let (mut left, mut right) = (vec![0.0; 4_096], vec![0.0; 4_096]);
        // After the knock.
        chimes.render(&mut left[..800], &mut right[..800]);
        left.fill(0.0);
        chimes.render(&mut left, &mut right);
        let partials = signal::partials(&left, 48_000);
        let strongest = partials
            .iter()
            .max_by(|a, b| a.amplitude.total_cmp(&b.amplitude))
            .unwrap();
        for ratio in BAR_RATIOS {
            let nearest = partials
                .iter()
                .map(|partial| (partial.hz / strongest.hz / ratio - 1.0).abs())
                .fold(f64::MAX, f64::min);
            assert!(nearest < 2e-3, "{ratio}: off by {nearest}");
        }
    }
}
