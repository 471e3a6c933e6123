//! As what an instrument is given away.

use crate::refusal;
use formats::Format;
use serde::{Deserialize, Serialize};

/// What to write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExportSettings {
    /// SFZ in a zip, or a SoundFont.
    pub format: Format,
    /// Width of the audio: 16 or 24; of WAV files beside an SFZ 32, too.
    pub bits: u16,
    /// Whether audio files beside an SFZ are FLAC; else they are WAV.
    #[serde(default)]
    pub flac: bool,
    /// Whether audio files are written alone, with roots and loops inside where they hold them.
    #[serde(default)]
    pub alone: bool,
}

impl ExportSettings {
    /// Of a width that the format has.
    ///
    /// # Errors
    /// A sentence, where it has not.
    pub fn of(format: Format, bits: u16) -> anyhow::Result<Self> {
        match (format, bits) {
            (_, 16 | 24) | (Format::Sfz, 32) => Ok(Self {
                format,
                bits,
                flac: false,
                alone: false,
            }),
            (Format::Sfz, _) => Err(refusal("WAV files are written with 16, 24 or 32 bits.")),
            (Format::SoundFont2, _) => Err(refusal("A SoundFont is written with 16 or 24 bits.")),
        }
    }

    /// The same with FLAC files, or with audio files alone.
    ///
    /// # Errors
    /// A sentence, where the format has no files beside it, or FLAC not that width.
    pub fn with(self, flac: bool, alone: bool) -> anyhow::Result<Self> {
        match self {
            Self {
                format: Format::SoundFont2,
                ..
            } if flac || alone => Err(refusal("A SoundFont holds its audio itself.")),
            Self { bits: 32, .. } if flac => Err(refusal("FLAC files are written with 16 or 24 bits.")),
            _ => Ok(Self { flac, alone, ..self }),
        }
    }

    /// What files are called at their end.
    pub(crate) fn ending(self) -> &'static str {
        if self.flac { "flac" } else { "wav" }
    }
}
