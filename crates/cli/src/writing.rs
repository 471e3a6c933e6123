//! As what audio is written, on the command line.

use clap::{Args, ValueEnum};
use formats::{AudioForm, Beside, Dither, Format};
use work::ExportSettings;

#[derive(Args)]
pub struct Writing {
    /// Width of the audio: 16, 24 or 32 (float); of a SoundFont and of FLAC files 16 or 24.
    #[arg(long, default_value_t = 24, value_parser = crate::bits)]
    bits: u16,
    /// Frames per second, 8,000 to 192,000; as it was recorded, where it is left out.
    #[arg(long, value_name = "HZ")]
    rate: Option<u32>,
    /// Two sides are written as one.
    #[arg(long)]
    mono: bool,
    /// FLAC files beside an SFZ, in place of WAV files.
    #[arg(long)]
    flac: bool,
    /// Of 16 bits: noise lies where it is heard least (44,100 and 48,000 Hz).
    #[arg(long)]
    shaped: bool,
    /// Presets that a SoundFont has beside, of what it does not hold in one.
    #[arg(long, value_delimiter = ',', value_name = "WHAT")]
    beside: Vec<WhatBeside>,
}

/// What may be presets of their own.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum WhatBeside {
    /// Round robins after the first.
    Turns,
    /// Sounds of keys that come up.
    KeyUp,
    /// Kept values of the panel; beside an SFZ they are SFZ of their own.
    Kept,
}

impl Writing {
    /// For a format; `alone` for audio without a text beside it.
    ///
    /// # Errors
    /// A sentence, where the format does not hold that.
    pub fn settings(&self, format: Format, alone: bool) -> anyhow::Result<ExportSettings> {
        let form = AudioForm {
            rate_hz: self.rate,
            one_side: self.mono,
        };
        let is_files = format == Format::Sfz;
        let settings = ExportSettings::of(format, self.bits)?
            .with(self.flac && is_files, alone)?
            .in_form(form)?;
        let dither = if self.shaped { Dither::Shaped } else { Dither::Flat };
        let beside = Beside {
            turns: self.beside.contains(&WhatBeside::Turns),
            key_up: self.beside.contains(&WhatBeside::KeyUp),
            kept: self.beside.contains(&WhatBeside::Kept),
        };
        Ok(ExportSettings {
            dither,
            beside,
            ..settings
        })
    }
}
