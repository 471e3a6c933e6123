//! Writing.

use super::*;
use crate::riff::{chunk, list};
use crate::wav::to_24;
use crate::{FormatError, Place, Placed};
use program::{LoopRuns, Program, Region, Sample, Shape};
use signal::Audio;
use std::io::{Seek, SeekFrom, Write};

/// Zero frames after each sample (section 7.10).
const GAP_FRAMES: u64 = 46;
/// Note-on velocity, downward, unipolar, linear: of the default cutoff modulator (section 8.4.2).
const VELOCITY_LINEAR: u16 = 0x0102;

/// Writes lowered programs as presets, their audio `bits` 16 or 24 wide. All have the same samples: `audio` gives the baked audio of each, by index, once, in order:
/// no more than one is held at a time. The file is named after the first, and its credits and licence are those of all.
///
/// # Errors
/// Where the format's 16-bit indices or 4 GiB do not suffice, with the number, before anything is read; where audio or `out` fails.
pub fn write_sf2<E: From<FormatError> + From<std::io::Error>>(
    out: &mut (impl Write + Seek),
    presets: &[Placed],
    bits: u16,
    mut audio: impl FnMut(usize) -> Result<Audio, E>,
) -> Result<(), E> {
    let is_wide = bits > 16;
    let samples = presets.first().map_or(&[][..], |first| &first.program.samples);
    let Laid {
        sides,
        frames,
        spare,
        tables,
    } = Laid::of(presets, is_wide)?;

    let mut info = Vec::new();
    chunk(&mut info, b"ifil", &[2, 0, 4, 0]);
    chunk(&mut info, b"isng", b"EMU8000\0");
    let title = presets.first().map_or("", |first| &first.program.name);
    chunk(&mut info, b"INAM", &text(title, 254));
    let of_all = |said: fn(&Program) -> &str| {
        let mut all: Vec<&str> = presets.iter().map(|placed| said(&placed.program)).collect();
        all.retain(|said| !said.is_empty());
        all.dedup();
        all.join("; ")
    };
    for (id, said) in [
        (b"IENG", of_all(|program| &program.credits)),
        (b"ICOP", of_all(|program| &program.licence)),
    ] {
        if !said.is_empty() {
            chunk(&mut info, id, &text(&said, 254));
        }
    }
    chunk(&mut info, b"ISFT", b"Ladder\0\0");
    let (mut info_list, mut tables_list) = (Vec::new(), Vec::new());
    list(&mut info_list, b"INFO", &info);
    list(&mut tables_list, b"pdta", &tables.chunks());

    // Every length is known before a sample is read.
    let (high_bytes, low_bytes) = (frames * 2, if is_wide { frames } else { 0 });
    let sample_list = 4 + 8 + high_bytes + if is_wide { 8 + low_bytes } else { 0 };
    let body = 4 + info_list.len() as u64 + 8 + sample_list + tables_list.len() as u64;
    let chunk_head = |id: &[u8; 4], bytes: u64| [&id[..], &(bytes as u32).to_le_bytes()].concat();
    out.write_all(&chunk_head(b"RIFF", body))?;
    out.write_all(b"sfbk")?;
    out.write_all(&info_list)?;
    out.write_all(&chunk_head(b"LIST", sample_list))?;
    out.write_all(b"sdta")?;
    out.write_all(&chunk_head(b"smpl", high_bytes))?;
    // The upper 16 bits of all samples stand before the low 8 of all: one sample at a time goes to both places.
    let mut high_at = out.stream_position()?;
    let mut low_at = high_at + high_bytes;
    if is_wide {
        out.seek(SeekFrom::Start(low_at))?;
        out.write_all(&chunk_head(b"sm24", low_bytes))?;
        low_at += 8;
    }
    for (index, sides) in sides.iter().enumerate() {
        let audio = audio(index)?;
        let count = (samples[index].frames + GAP_FRAMES) * sides;
        let (mut high, mut low) = (
            Vec::with_capacity(count as usize * 2),
            Vec::with_capacity(count as usize),
        );
        for side in 0..*sides as usize {
            let channel = audio.channels.get(side).map_or(&[][..], Vec::as_slice);
            for frame in 0..samples[index].frames as usize {
                // 24 bits: the upper 16 in `smpl`, the low 8 in `sm24` (section 6.2).
                let value = to_24(channel.get(frame).copied().unwrap_or(0.0));
                high.extend_from_slice(&((value >> 8) as i16).to_le_bytes());
                low.push(value as u8);
            }
            high.extend(std::iter::repeat_n(0, GAP_FRAMES as usize * 2));
            low.extend(std::iter::repeat_n(0, GAP_FRAMES as usize));
        }
        if !is_wide {
            low.clear();
        }
        for (at, bytes) in [(&mut high_at, high), (&mut low_at, low)] {
            out.seek(SeekFrom::Start(*at))?;
            out.write_all(&bytes)?;
            *at += bytes.len() as u64;
        }
    }
    for (at, bytes) in [(high_at, 2 * spare), (low_at, spare)] {
        out.seek(SeekFrom::Start(at))?;
        out.write_all(&[0; 2][..bytes as usize])?;
    }
    out.write_all(&tables_list)?;
    Ok(())
}

/// Whether lowered programs fit into one SoundFont, their audio `bits` wide: what [`write_sf2`] asks before anything is read.
///
/// # Errors
/// Where the format's 16-bit indices or 4 GiB do not suffice, with the number.
pub fn fits_sf2(presets: &[Placed], bits: u16) -> Result<(), FormatError> {
    Laid::of(presets, bits > 16).map(|_| ())
}

/// What follows from programs alone.
struct Laid {
    /// Of each sample, one or two.
    sides: Vec<u64>,
    /// Of all of them, with what lies between and `spare`.
    frames: u64,
    /// Readers there are that pass over no padding: a frame more, where the low bytes would need it.
    spare: u64,
    tables: Tables,
}

impl Laid {
    fn of(presets: &[Placed], is_wide: bool) -> Result<Self, FormatError> {
        let samples = presets.first().map_or(&[][..], |first| &first.program.samples);
        let sides: Vec<u64> = samples
            .iter()
            .map(|sample| u64::from(sample.channels.clamp(1, 2)))
            .collect();
        let frames: u64 = samples
            .iter()
            .zip(&sides)
            .map(|(s, sides)| (s.frames + GAP_FRAMES) * sides)
            .sum();
        let spare = if is_wide { frames % 2 } else { 0 };
        let frames = frames + spare;
        let frame_bytes = if is_wide { 3 } else { 2 };
        if frames * frame_bytes > 0xFFF0_0000 {
            let gib = (frames * frame_bytes) as f64 / 1_073_741_824.0;
            return Err(FormatError::TooMuch(format!(
                "This needs {gib:.1} GiB and a SoundFont holds 4: leave out layers or round robins, use 16 bits, or a lower rate."
            )));
        }
        let mut tables = Tables::default();
        tables.fill(presets, samples, &sides)?;
        Ok(Self {
            sides,
            frames,
            spare,
            tables,
        })
    }
}

/// A zero-ended text of even length.
fn text(value: &str, most: usize) -> Vec<u8> {
    let mut bytes: Vec<u8> = value
        .chars()
        .map(|c| if c.is_ascii() { c as u8 } else { b'_' })
        .take(most)
        .collect();
    bytes.push(0);
    if bytes.len() % 2 == 1 {
        bytes.push(0);
    }
    bytes
}

/// Letters of a name: twenty bytes, of which the last stays zero, since readers there are that look for one.
pub const SOUNDFONT_NAME_LETTERS: usize = 19;

/// A name as a SoundFont holds it.
pub fn soundfont_name(name: &str) -> String {
    let cut: String = name.chars().take(SOUNDFONT_NAME_LETTERS).collect();
    cut.trim_end().to_owned()
}

fn name(value: &str) -> [u8; 20] {
    let mut out = [0; 20];
    let cut = soundfont_name(value);
    for (slot, c) in out.iter_mut().zip(cut.chars()) {
        *slot = if c.is_ascii() { c as u8 } else { b'_' };
    }
    out
}

#[derive(Default)]
pub(super) struct Tables {
    phdr: Vec<u8>,
    pbag: Vec<u8>,
    pgen: Vec<u8>,
    inst: Vec<u8>,
    ibag: Vec<u8>,
    pub(super) imod: Vec<u8>,
    pub(super) igen: Vec<u8>,
    shdr: Vec<u8>,
}

impl Tables {
    fn fill(&mut self, presets: &[Placed], samples: &[Sample], sides: &[u64]) -> Result<(), FormatError> {
        let mut first_of = Vec::with_capacity(sides.len());
        let mut next = 0;
        for sides in sides {
            first_of.push(next);
            next += sides;
        }
        let mut zones = 0u16;
        for Placed { place, program } in presets {
            preset_header(&mut self.phdr, &program.name, *place, zones);
            self.preset(program, (sides, &first_of), &mut zones)?;
        }
        count(self.igen.len() / 4, "generators")?;
        count(self.ibag.len() / 4, "zones")?;
        // The terminal records (sections 7.2 to 7.10).
        self.pbag.extend(((self.pgen.len() / 4) as u16).to_le_bytes());
        self.pbag.extend(0u16.to_le_bytes());
        preset_header(&mut self.phdr, "EOP", Place::default(), zones);
        self.inst.extend(name("EOI"));
        self.inst.extend(((self.ibag.len() / 4) as u16).to_le_bytes());
        self.ibag.extend(((self.igen.len() / 4) as u16).to_le_bytes());
        self.ibag.extend(((self.imod.len() / 10) as u16).to_le_bytes());
        self.pgen.extend([0; 4]);
        self.igen.extend([0; 4]);
        self.imod.extend([0; 10]);
        self.samples(presets, samples, sides)
    }

    /// An instrument for each strand of a program, and a zone for each of those.
    fn preset(
        &mut self,
        program: &Program,
        (sides, first_of): (&[u64], &[u64]),
        zones: &mut u16,
    ) -> Result<(), FormatError> {
        for strand in &program.strands {
            self.preset_zone(*zones);
            *zones = count(usize::from(*zones) + 1, "strands")?;
            self.inst.extend(name(&strand.name));
            self.inst
                .extend(count(self.ibag.len() / 4, "zones")?.to_le_bytes());
            self.instrument_zone()?;
            let silent = Shape::default();
            self.shape(program.shape_of(strand).unwrap_or(&silent));
            for region in program.regions_of(strand.id) {
                for side in 0..sides[region.sample] {
                    self.region(
                        program,
                        region,
                        (sides[region.sample] == 2, side),
                        first_of[region.sample] + side,
                    )?;
                }
            }
        }
        Ok(())
    }

    /// All that stands for every region of a strand.
    pub(super) fn shape(&mut self, shape: &Shape) {
        let mut loudness = shape.loudness;
        let timed = |time: CourseTime, ms: f64| at_middle_c(shape, CourseId::LOUDNESS, time, ms);
        loudness.hold_ms = timed(CourseTime::Hold, loudness.hold_ms);
        loudness.decay_ms = timed(CourseTime::Decay, loudness.decay_ms);
        self.times_by_key(shape);
        for (generator, amount) in [
            (ATTACK, timecents(loudness.attack_ms)),
            (DECAY, timecents(loudness.decay_ms)),
            (
                SUSTAIN,
                (-loudness.sustain_db * 10.0).round().clamp(0.0, 1440.0) as i16,
            ),
            (RELEASE, timecents(loudness.release_ms)),
        ] {
            self.generator(generator, amount);
        }
        for (generator, ms) in [(DELAY, loudness.delay_ms), (HOLD, loudness.hold_ms)] {
            if timecents(ms) > -12_000 {
                self.generator(generator, timecents(ms));
            }
        }
        // These two replace the defaults of the same source and destination (section 9.5).
        self.modulator(
            VELOCITY_CONCAVE,
            ATTENUATION,
            (960.0 * loudness.velocity_to_level).round() as i16,
        );
        self.modulator(VELOCITY_LINEAR, FILTER_CUTOFF, 0);
        self.driven(shape);
    }

    fn preset_zone(&mut self, instrument: u16) {
        self.pbag.extend(((self.pgen.len() / 4) as u16).to_le_bytes());
        self.pbag.extend(0u16.to_le_bytes());
        self.pgen.extend(INSTRUMENT.to_le_bytes());
        self.pgen.extend(instrument.to_le_bytes());
    }

    fn instrument_zone(&mut self) -> Result<(), FormatError> {
        self.ibag
            .extend(count(self.igen.len() / 4, "generators")?.to_le_bytes());
        self.ibag
            .extend(count(self.imod.len() / 10, "modulators")?.to_le_bytes());
        Ok(())
    }

    pub(super) fn generator(&mut self, generator: u16, amount: i16) {
        self.igen.extend(generator.to_le_bytes());
        self.igen.extend(amount.to_le_bytes());
    }

    pub(super) fn modulator(&mut self, source: u16, destination: u16, amount: i16) {
        self.modulator_by(source, destination, amount, 0);
    }

    /// One whose amount another source drives, straight.
    pub(super) fn modulator_by(&mut self, source: u16, destination: u16, amount: i16, by: u16) {
        self.imod.extend(source.to_le_bytes());
        self.imod.extend(destination.to_le_bytes());
        self.imod.extend(amount.to_le_bytes());
        self.imod.extend(by.to_le_bytes());
        self.imod.extend([0; 2]);
    }

    fn region(
        &mut self,
        program: &Program,
        region: &Region,
        (stereo, side): (bool, u64),
        sample: u64,
    ) -> Result<(), FormatError> {
        self.instrument_zone()?;
        let range = |low: u8, high: u8| i16::from_le_bytes([low, high]);
        let (keys, strikes) = (region.when.keys, region.when.strikes);
        self.generator(KEY_RANGE, range(keys.low, keys.high));
        self.generator(VELOCITY_RANGE, range(strikes.low, strikes.high));
        // A stereo pair stands hard left and right; a mono one where it is panned.
        let pan = if stereo {
            if side == 0 { -500 } else { 500 }
        } else {
            (region.pan * 500.0).round() as i16
        };
        let (left, right) = program::pan_gains(region.pan, true);
        let side_gain = if side == 0 { left } else { right };
        let lean_db = if stereo {
            -20.0 * side_gain.max(1e-4).log10()
        } else {
            0.0
        };
        self.generator(PAN, pan);
        let filter = program
            .shape_of_region(region)
            .and_then(|place| program.shapes[place].filter.as_ref());
        let level_db = region.gain_db + taken_by_resonance(filter);
        let attenuation = ((-level_db + lean_db) * 10.0).round().clamp(0.0, 1440.0);
        if attenuation > 0.0 {
            self.generator(ATTENUATION, attenuation as i16);
        }
        // Fine tuning reaches 99 cents (section 8.1.2); whole semitones are coarse.
        let cents = (-region.recording_cents).round();
        let semitones = if cents.abs() > 99.0 {
            (cents / 100.0).round()
        } else {
            0.0
        };
        if semitones != 0.0 {
            self.generator(COARSE_TUNE, semitones as i16);
        }
        self.generator(FINE_TUNE, (cents - 100.0 * semitones) as i16);
        if let Some(shape) = region
            .shape
            .and_then(|id| program.shapes.iter().find(|shape| shape.id == id))
        {
            self.generator(RELEASE, timecents(shape.loudness.release_ms));
        }
        if let Some(class) = region.cut.group {
            self.generator(EXCLUSIVE_CLASS, class.min(127) as i16);
        }
        if region.key_follow != 1.0 {
            self.generator(
                SCALE_TUNING,
                (region.key_follow * 100.0).round().clamp(0.0, 1200.0) as i16,
            );
        }
        let mode = match region.looped {
            None => 0,
            Some(l) if l.runs == LoopRuns::ThroughRelease => 1,
            Some(_) => 3,
        };
        self.generator(SAMPLE_MODES, mode);
        self.generator(ROOT_KEY, i16::from(region.root_key));
        self.generator(SAMPLE, count(sample as usize, "samples")? as i16);
        Ok(())
    }

    fn samples(&mut self, presets: &[Placed], samples: &[Sample], sides: &[u64]) -> Result<(), FormatError> {
        let mut played: Vec<Option<&Region>> = vec![None; samples.len()];
        for region in presets.iter().flat_map(|placed| &placed.program.regions) {
            played[region.sample].get_or_insert(region);
        }
        let (mut at, mut index) = (0u64, 0usize);
        for (n, sample) in samples.iter().enumerate() {
            let region = played[n];
            let looped = region.and_then(|region| region.looped);
            for side in 0..sides[n] {
                let stereo = sides[n] == 2;
                let ending = if !stereo {
                    ""
                } else if side == 0 {
                    "L"
                } else {
                    "R"
                };
                self.shdr
                    .extend(name(&format!("{:04}{ending} {}", n + 1, sample.name)));
                let (start, end) = looped.map_or((0, 0), |l| (l.start_frame, l.end_frame));
                for position in [at, at + sample.frames, at + start, at + end] {
                    self.shdr.extend((position as u32).to_le_bytes());
                }
                self.shdr.extend(sample.rate_hz.to_le_bytes());
                self.shdr.push(region.map_or(60, |region| region.root_key));
                self.shdr.push(0);
                let partner = if !stereo {
                    0
                } else if side == 0 {
                    index + 1
                } else {
                    index - 1
                };
                self.shdr.extend(count(partner, "samples")?.to_le_bytes());
                let kind: u16 = if !stereo {
                    1
                } else if side == 0 {
                    4
                } else {
                    2
                };
                self.shdr.extend(kind.to_le_bytes());
                at += sample.frames + GAP_FRAMES;
                index += 1;
            }
        }
        self.shdr.extend(name("EOS"));
        self.shdr.extend([0; 26]);
        Ok(())
    }

    fn chunks(&self) -> Vec<u8> {
        let mut out = Vec::new();
        chunk(&mut out, b"phdr", &self.phdr);
        chunk(&mut out, b"pbag", &self.pbag);
        chunk(&mut out, b"pmod", &[0; 10]);
        chunk(&mut out, b"pgen", &self.pgen);
        chunk(&mut out, b"inst", &self.inst);
        chunk(&mut out, b"ibag", &self.ibag);
        chunk(&mut out, b"imod", &self.imod);
        chunk(&mut out, b"igen", &self.igen);
        chunk(&mut out, b"shdr", &self.shdr);
        out
    }
}

fn preset_header(out: &mut Vec<u8>, title: &str, place: Place, first_zone: u16) {
    out.extend(name(title));
    out.extend(u16::from(place.number).to_le_bytes());
    out.extend(place.bank.to_le_bytes());
    out.extend(first_zone.to_le_bytes());
    out.extend([0; 12]);
}

fn count(value: usize, what: &str) -> Result<u16, FormatError> {
    u16::try_from(value).map_err(|_| {
        FormatError::TooMuch(format!(
            "This needs {value} {what} and a SoundFont counts to 65,535: split the instrument."
        ))
    })
}
