//! Reading.

use super::Opcodes;
use super::document::{Document, Section, path_within};
use super::driven::curves_of;
use super::numbers::number_of;
use super::regions::{chosen_by, region_of};
use super::strands::{shape_of, strand_of};
use super::words::{Of, of_word};
use super::write::{CREDITS, LICENCE};
use crate::FormatError;
use crate::wav::Sampler;
use program::{
    Control, ControlId, ControllerAtFirst, CurvePoint, Foreign, Loop, Program, RegionKey, RegionOf, Sample,
    SampleId, ShapeId, StrandId,
};
use std::collections::{BTreeMap, HashMap};

/// What is known of an audio file that lies beside an SFZ.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct FileFacts {
    /// Frames per second.
    pub rate_hz: u32,
    /// Sides.
    pub channels: u16,
    /// Length.
    pub frames: u64,
    /// The loop that it has inside: it counts where the text says none.
    pub looped: Option<Loop>,
}

impl FileFacts {
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
    fn audio(&self, path: &str) -> Option<(String, FileFacts)>;
}

/// One text, and audio files by their very names.
impl<F: Fn(&str) -> Option<FileFacts>> Brought for F {
    fn text(&self, _: &str) -> Option<Vec<u8>> {
        None
    }

    fn audio(&self, path: &str) -> Option<(String, FileFacts)> {
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
                credits: lines_after(&first, CREDITS),
                licence: lines_after(&first, LICENCE),
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
    reading.controllers()?;
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

/// What stands behind a beginning of lines, before anything but remarks is said.
fn lines_after(text: &str, head: &str) -> String {
    let remarks = text.lines().take_while(|line| line.starts_with("//"));
    let lines: Vec<&str> = remarks.filter_map(|line| line.strip_prefix(head)).collect();
    lines.join("\n")
}

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

    /// Controllers that `<control>` gives a name become controls, in their order; where the others stand at first.
    fn controllers(&mut self) -> Result<(), FormatError> {
        let program = &mut self.read.program;
        for controller in 0u8..120 {
            let set = format!("set_cc{controller}");
            let first = (self.control.contains_key(&set))
                .then(|| number_of(&self.control, &set, 0.0))
                .transpose()?
                .map(|step| (step / 127.0).clamp(0.0, 1.0));
            let first = match self.control.get(&format!("set_hdcc{controller}")) {
                Some(_) => {
                    Some(number_of(&self.control, &format!("set_hdcc{controller}"), 0.0)?.clamp(0.0, 1.0))
                }
                None => first,
            };
            let name = self.control.get(&format!("label_cc{controller}"));
            if let Some(name) = name.map(|name| name.trim()).filter(|name| !name.is_empty()) {
                program.controls.push(Control {
                    id: ControlId(program.controls.len() as u64),
                    name: name.to_owned(),
                    at_first: first.unwrap_or(0.0),
                    controller: Some(controller),
                });
            } else if let Some(value) = first {
                program
                    .controllers_at_first
                    .push(ControllerAtFirst { controller, value });
            }
        }
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

    fn add_sample(&mut self, source: String, heard: FileFacts) -> usize {
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
