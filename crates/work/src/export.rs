//! A program written out.

use crate::export_settings::ExportSettings;
use crate::files::{CREDITS, Files, Folder, Zip, credits_of};
use crate::page::{files_of, write_page};
use crate::read_back::{Written, read_back};
use crate::to_write::{Samples, ToWrite, placed};
use crate::{Library, Shell, refusal};
use anyhow::Context;
use formats::{
    Format, Loss, Place, Placed, Remarks, Sampler, Together, bake, clean_name, lower_together, to_16_bits,
    write_flac, write_sf2, write_sfz, write_wav,
};
use program::{Program, Region};
use std::collections::HashSet;
use std::io::{Seek, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// What was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Exported {
    /// Name of the file.
    pub name: String,
    /// What the format could not hold.
    pub losses: Vec<Loss>,
}

/// Writes a file of this process, and reads it again: where it is not as it was meant, that is told beside what the format loses.
pub(crate) fn written<S: Samples + ?Sized>(
    library: &dyn Library,
    (settings, shell): (ExportSettings, Option<&Shell>),
    parts: &[ToWrite<S>],
    tell: impl FnMut(f64) -> bool,
) -> anyhow::Result<(NamedTempFile, Exported)> {
    let file = library.temporary()?;
    let mut out = std::io::BufWriter::new(file.reopen()?);
    let mut exported = export(parts, (settings, shell), &mut out, tell)?;
    out.flush()?;
    let meant = lowered(&placed(parts), settings)?;
    exported
        .losses
        .extend(read_back(&Written::File(file.path()), settings, &meant)?);
    Ok((file, exported))
}

/// What an export will be.
#[derive(Debug, Clone, PartialEq)]
pub struct Foreseen {
    /// How many files there will be: in a zip, or one; of a page that plays those of its audio.
    pub files: usize,
    /// So long, for the most part to the byte; what is packed without loss is shorter.
    pub bytes: u64,
    /// The names of the first audio files, or of the presets of a SoundFont.
    pub names: Vec<String>,
    /// How many there are of these.
    pub named: usize,
    /// What the format does not hold.
    pub losses: Vec<Loss>,
}

/// What an export will be, before it is made.
///
/// # Errors
/// A sentence, where there is nothing to write.
pub fn foresee(parts: &[(&Program, Place)], settings: ExportSettings) -> anyhow::Result<Foreseen> {
    const NAMES: usize = 3;
    let all = lowered(parts, settings)?;
    let samples = all.samples();
    let audio: u64 = (samples.iter())
        .map(|sample| sample.frames * u64::from(sample.channels) * u64::from(settings.bits / 8))
        .sum();
    let texts = if settings.alone { 0 } else { all.programs.len() } + usize::from(credits_of(&all).is_some());
    let names: Vec<&String> = if settings.format == Format::Sfz {
        samples.iter().map(|sample| &sample.source).collect()
    } else {
        all.programs.iter().map(|placed| &placed.program.name).collect()
    };
    Ok(Foreseen {
        files: match settings.format {
            Format::SoundFont2 => 1,
            Format::Sfz => samples.len() + texts,
            Format::Page => files_of(samples),
        },
        bytes: audio,
        named: names.len(),
        names: names.into_iter().take(NAMES).cloned().collect(),
        losses: all.losses,
    })
}

/// What is said where a page that plays is wanted, and was not built.
pub const NO_SHELL: &str = "The page that plays is not built here: run bin/web first.";

/// Writes programs to `out`, one sample at a time. `progress` is told how far it is, 0 to 1, and stops it by answering false.
///
/// # Errors
/// With a sentence, where there is nothing to write, a sample cannot be read, the format cannot hold it, or `out` fails.
pub fn export<S: Samples + ?Sized>(
    parts: &[ToWrite<S>],
    (settings, shell): (ExportSettings, Option<&Shell>),
    out: &mut (impl Write + Seek),
    progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let all = lowered(&placed(parts), settings)?;
    let audio = baked(parts, &all, settings, progress);
    let title = &all.programs[0].program.name;
    let name = match settings.format {
        Format::Sfz => {
            let mut zip = Zip(zip::ZipWriter::new(out));
            write_files(&mut zip, &all, settings, &sfz_names(&all, settings), audio)?;
            zip.0.finish()?;
            let what = match settings {
                ExportSettings { alone: true, .. } => "audio",
                ExportSettings { flac: true, .. } => "SFZ, FLAC",
                _ => "SFZ",
            };
            format!("{title} {what}.zip")
        }
        Format::SoundFont2 => {
            write_sf2(out, &all.programs, settings.bits, audio)?;
            format!("{title}.sf2")
        }
        Format::Page => {
            let shell = shell.ok_or_else(|| refusal(NO_SHELL))?;
            let mut zip = Zip(zip::ZipWriter::new(out));
            write_page(&mut zip, parts, &all, (settings, shell), audio)?;
            zip.0.finish()?;
            format!("{} page.zip", clean_name(title))
        }
    };
    Ok(Exported {
        name,
        losses: all.losses,
    })
}

/// As the texts of programs are called; none where audio is written alone.
pub(crate) fn sfz_names(all: &Together, settings: ExportSettings) -> Vec<String> {
    let mut taken = HashSet::new();
    let programs = all.programs.iter().filter(|_| !settings.alone);
    let named = programs.map(|placed| {
        let plain = &placed.program.name;
        let numbered = (2..).map(|n| format!("{plain} {n}"));
        let mut names = [plain.clone()].into_iter().chain(numbered);
        let free = names.find(|name| taken.insert(name.to_lowercase()));
        format!("{}.sfz", free.unwrap_or_default())
    });
    named.collect()
}

/// Where an SFZ and its audio go.
#[derive(Debug, Clone, Copy)]
pub struct Beside<'a> {
    /// The folder.
    pub folder: &'a Path,
    /// The name of the SFZ in it; `None` for the audio alone, with loops and roots inside.
    pub sfz: Option<&'a str>,
}

/// Writes an SFZ and its audio, or the audio alone, into a folder. Files are whole or not there; those of the same names are replaced, but for what is read
/// meanwhile.
///
/// # Errors
/// Those of [`export`] and of [`spare`].
pub fn export_beside<S: Samples + ?Sized>(
    part: &ToWrite<S>,
    settings: ExportSettings,
    beside: Beside,
    progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let parts = std::slice::from_ref(part);
    let all = lowered(&[(part.program, part.place)], settings)?;
    let names = all.samples().iter().map(|sample| sample.source.as_str());
    spare(
        part.samples,
        names.chain(beside.sfz).map(|name| beside.folder.join(name)),
    )?;
    let audio = baked(parts, &all, settings, progress);
    let texts: Vec<String> = beside.sfz.into_iter().map(str::to_owned).collect();
    write_files(&mut Folder(beside.folder), &all, settings, &texts, audio)?;
    Ok(Exported {
        name: format!("{}.sfz", all.programs[0].program.name),
        losses: all.losses,
    })
}

/// That none of these paths is a file which is read for what is written: no recording is ever altered.
///
/// # Errors
/// A sentence, where one is.
pub fn spare<S: Samples + ?Sized>(samples: &S, written: impl Iterator<Item = PathBuf>) -> anyhow::Result<()> {
    let read: HashSet<PathBuf> = samples
        .files()
        .iter()
        .filter_map(|path| path.canonicalize().ok())
        .collect();
    for path in written {
        if path.canonicalize().is_ok_and(|path| read.contains(&path)) {
            return Err(refusal(format!(
                "«{}» is read for this, and would be written over: write into another folder.",
                path.display()
            )));
        }
    }
    Ok(())
}

/// Programs as they will be written, with the presets beside them that are asked for, their audio files called by their kind.
pub(crate) fn lowered(parts: &[(&Program, Place)], settings: ExportSettings) -> anyhow::Result<Together> {
    let ExportSettings {
        format, form, beside, ..
    } = settings;
    let mut all = lower_together(parts, beside, format, form)?;
    if format == Format::Sfz && settings.flac {
        for sample in all
            .programs
            .iter_mut()
            .flat_map(|placed| &mut placed.program.samples)
        {
            let stem = sample.source.strip_suffix(".wav").unwrap_or(&sample.source);
            sample.source = format!("{stem}.{}", settings.ending());
        }
    }
    if all.programs.is_empty() {
        return Err(refusal("There is nothing to export yet: record something first."));
    }
    Ok(all)
}

/// What makes the audio of each lowered sample, one after another.
pub(crate) fn baked<'a, S: Samples + ?Sized>(
    parts: &'a [ToWrite<'a, S>],
    all: &'a Together,
    settings: ExportSettings,
    mut progress: impl FnMut(f64) -> bool + 'a,
) -> impl FnMut(usize) -> anyhow::Result<signal::Audio> + 'a {
    let total = all.bakes.len() as f64;
    move |index| {
        if !progress(index as f64 / total) {
            return Err(refusal("Cancelled."));
        }
        let (instrument, plan) = &all.bakes[index];
        let part = &parts[*instrument];
        let sample = &part.program.samples[plan.sample];
        let audio = (part.samples.audio(sample))
            .with_context(|| format!("The recording of «{}» cannot be read.", sample.name))?;
        let audio = bake(&audio, plan);
        Ok(if settings.bits == 16 {
            to_16_bits(&audio, settings.dither)
        } else {
            audio
        })
    }
}

pub(crate) fn write_files(
    files: &mut dyn Files,
    all: &Together,
    settings: ExportSettings,
    texts: &[String],
    mut audio: impl FnMut(usize) -> anyhow::Result<signal::Audio>,
) -> anyhow::Result<()> {
    for (text, Placed { program, .. }) in texts.iter().zip(&all.programs) {
        files.file(text, &mut |out| Ok(out.write_all(write_sfz(program).as_bytes())?))?;
    }
    for (index, sample) in all.samples().iter().enumerate() {
        let plays = |region: &&Region| region.sample == index;
        let playing = all.programs.iter().find_map(|Placed { program, .. }| {
            let region = program.regions.iter().find(plays)?;
            Some((program, region))
        });
        let (program, region) = playing.context("a sample without a region")?;
        let inside = Sampler {
            root_key: region.root_key,
            recording_cents: region.recording_cents,
            looped: region.looped,
            remarks: Remarks {
                mark: None,
                credits: program.credits.clone(),
                licence: program.licence.clone(),
            },
        };
        let audio = audio(index)?;
        files.file(&sample.source, &mut |mut out| {
            if settings.flac {
                write_flac(&mut out, &audio, settings.bits, &inside.remarks)?;
            } else {
                write_wav(&mut out, &audio, settings.bits, Some(&inside))?;
            }
            Ok(())
        })?;
    }
    if let Some(said) = credits_of(all) {
        files.file(CREDITS, &mut |out| Ok(out.write_all(said.as_bytes())?))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Samples;
    use program::{Region, Sample, SampleId};
    use signal::Audio;
    use std::io::{Cursor, Read};

    struct Tones;

    impl Samples for Tones {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            anyhow::ensure!(sample.source != "gone", "it is not there");
            let tone: Vec<f32> = (0..sample.frames)
                .map(|n| (n as f32 * 0.05).sin() * 0.5)
                .collect();
            Ok(Audio::mono(48_000, tone))
        }
    }

    fn program(sources: &[&str]) -> Program {
        let region = |sample: usize| {
            let key = 60 + sample as u8;
            Region {
                start_frame: 100,
                ..Region::whole(sample, key, 4_000).on_keys(key, key)
            }
        };
        let samples = sources
            .iter()
            .enumerate()
            .map(|(n, source)| Sample {
                id: SampleId(n as u64),
                name: format!("tone {n}"),
                source: (*source).to_owned(),
                rate_hz: 48_000,
                first_channel: 0,
                source_channels: 1,
                channels: 1,
                frames: 5_000,
            })
            .collect();
        Program::plain("Test", samples, (0..sources.len()).map(region).collect())
    }

    fn write_one(
        sources: &[&str],
        format: Format,
        out: &mut Cursor<Vec<u8>>,
        progress: &mut dyn FnMut(f64) -> bool,
    ) -> anyhow::Result<Exported> {
        let part = ToWrite {
            program: &program(sources),
            place: Place::default(),
            panel: None,
            samples: &Tones,
        };
        export(&[part], (ExportSettings::of(format, 24)?, None), out, progress)
    }

    #[test]
    fn the_zip_holds_every_sample_and_the_same_program_gives_the_same_bytes() {
        let write = || {
            let mut out = Cursor::new(Vec::new());
            write_one(&["1", "2"], Format::Sfz, &mut out, &mut |_| true).unwrap();
            out.into_inner()
        };
        let bytes = write();
        assert_eq!(bytes, write());
        let mut zip = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
        assert_eq!(zip.len(), 3);
        let mut text = String::new();
        zip.by_name("Test.sfz")
            .unwrap()
            .read_to_string(&mut text)
            .unwrap();
        let names: Vec<String> = zip.file_names().map(str::to_owned).collect();
        let mut files = std::collections::HashMap::new();
        for name in names.into_iter().filter(|name| name.ends_with(".wav")) {
            let mut file = Vec::new();
            zip.by_name(&name).unwrap().read_to_end(&mut file).unwrap();
            files.insert(name, file);
        }
        let heard = |name: &str| {
            let audio = formats::decode(files.get(name)?.clone(), Some("wav")).unwrap();
            Some(formats::sfz::FileFacts {
                rate_hz: audio.rate_hz,
                channels: 1,
                frames: audio.frames() as u64,
                looped: None,
            })
        };
        let document = formats::sfz::Document::new(text).unwrap();
        let read = formats::read_sfz(&document, "", &heard).unwrap().program;
        assert_eq!((read.regions.len(), files.len()), (2, 2));
        for region in &read.regions {
            let sample = &read.samples[region.sample];
            assert_eq!(sample.frames, 3_900);
            let inside = formats::read_sampler(&files[&sample.source]).unwrap();
            assert_eq!(inside.root_key, region.root_key);
        }
    }

    #[test]
    fn a_missing_recording_and_a_cancel_end_it_with_a_sentence() {
        for format in [Format::Sfz, Format::SoundFont2] {
            let mut out = Cursor::new(Vec::new());
            let gone = write_one(&["1", "gone"], format, &mut out, &mut |_| true);
            assert_eq!(
                gone.unwrap_err().to_string(),
                "The recording of «tone 1» cannot be read."
            );
            let cancelled = write_one(&["1", "2"], format, &mut out, &mut |done| done < 0.4);
            assert_eq!(cancelled.unwrap_err().to_string(), "Cancelled.");
        }
    }
}
