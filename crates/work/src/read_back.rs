//! What was written is read again, and compared with what was meant, before it is offered.

use crate::export_settings::ExportSettings;
use anyhow::Context;
use formats::sfz::{Brought, Document, FileFacts};
use formats::{AudioReader, Format, WavLayout, read_sfz, sf2};
use program::{Program, Region, RegionKey, Shape, ShapeId};
use std::collections::HashMap;
use std::fs::File;
use std::io::{BufReader, Cursor, Read};
use std::path::Path;

/// How many regions do not read back as they were meant: none, as far as we know.
///
/// # Errors
/// Where it cannot be read at all.
pub(crate) fn read_back(path: &Path, settings: ExportSettings, meant: &Program) -> anyhow::Result<usize> {
    let file = BufReader::new(File::open(path)?);
    let read = match settings.format {
        Format::SoundFont2 => sf2::File::read(file)?.program(0)?.program,
        Format::Sfz => {
            let mut files = in_zip(file, settings, meant)?;
            if settings.alone {
                return Ok(meant.samples.len() - files.facts.len());
            }
            let text = files.text.take().context("there is no text in it")?;
            read_sfz(&Document::new(text)?, "", &files)?.program
        }
    };
    Ok(others(&read, meant))
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

/// What lies in a zip: a text, and what is known of audio files.
struct InZip {
    text: Option<Vec<u8>>,
    facts: HashMap<String, FileFacts>,
}

impl Brought for InZip {
    fn text(&self, _: &str) -> Option<Vec<u8>> {
        None
    }

    fn audio(&self, path: &str) -> Option<(String, FileFacts)> {
        Some((path.to_owned(), self.facts.get(path)?.clone()))
    }
}

/// A WAV file is as long as it was meant, to the byte; a FLAC file is read to its end.
fn in_zip(file: BufReader<File>, settings: ExportSettings, meant: &Program) -> anyhow::Result<InZip> {
    let mut zip = zip::ZipArchive::new(file)?;
    let mut found = InZip {
        text: None,
        facts: HashMap::new(),
    };
    for sample in &meant.samples {
        let Ok(mut entry) = zip.by_name(&sample.source) else {
            continue;
        };
        let frames = if settings.flac {
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes)?;
            let mut reader = AudioReader::open(Box::new(Cursor::new(bytes)), Some("flac"))?;
            let (sides, mut values) = (reader.channels().max(1), 0);
            while let Some(piece) = reader.next_piece()? {
                values += piece.len() / sides;
            }
            values as u64
        } else {
            let mut head = [0; 4];
            entry.read_exact(&mut head)?;
            let layout = WavLayout {
                rate_hz: sample.rate_hz,
                channels: sample.channels,
                bits: settings.bits,
                frames: sample.frames,
                sampler: None,
            };
            // Root and loop stand before the samples: so much more at most.
            const SAMPLER_BYTES: u64 = 1_024;
            let least = layout.header().len() as u64 + layout.sample_bytes();
            let fits = &head == b"RIFF" && (least..least + SAMPLER_BYTES).contains(&entry.size());
            if fits { sample.frames } else { 0 }
        };
        let facts = FileFacts {
            rate_hz: sample.rate_hz,
            channels: sample.channels,
            frames,
            looped: None,
        };
        found.facts.insert(sample.source.clone(), facts);
    }
    let text = zip
        .file_names()
        .find(|name| name.ends_with(".sfz"))
        .map(str::to_owned);
    if let Some(name) = text {
        let mut bytes = Vec::new();
        zip.by_name(&name)?.read_to_end(&mut bytes)?;
        found.text = Some(bytes);
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Samples, export};
    use formats::lower;
    use program::{Sample, SampleId};
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
        let plain = |format, bits| ExportSettings::of(format, bits).unwrap();
        for settings in [
            plain(Format::Sfz, 16),
            plain(Format::Sfz, 24).with(true, false).unwrap(),
            plain(Format::Sfz, 32).with(false, true).unwrap(),
            plain(Format::SoundFont2, 24),
        ] {
            let file = tempfile::NamedTempFile::new().unwrap();
            let mut out = file.reopen().unwrap();
            export(&program, settings, &Tone, &mut out, |_| true).unwrap();
            let lowered = lower(&program, settings.format).program;
            let mut meant = lowered.clone();
            for sample in &mut meant.samples {
                if settings.flac {
                    sample.source = sample.source.replace(".wav", ".flac");
                }
            }
            assert_eq!(
                read_back(file.path(), settings, &meant).unwrap(),
                0,
                "{settings:?}"
            );
            if settings.alone {
                meant.samples[0].source = "elsewhere.wav".into();
            } else {
                meant.regions[1].gain_db -= 3.0;
            }
            assert_eq!(
                read_back(file.path(), settings, &meant).unwrap(),
                1,
                "{settings:?}"
            );
        }
    }
}
