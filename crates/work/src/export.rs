//! A program written out.

use crate::export_settings::ExportSettings;
use crate::read_back::read_back;
use crate::{Library, Outcome, Snapshot, Watch, refusal, take_of_source};
use anyhow::Context;
use formats::{
    Format, Loss, Lowered, Sampler, bake, lower, to_16_bits, write_flac, write_sf2, write_sfz, write_wav,
};
use program::Program;
use std::collections::HashSet;
use std::fs::{File, Permissions};
use std::io::{BufWriter, Seek, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;
use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

/// What was written.
#[derive(Debug, Clone, PartialEq)]
pub struct Exported {
    /// Name of the file.
    pub name: String,
    /// What the format could not hold.
    pub losses: Vec<Loss>,
}

/// Where the audio of a program's samples is.
pub trait Samples {
    /// The whole of a sample, by its `source`.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<signal::Audio>;

    /// Files of this machine that it reads; none where they lie in a library.
    fn files(&self) -> Vec<PathBuf> {
        Vec::new()
    }
}

/// Writes an instrument out, as it was when that was asked for.
#[derive(Debug, Clone)]
pub struct Export {
    /// What to write.
    pub settings: ExportSettings,
    /// The program and its takes.
    pub snapshot: Snapshot,
    /// The snapshot's own name: what is written is named after it.
    pub name: String,
}

pub(crate) struct OfSnapshot<'a> {
    pub(crate) library: &'a dyn Library,
    pub(crate) snapshot: &'a Snapshot,
}

impl Samples for OfSnapshot<'_> {
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<signal::Audio> {
        let id = take_of_source(&sample.source)?;
        let take = self.snapshot.takes.get(&id).context("a take is not there")?;
        let of = (
            usize::from(sample.first_channel),
            usize::from(sample.source_channels),
        );
        take.audio(self.library, of, 0, u64::MAX)
    }
}

/// Where exports lie.
pub const EXPORTS: &str = "exports/";

impl Export {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled, or the format cannot hold it.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let ending = match self.settings.format {
            Format::Sfz => "zip",
            Format::SoundFont2 => "sf2",
        };
        let samples = OfSnapshot {
            library,
            snapshot: &self.snapshot,
        };
        let tell = |done: f64| watch.tell(done).is_ok();
        let (file, exported) = Self::written(self.settings, &self.snapshot, &samples, tell)?;
        let kind = match self.settings {
            ExportSettings { alone: true, .. } => "-audio",
            _ => "",
        };
        let packed = if self.settings.flac { "-flac" } else { "" };
        let path = format!(
            "{EXPORTS}{}-{}{packed}{kind}.{ending}",
            self.name, self.settings.bits
        );
        let size = file.as_file().metadata()?.len();
        library.put_file(&path, file.path())?;
        watch.tell(1.0)?;
        Ok(Outcome {
            result: serde_json::json!({
                "file": path, "name": exported.name, "bytes": size, "losses": exported.losses,
            }),
            ..Outcome::default()
        })
    }
}

impl Export {
    /// Writes a file of this process, and reads it again: where it is not as it was meant, that is told beside what the format loses.
    pub(crate) fn written(
        settings: ExportSettings,
        snapshot: &Snapshot,
        samples: &OfSnapshot,
        tell: impl FnMut(f64) -> bool,
    ) -> anyhow::Result<(NamedTempFile, Exported)> {
        let file = samples.library.temporary()?;
        let mut out = std::io::BufWriter::new(file.reopen()?);
        let mut exported = export(&snapshot.program, settings, samples, &mut out, tell)?;
        out.flush()?;
        let meant = lowered(&snapshot.program, settings)?.program;
        let regions = read_back(file.path(), settings, &meant)?;
        if regions > 0 {
            exported.losses.push(Loss {
                what: "Read again, it is not what was meant: this should not be, look at it before you give it away.".to_owned(),
                regions,
            });
        }
        Ok((file, exported))
    }
}

/// What an export will be.
#[derive(Debug, Clone, PartialEq)]
pub struct Foreseen {
    /// How many files there will be: in a zip, or one.
    pub files: usize,
    /// So long, for the most part to the byte; what is packed without loss is shorter.
    pub bytes: u64,
    /// The names of the first audio files.
    pub names: Vec<String>,
    /// What the format does not hold.
    pub losses: Vec<Loss>,
}

/// What an export will be, before it is made.
///
/// # Errors
/// A sentence, where there is nothing to write.
pub fn foresee(program: &Program, settings: ExportSettings) -> anyhow::Result<Foreseen> {
    const NAMES: usize = 3;
    let Lowered { program, losses, .. } = lowered(program, settings)?;
    let samples = program.samples.iter();
    let audio: u64 = samples
        .map(|sample| sample.frames * u64::from(sample.channels) * u64::from(settings.bits / 8))
        .sum();
    let texts = usize::from(!settings.alone) + usize::from(!(program.credits + &program.licence).is_empty());
    let is_soundfont = settings.format == Format::SoundFont2;
    Ok(Foreseen {
        files: if is_soundfont {
            1
        } else {
            program.samples.len() + texts
        },
        bytes: audio,
        names: if is_soundfont {
            vec![format!("{}.sf2", program.name)]
        } else {
            let names = program.samples.iter().map(|sample| sample.source.clone());
            names.take(NAMES).collect()
        },
        losses,
    })
}

/// Writes a program to `out`, one sample at a time. `progress` is told how far it is, 0 to 1, and stops it by answering false.
///
/// # Errors
/// With a sentence, where there is nothing to write, a sample cannot be read, the format cannot hold it, or `out` fails.
pub fn export<S: Samples + ?Sized>(
    program: &Program,
    settings: ExportSettings,
    samples: &S,
    out: &mut (impl Write + Seek),
    progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let lowered = lowered(program, settings)?;
    let audio = baked(program, &lowered, settings.bits, samples, progress);
    let name = match settings.format {
        Format::Sfz => {
            let mut zip = Zip(zip::ZipWriter::new(out));
            let sfz = format!("{}.sfz", lowered.program.name);
            let text = Some(sfz.as_str()).filter(|_| !settings.alone);
            write_files(&mut zip, &lowered.program, (settings, text), audio)?;
            zip.0.finish()?;
            let what = if settings.alone { "audio" } else { "SFZ" };
            format!("{} {what}.zip", lowered.program.name)
        }
        Format::SoundFont2 => {
            write_sf2(out, &lowered.program, settings.bits, audio)?;
            format!("{}.sf2", lowered.program.name)
        }
    };
    Ok(Exported {
        name,
        losses: lowered.losses,
    })
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
    program: &Program,
    settings: ExportSettings,
    samples: &S,
    beside: Beside,
    progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<Exported> {
    let lowered = lowered(program, settings)?;
    let names = lowered
        .program
        .samples
        .iter()
        .map(|sample| sample.source.as_str());
    spare(
        samples,
        names.chain(beside.sfz).map(|name| beside.folder.join(name)),
    )?;
    let audio = baked(program, &lowered, settings.bits, samples, progress);
    let mut files = Folder(beside.folder);
    write_files(&mut files, &lowered.program, (settings, beside.sfz), audio)?;
    Ok(Exported {
        name: format!("{}.sfz", lowered.program.name),
        losses: lowered.losses,
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

fn lowered(program: &Program, settings: ExportSettings) -> anyhow::Result<Lowered> {
    let mut lowered = lower(program, settings.format);
    if settings.format == Format::Sfz && settings.flac {
        for sample in &mut lowered.program.samples {
            let stem = sample.source.strip_suffix(".wav").unwrap_or(&sample.source);
            sample.source = format!("{stem}.{}", settings.ending());
        }
    }
    if lowered.program.regions.is_empty() {
        return Err(refusal("There is nothing to export yet: record something first."));
    }
    Ok(lowered)
}

/// What makes the audio of each lowered sample, one after another.
fn baked<'a, S: Samples + ?Sized>(
    program: &'a Program,
    lowered: &'a Lowered,
    bits: u16,
    samples: &'a S,
    mut progress: impl FnMut(f64) -> bool + 'a,
) -> impl FnMut(usize) -> anyhow::Result<signal::Audio> + 'a {
    let total = lowered.bakes.len() as f64;
    move |index| {
        if !progress(index as f64 / total) {
            return Err(refusal("Cancelled."));
        }
        let plan = &lowered.bakes[index];
        let sample = &program.samples[plan.sample];
        let audio = samples
            .audio(sample)
            .with_context(|| format!("The recording of «{}» cannot be read.", sample.name))?;
        let audio = bake(&audio, plan);
        Ok(if bits == 16 { to_16_bits(&audio) } else { audio })
    }
}

/// Where files go.
trait Files {
    /// Writes one under a path with `/`.
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()>;
}

struct Zip<W: Write + Seek>(zip::ZipWriter<W>);

impl<W: Write + Seek> Files for Zip<W> {
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        // Audio does not get smaller by packing; without the clock in it, the same program gives the same bytes.
        let plain = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Stored)
            .last_modified_time(zip::DateTime::default())
            .large_file(true);
        self.0.start_file(path, plain)?;
        write(&mut self.0)
    }
}

struct Folder<'a>(&'a Path);

impl Files for Folder<'_> {
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        write_whole(&self.0.join(path), |mut out| write(&mut out))
    }
}

/// Writes a file that is whole or not there; the folders that it lies in are made.
///
/// # Errors
/// Where it cannot be written, and those of `write`.
pub fn write_whole<T>(
    path: &Path,
    write: impl FnOnce(&mut BufWriter<File>) -> anyhow::Result<T>,
) -> anyhow::Result<T> {
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty());
    let parent = parent.unwrap_or(Path::new("."));
    let unwritable = || format!("«{}» cannot be written", path.display());
    std::fs::create_dir_all(parent).with_context(unwritable)?;
    // As any file of its maker's: the process's mask takes away what it takes.
    let mut named = tempfile::Builder::new();
    let file = named
        .permissions(Permissions::from_mode(0o666))
        .tempfile_in(parent)
        .with_context(unwritable)?;
    let mut out = BufWriter::new(file.reopen()?);
    let done = write(&mut out)?;
    out.flush()?;
    file.persist(path).with_context(unwritable)?;
    Ok(done)
}

fn write_files(
    files: &mut dyn Files,
    program: &Program,
    (settings, sfz): (ExportSettings, Option<&str>),
    mut audio: impl FnMut(usize) -> anyhow::Result<signal::Audio>,
) -> anyhow::Result<()> {
    if let Some(sfz) = sfz {
        files.file(sfz, &mut |out| Ok(out.write_all(write_sfz(program).as_bytes())?))?;
    }
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
            mark: None,
        };
        let audio = audio(index)?;
        files.file(&sample.source, &mut |mut out| {
            if settings.flac {
                write_flac(&mut out, &audio, settings.bits)?;
            } else {
                write_wav(&mut out, &audio, settings.bits, Some(&inside))?;
            }
            Ok(())
        })?;
    }
    let said = [("Credits", &program.credits), ("Licence", &program.licence)];
    let said: Vec<String> = (said.iter())
        .filter(|(_, said)| !said.is_empty())
        .map(|(what, said)| format!("{what}\n\n{said}\n"))
        .collect();
    if !said.is_empty() {
        files.file("Credits and licence.txt", &mut |out| {
            Ok(out.write_all(said.join("\n").as_bytes())?)
        })?;
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

    fn settings(format: Format) -> ExportSettings {
        ExportSettings::of(format, 24).unwrap()
    }

    #[test]
    fn the_zip_holds_every_sample_and_the_same_program_gives_the_same_bytes() {
        let write = || {
            let mut out = Cursor::new(Vec::new());
            export(
                &program(&["1", "2"]),
                settings(Format::Sfz),
                &Tones,
                &mut out,
                |_| true,
            )
            .unwrap();
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
            let gone = export(
                &program(&["1", "gone"]),
                settings(format),
                &Tones,
                &mut out,
                |_| true,
            );
            assert_eq!(
                gone.unwrap_err().to_string(),
                "The recording of «tone 1» cannot be read."
            );
            let cancelled = export(
                &program(&["1", "2"]),
                settings(format),
                &Tones,
                &mut out,
                |done| done < 0.4,
            );
            assert_eq!(cancelled.unwrap_err().to_string(), "Cancelled.");
        }
    }
}
