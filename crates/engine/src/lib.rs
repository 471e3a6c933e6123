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

mod dragged;
mod drive;
mod envelope;
mod filter;
mod interpolate;
mod listened;
mod mix;
mod offline;
mod pedals;
mod reader;
mod seam;
mod setting;
mod slabs;
mod stretch;
mod supply;
mod takeover;
mod unheard;
mod voice;
mod voices;

pub use listened::Alone;
pub use offline::{Event, EventKind, render_offline};
pub use setting::{EffectSetting, Setting, ShapeSetting};
pub use slabs::{Kept, MARGIN_FRAMES, SLAB_BYTES, SLAB_FRAMES};
pub use supply::Want;
pub use takeover::{Arriving, Leaving};

use drive::Around;
use envelope::Envelope;
use fnv::FnvHashMap;
use interpolate::Interpolator;
use listened::{Listened, is_muted};
use mix::Mix;
use pedals::Pedals;
use program::{
    ControlId, Does, FULL_STRIKE, KEY_UP_SPEED, KeyEvent, Program, SOFT, SOSTENUTO, SUSTAIN, SampleId,
    Source, Standing, StrandId, Turns,
};
use slabs::{SlabName, Slabs};
use voice::Voice;
use voices::Voices;

/// What is moved gets where it goes within so many frames: a block of the browser's audio thread.
const STEP_FRAMES: usize = 128;
/// Quarter notes a minute until another tempo is said (Standard MIDI Files 1.0 begin there too).
const TEMPO: f64 = 120.0;
/// MIDI 1.0, channel mode messages.
const ALL_SOUNDS_OFF: u8 = 120;
const RESET_CONTROLLERS: u8 = 121;
const ALL_NOTES_OFF: u8 = 123;

/// The budget for audio unless another is given: 512 MB.
pub const BUDGET_BYTES: usize = 512 << 20;

/// What all voices share, and the voices.
macro_rules! split {
    ($engine:ident) => {
        (
            Around {
                program: &$engine.program,
                standing: &$engine.standing,
                rate_hz: $engine.rate_hz,
                tempo: $engine.tempo,
                frame: $engine.frame,
            },
            &mut $engine.voices,
        )
    };
}

/// Plays one program. All memory is taken by [`Engine::new`], [`Engine::load`], [`Engine::update`] and, up to the budget, [`Engine::add_audio`].
pub struct Engine {
    rate_hz: f64,
    program: Program,
    slabs: Slabs,
    voices: Voices,
    turns: Turns,
    standing: Standing,
    pedals: Pedals,
    mix: Mix,
    interpolator: Interpolator,
    /// Frames rendered.
    frame: u64,
    /// Quarter notes a minute.
    tempo: f64,
    alone: Vec<Alone>,
    /// Where each region is, by its strand and number.
    places: FnvHashMap<(StrandId, u64), usize>,
    ran_out: u64,
    /// Keys of which a voice did, each until it is struck again, a bit for each.
    short: u128,
}

impl Engine {
    /// An engine for an output rate and at most so many voices, its audio within [`BUDGET_BYTES`].
    pub fn new(rate_hz: f64, most_voices: usize) -> Self {
        Self::with_budget(rate_hz, most_voices, BUDGET_BYTES)
    }

    /// The same with another budget for audio, in bytes; it is never less than a few slabs.
    pub fn with_budget(rate_hz: f64, most_voices: usize, budget_bytes: usize) -> Self {
        Self {
            rate_hz,
            program: Program::default(),
            slabs: Slabs::new(budget_bytes),
            voices: Voices::new(most_voices),
            turns: Turns::default(),
            standing: Standing::default(),
            pedals: Pedals::default(),
            mix: Mix::default(),
            interpolator: Interpolator::new(),
            frame: 0,
            tempo: TEMPO,
            alone: Vec::new(),
            places: FnvHashMap::default(),
            ran_out: 0,
            short: 0,
        }
    }

    /// Takes a program; what sounds is cut off, and all audio is to be brought anew.
    pub fn load(&mut self, program: Program) {
        self.voices.active().for_each(Voice::stop);
        self.slabs.clear();
        self.standing = Standing::of(&program);
        self.pedals.forget();
        self.turns = Turns::default();
        self.program = Program::default();
        self.mix = Mix::default();
        self.update(program);
    }

    /// From now on only these are heard; all where there are none.
    pub fn listen_to(&mut self, alone: &[Alone]) {
        self.alone = alone.to_vec();
        self.silence();
    }

    /// Regions that are not listened to, and those of muted strands, fall silent.
    fn silence(&mut self) {
        let listened = Listened::of(&self.alone, &self.program, &self.places);
        for voice in self.voices.active() {
            let region = voice.region().and_then(|place| self.program.regions.get(place));
            if region.is_some_and(|region| !listened.hears(region) || is_muted(&self.program, region)) {
                voice.cut_off(0.0);
            }
        }
    }

    /// Adds so many slabs of a sample, from one on: interleaved frames from the first of the first slab, with what follows the last, [`MARGIN_FRAMES`],
    /// or to the sample's end. Beyond the budget what was not played for longest gives way.
    pub fn add_audio(
        &mut self,
        sample: SampleId,
        channels: u8,
        (first, count): (u32, u32),
        kept: Kept,
        interleaved: &[f32],
    ) {
        let of = usize::from(channels.max(1));
        for n in 0..count {
            for channel in 0..channels {
                let name = SlabName {
                    sample,
                    slab: first + n,
                    channel,
                };
                let of_channel = interleaved
                    .iter()
                    .skip(n as usize * SLAB_FRAMES * of + usize::from(channel));
                self.slabs.put(name, kept, of_channel.step_by(of).copied());
            }
        }
    }

    /// Adds a whole sample, a channel each: for programs whose audio fits the budget.
    pub fn set_audio(&mut self, sample: SampleId, channels: &[Vec<f32>]) {
        for (channel, frames) in (0u8..).zip(channels) {
            for (slab, first) in (0u32..).zip((0..frames.len()).step_by(SLAB_FRAMES)) {
                let name = SlabName {
                    sample,
                    slab,
                    channel,
                };
                self.slabs
                    .put(name, Kept::WhilePlayed, frames[first..].iter().copied());
            }
        }
    }

    /// What the voices will need within the next second and a half and is not there, a piece each, of every `of`th voice from `nth` on; those that
    /// wait for their first audio always. How many were written.
    pub fn wanted(&self, (nth, of): (usize, usize), into: &mut [Want]) -> usize {
        let wants = self.voices.wants((nth, of), &self.slabs, &self.interpolator);
        into.iter_mut()
            .zip(wants)
            .map(|(slot, want)| *slot = want)
            .count()
    }

    /// Voices that had to fade for want of audio, since the engine was made.
    pub fn ran_out(&self) -> u64 {
        self.ran_out
    }

    /// Keys that were not heard to their end for that, a bit for each, until they are struck again.
    pub fn short_keys(&self) -> u128 {
        self.short
    }

    /// Slabs that are there, and can be.
    pub fn slabs(&self) -> (usize, usize) {
        (self.slabs.count(), self.slabs.most())
    }

    /// A key goes down, velocity 1 to 127.
    pub fn note_on(&mut self, key: u8, velocity: u8) {
        let key = key & 127;
        self.short &= !(1 << key);
        // The soft pedal takes a third off every strike: our own choice, there is no standard for how much.
        let velocity = if self.standing.pedal(SOFT) {
            (velocity / 3 * 2).max(1)
        } else {
            velocity.clamp(1, 127)
        };
        let another_held = self.standing.another_is_down(key);
        self.standing.press(&self.program, key, velocity);
        self.pedals.struck(key, self.frame);
        self.start(KeyEvent {
            does: Does::GoesDown { another_held },
            key,
            velocity,
        });
    }

    /// [`Engine::key_up`], as fast as where nobody says.
    pub fn note_off(&mut self, key: u8) {
        self.key_up(key, KEY_UP_SPEED);
    }

    /// A key comes up, so fast, 0 to 127: its voices are released unless a pedal holds them, and key-up sounds start at the velocity of its strike.
    pub fn key_up(&mut self, key: u8, speed: u8) {
        let key = key & 127;
        let velocity = self.standing.lift(key, speed);
        if velocity == 0 {
            return;
        }
        let sound = !self.pedals.holds(&self.standing, key, velocity);
        if self.voices.has_one_tone(&self.program, key)
            && let Some((key, velocity)) = self.pedals.last_of(self.standing.down())
        {
            self.start(KeyEvent {
                does: Does::GoesBack,
                key,
                velocity,
            });
        }
        for voice in self.voices.active().filter(|voice| voice.is_held_by(key)) {
            if sound {
                voice.release();
            } else {
                voice.lift();
            }
        }
        self.comes_up(key, velocity, (true, sound));
    }

    fn comes_up(&mut self, key: u8, velocity: u8, (by_key, sound): (bool, bool)) {
        let held_s = self.pedals.held_s(key, self.frame, self.rate_hz);
        self.start(KeyEvent {
            does: Does::ComesUp {
                key: by_key,
                sound,
                held_s,
            },
            key,
            velocity,
        });
    }

    /// A controller is moved, 0 to 127: pedals hold and let go, strands that wait for it sound, and what it fades is faded. Channel mode messages
    /// (MIDI 1.0, 120 and up) are obeyed.
    pub fn controller(&mut self, controller: u8, value: u8) {
        match controller {
            ALL_SOUNDS_OFF => return self.all_sounds_off(),
            RESET_CONTROLLERS => return self.reset_controllers(),
            ALL_NOTES_OFF.. => return (0..128).for_each(|key| self.note_off(key)),
            _ => {}
        }
        let before = self.standing.move_to(controller, value);
        if controller == SOSTENUTO && before < 64 && value >= 64 {
            self.pedals.catch(&self.standing);
        }
        if matches!(controller, SUSTAIN | SOSTENUTO) && value < 64 {
            self.let_go();
        }
        let listened = Listened::of(&self.alone, &self.program, &self.places);
        let (around, voices) = split!(self);
        let program = around.program;
        voices.begin_event();
        let went = (Source::Controller(controller), before, value.min(127));
        self.turns.enter(program, &self.standing, went, |region, gain| {
            let of = program.regions.get(region).map_or(60, |region| region.root_key);
            voices.start(&around, &listened, region, (KeyEvent::up(of, FULL_STRIKE), gain));
        });
    }

    /// A control of the panel is moved, 0 to 1: all that sounds follows. Where a controller moves it too, that is moved as far.
    pub fn control(&mut self, id: ControlId, value: f64) {
        if !value.is_finite() {
            return;
        }
        let control = self.program.controls.iter().find(|control| control.id == id);
        if let Some(controller) = control.and_then(|control| control.controller) {
            self.controller(controller, (value.clamp(0.0, 1.0) * 127.0).round() as u8);
        }
        self.standing.set_control(id, value);
    }

    /// All controls of the panel stand where they do at first again: before another instrument's program comes.
    pub fn controls_to_first(&mut self) {
        self.standing.controls_to_first(&self.program);
    }

    /// The bend is moved, 0 to 16,383, in the middle at 8,192 (MIDI 1.0): all that sounds follows.
    pub fn bend(&mut self, value: u16) {
        self.standing.bend_to(value);
    }

    /// All keys are pressed so far, 0 to 127.
    pub fn pressure(&mut self, value: u8) {
        self.standing.press_all(value);
    }

    /// A key is pressed so far, 0 to 127.
    pub fn key_pressure(&mut self, key: u8, value: u8) {
        self.standing.press_down(key, value);
    }

    /// A channel message of MIDI 1.0, whatever its channel: keys, controllers, bend and pressures; what else there is, is left.
    pub fn midi(&mut self, [status, first, second]: [u8; 3]) {
        let (first, second) = (first & 127, second & 127);
        match status >> 4 {
            0x9 if second > 0 => self.note_on(first, second),
            // A strike of 0 is a key that comes up, and says nothing of how fast.
            0x9 => self.note_off(first),
            0x8 => self.key_up(first, second),
            0xA => self.key_pressure(first, second),
            0xB => self.controller(first, second),
            0xD => self.pressure(first),
            0xE => self.bend(u16::from(second) << 7 | u16::from(first)),
            _ => {}
        }
    }

    /// Quarter notes a minute from now on, 1 to 999.
    pub fn set_tempo(&mut self, tempo: f64) {
        if tempo.is_finite() {
            self.tempo = tempo.clamp(1.0, 999.0);
        }
    }

    /// Keys that no pedal holds any more are let go.
    fn let_go(&mut self) {
        while let Some((key, velocity)) = self.pedals.next_let_go(&self.standing) {
            for voice in self.voices.active().filter(|voice| voice.is_lifted(key)) {
                voice.release();
            }
            // One that was struck again meanwhile is down.
            if !self.standing.is_down(key) {
                self.comes_up(key, velocity, (false, true));
            }
        }
    }

    /// Everything is let go, pedals too; key-up sounds are not started.
    pub fn all_notes_off(&mut self) {
        for key in 0..128 {
            self.standing.lift(key, KEY_UP_SPEED);
        }
        for pedal in [SUSTAIN, SOSTENUTO, SOFT] {
            self.standing.move_to(pedal, 0);
        }
        self.pedals.forget();
        for voice in self.voices.active() {
            voice.release();
        }
    }

    /// Silence, as soon as nothing clicks.
    pub fn all_sounds_off(&mut self) {
        self.all_notes_off();
        self.voices.end();
    }

    /// MIDI RP-015: the wheel and the pedals at nothing, expression open, the bend in the middle.
    fn reset_controllers(&mut self) {
        for (controller, value) in [(1, 0), (11, 127), (SUSTAIN, 0), (SOSTENUTO, 0), (SOFT, 0)] {
            self.controller(controller, value);
        }
        self.bend(8_192);
        self.pressure(0);
    }

    fn start(&mut self, event: KeyEvent) {
        let listened = Listened::of(&self.alone, &self.program, &self.places);
        let (around, voices) = split!(self);
        voices.begin_event();
        self.turns
            .strike(around.program, around.standing, event, |region, gain| {
                voices.start(&around, &listened, region, (event, gain));
            });
    }

    /// Indices of the regions that sound now, each as often as it does.
    pub fn sounding(&self) -> impl Iterator<Item = usize> + '_ {
        self.voices.sounding().filter_map(Voice::region)
    }

    /// Voices that sound now.
    pub fn active_voices(&self) -> usize {
        self.voices.sounding().count()
    }

    /// Writes the next frames, replacing what is in the slices; both have the same length.
    pub fn render(&mut self, left: &mut [f32], right: &mut [f32]) {
        left.fill(0.0);
        right.fill(0.0);
        for (left, right) in left.chunks_mut(STEP_FRAMES).zip(right.chunks_mut(STEP_FRAMES)) {
            let (around, voices) = split!(self);
            let (is_plain, frames) = (self.mix.is_plain(), left.len());
            if !is_plain {
                self.mix.begin(frames);
            }
            for voice in voices.active() {
                let region = voice.region().filter(|_| !is_plain);
                let strand = region
                    .and_then(|place| around.program.regions.get(place))
                    .map(|region| region.key.strand);
                let own = strand.and_then(|strand| self.mix.sound_of(strand, frames));
                let (left, right) = own.unwrap_or((&mut *left, &mut *right));
                let ran_out = voice.render(&mut self.slabs, &self.interpolator, &around, left, right);
                if ran_out {
                    self.ran_out += 1;
                    self.short |= 1 << (voice.key() & 127);
                }
            }
            if !is_plain {
                self.mix.finish(&around, left, right);
            }
            self.frame += frames as u64;
        }
    }
}
