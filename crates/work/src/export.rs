//! A program written out.

use crate::Library;
use anyhow::{Context, bail};
use formats::{Format, Loss, Lowered, Sampler, bake, lower, write_sf2, write_sfz, write_wav};
use program::Program;
use serde::{Deserialize, Serialize};
use std::io::{Cursor, Write};
use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

/// What to write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ExportSettings {
    /// SFZ in a zip, or a SoundFont.
    pub format: Format,
    /// Width of the WAV files beside an SFZ: 16, 24 or 32.
    pub bits: u16,
}

/// What was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Exported {
    /// Name of the file.
    pub name: String,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// What the format could not hold.
    pub losses: Vec<Loss>,
}

/// Writes a program. `progress` is told how far it is, 0 to 1, and stops it by answering false.
///
/// # Errors
/// With a sentence, where there is nothing to write, a sample cannot be read, or the format cannot hold it.
pub fn export(
    program: &Program,
    settings: ExportSettings,
    library: &impl Library,
    mut progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let lowered = lower(program, settings.format);
    if lowered.program.regions.is_empty() {
        bail!("There is nothing to export yet: record something first.");
    }
    let total = lowered.bakes.len() as f64;
    let audio = |index: usize| -> anyhow::Result<signal::Audio> {
        let plan = &lowered.bakes[index];
        let sample = &program.samples[plan.sample];
        let audio = library
            .audio(sample)
            .with_context(|| format!("The recording of «{}» cannot be read.", sample.name))?;
        Ok(bake(&audio, plan))
    };
    match settings.format {
        Format::Sfz => sfz_zip(&lowered, settings.bits, audio, |done| progress(done / total)),
        Format::SoundFont2 => {
            let mut failed = None;
            let mut done = 0.0;
            let bytes = write_sf2(&lowered.program, |index| {
                done += 1.0;
                let stopped = failed.is_some() || !progress(done / total);
                match (stopped, audio(index)) {
                    (false, Ok(audio)) => audio,
                    (_, outcome) => {
                        failed.get_or_insert_with(|| {
                            outcome.err().unwrap_or_else(|| anyhow::anyhow!("Cancelled."))
                        });
                        signal::Audio {
                            rate_hz: 1,
                            channels: Vec::new(),
                        }
                    }
                }
            })?;
            if let Some(error) = failed {
                return Err(error);
            }
            Ok(Exported {
                name: format!("{}.sf2", lowered.program.name),
                bytes,
                losses: lowered.losses,
            })
        }
    }
}

fn sfz_zip(
    lowered: &Lowered,
    bits: u16,
    audio: impl Fn(usize) -> anyhow::Result<signal::Audio>,
    mut progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let program = &lowered.program;
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    // Audio does not get smaller by packing; without the clock in it, the same program gives the same bytes.
    let plain = SimpleFileOptions::default()
        .compression_method(CompressionMethod::Stored)
        .last_modified_time(zip::DateTime::default());
    zip.start_file(format!("{}.sfz", program.name), plain)?;
    zip.write_all(write_sfz(program).as_bytes())?;
    for (index, sample) in program.samples.iter().enumerate() {
        let region = program
            .regions
            .iter()
            .find(|region| region.sample == index)
            .context("a sample without a region")?;
        let inside = Sampler {
            root_key: region.root_key,
            recording_cents: region.recording_cents,
            looped: region.looped,
        };
        zip.start_file(&sample.source, plain)?;
        zip.write_all(&write_wav(&audio(index)?, bits, Some(&inside)))?;
        if !progress(index as f64 + 1.0) {
            bail!("Cancelled.");
        }
    }
    let bytes = zip.finish()?.into_inner();
    Ok(Exported {
        name: format!("{} SFZ.zip", program.name),
        bytes,
        losses: lowered.losses.clone(),
    })
}
