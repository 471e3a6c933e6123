//! Instruments that others made are looked through where their files lie, and taken in: their recordings into the library, what they play as it was read.

use crate::opened::{Opened, left_out, soundfont_at};
use crate::{Library, NewTake, Recording, Refusal, Samples, Watch, keep, read_file, refusal};
use anyhow::Context;
use instrument::{Brought, Origin, PlannedOfBrought, plan_of_brought};
use program::{Program, Sample};
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{ErrorKind, Read, Write};
use std::path::{Component, Path, PathBuf};
use utoipa::ToSchema;

/// More files than this are no instrument's.
pub const MOST_BROUGHT_FILES: usize = 20_000;
/// A packed file holds no more than this.
const MOST_UNPACKED_BYTES: u64 = 8 << 30;
/// Folders in folders, so deep.
const DEEPEST: usize = 16;
/// The bank of drum kits (SoundFont 2.04, section 7.2).
const PERCUSSION_BANK: u16 = 128;
const AUDIO: [&str; 8] = ["wav", "wave", "aif", "aiff", "aifc", "flac", "ogg", "mp3"];

/// An instrument that can be taken in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Offered {
    /// The file that it stands in, by its path in what was brought.
    pub file: String,
    /// Its place among the presets of a SoundFont.
    pub place: Option<usize>,
    /// Its bank there, from 0.
    pub bank: Option<u16>,
    /// Its program in that bank, from 0.
    pub program: Option<u16>,
    /// As it is called there.
    pub name: String,
    /// How many regions it has.
    pub regions: usize,
    /// How many recordings they play.
    pub samples: usize,
    /// So long those are together.
    pub seconds: f64,
    /// Its lowest key.
    pub low_key: u8,
    /// Its highest.
    pub high_key: u8,
    /// What is not held of it, or is missing, a sentence each.
    pub lost: Vec<String>,
    /// Why it cannot be taken in.
    pub refused: Option<String>,
}

/// What was found among some files.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Found {
    /// Instruments, by file and place.
    pub instruments: Vec<Offered>,
    /// Audio files, by their paths.
    pub audio: Vec<String>,
}

/// An instrument that was taken in.
#[derive(Debug, Clone, PartialEq)]
pub struct TakenOfBrought {
    /// As it is called.
    pub name: String,
    /// Places, and what had been done to what stands there.
    pub planned: PlannedOfBrought,
    /// Its recordings, which lie in the library.
    pub takes: Vec<NewTake>,
    /// What is not held of it, a sentence each.
    pub lost: Vec<String>,
}

/// A path that stays inside of what was brought, with `/`; `None` for one that does not, or that is no file's.
pub fn path_inside(name: &str) -> Option<PathBuf> {
    let name = name.replace('\\', "/");
    let mut inside = PathBuf::new();
    for part in Path::new(&name).components() {
        match part {
            Component::Normal(part) if part.len() <= 255 && !part.as_encoded_bytes().contains(&0) => {
                inside.push(part);
            }
            Component::CurDir => {}
            _ => return None,
        }
    }
    let deep = inside.components().count();
    (1..=DEEPEST).contains(&deep).then_some(inside)
}

/// A new file in what was brought, and the folders that it lies in.
///
/// # Errors
/// A [`Refusal`] where another file is in its way; those of the disk.
pub fn place_for(folder: &Path, inside: &Path) -> anyhow::Result<File> {
    let path = folder.join(inside);
    let made = path
        .parent()
        .map_or(Ok(()), fs::create_dir_all)
        .and_then(|()| File::create(&path));
    made.map_err(|error| match error.kind() {
        ErrorKind::NotADirectory | ErrorKind::IsADirectory | ErrorKind::AlreadyExists => {
            refusal(format!("«{}» is a file and a folder at once.", inside.display()))
        }
        _ => error.into(),
    })
}

/// Unpacks a zip into a folder, but for what reaches out of it; how many files came out.
///
/// # Errors
/// A [`Refusal`] where it is no zip, is locked, or holds more than can be; those of the disk.
pub fn unpack(zip: File, into: &Path) -> anyhow::Result<usize> {
    let broken = |error: zip::result::ZipError| match error {
        zip::result::ZipError::Io(error) if error.raw_os_error().is_some() => error.into(),
        error => refusal(format!("This zip cannot be read: {error}.")),
    };
    let mut zip = zip::ZipArchive::new(zip).map_err(broken)?;
    if zip.len() > MOST_BROUGHT_FILES {
        return Err(refusal(format!(
            "There are over {MOST_BROUGHT_FILES} files in this zip."
        )));
    }
    let (mut count, mut left) = (0, MOST_UNPACKED_BYTES);
    for n in 0..zip.len() {
        let mut entry = zip.by_index(n).map_err(broken)?;
        let Some(inside) = path_inside(entry.name()).filter(|_| entry.is_file()) else {
            continue;
        };
        let mut out = place_for(into, &inside)?;
        let mut piece = vec![0; 1 << 16];
        loop {
            // What its own sum contradicts is broken, and so is what is cut.
            let read = entry.read(&mut piece).map_err(|error| broken(error.into()))?;
            if read == 0 {
                break;
            }
            left = left.checked_sub(read as u64).ok_or_else(|| {
                refusal(format!(
                    "What is in this zip takes over {} GB.",
                    MOST_UNPACKED_BYTES >> 30
                ))
            })?;
            out.write_all(&piece[..read])?;
        }
        count += 1;
    }
    Ok(count)
}

/// Looks through all files in a folder.
///
/// # Errors
/// Those of the disk.
pub fn look_through(folder: &Path) -> anyhow::Result<Found> {
    let mut found = Found::default();
    for path in files_in(folder)? {
        let name = name_in(folder, &path);
        match ending_of(&path).as_str() {
            "sf2" => found.instruments.extend(presets_of(&path, &name)),
            "sfz" => found.instruments.push(sfz_of(&path, &name, folder)),
            ending if AUDIO.contains(&ending) => found.audio.push(name),
            _ => {}
        }
    }
    Ok(found)
}

fn ending_of(path: &Path) -> String {
    let ending = path.extension().and_then(|ending| ending.to_str());
    ending.unwrap_or("").to_lowercase()
}

fn name_in(folder: &Path, path: &Path) -> String {
    let inside = path.strip_prefix(folder).unwrap_or(path);
    inside.to_string_lossy().replace('\\', "/")
}

/// All files of a folder and of those inside it, by their paths; hidden ones and links are passed over.
fn files_in(folder: &Path) -> anyhow::Result<Vec<PathBuf>> {
    let (mut all, mut folders) = (Vec::new(), vec![folder.to_owned()]);
    while let Some(at) = folders.pop() {
        for entry in fs::read_dir(&at)? {
            let entry = entry?;
            let name = entry.file_name();
            let hidden = name.to_string_lossy().starts_with('.') || name == "__MACOSX";
            match entry.file_type()? {
                kind if kind.is_dir() && !hidden => folders.push(entry.path()),
                kind if kind.is_file() && !hidden => all.push(entry.path()),
                _ => {}
            }
        }
    }
    all.sort();
    Ok(all)
}

fn refused(file: &str, name: &str, error: &anyhow::Error) -> Offered {
    Offered {
        file: file.to_owned(),
        place: None,
        bank: None,
        program: None,
        name: name.to_owned(),
        regions: 0,
        samples: 0,
        seconds: 0.0,
        low_key: 0,
        high_key: 127,
        lost: Vec::new(),
        refused: Some(error.to_string()),
    }
}

fn offered(file: &str, program: &Program, lost: Vec<String>) -> Offered {
    let keys = program.regions.iter().map(|region| region.when.keys);
    let (low, high) = keys.fold((127, 0), |(low, high), keys| {
        (keys.low.min(low), keys.high.max(high))
    });
    let seconds = |sample: &Sample| sample.frames as f64 / f64::from(sample.rate_hz.max(1));
    Offered {
        file: file.to_owned(),
        place: None,
        bank: None,
        program: None,
        name: program.name.clone(),
        regions: program.regions.len(),
        samples: program.samples.len(),
        seconds: program.samples.iter().map(seconds).sum(),
        low_key: low,
        high_key: high,
        lost,
        refused: None,
    }
}

fn presets_of(path: &Path, file: &str) -> Vec<Offered> {
    let soundfont = match soundfont_at(path) {
        Ok(soundfont) => soundfont,
        Err(error) => return vec![refused(file, file, &error)],
    };
    let of = |(place, preset): (usize, &formats::sf2::Preset)| {
        let read = soundfont.program(place);
        Offered {
            place: Some(place),
            bank: Some(preset.bank),
            program: Some(preset.program),
            ..match read {
                Ok(read) => offered(file, &read.program, read.lost.iter().map(left_out).collect()),
                Err(error) => refused(file, &preset.name, &error.into()),
            }
        }
    };
    let mut all: Vec<Offered> = soundfont.presets.iter().enumerate().map(of).collect();
    all.sort_by_key(|preset| (preset.bank, preset.program));
    all
}

fn sfz_of(path: &Path, file: &str, folder: &Path) -> Offered {
    match Opened::file(path, None, Some(folder)) {
        Ok(opened) => offered(file, &opened.program, opened.lost),
        Err(error) => refused(file, file, &error),
    }
}

/// Takes one in: reads it again, and puts each recording that it plays into the library.
///
/// # Errors
/// A [`Refusal`] where it cannot be read, or it is cancelled; those of the library.
pub fn take_in(
    folder: &Path,
    of: &Offered,
    library: &dyn Library,
    watch: &Watch,
    fresh_name: &mut dyn FnMut() -> u64,
) -> anyhow::Result<TakenOfBrought> {
    let path = folder.join(path_inside(&of.file).context("a path that leaves its folder")?);
    let opened = match of.place {
        Some(place) => Opened::preset(&path, place),
        None => Opened::file(&path, None, Some(folder)),
    };
    let opened = opened.map_err(|error| match error.downcast_ref::<formats::FormatError>() {
        Some(formats::FormatError::Io(_)) | None => error,
        Some(why) => refusal(why.to_string()),
    })?;
    let drums = of.bank == Some(PERCUSSION_BANK);
    let planned = plan_of_brought(&opened.program, drums, fresh_name).map_err(refusal)?;
    let Brought { program, cells } = &planned.brought;
    let mut takes = Vec::with_capacity(cells.len());
    for (n, ((sample, cell), treatment)) in (program.samples.iter().zip(cells))
        .zip(&planned.treated)
        .enumerate()
    {
        watch.tell(n as f64 / cells.len() as f64)?;
        let origin = Origin {
            file: Some(match of.place {
                Some(_) => sample.name.clone(),
                None => sample.source.clone(),
            }),
            as_made: Some(treatment.clone()),
            ..Origin::default()
        };
        let recording = recording_of(&opened, sample, of.place.is_some(), folder, library).map_err(
            |error| match error.downcast_ref::<Refusal>() {
                Some(why) => refusal(format!("«{}»: {why}", sample.source)),
                None => error,
            },
        )?;
        takes.push(NewTake::whole(*cell, recording, origin));
    }
    watch.tell(1.0)?;
    Ok(TakenOfBrought {
        name: opened.program.name.clone(),
        lost: opened.lost,
        planned,
        takes,
    })
}

fn recording_of(
    opened: &Opened,
    sample: &Sample,
    of_soundfont: bool,
    folder: &Path,
    library: &dyn Library,
) -> anyhow::Result<Recording> {
    if of_soundfont {
        // Of 16 or of 24 bits.
        return keep(library, &opened.audio(sample)?, 24);
    }
    read_file(
        library,
        File::open(folder.join(&sample.source))?,
        &sample.source,
        |_, _, _| Ok(()),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_stays_inside_of_what_was_brought() {
        for (name, inside) in [
            ("a/b.wav", Some("a/b.wav")),
            ("a\\b.wav", Some("a/b.wav")),
            ("./a.wav", Some("a.wav")),
            ("../a.wav", None),
            ("a/../../b.wav", None),
            ("/etc/passwd", None),
            ("", None),
            ("a\0b", None),
        ] {
            assert_eq!(path_inside(name), inside.map(PathBuf::from), "{name}");
        }
        assert_eq!(path_inside(&"a/".repeat(40)), None);
    }

    #[test]
    fn a_zip_is_unpacked_and_what_reaches_out_of_it_is_left_alone() {
        let folder = tempfile::TempDir::new().unwrap();
        let path = folder.path().join("a.zip");
        let mut zip = zip::ZipWriter::new(File::create(&path).unwrap());
        let options = zip::write::SimpleFileOptions::default();
        for name in ["in/a.txt", "../out.txt", "b.txt"] {
            zip.start_file(name, options).unwrap();
            zip.write_all(b"here").unwrap();
        }
        zip.finish().unwrap();
        let into = folder.path().join("inside");
        fs::create_dir(&into).unwrap();
        assert_eq!(unpack(File::open(&path).unwrap(), &into).unwrap(), 2);
        assert_eq!(fs::read(into.join("in/a.txt")).unwrap(), b"here");
        // What is a file cannot be a folder as well.
        for name in ["b.txt/c.txt", "in"] {
            let refused = place_for(&into, Path::new(name)).unwrap_err();
            assert!(refused.downcast_ref::<Refusal>().is_some(), "{refused}");
        }
        assert!(!folder.path().join("out.txt").exists());
        // Cut short, it is refused with a sentence.
        let bytes = fs::read(&path).unwrap();
        fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
        let refused = unpack(File::open(&path).unwrap(), &into).unwrap_err();
        assert!(refused.downcast_ref::<Refusal>().is_some(), "{refused}");
    }
}
