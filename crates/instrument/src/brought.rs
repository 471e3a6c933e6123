//! Instruments that others made: each of their recordings gets a place in a plan, and their regions stay as they were read, with what was said since of
//! takes, regions and strands laid over them.

use crate::offer::{even_layers, first_plan};
use crate::{Cell, How, Kind, LayerId, PAGE_RIG, Pass, PassId, PlacedTake, Plan, TakeLoop, Treatment};
use program::{
    Program, Region, RegionKey, RegionOf, Sample, SampleId, Shape, ShapeId, SoundsOn, Strand, StrandId,
    SwitchId,
};
use serde::{Deserialize, Serialize};
use signal::Cleaning;
use std::collections::{BTreeMap, HashMap, HashSet};

/// More takes in one place are spread over its neighbours.
const MOST_TURNS: u16 = 64;

/// What was read, and where its recordings have their places.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Brought {
    /// As it was read; its parts have the names that the rule would give those of the plan.
    pub program: Program,
    /// The place of each of its samples.
    pub cells: Vec<Cell>,
}

/// An instrument that others made, as one of ours.
#[derive(Debug, Clone, PartialEq)]
pub struct PlannedOfBrought {
    /// A place for each recording: a pass for each strand, rungs by roots, layers by strikes, turns for the rest.
    pub plan: Plan,
    /// What sounds.
    pub brought: Brought,
    /// What had been done to each sample: as the first of the regions that play it has it.
    pub treated: Vec<Treatment>,
}

/// Gives everything of a program that was read its place. `drums` says that it is a kit; else it is what holds, where most of it is looped. What is new is
/// named by `fresh_name`, which gives none twice. Samples that no region plays are left out.
///
/// # Errors
/// A sentence, where it has more than a plan holds.
pub fn plan_of_brought(
    program: &Program,
    drums: bool,
    fresh_name: &mut dyn FnMut() -> u64,
) -> Result<PlannedOfBrought, String> {
    let brought = named(program, fresh_name);
    let down = |region: &&Region| {
        brought
            .strand_of(region)
            .is_none_or(|strand| !strand.on.is_key_up())
    };
    let (looped, all) = (brought.regions.iter().filter(down)).fold((0, 0), |(looped, all), region| {
        (looped + usize::from(region.looped.is_some()), all + 1)
    });
    let kind = match (drums, 2 * looped >= all) {
        (true, _) => Kind::Drum,
        (false, true) => Kind::Sustained,
        (false, false) => Kind::Struck,
    };
    let mut plan = first_plan(kind, How::Files, PAGE_RIG).plan;
    plan.rate_hz =
        (brought.samples.first()).map_or(plan.rate_hz, |first| first.rate_hz.clamp(8_000, 192_000));
    let sides = brought.samples.iter().map(|sample| sample.channels);
    plan.channels = sides.max().unwrap_or(1).clamp(1, 2);
    plan.passes.clear();
    let mut cells: Vec<Option<Cell>> = vec![None; brought.samples.len()];
    let mut taken: HashSet<Cell> = HashSet::new();
    for strand in &brought.strands {
        let regions: Vec<&Region> = brought.regions_of(strand.id).collect();
        let ranks = ranks_of(&regions);
        let mut pass = pass_of(strand, &regions, &ranks, fresh_name);
        for (region, rank) in regions.iter().zip(ranks) {
            if cells[region.sample].is_none() {
                let wanted = Cell {
                    pass: pass.id,
                    key: rung_of(region),
                    layer: pass.layers[rank].id,
                    round_robin: 0,
                };
                let cell = free_place(wanted, &taken)
                    .ok_or("There are more recordings in it than one instrument has places for.")?;
                taken.insert(cell);
                pass.round_robins = pass.round_robins.max(u32::from(cell.round_robin) + 1);
                cells[region.sample] = Some(cell);
            }
        }
        let mut rungs: Vec<u8> = (taken.iter().filter(|cell| cell.pass == pass.id))
            .map(|cell| cell.key)
            .collect();
        // One that plays another's recordings alone has its keys all the same.
        if rungs.is_empty() {
            rungs = regions.iter().map(|region| rung_of(region)).collect();
        }
        rungs.sort_unstable();
        rungs.dedup();
        pass.rungs = rungs;
        plan.passes.push(pass);
    }
    plan.check().map_err(|error| error.to_string())?;
    let mut treated: Vec<Option<Treatment>> = vec![None; brought.samples.len()];
    for region in &brought.regions {
        treated[region.sample].get_or_insert_with(|| treatment_of(region));
    }
    Ok(PlannedOfBrought {
        plan,
        brought: Brought {
            cells: cells.into_iter().flatten().collect(),
            program: brought,
        },
        treated: treated.into_iter().flatten().collect(),
    })
}

/// The same program, its strands, shapes and regions named as the rule names those of a plan; strands without regions and samples that no region plays are
/// left out.
fn named(program: &Program, fresh_name: &mut dyn FnMut() -> u64) -> Program {
    let mut of = Program {
        strands: Vec::new(),
        shapes: Vec::new(),
        samples: Vec::new(),
        regions: Vec::new(),
        ..program.clone()
    };
    for switch in &mut of.switches {
        switch.id = another_switch(switch.id);
    }
    let mut names: HashMap<StrandId, StrandId> = HashMap::new();
    let shape = |id: ShapeId, name: ShapeId| {
        let known = program.shapes.iter().find(|shape| shape.id == id);
        Shape {
            id: name,
            ..known.cloned().unwrap_or_default()
        }
    };
    for strand in &program.strands {
        if program.regions_of(strand.id).next().is_none() {
            continue;
        }
        let id = StrandId(fresh_name());
        names.insert(strand.id, id);
        of.shapes.push(shape(strand.shape, ShapeId::of_strand(id)));
        let mut strand = Strand {
            id,
            shape: ShapeId::of_strand(id),
            regions_of: None,
            ..strand.clone()
        };
        if let Some(by) = &mut strand.when.chosen_by {
            by.switch = another_switch(by.switch);
        }
        of.strands.push(strand);
    }
    let mut samples: HashMap<usize, usize> = HashMap::new();
    let mut numbers: HashMap<StrandId, u64> = HashMap::new();
    for region in &program.regions {
        let Some(&strand) = names.get(&region.key.strand) else {
            continue;
        };
        let number = numbers.entry(strand).or_default();
        *number += 1;
        let key = RegionKey {
            strand,
            of: RegionOf::Own(*number),
        };
        let sample = *samples.entry(region.sample).or_insert_with(|| {
            of.samples.push(program.samples[region.sample].clone());
            of.samples.len() - 1
        });
        let own = region.shape.map(|id| shape(id, ShapeId::of_region(key)));
        let mut region = Region {
            key,
            sample,
            shape: own.as_ref().map(|own| own.id),
            ..region.clone()
        };
        if let Some(by) = &mut region.when.chosen_by {
            by.switch = another_switch(by.switch);
        }
        of.shapes.extend(own);
        of.regions.push(region);
    }
    of
}

/// The first switch is that of the keys by which its maker here lets strands be chosen.
fn another_switch(id: SwitchId) -> SwitchId {
    SwitchId(id.0 + 1)
}

/// Where a region's recording stands: at its root, or at the nearest of the keys that play it.
fn rung_of(region: &Region) -> u8 {
    let keys = region.when.keys;
    region
        .root_key
        .clamp(keys.low.min(127), keys.high.clamp(keys.low, 127))
}

/// Of each region, how many softer ones there are beside it at its place.
fn ranks_of(regions: &[&Region]) -> Vec<usize> {
    let mut lows: HashMap<u8, Vec<u8>> = HashMap::new();
    for region in regions {
        lows.entry(rung_of(region))
            .or_default()
            .push(region.when.strikes.low);
    }
    for lows in lows.values_mut() {
        lows.sort_unstable();
        lows.dedup();
    }
    let rank = |region: &&Region| {
        let lows = &lows[&rung_of(region)];
        lows.partition_point(|low| *low < region.when.strikes.low)
    };
    regions.iter().map(rank).collect()
}

/// A pass for a strand, as yet without rungs: its layers are struck as hard as the regions of each rank are, on the average.
fn pass_of(
    strand: &Strand,
    regions: &[&Region],
    ranks: &[usize],
    fresh_name: &mut dyn FnMut() -> u64,
) -> Pass {
    let mut strikes: BTreeMap<usize, (u32, u32, u32)> = BTreeMap::new();
    for (region, rank) in regions.iter().zip(ranks) {
        let (lows, highs, count) = strikes.entry(*rank).or_default();
        *lows += u32::from(region.when.strikes.low);
        *highs += u32::from(region.when.strikes.high);
        *count += 1;
    }
    let mut layers = even_layers(strikes.len());
    let middles: Vec<u8> = (strikes.values())
        .map(|(lows, highs, count)| ((lows + highs) / (2 * count)).clamp(1, 127) as u8)
        .collect();
    let lows: Vec<u8> = (strikes.values())
        .map(|(lows, _, count)| (lows / count).clamp(1, 127) as u8)
        .collect();
    let rises = |of: &[u8]| of.windows(2).all(|pair| pair[0] < pair[1]);
    let fits = rises(&middles) && rises(&lows);
    for (n, layer) in layers.iter_mut().enumerate() {
        layer.id = LayerId(fresh_name());
        if fits && middles.len() > 1 {
            layer.strike_velocity = middles[n];
            layer.low_velocity = (n > 0).then_some(lows[n]);
        }
    }
    let sounds_on = if strand.on.is_key_up() {
        SoundsOn::KeyUp
    } else {
        SoundsOn::KeyDown
    };
    Pass {
        layers,
        // By rule, too, the strand of a pass has its name.
        ..Pass::of_files(
            PassId(strand.id.0),
            strand.name.chars().take(120).collect(),
            sounds_on,
        )
    }
}

/// The place that was wanted, or a later turn there, or one on the next key.
fn free_place(wanted: Cell, taken: &HashSet<Cell>) -> Option<Cell> {
    let keys = (0..128).map(|by| (wanted.key + by) % 128);
    let places = keys.flat_map(|key| {
        (0..MOST_TURNS).map(move |round_robin| Cell {
            key,
            round_robin,
            ..wanted
        })
    });
    places.into_iter().find(|place| !taken.contains(place))
}

fn treatment_of(region: &Region) -> Treatment {
    Treatment {
        start_frame: region.start_frame,
        end_frame: region.end_frame,
        fade_in_frames: region.fade_in_frames,
        fade_out_frames: region.fade_out_frames,
        fade_curve: region.fade_curve,
        pan: region.pan,
        cleaning: Cleaning::default(),
        gain_db: region.gain_db,
        root_key: region.root_key,
        recording_cents: region.recording_cents,
        tune_cents: region.tune_cents,
        looped: region.looped.map(|of| TakeLoop {
            start_frame: of.start_frame,
            end_frame: of.end_frame,
            crossfade_frames: of.crossfade_frames,
            likeness_percent: of.likeness_percent,
            way: of.way,
            runs: of.runs,
        }),
    }
}

/// What sounds of what was brought: each region plays the take that is chosen at its place. What was said of that take holds in all regions that play it; one
/// that was recorded since is played from its own start to its own end.
pub(crate) fn lay_brought(brought: &Brought, name: &str, takes: &[PlacedTake]) -> Program {
    let by_cell: HashMap<Cell, &PlacedTake> = takes.iter().map(|take| (take.cell, take)).collect();
    let mut program = Program {
        name: name.to_owned(),
        samples: Vec::new(),
        regions: Vec::new(),
        ..brought.program.clone()
    };
    let mut places: HashMap<usize, usize> = HashMap::new();
    for region in &brought.program.regions {
        let cell = brought.cells.get(region.sample);
        let Some(take) = cell.and_then(|cell| by_cell.get(cell)) else {
            continue;
        };
        let sample = *places.entry(region.sample).or_insert_with(|| {
            program.samples.push(sample_of(take));
            program.samples.len() - 1
        });
        program.regions.push(as_treated(region, sample, take));
    }
    program
}

fn sample_of(take: &PlacedTake) -> Sample {
    let channels = take.sample.channels.min(2);
    Sample {
        id: SampleId::of(&take.sample.source, &[0, u64::from(channels)]),
        source_channels: channels,
        channels: take.treatment.cleaning.channels_out(usize::from(channels)) as u16,
        ..take.sample.clone()
    }
}

fn as_treated(region: &Region, sample: usize, take: &PlacedTake) -> Region {
    let now = &take.treatment;
    let made = take.as_made.as_ref();
    // What is not as it was given away was said here; of another recording, everything is its own.
    fn kept<T: PartialEq + Copy>(of_region: T, made: Option<T>, now: T) -> T {
        if made.is_some_and(|made| made == now) {
            of_region
        } else {
            now
        }
    }
    let beside = |of_region: f64, made: Option<f64>, now: f64| of_region + now - made.unwrap_or(0.0);
    let rooted =
        made.is_some_and(|made| (made.root_key, made.recording_cents) == (now.root_key, now.recording_cents));
    let ends = (region.start_frame, region.end_frame);
    let mut region = Region {
        sample,
        start_frame: kept(
            region.start_frame,
            made.map(|made| made.start_frame),
            now.start_frame,
        ),
        end_frame: kept(region.end_frame, made.map(|made| made.end_frame), now.end_frame),
        fade_in_frames: kept(
            region.fade_in_frames,
            made.map(|made| made.fade_in_frames),
            now.fade_in_frames,
        ),
        fade_out_frames: kept(
            region.fade_out_frames,
            made.map(|made| made.fade_out_frames),
            now.fade_out_frames,
        ),
        fade_curve: kept(
            region.fade_curve,
            made.map(|made| made.fade_curve),
            now.fade_curve,
        ),
        gain_db: beside(region.gain_db, made.map(|made| made.gain_db), now.gain_db),
        pan: beside(region.pan, made.map(|made| made.pan), now.pan).clamp(-1.0, 1.0),
        tune_cents: beside(
            region.tune_cents,
            made.map(|made| made.tune_cents),
            now.tune_cents,
        ),
        root_key: if rooted { region.root_key } else { now.root_key },
        recording_cents: if rooted {
            region.recording_cents
        } else {
            now.recording_cents
        },
        looped: kept(
            region.looped,
            made.map(Treatment::program_loop),
            now.program_loop(),
        ),
        ..region.clone()
    };
    // A start or an end that was set holds what goes round within it; what nobody touched stays as it was read.
    if (region.start_frame, region.end_frame) != ends {
        region.looped = region.looped.filter(|of| {
            region.start_frame + of.crossfade_frames <= of.start_frame && of.end_frame <= region.end_frame
        });
    }
    region
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{Cut, Foreign, Loop, LoopRuns, Loudness, Span, Switch};

    fn sample(n: usize) -> Sample {
        Sample {
            id: SampleId(n as u64),
            name: format!("s{n}"),
            source: format!("s{n}.wav"),
            rate_hz: 44_100,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 1_000,
        }
    }

    /// Two strands: keys in two layers, one of them in two turns, all of one recording's root beside its keys; and what sounds as they come up.
    fn program() -> Program {
        let mut program = Program::plain("Brought", (0..5).map(sample).collect(), Vec::new());
        let mut up = Strand::new(StrandId(9), "Up", ShapeId(0));
        up.on = program::On::KEY_UP;
        program.strands.push(up);
        program.switches.push(Switch {
            id: SwitchId(0),
            name: "Which".into(),
            low_key: 20,
            high_key: 21,
            at_first: 20,
        });
        let on = |sample: usize, root: u8, keys: (u8, u8), strikes: (u8, u8)| {
            let mut region = Region::whole(sample, root, 1_000).on_keys(keys.0, keys.1);
            region.when.strikes = Span::of(strikes.0, strikes.1);
            region
        };
        program.regions = vec![
            on(0, 60, (55, 64), (1, 80)),
            on(1, 60, (55, 64), (81, 127)),
            on(2, 60, (55, 64), (81, 127)),
            on(3, 60, (72, 72), (1, 127)),
            on(4, 60, (0, 127), (1, 127)),
            // The same recording once more.
            on(0, 60, (30, 30), (1, 127)),
        ];
        program.regions[0].looped = Some(Loop::plain(100, 900, LoopRuns::ThroughRelease));
        program.regions[0].gain_db = -3.0;
        program.regions[5].gain_db = -9.0;
        program.regions[5].start_frame = 50;
        program.regions[4].key.strand = StrandId(9);
        program.regions[4].foreign.push(Foreign {
            word: "colour".into(),
            value: "blue".into(),
        });
        program.regions[3].shape = Some(ShapeId(7));
        program.shapes.push(Shape {
            id: ShapeId(7),
            loudness: Loudness {
                attack_ms: 77.0,
                ..Loudness::default()
            },
            ..Shape::default()
        });
        program.strands[0].cut = Cut {
            group: Some(4),
            by: Some(4),
            fade_ms: 9,
        };
        program
    }

    fn planned() -> PlannedOfBrought {
        let mut names = 100..;
        plan_of_brought(&program(), false, &mut || names.next().unwrap()).unwrap()
    }

    fn takes(of: &PlannedOfBrought) -> Vec<PlacedTake> {
        let cells = of.brought.cells.iter().zip(&of.brought.program.samples);
        cells
            .zip(&of.treated)
            .map(|((cell, sample), made)| PlacedTake {
                cell: *cell,
                sample: sample.clone(),
                treatment: made.clone(),
                as_made: Some(made.clone()),
                falls_silent_ms: None,
            })
            .collect()
    }

    #[test]
    fn every_recording_has_a_place_of_its_own_by_root_strike_and_turn() {
        let of = planned();
        let places: Vec<(&str, u8, usize, u16)> = (of.brought.cells.iter())
            .map(|cell| {
                let pass = of.plan.pass(cell.pass).unwrap();
                let layer = pass.layers.iter().position(|layer| layer.id == cell.layer);
                (pass.name.as_str(), cell.key, layer.unwrap(), cell.round_robin)
            })
            .collect();
        assert_eq!(
            places,
            [
                ("Keys", 60, 0, 0),
                ("Keys", 60, 1, 0),
                ("Keys", 60, 1, 1),
                // Its root lies beside the key that plays it.
                ("Keys", 72, 0, 0),
                ("Up", 60, 0, 0),
            ]
        );
        let keys = &of.plan.passes[0];
        assert_eq!((&keys.rungs[..], keys.round_robins), (&[60, 72][..], 2));
        assert_eq!(keys.layers[1].low_velocity, Some(81));
        assert_eq!(of.plan.passes[1].sounds_on, SoundsOn::KeyUp);
        assert_eq!(of.plan.kind, Kind::Struck);
        assert_eq!(of.plan.rate_hz, 44_100);
    }

    #[test]
    fn what_nobody_touched_sounds_as_it_was_read() {
        let (of, read) = (planned(), program());
        let laid = lay_brought(&of.brought, "Mine", &takes(&of));
        let told = |program: &Program| -> Vec<(Region, String, Shape)> {
            (program.regions.iter())
                .map(|region| {
                    let shape = &program.shapes[program.shape_of_region(region).unwrap()];
                    let plain = Region {
                        key: RegionKey::default(),
                        sample: 0,
                        shape: None,
                        ..region.clone()
                    };
                    let shape = Shape {
                        id: ShapeId(0),
                        ..shape.clone()
                    };
                    (plain, program.samples[region.sample].source.clone(), shape)
                })
                .collect()
        };
        assert_eq!(told(&laid), told(&read));
        assert_eq!(laid.strands[0].cut, read.strands[0].cut);
        // Its switch is not that of the keys by which strands are chosen here.
        assert_eq!(laid.switches[0].id, SwitchId(1));
        assert_eq!(laid.name, "Mine");
    }

    #[test]
    fn what_is_said_of_a_take_holds_in_all_regions_that_play_it_and_leaves_the_rest_as_it_was() {
        let of = planned();
        let mut takes = takes(&of);
        takes[0].treatment.gain_db += 2.0;
        takes[0].treatment.looped = None;
        takes[0].treatment.end_frame = 700;
        let laid = lay_brought(&of.brought, "x", &takes);
        let all: Vec<(u64, u64, f64, bool)> = (laid.regions.iter())
            .filter(|region| laid.samples[region.sample].source == "s0.wav")
            .map(|region| {
                let looped = region.looped.is_some();
                (region.start_frame, region.end_frame, region.gain_db, looped)
            })
            .collect();
        assert_eq!(all, [(0, 700, -1.0, false), (50, 700, -7.0, false)]);
        // Recorded again, it is played from its own start; that its place is silent for lack of a take is no error.
        takes[0].as_made = None;
        takes[0].treatment.start_frame = 20;
        takes.truncate(1);
        let laid = lay_brought(&of.brought, "x", &takes);
        let starts: Vec<u64> = laid.regions.iter().map(|region| region.start_frame).collect();
        assert_eq!(starts, [20, 20]);
    }

    #[test]
    fn more_recordings_than_one_place_has_turns_go_on_at_the_next_key() {
        let samples: Vec<Sample> = (0..70).map(sample).collect();
        let regions = (0..70).map(|n| Region::whole(n, 60, 1_000)).collect();
        let mut names = 1..;
        let of = plan_of_brought(&Program::plain("x", samples, regions), true, &mut || {
            names.next().unwrap()
        });
        let of = of.unwrap();
        assert_eq!(of.plan.passes[0].rungs, [60, 61]);
        let all: HashSet<Cell> = of.brought.cells.iter().copied().collect();
        assert_eq!((all.len(), of.plan.kind), (70, Kind::Drum));
    }
}
