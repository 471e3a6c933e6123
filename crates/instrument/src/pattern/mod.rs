//! Patterns: how an instrument is made (plan, map, strands, shapes, effects, panel), kept to be laid under other recordings.
//!
//! Strands go with those of their name, else with the next one that starts as they do; single regions with the region of the same rung, layer by its place, and turn.

mod left_out;
mod seats;
mod shares;

pub use shares::Share;

use crate::edition::SaidOf;
use crate::facts::standing;
use crate::strands::copy_of;
use crate::{Fact, Facts, Plan, Said, Target, Wish};
use left_out::LeftOut;
use program::{ControlId, On, ParamId, Program, StrandId};
use seats::Seats;
use serde::{Deserialize, Serialize};
use shares::{controls_of, route_of, share_of};
use std::collections::{BTreeMap, BTreeSet};

/// As it is written now. What an earlier Ladder wrote is read for as long as there is a Ladder.
const VERSION: u32 = 1;

/// A strand that something may be said of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct StrandOfPattern {
    id: StrandId,
    name: String,
    on: On,
    copy_of: Option<StrandId>,
}

/// What is kept of an instrument beside its plan.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Held {
    version: u32,
    said: Vec<SaidOf>,
    strands: Vec<StrandOfPattern>,
}

/// How an instrument is made.
#[derive(Debug, Clone, PartialEq)]
pub struct Pattern {
    /// What is recorded.
    pub plan: Plan,
    /// How that is laid out and played.
    pub held: Held,
}

/// What a pattern is laid under.
#[derive(Clone, Copy)]
pub struct Under<'a> {
    /// What was recorded.
    pub plan: &'a Plan,
    /// What sounds.
    pub program: &'a Program,
    /// What was said.
    pub said: &'a Facts,
}

/// What laying a pattern would do.
#[derive(Debug, Default, PartialEq)]
pub struct Fit {
    /// What has to be said.
    pub wishes: Vec<Wish>,
    /// What of the pattern fits nothing, a sentence each.
    pub fits_nothing: Vec<String>,
    /// Strands that the pattern says nothing of, by their names.
    pub nothing_under: Vec<String>,
}

impl Pattern {
    /// That of an instrument.
    pub fn of(of: Under) -> Self {
        let said = of.said.iter().filter_map(|((target, fact), value)| {
            share_of(*target, *fact, value)?;
            Some(SaidOf {
                target: *target,
                fact: *fact,
                value: value.clone(),
            })
        });
        let strands = of.program.strands.iter().map(|strand| StrandOfPattern {
            id: strand.id,
            name: strand.name.clone(),
            on: strand.on,
            copy_of: copy_of(of.said, strand.id),
        });
        Self {
            plan: of.plan.clone(),
            held: Held {
                version: VERSION,
                said: said.collect(),
                strands: strands.collect(),
            },
        }
    }

    /// The parts of which it says something.
    pub fn shares(&self) -> BTreeSet<Share> {
        let said = self.held.said.iter();
        said.filter_map(|of| share_of(of.target, of.fact, &of.value))
            .collect()
    }

    /// What lays some parts of it under other recordings. What was said there of the same gives way; a part of which the pattern says nothing stays as it is there.
    pub fn fit(&self, under: Under, shares: &[Share]) -> Fit {
        let laid: BTreeSet<Share> = (self.shares().into_iter())
            .filter(|share| shares.contains(share))
            .collect();
        let seats = Seats::of(self, under);
        let mut wanted = Facts::new();
        let mut left = LeftOut::default();
        for of in &self.held.said {
            if !share_of(of.target, of.fact, &of.value).is_some_and(|share| laid.contains(&share)) {
                continue;
            }
            match seats.seat(of) {
                Ok((target, value)) => {
                    wanted.insert((target, of.fact), value);
                }
                Err(nowhere) => left.note(self, of, nowhere),
            }
        }
        let gives_way = under.said.iter().filter(|((target, fact), value)| {
            let share = share_of(*target, *fact, value);
            share.is_some_and(|share| laid.contains(&share) && seats.takes_place_of(share, *target))
        });
        let mut wishes: BTreeMap<(Target, Fact), Said> =
            gives_way.map(|(of, _)| (*of, Said::Automatic)).collect();
        wishes.extend(wanted.into_iter().map(|(of, value)| (of, Said::Value(value))));
        wishes.retain(|(target, fact), said| !standing(under.said, *target, *fact).agrees_with(said));
        let wishes = wishes.into_iter();
        let mut fit = Fit {
            wishes: wishes
                .map(|((target, fact), said)| (target, fact, said).into())
                .collect(),
            fits_nothing: left.sentences(self),
            nothing_under: Vec::new(),
        };
        self.drop_routes_to_no_effect(under.said, &mut fit);
        if laid.contains(&Share::Strands) {
            let strands = under.program.strands.iter();
            let alone = strands
                .filter(|strand| copy_of(under.said, strand.id).is_none() && !seats.is_taken(strand.id));
            fit.nothing_under = alone.map(|strand| strand.name.clone()).collect();
        }
        fit
    }

    /// What drives an effect that is not laid, and is not there either, drives nothing.
    fn drop_routes_to_no_effect(&self, said: &Facts, fit: &mut Fit) {
        let mut after = said.clone();
        for wish in &fit.wishes {
            match &wish.after {
                Said::Value(value) => after.insert((wish.target, wish.fact), value.clone()),
                Said::Automatic => after.remove(&(wish.target, wish.fact)),
            };
        }
        let effects: BTreeSet<u64> = after
            .iter()
            .filter_map(|((target, fact), value)| match (target, fact) {
                (Target::Effect(_, id), Fact::EffectKind) if !value.is_null() => Some(*id),
                _ => None,
            })
            .collect();
        let mut names = BTreeSet::new();
        fit.wishes.retain(|wish| {
            let (Target::Route(..), Said::Value(value)) = (wish.target, &wish.after) else {
                return true;
            };
            let Some(route) = route_of(value) else { return true };
            let ParamId::Effect(effect, _) = route.to else {
                return true;
            };
            if effects.contains(&effect.0) {
                return true;
            }
            names.extend(controls_of(&route).map(|control| self.control_name(control)));
            false
        });
        fit.fits_nothing.extend(
            names
                .into_iter()
                .map(|name| format!("“{name}” drives an effect that is not laid: that is left out.")),
        );
    }

    fn control_name(&self, id: ControlId) -> String {
        let of = |fact: Fact| {
            let said = self.held.said.iter();
            said.clone()
                .find(|of| (of.target, of.fact) == (Target::Part(id.0), fact))
                .and_then(|of| of.value.as_str())
        };
        of(Fact::PartName).unwrap_or("A control").to_owned()
    }

    fn strand(&self, id: StrandId) -> Option<&StrandOfPattern> {
        self.held.strands.iter().find(|strand| strand.id == id)
    }
}

#[cfg(test)]
mod tests {
    use super::seats::number_of;
    use super::*;
    use crate::plan::tests::plan;
    use crate::{Change, MapSettings, PassId, lay_over, lay_strands, make_program, map_of};
    use program::{BusId, Program, ROUTES_OF_WHOLE, ShapeId, SoundsOn};
    use serde_json::{Value, json};

    /// An instrument of three ranks: their names, and what they are called for good.
    struct Made {
        plan: Plan,
        said: Facts,
    }

    impl Made {
        fn of(names: &[&str], first_id: u64, rungs: &[u8]) -> Self {
            let mut plan = plan(rungs, &[40, 100], 1);
            let pass = plan.passes.remove(0);
            for (n, name) in (0..).zip(names) {
                let mut pass = pass.clone();
                pass.id = PassId(first_id + n);
                pass.name = (*name).to_owned();
                if name.contains("felt") {
                    pass.sounds_on = SoundsOn::KeyUp;
                }
                plan.passes.push(pass);
            }
            Self {
                plan,
                said: Facts::new(),
            }
        }

        fn say(&mut self, target: Target, fact: Fact, value: Value) {
            let change = Change::propose("x", &self.said, [(target, fact, Said::Value(value))]).unwrap();
            lay_over(&mut self.said, &change.fields);
        }

        fn program(&self) -> Program {
            let mut program = make_program("x", &self.plan, &map_of(&self.said), &[]);
            lay_strands(&mut program, &self.said);
            crate::panel::lay_panel(&mut program, &self.said);
            program
        }

        fn pattern(&self) -> Pattern {
            Pattern::of(Under {
                plan: &self.plan,
                program: &self.program(),
                said: &self.said,
            })
        }

        fn fit(&self, pattern: &Pattern, shares: &[Share]) -> Fit {
            let program = self.program();
            let (plan, said) = (&self.plan, &self.said);
            pattern.fit(
                Under {
                    plan,
                    program: &program,
                    said,
                },
                shares,
            )
        }

        fn lay(&mut self, pattern: &Pattern, shares: &[Share]) -> Change {
            let fit = self.fit(pattern, shares);
            let change = Change::propose("lay", &self.said, fit.wishes).unwrap();
            lay_over(&mut self.said, &change.fields);
            change
        }
    }

    const ALL: [Share; 4] = Share::ALL;
    /// As the name of a part, in sentences.
    const BALANCE: &str = "Balance";

    fn strand(n: u64) -> StrandId {
        StrandId(n)
    }

    /// With something said of every part of a pattern.
    fn organ() -> Made {
        let mut organ = Made::of(&["Front", "Back", "felt"], 10, &[48, 60]);
        let route = |to: Value| json!({"from": {"control": 7}, "to": to, "amount": -4.0});
        let own = BusId::of_strand(strand(11));
        let number = number_of(organ.plan.cells()[0]);
        let shape = |n: u64| ShapeId::of_strand(strand(n));
        for (target, fact, value) in [
            (Target::Instrument, Fact::Name, json!("Parlour reed organ")),
            (Target::Instrument, Fact::Fill, json!("middle")),
            (Target::Strand(strand(10)), Fact::StrandGainDb, json!(-3.0)),
            (Target::Strand(strand(11)), Fact::ShapeAttackMs, json!(90.0)),
            (Target::Strand(strand(12)), Fact::StrandGainDb, json!(-9.0)),
            (Target::Strand(strand(77)), Fact::StrandCopyOf, json!(11)),
            (Target::Strand(strand(77)), Fact::StrandTransposeKeys, json!(12.0)),
            (Target::Movement(shape(11), 3), Fact::Movement, json!(null)),
            (Target::Region(strand(10), number), Fact::RegionHighKey, json!(50)),
            (
                Target::Region(strand(10), number),
                Fact::RegionGainDb,
                json!(-2.0),
            ),
            (Target::Effect(own, 5), Fact::EffectKind, json!("chorus")),
            (Target::Bus(BusId(4)), Fact::BusName, json!("Room")),
            (Target::Send(strand(10), BusId(4)), Fact::SendDb, json!(-6.0)),
            (Target::Take(9), Fact::GainDb, json!(-1.0)),
            (Target::Page(1), Fact::PageName, json!("Main")),
            (Target::Part(7), Fact::PartKind, json!("slider")),
            (Target::Part(7), Fact::PartName, json!(BALANCE)),
            (
                Target::Route(ROUTES_OF_WHOLE, 1),
                Fact::Route,
                route(json!({"strand_level": 12})),
            ),
            (
                Target::Route(ROUTES_OF_WHOLE, 2),
                Fact::Route,
                route(json!({"effect": [5, 0]})),
            ),
            (
                Target::Route(shape(11), 3),
                Fact::Route,
                route(json!({"course_time": [0, "attack"]})),
            ),
        ] {
            organ.say(target, fact, value);
        }
        organ
    }

    #[test]
    fn under_its_own_recordings_a_pattern_changes_nothing() {
        let organ = organ();
        let pattern = organ.pattern();
        assert_eq!(pattern.shares().len(), 4);
        assert_eq!(organ.fit(&pattern, &ALL), Fit::default());
        let held = serde_json::to_string(&pattern.held).unwrap();
        assert_eq!(serde_json::from_str::<Held>(&held).unwrap(), pattern.held);
    }

    #[test]
    fn it_is_laid_under_other_recordings_by_name_then_in_order_and_undone_whole() {
        let pattern = organ().pattern();
        // Other names for good, another order, one rank of another name; and something was said there already.
        let mut other = Made::of(&["The felt", "back", "Treble"], 500, &[60, 72]);
        other.say(Target::Instrument, Fact::Name, json!("Chapel organ"));
        other.say(Target::Strand(strand(501)), Fact::StrandPan, json!(0.5));
        other.say(Target::Part(99), Fact::PartKind, json!("switch"));
        other.say(Target::Take(1), Fact::GainDb, json!(4.0));
        let before = other.said.clone();
        let fit = other.fit(&pattern, &ALL);
        // The lowest rung of the pattern is not recorded here: its region has no place.
        assert_eq!(
            fit.fits_nothing,
            ["1 setting of single regions: no recording lies at their places."]
        );
        assert_eq!(fit.nothing_under, Vec::<String>::new());
        let change = other.lay(&pattern, &ALL);
        let program = other.program();
        let of = |n: u64| program.strand(strand(n)).unwrap();
        assert_eq!((of(502).gain_db, of(500).gain_db, of(501).pan), (-3.0, -9.0, 0.0));
        assert_eq!(
            (of(77).regions_of, of(77).transpose_keys),
            (Some(strand(501)), 12)
        );
        assert_eq!(program.shape_of(of(501)).unwrap().loudness.attack_ms, 90.0);
        assert_eq!(program.shape_of(of(501)).unwrap().routes.len(), 1);
        let levels: Vec<ParamId> = program.routes.iter().map(|route| route.to).collect();
        assert!(levels.contains(&ParamId::StrandLevel(strand(500))), "{levels:?}");
        assert_eq!(of(502).sends.len(), 1);
        let own = BusId::of_strand(strand(501));
        assert!(
            program
                .buses
                .iter()
                .any(|bus| bus.id == own && bus.effects.len() == 1)
        );
        let controls: Vec<&str> = program
            .controls
            .iter()
            .map(|control| control.name.as_str())
            .collect();
        assert_eq!(controls, [BALANCE]);
        assert_eq!(map_of(&other.said).fill, crate::Fill::Middle);
        // What belongs to the recordings and to the shelf stays.
        for of in [(Target::Instrument, Fact::Name), (Target::Take(1), Fact::GainDb)] {
            assert_eq!(other.said.get(&of), before.get(&of));
        }
        assert!(!other.said.contains_key(&(Target::Take(9), Fact::GainDb)));
        assert!(other.fit(&pattern, &ALL).wishes.is_empty());
        let undone = change.undo(&other.said);
        lay_over(&mut other.said, &undone.set);
        assert_eq!(other.said, before);
    }

    #[test]
    fn a_limit_of_a_region_is_laid_where_its_rung_is_recorded() {
        let pattern = organ().pattern();
        let mut other = Made::of(&["Front"], 30, &[48]);
        other.lay(&pattern, &ALL);
        let number = number_of(other.plan.cells()[0]);
        let said = |fact: Fact| other.said.get(&(Target::Region(strand(30), number), fact));
        assert_eq!(said(Fact::RegionHighKey), Some(&json!(50)));
        // How loud one recording is beside its neighbours is no matter of another.
        assert_eq!(said(Fact::RegionGainDb), None);
    }

    #[test]
    fn what_fits_nothing_is_listed_and_what_has_nothing_laid_under_it_too() {
        let pattern = organ().pattern();
        let other = Made::of(&["Front", "Low", "Middle", "High"], 0, &[48, 60]);
        let fit = other.fit(&pattern, &ALL);
        assert_eq!(
            fit.fits_nothing,
            ["“felt” has no strand here to go with. Left out: 1 setting, and what “Balance” drives of it."]
        );
        assert_eq!(fit.nothing_under, ["Middle", "High"]);
        // A part alone brings what drives what is there.
        let panel = other.fit(&pattern, &[Share::Panel]);
        assert_eq!(
            panel.fits_nothing.last().map(String::as_str),
            Some("“Balance” drives an effect that is not laid: that is left out.")
        );
        assert!(
            panel
                .wishes
                .iter()
                .all(|wish| matches!(wish.target, Target::Page(_) | Target::Part(_) | Target::Route(..)))
        );
    }

    #[test]
    fn a_part_of_which_it_says_nothing_stays_as_it_is_there() {
        let mut plain = Made::of(&["Front"], 1, &[48]);
        plain.say(Target::Strand(strand(1)), Fact::StrandGainDb, json!(-4.0));
        let pattern = plain.pattern();
        let mut organ = organ();
        let shown = |organ: &Made| (organ.program().controls.len(), organ.program().buses.len());
        let before = shown(&organ);
        organ.lay(&pattern, &ALL);
        assert_eq!(shown(&organ), before);
        assert_eq!(organ.program().strand(strand(10)).unwrap().gain_db, -4.0);
        assert_eq!(
            map_of(&organ.said),
            MapSettings {
                fill: crate::Fill::Middle,
                ..MapSettings::default()
            }
        );
    }
}
