//! An instrument made of a folder of named recordings, without a database or a server: measured, placed by names and sound, trimmed, tuned, looped, laid out.

use crate::{Samples, inside_of, refusal};
use anyhow::Context;
use instrument::{
    Cell, Change, Counted, Fact, Facts, HeardInFile, Kind, Known, LevelOf, Origin, PlacedFile, Placing,
    RecordedTake, Resolved, Said, Spelling, Target, Wish, contradicts, even_normalised, is_normalised,
    kind_offered, lay_over, map_of_files, map_wishes, place_files, plan_with, resolve, says_of, take_name,
};
use program::Sample;
use serde::Serialize;
use signal::{Audio, Measurement};
use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// More files than this are no instrument's.
const MOST_FILES: usize = 20_000;
/// Folders in folders, so deep.
const DEEPEST: usize = 8;
const ENDINGS: [&str; 7] = ["wav", "aif", "aiff", "flac", "ogg", "mp3", "wave"];

/// What became of a file.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FileBuilt {
    /// Its path from the folder.
    pub file: String,
    /// As it is called in the instrument; `None` where it was left out.
    pub take: Option<String>,
    /// What does not agree, or why it was left out, in sentences.
    pub says: Vec<String>,
    /// First frame of the sound, and first after it.
    pub sound_frames: Option<(u64, u64)>,
    /// How far it lies above its key.
    pub cents: Option<f64>,
    /// Its loop, by frames, the end the first after.
    pub loop_frames: Option<(u64, u64)>,
    /// How far its seams stand out of the sound, in dB; 0 or less cannot be told from it.
    pub audible_db: Option<f64>,
}

/// An instrument that was built.
pub struct Built {
    /// All of it.
    pub resolved: Resolved,
    /// What became of each file, by their names.
    pub files: Vec<FileBuilt>,
    /// Of each take its file, and that of its right side.
    sounds: Vec<(PathBuf, Option<PathBuf>)>,
}

/// A file that was measured.
struct Heard {
    form: (u32, u16),
    frames: u64,
    facts: Measurement,
    told: HeardInFile,
}

/// Makes an instrument of all audio files in a folder and in those inside it. `kind` says what it is; where that is left out, it is heard. `progress` is told how
/// far it is, 0 to 1, and stops it by answering false.
///
/// # Errors
/// With a sentence, where there is no audio, none of it tells a note, or it was stopped.
pub fn build(
    folder: &Path,
    name: &str,
    kind: Option<Kind>,
    progress: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<Built> {
    let paths = audio_files(folder)?;
    if paths.is_empty() {
        return Err(refusal(format!(
            "There are no audio files in «{}».",
            folder.display()
        )));
    }
    let heard = heard_all(&paths, progress)?;
    let name_of = |path: &Path| {
        let path = path.strip_prefix(folder).unwrap_or(path);
        path.to_string_lossy().replace('\\', "/")
    };
    let mut files: Vec<FileBuilt> = Vec::new();
    let mut good: Vec<(PathBuf, Heard)> = Vec::new();
    for (path, heard) in paths.into_iter().zip(heard) {
        match heard {
            Ok(heard) if !heard.told.silent => good.push((path, heard)),
            Ok(_) => files.push(left_out(name_of(&path), "Every sample of it is 0.")),
            Err(error) => files.push(left_out(name_of(&path), &error.to_string())),
        }
    }
    let names: Vec<String> = good.iter().map(|(path, _)| name_of(path)).collect();
    let told: Vec<HeardInFile> = good.iter().map(|(_, heard)| heard.told.clone()).collect();
    let placed = place_files(&names, &told, Spelling::default(), None);
    let kind = kind.unwrap_or_else(|| kind_offered(Kind::Sustained, &told));
    let mut placings: Vec<Placing> = Vec::new();
    let mic = placed.files.iter().find_map(|of| of.guess.mic.clone());
    for of in placed.files {
        let why = if of.key.is_none() {
            "Neither its name nor its sound tells a note."
        } else if of.guess.mic.is_some() && of.guess.mic != mic {
            "It is of another mic: one is built."
        } else {
            placings.push(of);
            continue;
        };
        files.push(left_out(names[of.file].clone(), why));
    }
    if placings.is_empty() {
        return Err(refusal(
            "None of these files tells a note, by its name or by its sound.",
        ));
    }
    let cells: Vec<PlacedFile> = placings.iter().map(in_plan).collect();
    let form = good[placings[0].file].1.form;
    let mut next = 0;
    let mut fresh = || {
        next += 1;
        next
    };
    let (plan, cells) =
        plan_with(None, kind, &placed.layers, &cells, &[], form, &mut fresh).map_err(refusal)?;
    let mut said = Facts::new();
    let levels = levels_of(&placings, &good, &cells);
    let evened = even_normalised(&levels);
    let gains = (evened.iter())
        .map(|of| Wish::from((Target::Take(of.take), Fact::GainDb, Said::Value(of.value.into()))));
    let map = map_of_files(&plan).map(map_wishes).unwrap_or_default();
    let change = Change::propose(
        "make an instrument of files",
        &said,
        map.into_iter().map(Wish::from).chain(gains),
    );
    lay_over(&mut said, &change.map_err(|error| refusal(error.0))?.fields);
    let takes = (0u64..).zip(&placings).zip(&cells).map(|((id, of), &cell)| {
        let heard = &good[of.file].1;
        let recorded = RecordedTake {
            id,
            cell,
            rate_hz: heard.form.0,
            channels: if of.right.is_some() { 2 } else { heard.form.1 },
            frames: heard.frames,
            origin: Origin {
                file: Some(names[of.file].clone()),
                inside: heard.told.inside,
                ..Origin::default()
            },
        };
        let counted = Counted {
            facts: heard.facts.clone(),
            suggested: Vec::new(),
        };
        (recorded, Some(counted))
    });
    let resolved = resolve(Known {
        name,
        plan: &plan,
        said: &said,
        brought: None,
        takes: takes.collect(),
        cleaned_levels: &HashMap::new(),
        judged_loops: &HashMap::new(),
    });
    for (take, of) in resolved.takes.iter().zip(&placings) {
        let heard = &good[of.file].1;
        let mut says = says_of(&of.guess, &heard.told, of.key);
        if contradicts(&of.guess, &heard.told, of.key) {
            says.push("Look at it: what is heard is another note.".to_owned());
        }
        if !take.chosen {
            says.push("Another file has the same place, and is played.".to_owned());
        }
        let treatment = take.treatment.as_ref();
        let looped = treatment.and_then(|treatment| treatment.looped.as_ref());
        files.push(FileBuilt {
            file: names[of.file].clone(),
            take: Some(take_name(&plan, take.recorded.cell)),
            says,
            sound_frames: treatment.map(|treatment| (treatment.start_frame, treatment.end_frame)),
            cents: treatment.map(|treatment| treatment.recording_cents),
            loop_frames: looped.map(|looped| (looped.start_frame, looped.end_frame)),
            audible_db: take.seam.as_ref().and_then(|seam| seam.audible_db),
        });
    }
    files.sort_by(|a, b| a.file.cmp(&b.file));
    let sounds = placings.iter().map(|of| {
        let right = of.right.map(|right| good[right].0.clone());
        (good[of.file].0.clone(), right)
    });
    Ok(Built {
        sounds: sounds.collect(),
        resolved,
        files,
    })
}

fn left_out(file: String, why: &str) -> FileBuilt {
    FileBuilt {
        file,
        take: None,
        says: vec![why.to_owned()],
        sound_frames: None,
        cents: None,
        loop_frames: None,
        audible_db: None,
    }
}

fn in_plan(of: &Placing) -> PlacedFile {
    PlacedFile {
        file: of.file as u64,
        right: of.right.map(|right| right as u64),
        key: of.key.unwrap_or_default(),
        layer: of.layer,
        round_robin: of.round_robin,
        key_up: of.guess.key_up,
        mic: None,
        pass: None,
    }
}

/// What says whether a set was normalised; nothing where one of them has no level.
fn levels_of(placings: &[Placing], good: &[(PathBuf, Heard)], cells: &[Cell]) -> Vec<LevelOf> {
    let level = |((take, of), cell): ((u64, &Placing), &Cell)| {
        let told = &good[of.file].1.told;
        Some(LevelOf {
            take,
            cell: *cell,
            peak_dbfs: told.peak_dbfs?,
            loudness_lufs: told.loudness_lufs?,
        })
    };
    let all: Option<Vec<LevelOf>> = (0u64..).zip(placings).zip(cells).map(level).collect();
    all.filter(|levels| is_normalised(levels)).unwrap_or_default()
}

/// Audio files of a folder and of those inside it, by their paths; links are not followed.
fn audio_files(folder: &Path) -> anyhow::Result<Vec<PathBuf>> {
    let mut all = Vec::new();
    let mut folders = vec![(folder.to_owned(), 0)];
    while let Some((at, deep)) = folders.pop() {
        let entries = fs::read_dir(&at).with_context(|| format!("«{}» cannot be read", at.display()))?;
        for entry in entries {
            let entry = entry?;
            let (path, kind) = (entry.path(), entry.file_type()?);
            let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or("");
            if kind.is_dir() && deep < DEEPEST {
                folders.push((path, deep + 1));
            } else if kind.is_file() && ENDINGS.contains(&ending.to_lowercase().as_str()) {
                all.push(path);
            }
            if all.len() > MOST_FILES {
                return Err(refusal(format!(
                    "There are over {MOST_FILES} audio files in «{}»: take a folder of one instrument.",
                    folder.display()
                )));
            }
        }
    }
    all.sort();
    Ok(all)
}

/// Reads and measures every file, one on each processor at a time.
fn heard_all(
    paths: &[PathBuf],
    progress: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<Vec<anyhow::Result<Heard>>> {
    let (next, stopped) = (AtomicUsize::new(0), AtomicBool::new(false));
    let found: Mutex<BTreeMap<usize, anyhow::Result<Heard>>> = Mutex::new(BTreeMap::new());
    let locked = || found.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                while !stopped.load(Ordering::Relaxed) {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    let Some(path) = paths.get(n) else { return };
                    // A file that breaks what measures it is one file: the others are heard all the same.
                    let heard = std::panic::catch_unwind(|| heard(path))
                        .unwrap_or_else(|_| Err(anyhow::anyhow!("This sound broke what measures it.")));
                    let mut found = locked();
                    found.insert(n, heard);
                    if !progress(found.len() as f64 / paths.len() as f64) {
                        stopped.store(true, Ordering::Relaxed);
                    }
                }
            });
        }
    });
    if stopped.into_inner() {
        return Err(refusal("Cancelled."));
    }
    Ok(found
        .into_inner()
        .unwrap_or_else(std::sync::PoisonError::into_inner)
        .into_values()
        .collect())
}

fn heard(path: &Path) -> anyhow::Result<Heard> {
    let inside = inside_of(&File::open(path)?)?;
    let audio = decoded(path)?;
    let facts = signal::measure(&audio);
    let pitch = facts.pitch;
    Ok(Heard {
        form: (audio.rate_hz, audio.channels.len() as u16),
        frames: audio.frames() as u64,
        told: HeardInFile {
            key: pitch.map(|pitch| pitch.key),
            cents: pitch.map(|pitch| pitch.cents),
            confidence: pitch.map_or(0.0, |pitch| pitch.confidence),
            dies_away: Some(facts.dies_away),
            peak_dbfs: facts.peak_dbfs,
            loudness_lufs: facts.loudness_lufs,
            silent: facts.peak_dbfs.is_none(),
            ..inside
        },
        facts,
    })
}

fn decoded(path: &Path) -> anyhow::Result<Audio> {
    let ending = path.extension().and_then(|ending| ending.to_str());
    Ok(formats::decode(fs::read(path)?, ending)?)
}

impl Samples for Built {
    fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
        let take: usize = sample.source.parse()?;
        let (left, right) = self.sounds.get(take).context("a take is not there")?;
        let mut audio = decoded(left)?;
        if let Some(right) = right {
            let mut other = decoded(right)?;
            anyhow::ensure!(
                audio.rate_hz == other.rate_hz,
                "«{}» and its right side have different rates",
                left.display()
            );
            // The shorter one ends in silence.
            let frames = audio.frames().max(other.frames());
            audio.channels.truncate(1);
            audio.channels.append(&mut other.channels);
            audio.channels.truncate(2);
            for side in &mut audio.channels {
                side.resize(frames, 0.0);
            }
        }
        let (first, channels) = (
            usize::from(sample.first_channel),
            usize::from(sample.source_channels),
        );
        let end = (first + channels).min(audio.channels.len());
        audio.channels = audio.channels.drain(first.min(end)..end).collect();
        Ok(audio)
    }

    fn files(&self) -> Vec<PathBuf> {
        let both =
            |(left, right): &(PathBuf, Option<PathBuf>)| std::iter::once(left.clone()).chain(right.clone());
        self.sounds.iter().flat_map(both).collect()
    }
}
