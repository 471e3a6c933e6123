//! How it is written: audio files, SFZ and SoundFont 2 to and from a [`program::Program`].
//!
//! [`lower`] gives the program that a format can hold and the list of what is lost; the writers take lowered programs only, so
//! that reading an export back gives exactly what was lowered. Nothing here opens a file: bytes come in and go out.

mod aiff;
#[cfg(test)]
mod any;
mod bake;
mod chunks;
mod controls;
mod decode;
mod dither;
mod driven;
mod flac;
mod heard;
mod honesty;
mod losses;
mod lower;
mod phrase;
mod picture;
mod plain;
mod recast;
mod riff;
pub mod sf2;
pub mod sfz;
mod together;
mod unharmed;
mod wav;

pub use aiff::read_aiff_sampler;
pub use bake::{Bake, bake};
pub use chunks::small_chunks;
pub use decode::{AudioReader, decode};
pub use dither::{Dither, to_16_bits};
pub use flac::write_flac;
pub use lower::{Format, Loss, Lowered, clean_name, lower, lower_in};
pub use phrase::{Phrase, PhraseEvent, read_phrase, write_phrase};
pub use picture::picture_kind;
pub use recast::{AudioForm, Recast, Rounds, SOUNDFONT_MOST_HZ};
pub use sf2::{SOUNDFONT_NAME_LETTERS, fits_sf2, soundfont_name, write_sf2};
pub use sfz::{read_sfz, write_sfz};
pub use together::{Beside, PERCUSSION_BANK, Place, Placed, Together, lower_together, places_for};
pub use wav::{
    Remarks, Sampler, WavLayout, decode_samples, encode_samples, read_mark, read_sampler, wav_bytes,
    write_wav,
};

/// Why a file cannot be read or written; a sentence for its owner.
#[derive(Debug, thiserror::Error)]
pub enum FormatError {
    /// The bytes are not what they say.
    #[error("{0}")]
    Unreadable(String),
    /// The format cannot hold this.
    #[error("{0}")]
    TooMuch(String),
    /// Reading or writing failed.
    #[error("reading or writing failed: {0}")]
    Io(#[from] std::io::Error),
}
