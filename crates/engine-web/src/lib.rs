//! The engine's exports for a browser's AudioWorklet: a small C ABI over linear memory.
//!
//! One engine lives in one WebAssembly instance. The caller writes into the exchange buffer ([`exchange`]) and calls; nothing is
//! allocated in [`render`]. A program comes in the `postcard` form of [`program::Program`].

use engine::{Alone, Engine};
use program::{SampleId, StrandId};
use std::cell::RefCell;

/// Bytes of the exchange buffer: slices of audio come in pieces of at most this.
pub const EXCHANGE_BYTES: usize = 1 << 18;
/// Frames of a block, as the browser's audio thread has them.
pub const BLOCK_FRAMES: usize = 128;

struct Instance {
    engine: Engine,
    exchange: Vec<u8>,
    left: [f32; BLOCK_FRAMES],
    right: [f32; BLOCK_FRAMES],
}

thread_local! {
    static INSTANCE: RefCell<Option<Instance>> = const { RefCell::new(None) };
}

fn with<R: Default>(act: impl FnOnce(&mut Instance) -> R) -> R {
    INSTANCE.with_borrow_mut(|instance| instance.as_mut().map_or_else(R::default, act))
}

/// Makes the engine, for an output rate and a number of voices.
#[unsafe(no_mangle)]
pub extern "C" fn start(rate_hz: f64, voices: usize) {
    INSTANCE.with_borrow_mut(|instance| {
        *instance = Some(Instance {
            engine: Engine::new(rate_hz, voices),
            exchange: vec![0; EXCHANGE_BYTES],
            left: [0.0; BLOCK_FRAMES],
            right: [0.0; BLOCK_FRAMES],
        });
    });
}

/// Where the caller writes what it brings.
#[unsafe(no_mangle)]
pub extern "C" fn exchange() -> *mut u8 {
    with(|i| i.exchange.as_mut_ptr() as usize) as *mut u8
}

/// Takes a program of `length` bytes from the exchange buffer; 1 where it was one. Audio and voices of what stays go on.
#[unsafe(no_mangle)]
pub extern "C" fn take_program(length: usize) -> u32 {
    with(|i| match i.exchange.get(..length).map(postcard::from_bytes) {
        Some(Ok(program)) => {
            i.engine.update(program);
            1
        }
        _ => 0,
    })
}

/// Makes the exchange buffer longer, for a program that does not fit; slices of audio never need it.
#[unsafe(no_mangle)]
pub extern "C" fn reserve(bytes: usize) {
    with(|i| i.exchange.resize(bytes.max(EXCHANGE_BYTES), 0));
}

/// Takes `count` interleaved frames of 32-bit floats for a sample, by its name, from the exchange buffer; 1 where they fitted.
#[unsafe(no_mangle)]
pub extern "C" fn take_audio(sample: f64, frames: usize, channels: usize, first: usize, count: usize) -> u32 {
    with(|i| {
        let bytes = count * channels * 4;
        let Some(bytes) = i.exchange.get(..bytes) else { return 0 };
        let samples: Vec<f32> =
            bytes.chunks_exact(4).map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])).collect();
        u32::from(i.engine.add_audio(SampleId(sample as u64), (frames, channels), first, &samples))
    })
}

/// Sets one number of all regions of a sample, by its name, while it is dragged; `setting` counts as [`engine::Setting::ALL`] does.
#[unsafe(no_mangle)]
pub extern "C" fn set(sample: f64, setting: usize, value: f64) {
    if let Some(setting) = engine::Setting::ALL.get(setting) {
        with(|i| i.engine.set(SampleId(sample as u64), *setting, value));
    }
}

/// A key goes down.
#[unsafe(no_mangle)]
pub extern "C" fn note_on(key: u32, velocity: u32) {
    with(|i| i.engine.note_on(key as u8, velocity as u8));
}

/// A key comes up.
#[unsafe(no_mangle)]
pub extern "C" fn note_off(key: u32) {
    with(|i| i.engine.note_off(key as u8));
}

/// A controller is moved.
#[unsafe(no_mangle)]
pub extern "C" fn controller(number: u32, value: u32) {
    with(|i| i.engine.controller(number as u8, value as u8));
}

/// From now on only `count` things are heard, all where that is 0: pairs of 64-bit floats in the exchange buffer, a strand and one of its regions, −1 for all of them.
#[unsafe(no_mangle)]
pub extern "C" fn listen_to(count: usize) {
    with(|i| {
        let Some(bytes) = i.exchange.get(..count * 16) else { return };
        let numbers: Vec<f64> = bytes
            .chunks_exact(8)
            .map(|b| f64::from_le_bytes([b[0], b[1], b[2], b[3], b[4], b[5], b[6], b[7]]))
            .collect();
        let alone: Vec<Alone> = numbers
            .chunks_exact(2)
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
        let mut count = 0;
        for (bytes, region) in i.exchange.chunks_exact_mut(4).zip(i.engine.sounding()) {
            bytes.copy_from_slice(&(region as u32).to_le_bytes());
            count += 1;
        }
        count
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
        let Instance { engine, left, right, .. } = i;
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
