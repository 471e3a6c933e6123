//! A page that plays: one folder that any static server gives to any browser.
//!
//! Its audio lies in FLAC files of a few seconds, named by what is in them, so that a page fetches what it needs, and fetches nothing anew that stayed the same. The first
//! of a sample is short: it is what a key begins with. Each repeats so many frames of the next as the engine reads beyond its own.

use crate::files::{CREDITS, Files, credits_of};
use crate::to_write::{Samples, ToWrite};
use crate::{ExportSettings, Shell};
use anyhow::Context;
use engine::{MARGIN_FRAMES, SLAB_FRAMES};
use formats::{AudioReader, Placed, Remarks, Together, picture_kind, write_flac};
use instrument::Panel;
use percent_encoding::{NON_ALPHANUMERIC, percent_encode};
use program::{EffectView, Pieces, Program, Region, Sample, Span, to_pieces};
use serde::{Deserialize, Serialize};
use signal::Audio;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Cursor;
use std::ops::Range;

/// How a sample is cut into files, in frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct Cut {
    /// In the first.
    first: u64,
    /// In each after it.
    next: u64,
    /// That each has of the next, beside its own.
    more: u64,
}

/// A third of a second at 48 kHz, and then a second and a third.
const CUT: Cut = Cut {
    first: 16 * SLAB_FRAMES as u64,
    next: 64 * SLAB_FRAMES as u64,
    more: MARGIN_FRAMES as u64,
};

impl Cut {
    /// The frames of each file, those of the next among them.
    fn pieces(self, frames: u64) -> impl Iterator<Item = Range<u64>> {
        let Self { first, next, more } = self;
        let starts = std::iter::once(0).chain((0..).map(move |n| first + n * next));
        starts.take_while(move |start| *start < frames).map(move |start| {
            let own = if start == 0 { first } else { next };
            start..(start + own + more).min(frames)
        })
    }
}

/// All that lies there, as `instruments.json`.
#[derive(Debug, Serialize, Deserialize)]
struct Contents {
    /// Of this file.
    version: u32,
    cut: Cut,
    /// Of the audio.
    bits: u16,
    /// The kinds of effects and what they are set to.
    effects: serde_json::Value,
    instruments: Vec<Listed>,
}

/// An instrument in the list.
#[derive(Debug, Serialize, Deserialize)]
struct Listed {
    name: String,
    bank: u16,
    number: u8,
    credits: String,
    licence: String,
    /// Where its [`Face`] lies.
    face: String,
    /// Where the engine's program lies.
    program: String,
}

/// What is seen of an instrument, and which audio it plays.
#[derive(Debug, Serialize, Deserialize)]
struct Face {
    panel: Panel,
    /// Without samples, and with one region for each span of keys that sounds.
    program: Program,
    samples: Vec<Heard>,
    /// Where its pictures lie, by their hashes.
    pictures: BTreeMap<String, String>,
}

/// A sample's audio.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Heard {
    id: u64,
    frames: u64,
    channels: u16,
    /// Its files are called so, with a number after a `-` from 0 on.
    audio: String,
    /// Size of all its files.
    bytes: u64,
}

/// Which files there are, for keeping them: `files.json`.
#[derive(Debug, Serialize, Deserialize)]
struct Kept {
    version: String,
    /// All but audio.
    page: Vec<String>,
}

const CONTENTS: &str = "instruments.json";
const KEPT: &str = "files.json";
/// The service worker, and what stands in it for the version.
const WORKER: &str = "worker.js";
const VERSION_IN_WORKER: &str = "ladder-version";
const READ_ME: &str = "Read me.txt";
/// Letters of a hash that names audio.
const HASH_LETTERS: usize = 24;

/// The paths of a sample's files.
fn paths<'a>(audio: &'a str, frames: u64) -> impl Iterator<Item = (String, Range<u64>)> + 'a {
    let name = move |(n, piece)| (format!("{audio}-{n}.flac"), piece);
    CUT.pieces(frames).enumerate().map(name)
}

/// How many files of audio there will be.
pub(crate) fn files_of(samples: &[Sample]) -> usize {
    samples
        .iter()
        .map(|sample| CUT.pieces(sample.frames).count())
        .sum()
}

/// Writes all of it.
pub(crate) fn write_page<S: Samples + ?Sized>(
    files: &mut dyn Files,
    parts: &[ToWrite<S>],
    all: &Together,
    (settings, shell): (ExportSettings, &Shell),
    mut audio: impl FnMut(usize) -> anyhow::Result<Audio>,
) -> anyhow::Result<()> {
    let mut page = Page {
        files,
        bits: settings.bits,
        paths: BTreeMap::new(),
        sounds: BTreeSet::new(),
    };
    let mut heard = Vec::with_capacity(all.bakes.len());
    for (index, sample) in all.samples().iter().enumerate() {
        heard.push(page.sample(sample, &audio(index)?)?);
    }
    let mut instruments = Vec::with_capacity(all.programs.len());
    for (n, placed) in all.programs.iter().enumerate() {
        let part = parts.iter().find(|part| part.place == placed.place);
        let part = part.context("a program of no instrument")?;
        instruments.push(page.instrument(n + 1, placed, part, &heard)?);
    }
    let contents = Contents {
        version: 1,
        cut: CUT,
        bits: settings.bits,
        effects: serde_json::to_value(EffectView::all())?,
        instruments,
    };
    page.file(CONTENTS, serde_json::to_vec_pretty(&contents)?)?;
    if let Some(said) = credits_of(all) {
        page.file(CREDITS, said.into_bytes())?;
    }
    page.file(READ_ME, read_me(&contents).into_bytes())?;
    page.shell(shell)
}

/// What was written so far.
struct Page<'a> {
    files: &'a mut dyn Files,
    bits: u16,
    /// All but audio, with its hashes.
    paths: BTreeMap<String, blake3::Hash>,
    /// Files of audio: two samples may be the same.
    sounds: BTreeSet<String>,
}

impl Page<'_> {
    fn file(&mut self, path: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        self.paths.insert(path.to_owned(), blake3::hash(&bytes));
        self.files.file(path, &mut |out| Ok(out.write_all(&bytes)?))
    }

    /// A sample's audio, in pieces.
    fn sample(&mut self, sample: &Sample, audio: &Audio) -> anyhow::Result<Heard> {
        let name = format!("audio/{}", hash_of(audio, self.bits));
        let mut bytes = 0;
        for (path, piece) in paths(&name, sample.frames) {
            let mut flac = Vec::new();
            let part = audio.slice(piece.start as usize, piece.end as usize);
            write_flac(&mut flac, &part, self.bits, &Remarks::default())?;
            bytes += flac.len() as u64;
            if self.sounds.insert(path.clone()) {
                self.files.file(&path, &mut |out| Ok(out.write_all(&flac)?))?;
            }
        }
        Ok(Heard {
            id: sample.id.0,
            frames: sample.frames,
            channels: sample.channels,
            audio: name,
            bytes,
        })
    }

    /// What is seen and played of an instrument.
    fn instrument<S: Samples + ?Sized>(
        &mut self,
        number: usize,
        Placed { place, program }: &Placed,
        part: &ToWrite<S>,
        heard: &[Heard],
    ) -> anyhow::Result<Listed> {
        let program = &of_its_own(program);
        let listed = Listed {
            name: program.name.clone(),
            bank: place.bank,
            number: place.number,
            credits: program.credits.clone(),
            licence: program.licence.clone(),
            face: format!("instruments/{number}.json"),
            program: format!("instruments/{number}.program"),
        };
        let panel = part.panel.cloned().unwrap_or_default();
        let of = |sample: &Sample| heard.iter().find(|one| one.id == sample.id.0).cloned();
        let face = Face {
            pictures: self.pictures(&panel, part.samples)?,
            panel,
            program: to_look_at(program),
            samples: program.samples.iter().filter_map(of).collect(),
        };
        self.file(&listed.face, serde_json::to_vec(&face)?)?;
        self.file(&listed.program, to_pieces(program)?)?;
        Ok(listed)
    }

    /// The pictures of a panel: where each lies, by its hash.
    fn pictures<S: Samples + ?Sized>(
        &mut self,
        panel: &Panel,
        samples: &S,
    ) -> anyhow::Result<BTreeMap<String, String>> {
        let mut pictures = BTreeMap::new();
        for picture in pictures_of(panel) {
            let Some(bytes) = samples.picture(&picture)? else {
                continue;
            };
            // Servers tell by its ending what a file is.
            let ending = match picture_kind(&bytes) {
                Some("image/png") => "png",
                Some("image/jpeg") => "jpg",
                Some("image/webp") => "webp",
                Some(kind) => {
                    pictures.insert(picture, in_place(kind, &bytes));
                    continue;
                }
                None => continue,
            };
            let path = format!("pictures/{picture}.{ending}");
            if !self.paths.contains_key(&path) {
                self.file(&path, bytes)?;
            }
            pictures.insert(picture, path);
        }
        Ok(pictures)
    }

    /// What is the same in all, and last what tells a browser of all that was written: its bytes are others where anything is.
    fn shell(&mut self, shell: &Shell) -> anyhow::Result<()> {
        let (workers, others): (Vec<_>, Vec<_>) =
            (shell.files().iter()).partition(|(path, _)| path == WORKER);
        for (path, bytes) in others {
            self.file(path, bytes.clone())?;
        }
        let kept = Kept {
            version: self.version(),
            page: self.paths.keys().cloned().collect(),
        };
        self.file(KEPT, serde_json::to_vec_pretty(&kept)?)?;
        for (path, bytes) in workers {
            let text = String::from_utf8_lossy(bytes).replace(VERSION_IN_WORKER, &kept.version);
            self.file(path, text.into_bytes())?;
        }
        Ok(())
    }

    /// A name for all of it.
    fn version(&self) -> String {
        let mut hasher = blake3::Hasher::new();
        for (path, hash) in &self.paths {
            hasher.update(path.as_bytes());
            hasher.update(hash.as_bytes());
        }
        hasher.finalize().to_hex()[..HASH_LETTERS].to_owned()
    }
}

/// A name for what a sample's files hold.
fn hash_of(audio: &Audio, bits: u16) -> String {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&u64::from(audio.rate_hz).to_le_bytes());
    hasher.update(&u64::from(bits).to_le_bytes());
    hasher.update(&audio.channels.len().to_le_bytes());
    for side in &audio.channels {
        for value in side {
            hasher.update(&value.to_le_bytes());
        }
    }
    hasher.finalize().to_hex()[..HASH_LETTERS].to_owned()
}

/// With the samples that it plays, and no others.
fn of_its_own(program: &Program) -> Program {
    let played: BTreeSet<usize> = program.regions.iter().map(|region| region.sample).collect();
    let numbers: BTreeMap<usize, usize> = played.iter().enumerate().map(|(n, of)| (*of, n)).collect();
    let mut own = program.clone();
    own.samples = played.iter().map(|of| program.samples[*of].clone()).collect();
    for region in &mut own.regions {
        region.sample = numbers[&region.sample];
    }
    own
}

/// What the page reads of a program: not each of its regions, of which there may be thousands.
fn to_look_at(program: &Program) -> Program {
    let mut spans: Vec<Span> = Vec::new();
    let mut is_new = |region: &&Region| {
        let new = !spans.contains(&region.when.keys);
        if new {
            spans.push(region.when.keys);
        }
        new
    };
    Program {
        regions: program.regions.iter().filter(&mut is_new).cloned().collect(),
        samples: Vec::new(),
        ..program.clone()
    }
}

/// A picture as its own address (RFC 2397): so one that may hold scripts is never a page of the server that it comes from.
fn in_place(kind: &str, bytes: &[u8]) -> String {
    format!("data:{kind},{}", percent_encode(bytes, NON_ALPHANUMERIC))
}

/// Pictures that stand on a panel, each once.
fn pictures_of(panel: &Panel) -> BTreeSet<String> {
    let of_pages = panel.pages.iter().filter_map(|page| page.picture.clone());
    let of_parts = panel.parts.iter().filter_map(|part| part.picture.clone());
    of_pages.chain(of_parts).collect()
}

fn read_me(contents: &Contents) -> String {
    let names: Vec<&str> = contents.instruments.iter().map(|one| one.name.as_str()).collect();
    format!(
        "{}\n\nThis folder is a page that plays. Put it on any web server that serves files over TLS (https), and open it there; or on this machine:\n\n    ladder serve FOLDER\n\n\
         Opened as a file it does not play: browsers give no sound to such pages.\n\nIt fits into another page:\n\n    <iframe src=\"FOLDER/?embed\" width=\"900\" height=\"420\" allow=\"autoplay; midi\"></iframe>\n",
        names.join(", ")
    )
}

/// What is read of a folder again.
pub(crate) trait ReadAgain {
    /// A file of it.
    fn read(&mut self, path: &str) -> anyhow::Result<Vec<u8>>;
}

/// Regions that are not as they were meant, or of which the audio is not.
pub(crate) fn page_again(
    files: &mut dyn ReadAgain,
    meant: &Together,
    others: impl Fn(&Program, &Program) -> usize,
) -> anyhow::Result<usize> {
    let contents: Contents = serde_json::from_slice(&files.read(CONTENTS)?)?;
    anyhow::ensure!(
        contents.instruments.len() == meant.programs.len(),
        "an instrument is missing"
    );
    let mut whole: BTreeMap<String, bool> = BTreeMap::new();
    let mut apart = 0;
    for (listed, Placed { program: meant, .. }) in contents.instruments.iter().zip(&meant.programs) {
        let face: Face = serde_json::from_slice(&files.read(&listed.face)?)?;
        let read = program_of(files.read(&listed.program)?)?;
        apart += others(&read, meant);
        for (heard, sample) in face.samples.iter().zip(&read.samples) {
            let is_whole = match whole.get(&heard.audio) {
                Some(known) => *known,
                None => is_whole(files, heard, sample)?,
            };
            whole.insert(heard.audio.clone(), is_whole);
            if !is_whole {
                apart += read
                    .regions
                    .iter()
                    .filter(|region| read.samples[region.sample] == *sample)
                    .count();
            }
        }
    }
    Ok(apart)
}

fn program_of(bytes: Vec<u8>) -> anyhow::Result<Program> {
    let (mut program, mut pieces) = Pieces::read(bytes)?;
    while let Some(sample) = pieces.next_sample()? {
        program.samples.push(sample);
    }
    while let Some(region) = pieces.next_region()? {
        program.regions.push(region);
    }
    Ok(program)
}

/// Whether each file of a sample is as long as it should be.
fn is_whole(files: &mut dyn ReadAgain, heard: &Heard, sample: &Sample) -> anyhow::Result<bool> {
    for (path, piece) in paths(&heard.audio, heard.frames) {
        let mut reader = AudioReader::open(Box::new(Cursor::new(files.read(&path)?)), Some("flac"))
            .with_context(|| format!("«{path}» cannot be read"))?;
        let (sides, mut values) = (reader.channels(), 0);
        while let Some(part) = reader.next_piece()? {
            values += part.len();
        }
        let fits =
            sides == usize::from(sample.channels) && values == sides * (piece.end - piece.start) as usize;
        if !fits {
            return Ok(false);
        }
    }
    Ok(heard.frames == sample.frames)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::export;
    use formats::{Format, Place, decode};
    use program::SampleId;
    use std::io::Read;

    /// Noise that no two frames share, other in each take.
    struct Noise;

    impl Samples for Noise {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            let mut state = sample.source.len() as u32;
            let mut next = || {
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                state as f32 / u32::MAX as f32 - 0.5
            };
            let sides = (0..sample.channels).map(|_| (0..sample.frames).map(|_| next()).collect());
            Ok(Audio {
                rate_hz: sample.rate_hz,
                channels: sides.collect(),
            })
        }

        fn picture(&self, hash: &str) -> anyhow::Result<Option<Vec<u8>>> {
            Ok((hash != "gone").then(|| picture(hash).to_vec()))
        }
    }

    /// A head of a PNG, and an SVG.
    fn picture(hash: &str) -> &'static [u8] {
        match hash {
            "5ca1e" => b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR",
            _ => b"<svg xmlns=\"http://www.w3.org/2000/svg\"/>",
        }
    }

    /// Lengths around where files end.
    const LENGTHS: [u64; 5] = [
        40,
        CUT.first,
        CUT.first + 1,
        CUT.first + CUT.next + CUT.more,
        CUT.first + 2 * CUT.next + 7,
    ];

    fn program() -> Program {
        let sample = |(n, frames): (usize, u64)| Sample {
            id: SampleId(n as u64),
            name: format!("take {n}"),
            source: "x".repeat(n + 1),
            rate_hz: 44_100,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames,
        };
        let region = |(n, frames): (usize, u64)| Region {
            start_frame: 3,
            fade_in_frames: 20,
            gain_db: 3.0 * n as f64,
            ..Region::whole(n, 60 + n as u8, frames).on_keys(60 + n as u8, 60 + n as u8)
        };
        let lengths = || LENGTHS.map(|own| own + 3).into_iter().enumerate();
        let mut program = Program::plain(
            "Slate: two",
            lengths().map(sample).collect(),
            lengths().map(region).collect(),
        );
        program.licence = "as you like".to_owned();
        program
    }

    fn panel() -> Panel {
        let page = |id: u64, picture: &str| serde_json::json!({ "id": id, "name": "Page", "colour": null, "picture": picture });
        let pages = [page(1, "5ca1e"), page(2, "d0d0"), page(3, "gone")];
        serde_json::from_value(serde_json::json!({ "pages": pages, "parts": [], "presets": [] })).unwrap()
    }

    fn files(format: Format, bits: u16) -> BTreeMap<String, Vec<u8>> {
        let worker = format!("const version = \"{VERSION_IN_WORKER}\";");
        let shell = Shell::new(vec![
            ("index.html".into(), b"<p>".to_vec()),
            (WORKER.into(), worker.into_bytes()),
        ]);
        let part = ToWrite {
            program: &program(),
            place: Place::default(),
            panel: Some(&panel()),
            samples: &Noise,
        };
        let settings = ExportSettings::of(format, bits).unwrap();
        let mut out = Cursor::new(Vec::new());
        export(&[part], (settings, Some(&shell)), &mut out, |_| true).unwrap();
        let mut zip = zip::ZipArchive::new(out).unwrap();
        let mut files = BTreeMap::new();
        for n in 0..zip.len() {
            let mut entry = zip.by_index(n).unwrap();
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes).unwrap();
            files.insert(entry.name().to_owned(), bytes);
        }
        files
    }

    #[test]
    fn its_audio_is_that_of_an_sfz_frame_by_frame() {
        for bits in [16, 24] {
            let (page, sfz) = (files(Format::Page, bits), files(Format::Sfz, bits));
            let face: Face = serde_json::from_slice(&page["instruments/1.json"]).unwrap();
            assert_eq!(face.samples.len(), LENGTHS.len());
            for (n, heard) in face.samples.iter().enumerate() {
                let whole = decode(sfz[&format!("samples/take {n}.wav")].clone(), Some("wav")).unwrap();
                assert_eq!((whole.frames() as u64, heard.frames), (LENGTHS[n], LENGTHS[n]));
                let mut bytes = 0;
                for (path, piece) in paths(&heard.audio, heard.frames) {
                    let part = decode(page[&path].clone(), Some("flac")).unwrap();
                    let same = whole.slice(piece.start as usize, piece.end as usize);
                    assert!(part.channels == same.channels && part.rate_hz == 44_100, "{path}");
                    bytes += page[&path].len() as u64;
                }
                assert_eq!(bytes, heard.bytes);
            }
        }
    }

    #[test]
    fn it_tells_all_its_files_and_the_same_state_gives_the_same_bytes() {
        let page = files(Format::Page, 24);
        assert!(page == files(Format::Page, 24));
        let kept: Kept = serde_json::from_slice(&page[KEPT]).unwrap();
        let others = page
            .keys()
            .filter(|path| !path.starts_with("audio/") && ![KEPT, WORKER].contains(&path.as_str()));
        assert_eq!(others.cloned().collect::<Vec<_>>(), kept.page);
        let worker = String::from_utf8_lossy(&page[WORKER]).into_owned();
        assert_eq!(worker, format!("const version = \"{}\";", kept.version));
        assert_eq!(page["pictures/5ca1e.png"], picture("5ca1e"));
        let face: Face = serde_json::from_slice(&page["instruments/1.json"]).unwrap();
        assert_eq!(face.pictures["5ca1e"], "pictures/5ca1e.png");
        assert!(!face.pictures.contains_key("gone"));
        // RFC 3986, section 2.1.
        assert!(
            face.pictures["d0d0"]
                .starts_with("data:image/svg+xml,%3Csvg%20xmlns%3D%22http%3A%2F%2Fwww%2Ew3%2Eorg")
        );
        let contents: Contents = serde_json::from_slice(&page[CONTENTS]).unwrap();
        assert_eq!(
            (
                contents.instruments[0].name.as_str(),
                contents.instruments[0].licence.as_str()
            ),
            ("Slate: two", "as you like")
        );
        // Another width is another audio, under other names, and another version.
        let other: Kept = serde_json::from_slice(&files(Format::Page, 16)[KEPT]).unwrap();
        assert_ne!(other.version, kept.version);
    }
}
