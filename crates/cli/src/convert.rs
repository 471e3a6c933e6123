//! `ladder convert`: from a format that is read to one that is written.

use clap::Args;
use formats::Format;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use work::{ExportSettings, Opened, Samples, Written, export, export_beside, refusal, write_whole};

#[derive(Args)]
#[command(after_help = "Example: ladder convert Organ/Organ.sfz Organ.sf2")]
pub struct Convert {
    /// An SFZ, with its audio beside it, or a SoundFont.
    from: PathBuf,
    /// What to write, by its ending: .sfz (its audio goes into a folder «samples» beside it), .zip (an SFZ with its audio) or .sf2.
    to: PathBuf,
    /// Width of the audio: 16 or 24; of WAV files 32 (float), too.
    #[arg(long, default_value_t = 24, value_parser = crate::bits)]
    bits: u16,
    /// Of a SoundFont: BANK:PROGRAM, or how the preset's name begins.
    #[arg(long)]
    preset: Option<String>,
    /// The folder that an SFZ's paths may not leave; its own where it is left out.
    #[arg(long)]
    within: Option<PathBuf>,
}

impl Convert {
    /// Does it; says what was lost.
    pub fn run(self) -> anyhow::Result<()> {
        let ending = self
            .to
            .extension()
            .and_then(|ending| ending.to_str())
            .unwrap_or("");
        let ending = ending.to_lowercase();
        let format = match ending.as_str() {
            "sfz" | "zip" => Format::Sfz,
            "sf2" => Format::SoundFont2,
            _ => return Err(refusal("What is written ends in .sfz, .zip or .sf2.")),
        };
        if format == Format::SoundFont2 && self.bits == 32 {
            return Err(refusal("A SoundFont is written with 16 or 24 bits."));
        }
        let mut opened = Opened::file(&self.from, self.preset.as_deref(), self.within.as_deref())?;
        if let Some(stem) = self.to.file_stem() {
            opened.program.name = stem.to_string_lossy().into_owned();
        }
        let settings = ExportSettings {
            format,
            bits: self.bits,
        };
        let progress = told();
        let losses = if ending == "sfz" {
            let folder = self.to.parent().unwrap_or(Path::new(""));
            export_beside(
                &opened.program,
                settings,
                &opened,
                (folder, Written::SfzAndAudio),
                progress,
            )?
            .losses
        } else {
            let mut losses = Vec::new();
            write_whole(&self.to, |out| {
                losses = export(&opened.program, settings, &opened as &dyn Samples, out, progress)?.losses;
                Ok(())
            })?;
            losses
        };
        if std::io::stderr().is_terminal() {
            eprint!("\r\x1b[K");
        }
        for what in &opened.lost {
            println!("{what}");
        }
        for loss in losses {
            let regions = if loss.regions == 1 { "region" } else { "regions" };
            println!("{} ({} {regions})", loss.what, loss.regions);
        }
        Ok(())
    }
}

/// How far it is, on a terminal alone.
fn told() -> impl FnMut(f64) -> bool {
    let terminal = std::io::stderr().is_terminal();
    move |share| {
        if terminal {
            eprint!("\r{:3.0} %", share * 100.0);
            let _ = std::io::stderr().flush();
        }
        true
    }
}
