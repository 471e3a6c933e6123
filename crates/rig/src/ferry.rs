//! The Night ferry: two oscillators, a low-pass filter and an envelope, three programs; and a chorus over all that sounds, which is off at first.

use crate::oscillator::Saw;
use crate::{MidiMessage, Player};
use std::f32::consts::TAU;

const VOICES: usize = 8;

struct Program {
    detune_cents: f32,
    second_octave: f32,
    pulse: bool,
    cutoff_keys: f32,
    attack_s: f32,
    decay_s: f32,
    sustain: f32,
    release_s: f32,
}

const PROGRAMS: [Program; 3] = [
    Program {
        detune_cents: 2.0,
        second_octave: 1.0,
        pulse: false,
        cutoff_keys: 34.0,
        attack_s: 0.02,
        decay_s: 0.6,
        sustain: 0.8,
        release_s: 0.25,
    },
    Program {
        detune_cents: 0.0,
        second_octave: 1.0,
        pulse: true,
        cutoff_keys: 24.0,
        attack_s: 0.008,
        decay_s: 0.3,
        sustain: 0.9,
        release_s: 0.12,
    },
    Program {
        detune_cents: 0.0,
        second_octave: 2.0,
        pulse: false,
        cutoff_keys: 48.0,
        attack_s: 0.002,
        decay_s: 1.8,
        sustain: 0.0,
        release_s: 0.5,
    },
];

#[derive(Clone, Copy)]
struct Voice {
    key: u8,
    velocity: f32,
    program: usize,
    oscillators: [Saw; 2],
    level: f32,
    rising: bool,
    held: bool,
    filter: [f32; 4],
    age: u64,
}

/// Chorus depth (MIDI 1.0, controller 93).
const CHORUS: u8 = 93;
const CHORUS_HZ: f32 = 0.63;
/// Its delay, and how far that moves.
const CHORUS_S: (f32, f32) = (0.0083, 0.0021);

/// All voices through one delay that moves, to the left the other way than to the right: notes that were recorded one by one, each with a chorus of its own,
/// do not add up to what it makes of a chord.
struct Chorus {
    depth: f32,
    phase: f32,
    past: Vec<[f32; 2]>,
    at: usize,
}

impl Chorus {
    fn new(rate: f32) -> Self {
        let longest = (CHORUS_S.0 + CHORUS_S.1) * rate;
        Self {
            depth: 0.0,
            phase: 0.0,
            past: vec![[0.0; 2]; longest as usize + 4],
            at: 0,
        }
    }

    /// What was heard so many frames ago, on one side.
    fn heard(&self, ago: f32, side: usize) -> f32 {
        let (whole, part) = (ago as usize, ago.fract());
        let of = |ago: usize| self.past[(self.at + self.past.len() - ago) % self.past.len()][side];
        of(whole) * (1.0 - part) + of(whole + 1) * part
    }

    fn frame(&mut self, dry: [f32; 2], rate: f32) -> [f32; 2] {
        self.phase = (self.phase + CHORUS_HZ / rate).fract();
        self.at = (self.at + 1) % self.past.len();
        self.past[self.at] = dry;
        if self.depth == 0.0 {
            return dry;
        }
        let (middle, reach) = CHORUS_S;
        let swing = (self.phase * TAU).sin() * reach;
        let wet = [0, 1].map(|side| {
            let swing = if side == 0 { swing } else { -swing };
            self.heard((middle + swing) * rate, side)
        });
        [0, 1].map(|side| dry[side] * (1.0 - 0.5 * self.depth) + wet[side] * 0.5 * self.depth)
    }
}

pub(crate) struct NightFerry {
    rate: f32,
    chorus: Chorus,
    program: usize,
    bend_keys: f32,
    wheel: f32,
    voices: Vec<Voice>,
    age: u64,
}

impl NightFerry {
    pub(crate) fn new(rate_hz: u32) -> Self {
        Self {
            rate: rate_hz as f32,
            chorus: Chorus::new(rate_hz as f32),
            program: 0,
            bend_keys: 0.0,
            wheel: 0.0,
            voices: Vec::new(),
            age: 0,
        }
    }
}

impl Player for NightFerry {
    fn midi(&mut self, message: MidiMessage) {
        match message {
            MidiMessage::NoteOn { key, velocity, .. } => {
                if self.voices.len() == VOICES {
                    let oldest = (0..VOICES).min_by_key(|&n| self.voices[n].age).unwrap_or(0);
                    self.voices.swap_remove(oldest);
                }
                self.age += 1;
                self.voices.push(Voice {
                    key,
                    velocity: f32::from(velocity) / 127.0,
                    program: self.program,
                    oscillators: [Saw { phase: 0.5 }, Saw { phase: 0.5 }],
                    level: 0.0,
                    rising: true,
                    held: true,
                    filter: [0.0; 4],
                    age: self.age,
                });
            }
            MidiMessage::NoteOff { key, .. } => {
                self.voices
                    .iter_mut()
                    .filter(|v| v.key == key)
                    .for_each(|v| v.held = false);
            }
            MidiMessage::Program { program, .. } => {
                self.program = usize::from(program).min(PROGRAMS.len() - 1)
            }
            MidiMessage::Bend { value, .. } => self.bend_keys = f32::from(value) / 8192.0 * 2.0,
            MidiMessage::Controller { number: 1, value, .. } => self.wheel = f32::from(value) / 127.0,
            MidiMessage::Controller {
                number: CHORUS,
                value,
                ..
            } => self.chorus.depth = f32::from(value) / 127.0,
            MidiMessage::Controller {
                number: 120 | 123, ..
            } => self.voices.iter_mut().for_each(|v| v.held = false),
            MidiMessage::Controller { .. } => {}
        }
    }

    fn render(&mut self, left: &mut [f32], right: &mut [f32]) {
        let hz = |key: f32| 440.0 * 2f32.powf((key - 69.0) / 12.0);
        let mut sum = vec![[0.0f32; 2]; left.len()];
        for voice in &mut self.voices {
            let program = &PROGRAMS[voice.program];
            let key = f32::from(voice.key) + self.bend_keys;
            let first = hz(key) / self.rate;
            let second = hz(key + program.detune_cents / 100.0) * program.second_octave / self.rate;
            let cutoff = hz(key + program.cutoff_keys * (0.6 + 0.4 * voice.velocity) + 12.0 * self.wheel);
            let pole = 1.0 - (-TAU * (cutoff / self.rate).min(0.45)).exp();
            let fall = |seconds: f32| (-6.9 / (seconds * self.rate)).exp();
            let (decay, release) = (fall(program.decay_s), fall(program.release_s));
            // Loudness follows velocity by its 1.5th power.
            let gain = 0.30 * voice.velocity.powf(1.5);
            for sum in &mut sum {
                if !voice.held {
                    voice.level *= release;
                } else if voice.rising {
                    voice.level += 1.0 / (program.attack_s * self.rate);
                    if voice.level >= 1.0 {
                        voice.level = 1.0;
                        voice.rising = false;
                    }
                } else {
                    voice.level = program.sustain + (voice.level - program.sustain) * decay;
                }
                let [a, b] = &mut voice.oscillators;
                let (a, b) = if program.pulse {
                    (a.pulse(first, 0.35), b.pulse(second, 0.5))
                } else {
                    (a.saw(first), b.saw(second))
                };
                // Each oscillator leans to one side.
                let inputs = [0.65 * a + 0.35 * b, 0.35 * a + 0.65 * b];
                for (side, input) in inputs.into_iter().enumerate() {
                    let [one, two] = &mut voice.filter[side * 2..side * 2 + 2] else {
                        continue;
                    };
                    *one += pole * (input - *one);
                    *two += pole * (*one - *two);
                }
                sum[0] += voice.filter[1] * voice.level * gain;
                sum[1] += voice.filter[3] * voice.level * gain;
            }
        }
        for ((l, r), dry) in left.iter_mut().zip(right).zip(sum) {
            let [to_left, to_right] = self.chorus.frame(dry, self.rate);
            *l += to_left;
            *r += to_right;
        }
        self.voices.retain(|voice| voice.held || voice.level > 1e-5);
    }
}
