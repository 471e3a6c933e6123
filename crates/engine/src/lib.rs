//! How it sounds: a program and events in, audio frames out.
//!
//! ```
//! let mut engine = engine::Engine::new(48_000.0, 128);
//! engine.load(program::Program::default());
//! engine.note_on(60, 100);
//! let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
//! engine.render(&mut left, &mut right);
//! ```
//!
//! Rendering allocates nothing, locks nothing and reads no clock. The same code runs natively and as WebAssembly, with
//! `libm` in both, so that both give the same samples.

mod envelope;
mod interpolate;
mod offline;
mod samples;
mod voice;

pub use offline::{Event, EventKind, render_offline};
pub use samples::{SampleAudio, Samples};

use envelope::Envelope;
use interpolate::Interpolator;
use program::{KeyEvent, Program, Region, RegionKey, SampleId, Turns};
use std::collections::HashMap;
use voice::Voice;

/// What of a region can be dragged and heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Setting {
    /// First frame, for what is struck from now on.
    StartFrame,
    /// First frame not played.
    EndFrame,
    /// Level.
    GainDb,
    /// Cents above the root.
    RecordingCents,
    /// Cents added.
    TuneCents,
    /// Place.
    Pan,
    /// First frame of the loop.
    LoopStart,
    /// First frame after it.
    LoopEnd,
    /// Its crossfade.
    LoopCrossfade,
}

impl Setting {
    /// In the order of their numbers on the border to the browser.
    pub const ALL: [Self; 9] = [
        Self::StartFrame,
        Self::EndFrame,
        Self::GainDb,
        Self::RecordingCents,
        Self::TuneCents,
        Self::Pan,
        Self::LoopStart,
        Self::LoopEnd,
        Self::LoopCrossfade,
    ];
}

/// Plays one program. All memory is taken by [`Engine::new`] and [`Engine::load`].
pub struct Engine {
    rate_hz: f64,
    program: Program,
    samples: Samples,
    voices: Vec<Voice>,
    turns: Turns,
    interpolator: Interpolator,
    age: u64,
    held: [u8; 128],
}

impl Engine {
    /// An engine for an output rate and at most so many voices.
    pub fn new(rate_hz: f64, most_voices: usize) -> Self {
        Self {
            rate_hz,
            program: Program::default(),
            samples: Samples::default(),
            voices: vec![Voice::silent(); most_voices],
            turns: Turns::default(),
            interpolator: Interpolator::new(),
            age: 0,
            held: [0; 128],
        }
    }

    /// Takes a program; what sounds is cut off, and the samples are to be brought anew through [`Engine::samples_mut`].
    pub fn load(&mut self, program: Program) {
        self.voices.iter_mut().for_each(Voice::stop);
        self.samples = Samples::reserved(&program);
        self.turns = Turns::of(&program);
        self.program = program;
    }

    /// Takes an edited program: audio that has arrived stays with the samples that stay, and what sounds goes on where its region lives on and plays
    /// the same sample.
    pub fn update(&mut self, program: Program) {
        let sample_of =
            |program: &Program, region: &Region| program.samples.get(region.sample).map(|sample| sample.id);
        let now: HashMap<RegionKey, usize> = (program.regions.iter().enumerate())
            .map(|(index, region)| (region.key, index))
            .collect();
        let place_of = |before: usize| -> Option<usize> {
            let before = self.program.regions.get(before)?;
            let index = *now.get(&before.key)?;
            let stays = sample_of(&self.program, before) == sample_of(&program, &program.regions[index]);
            stays.then_some(index)
        };
        for voice in self.voices.iter_mut().filter(|voice| voice.is_active()) {
            voice.move_to(place_of(voice.region()));
        }
        self.samples.follow(&self.program, &program);
        self.turns.follow(&self.program, &program);
        self.program = program;
        self.follow();
    }

    /// Sets one number of all regions of a sample while it is dragged: heard at once by what sounds. What does not fit is ignored; the next program
    /// that is taken has the last word.
    pub fn set(&mut self, sample: SampleId, setting: Setting, value: f64) {
        if !value.is_finite() {
            return;
        }
        let Some(index) = self.program.samples.iter().position(|of| of.id == sample) else {
            return;
        };
        for region in self
            .program
            .regions
            .iter_mut()
            .filter(|region| region.sample == index)
        {
            set(region, setting, value);
        }
        self.follow();
    }

    fn follow(&mut self) {
        for voice in self.voices.iter_mut().filter(|voice| voice.is_active()) {
            voice.follow(&self.program, self.rate_hz);
        }
    }

    /// Adds interleaved frames of a sample at `first`; false where they do not fit or there is no such sample, see [`Samples::add`].
    pub fn add_audio(
        &mut self,
        sample: SampleId,
        (frames, channels): (usize, usize),
        first: usize,
        interleaved: &[f32],
    ) -> bool {
        let index = self.program.samples.iter().position(|of| of.id == sample);
        index.is_some_and(|index| self.samples.add(index, frames, channels, first, interleaved))
    }

    /// The audio of the program's samples, to be filled.
    pub fn samples_mut(&mut self) -> &mut Samples {
        &mut self.samples
    }

    /// A key goes down, velocity 1 to 127.
    pub fn note_on(&mut self, key: u8, velocity: u8) {
        let key = key & 127;
        let another_held = (0u8..)
            .zip(&self.held)
            .any(|(other, held)| other != key && *held > 0);
        self.held[usize::from(key)] = velocity;
        self.start(KeyEvent {
            up: false,
            key,
            velocity,
            another_held,
        });
    }

    /// A key comes up: its voices are released, and key-up sounds start at the velocity of its strike.
    pub fn note_off(&mut self, key: u8) {
        let key = key & 127;
        let velocity = std::mem::take(&mut self.held[usize::from(key)]);
        for voice in self.voices.iter_mut().filter(|voice| voice.is_held_by(key)) {
            voice.release(&self.program);
        }
        if velocity > 0 {
            self.start(KeyEvent {
                up: true,
                key,
                velocity,
                another_held: self.held.iter().any(|held| *held > 0),
            });
        }
    }

    /// Everything is let go, key-up sounds are not started.
    pub fn all_notes_off(&mut self) {
        self.held = [0; 128];
        for voice in &mut self.voices {
            voice.release(&self.program);
        }
    }

    fn start(&mut self, event: KeyEvent) {
        let (program, voices, age, rate_hz) = (&self.program, &mut self.voices, &mut self.age, self.rate_hz);
        self.turns.strike(program, event, |region, gain| {
            *age += 1;
            let voice = Voice::start(program, region, event, gain, rate_hz, *age);
            if let Some(slot) = steal(voices) {
                *slot = voice;
            }
        });
    }

    /// Voices that sound now.
    pub fn active_voices(&self) -> usize {
        self.voices.iter().filter(|voice| voice.is_active()).count()
    }

    /// Writes the next frames, replacing what is in the slices; both have the same length.
    pub fn render(&mut self, left: &mut [f32], right: &mut [f32]) {
        left.fill(0.0);
        right.fill(0.0);
        for voice in self.voices.iter_mut().filter(|voice| voice.is_active()) {
            voice.render(&self.program, &self.samples, &self.interpolator, left, right);
        }
    }
}

/// Sets one number of a region.
fn set(region: &mut Region, setting: Setting, value: f64) {
    let frames = value.max(0.0) as u64;
    match setting {
        Setting::StartFrame => region.start_frame = frames,
        Setting::EndFrame => region.end_frame = frames,
        Setting::GainDb => region.gain_db = value.clamp(-96.0, 48.0),
        Setting::RecordingCents => region.recording_cents = value,
        Setting::TuneCents => region.tune_cents = value,
        Setting::Pan => region.pan = value.clamp(-1.0, 1.0),
        Setting::LoopStart | Setting::LoopEnd | Setting::LoopCrossfade => {
            let Some(looped) = &mut region.looped else {
                return;
            };
            let mut next = *looped;
            match setting {
                Setting::LoopStart => next.start_frame = frames,
                Setting::LoopEnd => next.end_frame = frames,
                _ => next.crossfade_frames = frames,
            }
            if next.start_frame + 1 < next.end_frame {
                next.crossfade_frames = next
                    .crossfade_frames
                    .min(next.start_frame.saturating_sub(region.start_frame))
                    .min(next.end_frame - next.start_frame);
                *looped = next;
            }
        }
    }
}

/// A free voice, else the oldest released one, else the oldest.
fn steal(voices: &mut [Voice]) -> Option<&mut Voice> {
    voices.iter_mut().min_by_key(|voice| voice.theft_rank())
}
