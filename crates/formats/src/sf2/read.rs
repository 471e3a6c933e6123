//! A preset of a SoundFont as a program.

use super::file::{Modulator, Said};
use super::*;
use crate::FormatError;
use program::{
    Course, CourseId, CourseTime, Cut, Filter, Loop, LoopRuns, Loudness, Movement, MovementId, ParamId,
    Passes, Program, Rate, Region, RegionKey, RegionOf, Route, RouteId, SampleId, Shape, ShapeId, Source,
    Span, Strand, StrandId, Wave, When, pan_gains,
};
use std::collections::{BTreeMap, HashMap};
use std::io::{Read, Seek};

/// Shapes of regions are numbered from here on.
const OWN_SHAPES: u64 = 1 << 20;
/// Where a filter is as good as open, in absolute cents (section 8.1.2, initialFilterFc).
const OPEN_CENTS: i32 = 13_500;
/// The courses and movements of a shape, by their numbers.
const COURSE: CourseId = CourseId(1);
const LFO: MovementId = MovementId(1);
const VIBRATO: MovementId = MovementId(2);

/// A preset as it was read.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PresetRead {
    /// The instrument: the source of a sample is its number in the file, of two sides `left+right`.
    pub program: Program,
    /// What was said that is not understood, with how many regions it touches.
    pub lost: BTreeMap<&'static str, usize>,
}

impl<R: Read + Seek> File<R> {
    /// One of its presets, by its place.
    ///
    /// # Errors
    /// Where there is none, or nothing of it would sound: samples in ROM are not in the file.
    pub fn program(&self, preset: usize) -> Result<PresetRead, FormatError> {
        let preset = self
            .presets
            .get(preset)
            .ok_or_else(|| FormatError::Unreadable("This SoundFont has no such preset.".to_owned()))?;
        let mut reading = Reading {
            samples: &self.samples,
            read: PresetRead {
                program: Program {
                    name: preset.name.clone(),
                    ..Program::default()
                },
                ..PresetRead::default()
            },
            known: HashMap::new(),
        };
        for zone in &preset.zones {
            reading.instrument(&self.instruments[zone.instrument], &zone.said);
        }
        if reading.read.program.regions.is_empty() {
            return Err(FormatError::Unreadable(format!(
                "Nothing of «{}» is in this file: its samples are in a device's memory, or it has none.",
                preset.name
            )));
        }
        Ok(reading.read)
    }
}

struct Reading<'a> {
    samples: &'a [Sample],
    read: PresetRead,
    /// Samples of the program by those of the file: a side, or two.
    known: HashMap<(usize, Option<usize>), usize>,
}

/// A zone of an instrument with what its preset adds.
struct Both {
    sample: usize,
    said: Said,
    keys: (u8, u8),
    strikes: (u8, u8),
}

impl Both {
    fn of(&self, generator: u16) -> Option<i32> {
        self.said
            .generators
            .get(&generator)
            .map(|amount| i32::from(*amount))
    }

    fn or(&self, generator: u16, usual: i32) -> i32 {
        self.of(generator).unwrap_or(usual)
    }
}

/// What stands where no generator says it (section 8.1.3), of those to which a preset adds.
fn usual(generator: u16) -> i32 {
    match generator {
        FILTER_CUTOFF => OPEN_CENTS,
        21 | 23 | 25..=28 | 30 | 33..=36 | 38 => -12_000,
        SCALE_TUNING => 100,
        _ => 0,
    }
}

/// Generators that stand in an instrument alone (section 8.1.2): addresses, modes, and what takes the place of keys and strikes.
fn is_of_instruments(generator: u16) -> bool {
    matches!(generator, 0..=4 | 12 | 45..=47 | 50 | 54 | 57 | 58 | KEY_RANGE | VELOCITY_RANGE | SAMPLE | INSTRUMENT)
}

fn meet(a: (u8, u8), b: (u8, u8)) -> Option<(u8, u8)> {
    let met = (a.0.max(b.0), a.1.min(b.1));
    (met.0 <= met.1).then_some(met)
}

impl Reading<'_> {
    fn instrument(&mut self, instrument: &Instrument, added: &Said) {
        let mut zones: Vec<Option<Both>> = (instrument.zones.iter())
            .map(|zone| {
                let mut said = zone.said.clone();
                for (generator, amount) in &added.generators {
                    if !is_of_instruments(*generator) {
                        let own = said
                            .generators
                            .get(generator)
                            .map_or(usual(*generator), |own| i32::from(*own));
                        let sum = (own + i32::from(*amount)).clamp(-32_768, 32_767);
                        said.generators.insert(*generator, sum as i16);
                    }
                }
                Some(Both {
                    sample: zone.sample,
                    keys: meet(zone.said.keys(), added.keys())?,
                    strikes: meet(zone.said.strikes(), added.strikes())?,
                    said,
                })
            })
            .collect();
        let strand = StrandId(self.read.program.strands.len() as u64);
        if !added.modulators.is_empty() {
            let regions = zones.iter().flatten().count();
            self.lose("modulators of the whole preset", regions);
        }
        for n in 0..zones.len() {
            let Some(one) = zones[n].take() else { continue };
            if self.samples[one.sample].kind & ROM != 0 {
                self.lose("samples in a device's memory", 1);
                continue;
            }
            let other = self
                .other_side(&one, &zones[n + 1..])
                .and_then(|at| zones[n + 1 + at].take());
            let two = other.as_ref();
            let pair = if two.is_some_and(|_| one.or(PAN, 0) > 0) {
                (two, Some(&one))
            } else {
                (Some(&one), two)
            };
            let (Some(left), right) = pair else { continue };
            self.region(strand, left, right);
        }
        if self.read.program.regions_of(strand).next().is_none() {
            return;
        }
        // What it starts on, all strike it by.
        let name = if instrument.name.is_empty() {
            "Keys"
        } else {
            &instrument.name
        };
        self.read
            .program
            .strands
            .push(Strand::new(strand, name, ShapeId(strand.0)));
    }

    /// The zone of the other side: of the linked sample, on the same keys and strikes, hard on the other side.
    fn other_side(&self, one: &Both, later: &[Option<Both>]) -> Option<usize> {
        let of = |zone: &Both| &self.samples[zone.sample];
        let is_pair = |other: &Both| {
            let (a, b) = (of(one), of(other));
            let linked = (a.kind & 6 != 0 && usize::from(a.link) == other.sample)
                || (b.kind & 6 != 0 && usize::from(b.link) == one.sample);
            let beside = |zone: &Both| {
                let mut said = zone.said.clone();
                said.generators
                    .retain(|of, _| ![PAN, SAMPLE, ATTENUATION].contains(of));
                said
            };
            let recorded = |of: &Sample| (of.frames, of.rate_hz, of.looped, of.root_key, of.correction_cents);
            linked
                && recorded(a) == recorded(b)
                && beside(one) == beside(other)
                && (one.keys, one.strikes) == (other.keys, other.strikes)
                && one.or(PAN, 0) == -other.or(PAN, 0)
                && one.or(PAN, 0).abs() >= 500
        };
        later.iter().position(|other| other.as_ref().is_some_and(is_pair))
    }

    fn sample(&mut self, left: usize, right: Option<usize>) -> usize {
        if let Some(&known) = self.known.get(&(left, right)) {
            return known;
        }
        let of = &self.samples[left];
        let all = &mut self.read.program.samples;
        let sides = if right.is_some() { 2 } else { 1 };
        all.push(program::Sample {
            id: SampleId(all.len() as u64),
            name: of.name.clone(),
            source: right.map_or_else(|| left.to_string(), |right| format!("{left}+{right}")),
            rate_hz: of.rate_hz,
            first_channel: 0,
            source_channels: sides,
            channels: sides,
            frames: of.frames,
        });
        self.known.insert((left, right), all.len() - 1);
        all.len() - 1
    }

    fn region(&mut self, strand: StrandId, left: &Both, right: Option<&Both>) {
        let file = &self.samples[left.sample];
        let frames = file.frames as i64;
        let moved =
            |fine: u16, coarse: u16| i64::from(left.or(fine, 0)) + 32_768 * i64::from(left.or(coarse, 0));
        let start = moved(0, 4).clamp(0, frames);
        let end = (frames + moved(1, 12)).clamp(start, frames);
        let runs = match left.or(SAMPLE_MODES, 0) {
            1 => Some(LoopRuns::ThroughRelease),
            3 => Some(LoopRuns::WhileHeld),
            _ => None,
        };
        let looped = runs.and_then(|runs| {
            let first = file.looped.0 + moved(LOOP_START, LOOP_START_COARSE);
            let after = file.looped.1 + moved(LOOP_END, LOOP_END_COARSE);
            let (first, after) = (u64::try_from(first).ok()?, u64::try_from(after).ok()?);
            Some(Loop::plain(first, after, runs)).filter(|looped| looped.fits(end as u64))
        });
        if runs.is_some() && looped.is_none() {
            self.lose("loops that lie outside of their samples", 1);
        }
        let said_root = left.of(ROOT_KEY).filter(|key| (0..128).contains(key));
        // 255 stands for no pitch (section 7.10): middle C.
        let root_key = said_root.map_or(if file.root_key > 127 { 60 } else { file.root_key }, |key| {
            key as u8
        });
        let cents = 100 * left.or(COARSE_TUNE, 0) + left.or(FINE_TUNE, 0) + i32::from(file.correction_cents);
        let key_follow = f64::from(left.or(SCALE_TUNING, 100)) / 100.0;
        let (gain_db, pan) = place_of(left, right);
        let class = left
            .of(EXCLUSIVE_CLASS)
            .filter(|class| *class > 0)
            .map(|class| class as u32);
        let sample = self.sample(left.sample, right.map(|right| right.sample));
        let shape = self.shape(strand, left);
        let program = &mut self.read.program;
        let of = RegionOf::Own(program.regions_of(strand).count() as u64);
        program.regions.push(Region {
            key: RegionKey { strand, of },
            when: When::on(
                Span::of(left.keys.0, left.keys.1),
                Span::of(left.strikes.0.max(1), left.strikes.1),
            ),
            recording_cents: if cents == 0 { 0.0 } else { -f64::from(cents) },
            key_follow,
            gain_db,
            pan,
            start_frame: start as u64,
            end_frame: end as u64,
            looped,
            shape: Some(shape).filter(|shape| shape.0 != strand.0),
            cut: Cut {
                group: class,
                by: class,
                fade_ms: 0,
            },
            ..Region::whole(sample, root_key, file.frames)
        });
    }

    /// The shape of a zone: the strand's, or one of its own.
    fn shape(&mut self, strand: StrandId, zone: &Both) -> ShapeId {
        let (mut shape, lost) = shape_of(zone);
        for what in lost {
            self.lose(what, 1);
        }
        let shapes = &mut self.read.program.shapes;
        let is_first = !shapes.iter().any(|shape| shape.id.0 == strand.0);
        let of_strand = shapes
            .iter()
            .rposition(|shape| shape.id.0 == strand.0)
            .unwrap_or(0);
        shape.id = ShapeId(if is_first {
            strand.0
        } else {
            OWN_SHAPES + shapes.len() as u64
        });
        if let Some(same) = (shapes[if is_first { shapes.len() } else { of_strand }..].iter()).find(|other| {
            Shape {
                id: other.id,
                ..shape.clone()
            } == **other
        }) {
            return same.id;
        }
        let id = shape.id;
        shapes.push(shape);
        id
    }

    fn lose(&mut self, what: &'static str, regions: usize) {
        *self.read.lost.entry(what).or_default() += regions;
    }
}

/// Level and place. Of two sides the louder one is the level, and the other says how far it leans.
fn place_of(left: &Both, right: Option<&Both>) -> (f64, f64) {
    let attenuation = |zone: &Both| zone.or(ATTENUATION, 0).clamp(0, 1_440);
    let (one, other) = (attenuation(left), right.map(attenuation));
    let Some(other) = other else {
        return (under(one), f64::from(left.or(PAN, 0).clamp(-500, 500)) / 500.0);
    };
    (under(one.min(other)), pan_that_leans(one - other))
}

/// How much lower the left of two sides is than the right where they are panned by so many hundredths, in centibels.
fn leaning(hundredths: i32) -> i32 {
    let (left, right) = pan_gains(f64::from(hundredths) / 100.0, true);
    let centibels = |gain: f64| (-200.0 * gain.max(1e-4).log10()).round() as i32;
    centibels(left) - centibels(right)
}

/// The place of two sides that lean so: several lean alike, of which this is the one nearest to the middle.
fn pan_that_leans(centibels: i32) -> f64 {
    let apart = |pan: &i32| ((leaning(*pan) - centibels).abs(), pan.abs());
    f64::from((-100..=100).min_by_key(apart).unwrap_or(0)) / 100.0
}

/// A place of two sides as a SoundFont can say it.
pub(crate) fn pan_of_two_sides(pan: f64) -> f64 {
    pan_that_leans(leaning((pan * 100.0).round() as i32))
}

/// Level of an attenuation in centibels.
fn under(centibels: i32) -> f64 {
    if centibels == 0 {
        0.0
    } else {
        -f64::from(centibels) / 10.0
    }
}

/// What a zone says of loudness, brightness and what moves them, and what of it is not understood.
fn shape_of(zone: &Both) -> (Shape, Vec<&'static str>) {
    let ms = |generator: u16| ms_of(zone.or(generator, -12_000) as i16);
    let mut lost = Vec::new();
    let by_strike = modulator(&zone.said, super::write::VELOCITY_CONCAVE, ATTENUATION).unwrap_or(960);
    let mut shape = Shape {
        loudness: Loudness {
            delay_ms: ms(DELAY),
            attack_ms: ms(ATTACK),
            hold_ms: ms(HOLD),
            decay_ms: ms(DECAY),
            sustain_db: under(zone.or(SUSTAIN, 0).clamp(0, 1_440)),
            release_ms: ms(RELEASE),
            velocity_to_level: f64::from(by_strike) / 960.0,
            bends: [0.0; 3],
        },
        ..Shape::default()
    };
    let cutoff = zone.or(FILTER_CUTOFF, OPEN_CENTS);
    let driven = [MOD_ENV_TO_CUTOFF, MOD_LFO_TO_CUTOFF]
        .iter()
        .any(|of| zone.or(*of, 0) != 0);
    if cutoff < OPEN_CENTS || driven {
        shape.filter = Some(Filter {
            passes: Passes::Low,
            poles: 2,
            cutoff_hz: hz_of(f64::from(cutoff)).min(20_000.0),
            key_follow: 0.0,
            resonance_db: f64::from(zone.or(FILTER_Q, 0).clamp(0, 960)) / 10.0,
            makes_up: false,
        });
    }
    course(zone, &mut shape);
    times_by_key(zone, &mut shape);
    movements(zone, &mut shape);
    for (n, route) in (0..).zip(&mut shape.routes) {
        route.id = RouteId(n);
    }
    for (generators, what) in [(&[15, 16][..], "reverb and chorus")] {
        if generators.iter().any(|generator| zone.or(*generator, 0) != 0) {
            lost.push(what);
        }
    }
    if zone.said.modulators.iter().any(|one| !is_understood(one)) {
        lost.push("modulators beside those of strike and wheel");
    }
    (shape, lost)
}

/// The amount of a modulator that is said.
fn modulator(said: &Said, source: u16, to: u16) -> Option<i16> {
    let same = |one: &&Modulator| (one.source, one.to, one.by) == (source, to, 0);
    said.modulators.iter().find(same).map(|one| one.amount)
}

fn is_understood(one: &Modulator) -> bool {
    let is = |source: u16, to: u16| (one.source, one.to) == (source, to);
    is(super::write::VELOCITY_CONCAVE, ATTENUATION)
        || is(super::driven::WHEEL, VIB_LFO_TO_PITCH)
        || one.amount == 0
}

fn route(from: Source, to: ParamId, amount: i32, times: Option<Source>) -> Route {
    let amount = f64::from(amount);
    Route {
        id: RouteId(0),
        from,
        times,
        curve: None,
        to,
        amount: if to == ParamId::Level {
            amount / 10.0
        } else {
            amount
        },
    }
}

/// The course beside that of loudness, for pitch and cutoff. Its decay and release are times for all of the way (section 8.1.2, decayModEnv).
fn course(zone: &Both, shape: &mut Shape) {
    let ms = |generator: u16| ms_of(zone.or(generator, -12_000) as i16);
    let driven = [
        (MOD_ENV_TO_PITCH, ParamId::Pitch),
        (MOD_ENV_TO_CUTOFF, ParamId::Cutoff),
    ];
    let routes = driven
        .map(|(generator, to)| (to, zone.or(generator, 0)))
        .into_iter()
        .filter(|(_, amount)| *amount != 0)
        .map(|(to, amount)| route(Source::Course(COURSE), to, amount, None));
    let before = shape.routes.len();
    shape.routes.extend(routes);
    if shape.routes.len() == before {
        return;
    }
    let sustain = 1.0 - f64::from(zone.or(MOD_ENV_DELAY + 4, 0).clamp(0, 1_000)) / 1_000.0;
    shape.courses.push(Course {
        id: COURSE,
        delay_ms: ms(MOD_ENV_DELAY),
        attack_ms: ms(MOD_ENV_DELAY + 1),
        hold_ms: ms(MOD_ENV_DELAY + 2),
        decay_ms: ms(MOD_ENV_DELAY + 3) * (1.0 - sustain),
        sustain,
        release_ms: ms(MOD_ENV_DELAY + 5) * released_from(sustain),
        bends: [0.0; 3],
    });
}

/// Holds and decays that are shorter for every key up, and as they are said at middle C (section 8.1.2, keynumToVolEnvHold).
fn times_by_key(zone: &Both, shape: &mut Shape) {
    let has_course = !shape.courses.is_empty();
    for (generator, id, time) in KEY_TO_TIMES {
        let cents = f64::from(zone.or(generator, 0));
        if cents == 0.0 || (id != CourseId::LOUDNESS && !has_course) {
            continue;
        }
        let at_lowest = (cents * 60.0 / 1_200.0).exp2();
        let ms = match (id, time) {
            (CourseId::LOUDNESS, CourseTime::Hold) => &mut shape.loudness.hold_ms,
            (CourseId::LOUDNESS, _) => &mut shape.loudness.decay_ms,
            (_, CourseTime::Hold) => &mut shape.courses[0].hold_ms,
            _ => &mut shape.courses[0].decay_ms,
        };
        *ms *= at_lowest;
        let to = ParamId::CourseTime(id, time);
        shape.routes.push(Route {
            amount: -cents * 127.0 / 1_200.0,
            ..route(Source::Key, to, 0, None)
        });
    }
}

/// Both slow movements; the wheel brings vibrato in unless that is said otherwise (section 8.4.4).
fn movements(zone: &Both, shape: &mut Shape) {
    let wheel = modulator(&zone.said, super::driven::WHEEL, VIB_LFO_TO_PITCH).unwrap_or(50);
    let of = |id: MovementId, first: u16| Movement {
        id,
        wave: Wave::Triangle,
        rate: Rate::Hz(hz_of(f64::from(zone.or(first + 1, 0)))),
        phase: 0.0,
        delay_ms: ms_of(zone.or(first, -12_000) as i16),
        fade_in_ms: 0.0,
        per_voice: true,
        once: false,
    };
    for (id, first, driven) in [
        (
            LFO,
            MOD_LFO_DELAY,
            &[
                (MOD_LFO_TO_PITCH, ParamId::Pitch),
                (MOD_LFO_TO_CUTOFF, ParamId::Cutoff),
                (MOD_LFO_TO_VOLUME, ParamId::Level),
            ][..],
        ),
        (VIBRATO, VIB_LFO_DELAY, &[(VIB_LFO_TO_PITCH, ParamId::Pitch)]),
    ] {
        let from = Source::Movement(id);
        let mut routes: Vec<Route> = (driven.iter())
            .filter(|(generator, _)| zone.or(*generator, 0) != 0)
            .map(|(generator, to)| route(from, *to, zone.or(*generator, 0), None))
            .collect();
        if id == VIBRATO && wheel != 0 {
            routes.push(route(
                from,
                ParamId::Pitch,
                i32::from(wheel),
                Some(Source::Controller(1)),
            ));
        }
        if !routes.is_empty() {
            shape.movements.push(of(id, first));
            shape.routes.append(&mut routes);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Format, lower, write_sf2};
    use proptest::prelude::*;
    use signal::Audio;
    use std::io::Cursor;

    fn any_program() -> impl Strategy<Value = Program> {
        let region = (
            (
                0usize..4,
                0u64..3,
                0u8..128,
                0u8..128,
                1u8..128,
                1u8..128,
                2u8..126,
            ),
            (-80.0f64..80.0, -30.0f64..9.0, -1.0f64..1.0, 0u8..4, any::<bool>()),
        );
        let strand = (0.0f64..90_000.0, -60.0f64..0.0, 0.0f64..1.0, "[A-Za-z]{1,12}");
        (
            proptest::collection::vec(region, 1..14),
            proptest::collection::vec(strand, 3),
        )
            .prop_map(|(regions, strands)| {
                let sample = |n: u64| program::Sample {
                    id: SampleId(n),
                    name: format!("tone {n}"),
                    source: n.to_string(),
                    rate_hz: 44_100,
                    first_channel: 0,
                    source_channels: 1 + (n % 2) as u16,
                    channels: 1 + (n % 2) as u16,
                    frames: 1_000,
                };
                let mut program = Program {
                    name: "any".into(),
                    samples: (0..4).map(sample).collect(),
                    ..Program::default()
                };
                for (n, (ms, db, share, name)) in (0..).zip(strands) {
                    program.strands.push(Strand::new(StrandId(n), name, ShapeId(n)));
                    program.shapes.push(Shape {
                        id: ShapeId(n),
                        loudness: Loudness {
                            delay_ms: if share > 0.5 { 0.0 } else { ms / 90.0 },
                            attack_ms: ms / 30.0,
                            hold_ms: if share > 0.3 { 0.0 } else { ms / 50.0 },
                            decay_ms: ms,
                            sustain_db: db,
                            release_ms: ms / 7.0,
                            velocity_to_level: share,
                            bends: [0.0; 3],
                        },
                        ..Shape::default()
                    });
                }
                for ((sample, strand, a, b, v, w, root), (cents, gain, pan, kind, to_end)) in regions {
                    let of = RegionOf::Own(program.regions_of(StrandId(strand)).count() as u64);
                    let looped = Loop {
                        crossfade_frames: 30,
                        ..Loop::plain(
                            300,
                            700,
                            if kind == 1 {
                                LoopRuns::WhileHeld
                            } else {
                                LoopRuns::ThroughRelease
                            },
                        )
                    };
                    let class = (kind == 3).then_some(9);
                    program.regions.push(Region {
                        key: RegionKey {
                            strand: StrandId(strand),
                            of,
                        },
                        when: When::on(Span::of(a.min(b), a.max(b)), Span::of(v.min(w), v.max(w))),
                        recording_cents: cents,
                        gain_db: gain,
                        pan,
                        key_follow: if kind == 3 { 0.25 } else { 1.0 },
                        looped: (kind > 0 && !to_end).then_some(looped),
                        to_end,
                        cut: Cut {
                            group: class,
                            by: class,
                            fade_ms: 0,
                        },
                        ..Region::whole(sample, root, 1_000)
                    });
                }
                program
            })
    }

    fn file_of(program: &Program) -> Vec<u8> {
        let mut out = Cursor::new(Vec::new());
        write_sf2(&mut out, program, 24, |n| {
            let sample = &program.samples[n];
            let side = vec![0.25; sample.frames as usize];
            Ok::<_, FormatError>(Audio {
                rate_hz: sample.rate_hz,
                channels: vec![side; usize::from(sample.channels)],
            })
        })
        .unwrap();
        out.into_inner()
    }

    proptest! {
        /// Bars page: import(export(p)) = lower(p), but for names, which a SoundFont cuts; and exporting that again gives the same tables.
        #[test]
        fn reading_an_export_back_gives_the_lowered_program(program in any_program()) {
            let lowered = lower(&program, Format::SoundFont2).program;
            prop_assume!(!lowered.regions.is_empty());
            let file = File::read(Cursor::new(file_of(&lowered))).unwrap();
            prop_assert_eq!(file.presets.len(), 1);
            let read = file.program(0).unwrap();
            prop_assert!(read.lost.is_empty(), "{:?}", read.lost);
            let mut read = read.program;
            // Strands without a region are not played, and a sample has its number in its name.
            let loudness = |program: &Program, region: &Region| program.loudness_of_region(region);
            for (region, was) in read.regions.clone().iter().zip(&lowered.regions) {
                prop_assert_eq!(loudness(&read, region), loudness(&lowered, was));
                let number = format!("{:04}", was.sample + 1);
                prop_assert!(read.samples[region.sample].name.starts_with(&number));
            }
            for (region, was) in read.regions.iter_mut().zip(&lowered.regions) {
                (region.key, region.shape, region.sample) = (was.key, was.shape, was.sample);
            }
            prop_assert_eq!(&read.regions, &lowered.regions);
        }
    }
}
