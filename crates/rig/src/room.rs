//! The cable, the room and the converter.

use crate::chimes::SlateChimes;
use crate::ferry::NightFerry;
use crate::organ::ReedOrgan;
use crate::{Gesture, MidiParser, Model, Player};
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
    /// How often a player slips.
    pub slips: Slips,
    /// Stereo pairs at once: the first is close, each further one stands 3 m away and more, quieter and duller.
    pub mics: usize,
    /// Of everything random.
    pub seed: u64,
}

/// How often a player slips, each as a share of the strikes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Slips {
    /// The neighbouring note.
    pub wrong_note: f64,
    /// Far too hard.
    pub clipped: f64,
    /// A door in the distance, while the note dies away.
    pub door: f64,
}

impl Slips {
    /// Nobody is so careful.
    pub const NONE: Self = Self {
        wrong_note: 0.0,
        clipped: 0.0,
        door: 0.0,
    };
}

/// A note that is to be played by heart: frames, key and strength.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlayedNote {
    /// When the key goes down.
    pub on_frame: u64,
    /// When it comes up.
    pub off_frame: u64,
    /// Which.
    pub key: u8,
    /// How strong, 1 to 127.
    pub velocity: u8,
}

impl PlayedNote {
    /// A note from one time to another, in milliseconds, in a room of so many frames a second.
    pub fn timed(rate_hz: u32, (on_ms, off_ms): (u64, u64), key: u8, velocity: u8) -> Self {
        let frame = |ms: u64| ms * u64::from(rate_hz) / 1_000;
        Self {
            on_frame: frame(on_ms),
            off_frame: frame(off_ms),
            key,
            velocity,
        }
    }
}

/// Somebody who plays by heart comes early or late by this, breathes in before each note, and starts falsely now and then.
const UNSURE_S: f64 = 0.05;
const BREATH_BEFORE_S: f64 = 0.75;
const FALSE_START_BEFORE_S: f64 = 1.4;

/// A player strikes so long after being asked, and this much louder or softer than asked.
const REACTION_S: std::ops::Range<f64> = 0.5..1.1;
const SPREAD_DB: f64 = 1.5;

impl Default for RigSettings {
    fn default() -> Self {
        Self {
            delay_ms: 12.0,
            hum_dbfs: -84.0,
            noise_dbfs: -78.0,
            slips: Slips {
                wrong_note: 0.05,
                clipped: 0.03,
                door: 0.03,
            },
            mics: 1,
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

/// Bytes before the samples of a block: the number of its first frame.
const NUMBER_BYTES: usize = 8;

impl Block {
    /// As a page sends it: the number of its first frame (64 bits), then samples (32-bit floats), all least significant byte first; what is left
    /// over at the end is no sample. `None` where there is no number.
    pub fn of_message(bytes: &[u8]) -> Option<Self> {
        let (number, samples) = bytes.split_at_checked(NUMBER_BYTES)?;
        Some(Self {
            first_frame: u64::from_le_bytes(number.try_into().ok()?),
            samples: samples
                .chunks_exact(4)
                .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
                .collect(),
        })
    }
}

/// An instrument, a cable and a converter.
pub struct Rig {
    rate_hz: u32,
    settings: RigSettings,
    player: Box<dyn Player>,
    parser: MidiParser,
    frame: u64,
    scheduled: Vec<(u64, Vec<u8>)>,
    gestures: Vec<(u64, Gesture)>,
    slips_made: usize,
    by_hand: bool,
    hand: Pcg32,
    delay_line: VecDeque<[f32; 2]>,
    /// What the further mics will hear, newest last, and what the air has let through of it.
    air: VecDeque<[f32; 2]>,
    dull: Vec<[f32; 2]>,
    random: Pcg32,
}

/// Three metres of air, at 343 m/s.
const AIR_S: f64 = 3.0 / 343.0;
const AIR_GAIN: f32 = 0.45;
const AIR_DULL: f32 = 0.35;

/// Messages take effect on multiples of this many frames after the last, at the exact frame.
const LONGEST_STRETCH: usize = 256;

impl Rig {
    /// A rig at rest.
    pub fn new(model: Model, rate_hz: u32, settings: RigSettings) -> Self {
        let player: Box<dyn Player> = match model {
            Model::NightFerry => Box::new(NightFerry::new(rate_hz)),
            Model::ReedOrgan => Box::new(ReedOrgan::new(rate_hz, settings.seed)),
            Model::SlateChimes => Box::new(SlateChimes::new(rate_hz, settings.seed)),
        };
        let delay = (f64::from(rate_hz) * settings.delay_ms / 1000.0).round() as usize;
        Self {
            rate_hz,
            settings,
            player,
            parser: MidiParser::default(),
            frame: 0,
            scheduled: Vec::new(),
            gestures: Vec::new(),
            slips_made: 0,
            by_hand: model == Model::SlateChimes,
            hand: Pcg32::seed_from_u64(settings.seed ^ 0x4a4d),
            delay_line: VecDeque::from(vec![[0.0; 2]; delay]),
            air: VecDeque::new(),
            dull: vec![[0.0; 2]; settings.mics.saturating_sub(1)],
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

    /// Asks the player for a note of a strength, 1 to 127, wanted after a reference tone and a count-in of so many milliseconds: it comes
    /// when a hand is ready, and now and then it goes wrong.
    pub fn ask(&mut self, key: u8, velocity: u8, after_ms: u32) {
        let frames = |seconds: f64| (seconds * f64::from(self.rate_hz)) as u64;
        let at = self.frame + frames(self.hand.random_range(REACTION_S) + f64::from(after_ms) / 1000.0);
        let spread = 10f32.powf(self.hand.random_range(-SPREAD_DB..SPREAD_DB) as f32 / 20.0);
        let mut strike = (key, f32::from(velocity) / 127.0 * spread);
        let Slips {
            wrong_note,
            clipped,
            door,
        } = self.settings.slips;
        let luck: f64 = self.hand.random();
        if luck < wrong_note {
            strike.0 = if self.hand.random() {
                key + 1
            } else {
                key.saturating_sub(1)
            };
        } else if luck < wrong_note + clipped {
            strike.1 = 3.5;
        } else if luck < wrong_note + clipped + door {
            let later = frames(self.hand.random_range(0.9..1.6));
            self.gestures.push((at + later, Gesture::Door));
        }
        self.slips_made += usize::from(luck < wrong_note + clipped + door);
        let (key, strength) = strike;
        self.gestures.push((at, Gesture::Strike { key, strength }));
        self.gestures.sort_by_key(|(at, _)| *at);
    }

    /// Plays notes by heart: a synthesiser or organ by messages, the chimes by hand. `false_starts` names notes (by index) before
    /// which the player hits the bar too softly, damps it, and begins again.
    pub fn perform(&mut self, notes: &[PlayedNote], false_starts: &[usize]) {
        if !self.by_hand {
            for note in notes {
                self.schedule(note.on_frame, &[0x90, note.key, note.velocity]);
                self.schedule(note.off_frame, &[0x80, note.key, 64]);
            }
            return;
        }
        let frames = |seconds: f64| (seconds * f64::from(self.rate_hz)) as u64;
        for (n, note) in notes.iter().enumerate() {
            let unsure = self.hand.random_range(0.0..2.0 * UNSURE_S);
            let at = (note.on_frame + frames(unsure)).saturating_sub(frames(UNSURE_S));
            let spread = 10f32.powf(self.hand.random_range(-SPREAD_DB..SPREAD_DB) as f32 / 20.0);
            let strength = f32::from(note.velocity) / 127.0 * spread;
            let key = note.key;
            let mut gestures = vec![
                (at.saturating_sub(frames(BREATH_BEFORE_S)), Gesture::Breath),
                (at, Gesture::Strike { key, strength }),
            ];
            if false_starts.contains(&n) {
                let early = at.saturating_sub(frames(FALSE_START_BEFORE_S));
                let strength = strength * 0.3;
                gestures.push((early, Gesture::Strike { key, strength }));
                gestures.push((early + frames(0.2), Gesture::Damp));
            }
            self.gestures.extend(gestures);
        }
        self.gestures.sort_by_key(|(at, _)| *at);
    }

    /// How often the player slipped so far.
    pub fn slips_made(&self) -> usize {
        self.slips_made
    }

    /// Next frame to come.
    pub fn frame(&self) -> u64 {
        self.frame
    }

    /// The next `frames` frames: stereo for every mic.
    pub fn render(&mut self, frames: usize) -> Block {
        let mut block = Block {
            first_frame: self.frame,
            samples: Vec::with_capacity(frames * 2 * self.settings.mics.max(1)),
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
            let due = self.gestures.partition_point(|(at, _)| *at <= self.frame);
            for (_, gesture) in self.gestures.drain(..due) {
                self.player.gesture(gesture);
            }
            let soonest = |at: Option<u64>| at.map_or(end, |at| at.min(end));
            let next = soonest(self.scheduled.first().map(|(at, _)| *at))
                .min(soonest(self.gestures.first().map(|(at, _)| *at)));
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
                let mut heard = vec![l, r];
                let metres = (f64::from(self.rate_hz) * AIR_S) as usize;
                self.air.push_back([l, r]);
                while self.air.len() > metres * self.settings.mics {
                    self.air.pop_front();
                }
                for (mic, dull) in self.dull.iter_mut().enumerate() {
                    let away = metres * (mic + 1);
                    let arrives = self.air.len().checked_sub(away).and_then(|at| self.air.get(at));
                    for (side, low) in dull.iter_mut().enumerate() {
                        let there = arrives.map_or(0.0, |sides| sides[side]) * AIR_GAIN;
                        *low += AIR_DULL * (there - *low);
                        heard.push(*low);
                    }
                }
                for side in heard {
                    let heard = side + hum + noise * self.random.random_range(-1.0f32..1.0);
                    // The converter's end.
                    block.samples.push(heard.clamp(-1.0, 1.0));
                }
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
    fn a_block_carries_its_number_and_short_ones_are_no_blocks() {
        let bytes = [&7u64.to_le_bytes()[..], &0.5f32.to_le_bytes(), &[1, 2]].concat();
        let block = Block::of_message(&bytes).unwrap();
        assert_eq!((block.first_frame, block.samples), (7, vec![0.5]));
        assert_eq!(Block::of_message(&[1, 2, 3]), None);
    }

    #[test]
    fn the_same_run_gives_the_same_samples() {
        for (model, ..) in Model::ALL {
            assert_eq!(run(model), run(model));
        }
    }

    #[test]
    fn a_further_mic_hears_the_same_later_and_softer() {
        let settings = RigSettings {
            mics: 2,
            ..RigSettings::default()
        };
        let mut rig = Rig::new(Model::SlateChimes, 48_000, settings);
        rig.schedule(4_800, &[0x90, 60, 100]);
        let audio = signal::Audio::from_interleaved(48_000, 4, &rig.render(48_000).samples);
        let start = |first: usize| {
            let mic = audio.clone().channels_of(first, 2);
            (
                signal::sound_bounds(&mic).unwrap().start_frame as f64,
                signal::peak_dbfs(&mic),
            )
        };
        let ((close, loud), (room, soft)) = (start(0), start(2));
        assert!(
            ((room - close) / 48_000.0 - AIR_S).abs() < 1.5e-3,
            "{close} {room}"
        );
        assert!(loud - soft > 5.0);
    }

    #[test]
    fn a_note_sounds_at_its_pitch_after_the_delay() {
        for (model, _, name) in Model::ALL {
            let audio = signal::Audio::from_interleaved(48_000, 2, &run(model));
            let facts = signal::measure(&audio);
            let pitch = facts.pitch.unwrap();
            assert_eq!(pitch.key, 60, "{name}");
            assert!(pitch.cents.abs() < 15.0, "{name}: {pitch:?}");
            let late_ms = (facts.start_frame as f64 - 4_800.0 - 576.0) / 48.0;
            // Bars page: within a tenth of a slow attack; a reed takes 45 ms to speak, the Night ferry 20.
            let bar_ms = if model == Model::ReedOrgan { 4.5 } else { 2.0 };
            assert!(late_ms.abs() < bar_ms, "{name}: {late_ms}");
        }
    }
}
