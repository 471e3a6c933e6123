//! A folder that instruments are given into again and again: what is as it was is left, what was changed by another hand is told before it is replaced, and what fails or
//! is cancelled leaves nothing behind.

use crate::export::{Exported, NO_SHELL, baked, lowered, sfz_names, write_files};
use crate::files::{CREDITS, Files, credits_of};
use crate::page::write_page;
use crate::read_back::{Written, read_back};
use crate::to_write::{Samples, ToWrite, placed};
use crate::{ExportSettings, Shell, refusal};
use anyhow::Context;
use formats::{Format, Together, write_sf2};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// What tells in the folder which files Ladder wrote.
const WRITTEN: &str = ".ladder.json";
/// So many files are named where several were changed.
const NAMED: usize = 3;

/// Where something is given to, in place of a file to download.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IntoFolder {
    /// The folder; it is made where it is not there.
    pub folder: PathBuf,
    /// Whether files that another hand changed are replaced.
    pub replace: bool,
    /// Whether the texts are written alone, beside audio that is there.
    pub texts_alone: bool,
}

/// What became of the files in a folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct GivenInto {
    /// The folder.
    pub folder: PathBuf,
    /// Files that are new, or otherwise than before.
    pub written: usize,
    /// Files that are as they were.
    pub same: usize,
    /// Files that were written before, and that nothing plays any more.
    pub removed: usize,
}

/// The files of a folder that Ladder wrote, by their paths, with what their bytes hash to: two while they are being replaced.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Known {
    version: u32,
    files: BTreeMap<String, BTreeSet<String>>,
}

impl Known {
    fn of(folder: &Path) -> Self {
        let text = fs::read(folder.join(WRITTEN)).unwrap_or_default();
        serde_json::from_slice(&text).unwrap_or_default()
    }

    fn keep(&self, folder: &Path) -> anyhow::Result<()> {
        crate::write_whole(&folder.join(WRITTEN), |out| {
            Ok(serde_json::to_writer_pretty(out, self)?)
        })
    }

    /// Whether a file is there, and not as it was written.
    fn is_of_another_hand(&self, folder: &Path, path: &str) -> anyhow::Result<bool> {
        let Some(hash) = hash_of(&folder.join(path))? else {
            return Ok(false);
        };
        let known = self.files.get(path);
        Ok(!known.is_some_and(|hashes| hashes.contains(&hash)))
    }
}

/// What a file's bytes hash to; `None` where it is not there.
fn hash_of(path: &Path) -> anyhow::Result<Option<String>> {
    match File::open(path) {
        Ok(file) => {
            let mut hasher = blake3::Hasher::new();
            hasher.update_reader(file)?;
            Ok(Some(hasher.finalize().to_hex().to_string()))
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error).with_context(|| format!("«{}» cannot be read", path.display())),
    }
}

/// Writes programs into a folder.
///
/// # Errors
/// Those of [`crate::export`]; a refusal that names files which another hand changed, or audio that is not there.
pub fn give_into<S: Samples + ?Sized>(
    parts: &[ToWrite<S>],
    (settings, shell): (ExportSettings, Option<&Shell>),
    into: &IntoFolder,
    progress: impl FnMut(f64) -> bool,
) -> anyhow::Result<(Exported, GivenInto)> {
    let folder = &into.folder;
    let unwritable = || format!("«{}» cannot be written", folder.display());
    let mut all = lowered(&placed(parts), settings)?;
    fs::create_dir_all(folder).with_context(unwritable)?;
    // Two that give into one folder do so one after another.
    let held = File::open(folder).with_context(unwritable)?;
    held.lock().with_context(unwritable)?;
    let known = Known::of(folder);
    refuse_others(
        folder,
        &known,
        &paths_of(&all, settings, into.texts_alone),
        into.replace,
    )?;
    // Beside the files, so that they are moved and not copied.
    let half = tempfile::Builder::new()
        .prefix(".ladder-half-")
        .tempdir_in(folder)
        .with_context(unwritable)?;
    let texts = sfz_names(&all, settings);
    let mut staged = Staged {
        half: &half,
        paths: Vec::new(),
    };
    if settings.format == Format::SoundFont2 {
        let name = format!("{}.sf2", all.programs[0].program.name);
        let mut out = BufWriter::new(File::create(half.path().join(&name)).with_context(unwritable)?);
        write_sf2(
            &mut out,
            &all.programs,
            settings.bits,
            baked(parts, &all, settings, progress),
        )?;
        out.flush()?;
        staged.paths.push(name);
    } else if settings.format == Format::Page {
        let shell = shell.ok_or_else(|| refusal(NO_SHELL))?;
        let audio = baked(parts, &all, settings, progress);
        write_page(&mut staged, parts, &all, (settings, shell), audio)?;
        // What its files are called is known once their audio is.
        refuse_others(folder, &known, &staged.paths, into.replace)?;
    } else if into.texts_alone {
        for sample in all.samples() {
            if !folder.join(&sample.source).exists() {
                return Err(refusal(format!(
                    "«{}» is not there: write the audio too.",
                    sample.source
                )));
            }
        }
        staged.texts(&all, &texts)?;
    } else {
        let audio = baked(parts, &all, settings, progress);
        write_files(&mut staged, &all, settings, &texts, audio)?;
    }
    let path = half.path().join(&staged.paths[0]);
    let written = match settings.format {
        Format::SoundFont2 => Written::File(&path),
        Format::Sfz | Format::Page => Written::Folder(half.path(), &texts),
    };
    all.losses.extend(read_back(&written, settings, &all)?);
    let paths = staged.paths;
    let given = moved(folder, &half, paths, known, into.texts_alone)?;
    let exported = Exported {
        name: folder.display().to_string(),
        losses: all.losses,
    };
    Ok((exported, given))
}

/// Every file that will be written.
fn paths_of(all: &Together, settings: ExportSettings, texts_alone: bool) -> Vec<String> {
    if settings.format == Format::SoundFont2 {
        return vec![format!("{}.sf2", all.programs[0].program.name)];
    }
    if settings.format == Format::Page {
        return Vec::new();
    }
    let mut paths = sfz_names(all, settings);
    if !texts_alone {
        paths.extend(all.samples().iter().map(|sample| sample.source.clone()));
        paths.extend(credits_of(all).map(|_| CREDITS.to_owned()));
    }
    paths
}

fn refuse_others(folder: &Path, known: &Known, paths: &[String], replace: bool) -> anyhow::Result<()> {
    let mut others = Vec::new();
    for path in paths.iter().filter(|_| !replace) {
        if known.is_of_another_hand(folder, path)? {
            others.push(format!("«{path}»"));
        }
    }
    let Some(count) = Some(others.len()).filter(|count| *count > 0) else {
        return Ok(());
    };
    let more = if count > NAMED { " …" } else { "" };
    others.truncate(NAMED);
    Err(refusal(format!(
        "{count} of the files in «{}» were changed or put there by another hand: {}{more} Nothing was written: take another folder, or replace them.",
        folder.display(),
        others.join(", ")
    )))
}

/// What was written takes its place; what nothing plays any more, and nobody changed, goes.
fn moved(
    folder: &Path,
    half: &TempDir,
    paths: Vec<String>,
    mut known: Known,
    texts_alone: bool,
) -> anyhow::Result<GivenInto> {
    let mut given = GivenInto {
        folder: folder.to_owned(),
        written: 0,
        same: 0,
        removed: 0,
    };
    let mut now: BTreeMap<String, String> = BTreeMap::new();
    for path in paths {
        let hash = hash_of(&half.path().join(&path))?.context("what was written is not there")?;
        now.insert(path, hash);
    }
    let stale: Vec<String> = (known.files.keys())
        .filter(|path| !now.contains_key(*path) && !texts_alone)
        .cloned()
        .collect();
    // Whoever comes after a kill knows both for ours.
    known.version = 1;
    for (path, hash) in &now {
        known.files.entry(path.clone()).or_default().insert(hash.clone());
    }
    known.keep(folder)?;
    for (path, hash) in &now {
        let place = folder.join(path);
        if hash_of(&place)?.as_ref() == Some(hash) {
            given.same += 1;
            continue;
        }
        if let Some(parent) = place.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::rename(half.path().join(path), &place)
            .with_context(|| format!("«{}» cannot be written", place.display()))?;
        given.written += 1;
    }
    for path in stale {
        let is_ours = folder.join(&path).exists() && !known.is_of_another_hand(folder, &path)?;
        if is_ours {
            fs::remove_file(folder.join(&path))?;
            given.removed += 1;
        }
        known.files.remove(&path);
    }
    for (path, hash) in now {
        known.files.insert(path, BTreeSet::from([hash]));
    }
    known.keep(folder)?;
    Ok(given)
}

/// Files that lie apart until all are written.
struct Staged<'a> {
    half: &'a TempDir,
    paths: Vec<String>,
}

impl Staged<'_> {
    fn texts(&mut self, all: &Together, names: &[String]) -> anyhow::Result<()> {
        for (name, of) in names.iter().zip(&all.programs) {
            let text = formats::write_sfz(&of.program);
            self.file(name, &mut |out| Ok(out.write_all(text.as_bytes())?))?;
        }
        Ok(())
    }
}

impl Files for Staged<'_> {
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        crate::write_whole(&self.half.path().join(path), |mut out| write(&mut out))?;
        self.paths.push(path.to_owned());
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use formats::Place;
    use program::{Program, Region, Sample, SampleId};
    use signal::Audio;

    struct Tones(f32);

    impl Samples for Tones {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            anyhow::ensure!(sample.source != "gone", "it is not there");
            let level = if sample.source == "a" { self.0 } else { 0.5 };
            Ok(Audio::mono(48_000, vec![level; sample.frames as usize]))
        }
    }

    fn program(sources: &[&str]) -> Program {
        let sample = |(n, source): (usize, &&str)| Sample {
            id: SampleId(n as u64),
            name: (*source).to_owned(),
            source: (*source).to_owned(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 500,
        };
        let region = |n: usize| Region::whole(n, 60 + n as u8, 500).on_keys(60 + n as u8, 60 + n as u8);
        let samples: Vec<Sample> = sources.iter().enumerate().map(sample).collect();
        let regions = (0..samples.len()).map(region).collect();
        Program::plain("Slate", samples, regions)
    }

    fn give(
        folder: &Path,
        sources: &[&str],
        level: f32,
        how: (Format, bool, bool),
    ) -> anyhow::Result<GivenInto> {
        let (format, replace, texts_alone) = how;
        let into = IntoFolder {
            folder: folder.to_owned(),
            replace,
            texts_alone,
        };
        let mut program = program(sources);
        if level > 0.8 {
            program.licence = "as you like".to_owned();
        }
        let part = ToWrite {
            program: &program,
            place: Place::default(),
            panel: None,
            samples: &Tones(level),
        };
        let settings = ExportSettings::of(format, 24)?;
        let (exported, given) = give_into(&[part], (settings, None), &into, |_| true)?;
        assert_eq!(exported.losses, []);
        Ok(given)
    }

    const SFZ: (Format, bool, bool) = (Format::Sfz, false, false);

    fn counts(given: &GivenInto) -> (usize, usize, usize) {
        (given.written, given.same, given.removed)
    }

    #[test]
    fn again_only_what_changed_is_written_and_what_nothing_plays_goes() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        fs::write(at.join("notes.txt"), "mine").unwrap();
        assert_eq!(counts(&give(at, &["a", "b"], 0.1, SFZ).unwrap()), (3, 0, 0));
        assert_eq!(counts(&give(at, &["a", "b"], 0.1, SFZ).unwrap()), (0, 3, 0));
        assert_eq!(counts(&give(at, &["a", "b"], 0.2, SFZ).unwrap()), (1, 2, 0));
        assert_eq!(counts(&give(at, &["a"], 0.2, SFZ).unwrap()), (1, 1, 1));
        assert!(!at.join("samples/b.wav").exists());
        let sf2 = (Format::SoundFont2, false, false);
        assert_eq!(counts(&give(at, &["a"], 0.2, sf2).unwrap()), (1, 0, 2));
        assert_eq!(fs::read_to_string(at.join("notes.txt")).unwrap(), "mine");
        let left: Vec<String> = fs::read_dir(at)
            .unwrap()
            .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
            .filter(|name| name.starts_with(".ladder-half"))
            .collect();
        assert_eq!(left, [] as [&str; 0]);
    }

    #[test]
    fn what_another_hand_changed_is_told_before_anything_is_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        give(at, &["a", "b"], 0.1, SFZ).unwrap();
        fs::write(at.join("samples/a.wav"), "edited elsewhere").unwrap();
        let why = give(at, &["a", "b"], 0.2, SFZ).unwrap_err().to_string();
        assert!(
            why.contains("1 of the files") && why.contains("«samples/a.wav»"),
            "{why}"
        );
        assert_eq!(
            fs::read_to_string(at.join("samples/a.wav")).unwrap(),
            "edited elsewhere"
        );
        let replaced = give(at, &["a", "b"], 0.2, (Format::Sfz, true, false)).unwrap();
        assert_eq!(counts(&replaced), (1, 2, 0));
        // A text of the same name as the one that says who made it, too.
        fs::write(at.join(CREDITS), "my own").unwrap();
        let why = give(at, &["a", "b"], 0.9, SFZ).unwrap_err().to_string();
        assert!(why.contains(CREDITS), "{why}");
        // What was changed and is played no more stays: it is another's by now.
        fs::write(at.join("samples/b.wav"), "mine").unwrap();
        assert_eq!(counts(&give(at, &["a"], 0.2, SFZ).unwrap()), (1, 1, 0));
        assert_eq!(fs::read_to_string(at.join("samples/b.wav")).unwrap(), "mine");
    }

    #[test]
    fn texts_alone_need_audio_that_is_there_and_what_fails_leaves_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let alone = (Format::Sfz, false, true);
        let why = give(at, &["a"], 0.1, alone).unwrap_err().to_string();
        assert!(why.contains("write the audio too"), "{why}");
        give(at, &["a", "b"], 0.1, SFZ).unwrap();
        assert_eq!(counts(&give(at, &["b"], 0.9, alone).unwrap()), (1, 0, 0));
        assert!(at.join("samples/a.wav").exists(), "audio is left alone");
        let before = fs::read(at.join("Slate.sfz")).unwrap();
        assert!(give(at, &["a", "gone"], 0.9, SFZ).is_err());
        assert_eq!(fs::read(at.join("Slate.sfz")).unwrap(), before);
        assert_eq!(
            fs::read_dir(at).unwrap().count(),
            3,
            "a text, its audio, and what tells of them"
        );
    }
}
