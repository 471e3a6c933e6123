//! The instrument that is read, as several commands name it.

use clap::Args;
use std::path::{Path, PathBuf};
use work::Opened;

#[derive(Args)]
pub struct From {
    /// An SFZ, with its audio beside it, or a SoundFont.
    instrument: PathBuf,
    #[command(flatten)]
    reading: Reading,
}

impl From {
    /// Reads it.
    pub fn open(&self) -> anyhow::Result<Opened> {
        self.reading.open(&self.instrument)
    }
}

/// How a file is read that holds an instrument.
#[derive(Args)]
pub struct Reading {
    /// Of a SoundFont: BANK:PROGRAM, or how the preset's name begins.
    #[arg(long)]
    preset: Option<String>,
    /// The folder that an SFZ's paths may not leave; its own where it is left out.
    #[arg(long)]
    within: Option<PathBuf>,
}

impl Reading {
    /// Reads one.
    pub fn open(&self, path: &Path) -> anyhow::Result<Opened> {
        Opened::file(path, self.preset.as_deref(), self.within.as_deref())
    }
}
