//! `ladder convert`: from a format that is read to one that is written.

use crate::from::From;
use crate::telling;
use crate::writing::Writing;
use clap::Args;
use formats::{Format, Place};
use std::path::{Path, PathBuf};
use work::{Beside, ToWrite, export, export_beside, refusal, spare, write_whole};

#[derive(Args)]
#[command(after_help = "Example: ladder convert Organ/Organ.sfz Organ.sf2")]
pub struct Convert {
    #[command(flatten)]
    from: From,
    /// What to write, by its ending: .sfz (its audio goes into a folder «samples» beside it), .zip (an SFZ with its audio) or .sf2.
    to: PathBuf,
    #[command(flatten)]
    writing: Writing,
}

impl Convert {
    /// Does it; says what was lost.
    pub fn run(self) -> anyhow::Result<()> {
        let ending = self.to.extension().and_then(|ending| ending.to_str());
        let ending = ending.unwrap_or("").to_lowercase();
        let format = match ending.as_str() {
            "sfz" | "zip" => Format::Sfz,
            "sf2" => Format::SoundFont2,
            _ => return Err(refusal("What is written ends in .sfz, .zip or .sf2.")),
        };
        let settings = self.writing.settings(format, false)?;
        let mut opened = self.from.open()?;
        if let Some(stem) = self.to.file_stem() {
            opened.program.name = stem.to_string_lossy().into_owned();
        }
        spare(&opened, std::iter::once(self.to.clone()))?;
        let progress = |share: f64| {
            telling::share("written", share);
            true
        };
        let one = ToWrite {
            program: &opened.program,
            place: Place::default(),
            panel: None,
            samples: &opened,
        };
        let exported = if ending == "sfz" {
            let name = self
                .to
                .file_name()
                .map(|name| name.to_string_lossy().into_owned());
            let beside = Beside {
                folder: self.to.parent().unwrap_or(Path::new("")),
                sfz: name.as_deref(),
            };
            export_beside(&one, settings, beside, progress)?
        } else {
            write_whole(&self.to, |out| export(&[one], (settings, None), out, progress))?
        };
        telling::over();
        for what in &opened.lost {
            println!("{what}");
        }
        telling::losses(&exported.losses);
        Ok(())
    }
}
