//! The instrument that is read, as several commands name it.

use clap::Args;
use std::path::PathBuf;
use work::Opened;

#[derive(Args)]
pub struct From {
    /// An SFZ, with its audio beside it, or a SoundFont.
    instrument: PathBuf,
    /// Of a SoundFont: BANK:PROGRAM, or how the preset's name begins.
    #[arg(long)]
    preset: Option<String>,
    /// The folder that an SFZ's paths may not leave; its own where it is left out.
    #[arg(long)]
    within: Option<PathBuf>,
}

impl From {
    /// Reads it.
    pub fn open(&self) -> anyhow::Result<Opened> {
        Opened::file(&self.instrument, self.preset.as_deref(), self.within.as_deref())
    }
}
