//! SoundFont 2 (SoundFont Technical Specification 2.04, Creative Technology, 2006).

mod again;
mod driven;
mod file;
mod read;
mod shapes;
mod units;
mod write;
mod zone;

pub(crate) use again::{as_read, share_first_shapes};
pub use file::{File, Instrument, Preset, PresetZone, Sample, Zone};
pub use read::PresetRead;
pub(crate) use units::{ms_of, pan_of_two_sides, taken_by_resonance, timecents};
pub use write::{SOUNDFONT_NAME_LETTERS, fits_sf2, soundfont_name, write_sf2};

use program::{CourseId, CourseTime};
use units::{absolute_cents, at_middle_c, hz_of, pan_that_leans, released_from, under};

/// What is not in the file but in a device (section 7.10), beside a sample's kind.
const ROM: u16 = 0x8000;

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

const MOD_LFO_TO_PITCH: u16 = 5;
const VIB_LFO_TO_PITCH: u16 = 6;
const MOD_ENV_TO_PITCH: u16 = 7;
const FILTER_CUTOFF: u16 = 8;
const FILTER_Q: u16 = 9;
const MOD_LFO_TO_CUTOFF: u16 = 10;
const MOD_ENV_TO_CUTOFF: u16 = 11;
const MOD_LFO_TO_VOLUME: u16 = 13;
const MOD_LFO_DELAY: u16 = 21;
const VIB_LFO_DELAY: u16 = 23;
const MOD_ENV_DELAY: u16 = 25;

/// Generators by which holds and decays follow the key: of loudness, and of the other course.
const KEY_TO_TIMES: [(u16, CourseId, CourseTime); 4] = [
    (31, CourseId(1), CourseTime::Hold),
    (32, CourseId(1), CourseTime::Decay),
    (39, CourseId::LOUDNESS, CourseTime::Hold),
    (40, CourseId::LOUDNESS, CourseTime::Decay),
];

/// Note-on velocity, downward, unipolar, concave: the source of the default level modulator (section 8.4.1).
const VELOCITY_CONCAVE: u16 = 0x0502;
/// The sources of the default modulators that move vibrato (sections 8.4.4 and 8.4.3).
const WHEEL: u16 = 0x80 | 1;
