//! From what is heard to what a format can hold.

mod asked;

use crate::driven::lower_driving;
use crate::losses::{Holds, losses};
use crate::{Bake, Rounds, sf2};
use asked::{controllers_of, lowered_event, meet, turn_of_both};
use program::{
    BEND_KEYS, ChosenBy, Cut, FadeCurve, Loop, LoopRuns, LoopWay, Loudness, On, Program, Region, RegionKey,
    RegionOf, SameKey, Sample, SampleId, Shape, ShapeId, Standing, Strand, StrandId, Switch, SwitchId,
    Voices, When, cut_of, level_db, pan_of,
};
use serde::{Deserialize, Serialize};
use signal::{amplitude_to_db, db_to_amplitude};
use std::collections::{HashMap, HashSet};

/// A format to export to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// SFZ with WAV files beside it.
    Sfz,
    /// SoundFont 2.04.
    SoundFont2,
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

/// Stands for sounding on whatever the key does: the longest release of a SoundFont (2.04, section 8.1.2: 8,000 timecents, about 100 s).
const ON_AND_ON_MS: f64 = 100_000.0;

/// Lowers a program: trims, fades and crossfades are baked into the audio; tuning is rounded to whole cents; and what
/// the format has no word for is left out and named.
pub fn lower(program: &Program, format: Format) -> Lowered {
    let holds = Holds::of(program, format);
    let mut lowering = Lowering {
        program,
        format,
        lowered: Program {
            name: clean_name(&program.name),
            credits: program.credits.clone(),
            licence: program.licence.clone(),
            ..Program::default()
        },
        bakes: Vec::new(),
        regions_from: Vec::new(),
        strands: HashMap::new(),
        names: HashSet::new(),
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
    Lowered {
        program: lowering.lowered,
        bakes: lowering.bakes,
        regions_from: lowering.regions_from,
        losses: losses(&holds),
    }
}

/// Strands, samples and regions are numbered in the order of the file.
struct Lowering<'a> {
    program: &'a Program,
    format: Format,
    lowered: Program,
    bakes: Vec<Bake>,
    regions_from: Vec<usize>,
    /// By what they are of, and by the shape of their own that regions have.
    strands: HashMap<(StrandId, Option<ShapeId>), StrandId>,
    names: HashSet<String>,
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
        let end_frame = region.end_frame.min(sample.frames);
        if region.start_frame >= end_frame {
            return;
        }
        let looped = self
            .program
            .loop_of(region)
            .filter(|l| l.fits(end_frame) && l.start_frame >= region.start_frame + l.crossfade_frames);
        let (gain_db, baked_db) = self.gain(region);
        let rounds = match looped {
            Some(looped) if self.is_soundfont() => {
                rounds_of_soundfont(&looped, region.start_frame, end_frame)
            }
            _ => Rounds::PLAIN,
        };
        let bake = Bake {
            sample: region.sample,
            start_frame: region.start_frame,
            end_frame,
            fade_in_frames: region.fade_in_frames,
            fade_out_frames: if looped.is_some() {
                0
            } else {
                region.fade_out_frames
            },
            fade_curve: region.fade_curve,
            looped,
            rounds,
            gain_db: baked_db,
        };
        let written = looped.map(|looped| written_loop(&looped, rounds, region.start_frame));
        // A way back is written out behind the loop, in place of what followed it.
        let frames = match (looped, written) {
            (Some(l), Some(written)) if rounds.after_frames == 0 && l.way == LoopWay::Forward => {
                written.end_frame + end_frame - l.end_frame
            }
            (_, Some(written)) => written.end_frame + rounds.after_frames,
            (_, None) => end_frame - region.start_frame,
        };
        let sample = self.sample(sample, bake, frames);
        let mut key_follow = (region.key_follow * 100.0).round() / 100.0;
        if self.is_soundfont() {
            // Section 8.1.2, scaleTuning: 0 to 1,200 cents for a key.
            key_follow = key_follow.clamp(0.0, 12.0);
        }
        let (root_key, recording_cents) = self.root(region, key_follow);
        let when = self.when(region);
        let mut pan = (pan_of(program, region) * 100.0).round() / 100.0;
        if self.is_soundfont() && self.lowered.samples[sample].channels > 1 {
            pan = sf2::pan_of_two_sides(pan);
        }
        let shape = (self.is_soundfont() && region.to_end).then(|| self.on_and_on(strand));
        self.regions_from.push(place);
        self.lowered.regions.push(Region {
            key: RegionKey {
                strand,
                of: RegionOf::Own(self.lowered.regions_of(strand).count() as u64),
            },
            sample,
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
    fn gain(&self, region: &Region) -> (f64, f64) {
        let mut gain_db = level_db(self.program, region);
        if self.is_soundfont() {
            // Where controllers stand at first, they stay.
            let standing = Standing::of(self.program);
            let faded = standing.gain(self.program.sources_of(region));
            gain_db += amplitude_to_db(faded);
        }
        let gain_db = if self.is_soundfont() {
            tenths(gain_db).max(-144.0)
        } else {
            (gain_db * 100.0).round() / 100.0
        };
        // A SoundFont only attenuates (2.04, section 8.1.2, initialAttenuation); SFZ's `volume` ends at +6 dB. What is over is in the samples.
        let most_db = if self.is_soundfont() { 0.0 } else { SFZ_MOST_DB };
        let baked_db = (gain_db - most_db).max(0.0);
        (gain_db - baked_db, baked_db)
    }

    /// The sample that is made in this way: regions that play the same share it.
    fn sample(&mut self, sample: &Sample, bake: Bake, frames: u64) -> usize {
        if let Some(same) = self.bakes.iter().position(|other| *other == bake) {
            return same;
        }
        self.bakes.push(bake);
        let name = unique(&mut self.names, &clean_name(&sample.name));
        self.lowered.samples.push(Sample {
            id: SampleId(self.lowered.samples.len() as u64),
            source: format!("samples/{name}.wav"),
            name,
            frames,
            first_channel: 0,
            source_channels: sample.channels,
            ..sample.clone()
        });
        self.lowered.samples.len() - 1
    }

    /// Whole cents in −50..50, the rest in the root; where the pitch does not follow the key as usual, its root is where it was.
    fn root(&self, region: &Region, key_follow: f64) -> (u8, f64) {
        let of_strand = self.program.strand_of(region).map_or(0.0, |strand| {
            100.0 * f64::from(strand.transpose_keys) + strand.tune_cents
        });
        let cents = (region.recording_cents - region.tune_cents - of_strand).round();
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

/// Frames that a SoundFont has of a loop at least, and before and after it (2.04, section 7.10).
const SOUNDFONT_LOOP_FRAMES: u64 = 32;
const SOUNDFONT_BESIDE_LOOP: u64 = 8;

/// How often a loop is written so that it is long enough for a SoundFont, and has enough beside it. What is heard after it is kept, where that is enough.
fn rounds_of_soundfont(looped: &Loop, start_frame: u64, end_frame: u64) -> Rounds {
    let round = looped.round_frames();
    let missing = SOUNDFONT_BESIDE_LOOP.saturating_sub(looped.start_frame - start_frame);
    let heard_after = looped.runs == LoopRuns::WhileHeld && looped.way == LoopWay::Forward;
    let is_kept = heard_after && end_frame - looped.end_frame >= SOUNDFONT_BESIDE_LOOP;
    Rounds {
        before: missing.div_ceil(round),
        inside: SOUNDFONT_LOOP_FRAMES.div_ceil(round),
        after_frames: if is_kept { 0 } else { SOUNDFONT_BESIDE_LOOP },
    }
}

/// Where a loop lies as it is written, in frames of what was trimmed.
fn written_loop(looped: &Loop, rounds: Rounds, start_frame: u64) -> Loop {
    let runs = if looped.runs_through_release() {
        LoopRuns::ThroughRelease
    } else {
        LoopRuns::WhileHeld
    };
    let first = looped.start_frame - start_frame + looped.round_frames() * rounds.before;
    Loop::plain(first, first + looped.round_frames() * rounds.inside, runs)
}

/// In the digits that are written. SFZ: whole milliseconds, sustain and the effect of velocity in thousandths. What a pedal starts has no strike that could make it softer.
fn lowered_loudness(loudness: Loudness, on: &On, format: Format) -> Loudness {
    let by_strike = if matches!(on, On::Enters(_)) {
        0.0
    } else {
        loudness.velocity_to_level
    };
    let whole = |ms: f64| ms.round().clamp(0.0, 100_000.0);
    if format == Format::SoundFont2 {
        // Timecents, centibels, and 960ths of the usual.
        let time = |ms: f64| sf2::ms_of(sf2::timecents(whole(ms)));
        return Loudness {
            delay_ms: time(loudness.delay_ms),
            attack_ms: time(loudness.attack_ms),
            hold_ms: time(loudness.hold_ms),
            decay_ms: time(loudness.decay_ms),
            sustain_db: tenths(loudness.sustain_db).clamp(-144.0, 0.0),
            release_ms: time(loudness.release_ms),
            velocity_to_level: (by_strike * 960.0).round() / 960.0,
            bends: [0.0; 3],
        };
    }
    Loudness {
        delay_ms: whole(loudness.delay_ms),
        attack_ms: whole(loudness.attack_ms),
        hold_ms: whole(loudness.hold_ms),
        decay_ms: whole(loudness.decay_ms),
        sustain_db: sustain_db_of(sustain_percent(loudness.sustain_db)),
        release_ms: whole(loudness.release_ms),
        velocity_to_level: (by_strike * 1000.0).round() / 1000.0,
        bends: [0.0; 3],
    }
}

fn tenths(value: f64) -> f64 {
    let rounded = (value * 10.0).round() / 10.0;
    // Of nothing there is one kind.
    if rounded == 0.0 { 0.0 } else { rounded }
}

/// Sustain as SFZ writes it, in thousandths of a percent of amplitude.
pub(crate) fn sustain_percent(db: f64) -> f64 {
    (db_to_amplitude(db.min(0.0)) * 100_000.0).round() / 1000.0
}

pub(crate) fn sustain_db_of(percent: f64) -> f64 {
    if percent >= 100.0 {
        0.0
    } else {
        signal::amplitude_to_db((percent / 100.0).max(1e-5))
    }
}

/// A name that every file system and both formats take: what is a separator or a control becomes a low line.
pub fn clean_name(name: &str) -> String {
    let plain: String = name
        .replace('♯', "#")
        .replace('♭', "b")
        .chars()
        .map(|c| {
            if c.is_control() || "/\\:*?\"<>|=$".contains(c) {
                '_'
            } else {
                c
            }
        })
        .collect();
    let plain = plain.trim().trim_matches('.').to_owned();
    if plain.is_empty() {
        "unnamed".to_owned()
    } else {
        plain
    }
}

fn unique(taken: &mut HashSet<String>, name: &str) -> String {
    let mut candidate = name.to_owned();
    let mut n = 2;
    while !taken.insert(candidate.to_lowercase()) {
        candidate = format!("{name} {n}");
        n += 1;
    }
    candidate
}
