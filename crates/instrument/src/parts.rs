//! A plan in its parts, each a fact of its own: so two people, or one quick one, never overwrite each other's.
//!
//! The plan that an instrument was made with stays as it is; what was said of its parts is laid over it.

use crate::change::{Change, ChangeError, FieldChange};
use crate::facts::{Fact, Facts, Said, said_of};
use crate::target::{About, Target};
use crate::{LayerId, MapSettings, PassId, Plan};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// Where a fact stands in a plan of JSON: of the instrument, of a pass, of a layer.
const IN_PLAN: [(Fact, &str); 10] = [
    (Fact::Kind, "/kind"),
    (Fact::How, "/source/how"),
    (Fact::Rig, "/source/rig"),
    (Fact::MidiChannel, "/source/channel"),
    (Fact::MidiBank, "/source/bank"),
    (Fact::MidiProgram, "/source/program"),
    (Fact::RateHz, "/rate_hz"),
    (Fact::Bits, "/bits"),
    (Fact::Sides, "/channels"),
    (Fact::Mics, "/mics"),
];
const IN_PASS: [(Fact, &str); 9] = [
    (Fact::PassName, "name"),
    (Fact::SoundsOn, "sounds_on"),
    (Fact::Rungs, "rungs"),
    (Fact::RoundRobins, "round_robins"),
    (Fact::HoldMs, "hold_ms"),
    (Fact::HoldHighMs, "hold_high_ms"),
    (Fact::TailMs, "tail_ms"),
    (Fact::Controller, "controller"),
    (Fact::Chord, "chord"),
];
const IN_LAYER: [(Fact, &str); 5] = [
    (Fact::LayerName, "name"),
    (Fact::StrikeVelocity, "strike_velocity"),
    (Fact::LayerRoundRobins, "round_robins"),
    (Fact::LowVelocity, "low_velocity"),
    (Fact::LayerCrossfade, "crossfade"),
];

/// Whether it is a part of the plan.
fn is_of_plan(target: Target, fact: Fact) -> bool {
    match target.about() {
        About::Instrument => IN_PLAN.iter().any(|(of, _)| *of == fact),
        about => matches!(about, About::Pass | About::Layer),
    }
}

impl FieldChange {
    /// Whether it says something of the plan.
    pub fn is_of_plan(&self) -> bool {
        is_of_plan(self.target, self.fact)
    }
}

impl Change {
    /// Whether it says something of the plan.
    pub fn is_of_plan(&self) -> bool {
        self.fields.iter().any(FieldChange::is_of_plan)
    }
}

/// Every part of a plan. Places count from 0.
fn parts(plan: &Plan) -> Facts {
    let mut all = Facts::new();
    let value = json!(plan);
    for (fact, at) in IN_PLAN {
        let here = value.pointer(at).cloned().unwrap_or_default();
        all.insert((Target::Instrument, fact), here);
    }
    let mut tell = |target, place: (Fact, usize), fields: &[(Fact, &str)], of: Value| {
        all.insert((target, place.0), json!(place.1 as f64));
        for (fact, name) in fields {
            all.insert((target, *fact), of.get(name).cloned().unwrap_or_default());
        }
    };
    for (place, pass) in plan.passes.iter().enumerate() {
        let target = Target::Pass(pass.id);
        tell(target, (Fact::PassPlace, place), &IN_PASS, json!(pass));
        for (place, layer) in pass.layers.iter().enumerate() {
            let target = Target::Layer(pass.id, layer.id);
            tell(target, (Fact::LayerPlace, place), &IN_LAYER, json!(layer));
        }
    }
    all
}

/// The parts with what was said of them laid over.
fn parts_as_said(base: &Plan, said: &Facts) -> Facts {
    let mut all = parts(base);
    for ((target, fact), value) in said {
        if is_of_plan(*target, *fact) {
            all.insert((*target, *fact), value.clone());
        }
    }
    all
}

/// The targets that have a place, in its order.
fn in_order<T: Copy + Ord>(all: &Facts, place: Fact, of: impl Fn(Target) -> Option<T>) -> Vec<T> {
    let mut found: Vec<(f64, T)> = all
        .iter()
        .filter(|((_, fact), _)| *fact == place)
        .filter_map(|((target, _), value)| Some((value.as_f64()?, of(*target)?)))
        .collect();
    found.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
    found.into_iter().map(|(_, one)| one).collect()
}

fn passes_of(all: &Facts) -> Vec<PassId> {
    in_order(all, Fact::PassPlace, |target| match target {
        Target::Pass(pass) => Some(pass),
        _ => None,
    })
}

fn layers_of(all: &Facts, of: PassId) -> Vec<LayerId> {
    in_order(all, Fact::LayerPlace, |target| match target {
        Target::Layer(pass, layer) if pass == of => Some(layer),
        _ => None,
    })
}

fn put_together(base: &Plan, all: &Facts) -> Option<Plan> {
    let fields = |id: u64, target: Target, fields: &[(Fact, &str)]| {
        let mut made = Map::from_iter([("id".to_owned(), json!(id))]);
        for (fact, name) in fields {
            let value = all.get(&(target, *fact)).cloned().unwrap_or_default();
            made.insert((*name).to_owned(), value);
        }
        made
    };
    let passes: Vec<Value> = passes_of(all)
        .into_iter()
        .map(|pass| {
            let layers: Vec<Value> = layers_of(all, pass)
                .into_iter()
                .map(|layer| Value::Object(fields(layer.0, Target::Layer(pass, layer), &IN_LAYER)))
                .collect();
            let mut made = fields(pass.0, Target::Pass(pass), &IN_PASS);
            made.insert("layers".to_owned(), Value::Array(layers));
            Value::Object(made)
        })
        .collect();
    let mut plan = json!(base);
    for (fact, at) in IN_PLAN {
        *plan.pointer_mut(at)? = all.get(&(Target::Instrument, fact))?.clone();
    }
    plan["passes"] = Value::Array(passes);
    serde_json::from_value(plan).ok()
}

/// The plan as it stands: that which an instrument was made with, and what was said of its parts.
pub fn plan_of(base: &Plan, said: &Facts) -> Plan {
    let is_said = said.keys().any(|(target, fact)| is_of_plan(*target, *fact));
    let made = is_said
        .then(|| put_together(base, &parts_as_said(base, said)))
        .flatten();
    made.unwrap_or_else(|| base.clone())
}

/// How rungs share the keys, layers the strikes and round robins the turns, as it was said.
pub fn map_of(said: &Facts) -> MapSettings {
    let usual = MapSettings::default();
    MapSettings {
        fill: said_of(said, Fact::Fill).unwrap_or(usual.fill),
        furthest_stretch_keys: said_of(said, Fact::FurthestStretchKeys)
            .unwrap_or(usual.furthest_stretch_keys),
        below_keys: said_of(said, Fact::BelowKeys).unwrap_or(usual.below_keys),
        above_keys: said_of(said, Fact::AboveKeys).unwrap_or(usual.above_keys),
        strike_crossfade: said_of(said, Fact::StrikeCrossfade).unwrap_or(usual.strike_crossfade),
        turn_order: said_of(said, Fact::TurnOrder).unwrap_or(usual.turn_order),
    }
}

/// What says it, as far as it is not as usual.
pub fn map_wishes(map: MapSettings) -> Vec<(Target, Fact, Said)> {
    let told = |map: MapSettings| {
        [
            (Fact::Fill, json!(map.fill)),
            (Fact::FurthestStretchKeys, json!(map.furthest_stretch_keys)),
            (Fact::BelowKeys, json!(map.below_keys)),
            (Fact::AboveKeys, json!(map.above_keys)),
            (Fact::StrikeCrossfade, json!(map.strike_crossfade)),
            (Fact::TurnOrder, json!(map.turn_order)),
        ]
    };
    let usual = told(MapSettings::default());
    let differ = told(map).into_iter().filter(|wish| !usual.contains(wish));
    differ
        .map(|(fact, value)| (Target::Instrument, fact, Said::Value(value)))
        .collect()
}

/// Whether what was said leaves a plan that can be recorded.
///
/// # Errors
/// A sentence where it does not.
pub fn check_plan(base: &Plan, said: &Facts) -> Result<(), ChangeError> {
    let plan = put_together(base, &parts_as_said(base, said));
    let plan = plan.ok_or_else(|| ChangeError("This plan cannot be recorded.".into()))?;
    plan.check().map_err(|error| ChangeError(error.to_string()))
}

/// What makes one plan another, part by part. What is in neither, since somebody else said it meanwhile, stays as it is.
///
/// # Errors
/// A sentence where somebody else said something else of a same part meanwhile.
pub fn plan_wishes(
    base: &Plan,
    said: &Facts,
    from: &Plan,
    to: &Plan,
) -> Result<Vec<(Target, Fact, Said)>, ChangeError> {
    let (now, from, mut wished) = (parts_as_said(base, said), parts(from), parts(to));
    // What somebody else removed meanwhile stays removed, and whoever edits it is told.
    let place_of = |target: Target| match target {
        Target::Layer(..) => (target, Fact::LayerPlace),
        _ => (target, Fact::PassPlace),
    };
    let is_gone = |target: Target| {
        let of_pass = match target {
            Target::Layer(pass, _) => Some(Target::Pass(pass)),
            _ => None,
        };
        [Some(target), of_pass].into_iter().flatten().any(|target| {
            let place = place_of(target);
            from.contains_key(&place) && now.get(&place).is_none_or(Value::is_null)
        })
    };
    // Places are what they are now, but for what is new and what was moved.
    let passes: Vec<Target> = to.passes.iter().map(|pass| Target::Pass(pass.id)).collect();
    place(&now, Fact::PassPlace, &passes, &mut wished);
    for pass in &to.passes {
        let layers = pass.layers.iter().map(|layer| Target::Layer(pass.id, layer.id));
        place(&now, Fact::LayerPlace, &layers.collect::<Vec<_>>(), &mut wished);
    }
    let mut wishes = Vec::new();
    for (part, value) in &wished {
        let (was, stands) = (from.get(part), now.get(part));
        let (differs, was_changed) = if is_place(part.1) {
            (stands != Some(value), false)
        } else {
            (was != Some(value), was != stands)
        };
        if !differs || stands == Some(value) {
            continue;
        }
        if is_gone(part.0) {
            if is_place(part.1) {
                continue;
            }
            return Err(ChangeError::meanwhile());
        }
        if was_changed {
            return Err(ChangeError::meanwhile());
        }
        wishes.push((part.0, part.1, Said::Value(value.clone())));
    }
    let gone = from
        .keys()
        .filter(|part| is_place(part.1) && !wished.contains_key(part));
    wishes.extend(gone.map(|(target, fact)| (*target, *fact, Said::Value(Value::Null))));
    Ok(wishes)
}

fn is_place(fact: Fact) -> bool {
    matches!(fact, Fact::PassPlace | Fact::LayerPlace)
}

/// Gives places to some targets in their order: those that they have, where these rise, and between them to all others.
fn place(now: &Facts, fact: Fact, targets: &[Target], places: &mut Facts) {
    let has: BTreeMap<Target, f64> = targets
        .iter()
        .filter_map(|target| Some((*target, now.get(&(*target, fact))?.as_f64()?)))
        .collect();
    let mut last = -1.0;
    for (n, target) in targets.iter().enumerate() {
        let next = targets[n..]
            .iter()
            .find_map(|later| has.get(later).filter(|at| **at > last));
        let own = has.get(target).filter(|at| **at > last);
        last = match (own, next) {
            (Some(own), _) => *own,
            (None, Some(next)) => (last + next) / 2.0,
            (None, None) => last + 1.0,
        };
        places.insert((*target, fact), json!(last));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lay_over;
    use crate::plan::tests::plan;

    fn done(base: &Plan, facts: &mut Facts, from: &Plan, to: &Plan) -> Change {
        let wishes = plan_wishes(base, facts, from, to).unwrap();
        let change = Change::propose("edit", facts, wishes).unwrap();
        lay_over(facts, &change.fields);
        check_plan(base, facts).unwrap();
        change
    }

    #[test]
    fn a_plan_is_its_parts_put_together() {
        let plan = plan(&[36, 40, 44], &[40, 100], 2);
        assert_eq!(put_together(&plan, &parts(&plan)), Some(plan.clone()));
        assert_eq!(plan_of(&plan, &Facts::new()), plan);
    }

    /// Two pages that edit the same plan at once: what each of them said holds.
    #[test]
    fn two_who_change_different_parts_both_hold() {
        let base = plan(&[36, 40, 44], &[40, 100], 2);
        let mut facts = Facts::new();
        let (mut one, mut other) = (base.clone(), base.clone());
        one.passes[0].hold_ms = 4_000;
        other.passes[0].layers[1].name = "as hard as it goes".into();
        done(&base, &mut facts, &base, &one);
        done(&base, &mut facts, &base, &other);
        let now = plan_of(&base, &facts);
        assert_eq!(now.passes[0].hold_ms, 4_000);
        assert_eq!(now.passes[0].layers[1].name, "as hard as it goes");
    }

    #[test]
    fn two_who_change_the_same_part_are_told() {
        let base = plan(&[36, 40, 44], &[40, 100], 2);
        let mut facts = Facts::new();
        let with = |hold_ms| {
            let mut plan = base.clone();
            plan.passes[0].hold_ms = hold_ms;
            plan
        };
        done(&base, &mut facts, &base, &with(4_000));
        let refused = plan_wishes(&base, &facts, &base, &with(5_000)).unwrap_err();
        assert!(refused.to_string().contains("meanwhile"), "{refused}");
        // The same value is no quarrel.
        assert_eq!(plan_wishes(&base, &facts, &base, &with(4_000)), Ok(Vec::new()));
    }

    /// A layer that is put under the others renames none of them, and undoing the removal of a pass brings all of it back.
    #[test]
    fn layers_and_passes_come_and_go_and_keep_their_names() {
        let base = plan(&[36, 40], &[40, 100], 1);
        let mut facts = Facts::new();
        let mut softer = base.clone();
        let mut new = softer.passes[0].layers[0].clone();
        (new.id, new.strike_velocity, new.name) = (LayerId(77), 10, "barely".into());
        softer.passes[0].layers.insert(0, new);
        done(&base, &mut facts, &base, &softer);
        let now = plan_of(&base, &facts);
        assert_eq!(now, softer);
        assert_eq!(now.cells()[1].layer, LayerId(0));
        let mut second = now.clone();
        let mut pass = now.passes[0].clone();
        (pass.id, pass.name) = (PassId(99), "Keys up".into());
        second.passes.push(pass);
        done(&base, &mut facts, &now, &second);
        assert_eq!(plan_of(&base, &facts), second);
        let mut without = second.clone();
        without.passes.remove(0);
        let removal = done(&base, &mut facts, &second, &without);
        assert_eq!(plan_of(&base, &facts), without);
        let back = removal.undo(&facts).set;
        lay_over(&mut facts, &back);
        assert_eq!(plan_of(&base, &facts), second);
    }

    /// One removes a layer and a pass; another, who still sees both, edits something else, then them.
    #[test]
    fn what_was_removed_meanwhile_stays_removed_and_who_edits_it_is_told() {
        let mut base = plan(&[36, 40], &[40, 100], 1);
        let mut second = base.passes[0].clone();
        (second.id, second.name) = (PassId(9), "Keys up".into());
        base.passes.push(second);
        let mut facts = Facts::new();
        let mut without = base.clone();
        without.passes.pop();
        without.passes[0].layers.remove(0);
        done(&base, &mut facts, &base, &without);
        let with = |edit: &dyn Fn(&mut Plan)| {
            let mut plan = base.clone();
            edit(&mut plan);
            plan
        };
        done(
            &base,
            &mut facts,
            &base,
            &with(&|plan| plan.passes[0].hold_ms = 4_000),
        );
        let now = plan_of(&base, &facts);
        assert_eq!(now.passes[0].hold_ms, 4_000);
        assert_eq!((now.passes.len(), now.passes[0].layers.len()), (1, 1));
        for edited in [
            with(&|plan| plan.passes[1].hold_ms = 4_000),
            with(&|plan| plan.passes[1].layers[0].strike_velocity = 41),
            with(&|plan| plan.passes[0].layers[0].strike_velocity = 41),
        ] {
            assert!(plan_wishes(&base, &facts, &base, &edited).is_err());
        }
    }

    #[test]
    fn what_would_leave_a_plan_that_cannot_be_recorded_is_refused() {
        let base = plan(&[36, 40], &[40, 100], 1);
        let soft = Target::Layer(PassId(0), LayerId(0));
        let facts = Facts::from([((soft, Fact::StrikeVelocity), json!(120))]);
        let refused = check_plan(&base, &facts).unwrap_err();
        assert!(
            refused.to_string().contains("rise from soft to loud"),
            "{refused}"
        );
    }
}
