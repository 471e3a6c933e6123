//! Reading: what stands in a file as it stands there, its audio a sample at a time.

use super::*;
use crate::FormatError;
use signal::Audio;
use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};

/// Tables longer than this are no instrument's.
const LONGEST_TABLE: u32 = 64 << 20;

/// A remark ends here (section 5: 256 bytes).
const MOST_SAID: usize = 256;

/// A SoundFont that can be read.
#[derive(Debug)]
pub struct File<R> {
    source: R,
    /// Byte of the first sample's first frame, and how many frames there are.
    frames: (u64, u64),
    /// Byte of the low 8 bits of the first frame, where frames have 24.
    low_at: Option<u64>,
    /// Who made it (section 5.6, `IENG`).
    pub credits: String,
    /// What may be done with it (section 5.8, `ICOP`).
    pub licence: String,
    /// In file order.
    pub samples: Vec<Sample>,
    /// In file order.
    pub instruments: Vec<Instrument>,
    /// What can be played, in file order.
    pub presets: Vec<Preset>,
}

/// What a player chooses by bank and program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Preset {
    /// As its maker named it.
    pub name: String,
    /// 0 to 127; 128 is percussion.
    pub bank: u16,
    /// 0 to 127.
    pub program: u16,
    /// The instruments that it plays.
    pub zones: Vec<PresetZone>,
}

/// An instrument of a preset, and what is added to what it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PresetZone {
    /// Index of the instrument.
    pub instrument: usize,
    pub(super) said: Said,
}

/// What moves something (section 8.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Modulator {
    pub(super) source: u16,
    pub(super) to: u16,
    pub(super) amount: i16,
    pub(super) by: u16,
}

/// What a zone says, with what stands for all zones beside it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Said {
    pub(super) generators: BTreeMap<u16, i16>,
    pub(super) modulators: Vec<Modulator>,
}

impl Said {
    /// What is said of one zone over what stands for all: of a modulator with the same source, amount's source and destination only the later counts
    /// (section 9.5).
    fn add(&mut self, own: &Self) {
        self.generators.extend(&own.generators);
        for one in &own.modulators {
            let same = |other: &Modulator| (other.source, other.to, other.by) == (one.source, one.to, one.by);
            self.modulators.retain(|other| !same(other));
            self.modulators.push(*one);
        }
    }

    /// Of the rows of two tables (sections 7.5 and 7.4).
    pub(super) fn of_tables(generators: &[u8], modulators: &[u8]) -> Self {
        let rows = Rows::of(Vec::new(), generators.to_vec(), modulators.to_vec());
        let mut said = Self::default();
        said.add(&Self {
            generators: rows.generators.into_iter().collect(),
            modulators: rows.modulators,
        });
        said
    }

    fn range(&self, generator: u16) -> (u8, u8) {
        self.generators.get(&generator).map_or((0, 127), |range| {
            let [low, high] = range.to_le_bytes();
            (low, high)
        })
    }

    /// Lowest and highest key.
    pub(super) fn keys(&self) -> (u8, u8) {
        self.range(KEY_RANGE)
    }

    /// Lowest and highest velocity.
    pub(super) fn strikes(&self) -> (u8, u8) {
        self.range(VELOCITY_RANGE)
    }
}

/// One recording. Its loop's frames count from its own first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sample {
    /// As its maker named it.
    pub name: String,
    /// Frames per second.
    pub rate_hz: u32,
    /// First frame in the file's one stretch of frames.
    pub first_frame: u64,
    /// Length.
    pub frames: u64,
    /// First frame of the loop, and first after it; what a zone's mode makes of them is another matter.
    pub looped: (i64, i64),
    /// MIDI key at which it sounds as recorded; 255 where it has no pitch.
    pub root_key: u8,
    /// What has to be added to its pitch, in cents.
    pub correction_cents: i8,
    /// The other side, of a stereo pair.
    pub link: u16,
    /// 1 mono, 2 right, 4 left, 8 linked; with 0x8000 not in the file.
    pub kind: u16,
}

/// What plays where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Instrument {
    /// As its maker named it.
    pub name: String,
    /// Each plays a sample; what stands for all of them is in each.
    pub zones: Vec<Zone>,
}

/// One sample on some keys.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Zone {
    /// Index of its sample.
    pub sample: usize,
    pub(super) said: Said,
}

impl Zone {
    fn of(&self, generator: u16) -> i16 {
        self.said.generators.get(&generator).copied().unwrap_or(0)
    }

    /// Lowest and highest key.
    pub fn keys(&self) -> (u8, u8) {
        self.said.keys()
    }

    /// The pitch that its maker says its sample has, in MIDI keys.
    pub fn pitch(&self, sample: &Sample) -> f64 {
        let said = self.said.generators.get(&ROOT_KEY).filter(|key| **key >= 0);
        let root = said.map_or(f64::from(sample.root_key), |key| f64::from(*key));
        let cents = 100.0 * f64::from(self.of(COARSE_TUNE))
            + f64::from(self.of(FINE_TUNE))
            + f64::from(sample.correction_cents);
        root - cents / 100.0
    }

    /// First frame of the loop that its maker gave it, and first after it; `None` where it plays to its end.
    pub fn looped(&self, sample: &Sample) -> Option<(i64, i64)> {
        const COARSE_FRAMES: i64 = 32_768;
        let moved = |at: i64, fine: u16, coarse: u16| {
            at + i64::from(self.of(fine)) + COARSE_FRAMES * i64::from(self.of(coarse))
        };
        (self.of(SAMPLE_MODES) & 1 == 1).then(|| {
            (
                moved(sample.looped.0, LOOP_START, LOOP_START_COARSE),
                moved(sample.looped.1, LOOP_END, LOOP_END_COARSE),
            )
        })
    }
}

fn unreadable(what: &str) -> FormatError {
    FormatError::Unreadable(format!("This SoundFont cannot be read: {what}."))
}

fn half(row: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([row[at], row[at + 1]])
}

fn word(row: &[u8], at: usize) -> u32 {
    u32::from_le_bytes([row[at], row[at + 1], row[at + 2], row[at + 3]])
}

/// Twenty bytes, zero-ended.
fn name_in(row: &[u8]) -> String {
    let text = row[..20].split(|byte| *byte == 0).next().unwrap_or_default();
    text.iter()
        .map(|byte| char::from(*byte))
        .collect::<String>()
        .trim()
        .to_owned()
}

impl<R: Read + Seek> File<R> {
    /// Reads what stands beside the audio.
    ///
    /// # Errors
    /// Where the source fails, or what it holds is no SoundFont, or one that contradicts itself, with a sentence.
    pub fn read(mut source: R) -> Result<Self, FormatError> {
        let length = source.seek(SeekFrom::End(0))?;
        source.seek(SeekFrom::Start(0))?;
        let mut head = [0; 12];
        source
            .read_exact(&mut head)
            .map_err(|_| unreadable("it is cut short"))?;
        if &head[..4] != b"RIFF" || &head[8..] != b"sfbk" {
            return Err(unreadable("it does not begin as one does"));
        }
        let mut chunks: BTreeMap<[u8; 4], (u64, u32)> = BTreeMap::new();
        let mut at = 12;
        while at + 8 <= length {
            let mut head = [0; 8];
            source.seek(SeekFrom::Start(at))?;
            source.read_exact(&mut head)?;
            let (id, size) = ([head[0], head[1], head[2], head[3]], word(&head, 4));
            if &id == b"LIST" {
                // Its chunks stand behind its kind.
                at += 12;
                continue;
            }
            if at + 8 + u64::from(size) > length {
                return Err(unreadable("it is cut short"));
            }
            chunks.insert(id, (at + 8, size));
            at += 8 + u64::from(size) + u64::from(size % 2);
        }
        let mut table = |id: &[u8; 4]| -> Result<Vec<u8>, FormatError> {
            let missing = || {
                unreadable(&format!(
                    "it has no table \u{201c}{}\u{201d}",
                    String::from_utf8_lossy(id)
                ))
            };
            let (at, size) = *chunks.get(id).ok_or_else(missing)?;
            if size > LONGEST_TABLE {
                return Err(unreadable("one of its tables is too long to be true"));
            }
            let mut bytes = vec![0; size as usize];
            source.seek(SeekFrom::Start(at))?;
            source.read_exact(&mut bytes)?;
            Ok(bytes)
        };
        let mut said = |id: &[u8; 4]| {
            let bytes = table(id).unwrap_or_default();
            let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
            String::from_utf8_lossy(&bytes[..end.min(MOST_SAID)])
                .trim()
                .to_owned()
        };
        let (credits, licence) = (said(b"IENG"), said(b"ICOP"));
        let heads = table(b"shdr")?;
        let of_instruments = Rows::of(table(b"ibag")?, table(b"igen")?, table(b"imod")?);
        let of_presets = Rows::of(table(b"pbag")?, table(b"pgen")?, table(b"pmod")?);
        let (names, presets) = (table(b"inst")?, table(b"phdr")?);
        let (first, bytes) = *chunks.get(b"smpl").ok_or_else(|| unreadable("it has no audio"))?;
        let frames = u64::from(bytes / 2);
        let low_at = chunks
            .get(b"sm24")
            .filter(|(_, size)| u64::from(*size) >= frames)
            .map(|(at, _)| *at);
        let samples = heads.chunks_exact(46).map(sample_in).collect::<Vec<_>>();
        // The last row of each table ends the one before it.
        let samples: Vec<Sample> = samples.split_last().map_or(&[][..], |(_, all)| all).to_vec();
        for sample in samples.iter().filter(|sample| sample.kind & ROM == 0) {
            if sample.first_frame + sample.frames > frames {
                return Err(unreadable(&format!(
                    "the sample \u{201c}{}\u{201d} lies beyond its end",
                    sample.name
                )));
            }
        }
        Ok(Self {
            source,
            frames: (first, frames),
            low_at,
            credits,
            licence,
            instruments: instruments_in(&names, &of_instruments, samples.len())?,
            presets: presets_in(&presets, &of_presets, names.len() / 22)?,
            samples,
        })
    }

    /// The audio of one of its samples, mono.
    ///
    /// # Errors
    /// Where there is none of that number, or it is not in the file, or reading fails.
    pub fn audio(&mut self, sample: usize) -> Result<Audio, FormatError> {
        let found = self.samples.get(sample).filter(|sample| sample.kind & ROM == 0);
        let Some(Sample {
            rate_hz,
            first_frame,
            frames,
            ..
        }) = found.cloned()
        else {
            return Err(unreadable("it has no such sample"));
        };
        let mut read = |at: u64, bytes: u64| -> Result<Vec<u8>, FormatError> {
            let mut all = vec![0; bytes as usize];
            self.source.seek(SeekFrom::Start(at))?;
            self.source.read_exact(&mut all)?;
            Ok(all)
        };
        let high = read(self.frames.0 + 2 * first_frame, 2 * frames)?;
        let low = self.low_at.map(|at| read(at + first_frame, frames)).transpose()?;
        let samples = high
            .chunks_exact(2)
            .enumerate()
            .map(|(frame, bytes)| {
                let low = low.as_ref().map_or(0, |low| low[frame]);
                let value = i32::from(i16::from_le_bytes([bytes[0], bytes[1]])) * 256 + i32::from(low);
                value as f32 / 8_388_608.0
            })
            .collect();
        Ok(Audio::mono(rate_hz, samples))
    }
}

fn sample_in(row: &[u8]) -> Sample {
    let (first, end) = (u64::from(word(row, 20)), u64::from(word(row, 24)));
    let from_first = |at: usize| i64::from(word(row, at)) - first as i64;
    Sample {
        name: name_in(row),
        rate_hz: word(row, 36),
        first_frame: first,
        frames: end.saturating_sub(first),
        looped: (from_first(28), from_first(32)),
        root_key: row[40],
        correction_cents: row[41] as i8,
        link: half(row, 42),
        kind: half(row, 44),
    }
}

/// Zones of instruments, or of presets, by rows of three tables.
struct Rows {
    bags: Vec<(usize, usize)>,
    generators: Vec<(u16, i16)>,
    modulators: Vec<Modulator>,
}

fn contradicts() -> FormatError {
    unreadable("its tables contradict each other")
}

impl Rows {
    fn of(bags: Vec<u8>, generators: Vec<u8>, modulators: Vec<u8>) -> Self {
        let pairs = |table: Vec<u8>| -> Vec<(u16, u16)> {
            table
                .chunks_exact(4)
                .map(|row| (half(row, 0), half(row, 2)))
                .collect()
        };
        Self {
            bags: pairs(bags)
                .into_iter()
                .map(|(generator, modulator)| (usize::from(generator), usize::from(modulator)))
                .collect(),
            generators: pairs(generators)
                .into_iter()
                .map(|(of, amount)| (of, amount as i16))
                .collect(),
            modulators: modulators
                .chunks_exact(10)
                .map(|row| Modulator {
                    source: half(row, 0),
                    to: half(row, 2),
                    amount: half(row, 4) as i16,
                    by: half(row, 6),
                })
                .collect(),
        }
    }

    /// What the zones between two bags say, with what the first says for all where it names nothing that is played; `last` is the generator by which
    /// a zone names it (sections 7.3 and 7.7).
    fn zones(
        &self,
        bags: std::ops::Range<usize>,
        last: u16,
        most: usize,
    ) -> Result<Vec<(usize, Said)>, FormatError> {
        let mut for_all = Said::default();
        let mut zones = Vec::new();
        for bag in bags.clone() {
            let (Some(&from), Some(&to)) = (self.bags.get(bag), self.bags.get(bag + 1)) else {
                return Err(contradicts());
            };
            let generators = self.generators.get(from.0..to.0).ok_or_else(contradicts)?;
            let own = Said {
                generators: generators.iter().copied().collect(),
                modulators: self
                    .modulators
                    .get(from.1..to.1)
                    .ok_or_else(contradicts)?
                    .to_vec(),
            };
            let mut said = for_all.clone();
            said.add(&own);
            match own.generators.get(&last).map(|index| usize::from(*index as u16)) {
                Some(index) if index < most => zones.push((index, said)),
                Some(_) => return Err(contradicts()),
                // The first zone may stand for all.
                None if bag == bags.start => for_all = said,
                None => {}
            }
        }
        Ok(zones)
    }
}

fn instruments_in(names: &[u8], rows: &Rows, samples: usize) -> Result<Vec<Instrument>, FormatError> {
    let heads: Vec<(String, usize)> = names
        .chunks_exact(22)
        .map(|row| (name_in(row), usize::from(half(row, 20))))
        .collect();
    let of = |pair: &[(String, usize)]| {
        let zones = rows.zones(pair[0].1..pair[1].1, SAMPLE, samples)?;
        Ok(Instrument {
            name: pair[0].0.clone(),
            zones: zones
                .into_iter()
                .map(|(sample, said)| Zone { sample, said })
                .collect(),
        })
    };
    heads.windows(2).map(of).collect()
}

fn presets_in(heads: &[u8], rows: &Rows, instruments: usize) -> Result<Vec<Preset>, FormatError> {
    let heads: Vec<&[u8]> = heads.chunks_exact(38).collect();
    let of = |pair: &[&[u8]]| {
        let first = |row: &[u8]| usize::from(half(row, 24));
        // The last row of the instruments ends the one before it.
        let zones = rows.zones(
            first(pair[0])..first(pair[1]),
            INSTRUMENT,
            instruments.saturating_sub(1),
        )?;
        Ok(Preset {
            name: name_in(pair[0]),
            bank: half(pair[0], 22),
            program: half(pair[0], 20),
            zones: zones
                .into_iter()
                .map(|(instrument, said)| PresetZone { instrument, said })
                .collect(),
        })
    };
    heads.windows(2).map(of).collect()
}
