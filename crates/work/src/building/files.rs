//! The files of a folder, and what is heard in them.

use crate::{inside_of, refusal};
use anyhow::Context;
use instrument::HeardInFile;
use serde::Serialize;
use signal::{Audio, Measurement};
use std::collections::BTreeMap;
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

pub(super) fn left_out(file: String, why: &str) -> FileBuilt {
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

/// A file that was measured.
pub(super) struct Heard {
    /// Rate and channels.
    pub(super) form: (u32, u16),
    pub(super) frames: u64,
    pub(super) facts: Measurement,
    pub(super) told: HeardInFile,
}

/// Audio files of a folder and of those inside it, by their paths; links are not followed.
pub(super) fn audio_files(folder: &Path) -> anyhow::Result<Vec<PathBuf>> {
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
pub(super) fn heard_all(
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

pub(super) fn decoded(path: &Path) -> anyhow::Result<Audio> {
    let ending = path.extension().and_then(|ending| ending.to_str());
    Ok(formats::decode(fs::read(path)?, ending)?)
}
