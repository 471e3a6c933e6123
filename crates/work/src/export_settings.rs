//! As what an instrument is given away.

use crate::refusal;
use formats::{AudioForm, Beside, Dither, Format, SOUNDFONT_MOST_HZ};
use serde::{Deserialize, Serialize};

/// What to write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExportSettings {
    /// SFZ in a zip, a SoundFont, or a page that plays.
    pub format: Format,
    /// Width of the audio: 16 or 24; of WAV files beside an SFZ 32, too.
    pub bits: u16,
    /// Whether audio files beside an SFZ are FLAC; else they are WAV.
    #[serde(default)]
    pub flac: bool,
    /// Whether audio files are written alone, with roots and loops inside where they hold them.
    #[serde(default)]
    pub alone: bool,
    /// Rate and sides of the audio.
    #[serde(default)]
    pub form: AudioForm,
    /// Of 16 bits.
    #[serde(default)]
    pub dither: Dither,
    /// Presets beside, of what a SoundFont does not hold in one.
    #[serde(default)]
    pub beside: Beside,
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
                form: AudioForm::default(),
                dither: Dither::default(),
                beside: Beside::default(),
            }),
            (Format::Sfz, _) => Err(refusal("WAV files are written with 16, 24 or 32 bits.")),
            (Format::SoundFont2, _) => Err(refusal("A SoundFont is written with 16 or 24 bits.")),
            (Format::Page, _) => Err(refusal("The audio of a page that plays has 16 or 24 bits.")),
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
            Self {
                format: Format::Page, ..
            } if flac || alone => Err(refusal(
                "The audio of a page that plays is FLAC in pieces of its own.",
            )),
            Self { bits: 32, .. } if flac => Err(refusal("FLAC files are written with 16 or 24 bits.")),
            _ => Ok(Self { flac, alone, ..self }),
        }
    }

    /// The same with audio in a form that is asked for.
    ///
    /// # Errors
    /// A sentence, where no file has such a rate, or the format has it not.
    pub fn in_form(self, form: AudioForm) -> anyhow::Result<Self> {
        const RATES: std::ops::RangeInclusive<u32> = 8_000..=192_000;
        match form.rate_hz {
            Some(rate) if !RATES.contains(&rate) => {
                Err(refusal("Audio is written at rates of 8,000 to 192,000 Hz."))
            }
            Some(rate) if self.format == Format::SoundFont2 && rate > SOUNDFONT_MOST_HZ => {
                Err(refusal("A SoundFont holds rates up to 50,000 Hz."))
            }
            _ => Ok(Self { form, ..self }),
        }
    }

    /// What files are called at their end.
    pub(crate) fn ending(self) -> &'static str {
        if self.flac { "flac" } else { "wav" }
    }
}
