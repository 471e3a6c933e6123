//! The cable, the room and the converter.

use crate::ferry::NightFerry;
use crate::organ::ReedOrgan;
use crate::{MidiParser, Model, Player};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;
use std::collections::VecDeque;

/// How a rig is set up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RigSettings {
    /// From a message leaving to its sound arriving.
    pub delay_ms: f64,
    /// Hum of 50 Hz with two harmonics, RMS.
    pub hum_dbfs: f64,
    /// White noise, RMS.
    pub noise_dbfs: f64,
    /// Of everything random.
    pub seed: u64,
}

impl Default for RigSettings {
    fn default() -> Self {
        Self {
            delay_ms: 12.0,
            hum_dbfs: -84.0,
            noise_dbfs: -78.0,
            seed: 1,
        }
    }
}

/// A numbered stretch of input.
#[derive(Debug, Clone, PartialEq)]
pub struct Block {
    /// Number of its first frame, counted from the start of the input.
    pub first_frame: u64,
    /// Interleaved.
    pub samples: Vec<f32>,
}

/// An instrument, a cable and a converter.
pub struct Rig {
    rate_hz: u32,
    settings: RigSettings,
    player: Box<dyn Player>,
    parser: MidiParser,
    frame: u64,
    scheduled: Vec<(u64, Vec<u8>)>,
    delay_line: VecDeque<[f32; 2]>,
    random: Pcg32,
}

/// Messages take effect on multiples of this many frames after the last, at the exact frame.
const LONGEST_STRETCH: usize = 256;

impl Rig {
    /// A rig at rest.
    pub fn new(model: Model, rate_hz: u32, settings: RigSettings) -> Self {
        let player: Box<dyn Player> = match model {
            Model::NightFerry => Box::new(NightFerry::new(rate_hz)),
            Model::ReedOrgan => Box::new(ReedOrgan::new(rate_hz, settings.seed)),
        };
        let delay = (f64::from(rate_hz) * settings.delay_ms / 1000.0).round() as usize;
        Self {
            rate_hz,
            settings,
            player,
            parser: MidiParser::default(),
            frame: 0,
            scheduled: Vec::new(),
            delay_line: VecDeque::from(vec![[0.0; 2]; delay]),
            random: Pcg32::seed_from_u64(settings.seed ^ 0x5eed),
        }
    }

    /// Bytes to leave at an input frame. Gives the frame at which they really leave: not before now.
    pub fn schedule(&mut self, at_frame: u64, bytes: &[u8]) -> u64 {
        let at = at_frame.max(self.frame);
        let place = self.scheduled.partition_point(|(frame, _)| *frame <= at);
        self.scheduled.insert(place, (at, bytes.to_vec()));
        at
    }

    /// Next frame to come.
    pub fn frame(&self) -> u64 {
        self.frame
    }

    /// The next `frames` frames, stereo.
    pub fn render(&mut self, frames: usize) -> Block {
        let mut block = Block {
            first_frame: self.frame,
            samples: Vec::with_capacity(frames * 2),
        };
        let end = self.frame + frames as u64;
        let hum = 10f32.powf(self.settings.hum_dbfs as f32 / 20.0) * 1.3;
        // Uniform noise of amplitude a has an RMS of a/√3.
        let noise = 10f32.powf(self.settings.noise_dbfs as f32 / 20.0) * 3f32.sqrt();
        let (mut left, mut right) = ([0.0f32; LONGEST_STRETCH], [0.0f32; LONGEST_STRETCH]);
        while self.frame < end {
            while self.scheduled.first().is_some_and(|(at, _)| *at <= self.frame) {
                for byte in self.scheduled.remove(0).1 {
                    if let Some(message) = self.parser.push(byte) {
                        self.player.midi(message);
                    }
                }
            }
            let next = self.scheduled.first().map_or(end, |(at, _)| (*at).min(end));
            let count = ((next - self.frame) as usize).min(LONGEST_STRETCH);
            left[..count].fill(0.0);
            right[..count].fill(0.0);
            self.player.render(&mut left[..count], &mut right[..count]);
            for n in 0..count {
                self.delay_line.push_back([left[n], right[n]]);
                let [l, r] = self.delay_line.pop_front().unwrap_or_default();
                let cycles = (self.frame + n as u64) as f64 * 50.0 / f64::from(self.rate_hz);
                let angle = (cycles.fract() as f32) * std::f32::consts::TAU;
                let hum = hum * (angle.sin() + 0.3 * (2.0 * angle).sin() + 0.2 * (3.0 * angle).sin());
                block
                    .samples
                    .push(l + hum + noise * self.random.random_range(-1.0f32..1.0));
                block
                    .samples
                    .push(r + hum + noise * self.random.random_range(-1.0f32..1.0));
            }
            self.frame += count as u64;
        }
        block
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(model: Model) -> Vec<f32> {
        let mut rig = Rig::new(model, 48_000, RigSettings::default());
        rig.schedule(4_800, &[0x90, 60, 100]);
        rig.schedule(40_000, &[60, 0]);
        let mut all = Vec::new();
        while rig.frame() < 60_000 {
            all.extend(rig.render(1_000).samples);
        }
        all
    }

    #[test]
    fn the_same_run_gives_the_same_samples() {
        for (model, ..) in Model::ALL {
            assert_eq!(run(model), run(model));
        }
    }

    #[test]
    fn a_note_sounds_at_its_pitch_after_the_delay() {
        for (model, _, name) in Model::ALL {
            let audio = signal::Audio::from_interleaved(48_000, 2, &run(model));
            let facts = signal::measure(&audio);
            let pitch = facts.pitch.unwrap();
            assert_eq!(pitch.key, 60, "{name}");
            assert!(pitch.cents.abs() < 8.0, "{name}: {pitch:?}");
            let late_ms = (facts.start_frame as f64 - 4_800.0 - 576.0) / 48.0;
            // Bars page: within a tenth of a slow attack; a reed takes 45 ms to speak, the Night ferry 20.
            let bar_ms = if model == Model::ReedOrgan { 4.5 } else { 2.0 };
            assert!(late_ms.abs() < bar_ms, "{name}: {late_ms}");
        }
    }
}
