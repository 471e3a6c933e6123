//! The engine's exports for a browser's AudioWorklet: a small C ABI over linear memory.
//!
//! One engine lives in one WebAssembly instance. The caller writes into the exchange buffer ([`exchange`]) and calls. [`render`] allocates nothing but
//! while a program is on its way, whose bytes ([`program::Pieces`]) are read a few pieces a block; audio takes memory as it comes, a few slabs at
//! once, up to the budget.

use engine::{Alone, Arriving, EffectSetting, Engine, Kept, Leaving, Want};
use program::{ControlId, EffectId, Pieces, SampleId, ShapeId, StrandId};
use std::cell::RefCell;

/// Bytes of the exchange buffer: whatever is longer comes in pieces of at most this.
pub const EXCHANGE_BYTES: usize = 1 << 17;
/// Frames of a block, as the browser's audio thread has them.
pub const BLOCK_FRAMES: usize = 128;
/// Samples and regions of a program on its way that are read between two blocks.
const PIECES_A_BLOCK: usize = 128;
/// Voices are asked in turn what they want: every so many-th.
const ASKED_IN_TURN: usize = 2;
/// Numbers of one want: sample, first slab, count, seconds.
const WANT_NUMBERS: usize = 4;

struct Instance {
    engine: Engine,
    /// 64-bit, so that whatever is exchanged lies straight.
    exchange: Vec<f64>,
    left: [f32; BLOCK_FRAMES],
    right: [f32; BLOCK_FRAMES],
    /// Bytes of a program, as many as came, and how many there will be.
    bytes: Vec<u8>,
    expected: usize,
    arriving: Option<(Pieces, Arriving)>,
    leaving: Option<Leaving>,
    /// Whether it has a program.
    plays: bool,
    asked: usize,
    wants: [Want; 32],
}

impl Instance {
    /// Goes on with the program that is on its way, by so many pieces; whether nothing is left to do.
    fn go_on(&mut self, pieces: usize) -> bool {
        if let Some(leaving) = &mut self.leaving {
            if leaving.shrink(4 * pieces) {
                return false;
            }
            self.leaving = None;
        }
        let Some((bytes, arriving)) = &mut self.arriving else {
            return true;
        };
        for _ in 0..pieces {
            match bytes.next_sample() {
                Ok(Some(sample)) => {
                    arriving.add_sample(sample);
                    continue;
                }
                Ok(None) => {}
                Err(_) => {
                    self.arriving = None;
                    return true;
                }
            }
            match bytes.next_region() {
                Ok(Some(region)) => arriving.add_region(region),
                Ok(None) => {
                    if let Some((_, arriving)) = self.arriving.take() {
                        self.leaving = Some(self.engine.take_over(arriving));
                        self.plays = true;
                    }
                    return false;
                }
                Err(_) => {
                    self.arriving = None;
                    return true;
                }
            }
        }
        false
    }
}

thread_local! {
    static INSTANCE: RefCell<Option<Instance>> = const { RefCell::new(None) };
}

fn with<R: Default>(act: impl FnOnce(&mut Instance) -> R) -> R {
    INSTANCE.with_borrow_mut(|instance| instance.as_mut().map_or_else(R::default, act))
}

/// Makes the engine, for an output rate, a number of voices, and a budget for audio in bytes.
#[unsafe(no_mangle)]
pub extern "C" fn start(rate_hz: f64, voices: usize, budget_bytes: f64) {
    INSTANCE.with_borrow_mut(|instance| {
        *instance = Some(Instance {
            engine: Engine::with_budget(rate_hz, voices, budget_bytes as usize),
            exchange: vec![0.0; EXCHANGE_BYTES / size_of::<f64>()],
            left: [0.0; BLOCK_FRAMES],
            right: [0.0; BLOCK_FRAMES],
            bytes: Vec::new(),
            expected: 0,
            arriving: None,
            leaving: None,
            plays: false,
            asked: 0,
            wants: [Want::default(); 32],
        });
    });
}

/// Where the caller writes what it brings, [`EXCHANGE_BYTES`] long.
#[unsafe(no_mangle)]
pub extern "C" fn exchange() -> *mut u8 {
    with(|i| i.exchange.as_mut_ptr() as usize) as *mut u8
}

/// A program of so many bytes is on its way; one that was before it is forgotten.
#[unsafe(no_mangle)]
pub extern "C" fn expect_program(length: usize) {
    with(|i| {
        i.arriving = None;
        i.bytes = Vec::with_capacity(length);
        i.expected = length;
    });
}

/// Takes the next `length` bytes of it from the exchange buffer. Where these were the last, the program is read while blocks are rendered (the first
/// of all at once), and then played: audio and voices of what stays go on. 1 where it was none.
#[unsafe(no_mangle)]
pub extern "C" fn take_program(length: usize) -> u32 {
    with(|i| {
        let bytes: &[u8] = bytemuck::cast_slice(&i.exchange);
        let left = i.expected - i.bytes.len();
        i.bytes
            .extend_from_slice(&bytes[..length.min(bytes.len()).min(left)]);
        if i.bytes.len() < i.expected {
            return 0;
        }
        i.expected = 0;
        let Ok((head, pieces)) = Pieces::read(std::mem::take(&mut i.bytes)) else {
            return 1;
        };
        let arriving = Arriving::new(head, pieces.left());
        i.arriving = Some((pieces, arriving));
        // The first one holds nothing up, and the key that asked for it comes next.
        while !i.plays && !i.go_on(PIECES_A_BLOCK) {}
        0
    })
}

/// Reads the program that is on its way to its end at once: for whoever does not play meanwhile.
#[unsafe(no_mangle)]
pub extern "C" fn finish_program() {
    with(|i| while !i.go_on(PIECES_A_BLOCK) {});
}

/// Takes `slabs` slabs of a sample, by its name, from `slab` on: `frames` interleaved frames of 32-bit floats in the exchange buffer, with what follows
/// the last slab, or to the sample's end. `as_head` where a key begins with them.
#[unsafe(no_mangle)]
pub extern "C" fn take_audio(
    sample: f64,
    channels: usize,
    slab: u32,
    slabs: u32,
    frames: usize,
    as_head: u32,
) {
    with(|i| {
        let all: &[f32] = bytemuck::cast_slice(&i.exchange);
        let kept = if as_head == 1 {
            Kept::AsHead
        } else {
            Kept::WhilePlayed
        };
        let all = &all[..(frames * channels).min(all.len())];
        i.engine
            .add_audio(SampleId(sample as u64), channels as u8, (slab, slabs), kept, all);
    });
}

/// Frames from one slab to the next.
#[unsafe(no_mangle)]
pub extern "C" fn slab_frames() -> usize {
    engine::SLAB_FRAMES
}

/// Frames that a slab has of the next.
#[unsafe(no_mangle)]
pub extern "C" fn margin_frames() -> usize {
    engine::MARGIN_FRAMES
}

/// Slabs of one channel that there can be.
#[unsafe(no_mangle)]
pub extern "C" fn most_slabs() -> usize {
    with(|i| i.engine.slabs().1)
}

/// Slabs of one channel that are there.
#[unsafe(no_mangle)]
pub extern "C" fn slabs() -> usize {
    with(|i| i.engine.slabs().0)
}

/// Writes what voices will want into the exchange buffer, four 64-bit floats each: sample, first slab, count, seconds from now. How many. Voices that
/// wait are asked every time, the others in turn.
#[unsafe(no_mangle)]
pub extern "C" fn wanted() -> usize {
    with(|i| {
        i.asked = (i.asked + 1) % ASKED_IN_TURN;
        let count = i.engine.wanted((i.asked, ASKED_IN_TURN), &mut i.wants);
        for (numbers, want) in i.exchange.chunks_exact_mut(WANT_NUMBERS).zip(&i.wants[..count]) {
            numbers.copy_from_slice(&[
                want.sample.0 as f64,
                f64::from(want.slab),
                f64::from(want.count),
                want.within_s,
            ]);
        }
        count
    })
}

/// Voices that had to fade for want of audio.
#[unsafe(no_mangle)]
pub extern "C" fn ran_out() -> f64 {
    with(|i| i.engine.ran_out() as f64)
}

/// Of the keys that ran short of audio 32, a bit for each, from so many times 32 on.
#[unsafe(no_mangle)]
pub extern "C" fn short_keys(part: u32) -> u32 {
    with(|i| (i.engine.short_keys() >> (32 * part.min(3))) as u32)
}

/// A channel message of MIDI.
#[unsafe(no_mangle)]
pub extern "C" fn midi(status: u32, first: u32, second: u32) {
    with(|i| i.engine.midi([status, first, second].map(|byte| byte as u8)));
}

/// Another tempo, in quarter notes a minute.
#[unsafe(no_mangle)]
pub extern "C" fn tempo(quarters_a_minute: f64) {
    with(|i| i.engine.set_tempo(quarters_a_minute));
}

/// Sets one number of all regions of a sample, by its name, while it is dragged; `setting` counts as [`engine::Setting::ALL`] does.
#[unsafe(no_mangle)]
pub extern "C" fn set(sample: f64, setting: usize, value: f64) {
    if let Some(setting) = engine::Setting::ALL.get(setting) {
        with(|i| i.engine.set(SampleId(sample as u64), *setting, value));
    }
}

/// Sets a number of an effect, by its name: 0 whether it is on, 1 its level in dB, its settings from 2 on.
#[unsafe(no_mangle)]
pub extern "C" fn effect(id: f64, setting: usize, value: f64) {
    with(|i| {
        let setting = EffectSetting::of_number(setting);
        i.engine.effect(EffectId(id as u64), setting, value);
    });
}

/// Gives a region a shape of its own while it is dragged.
#[unsafe(no_mangle)]
pub extern "C" fn shape_for_itself(strand: f64, number: f64) {
    with(|i| i.engine.shape_for_itself(StrandId(strand as u64), number as u64));
}

/// Sets one number of a shape while it is dragged; `setting` counts as [`engine::ShapeSetting::ALL`] does.
#[unsafe(no_mangle)]
pub extern "C" fn shape(shape: f64, setting: usize, of: f64, value: f64) {
    if let Some(setting) = engine::ShapeSetting::ALL.get(setting) {
        with(|i| i.engine.shape(ShapeId(shape as u64), *setting, of as u64, value));
    }
}

/// Puts a region on other keys and strikes while it is dragged.
#[unsafe(no_mangle)]
pub extern "C" fn place(
    strand: f64,
    region: f64,
    low_key: u32,
    high_key: u32,
    low_strike: u32,
    high_strike: u32,
) {
    let step = |value: u32| value.min(127) as u8;
    let (keys, strikes) = (
        (step(low_key), step(high_key)),
        (step(low_strike), step(high_strike)),
    );
    with(|i| {
        i.engine
            .place(StrandId(strand as u64), region as u64, keys, strikes)
    });
}

/// A key goes down.
#[unsafe(no_mangle)]
pub extern "C" fn note_on(key: u32, velocity: u32) {
    with(|i| i.engine.note_on(key as u8, velocity as u8));
}

/// A key comes up, so fast, 0 to 127.
#[unsafe(no_mangle)]
pub extern "C" fn key_up(key: u32, speed: u32) {
    with(|i| i.engine.key_up(key as u8, speed as u8));
}

/// The bend is moved, 0 to 16,383.
#[unsafe(no_mangle)]
pub extern "C" fn bend(value: u32) {
    with(|i| i.engine.bend(value as u16));
}

/// All keys are pressed so far, 0 to 127.
#[unsafe(no_mangle)]
pub extern "C" fn pressure(value: u32) {
    with(|i| i.engine.pressure(value as u8));
}

/// A key is pressed so far, 0 to 127.
#[unsafe(no_mangle)]
pub extern "C" fn key_pressure(key: u32, value: u32) {
    with(|i| i.engine.key_pressure(key as u8, value as u8));
}

/// A controller is moved.
#[unsafe(no_mangle)]
pub extern "C" fn controller(number: u32, value: u32) {
    with(|i| i.engine.controller(number as u8, value as u8));
}

/// A control of the panel is moved, by its name, 0 to 1.
#[unsafe(no_mangle)]
pub extern "C" fn control(id: f64, value: f64) {
    with(|i| i.engine.control(ControlId(id as u64), value));
}

/// All controls of the panel stand where they do at first again: before another instrument's program comes.
#[unsafe(no_mangle)]
pub extern "C" fn controls_to_first() {
    with(|i| i.engine.controls_to_first());
}

/// How loud a strand runs over time as everything stands now, see [`Engine::loudness_course`]: so many values as 32-bit floats in the exchange buffer. 0
/// where there is no such strand.
#[unsafe(no_mangle)]
pub extern "C" fn loudness_course(strand: f64, held_ms: f64, step_ms: f64, values: usize) -> u32 {
    with(|i| {
        let into: &mut [f32] = bytemuck::cast_slice_mut(&mut i.exchange);
        let count = values.min(into.len());
        let times = (held_ms, step_ms);
        u32::from(i.engine.loudness_course(StrandId(strand as u64), times, &mut into[..count]))
    })
}

/// From now on only `count` things are heard, all where that is 0: pairs of 64-bit floats in the exchange buffer, a strand and one of its regions, −1 for all of them.
#[unsafe(no_mangle)]
pub extern "C" fn listen_to(count: usize) {
    with(|i| {
        let alone: Vec<Alone> = (i.exchange.chunks_exact(2).take(count))
            .map(|pair| Alone {
                strand: StrandId(pair[0] as u64),
                region: (pair[1] >= 0.0).then_some(pair[1] as u64),
            })
            .collect();
        i.engine.listen_to(&alone);
    });
}

/// Writes the indices of the regions that sound into the exchange buffer, as 32-bit numbers; how many.
#[unsafe(no_mangle)]
pub extern "C" fn sounding() -> usize {
    with(|i| {
        let numbers: &mut [u32] = bytemuck::cast_slice_mut(&mut i.exchange);
        let all = numbers.iter_mut().zip(i.engine.sounding());
        all.map(|(number, region)| *number = region as u32).count()
    })
}

/// All keys come up.
#[unsafe(no_mangle)]
pub extern "C" fn all_notes_off() {
    with(|i| i.engine.all_notes_off());
}

/// Renders one block.
#[unsafe(no_mangle)]
pub extern "C" fn render() {
    with(|i| {
        i.go_on(PIECES_A_BLOCK);
        let Instance {
            engine, left, right, ..
        } = i;
        engine.render(left, right);
    });
}

/// The left side of the block.
#[unsafe(no_mangle)]
pub extern "C" fn left() -> *const f32 {
    with(|i| i.left.as_ptr() as usize) as *const f32
}

/// The right side of the block.
#[unsafe(no_mangle)]
pub extern "C" fn right() -> *const f32 {
    with(|i| i.right.as_ptr() as usize) as *const f32
}

/// Voices that sound.
#[unsafe(no_mangle)]
pub extern "C" fn voices() -> u32 {
    with(|i| i.engine.active_voices() as u32)
}
