//! A preset of a SoundFont as a program.

use super::file::Said;
use super::shapes::{resonance_of, shape_of};
use super::zone::Both;
use super::*;
use crate::FormatError;
use program::{
    Cut, Loop, LoopRuns, Program, Region, RegionKey, RegionOf, SampleId, Shape, ShapeId, Span, Strand,
    StrandId, When,
};
use std::collections::{BTreeMap, HashMap};
use std::io::{Read, Seek};

/// Shapes of regions are numbered from here on.
const OWN_SHAPES: u64 = 1 << 20;
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
                    credits: self.credits.clone(),
                    licence: self.licence.clone(),
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

impl Reading<'_> {
    fn instrument(&mut self, instrument: &Instrument, added: &Said) {
        let mut zones: Vec<Option<Both>> = (instrument.zones.iter())
            .map(|zone| Both::of_zone(zone, added))
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
            name: plain_name(&of.name, all.len() + 1),
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
        let (level_db, pan) = place_of(left, right);
        let gain_db = level_db - f64::from(resonance_of(left)) / 20.0;
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

/// A sample's name without what an export of ours sets before it: its number and side.
fn plain_name(name: &str, number: usize) -> String {
    let rest = name.strip_prefix(&format!("{number:04}"));
    let rest = rest.map(|rest| rest.strip_prefix(['L', 'R']).unwrap_or(rest));
    let own = rest
        .and_then(|rest| rest.strip_prefix(' '))
        .filter(|rest| !rest.is_empty());
    own.unwrap_or(name).to_owned()
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::any::any_driving;
    use crate::{Format, Placed, lower, write_sf2};
    use program::Loudness;
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
                        ..any_driving(db / 10.0 + 2.0, ms / 30.0, -40.0 * share)
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
        write_sf2(&mut out, &[Placed::alone(program.clone())], 24, |n| {
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
            let shape = |program: &Program, region: &Region| Shape {
                id: ShapeId(0),
                ..program.shapes[program.shape_of_region(region).unwrap()].clone()
            };
            for (region, was) in read.regions.clone().iter().zip(&lowered.regions) {
                prop_assert_eq!(shape(&read, region), shape(&lowered, was));
                // Its number and side stood before what a name has room for.
                let name = &lowered.samples[was.sample].name;
                prop_assert!(name.starts_with(&read.samples[region.sample].name), "{name}");
            }
            for (region, was) in read.regions.iter_mut().zip(&lowered.regions) {
                (region.key, region.shape, region.sample) = (was.key, was.shape, was.sample);
            }
            prop_assert_eq!(&read.regions, &lowered.regions);
        }
    }
}
