//! Regions from takes: how rungs share the keys between them and layers the velocities.

use crate::{Cell, Layer, PassId, Plan, Treatment};
use program::{
    Program, Region, RegionKey, RegionOf, RoundRobin, Sample, SampleId, Shape, SoundsOn, Strand, StrandId,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// How rungs share the keys between them: each stretches down to the rung below.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MapSettings {
    /// A gap is filled so far down, in semitones.
    pub furthest_stretch_keys: u8,
    /// Keys below the lowest rung.
    pub below_keys: u8,
    /// Keys above the highest rung.
    pub above_keys: u8,
}

impl Default for MapSettings {
    fn default() -> Self {
        Self {
            furthest_stretch_keys: 12,
            below_keys: 5,
            above_keys: 3,
        }
    }
}

/// The chosen take of a cell, treated.
#[derive(Debug, Clone, PartialEq)]
pub struct PlacedTake {
    /// Where it belongs.
    pub cell: Cell,
    /// Its audio.
    pub sample: Sample,
    /// What is done to it.
    pub treatment: Treatment,
}

/// Lowest velocity of each layer, soft to loud: the first begins at 1; each other where its maker said, else halfway
/// (rounded up) between the strikes of its neighbour below and its own.
pub fn velocity_thresholds<'a>(layers: impl IntoIterator<Item = &'a Layer>) -> Vec<u8> {
    let mut lows: Vec<u8> = Vec::new();
    let mut below: Option<&Layer> = None;
    for layer in layers {
        lows.push(match below {
            None => 1,
            Some(below) => {
                let halfway =
                    (u16::from(below.strike_velocity) + u16::from(layer.strike_velocity)).div_ceil(2) as u8;
                // A layer that was left out must not leave the others out of order.
                layer
                    .low_velocity
                    .unwrap_or(halfway)
                    .max(lows.last().map_or(1, |low| low.saturating_add(1)))
            }
        });
        below = Some(layer);
    }
    lows
}

/// Puts the takes on the keyboard. Gaps are filled from the rung above, stretched down; a layer or rung that was not
/// recorded leaves its velocities or keys to its neighbours.
pub fn make_program(name: &str, plan: &Plan, settings: &MapSettings, takes: &[PlacedTake]) -> Program {
    let mut program = Program {
        name: name.to_owned(),
        ..Program::default()
    };
    // A mic is a strand of its own, whose regions share their takes' treatment with those of the others.
    let mics: Vec<Option<&String>> = if plan.mics.len() > 1 {
        plan.mics.iter().map(Some).collect()
    } else {
        vec![None]
    };
    for (pass, (mic_index, mic)) in plan
        .passes
        .iter()
        .flat_map(|pass| (0u16..).zip(&mics).map(move |mic| (pass, mic)))
    {
        let strand = strand_id(pass.id, mic.map(String::as_str));
        program.strands.push(Strand {
            id: strand,
            name: mic.map_or_else(|| pass.name.clone(), |mic| format!("{} · {mic}", pass.name)),
            sounds_on: pass.sounds_on,
            gain_db: 0.0,
            shape: shape_of(pass.layers.len(), pass.sounds_on),
        });
        let mut rungs: BTreeMap<u8, Vec<&PlacedTake>> = BTreeMap::new();
        // A take that was made before there were so many mics has fewer channels.
        let has_mic =
            |take: &PlacedTake| mic.is_none() || take.sample.channels >= (mic_index + 1) * plan.channels;
        for take in takes
            .iter()
            .filter(|take| take.cell.pass == pass.id && has_mic(take))
        {
            rungs.entry(take.cell.key).or_default().push(take);
        }
        let keys: Vec<u8> = rungs.keys().copied().collect();
        for (n, (&key, of_rung)) in rungs.iter().enumerate() {
            let below = n.checked_sub(1).map(|n| keys[n] + 1);
            let reach = if below.is_some() {
                settings.furthest_stretch_keys
            } else {
                settings.below_keys
            };
            let low_key = below.unwrap_or(0).max(key.saturating_sub(reach));
            let high_key = if n + 1 == keys.len() {
                key.saturating_add(settings.above_keys).min(127)
            } else {
                key
            };
            // A take of a layer that is no longer planned stays, and is not mapped.
            let layers: Vec<(&Layer, Vec<&PlacedTake>)> = pass
                .layers
                .iter()
                .map(|layer| {
                    let of_layer = of_rung.iter().filter(|take| take.cell.layer == layer.id);
                    let mut turns: Vec<&PlacedTake> = of_layer.copied().collect();
                    turns.sort_by_key(|take| take.cell.round_robin);
                    (layer, turns)
                })
                .filter(|(_, turns)| !turns.is_empty())
                .collect();
            let lows = velocity_thresholds(layers.iter().map(|(layer, _)| *layer));
            for (m, (_, turns)) in layers.iter().enumerate() {
                for (position, take) in (0u32..).zip(turns) {
                    let sample = program.samples.len();
                    let mut made = match mic {
                        Some(mic) => Sample {
                            name: format!("{} {mic}", take.sample.name),
                            first_channel: mic_index * plan.channels,
                            source_channels: plan.channels,
                            channels: plan.channels,
                            ..take.sample.clone()
                        },
                        // More than two channels without names: the first two are heard.
                        None => Sample {
                            source_channels: take.sample.channels.min(2),
                            channels: take.sample.channels.min(2),
                            ..take.sample.clone()
                        },
                    };
                    // Whatever its take is called: what is the same audio keeps its name.
                    let form = [made.first_channel, made.source_channels].map(u64::from);
                    made.id = SampleId::of(&made.source, &form);
                    made.channels = take.treatment.cleaning.channels_out(usize::from(made.channels)) as u16;
                    program.samples.push(made);
                    program.regions.push(Region {
                        key: RegionKey {
                            strand,
                            of: RegionOf::Cell {
                                pass: pass.id.0,
                                key,
                                layer: take.cell.layer.0,
                                round_robin: take.cell.round_robin,
                            },
                        },
                        sample,
                        low_key,
                        high_key,
                        low_velocity: lows[m],
                        high_velocity: lows.get(m + 1).map_or(127, |low| low - 1),
                        root_key: take.treatment.root_key,
                        recording_cents: take.treatment.recording_cents,
                        tune_cents: take.treatment.tune_cents,
                        gain_db: take.treatment.gain_db,
                        pan: take.treatment.pan,
                        start_frame: take.treatment.start_frame,
                        end_frame: take.treatment.end_frame,
                        fade_in_frames: take.treatment.fade_in_frames,
                        fade_out_frames: take.treatment.fade_out_frames,
                        fade_curve: take.treatment.fade_curve,
                        looped: take.treatment.program_loop(),
                        round_robin: RoundRobin {
                            position,
                            length: turns.len() as u32,
                        },
                    });
                }
            }
        }
    }
    program
}

/// A strand that is made by rule from a pass is named by it, and by its mic where there are several.
fn strand_id(pass: PassId, mic: Option<&str>) -> StrandId {
    StrandId(mic.map_or(pass.0, |mic| SampleId::of(mic, &[pass.0]).0))
}

/// One layer takes all of the velocity's effect on level from the shape; the more layers were recorded, the more of it is in them.
fn shape_of(layers: usize, on: SoundsOn) -> Shape {
    let velocity_to_level = if layers <= 1 { 1.0 } else { 0.5 / layers as f64 };
    match on {
        SoundsOn::KeyDown => Shape {
            velocity_to_level,
            ..Shape::default()
        },
        SoundsOn::KeyUp => Shape {
            velocity_to_level,
            release_ms: 2_000.0,
            ..Shape::default()
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;

    fn taken(plan: &Plan, leave_out: impl Fn(&Cell) -> bool) -> Vec<PlacedTake> {
        let cells = plan.cells().into_iter().filter(|cell| !leave_out(cell));
        cells
            .map(|cell| PlacedTake {
                cell,
                sample: Sample {
                    id: SampleId::default(),
                    name: format!("{cell:?}"),
                    source: String::new(),
                    rate_hz: 48_000,
                    first_channel: 0,
                    source_channels: 2,
                    channels: 2,
                    frames: 1000,
                },
                treatment: Treatment {
                    start_frame: 0,
                    end_frame: 1000,
                    fade_in_frames: 0,
                    fade_out_frames: 0,
                    fade_curve: program::FadeCurve::Straight,
                    pan: 0.0,
                    cleaning: signal::Cleaning::default(),
                    gain_db: 0.0,
                    root_key: cell.key,
                    recording_cents: 0.0,
                    tune_cents: 0.0,
                    looped: None,
                },
            })
            .collect()
    }

    #[test]
    fn every_key_and_velocity_sounds_exactly_once() {
        let plan = plan(&[36, 40, 47], &[30, 70, 120], 1);
        let program = make_program("x", &plan, &MapSettings::default(), &taken(&plan, |_| false));
        for key in 31..=50 {
            for velocity in 1..=127 {
                let count = program::regions_for_key(&program, SoundsOn::KeyDown, key, velocity, 0).count();
                assert_eq!(count, 1, "key {key} velocity {velocity}");
            }
        }
        assert_eq!(
            program::regions_for_key(&program, SoundsOn::KeyDown, 30, 64, 0).count(),
            0
        );
        let region = &program.regions[program::regions_for_key(&program, SoundsOn::KeyDown, 41, 127, 0)
            .next()
            .unwrap()];
        assert_eq!((region.root_key, region.low_key, region.high_key), (47, 41, 50));
    }

    #[test]
    fn thresholds_lie_between_the_strikes() {
        let lows = |strikes: &[u8]| velocity_thresholds(&plan(&[60], strikes, 1).passes[0].layers);
        assert_eq!(lows(&[40, 100]), [1, 70]);
        assert_eq!(lows(&[127]), [1]);
        assert_eq!(lows(&[30, 70, 120]), [1, 50, 95]);
        let mut layers = plan(&[60], &[30, 70, 120], 1).passes.remove(0).layers;
        layers[1].low_velocity = Some(64);
        assert_eq!(velocity_thresholds(&layers), [1, 64, 95]);
    }

    #[test]
    fn mics_are_strands_that_share_their_treatment() {
        let mut plan = plan(&[60, 64], &[100], 1);
        plan.mics = vec!["close".into(), "room".into()];
        let mut takes = taken(&plan, |_| false);
        takes.iter_mut().for_each(|take| take.sample.channels = 4);
        takes[1].treatment.start_frame = 77;
        let program = make_program("x", &plan, &MapSettings::default(), &takes);
        let names: Vec<&str> = program.strands.iter().map(|s| s.name.as_str()).collect();
        assert_eq!(names, ["Keys · close", "Keys · room"]);
        let of = |mic: usize| {
            program
                .regions_of(program.strands[mic].id)
                .map(|r| (r.start_frame, program.samples[r.sample].first_channel))
                .collect::<Vec<_>>()
        };
        assert_eq!((of(0), of(1)), (vec![(0, 0), (77, 0)], vec![(0, 2), (77, 2)]));
        // In another order they are the same strands, and play the same audio.
        plan.mics.reverse();
        let turned = make_program("x", &plan, &MapSettings::default(), &takes);
        assert_eq!(turned.strands[0].id, program.strands[1].id);
        assert_eq!(turned.regions[0].key, program.regions[2].key);
    }

    #[test]
    fn a_missing_layer_leaves_its_velocities_to_its_neighbours() {
        let plan = plan(&[60], &[30, 70, 120], 1);
        let program = make_program(
            "x",
            &plan,
            &MapSettings::default(),
            &taken(&plan, |cell| cell.layer == crate::LayerId(1)),
        );
        for velocity in 1..=127 {
            assert_eq!(
                program::regions_for_key(&program, SoundsOn::KeyDown, 60, velocity, 0).count(),
                1
            );
        }
    }
}
