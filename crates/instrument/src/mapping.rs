//! Regions from takes: how rungs share the keys between them and layers the velocities.

use crate::shaping::first_loudness;
use crate::{Cell, Kind, Layer, PassId, Plan, Treatment};
use program::{
    Fade, On, Program, Region, RegionKey, RegionOf, Sample, SampleId, Shape, ShapeId, SoundsOn, Span, Strand,
    StrandId, Turn, When,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Which of two rungs takes the keys between them.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fill {
    /// The upper, stretched down.
    #[default]
    Down,
    /// The lower, stretched up.
    Up,
    /// Each up to the middle; the key in the middle of an odd number goes to the upper.
    Middle,
    /// Neither: each rung sounds on its own key.
    None,
}

/// How round robins of a cell take turns.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TurnOrder {
    /// One after another.
    #[default]
    InOrder,
    /// At random.
    Random,
    /// At random, but never the same twice.
    Shuffled,
}

/// How rungs share the keys between them, layers the strikes, and round robins the turns.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MapSettings {
    /// Who takes the keys between two rungs.
    pub fill: Fill,
    /// A gap is filled so far, in semitones from the rung.
    pub furthest_stretch_keys: u8,
    /// Keys below the lowest rung.
    pub below_keys: u8,
    /// Keys above the highest rung.
    pub above_keys: u8,
    /// Steps of velocity over which one layer fades into the next, around each threshold; 0 for none.
    pub strike_crossfade: u8,
    /// How round robins take turns.
    pub turn_order: TurnOrder,
}

impl Default for MapSettings {
    fn default() -> Self {
        Self {
            fill: Fill::Down,
            furthest_stretch_keys: 12,
            below_keys: 5,
            above_keys: 3,
            strike_crossfade: 0,
            turn_order: TurnOrder::InOrder,
        }
    }
}

impl MapSettings {
    /// The keys that the `n`th of some rising rungs serves.
    fn keys_of(&self, rungs: &[u8], n: usize) -> Span {
        let key = rungs[n];
        let reach = self.furthest_stretch_keys;
        // Keys between the rung and its neighbour, and how many of them are the lower one's.
        let between = |below: u8, above: u8| -> (u8, u8) {
            let gap = above - below - 1;
            let lower = match self.fill {
                Fill::Down => 0,
                Fill::Up => gap,
                Fill::Middle => gap / 2,
                Fill::None => return (0, 0),
            };
            (lower.min(reach), (gap - lower).min(reach))
        };
        let below = match n.checked_sub(1) {
            Some(lower) => between(rungs[lower], key).1,
            None => self.below_keys,
        };
        let above = match rungs.get(n + 1) {
            Some(upper) => between(key, *upper).0,
            None => self.above_keys,
        };
        Span::of(key.saturating_sub(below), key.saturating_add(above).min(127))
    }

    /// The strikes that each of some layers serves, from the lowest strike of each, and over how many it comes where that is said of it.
    fn strikes_of(&self, lows: &[u8], crossfades: &[Option<u8>]) -> Vec<Span> {
        let mut spans: Vec<Span> = (0..lows.len())
            .map(|m| Span::of(lows[m], lows.get(m + 1).map_or(127, |low| low - 1)))
            .collect();
        for m in 1..lows.len() {
            let said = crossfades.get(m).copied().flatten();
            let width = said.unwrap_or(self.strike_crossfade);
            let threshold = lows[m];
            // No fade reaches past the middle of a layer, so that those at its two ends do not meet.
            let down = (width / 2).min((threshold - lows[m - 1]) / 2);
            let up = width.div_ceil(2).min((spans[m].high - threshold) / 2);
            let fade = Fade {
                from: threshold - down,
                to: threshold + up,
            };
            if fade.to > fade.from + 1 {
                (spans[m - 1].high, spans[m - 1].fade_out) = (fade.to - 1, Some(fade));
                (spans[m].low, spans[m].fade_in) = (fade.from + 1, Some(fade));
            }
        }
        spans
    }

    /// The turn of one of `of` round robins; those of one group take turns with each other.
    fn turn(&self, group: u64, place: u16, of: u16) -> Turn {
        if of < 2 {
            return Turn::Always;
        }
        match self.turn_order {
            TurnOrder::InOrder => Turn::InOrder { place, of },
            TurnOrder::Random => Turn::Random {
                from: f64::from(place) / f64::from(of),
                to: f64::from(place + 1) / f64::from(of),
            },
            TurnOrder::Shuffled => Turn::Shuffled { group, place, of },
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
    /// What had been done to it when it was brought, where it was.
    pub as_made: Option<Treatment>,
    /// Milliseconds for 100 dB by which it falls once it is let go, where that is heard.
    pub falls_silent_ms: Option<f64>,
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

/// How the takes of a pass fall silent: the middle of them.
fn falls_silent_ms(takes: &[PlacedTake], pass: PassId) -> Option<f64> {
    let of_pass = takes.iter().filter(|take| take.cell.pass == pass);
    let mut all: Vec<f64> = of_pass.filter_map(|take| take.falls_silent_ms).collect();
    all.sort_by(f64::total_cmp);
    all.get(all.len() / 2).copied()
}

/// Puts the takes on the keyboard. A layer or rung that was not recorded leaves its velocities or keys to its neighbours.
pub fn make_program(name: &str, plan: &Plan, settings: &MapSettings, takes: &[PlacedTake]) -> Program {
    let mut program = Program {
        name: name.to_owned(),
        ..Program::default()
    };
    for (pass, (mic_index, (strand, mic))) in (plan.passes.iter()).flat_map(|pass| {
        (0u16..)
            .zip(strands_of_pass(plan, pass.id))
            .map(move |of| (pass, of))
    }) {
        let name = mic.map_or_else(|| pass.name.clone(), |mic| format!("{} · {mic}", pass.name));
        let first = strands_of_pass(plan, pass.id).next();
        let regions_of = first.filter(|_| mic_index > 0).map(|(first, _)| first);
        // A strand that is made by rule has a shape of its name; mics play as the first of them.
        let shape = ShapeId(regions_of.unwrap_or(strand).0);
        program.strands.push(Strand {
            on: match pass.sounds_on {
                SoundsOn::KeyDown => On::KEY_DOWN,
                SoundsOn::KeyUp => On::KEY_UP,
            },
            mic: mic.map(|_| mic_index),
            regions_of,
            ..Strand::new(strand, name, shape)
        });
        if regions_of.is_none() {
            program.shapes.push(Shape {
                id: shape,
                loudness: first_loudness(
                    pass.layers.len(),
                    pass.sounds_on,
                    plan.kind_of(pass.id)
                        .loops()
                        .then(|| falls_silent_ms(takes, pass.id))
                        .flatten(),
                ),
                ..Shape::default()
            });
        }
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
            let key_span = settings.keys_of(&keys, n);
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
            let crossfades: Vec<Option<u8>> = layers.iter().map(|(layer, _)| layer.crossfade).collect();
            let strikes = settings.strikes_of(&lows, &crossfades);
            for ((layer, turns), strikes) in layers.iter().zip(strikes) {
                // One for all mics: what they heard of a strike sounds together.
                let group = SampleId::of("turns", &[pass.id.0, u64::from(key), layer.id.0]).0;
                for (place, take) in (0u16..).zip(turns) {
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
                        when: When {
                            turn: settings.turn(group, place, turns.len() as u16),
                            ..When::on(key_span, strikes)
                        },
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
                        // A drum rings however short its key is struck.
                        to_end: plan.kind == Kind::Drum && take.treatment.program_loop().is_none(),
                        ..Region::whole(sample, take.treatment.root_key, take.treatment.end_frame)
                    });
                }
            }
        }
    }
    program
}

/// The strands that are made by rule from a pass: one for each mic where there are several, and its name. Their regions share the treatment of their takes, and
/// what is said of the first.
pub(crate) fn strands_of_pass(plan: &Plan, pass: PassId) -> impl Iterator<Item = (StrandId, Option<&str>)> {
    let mics = plan
        .mics
        .iter()
        .filter(|_| plan.mics.len() > 1)
        .map(|mic| Some(mic.as_str()));
    let none = (plan.mics.len() < 2).then_some(None);
    mics.chain(none).map(move |mic| (strand_id(pass, mic), mic))
}

/// A strand that is made by rule from a pass is named by it, and by its mic where there are several.
fn strand_id(pass: PassId, mic: Option<&str>) -> StrandId {
    StrandId(mic.map_or(pass.0, |mic| SampleId::of(mic, &[pass.0]).0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Kind;
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
                as_made: None,
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
                falls_silent_ms: None,
            })
            .collect()
    }

    /// What is looped falls silent as the middle one of its recordings does; what dies away by itself as is usual.
    #[test]
    fn a_release_follows_from_how_the_recordings_end() {
        let mut plan = plan(&[60, 62, 64, 65], &[100], 1);
        let mut takes = taken(&plan, |_| false);
        for (take, ms) in takes
            .iter_mut()
            .zip([Some(900.0), None, Some(300.0), Some(420.0)])
        {
            take.falls_silent_ms = ms;
        }
        let mut release = |kind: Kind| {
            plan.kind = kind;
            make_program("x", &plan, &MapSettings::default(), &takes).shapes[0]
                .loudness
                .release_ms
        };
        assert_eq!(release(Kind::Sustained), 420.0);
        assert_eq!(release(Kind::Struck), program::Loudness::default().release_ms);
    }

    #[test]
    fn every_key_and_velocity_sounds_exactly_once() {
        let plan = plan(&[36, 40, 47], &[30, 70, 120], 1);
        let program = make_program("x", &plan, &MapSettings::default(), &taken(&plan, |_| false));
        for key in 31..=50 {
            for velocity in 1..=127 {
                let count = program::regions_for_key(&program, false, key, velocity).count();
                assert_eq!(count, 1, "key {key} velocity {velocity}");
            }
        }
        assert_eq!(program::regions_for_key(&program, false, 30, 64).count(), 0);
        let region = &program.regions[program::regions_for_key(&program, false, 41, 127).next().unwrap()];
        assert_eq!((region.root_key, region.when.keys), (47, Span::of(41, 50)));
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
        let shared: Vec<Option<StrandId>> = program.strands.iter().map(|s| s.regions_of).collect();
        assert_eq!(shared, [None, Some(program.strands[0].id)]);
        // What is said of how the first plays is said of the others.
        assert_eq!(program.strands[0].shape, program.strands[1].shape);
        assert_eq!(program.shapes.len(), 1);
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
            assert_eq!(program::regions_for_key(&program, false, 60, velocity).count(), 1);
        }
    }

    #[test]
    fn keys_between_rungs_go_where_they_are_told_and_no_further() {
        let rungs = [40, 43, 50];
        let spans = |fill, furthest_stretch_keys| {
            let settings = MapSettings {
                fill,
                furthest_stretch_keys,
                ..MapSettings::default()
            };
            (0..3)
                .map(|n| settings.keys_of(&rungs, n))
                .map(|span| (span.low, span.high))
                .collect::<Vec<_>>()
        };
        assert_eq!(spans(Fill::Down, 12), [(35, 40), (41, 43), (44, 53)]);
        assert_eq!(spans(Fill::Up, 12), [(35, 42), (43, 49), (50, 53)]);
        assert_eq!(spans(Fill::Middle, 12), [(35, 41), (42, 46), (47, 53)]);
        assert_eq!(spans(Fill::None, 12), [(35, 40), (43, 43), (50, 53)]);
        assert_eq!(spans(Fill::Up, 4), [(35, 42), (43, 47), (50, 53)]);
        assert_eq!(spans(Fill::Middle, 2), [(35, 41), (42, 45), (48, 53)]);
    }

    /// Whatever the width: at every strike something is heard, and the power of all that is heard is that of one.
    #[test]
    fn layers_cross_at_their_thresholds_and_keep_their_power() {
        for strike_crossfade in [0, 1, 2, 9, 40, 127] {
            let settings = MapSettings {
                strike_crossfade,
                ..MapSettings::default()
            };
            let spans = settings.strikes_of(&[1, 50, 60], &[]);
            for strike in 1..=127 {
                let power: f64 = spans.iter().map(|span| span.gain(strike).powi(2)).sum();
                assert!(
                    (power - 1.0).abs() < 1e-12,
                    "{strike_crossfade} at {strike}: {power} {spans:?}"
                );
            }
            let crossed = spans.iter().filter(|span| span.fade_in.is_some()).count();
            assert_eq!(crossed, if strike_crossfade < 2 { 0 } else { 2 });
            let without: Vec<u8> = spans.iter().map(|span| span.without_fades().low).collect();
            assert!(without.windows(2).all(|pair| pair[0] < pair[1]), "{without:?}");
        }
    }

    #[test]
    fn a_threshold_has_a_crossfade_of_its_own_or_none() {
        let settings = MapSettings {
            strike_crossfade: 10,
            ..MapSettings::default()
        };
        let spans = settings.strikes_of(&[1, 40, 80], &[None, Some(0), None]);
        let fades: Vec<(bool, bool)> = (spans.iter())
            .map(|span| (span.fade_in.is_some(), span.fade_out.is_some()))
            .collect();
        assert_eq!(fades, [(false, false), (false, true), (true, false)]);
    }

    #[test]
    fn round_robins_take_turns_as_they_are_told() {
        let plan = plan(&[60, 64], &[100], 3);
        let turns = |turn_order| {
            let settings = MapSettings {
                turn_order,
                ..MapSettings::default()
            };
            let program = make_program("x", &plan, &settings, &taken(&plan, |_| false));
            program
                .regions
                .iter()
                .map(|region| region.when.turn)
                .collect::<Vec<_>>()
        };
        assert_eq!(turns(TurnOrder::InOrder)[1], Turn::InOrder { place: 1, of: 3 });
        let group = |turn: Turn| match turn {
            Turn::Shuffled { group, .. } => group,
            _ => 0,
        };
        let shuffled = turns(TurnOrder::Shuffled);
        assert_eq!(group(shuffled[0]), group(shuffled[2]));
        assert_ne!(group(shuffled[0]), group(shuffled[3]));
        let shares: f64 = turns(TurnOrder::Random)[..3]
            .iter()
            .map(|turn| match turn {
                Turn::Random { from, to } => to - from,
                _ => 0.0,
            })
            .sum();
        assert!((shares - 1.0).abs() < 1e-12);
    }
}
