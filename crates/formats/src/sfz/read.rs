//! Reading.

use super::document::{Document, Section, path_within};
use super::driven::{curves_of, level_offset_db, read_driven};
use super::numbers::number_of;
use super::words::{Of, of_word};
use crate::FormatError;
use crate::lower::sustain_db_of;
use crate::wav::Sampler;
use program::{
    Among, BEND_KEYS, BendKeys, ChosenBy, CurvePoint, Cut, Fade, FadeLaw, Foreign, Loop, LoopRuns, Loudness,
    On, Program, Region, RegionKey, RegionOf, SameKey, Sample, SampleId, Shape, ShapeId, Source, Span, Stays,
    Strand, StrandId, Switch, SwitchId, Turn, Voices, When, Within,
};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What is known of an audio file beside an SFZ.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Heard {
    /// Frames per second.
    pub rate_hz: u32,
    /// Sides.
    pub channels: u16,
    /// Length.
    pub frames: u64,
    /// The loop that it has inside: it counts where the text says none.
    pub looped: Option<Loop>,
}

impl Heard {
    /// Of what stands inside a file.
    pub fn with(self, inside: Option<&Sampler>) -> Self {
        Self {
            looped: inside.and_then(|inside| inside.looped),
            ..self
        }
    }
}

/// What lies beside an SFZ, by paths from the folder that was brought, with `/`.
pub trait Brought {
    /// Another text.
    fn text(&self, path: &str) -> Option<Vec<u8>>;
    /// An audio file, under the name that it has there: letters may be small or large otherwise.
    fn audio(&self, path: &str) -> Option<(String, Heard)>;
}

/// One text, and audio files by their very names.
impl<F: Fn(&str) -> Option<Heard>> Brought for F {
    fn text(&self, _: &str) -> Option<Vec<u8>> {
        None
    }

    fn audio(&self, path: &str) -> Option<(String, Heard)> {
        Some((path.to_owned(), self(path)?))
    }
}

/// What was read.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SfzRead {
    /// The instrument.
    pub program: Program,
    /// Audio files that are not there, or cannot be read, with how many regions play them: those are left out.
    pub missing: BTreeMap<String, usize>,
    /// Words that are not understood, with how many regions have them: they are kept there, see [`Region::foreign`].
    pub foreign: BTreeMap<String, usize>,
}

/// Reads an SFZ that lies in a folder of what was brought (empty for the outermost).
///
/// # Errors
/// Where a text that it includes is missing, a number is none, or nothing at all would sound, with a sentence.
pub fn read_sfz(document: &Document, folder: &str, brought: &impl Brought) -> Result<SfzRead, FormatError> {
    let sections = document.sections(|path| brought.text(&path_within(folder, path)?))?;
    let first = document.text();
    let name = first.lines().next().and_then(|line| line.strip_prefix("//"));
    let mut reading = Reading {
        folder,
        brought,
        read: SfzRead {
            program: Program {
                name: name.unwrap_or("").trim().to_owned(),
                ..Program::default()
            },
            ..SfzRead::default()
        },
        curves: curves_of(&sections)?,
        control: Opcodes::new(),
        samples: HashMap::new(),
        strands: HashMap::new(),
        loops: Vec::new(),
        shapes: HashMap::new(),
        last_group: 0,
    };
    reading.sections(&sections)?;
    let SfzRead { program, missing, .. } = &reading.read;
    if program.regions.is_empty() {
        let why = match missing.keys().next() {
            Some(path) => format!("The sample «{path}» is not there."),
            None => "No sound is laid out in this SFZ.".to_owned(),
        };
        return Err(FormatError::Unreadable(why));
    }
    Ok(reading.read)
}

type Opcodes = HashMap<String, String>;

struct Reading<'a, B> {
    folder: &'a str,
    brought: &'a B,
    read: SfzRead,
    curves: Vec<(u64, Vec<CurvePoint>)>,
    /// What `<control>` says.
    control: Opcodes,
    /// By their paths in the text; `None` where they are missing.
    samples: HashMap<String, Option<usize>>,
    /// By the group that said its name, and by what is said of strands.
    strands: HashMap<(usize, String), StrandId>,
    /// The loop inside each sample's file.
    loops: Vec<Option<Loop>>,
    /// By what is said of shapes.
    shapes: HashMap<(StrandId, String), ShapeId>,
    /// The number of the last group that has a name of its own; 0 for none.
    last_group: usize,
}

/// What is said of something in words, in one text: the same text for the same.
fn told(all: &Opcodes, of: Of) -> String {
    let mut words: Vec<String> = (all.iter())
        .filter(|(word, _)| of_word(word) == of)
        .map(|(word, value)| format!("{word}={value}"))
        .collect();
    words.sort();
    words.join("\n")
}

impl<B: Brought> Reading<'_, B> {
    fn sections(&mut self, sections: &[Section]) -> Result<(), FormatError> {
        // What a header says holds for those under it.
        const LEVELS: [&str; 4] = ["global", "master", "group", "region"];
        let mut said: [Opcodes; 3] = Default::default();
        let mut groups = 0;
        for section in sections {
            let own = section.opcodes.iter().cloned();
            let own: Opcodes = own
                .map(|(word, value)| (super::words::usual(&word).to_owned(), value))
                .collect();
            let Some(level) = LEVELS.iter().position(|level| *level == section.header) else {
                if section.header == "control" {
                    self.control.extend(own);
                }
                continue;
            };
            if level < 3 {
                said[level] = own;
                for below in &mut said[level + 1..] {
                    below.clear();
                }
                groups += 1;
                self.last_group = 0;
                if said[2].contains_key("group_label") {
                    self.last_group = groups;
                    let group = said
                        .iter()
                        .flatten()
                        .map(|(w, v)| (w.clone(), v.clone()))
                        .collect();
                    self.strand(&group)?;
                }
                continue;
            }
            let all = said
                .iter()
                .flatten()
                .map(|(w, v)| (w.clone(), v.clone()))
                .chain(own);
            self.region(&all.collect())?;
        }
        Ok(())
    }

    /// The strand of what is said, and the shape that a region has for itself where it says another than that.
    fn strand(&mut self, all: &Opcodes) -> Result<(StrandId, Option<ShapeId>), FormatError> {
        let shape = told(all, Of::Shape);
        let named = (self.last_group, told(all, Of::Strand));
        if let Some(&strand) = self.strands.get(&named) {
            let of_strand = ShapeId(strand.0);
            let id = match self.shapes.get(&(strand, shape.clone())) {
                Some(&known) => known,
                None => self.add_shape(
                    ShapeId(OWN_SHAPES + self.shapes.len() as u64),
                    (strand, shape),
                    all,
                )?,
            };
            return Ok((strand, Some(id).filter(|id| *id != of_strand)));
        }
        let strand = StrandId(self.read.program.strands.len() as u64);
        self.add_shape(ShapeId(strand.0), (strand, shape), all)?;
        self.read.program.strands.push(strand_of(all, strand.0)?);
        self.strands.insert(named, strand);
        Ok((strand, None))
    }

    fn add_shape(
        &mut self,
        id: ShapeId,
        named: (StrandId, String),
        all: &Opcodes,
    ) -> Result<ShapeId, FormatError> {
        let shape = shape_of(id, all, &self.curves, &mut self.read.program)?;
        self.read.program.shapes.push(shape);
        self.shapes.insert(named, id);
        Ok(id)
    }

    fn region(&mut self, all: &Opcodes) -> Result<(), FormatError> {
        let mut all = all.clone();
        self.shift_keys(&mut all)?;
        // It says that it is not to sound.
        if all.get("end").is_some_and(|end| end.trim() == "-1") {
            return Ok(());
        }
        let Some((sample, inside)) = self.sample(&all) else {
            return Ok(());
        };
        let (strand, shape) = self.strand(&all)?;
        let chosen_by = chosen_by(&all, &mut self.read.program)?;
        let program = &self.read.program;
        let key = RegionKey {
            strand,
            of: RegionOf::Own(program.regions_of(strand).count() as u64),
        };
        let id = shape.or_else(|| Some(program.strand(strand)?.shape));
        let sounds = program.shapes.iter().find(|shape| Some(shape.id) == id);
        let mut region = region_of(&all, program.samples[sample].frames, inside, sounds)?;
        region.sample = sample;
        (region.key, region.shape, region.when.chosen_by) = (key, shape, chosen_by);
        let mut foreign: Vec<Foreign> = (all.iter())
            .filter(|(word, _)| of_word(word) == Of::Nothing)
            .map(|(word, value)| Foreign {
                word: word.clone(),
                value: value.clone(),
            })
            .collect();
        foreign.sort_by(|a, b| a.word.cmp(&b.word));
        for one in &foreign {
            *self.read.foreign.entry(one.word.clone()).or_default() += 1;
        }
        region.foreign = foreign;
        self.read.program.regions.push(region);
        Ok(())
    }

    /// Keys as `<control>` moves them.
    fn shift_keys(&self, all: &mut Opcodes) -> Result<(), FormatError> {
        const KEYS: [&str; 8] = [
            "key",
            "lokey",
            "hikey",
            "pitch_keycenter",
            "sw_lokey",
            "sw_hikey",
            "sw_last",
            "sw_down",
        ];
        let by = number_of(&self.control, "note_offset", 0.0)?
            + 12.0 * number_of(&self.control, "octave_offset", 0.0)?;
        if by != 0.0 {
            for word in KEYS {
                if all.contains_key(word) {
                    let key = number_of(all, word, 0.0)? + by;
                    all.insert(word.to_owned(), key.to_string());
                }
            }
        }
        Ok(())
    }

    /// The sample that is played, and the loop inside its file; what is missing is noted.
    fn sample(&mut self, all: &Opcodes) -> Option<(usize, Option<Loop>)> {
        let said = all.get("sample")?;
        let before = self.control.get("default_path").map_or("", String::as_str);
        let path = format!("{before}{said}");
        let known = self.samples.get(&path).copied();
        let index = known.unwrap_or_else(|| {
            let found = path_within(self.folder, &path).and_then(|path| self.brought.audio(&path));
            found.map(|(source, heard)| self.add_sample(source, heard))
        });
        self.samples.insert(path.clone(), index);
        if index.is_none() {
            *self.read.missing.entry(path.replace('\\', "/")).or_default() += 1;
        }
        let index = index?;
        Some((index, self.loops.get(index).copied().flatten()))
    }

    fn add_sample(&mut self, source: String, heard: Heard) -> usize {
        let samples = &mut self.read.program.samples;
        if let Some(same) = samples.iter().position(|sample| sample.source == source) {
            return same;
        }
        let name = source.rsplit('/').next().unwrap_or(&source);
        let name = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned();
        samples.push(Sample {
            id: SampleId(samples.len() as u64),
            name,
            source,
            rate_hz: heard.rate_hz,
            first_channel: 0,
            source_channels: heard.channels,
            channels: heard.channels,
            frames: heard.frames,
        });
        self.loops.push(heard.looped);
        samples.len() - 1
    }
}

/// Shapes of regions are numbered from here on.
const OWN_SHAPES: u64 = 1 << 20;

fn shape_of(
    id: ShapeId,
    group: &Opcodes,
    curves: &[(u64, Vec<CurvePoint>)],
    program: &mut Program,
) -> Result<Shape, FormatError> {
    let driving = read_driven(group, curves, program)?;
    let ms = |name: &str, default: f64| {
        Ok::<f64, FormatError>((number_of(group, name, default)? * 1000.0).round())
    };
    Ok(Shape {
        id,
        loudness: Loudness {
            delay_ms: ms("ampeg_delay", 0.0)?,
            attack_ms: ms("ampeg_attack", 0.0)?,
            hold_ms: ms("ampeg_hold", 0.0)?,
            decay_ms: ms("ampeg_decay", 0.0)?,
            sustain_db: sustain_db_of(number_of(group, "ampeg_sustain", 100.0)?),
            release_ms: ms("ampeg_release", 0.0)?,
            velocity_to_level: (number_of(group, "amp_veltrack", 100.0)? * 10.0).round() / 1000.0,
            bends: [0.0; 3],
        },
        courses: driving.courses,
        filter: driving.filter,
        movements: driving.movements,
        routes: driving.routes,
    })
}

/// A set of regions that start on the same, with a number.
fn strand_of(group: &Opcodes, number: u64) -> Result<Strand, FormatError> {
    let name = group.get("group_label").cloned();
    let entered = controllers_of(group, "on_")?.into_iter().next();
    Ok(Strand {
        on: match group.get("trigger").map(String::as_str) {
            _ if entered.is_some() => entered.map_or(On::KEY_DOWN, On::Enters),
            Some("release") => On::KeyUp {
                pedal_holds: true,
                fall_db_per_s: number_of(group, "rt_decay", 0.0)?,
            },
            Some("first") => On::KeyDown(Among::First),
            Some("legato") => On::KeyDown(Among::Legato),
            _ => On::KEY_DOWN,
        },
        voices: Voices {
            bend: bend_of(group)?,
            most: (group.get("polyphony"))
                .map(|_| number_of(group, "polyphony", 1.0).map(|most| most.clamp(1.0, 65_535.0) as u16))
                .transpose()?,
            same_key: if number_of(group, "note_polyphony", 0.0)? == 1.0 {
                SameKey::Cuts
            } else {
                SameKey::Rings
            },
            ..Voices::default()
        },
        ..Strand::new(
            StrandId(number),
            name.unwrap_or_else(|| format!("Strand {}", number + 1)),
            ShapeId(number),
        )
    })
}

/// How far the bend reaches, in cents up and, below 0, down; `None` where it is two keys each way, as it is where nothing is said.
fn bend_of(group: &Opcodes) -> Result<Option<BendKeys>, FormatError> {
    let keys = |name: &str, default: f64| {
        Ok::<u8, FormatError>((number_of(group, name, default)? / 100.0).round().abs().min(48.0) as u8)
    };
    let bend = BendKeys {
        up: keys("bend_up", 100.0 * f64::from(BEND_KEYS.up))?,
        down: keys("bend_down", -100.0 * f64::from(BEND_KEYS.down))?,
    };
    Ok(Some(bend).filter(|bend| *bend != BEND_KEYS))
}

/// Which controllers have to stand where, by the words `locc` and `hicc` after another.
fn controllers_of(all: &Opcodes, word: &str) -> Result<Vec<Within>, FormatError> {
    let number = |name: &String| {
        const FADES: [&str; 3] = ["xfin_", "xfout_", ""];
        let rest = name.strip_prefix(word)?;
        let rest = FADES.into_iter().find_map(|fade| rest.strip_prefix(fade))?;
        let named = rest.strip_prefix("locc").or_else(|| rest.strip_prefix("hicc"))?;
        named.parse::<u8>().ok().filter(|number| *number < 128)
    };
    let numbers: BTreeSet<u8> = all.keys().filter_map(number).collect();
    let within = |number: u8| {
        let mut span = span_of(all, &format!("cc{number}"), "cc", 0.0, 127.0)?;
        span.low = step_of(all, &format!("{word}locc{number}"), 0.0)?;
        span.high = step_of(all, &format!("{word}hicc{number}"), 127.0)?;
        Ok(Within {
            source: Source::Controller(number),
            span,
        })
    };
    numbers.into_iter().map(within).collect()
}

/// The key that chooses a region: switches are those that differ in their keys.
fn chosen_by(all: &Opcodes, program: &mut Program) -> Result<Option<ChosenBy>, FormatError> {
    let has = |word: &&str| all.contains_key(*word);
    let Some(word) = ["sw_last", "sw_down"].into_iter().find(has) else {
        return Ok(None);
    };
    let key = step_of(all, word, 0.0)?;
    let low_key = step_of(all, "sw_lokey", f64::from(key))?;
    let high_key = step_of(all, "sw_hikey", f64::from(key))?;
    let at_first = step_of(all, "sw_default", f64::from(low_key))?;
    let same = |switch: &&Switch| {
        (switch.low_key, switch.high_key, switch.at_first) == (low_key, high_key, at_first)
    };
    let found = program.switches.iter().find(same).map(|switch| switch.id);
    let switch = found.unwrap_or_else(|| {
        let number = program.switches.len() as u64;
        program.switches.push(Switch {
            id: SwitchId(number),
            name: format!("Switch {}", number + 1),
            low_key,
            high_key,
            at_first,
        });
        SwitchId(number)
    });
    Ok(Some(ChosenBy {
        switch,
        low_key: key,
        high_key: key,
        stays: if word == "sw_last" {
            Stays::Latched
        } else {
            Stays::Held
        },
    }))
}

/// A group, as a number.
fn group_of(all: &Opcodes, word: &str) -> Result<Option<u32>, FormatError> {
    let of = |_: &String| number_of(all, word, 0.0).map(|number| number as u32);
    all.get(word).map(of).transpose()
}

/// The keys or velocities of a region, from `low` to `high` where nothing is said.
fn span_of(all: &Opcodes, of: &str, kind: &str, low: f64, high: f64) -> Result<Span, FormatError> {
    let fade = |word: &str| {
        let has = all.contains_key(&format!("{word}_lo{of}")) || all.contains_key(&format!("{word}_hi{of}"));
        let (from, to) = (
            step_of(all, &format!("{word}_lo{of}"), low)?,
            step_of(all, &format!("{word}_hi{of}"), high)?,
        );
        Ok::<_, FormatError>(has.then_some(Fade { from, to }))
    };
    Ok(Span {
        low: step_of(all, &format!("lo{of}"), low)?.max(low.min(1.0) as u8),
        high: step_of(all, &format!("hi{of}"), high)?,
        fade_in: fade("xfin")?,
        fade_out: fade("xfout")?,
        law: match all.get(&format!("xf_{kind}curve")).map(String::as_str) {
            Some("gain") => FadeLaw::Linear,
            _ => FadeLaw::Power,
        },
    })
}

fn turn_of(all: &Opcodes) -> Result<Turn, FormatError> {
    if all.contains_key("lorand") || all.contains_key("hirand") {
        return Ok(Turn::Random {
            from: number_of(all, "lorand", 0.0)?,
            to: number_of(all, "hirand", 1.0)?,
        });
    }
    let of = number_of(all, "seq_length", 1.0)? as u16;
    let place = (number_of(all, "seq_position", 1.0)? as u16).saturating_sub(1);
    Ok(if of > 1 {
        Turn::InOrder { place, of }
    } else {
        Turn::Always
    })
}

/// A step of MIDI, 0 to 127, or a note's name.
fn step_of(all: &Opcodes, name: &str, default: f64) -> Result<u8, FormatError> {
    Ok(number_of(all, name, default)?.clamp(0.0, 127.0) as u8)
}

/// What is said of a region whose file has so many frames, and perhaps a loop inside.
fn region_of(
    all: &Opcodes,
    frames: u64,
    inside: Option<Loop>,
    shape: Option<&Shape>,
) -> Result<Region, FormatError> {
    let own = all.get("key").is_some();
    let centre = f64::from(step_of(all, "key", 60.0)?);
    let (low, high) = if own { (centre, centre) } else { (0.0, 127.0) };
    // Where no mode is given, the loop of the file is used.
    let runs = match all.get("loop_mode").map(String::as_str) {
        Some("loop_sustain") => Some(LoopRuns::WhileHeld),
        Some("loop_continuous") => Some(LoopRuns::ThroughRelease),
        None => inside.map(|_| LoopRuns::ThroughRelease),
        Some(_) => None,
    };
    let (first, last) = inside.map_or((0.0, frames as f64 - 1.0), |inside| {
        (inside.start_frame as f64, inside.end_frame as f64 - 1.0)
    });
    let (first, last) = (
        number_of(all, "loop_start", first)?.max(0.0) as u64,
        number_of(all, "loop_end", last)?.max(0.0) as u64,
    );
    let looped = runs
        .map(|runs| Loop::plain(first, last.saturating_add(1), runs))
        .filter(|looped| looped.fits(frames));
    let tune = number_of(all, "tune", 0.0)? + 100.0 * number_of(all, "transpose", 0.0)?;
    Ok(Region {
        when: When {
            turn: turn_of(all)?,
            sources: controllers_of(all, "")?,
            ..When::on(
                span_of(all, "key", "key", low, high)?,
                span_of(all, "vel", "vel", 1.0, 127.0)?,
            )
        },
        root_key: step_of(all, "pitch_keycenter", centre)?,
        key_follow: number_of(all, "pitch_keytrack", 100.0)? / 100.0,
        recording_cents: if tune == 0.0 { 0.0 } else { -tune },
        tune_cents: 0.0,
        gain_db: ((number_of(all, "volume", 0.0)? + level_offset_db(shape)) * 100.0).round() / 100.0,
        pan: number_of(all, "pan", 0.0)? / 100.0,
        start_frame: number_of(all, "offset", 0.0)? as u64,
        end_frame: all
            .get("end")
            .map_or(Ok(frames), |_| {
                number_of(all, "end", 0.0).map(|end| end as u64 + 1)
            })?
            .min(frames),
        looped,
        to_end: all.get("loop_mode").is_some_and(|mode| mode == "one_shot"),
        cut: Cut {
            group: group_of(all, "group")?,
            by: group_of(all, "off_by")?,
            fade_ms: 0,
        },
        ..Region::whole(0, 60, frames)
    })
}
