//! An instrument out of a file: an SFZ with what lies beside it, or a preset of a SoundFont. No database, no server.

use crate::{Samples, refusal};
use anyhow::Context;
use formats::sf2;
use formats::sfz::{Brought, Document, FileFacts};
use formats::{AudioReader, read_sfz};
use program::{Program, Sample};
use signal::Audio;
use std::fs;
use std::io::BufReader;
use std::path::{Component, Path, PathBuf};
use std::sync::Mutex;

/// An instrument that was read, and where its audio is.
pub struct Opened {
    /// What is played.
    pub program: Program,
    /// What of it is missing or not understood, a sentence each.
    pub lost: Vec<String>,
    audio: Audios,
    /// Itself.
    file: PathBuf,
}

enum Audios {
    Folder(PathBuf),
    SoundFont(Mutex<SoundFontAt>),
}

impl Opened {
    /// Reads a file by its ending. Of a SoundFont with several presets one is chosen, by `BANK:PROGRAM` or by how its name begins. Nothing outside of
    /// `within` is read; where that is left out, of the folder in which an SFZ lies.
    ///
    /// # Errors
    /// With a sentence, where it cannot be read, or does not say which preset.
    pub fn file(path: &Path, preset: Option<&str>, within: Option<&Path>) -> anyhow::Result<Self> {
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or("");
        match ending.to_lowercase().as_str() {
            "sfz" => Self::sfz(path, within),
            "sf2" => Self::soundfont(path, preset),
            _ => Err(refusal(format!(
                "«{}» is neither an SFZ nor a SoundFont (.sfz, .sf2).",
                path.display()
            ))),
        }
    }

    fn sfz(path: &Path, within: Option<&Path>) -> anyhow::Result<Self> {
        let bytes = fs::read(path).with_context(|| format!("«{}» cannot be read", path.display()))?;
        let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty());
        let parent = parent.unwrap_or(Path::new(".")).canonicalize()?;
        let root = within.map_or_else(|| Ok(parent.clone()), Path::canonicalize)?;
        let folder = parent
            .strip_prefix(&root)
            .map_err(|_| refusal(format!("«{}» does not lie in that folder.", path.display())))?;
        let folder = folder.to_string_lossy().replace('\\', "/");
        let beside = Beside { root };
        let read = read_sfz(&Document::new(bytes)?, &folder, &beside)?;
        let mut program = read.program;
        if program.name.is_empty() {
            program.name = path
                .file_stem()
                .map_or_else(String::new, |stem| stem.to_string_lossy().into_owned());
        }
        let missing = read.missing.iter().map(|(path, regions)| {
            format!(
                "«{path}» is not there, or is no audio: {} left out.",
                regions_of(*regions)
            )
        });
        let foreign = (read.foreign.iter()).map(|(word, regions)| {
            format!("{word} is not understood ({}): it is kept.", regions_of(*regions))
        });
        Ok(Self {
            program,
            lost: missing.chain(foreign).collect(),
            audio: Audios::Folder(beside.root),
            file: path.to_owned(),
        })
    }

    fn soundfont(path: &Path, preset: Option<&str>) -> anyhow::Result<Self> {
        let file = soundfont_at(path)?;
        let chosen = chosen_preset(&file.presets, preset)?;
        Self::of_preset(path, file, chosen)
    }

    /// A preset of a SoundFont, by its place in it.
    ///
    /// # Errors
    /// With a sentence, where it cannot be read.
    pub fn preset(path: &Path, place: usize) -> anyhow::Result<Self> {
        Self::of_preset(path, soundfont_at(path)?, place)
    }

    fn of_preset(path: &Path, file: SoundFontAt, place: usize) -> anyhow::Result<Self> {
        let read = file.program(place)?;
        let lost = read.lost.iter();
        Ok(Self {
            lost: lost.map(left_out).collect(),
            program: read.program,
            audio: Audios::SoundFont(Mutex::new(file)),
            file: path.to_owned(),
        })
    }
}

/// A SoundFont on the disk.
pub(crate) type SoundFontAt = sf2::File<BufReader<fs::File>>;

/// Reads what stands in a SoundFont beside its audio.
///
/// # Errors
/// With a sentence, where it cannot be read.
pub(crate) fn soundfont_at(path: &Path) -> anyhow::Result<SoundFontAt> {
    let file = fs::File::open(path).with_context(|| format!("«{}» cannot be read", path.display()))?;
    Ok(sf2::File::read(BufReader::new(file))?)
}

/// What is not held of a SoundFont, and how many regions it touches.
pub(crate) fn left_out((what, regions): (&&'static str, &usize)) -> String {
    format!("Left out: {what} ({}).", regions_of(*regions))
}

fn regions_of(count: usize) -> String {
    format!("{count} {}", if count == 1 { "region" } else { "regions" })
}

/// The place of a preset among those of a file.
fn chosen_preset(presets: &[sf2::Preset], wanted: Option<&str>) -> anyhow::Result<usize> {
    let told = |preset: &sf2::Preset| format!("{}:{} {}", preset.bank, preset.program, preset.name);
    let Some(wanted) = wanted else {
        return match presets {
            [] => Err(refusal("There is no preset in this SoundFont.")),
            [_] => Ok(0),
            [first, ..] => Err(refusal(format!(
                "There are {} presets in this SoundFont: say which with --preset, as «{}» or by its name.",
                presets.len(),
                format_args!("{}:{}", first.bank, first.program),
            ))),
        };
    };
    let by_number = wanted.split_once(':').and_then(|(bank, program)| {
        let (bank, program) = (bank.parse::<u16>().ok()?, program.parse::<u16>().ok()?);
        presets
            .iter()
            .position(|preset| (preset.bank, preset.program) == (bank, program))
    });
    let begins = |preset: &sf2::Preset| preset.name.to_lowercase().starts_with(&wanted.to_lowercase());
    by_number
        .or_else(|| presets.iter().position(begins))
        .ok_or_else(|| {
            let few: Vec<String> = presets.iter().take(5).map(told).collect();
            refusal(format!(
                "There is no preset «{wanted}» in this SoundFont; there is {} …",
                few.join(", ")
            ))
        })
}

impl Samples for Opened {
    fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
        match &self.audio {
            Audios::Folder(root) => {
                let path = root.join(&sample.source);
                let ending = path.extension().and_then(|ending| ending.to_str());
                Ok(formats::decode(fs::read(&path)?, ending)?)
            }
            Audios::SoundFont(file) => {
                let mut file = file.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                let sides = sample
                    .source
                    .split('+')
                    .map(|number| -> anyhow::Result<Audio> { Ok(file.audio(number.parse::<usize>()?)?) });
                let sides = sides.collect::<anyhow::Result<Vec<Audio>>>()?;
                Ok(Audio {
                    rate_hz: sample.rate_hz,
                    channels: sides.into_iter().flat_map(|side| side.channels).collect(),
                })
            }
        }
    }

    fn files(&self) -> Vec<PathBuf> {
        let beside = match &self.audio {
            Audios::Folder(root) => {
                let samples = self.program.samples.iter();
                samples.map(|sample| root.join(&sample.source)).collect()
            }
            Audios::SoundFont(_) => Vec::new(),
        };
        [vec![self.file.clone()], beside].concat()
    }
}

/// What lies in a folder: links out of it are not followed, and letters may be small or large otherwise.
struct Beside {
    root: PathBuf,
}

impl Beside {
    /// Where it is, and under which path from the folder.
    fn find(&self, path: &str) -> Option<(PathBuf, String)> {
        let mut at = self.root.clone();
        for part in path.split('/').filter(|part| !part.is_empty()) {
            let next = at.join(part);
            at = if next.exists() {
                next
            } else {
                let lower = part.to_lowercase();
                let same = |name: &std::ffi::OsStr| name.to_string_lossy().to_lowercase() == lower;
                let mut found = fs::read_dir(&at).ok()?.flatten().map(|entry| entry.path());
                found.find(|path| path.file_name().is_some_and(same))?
            };
        }
        let real = at.canonicalize().ok()?;
        let inside = real.starts_with(&self.root) && real.is_file();
        let from = at.strip_prefix(&self.root).ok()?;
        let parts = from.components().map(|part| match part {
            Component::Normal(name) => name.to_str(),
            _ => None,
        });
        let name = parts.collect::<Option<Vec<&str>>>()?.join("/");
        inside.then_some((real, name))
    }
}

impl Brought for Beside {
    fn text(&self, path: &str) -> Option<Vec<u8>> {
        fs::read(self.find(path)?.0).ok()
    }

    fn audio(&self, path: &str) -> Option<(String, FileFacts)> {
        let (real, name) = self.find(path)?;
        let ending = real.extension().and_then(|ending| ending.to_str());
        let mut reader = AudioReader::open(Box::new(fs::File::open(&real).ok()?), ending).ok()?;
        let (rate_hz, channels) = (reader.rate_hz(), reader.channels());
        let mut values = 0;
        while let Some(piece) = reader.next_piece().ok()? {
            values += piece.len();
        }
        let chunks = formats::small_chunks(&mut fs::File::open(&real).ok()?).ok()?;
        let inside = formats::read_sampler(&chunks).or_else(|| formats::read_aiff_sampler(&chunks));
        let facts = FileFacts {
            rate_hz,
            channels: channels as u16,
            frames: (values / channels.max(1)) as u64,
            looped: None,
        };
        Some((name, facts.with(inside.as_ref())))
    }
}
