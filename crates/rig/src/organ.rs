//! The Parlour reed organ: two ranks of reeds that beat slowly, drawn together or each alone, and a felt that falls back on key-up.

use crate::{MidiMessage, Player};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;

const PARTIALS: usize = 12;
/// The second rank wavers against the first this many times a second, and a little more for every Hz of pitch.
const BEAT_HZ: f32 = 0.1;
const BEAT_PER_HZ: f32 = 0.0024;
/// Speech of a reed: it needs this long to swing up.
const ATTACK_S: f32 = 0.045;
const RELEASE_S: f32 = 0.09;
const FELT_S: f32 = 0.05;

/// The stops, by a MIDI controller: both ranks, the front one, the back one, neither, a quarter of its way each.
const STOPS: u8 = 20;

struct Reed {
    key: u8,
    velocity: f32,
    held: bool,
    level: f32,
    felt: f32,
    felt_low: f32,
    /// Rotating phasors, one a partial and rank: (re, im), stepped by (re, im).
    partials: Vec<[f32; 6]>,
}

pub(crate) struct ReedOrgan {
    rate: f32,
    seed: u64,
    random: Pcg32,
    /// Whether each rank is drawn.
    drawn: [bool; 2],
    reeds: Vec<Reed>,
}

impl ReedOrgan {
    pub(crate) fn new(rate_hz: u32, seed: u64) -> Self {
        Self {
            rate: rate_hz as f32,
            seed,
            random: Pcg32::seed_from_u64(seed),
            drawn: [true; 2],
            reeds: Vec::new(),
        }
    }

    /// Every reed has its own small mistuning and colour, the same whenever it is played.
    fn reed(&self, key: u8, velocity: u8) -> Reed {
        let mut own = Pcg32::seed_from_u64(self.seed ^ (u64::from(key) << 20));
        let velocity = f32::from(velocity) / 127.0;
        let base = 440.0 * 2f32.powf((f32::from(key) - 69.0) / 12.0);
        let out_of_tune = own.random_range(-4.0f32..6.0);
        let mut partials = Vec::new();
        for rank in 0..2 {
            let hz = base * 2f32.powf(out_of_tune / 1200.0) + rank as f32 * (BEAT_HZ + BEAT_PER_HZ * base);
            for number in 1..=PARTIALS {
                let n = number as f32;
                let colour: f32 = own.random_range(0.7..1.3);
                if hz * n > self.rate * 0.45 {
                    continue;
                }
                // Stronger wind brings out the upper partials.
                let amplitude = colour * n.powf(-1.9 + 0.8 * velocity) * if rank == 0 { 1.0 } else { 0.45 };
                let angle = own.random_range(0.0..std::f32::consts::TAU);
                // Drawn from one run of numbers, whichever is drawn: a rank alone is what it is among both.
                if !self.drawn[rank] {
                    continue;
                }
                let step = std::f32::consts::TAU * hz * n / self.rate;
                let lean = if rank == 0 { 0.85 } else { 1.15 };
                partials.push([
                    amplitude * angle.cos(),
                    amplitude * angle.sin(),
                    step.cos(),
                    step.sin(),
                    lean,
                    2.0 - lean,
                ]);
            }
        }
        Reed {
            key,
            velocity,
            held: true,
            level: 0.0,
            felt: 0.0,
            felt_low: 0.0,
            partials,
        }
    }
}

impl Player for ReedOrgan {
    fn midi(&mut self, message: MidiMessage) {
        match message {
            MidiMessage::NoteOn { key, velocity, .. } => {
                let reed = self.reed(key, velocity);
                self.reeds.push(reed);
            }
            MidiMessage::NoteOff { key, .. } => {
                for reed in self.reeds.iter_mut().filter(|reed| reed.key == key && reed.held) {
                    reed.held = false;
                    reed.felt = 0.02;
                }
            }
            MidiMessage::Controller {
                number: STOPS, value, ..
            } => {
                self.drawn = match value {
                    0..32 => [true, true],
                    32..64 => [true, false],
                    64..96 => [false, true],
                    _ => [false, false],
                };
            }
            _ => {}
        }
    }

    fn render(&mut self, left: &mut [f32], right: &mut [f32]) {
        let (attack, release) = (
            1.0 / (ATTACK_S * self.rate),
            (-6.9 / (RELEASE_S * self.rate)).exp(),
        );
        let felt_fall = (-6.9 / (FELT_S * self.rate)).exp();
        for reed in &mut self.reeds {
            let gain = 0.06 + 0.10 * reed.velocity;
            for (l, r) in left.iter_mut().zip(right.iter_mut()) {
                reed.level = if reed.held {
                    (reed.level + attack).min(1.0)
                } else {
                    reed.level * release
                };
                let (mut a, mut b) = (0.0, 0.0);
                for [re, im, cos, sin, to_left, to_right] in &mut reed.partials {
                    (*re, *im) = (*re * *cos - *im * *sin, *re * *sin + *im * *cos);
                    a += *im * *to_left;
                    b += *im * *to_right;
                }
                reed.felt *= felt_fall;
                if reed.felt > 1e-6 {
                    reed.felt_low += 0.2 * (self.random.random_range(-1.0f32..1.0) - reed.felt_low);
                }
                *l += a * reed.level * gain + reed.felt_low * reed.felt;
                *r += b * reed.level * gain + reed.felt_low * reed.felt;
            }
            // Rotation by rounded numbers drifts: pulled back once a block.
            for [re, im, cos, sin, ..] in &mut reed.partials {
                let length = (*cos * *cos + *sin * *sin).sqrt();
                let pull = length.powi(-(left.len() as i32));
                (*re, *im) = (*re * pull, *im * pull);
            }
        }
        self.reeds
            .retain(|reed| reed.held || reed.level > 1e-5 || reed.felt > 1e-6);
    }
}
