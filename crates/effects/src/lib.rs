//! What is done to sound after the voices: rows of effects, in place, side by side for left and right.
//!
//! Running allocates nothing, locks nothing and reads no clock; the same code runs natively and as WebAssembly, with `libm` in both.

mod biquad;
mod coarse;
mod delay;
mod drive;
mod dynamics;
mod equaliser;
mod line;
mod modulation;
mod noise;
mod reverb;
mod row;
mod width;

pub use row::Row;

use program::MOST_SETTINGS;

/// Settings go where they are to within blocks of so many frames at most.
pub(crate) const BLOCK: usize = 32;

/// All settings of an effect, in the order of its kind.
pub(crate) type Settings = [f64; MOST_SETTINGS];

/// Something that is done to sound.
pub(crate) trait Process: Send + std::fmt::Debug {
    /// What it is set to for the next block; `tempo` in quarter notes a minute.
    fn set(&mut self, settings: &Settings, tempo: f64);

    /// Replaces at most [`BLOCK`] frames by what comes of them: that alone, however much of it is mixed in.
    fn run(&mut self, left: &mut [f32], right: &mut [f32]);

    /// Forgets all that it heard.
    fn clear(&mut self);
}

/// A level in dB as a factor.
pub(crate) fn gain(db: f64) -> f64 {
    libm::pow(10.0, db / 20.0)
}

/// What a one-pole smoother keeps of a frame's before, that gets 63 % of the way within so many milliseconds.
pub(crate) fn keeps(ms: f64, rate_hz: f64) -> f64 {
    libm::exp(-1_000.0 / (ms.max(1e-3) * rate_hz))
}

/// One that was and one that is, mixed: 0 the one, 1 the other. Never louder than the louder of both.
pub(crate) fn mixed(dry: f32, wet: f32, mix: f32) -> f32 {
    dry + (wet - dry) * mix
}
