//! SoundFont 2 (SoundFont Technical Specification 2.04, Creative Technology, 2006).

mod driven;
mod file;
mod write;

pub use file::{File, Instrument, Sample, Zone};
pub use write::write_sf2;

/// Generator numbers (section 8.1.2).
const LOOP_START: u16 = 2;
const LOOP_END: u16 = 3;
const PAN: u16 = 17;
const DELAY: u16 = 33;
const ATTACK: u16 = 34;
const HOLD: u16 = 35;
const DECAY: u16 = 36;
const SUSTAIN: u16 = 37;
const RELEASE: u16 = 38;
const INSTRUMENT: u16 = 41;
const KEY_RANGE: u16 = 43;
const VELOCITY_RANGE: u16 = 44;
const LOOP_START_COARSE: u16 = 45;
const ATTENUATION: u16 = 48;
const LOOP_END_COARSE: u16 = 50;
const COARSE_TUNE: u16 = 51;
const FINE_TUNE: u16 = 52;
const SAMPLE: u16 = 53;
const SAMPLE_MODES: u16 = 54;
const SCALE_TUNING: u16 = 56;
const EXCLUSIVE_CLASS: u16 = 57;
const ROOT_KEY: u16 = 58;
