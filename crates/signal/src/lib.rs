//! What a recording is: onset, tail, pitch, loudness, noise, loops and waveform peaks.
//!
//! ```
//! let tone: Vec<f32> = (0..48_000).map(|n| (n as f32 * 440.0 / 48_000.0 * std::f32::consts::TAU).sin() * 0.5).collect();
//! let facts = signal::measure(&signal::Audio::mono(48_000, tone));
//! assert_eq!(facts.pitch.map(|pitch| pitch.key), Some(69));
//! ```
//!
//! Nothing here does I/O. Lengths are frames; an end frame is always the first frame after.

mod another_sound;
mod audio;
mod bands;
mod beats;
mod bounds;
mod clean;
mod energy;
mod envelope;
mod falling;
mod fft;
mod key_sound;
mod level;
mod likeness;
mod listen;
mod loops;
mod loudness;
mod lowering;
mod measure;
mod passage;
mod peaks;
mod pitch;
mod rework;
mod seams;
mod slices;
mod spectrum;
mod stft;

pub use another_sound::{AnotherSound, find_another_sound};
pub use audio::{Audio, amplitude_to_db, db_to_amplitude, frames_of_ms};
pub use beats::Beats;
pub use bounds::{Bounds, sound_bounds};
pub use clean::{
    CLEAN_VERSION, Channels, Cleaning, Compressor, Evening, Expander, HighPass, Hiss, Hum, Limiter, Places,
    Sides, Stage, clean, clean_in_room, find_evened_loops, find_hum, noise_bands, taken_away,
};
pub use envelope::{ENVELOPE_STEP_MS, Envelope, EnvelopeMaker};
pub use key_sound::KeySound;
pub use level::{balance_db, clipped_frames, correlation, peak_dbfs, rms_dbfs};
pub use listen::{LISTEN_VERSION, Played, TakeSound, brightness_key, listen};
pub use loops::{
    LIVELY_S, LoopCandidate, LoopFacts, LoopLengths, dies_away, drift_db, find_loops, find_steady_loops,
    likeness_percent, most_alike_near, nearest_rising_zero, seam_db, seam_reach, timbre_db,
};
pub use loudness::{loudness_lufs, loudness_lufs_of, true_peak_dbtp};
pub use lowering::{Lowering, lowering_of};
pub use measure::{Levels, MEASURE_VERSION, Measurement, held_cents, measure, measure_pitch};
pub use passage::{PassageApart, PassageSound, THIRD_OCTAVES, delay_frames, quiet_bands, third_octave_hz};
pub use peaks::{Peak, peak_columns, thumbnail};
pub use pitch::{Pitch, PitchPoint, find_pitch, find_pitches, hz_of_key, key_and_cents, pitch_curve};
pub use rework::{RESAMPLING_REACH, at_rate, flattened, resampled, resampling_lead, reversed, swell};
pub use seams::{PLAINLY_HEARD_DB, PlayedLoop, audible_at_db, audible_db, changes_db, pumps_db};
pub use slices::{
    FoundSlice, GridSettings, SilenceSettings, SteadyStretch, slice_by_grid, slice_by_silence,
    steady_stretches,
};
pub use spectrum::{HeldSpectrum, Partial, SPECTROGRAM_DB, magnitude_spectrum_db, partials, spectrogram};
