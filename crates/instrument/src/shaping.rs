//! How strands play: a first shape with its reasons, what was said of it, and how loud every key sounds at every strike.

use crate::driven::lay_driving;
use crate::facts::said_about;
use crate::{About, Fact, Facts, Reason, Target};
use program::{
    Loudness, On, ParamId, Program, Region, RegionKey, RegionOf, Route, ShapeId, SoundsOn, Source, Standing,
    Strand, StrandId, level_db, velocity_gain_db,
};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use utoipa::ToSchema;

/// Strikes at which levels are told.
const STRIKES: u8 = 16;

/// How loudness runs at first. One layer takes all of the strike's effect on level from the shape; the more were recorded, the more of it is in them. What
/// is looped falls silent as its recordings do, where that was heard: milliseconds for 100 dB.
pub(crate) fn first_loudness(layers: usize, on: SoundsOn, falls_silent_ms: Option<f64>) -> Loudness {
    let velocity_to_level = if layers <= 1 { 1.0 } else { 0.5 / layers as f64 };
    let release_ms = match on {
        SoundsOn::KeyDown => falls_silent_ms.unwrap_or(Loudness::default().release_ms),
        SoundsOn::KeyUp => 2_000.0,
    };
    Loudness {
        velocity_to_level,
        release_ms,
        ..Loudness::default()
    }
}

/// Why a strand's shape is at first as it is, value by value.
pub(crate) fn reasons_of(program: &Program, strand: &Strand) -> Vec<Reason> {
    let layers: BTreeSet<u8> = (program.regions_of(strand.id))
        .map(|region| region.when.strikes.low)
        .collect();
    let reason = |about: &str, because: &str| Reason {
        about: about.into(),
        because: because.into(),
    };
    let usual = program.loudness_of(Some(strand)).release_ms == Loudness::default().release_ms;
    let release = if !matches!(strand.on, On::KeyDown(_)) {
        "no key holds it: it rings out"
    } else if usual {
        "300 ms until it is not heard any more, as is common where nothing else is known"
    } else {
        "as the recordings fall silent at their ends, by the middle one of them"
    };
    let strike = match layers.len() {
        0 | 1 => "one layer has but one level: the strike makes all the difference".to_owned(),
        n => format!("much of the difference is in the {n} layers as they were recorded"),
    };
    vec![
        reason("attack", "a hair, so that no start clicks"),
        reason("release", release),
        reason("strike", &strike),
    ]
}

/// The same of one that others made.
pub(crate) fn reasons_of_brought() -> Vec<Reason> {
    let reason = |about: &str| Reason {
        about: about.into(),
        because: "as it was brought".into(),
    };
    ["attack", "release", "strike"].map(reason).into()
}

/// Lays what was said of the shapes of strands and regions over those that they have, each in a shape of its own where anything was.
pub(crate) fn lay_shapes(program: &mut Program, said: &Facts) {
    // A copy plays as what it is a copy of, but for what was said of it: that comes first.
    let shares = |strand: &Strand| strand.shape != ShapeId::of_strand(strand.id);
    let mut order: Vec<usize> = (0..program.strands.len()).collect();
    order.sort_by_key(|n| shares(&program.strands[*n]));
    for n in order {
        let Strand { id, shape, .. } = program.strands[n];
        let own = ShapeId::of_strand(id);
        program.strands[n].shape = lay_shape(program, (shape, own), &[(Target::Strand(id), own)], said);
    }
    lay_shapes_of_regions(program, said);
}

/// Lays what was said of some over a shape, one after the other: the name of its own, or of that one where nothing was.
fn lay_shape(
    program: &mut Program,
    (before, own): (ShapeId, ShapeId),
    of: &[(Target, ShapeId)],
    said: &Facts,
) -> ShapeId {
    let known = program.shapes.iter().find(|shape| shape.id == before);
    let known = known.cloned().unwrap_or_default();
    let (mut shape, mut curves) = (known.clone(), Vec::new());
    for (target, name) in of {
        shape.loudness = said_of_loudness(shape.loudness, *target, said);
        curves.extend(lay_driving(&mut shape, (*target, *name), said));
    }
    if shape == known {
        return before;
    }
    shape.id = own;
    program.curves.extend(curves);
    match program.shapes.iter_mut().find(|other| other.id == own) {
        Some(other) => *other = shape,
        None => program.shapes.push(shape),
    }
    own
}

/// A region has its strand's shape, but for what was said of it; one of a copy what was said of that which it is a copy of, too.
fn lay_shapes_of_regions(program: &mut Program, said: &Facts) {
    let shaped: HashSet<ShapeId> = (said.keys())
        .filter_map(|(target, fact)| match *target {
            Target::Region(strand, number) if fact.is_of(About::Strand) => {
                Some(ShapeId::of_part(strand, number))
            }
            Target::Route(shape, _) | Target::Movement(shape, _) | Target::Course(shape, _) => Some(shape),
            _ => None,
        })
        .collect();
    let originals: HashMap<StrandId, StrandId> = (program.strands.iter())
        .filter_map(|strand| Some((strand.id, strand.regions_of?)))
        .collect();
    for n in 0..program.regions.len() {
        let key = program.regions[n].key;
        let original = |of: &RegionKey| {
            let strand = *originals.get(&of.strand)?;
            Some(RegionKey { strand, ..*of })
        };
        let mut of: Vec<(Target, ShapeId)> = std::iter::successors(Some(key), original)
            .take(program.strands.len())
            .map(|key| {
                (
                    Target::Region(key.strand, key.of.number()),
                    ShapeId::of_region(key),
                )
            })
            .filter(|(_, shape)| shaped.contains(shape))
            .collect();
        let strand = (!of.is_empty())
            .then(|| program.strand_of(&program.regions[n]))
            .flatten();
        let Some(of_strand) = strand.map(|strand| strand.shape) else {
            continue;
        };
        // One that was brought may have its own already.
        let before = program.regions[n].shape.unwrap_or(of_strand);
        of.reverse();
        let shape = lay_shape(program, (before, ShapeId::of_region(key)), &of, said);
        program.regions[n].shape = (shape != of_strand).then_some(shape);
    }
}

fn said_of_loudness(first: Loudness, target: Target, said: &Facts) -> Loudness {
    let of = |fact: Fact, first: f64| said_about::<f64>(said, target, fact).unwrap_or(first);
    Loudness {
        delay_ms: of(Fact::ShapeDelayMs, first.delay_ms),
        attack_ms: of(Fact::ShapeAttackMs, first.attack_ms),
        hold_ms: of(Fact::ShapeHoldMs, first.hold_ms),
        decay_ms: of(Fact::ShapeDecayMs, first.decay_ms),
        sustain_db: of(Fact::ShapeSustainDb, first.sustain_db),
        release_ms: of(Fact::ShapeReleaseMs, first.release_ms),
        velocity_to_level: of(Fact::ShapeStrikeToLevel, first.velocity_to_level),
        bends: [
            of(Fact::ShapeAttackBend, first.bends[0]),
            of(Fact::ShapeDecayBend, first.bends[1]),
            of(Fact::ShapeReleaseBend, first.bends[2]),
        ],
    }
}

/// How loud one key of a strand sounds, from the softest strike to the hardest.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct KeyLevels {
    /// Which key.
    pub key: u8,
    /// At each of some strikes, rising evenly to 127: LUFS, as loud as the takes are with all gains; `null` where it is silent.
    pub lufs: Vec<Option<f64>>,
}

/// How loud every key of a strand sounds at every strike, where the loudness of each sample is known; keys on which nothing ever sounds are left out.
pub fn key_levels(program: &Program, strand: &Strand, loudness_lufs: &[Option<f64>]) -> Vec<KeyLevels> {
    let regions: Vec<&Region> = program.regions_of(strand.id).collect();
    let hands = Standing::of(program);
    (0..128)
        .map(|key| KeyLevels {
            key,
            lufs: (1..=STRIKES)
                .map(|n| {
                    let strike = (u16::from(n) * 127 / u16::from(STRIKES)) as u8;
                    level_at((program, &hands), strand, &regions, loudness_lufs, (key, strike))
                })
                .collect(),
        })
        .filter(|levels| levels.lufs.iter().any(Option::is_some))
        .collect()
}

/// The powers of all that answers, each by how often its turn comes.
fn level_at(
    (program, hands): (&Program, &Standing),
    strand: &Strand,
    regions: &[&Region],
    loudness_lufs: &[Option<f64>],
    (key, strike): (u8, u8),
) -> Option<f64> {
    let power: f64 = (regions.iter())
        .filter_map(|region| {
            let gain = region.when.gain(key, strike) * strand.when.gain(key, strike);
            Some(gain * gain * power_of((program, hands), region, loudness_lufs, (key, strike))?)
        })
        .sum();
    in_tenths(power)
}

/// A tenth of a dB is more than anybody sees or hears.
fn in_tenths(power: f64) -> Option<f64> {
    (power > 0.0).then(|| (100.0 * power.log10()).round() / 10.0)
}

/// The power of a region, by how often its turn comes, but for where it fades.
fn power_of(
    (program, hands): (&Program, &Standing),
    region: &Region,
    loudness_lufs: &[Option<f64>],
    (key, strike): (u8, u8),
) -> Option<f64> {
    let take = loudness_lufs.get(region.sample).copied().flatten()?;
    let turns = region.when.turn.place().map_or(1.0, |(_, of)| f64::from(of));
    let by_strike = velocity_gain_db(strike, program.loudness_of_region(region).velocity_to_level);
    let db = take + level_db(program, region) + by_strike + driven_db(program, region, hands, (key, strike));
    Some(10f64.powf(db / 10.0) / turns)
}

fn on_key<'a>(regions: &[&'a Region], key: u8) -> Vec<&'a Region> {
    let on = regions.iter().filter(|region| region.when.keys.contains(key));
    on.copied().collect()
}

/// Where one layer of a strand goes over into the next.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct LayerStep {
    /// Whose.
    pub strand: StrandId,
    /// The softer of the two.
    pub layer: u64,
    /// The softest strike of the harder one: the middle of all keys.
    pub strike: u8,
    /// How much louder the harder one is as the same strike: the middle of all keys, in dB.
    pub step_db: f64,
    /// What brings the softer one, and with it all that are softer still, as loud as the hardest.
    pub by_db: f64,
}

/// Every step between the layers of a strand, from the softest on, where the loudness of each sample is known.
pub fn layer_steps(program: &Program, strand: &Strand, loudness_lufs: &[Option<f64>]) -> Vec<LayerStep> {
    let hands = Standing::of(program);
    let mut layers: BTreeMap<u64, Vec<&Region>> = BTreeMap::new();
    for region in program.regions_of(strand.id) {
        if let RegionOf::Cell { layer, .. } = region.key.of {
            layers.entry(layer).or_default().push(region);
        }
    }
    let softest = |of: &[&Region]| of.iter().map(|region| region.when.strikes.low).min();
    let mut layers: Vec<(u64, Vec<&Region>)> = layers.into_iter().collect();
    layers.sort_by_key(|(_, of)| softest(of));
    let mut steps = Vec::new();
    for two in layers.windows(2) {
        let [(layer, soft), (_, hard)] = two else { continue };
        let mut at: Vec<(u8, f64)> = (0..128)
            .filter_map(|key| {
                let (soft, hard) = (on_key(soft, key), on_key(hard, key));
                let strike = softest(&hard)?;
                let level = |of: &[&Region]| {
                    let powers = of.iter().filter_map(|region| {
                        power_of((program, &hands), region, loudness_lufs, (key, strike))
                    });
                    in_tenths(powers.sum())
                };
                Some((strike, level(&hard)? - level(&soft)?))
            })
            .collect();
        at.sort_by(|a, b| a.1.total_cmp(&b.1));
        if let Some(&(strike, step_db)) = at.get(at.len() / 2) {
            steps.push(LayerStep {
                strand: strand.id,
                layer: *layer,
                strike,
                step_db,
                by_db: 0.0,
            });
        }
    }
    let mut by_db = 0.0;
    for step in steps.iter_mut().rev() {
        by_db += step.step_db;
        step.by_db = by_db;
    }
    steps
}

/// What drives level by the strike, by the key and by hands where they are before anybody moved them; what moves by itself is left out.
fn driven_db(program: &Program, region: &Region, hands: &Standing, (key, strike): (u8, u8)) -> f64 {
    let stands = |source: Source| match source {
        Source::Strike => Some(f64::from(strike) / 127.0),
        Source::Key => Some(f64::from(key) / 127.0),
        other => hands.source(other, key),
    };
    let does = |route: &Route| {
        let value = stands(route.from)?;
        let times = route.times.map_or(Some(1.0), stands)?;
        Some(route.does(value, program.curve_of(route)) * times)
    };
    let shape = program
        .shape_of_region(region)
        .map(|place| &program.shapes[place]);
    let routes = shape.into_iter().flat_map(|shape| &shape.routes);
    routes
        .filter(|route| route.to == ParamId::Level)
        .filter_map(does)
        .sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, Said, Wish, lay_over};
    use program::{Shape, Span, Turn, When};
    use serde_json::{Value, json};

    const ONE: StrandId = StrandId(1);
    const COPY: StrandId = StrandId(2);

    fn program() -> Program {
        let mut program = Program {
            strands: vec![
                Strand::new(ONE, "One", ShapeId(1)),
                Strand::new(COPY, "Copy", ShapeId(1)),
            ],
            shapes: vec![Shape {
                id: ShapeId(1),
                loudness: first_loudness(2, SoundsOn::KeyDown, None),
                ..Shape::default()
            }],
            ..Program::default()
        };
        for (n, strikes) in [Span::of(1, 63), Span::of(64, 127)].into_iter().enumerate() {
            let mut region = Region::whole(n, 60, 100);
            (region.key.strand, region.key.of) = (ONE, RegionOf::Own(n as u64));
            region.when = When::on(Span::of(58, 60), strikes);
            program.regions.push(region);
        }
        program
    }

    fn facts(wishes: Vec<(StrandId, Fact, Value)>) -> Facts {
        let mut said = Facts::new();
        let wishes: Vec<Wish> = wishes
            .into_iter()
            .map(|(strand, fact, value)| Wish::from((Target::Strand(strand), fact, Said::Value(value))))
            .collect();
        let change = Change::propose("x", &said, wishes).unwrap();
        lay_over(&mut said, &change.fields);
        said
    }

    #[test]
    fn what_is_said_of_a_copy_leaves_what_it_is_a_copy_of() {
        let mut program = program();
        lay_shapes(&mut program, &facts(vec![(COPY, Fact::ShapeAttackMs, json!(80))]));
        let attacks: Vec<f64> = (program.strands.iter())
            .map(|strand| program.loudness_of(Some(strand)).attack_ms)
            .collect();
        assert_eq!(attacks, [2.0, 80.0]);
        let all = [
            (Fact::ShapeDelayMs, 5.0),
            (Fact::ShapeAttackMs, 10.0),
            (Fact::ShapeHoldMs, 20.0),
            (Fact::ShapeDecayMs, 3_000.0),
            (Fact::ShapeSustainDb, -12.0),
            (Fact::ShapeReleaseMs, 900.0),
            (Fact::ShapeStrikeToLevel, 0.4),
            (Fact::ShapeAttackBend, 0.5),
            (Fact::ShapeDecayBend, -1.0),
            (Fact::ShapeReleaseBend, 0.25),
        ];
        let said = facts(all.iter().map(|(fact, to)| (ONE, *fact, json!(to))).collect());
        lay_shapes(&mut program, &said);
        let Loudness {
            delay_ms,
            attack_ms,
            hold_ms,
            decay_ms,
            sustain_db,
            release_ms,
            velocity_to_level,
            bends: [attack, decay, release],
        } = program.loudness_of(program.strand(ONE));
        let now = [
            delay_ms,
            attack_ms,
            hold_ms,
            decay_ms,
            sustain_db,
            release_ms,
            velocity_to_level,
            attack,
            decay,
            release,
        ];
        assert_eq!(now, all.map(|(_, to)| to));
        // It has a shape of its own by now.
        assert_eq!(program.loudness_of(program.strand(COPY)).attack_ms, 80.0);
    }

    /// What was said of a region holds for it alone, over what holds for its strand, and for copies of it.
    #[test]
    fn a_region_may_have_a_shape_of_its_own() {
        let mut program = program();
        let copied = program.regions.clone().into_iter().map(|mut region| {
            region.key.strand = COPY;
            region
        });
        program.regions.extend(copied.collect::<Vec<_>>());
        program.strands[1].regions_of = Some(ONE);
        let route =
            json!({"from": "strike", "to": "cutoff", "amount": 600.0, "curve": [{"at": 0.0, "value": 0.0}]});
        let number = program.regions[1].key.of.number();
        let own = ShapeId::of_region(program.regions[1].key);
        let region = Target::Region(ONE, number);
        let mut said = Facts::new();
        for (target, fact, value) in [
            (Target::Strand(ONE), Fact::ShapeAttackMs, json!(10.0)),
            (Target::Strand(COPY), Fact::ShapeHoldMs, json!(7.0)),
            (region, Fact::ShapeAttackMs, json!(30.0)),
            (region, Fact::FilterForm, json!({"passes": "low", "poles": 2})),
            (Target::Route(own, 4), Fact::Route, route),
            (Target::Region(COPY, number), Fact::ShapeReleaseMs, json!(50.0)),
        ] {
            let change =
                Change::propose("x", &said, vec![Wish::from((target, fact, Said::Value(value)))]).unwrap();
            lay_over(&mut said, &change.fields);
        }
        lay_shapes(&mut program, &said);
        let of = |n: usize| {
            let shape = &program.shapes[program.shape_of_region(&program.regions[n]).unwrap()];
            let Loudness {
                attack_ms,
                hold_ms,
                release_ms,
                ..
            } = shape.loudness;
            (
                attack_ms,
                hold_ms,
                release_ms,
                shape.filter.is_some(),
                shape.routes.len(),
            )
        };
        assert_eq!(of(0), (10.0, 0.0, 500.0, false, 0));
        assert_eq!(of(1), (30.0, 0.0, 500.0, true, 1));
        assert_eq!(of(2), (10.0, 7.0, 500.0, false, 0));
        assert_eq!(of(3), (30.0, 7.0, 50.0, true, 1));
        assert_eq!(program.regions[0].shape, None);
        assert_eq!(program.regions[1].shape, Some(own));
        let curve = program
            .shapes
            .iter()
            .find(|shape| shape.id == own)
            .unwrap()
            .routes[0]
            .curve;
        assert!(program.curves.iter().any(|known| Some(known.id) == curve));
        assert!(
            Change::propose(
                "x",
                &said,
                vec![Wish::from((region, Fact::StrandMuted, Said::Value(json!(true))))]
            )
            .is_err()
        );
    }

    #[test]
    fn what_cannot_be_is_refused_with_a_sentence() {
        for (fact, value) in [
            (Fact::ShapeAttackMs, json!(-1)),
            (Fact::ShapeSustainDb, json!(3)),
            (Fact::ShapeStrikeToLevel, json!("much")),
        ] {
            let wish = Wish::from((Target::Strand(ONE), fact, Said::Value(value)));
            assert!(
                Change::propose("x", &Facts::new(), vec![wish]).is_err(),
                "{fact:?}"
            );
        }
    }

    /// Three layers, the softest 12 dB and the middle one 5 dB under the hardest: raised by as much, each goes over into the next without a step.
    #[test]
    fn layers_are_brought_together() {
        let mut program = program();
        program.regions.clear();
        for (layer, strikes) in [Span::of(1, 40), Span::of(41, 90), Span::of(91, 127)]
            .into_iter()
            .enumerate()
        {
            let mut region = Region::whole(layer, 60, 100);
            let of = RegionOf::Cell {
                pass: 1,
                key: 60,
                layer: 7 - layer as u64,
                round_robin: 0,
            };
            region.key = RegionKey { strand: ONE, of };
            region.when = When::on(Span::of(50, 70), strikes);
            program.regions.push(region);
        }
        let loudness = [Some(-32.0), Some(-25.0), Some(-20.0)];
        let strand = program.strands[0].clone();
        let steps = layer_steps(&program, &strand, &loudness);
        let told: Vec<_> = steps
            .iter()
            .map(|step| (step.layer, step.strike, step.step_db, step.by_db))
            .collect();
        assert_eq!(told, [(7, 41, 7.0, 12.0), (6, 91, 5.0, 5.0)]);
        for step in steps {
            for region in &mut program.regions {
                if matches!(region.key.of, RegionOf::Cell { layer, .. } if layer == step.layer) {
                    region.gain_db += step.by_db;
                }
            }
        }
        let after = layer_steps(&program, &strand, &loudness);
        assert!(after.iter().all(|step| step.step_db == 0.0 && step.by_db == 0.0));
        // What was not measured tells nothing.
        assert!(layer_steps(&program, &strand, &[None, None, None]).is_empty());
    }

    #[test]
    fn every_key_is_as_loud_at_every_strike_as_its_regions_and_the_strike_make_it() {
        let mut program = program();
        let strand = program.strands[0].clone();
        let levels = key_levels(&program, &strand, &[Some(-30.0), Some(-20.0)]);
        assert_eq!(levels.iter().map(|of| of.key).collect::<Vec<_>>(), [58, 59, 60]);
        let at = |levels: &[KeyLevels], n: usize| levels[0].lufs[n].unwrap();
        // Two layers: a quarter of 40·log₁₀(v/127).
        assert!((at(&levels, 15) + 20.0).abs() < 0.06);
        assert!((at(&levels, 7) - (-30.0 + 10.0 * (63.0f64 / 127.0).log10())).abs() < 0.06);
        // Hands are where nobody moved them: expression open, no pressure. What moves by itself is not counted.
        let drives = |n: u64, from: Source, amount: f64| Route {
            id: program::RouteId(n),
            from,
            times: None,
            curve: None,
            to: ParamId::Level,
            amount,
        };
        program.shapes[0].routes = vec![
            drives(1, Source::Controller(11), 24.0),
            drives(2, Source::Pressure, 4.0),
            drives(3, Source::Strike, 12.7),
            drives(4, Source::Random(1), 3.0),
        ];
        let driven = key_levels(&program, &strand, &[Some(-30.0), Some(-20.0)]);
        assert!((at(&driven, 15) - (at(&levels, 15) - 4.0)).abs() < 0.11);
        assert!((at(&driven, 7) - (at(&levels, 7) - 4.0 - 6.4)).abs() < 0.11);
        program.shapes[0].routes.clear();
        // Of two in turn one sounds at a time; one whose loudness is not known is not heard of.
        program.regions.push(program.regions[1].clone());
        for (place, n) in [(0, 1), (1, 2)] {
            program.regions[n].when.turn = Turn::InOrder { place, of: 2 };
        }
        let levels = key_levels(&program, &strand, &[None, Some(-20.0)]);
        assert!((at(&levels, 15) + 20.0).abs() < 0.06);
        assert_eq!(levels[0].lufs[3], None);
    }
}
