//! What was written is read again, and compared with what was meant, before it is offered.

use crate::export_settings::ExportSettings;
use crate::page::{ReadAgain, page_again};
use formats::sfz::{Brought, Document, FileFacts};
use formats::{AudioReader, Format, Loss, Together, WavLayout, read_sfz, sf2};
use program::{Program, Region, RegionKey, Sample, Shape, ShapeId};
use std::collections::HashMap;
use std::fs::File;
use std::io::{BufReader, Cursor, Read};
use std::path::Path;

/// Where what was written lies.
pub(crate) enum Written<'a> {
    /// One file: a SoundFont, or a zip.
    File(&'a Path),
    /// A folder, and the names of its texts; audio that was not written is not looked at.
    Folder(&'a Path, &'a [String]),
}

/// That something is not as it was meant, for whoever gets it: none, as far as we know.
///
/// # Errors
/// Where it cannot be read at all.
pub(crate) fn read_back(
    written: &Written,
    settings: ExportSettings,
    meant: &Together,
) -> anyhow::Result<Option<Loss>> {
    let regions = match (settings.format, written) {
        (Format::SoundFont2, Written::File(path)) => {
            let read = sf2::File::read(BufReader::new(File::open(path)?))?;
            let programs = (0..meant.programs.len()).map(|n| Ok(read.program(n)?.program));
            compared(programs, meant)?
        }
        (Format::Page, Written::File(path)) => {
            let mut zip = zip::ZipArchive::new(BufReader::new(File::open(path)?))?;
            page_again(&mut zip, meant, others)?
        }
        (Format::Page, Written::Folder(folder, _)) => page_again(&mut { *folder }, meant, others)?,
        (Format::Sfz, Written::File(path)) => files_again(in_zip(path, settings, meant)?, settings, meant)?,
        (_, Written::Folder(folder, texts)) => {
            files_again(in_folder(folder, texts, settings, meant)?, settings, meant)?
        }
    };
    Ok(Some(regions).filter(|regions| *regions > 0).map(|regions| Loss {
        what: "Read again, it is not what was meant: this should not be, look at it before you give it away."
            .to_owned(),
        regions,
    }))
}

impl ReadAgain for zip::ZipArchive<BufReader<File>> {
    fn read(&mut self, path: &str) -> anyhow::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        self.by_name(path)?.read_to_end(&mut bytes)?;
        Ok(bytes)
    }
}

impl ReadAgain for &Path {
    fn read(&mut self, path: &str) -> anyhow::Result<Vec<u8>> {
        Ok(std::fs::read(self.join(path))?)
    }
}

fn files_again(mut files: Files, settings: ExportSettings, meant: &Together) -> anyhow::Result<usize> {
    if settings.alone {
        return Ok(meant.samples().len() - files.facts.len());
    }
    let texts = std::mem::take(&mut files.texts);
    anyhow::ensure!(texts.len() == meant.programs.len(), "a text is missing");
    let programs = texts
        .into_iter()
        .map(|text| Ok(read_sfz(&Document::new(text)?, "", &files)?.program));
    compared(programs, meant)
}

fn compared(
    programs: impl Iterator<Item = anyhow::Result<Program>>,
    meant: &Together,
) -> anyhow::Result<usize> {
    let mut apart = 0;
    for (read, meant) in programs.zip(&meant.programs) {
        apart += others(&read?, &meant.program);
    }
    Ok(apart)
}

/// Regions of which one is not as the other, in their order.
fn others(read: &Program, meant: &Program) -> usize {
    let both = read.regions.iter().zip(&meant.regions);
    let apart = read.regions.len().abs_diff(meant.regions.len());
    apart
        + both
            .filter(|(one, other)| told(read, one) != told(meant, other))
            .count()
}

/// A region, its audio and how it plays, but for the names that each reader gives.
fn told(program: &Program, region: &Region) -> (Region, Option<Shape>, Option<(u64, u32, u16)>) {
    let shape = program.shape_of_region(region).map(|place| Shape {
        id: ShapeId::default(),
        ..program.shapes[place].clone()
    });
    let sample = program.samples.get(region.sample);
    let plain = Region {
        key: RegionKey::default(),
        sample: 0,
        shape: None,
        ..region.clone()
    };
    (
        plain,
        shape,
        sample.map(|of| (of.frames, of.rate_hz, of.channels)),
    )
}

/// Texts, and what is known of audio files.
#[derive(Default)]
struct Files {
    texts: Vec<Vec<u8>>,
    facts: HashMap<String, FileFacts>,
}

impl Brought for Files {
    fn text(&self, _: &str) -> Option<Vec<u8>> {
        None
    }

    fn audio(&self, path: &str) -> Option<(String, FileFacts)> {
        Some((path.to_owned(), self.facts.get(path)?.clone()))
    }
}

fn in_zip(path: &Path, settings: ExportSettings, meant: &Together) -> anyhow::Result<Files> {
    let mut zip = zip::ZipArchive::new(BufReader::new(File::open(path)?))?;
    let mut found = Files::default();
    for sample in meant.samples() {
        if let Ok(mut entry) = zip.by_name(&sample.source) {
            let bytes = entry.size();
            let facts = facts_of(sample, settings, bytes, &mut entry)?;
            found.facts.insert(sample.source.clone(), facts);
        }
    }
    // They lie in the order in which they were written.
    for place in 0..zip.len() {
        let mut entry = zip.by_index(place)?;
        if entry.name().ends_with(".sfz") {
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes)?;
            found.texts.push(bytes);
        }
    }
    Ok(found)
}

fn in_folder(
    folder: &Path,
    texts: &[String],
    settings: ExportSettings,
    meant: &Together,
) -> anyhow::Result<Files> {
    let mut found = Files::default();
    for text in texts {
        found.texts.push(std::fs::read(folder.join(text))?);
    }
    for sample in meant.samples() {
        let facts = match File::open(folder.join(&sample.source)) {
            Ok(mut file) => facts_of(sample, settings, file.metadata()?.len(), &mut file)?,
            Err(_) => as_meant(sample, sample.frames),
        };
        found.facts.insert(sample.source.clone(), facts);
    }
    Ok(found)
}

fn as_meant(sample: &Sample, frames: u64) -> FileFacts {
    FileFacts {
        rate_hz: sample.rate_hz,
        channels: sample.channels,
        frames,
        looped: None,
    }
}

/// A WAV file is as long as it was meant, to the byte; a FLAC file is read to its end.
fn facts_of(
    sample: &Sample,
    settings: ExportSettings,
    bytes: u64,
    file: &mut dyn Read,
) -> anyhow::Result<FileFacts> {
    let frames = if settings.flac {
        let mut whole = Vec::new();
        file.read_to_end(&mut whole)?;
        let mut reader = AudioReader::open(Box::new(Cursor::new(whole)), Some("flac"))?;
        let (sides, mut values) = (reader.channels().max(1), 0);
        while let Some(piece) = reader.next_piece()? {
            values += piece.len() / sides;
        }
        values as u64
    } else {
        let mut head = [0; 4];
        file.read_exact(&mut head)?;
        let layout = WavLayout {
            rate_hz: sample.rate_hz,
            channels: sample.channels,
            bits: settings.bits,
            frames: sample.frames,
            sampler: None,
        };
        // Root, loop and credits stand beside the samples: so much more at most.
        const BESIDE_BYTES: u64 = 32_768;
        let least = layout.header().len() as u64 + layout.sample_bytes();
        let fits = &head == b"RIFF" && (least..least + BESIDE_BYTES).contains(&bytes);
        if fits { sample.frames } else { 0 }
    };
    Ok(as_meant(sample, frames))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::export::lowered;
    use crate::{Samples, Shell, ToWrite, export};
    use formats::Place;
    use program::SampleId;
    use signal::Audio;

    struct Tone;

    impl Samples for Tone {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            Ok(Audio::mono(sample.rate_hz, vec![0.25; sample.frames as usize]))
        }
    }

    #[test]
    fn what_was_written_is_what_was_meant_and_what_was_not_is_told() {
        let sample = Sample {
            id: SampleId(1),
            name: "tone".into(),
            source: "1".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 5_000,
        };
        let regions = [60, 72].map(|key| Region::whole(0, key, 5_000).on_keys(key, key));
        let program = Program::plain("Test", vec![sample], regions.to_vec());
        let shell = Shell::new(vec![("index.html".into(), b"<p>".to_vec())]);
        let plain = |format, bits| ExportSettings::of(format, bits).unwrap();
        for settings in [
            plain(Format::Sfz, 16),
            plain(Format::Sfz, 24).with(true, false).unwrap(),
            plain(Format::Sfz, 32).with(false, true).unwrap(),
            plain(Format::SoundFont2, 24),
            plain(Format::Page, 24),
        ] {
            let file = tempfile::NamedTempFile::new().unwrap();
            let mut out = file.reopen().unwrap();
            let part = ToWrite {
                program: &program,
                place: Place::default(),
                panel: None,
                samples: &Tone,
            };
            export(&[part], (settings, Some(&shell)), &mut out, |_| true).unwrap();
            let mut meant = lowered(&[(&program, Place::default())], settings).unwrap();
            let apart = |meant: &Together| {
                let lost = read_back(&Written::File(file.path()), settings, meant).unwrap();
                lost.map_or(0, |loss| loss.regions)
            };
            assert_eq!(apart(&meant), 0, "{settings:?}");
            if settings.alone {
                meant.programs[0].program.samples[0].source = "elsewhere.wav".into();
            } else {
                meant.programs[0].program.regions[1].gain_db -= 3.0;
            }
            assert_eq!(apart(&meant), 1, "{settings:?}");
        }
    }
}
