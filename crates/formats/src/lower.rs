//! From what is heard to what a format can hold.

mod asked;
mod audio;
mod names;
mod page;
mod written;

use crate::controls::ByControllers;
use crate::driven::lower_driving;
use crate::losses::{Holds, losses};
use crate::{AudioForm, Bake, sf2};
use asked::{controllers_of, lowered_event, meet, turn_of_both};
use audio::{Audio, Samples};
pub use names::clean_name;
use program::{
    BEND_KEYS, ChosenBy, Cut, FadeCurve, Program, Region, RegionKey, RegionOf, SameKey, Sample, Shape,
    ShapeId, Standing, Strand, StrandId, Switch, SwitchId, Voices, When, cut_of, level_db, pan_of,
};
use serde::{Deserialize, Serialize};
use signal::amplitude_to_db;
use std::collections::HashMap;
use written::{lowered_loudness, tenths};
pub(crate) use written::{sustain_db_of, sustain_percent};

/// A format to export to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// SFZ with WAV files beside it.
    Sfz,
    /// SoundFont 2.04.
    SoundFont2,
    /// A page that plays: our own engine and panel, with FLAC files in pieces.
    Page,
}

/// Something that the format cannot hold, and what is written instead.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Loss {
    /// A sentence.
    pub what: String,
    /// Regions it concerns.
    pub regions: usize,
}

/// A program that a format can hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Lowered {
    /// What reading the export back gives.
    pub program: Program,
    /// How each of its samples is made.
    pub bakes: Vec<Bake>,
    /// The region of the original that each of its regions was made from, by its place.
    pub regions_from: Vec<usize>,
    /// What was lost.
    pub losses: Vec<Loss>,
}

/// The highest `volume` of SFZ, version 1.
const SFZ_MOST_DB: f64 = 6.0;

/// In hundredths, as an SFZ says decibels.
fn hundredths(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

/// What a level is over the most that a format says, in dB: that is in the samples.
fn over_db(gain_db: f64, most_db: f64) -> f64 {
    (hundredths(gain_db) - most_db).max(0.0)
}

/// Stands for sounding on whatever the key does: the longest release of a SoundFont (2.04, section 8.1.2: 8,000 timecents, about 100 s).
const ON_AND_ON_MS: f64 = 100_000.0;

/// Lowers a program: trims, fades and crossfades are baked into the audio; tuning is rounded to whole cents; and what
/// the format has no word for is left out and named.
pub fn lower(program: &Program, format: Format) -> Lowered {
    lower_in(program, format, AudioForm::default())
}

/// The same with audio in a form that is asked for: loops move with the rate, and go round in a whole number of frames.
pub fn lower_in(program: &Program, format: Format, form: AudioForm) -> Lowered {
    lower_among(program, format, form, form.narrow_db(std::iter::once(program)))
}

/// The same among others: what has one side is lowered by so much.
pub(crate) fn lower_among(program: &Program, format: Format, form: AudioForm, narrow_db: f64) -> Lowered {
    if format == Format::Page {
        return page::lowered(program, form, narrow_db);
    }
    let ByControllers { program, still } = &ByControllers::of(program, format);
    let holds = Holds::of(program, format, form, still);
    let mut lowering = Lowering {
        program,
        format,
        form,
        narrow_db,
        lowered: Program {
            name: clean_name(&program.name),
            credits: program.credits.clone(),
            licence: program.licence.clone(),
            controls: program.controls.clone(),
            controllers_at_first: program.controllers_at_first.clone(),
            ..Program::default()
        },
        audio: Samples::default(),
        regions_from: Vec::new(),
        strands: HashMap::new(),
    };
    for strand in program.strands.iter().filter(|strand| holds.strand(strand)) {
        for shape in shapes_of(program, strand) {
            lowering.strand(strand, shape);
        }
    }
    let mut regions: Vec<(StrandId, usize)> = (program.regions.iter().enumerate())
        .filter(|(_, region)| holds.region(region))
        .filter_map(|(place, region)| {
            let strand = lowering.strands.get(&(region.key.strand, region.shape))?;
            Some((*strand, place))
        })
        .collect();
    regions.sort_by_key(|(strand, _)| *strand);
    for (strand, place) in regions {
        lowering.region(place, strand);
    }
    if format == Format::SoundFont2 {
        sf2::share_first_shapes(&mut lowering.lowered);
    }
    let Samples { samples, bakes, .. } = lowering.audio;
    Lowered {
        program: Program {
            samples,
            ..lowering.lowered
        },
        bakes,
        regions_from: lowering.regions_from,
        losses: losses(&holds),
    }
}

/// Strands, samples and regions are numbered in the order of the file.
struct Lowering<'a> {
    program: &'a Program,
    format: Format,
    form: AudioForm,
    /// What has one side is lowered by this.
    narrow_db: f64,
    lowered: Program,
    audio: Samples,
    regions_from: Vec<usize>,
    /// By what they are of, and by the shape of their own that regions have.
    strands: HashMap<(StrandId, Option<ShapeId>), StrandId>,
}

/// `None` for the strand's own shape, and each that regions of it have for themselves: formats say shapes of strands.
fn shapes_of(program: &Program, strand: &Strand) -> Vec<Option<ShapeId>> {
    let of_regions = program.regions_of(strand.id).map(|region| region.shape);
    let mut all: Vec<Option<ShapeId>> = Vec::new();
    for shape in of_regions {
        if !all.contains(&shape) {
            all.push(shape);
        }
    }
    // The strand's own comes first.
    all.sort_by_key(Option::is_some);
    if all.is_empty() { vec![None] } else { all }
}

impl Lowering<'_> {
    fn is_soundfont(&self) -> bool {
        self.format == Format::SoundFont2
    }

    /// What it asks for and sounds like beside its regions is said of each of them.
    fn strand(&mut self, strand: &Strand, own: Option<ShapeId>) {
        let number = self.lowered.strands.len() as u64;
        self.strands.insert((strand.id, own), StrandId(number));
        let named = own.unwrap_or(strand.shape);
        let shape = self.program.shapes.iter().find(|shape| shape.id == named);
        let shape = shape.cloned().unwrap_or_default();
        let (mut driving, _) = lower_driving(self.program, &shape, self.format);
        // Curves are numbered through the whole file.
        let first = self.lowered.curves.len() as u64;
        for curve in &mut driving.curves {
            curve.id.0 += first;
        }
        for curve in driving.routes.iter_mut().filter_map(|route| route.curve.as_mut()) {
            curve.0 += first;
        }
        self.lowered.curves.append(&mut driving.curves);
        let shape = Shape {
            id: ShapeId(number),
            loudness: lowered_loudness(shape.loudness, &strand.on, self.format),
            courses: driving.courses,
            filter: driving.filter,
            movements: driving.movements,
            routes: driving.routes,
        };
        // A SoundFont counts in units of its own: what is heard is what is read from it again.
        let shape = if self.is_soundfont() {
            sf2::as_read(&shape)
        } else {
            shape
        };
        self.lowered.shapes.push(shape);
        let name = clean_name(&strand.name);
        self.lowered.strands.push(Strand {
            on: lowered_event(&strand.on, self.is_soundfont()),
            voices: Voices {
                bend: (strand.voices.bend).filter(|bend| *bend != BEND_KEYS && !self.is_soundfont()),
                most: strand.voices.most.filter(|_| !self.is_soundfont()),
                same_key: if self.is_soundfont() {
                    SameKey::Rings
                } else {
                    // It has no voice that is shared: of a key struck again the one before ends.
                    match strand.voices.same_key {
                        SameKey::Rings => SameKey::Rings,
                        SameKey::Cuts | SameKey::Shares => SameKey::Cuts,
                    }
                },
                ..Voices::default()
            },
            ..Strand::new(StrandId(number), name, ShapeId(number))
        });
    }

    fn region(&mut self, place: usize, strand: StrandId) {
        let program = self.program;
        let region = &program.regions[place];
        let Some(sample) = program.samples.get(region.sample) else {
            return;
        };
        let (gain_db, baked_db) = self.gain(region, sample, strand);
        let Some(audio) = Audio::of(program, region, sample, (self.format, self.form), baked_db) else {
            return;
        };
        let (frames, written) = (audio.frames, audio.looped);
        let number = self.audio.number_of(sample, audio.bake, frames);
        let mut key_follow = (region.key_follow * 100.0).round() / 100.0;
        if self.is_soundfont() {
            // Section 8.1.2, scaleTuning: 0 to 1,200 cents for a key.
            key_follow = key_follow.clamp(0.0, 12.0);
        }
        let (root_key, recording_cents) = self.root(region, key_follow, audio.lower_by_cents);
        let when = self.when(region);
        let mut pan = (pan_of(program, region) * 100.0).round() / 100.0;
        if self.is_soundfont() && self.audio.samples[number].channels > 1 {
            pan = sf2::pan_of_two_sides(pan);
        }
        let shape = (self.is_soundfont() && region.to_end).then(|| self.on_and_on(strand));
        self.regions_from.push(place);
        self.lowered.regions.push(Region {
            key: RegionKey {
                strand,
                of: RegionOf::Own(self.lowered.regions_of(strand).count() as u64),
            },
            sample: number,
            when,
            key_follow,
            shape,
            root_key,
            recording_cents,
            tune_cents: 0.0,
            gain_db,
            pan,
            start_frame: 0,
            end_frame: frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            looped: written,
            to_end: region.to_end && !self.is_soundfont(),
            cut: self.cut(region),
            sends: Vec::new(),
            foreign: if self.is_soundfont() {
                Vec::new()
            } else {
                region.foreign.clone()
            },
        });
    }

    /// Level as it is written, and what is over that.
    fn gain(&self, region: &Region, sample: &Sample, strand: StrandId) -> (f64, f64) {
        let narrow_db = if sample.channels == 1 { self.narrow_db } else { 0.0 };
        let mut gain_db = level_db(self.program, region) - narrow_db;
        if self.is_soundfont() {
            // Where controllers stand at first, they stay.
            let standing = Standing::of(self.program);
            let faded = standing.gain(self.program.sources_of(region));
            gain_db += amplitude_to_db(faded);
        }
        // What a player takes away by itself is given to it.
        let mut taken_db = 0.0;
        let gain_db = if self.is_soundfont() {
            let shape = self.lowered.shapes.iter().find(|shape| shape.id.0 == strand.0);
            taken_db = sf2::taken_by_resonance(shape.and_then(|shape| shape.filter.as_ref()));
            tenths(gain_db + taken_db).max(-144.0)
        } else {
            hundredths(gain_db)
        };
        // A SoundFont only attenuates (2.04, section 8.1.2, initialAttenuation); SFZ's `volume` ends at +6 dB. What is over is in the samples.
        let most_db = if self.is_soundfont() { 0.0 } else { SFZ_MOST_DB };
        let baked_db = over_db(gain_db, most_db);
        (gain_db - baked_db - taken_db, baked_db)
    }

    /// Whole cents in −50..50, the rest in the root; where the pitch does not follow the key as usual, its root is where it was.
    fn root(&self, region: &Region, key_follow: f64, lower_by_cents: f64) -> (u8, f64) {
        let of_strand = self.program.strand_of(region).map_or(0.0, |strand| {
            100.0 * f64::from(strand.transpose_keys) + strand.tune_cents
        });
        let cents = (region.recording_cents - lower_by_cents - region.tune_cents - of_strand).round();
        let above = cents + f64::from(region.root_key) * 100.0;
        let root = if key_follow == 1.0 {
            (above / 100.0).round().clamp(0.0, 127.0)
        } else {
            f64::from(region.root_key)
        };
        (root as u8, above - root * 100.0)
    }

    /// A shape of a strand whose sound does not end with its key.
    fn on_and_on(&mut self, strand: StrandId) -> ShapeId {
        let like = self.lowered.shapes.iter().find(|shape| shape.id.0 == strand.0);
        let mut shape = like.cloned().unwrap_or_default();
        shape.loudness.release_ms = sf2::ms_of(sf2::timecents(ON_AND_ON_MS));
        let first = self.strands.len() as u64;
        for same in self.lowered.shapes.iter().filter(|other| other.id.0 >= first) {
            shape.id = same.id;
            if *same == shape {
                return same.id;
            }
        }
        shape.id = ShapeId(self.lowered.shapes.len() as u64);
        let id = shape.id;
        self.lowered.shapes.push(shape);
        id
    }

    /// A SoundFont's class ends what is of the same (2.04, section 8.1.2, exclusiveClass), 1 to 127; neither format fades.
    fn cut(&self, region: &Region) -> Cut {
        let cut = cut_of(self.program, region);
        let fits = !self.is_soundfont() || Holds::class_holds(cut);
        if fits {
            Cut { fade_ms: 0, ..cut }
        } else {
            Cut::default()
        }
    }

    /// What region and strand ask for together, as far as the format can say it.
    fn when(&mut self, region: &Region) -> When {
        let of_strand = self
            .program
            .strand_of(region)
            .map_or(When::ALWAYS, |strand| strand.when.clone());
        let keys = meet(region.when.keys, of_strand.keys);
        let strikes = meet(region.when.strikes, of_strand.strikes);
        if self.is_soundfont() {
            return When::on(keys.without_fades(), strikes.without_fades());
        }
        let chosen_by = region.when.chosen_by.as_ref().or(of_strand.chosen_by.as_ref());
        When {
            turn: turn_of_both(of_strand.turn, region.when.turn),
            sources: controllers_of(of_strand.sources.iter().chain(&region.when.sources)),
            chosen_by: chosen_by.and_then(|by| self.chosen_by(by)),
            ..When::on(keys, strikes)
        }
    }

    /// SFZ knows one key at a time, and a switch by its keys.
    fn chosen_by(&mut self, by: &ChosenBy) -> Option<ChosenBy> {
        let switch = self
            .program
            .switches
            .iter()
            .find(|switch| switch.id == by.switch)?;
        let keys = |switch: &Switch| (switch.low_key, switch.high_key, switch.at_first);
        let found = self
            .lowered
            .switches
            .iter()
            .position(|other| keys(other) == keys(switch));
        let number = found.unwrap_or_else(|| {
            let number = self.lowered.switches.len();
            self.lowered.switches.push(Switch {
                id: SwitchId(number as u64),
                name: format!("Switch {}", number + 1),
                ..switch.clone()
            });
            number
        });
        Some(ChosenBy {
            switch: SwitchId(number as u64),
            high_key: by.low_key,
            ..*by
        })
    }
}
