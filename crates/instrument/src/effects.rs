//! Lays what was said of effects over a program: rows of strands, rows that several send to, the row of the whole, and what drives them.

use crate::driven::routes_of;
use crate::effect_settings::EFFECT_SETTINGS;
use crate::facts::said_about;
use crate::{Fact, Facts, Target};
use program::{
    Bus, BusId, Effect, EffectId, EffectKind, MOST_IN_ROW, ParamId, Program, ROUTES_OF_WHOLE, Send, StrandId,
};
use std::collections::BTreeSet;

/// Most rows that strands send to.
const MOST_SHARED: usize = 8;
/// Most routes of the whole.
const MOST_ROUTES: usize = 64;

fn kind_of(said: &Facts, target: Target) -> Option<EffectKind> {
    said_about::<Option<EffectKind>>(said, target, Fact::EffectKind).flatten()
}

/// The effects of a row, in their order.
fn row_of(said: &Facts, bus: BusId) -> Vec<Effect> {
    let first = (Target::Effect(bus, 0), Fact::EffectKind);
    let last = (Target::Effect(bus, u64::MAX), Fact::EffectKind);
    let mut row: Vec<(f64, Effect)> = said
        .range(first..=last)
        .filter_map(|((target, fact), _)| match (*target, *fact) {
            (Target::Effect(_, id), Fact::EffectKind) => Some((id, kind_of(said, *target)?, *target)),
            _ => None,
        })
        .map(|(id, kind, target)| {
            let mut effect = Effect::new(EffectId(id), kind);
            effect.on = said_about(said, target, Fact::EffectOn).unwrap_or(true);
            effect.level_db = said_about(said, target, Fact::EffectLevelDb).unwrap_or(0.0);
            for (fact, (value, row)) in EFFECT_SETTINGS
                .iter()
                .zip(effect.settings.iter_mut().zip(kind.settings()))
            {
                let set = said_about::<f64>(said, target, *fact);
                *value = set.map_or(*value, |set| row.nearest(set));
            }
            let place = said_about::<Option<f64>>(said, target, Fact::EffectPlace).flatten();
            (place.unwrap_or(id as f64), effect)
        })
        .collect();
    row.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.id.cmp(&b.1.id)));
    row.into_iter()
        .map(|(_, effect)| effect)
        .take(MOST_IN_ROW)
        .collect()
}

/// Lays what was said over the rows of a program.
pub(crate) fn lay_effects(program: &mut Program, said: &Facts) {
    let mut shared: BTreeSet<BusId> = program.buses.iter().map(|bus| bus.id).collect();
    let mut own: BTreeSet<BusId> = BTreeSet::new();
    for (target, fact) in said.keys() {
        match (*target, *fact) {
            (Target::Bus(bus), Fact::BusName) if bus.is_shared() => drop(shared.insert(bus)),
            (Target::Effect(bus, _), Fact::EffectKind) if !bus.is_shared() => drop(own.insert(bus)),
            _ => {}
        }
    }
    let mut buses = Vec::new();
    for id in shared.into_iter().filter(|id| id.is_shared()) {
        let known = program.buses.iter().find(|bus| bus.id == id);
        let named = match said_about::<Option<String>>(said, Target::Bus(id), Fact::BusName) {
            Some(name) => name,
            None => known.map(|bus| bus.name.clone()),
        };
        let Some(name) = named.filter(|_| buses.len() < MOST_SHARED) else {
            continue;
        };
        let gain_db = known.map_or(0.0, |bus| bus.gain_db);
        buses.push(Bus {
            id,
            name,
            gain_db: said_about(said, Target::Bus(id), Fact::BusGainDb).unwrap_or(gain_db),
            effects: row_of(said, id),
        });
    }
    let is_there = |bus: BusId| match bus.strand() {
        Some(strand) => program.strand(strand).is_some(),
        None => bus == BusId::WHOLE,
    };
    for id in own.into_iter().filter(|bus| is_there(*bus)) {
        let effects = row_of(said, id);
        if !effects.is_empty() {
            let name = id.strand().and_then(|strand| program.strand(strand));
            buses.push(Bus {
                id,
                name: name.map_or_else(|| "All".to_owned(), |strand| strand.name.clone()),
                gain_db: 0.0,
                effects,
            });
        }
    }
    for strand in &mut program.strands {
        lay_sends(strand.id, &mut strand.sends, &buses, said);
    }
    program.buses = buses;
    let (routes, curves) = routes_of(ROUTES_OF_WHOLE, said);
    let drives = |to: ParamId| match to {
        ParamId::StrandLevel(strand) => program.strand(strand).is_some(),
        ParamId::Effect(id, _) => {
            let effects = program.buses.iter().flat_map(|bus| &bus.effects);
            effects.into_iter().any(|effect| effect.id == id)
        }
        _ => false,
    };
    program.routes = routes
        .into_iter()
        .filter(|route| drives(route.to))
        .take(MOST_ROUTES)
        .collect();
    program.curves.extend(curves);
}

fn lay_sends(strand: StrandId, sends: &mut Vec<Send>, buses: &[Bus], said: &Facts) {
    for bus in buses.iter().filter(|bus| bus.id.is_shared()) {
        let target = Target::Send(strand, bus.id);
        let Some(sent) = said_about::<Option<f64>>(said, target, Fact::SendDb) else {
            continue;
        };
        sends.retain(|send| send.bus != bus.id);
        sends.extend(sent.map(|gain_db| Send { bus: bus.id, gain_db }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, ChangeError, Said, Wish, lay_over};
    use program::{ShapeId, Strand};
    use serde_json::{Value, json};

    fn say(facts: &mut Facts, wishes: Vec<(Target, Fact, Value)>) -> Result<(), ChangeError> {
        let wishes = wishes
            .into_iter()
            .map(|(target, fact, value)| Wish::from((target, fact, Said::Value(value))));
        let change = Change::propose("x", facts, wishes)?;
        lay_over(facts, &change.fields);
        Ok(())
    }

    fn program(said: &Facts) -> Program {
        let mut program = Program {
            strands: vec![
                Strand::new(StrandId(3), "Front", ShapeId(3)),
                Strand::new(StrandId(4), "Back", ShapeId(4)),
            ],
            ..Program::default()
        };
        lay_effects(&mut program, said);
        program
    }

    const OWN: BusId = BusId(7);
    const ROOM: BusId = BusId(2);

    #[test]
    fn a_row_stands_in_its_order_with_what_was_set() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        let (chorus, delay) = (Target::Effect(OWN, 1), Target::Effect(OWN, 2));
        say(
            &mut said,
            vec![
                (chorus, Fact::EffectKind, json!("chorus")),
                (delay, Fact::EffectKind, json!("delay")),
                (delay, Fact::EffectSetting1, json!(250)),
                (delay, Fact::EffectOn, json!(false)),
            ],
        )?;
        let bus = program(&said).buses[0].clone();
        assert_eq!(
            (bus.id, bus.name.as_str()),
            (BusId::of_strand(StrandId(3)), "Front")
        );
        let kinds = |said: &Facts| -> Vec<EffectKind> {
            program(said).buses[0]
                .effects
                .iter()
                .map(|effect| effect.kind)
                .collect()
        };
        assert_eq!(kinds(&said), [EffectKind::Chorus, EffectKind::Delay]);
        assert_eq!((bus.effects[1].settings[0], bus.effects[1].on), (250.0, false));
        // Moved before the other, then gone.
        say(&mut said, vec![(delay, Fact::EffectPlace, json!(0.5))])?;
        assert_eq!(kinds(&said), [EffectKind::Delay, EffectKind::Chorus]);
        say(&mut said, vec![(delay, Fact::EffectKind, Value::Null)])?;
        assert_eq!(kinds(&said), [EffectKind::Chorus]);
        say(&mut said, vec![(chorus, Fact::EffectKind, Value::Null)])?;
        assert!(program(&said).buses.is_empty());
        Ok(())
    }

    #[test]
    fn strands_send_to_rows_that_are_there() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        let send = Target::Send(StrandId(4), ROOM);
        say(
            &mut said,
            vec![
                (Target::Bus(ROOM), Fact::BusName, json!("Room")),
                (Target::Effect(ROOM, 5), Fact::EffectKind, json!("reverb")),
                (send, Fact::SendDb, json!(-12.0)),
            ],
        )?;
        let found = program(&said);
        assert_eq!(found.buses[0].name, "Room");
        assert!(found.strands[0].sends.is_empty());
        assert_eq!(
            found.strands[1].sends,
            [Send {
                bus: ROOM,
                gain_db: -12.0
            }]
        );
        say(&mut said, vec![(Target::Bus(ROOM), Fact::BusName, Value::Null)])?;
        let gone = program(&said);
        assert!(gone.buses.is_empty() && gone.strands[1].sends.is_empty());
        Ok(())
    }

    #[test]
    fn a_setting_that_its_kind_does_not_have_is_refused_with_its_ends() {
        let mut said = Facts::new();
        let chorus = Target::Effect(BusId::WHOLE, 1);
        let refused = |said: &mut Facts, wishes| say(said, wishes).unwrap_err().to_string();
        let rate = |value: f64| vec![(chorus, Fact::EffectSetting1, json!(value))];
        assert_eq!(refused(&mut said, rate(1.0)), "There is no such effect any more.");
        say(&mut said, vec![(chorus, Fact::EffectKind, json!("chorus"))]).unwrap();
        assert_eq!(
            refused(&mut said, rate(50.0)),
            "Chorus, Rate lies between 0.05 and 8 Hz."
        );
        let none = vec![(chorus, Fact::EffectSetting8, json!(1.0))];
        assert_eq!(refused(&mut said, none), "Chorus has no such setting.");
        say(&mut said, rate(2.0)).unwrap();
        assert_eq!(program(&said).buses[0].effects[0].settings[0], 2.0);
    }

    #[test]
    fn effects_and_levels_of_strands_are_driven_by_routes_of_the_whole() -> Result<(), ChangeError> {
        let mut said = Facts::new();
        let whole = |n| Target::Route(ROUTES_OF_WHOLE, n);
        let route =
            |to: Value, amount: f64| json!({ "from": { "controller": 1 }, "to": to, "amount": amount });
        say(
            &mut said,
            vec![
                (Target::Effect(BusId::WHOLE, 6), Fact::EffectKind, json!("chorus")),
                (whole(1), Fact::Route, route(json!({ "effect": [6, 0] }), 2.0)),
                (whole(2), Fact::Route, route(json!({ "strand_level": 3 }), -96.0)),
                // What is not there, and what is a voice's own.
                (whole(3), Fact::Route, route(json!({ "effect": [9, 0] }), 2.0)),
                (whole(4), Fact::Route, route(json!("cutoff"), 1_200.0)),
            ],
        )?;
        let routes = program(&said).routes;
        assert_eq!(routes.len(), 2);
        assert_eq!(routes[0].to, ParamId::Effect(EffectId(6), 0));
        Ok(())
    }
}
