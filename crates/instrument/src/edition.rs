//! Editions: what an instrument was when it was given away, kept so that it can be compared and taken back; the files themselves lie elsewhere.

use crate::facts::standing;
use crate::{Cell, Fact, Facts, MiddleC, Plan, Said, Target, Treatment, Wish, key_name, take_name};
use program::{Program, Region, StrandId};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use utoipa::ToSchema;

/// As it is written now. What an earlier Ladder wrote is read for as long as there is a Ladder.
const VERSION: u32 = 1;
/// A value is shown no longer than this.
const LONGEST_VALUE: usize = 60;

/// What was said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SaidOf {
    /// Of what.
    pub target: Target,
    /// Which field.
    pub fact: Fact,
    /// What.
    pub value: Value,
}

/// A take that was played.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PlayedTake {
    /// Its number.
    pub take: u64,
    /// Its place.
    pub cell: Cell,
    /// What was done to it.
    pub treatment: Option<Treatment>,
}

/// What an instrument was.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Frozen {
    /// As it is written, for who reads it later.
    pub version: u32,
    /// What was planned.
    pub plan: Plan,
    /// All that was said.
    pub said: Vec<SaidOf>,
    /// The takes that were played, with what was suggested and said of them laid together.
    pub takes: Vec<PlayedTake>,
    /// What sounded.
    pub program: Program,
}

/// What changed from one to another, a sentence each.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, ToSchema)]
pub struct Changed {
    /// Regions that came, went, or are otherwise.
    pub regions: Vec<String>,
    /// Places whose take is another, or is treated otherwise.
    pub takes: Vec<String>,
    /// All else that was said.
    pub settings: Vec<String>,
}

impl Frozen {
    /// An instrument as it is.
    pub fn of(plan: &Plan, said: &Facts, takes: Vec<PlayedTake>, program: &Program) -> Self {
        let of = |((target, fact), value): (&(Target, Fact), &Value)| SaidOf {
            target: *target,
            fact: *fact,
            value: value.clone(),
        };
        Self {
            version: VERSION,
            plan: plan.clone(),
            said: said.iter().map(of).collect(),
            takes,
            program: program.clone(),
        }
    }

    fn facts(&self) -> Facts {
        let of = |of: &SaidOf| ((of.target, of.fact), of.value.clone());
        self.said.iter().map(of).collect()
    }

    /// What changed from this to a later one.
    pub fn changed(&self, later: &Self) -> Changed {
        Changed {
            regions: self.changed_regions(later),
            takes: self.changed_takes(later),
            settings: self.changed_settings(later),
        }
    }

    fn changed_regions(&self, later: &Self) -> Vec<String> {
        let all = |of: &Self| -> BTreeMap<(StrandId, u64), Region> {
            let regions = of.program.regions.iter();
            regions
                .map(|region| ((region.key.strand, region.key.of.number()), region.clone()))
                .collect()
        };
        let (before, after) = (all(self), all(later));
        let names: BTreeSet<_> = before.keys().chain(after.keys()).copied().collect();
        let sentence = |name| match (before.get(&name), after.get(&name)) {
            (Some(one), Some(other)) => {
                let what = apart(&self.program, one, &later.program, other);
                (!what.is_empty())
                    .then(|| format!("{}: {}", region_name(&later.program, other), what.join(", ")))
            }
            (Some(one), None) => Some(format!("{} is gone", region_name(&self.program, one))),
            (None, Some(other)) => Some(format!("{} is new", region_name(&later.program, other))),
            (None, None) => None,
        };
        names.into_iter().filter_map(sentence).collect()
    }

    fn changed_takes(&self, later: &Self) -> Vec<String> {
        let all = |of: &Self| -> BTreeMap<Cell, PlayedTake> {
            of.takes.iter().map(|take| (take.cell, take.clone())).collect()
        };
        let (before, after) = (all(self), all(later));
        let cells: BTreeSet<Cell> = before.keys().chain(after.keys()).copied().collect();
        let sentence = |cell: Cell| {
            let name = take_name(&later.plan, cell);
            match (before.get(&cell), after.get(&cell)) {
                (Some(one), Some(other)) if one.take != other.take => Some(format!("{name}: another take")),
                (Some(one), Some(other)) if one.treatment != other.treatment => {
                    Some(format!("{name}: treated otherwise"))
                }
                (Some(_), None) => Some(format!("{name}: not played any more")),
                (None, Some(_)) => Some(format!("{name}: a take is there")),
                _ => None,
            }
        };
        cells.into_iter().filter_map(sentence).collect()
    }

    fn changed_settings(&self, later: &Self) -> Vec<String> {
        let (before, after) = (self.facts(), later.facts());
        let all: BTreeSet<(Target, Fact)> = before.keys().chain(after.keys()).copied().collect();
        let told = |(target, _): &(Target, Fact)| {
            matches!(target, Target::Take(_) | Target::Region(..) | Target::LongTake(_))
        };
        let sentence = |(target, fact): (Target, Fact)| {
            let (one, other) = (standing(&before, target, fact), standing(&after, target, fact));
            (!one.agrees_with(&other)).then(|| {
                let of = later.target_name(target);
                let what = in_words(target, fact);
                format!("{of}{what}: {} → {}", shown(&one), shown(&other))
            })
        };
        all.into_iter()
            .filter(|of| !told(of))
            .filter_map(sentence)
            .collect()
    }

    fn target_name(&self, target: Target) -> String {
        let strand = |id: u64| {
            let strand = self.program.strands.iter().find(|strand| strand.id.0 == id);
            strand.map_or_else(String::new, |strand| format!("{}, ", strand.name))
        };
        match target {
            Target::Pass(id) | Target::Layer(id, _) => {
                let pass = self.plan.pass(id);
                let layer = match target {
                    Target::Layer(_, layer) => pass.and_then(|pass| pass.layer(layer)),
                    _ => None,
                };
                let named = pass.map(|pass| pass.name.as_str()).into_iter();
                let names: Vec<&str> = named.chain(layer.map(|layer| layer.name.as_str())).collect();
                format!("{}, ", names.join(" "))
            }
            Target::Strand(id) => strand(id.0),
            Target::Route(id, _) | Target::Movement(id, _) | Target::Course(id, _) => strand(id.0),
            Target::Send(id, _) => strand(id.0),
            Target::Bus(id) | Target::Effect(id, _) => {
                let bus = self.program.buses.iter().find(|bus| bus.id == id);
                bus.map_or_else(String::new, |bus| format!("effects of {}, ", bus.name))
            }
            Target::Part(id) => {
                let control = self.program.controls.iter().find(|control| control.id.0 == id);
                control.map_or_else(String::new, |control| format!("{} of the panel, ", control.name))
            }
            _ => String::new(),
        }
    }

    /// What brings all of this back over what is said now: what was said then, and the takes that were played then. The name, tags and place on the shelf stay, and so
    /// do slices. `all` are the takes that there are.
    pub fn take_back(&self, said: &Facts, all: &[(u64, Cell)]) -> Vec<Wish> {
        let then = self.facts();
        let stays = |(target, fact): &(Target, Fact)| {
            let of_shelf = matches!(fact, Fact::Name | Fact::Tags | Fact::SetAside);
            of_shelf || matches!(target, Target::LongTake(_))
        };
        let keys: BTreeSet<(Target, Fact)> = then.keys().chain(said.keys()).copied().collect();
        let mut wishes: BTreeMap<(Target, Fact), Said> = keys
            .into_iter()
            .filter(|of| !stays(of))
            .map(|of| (of, standing(&then, of.0, of.1)))
            .collect();
        // Takes that were recorded since stay, and are not played.
        let played: HashMap<Cell, u64> = self.takes.iter().map(|take| (take.cell, take.take)).collect();
        for (take, cell) in all {
            let wish = match played.get(cell) {
                Some(then) if then == take => Said::Value(true.into()),
                Some(_) => continue,
                None => Said::Value(false.into()),
            };
            let newer = all.iter().any(|(other, at)| at == cell && other > take);
            if newer || wish == Said::Value(false.into()) {
                wishes.insert((Target::Take(*take), Fact::Chosen), wish);
            }
        }
        let changes = |((target, fact), after): &((Target, Fact), Said)| {
            !standing(said, *target, *fact).agrees_with(after)
        };
        let wishes = wishes.into_iter().filter(changes);
        wishes
            .map(|((target, fact), after)| Wish::from((target, fact, after)))
            .collect()
    }
}

/// A fact as it is read: without what it is of, which stands before it, and its unit as such.
fn in_words(target: Target, fact: Fact) -> String {
    const UNITS: [(&str, &str); 5] = [
        (" db", "dB"),
        (" ms", "ms"),
        (" hz", "Hz"),
        (" cents", "cents"),
        (" frames", "frames"),
    ];
    let name = fact.name();
    let of = format!("{}_", target.about().name());
    let words = name.strip_prefix(&of).unwrap_or(name).replace('_', " ");
    let with_unit = |(ending, unit): &(&str, &str)| {
        let words = words.strip_suffix(ending)?;
        Some(format!("{words} in {unit}"))
    };
    UNITS.iter().find_map(with_unit).unwrap_or(words)
}

fn shown(said: &Said) -> String {
    match said {
        Said::Automatic => "by itself".to_owned(),
        Said::Value(Value::String(text)) => format!("«{text}»"),
        Said::Value(value) => {
            let text = value.to_string();
            if text.chars().count() > LONGEST_VALUE {
                return "as it was set".to_owned();
            }
            text
        }
    }
}

fn region_name(program: &Program, region: &Region) -> String {
    let name = |key| key_name(key, MiddleC::C4);
    let keys = region.when.keys;
    let strand = program
        .strand_of(region)
        .map_or("", |strand| strand.name.as_str());
    if keys.low == keys.high {
        format!("{strand} {}", name(keys.low))
    } else {
        format!("{strand} {}–{}", name(keys.low), name(keys.high))
    }
}

/// In what two are apart.
fn apart(before: &Program, one: &Region, after: &Program, other: &Region) -> Vec<String> {
    let mut what = Vec::new();
    let name = |key| key_name(key, MiddleC::C4);
    let mut tell = |is: bool, sentence: String| {
        if is {
            what.push(sentence);
        }
    };
    let (a, b) = (&one.when, &other.when);
    tell(
        a.keys != b.keys,
        format!(
            "keys {}–{} → {}–{}",
            name(a.keys.low),
            name(a.keys.high),
            name(b.keys.low),
            name(b.keys.high)
        ),
    );
    tell(
        a.strikes != b.strikes,
        format!(
            "strikes {}–{} → {}–{}",
            a.strikes.low, a.strikes.high, b.strikes.low, b.strikes.high
        ),
    );
    tell(
        (&a.sources, &a.chosen_by, &a.turn) != (&b.sources, &b.chosen_by, &b.turn),
        "when it sounds".to_owned(),
    );
    let numbers = [
        ("level", one.gain_db, other.gain_db, "dB"),
        (
            "pitch",
            one.tune_cents - one.recording_cents - 100.0 * f64::from(one.root_key),
            other.tune_cents - other.recording_cents - 100.0 * f64::from(other.root_key),
            "cents",
        ),
        ("place", 100.0 * one.pan, 100.0 * other.pan, "%"),
    ];
    for (of, one, other, unit) in numbers {
        tell(
            (one - other).abs() > 1e-9,
            format!("{of} by {:+.1} {unit}", other - one),
        );
    }
    let source = |program: &Program, region: &Region| {
        let sample = program.samples.get(region.sample);
        sample.map(|sample| sample.source.clone())
    };
    tell(
        source(before, one) != source(after, other),
        "another sound".to_owned(),
    );
    let ends = |region: &Region| {
        let fades = (region.fade_in_frames, region.fade_out_frames, region.fade_curve);
        (region.start_frame, region.end_frame, fades)
    };
    tell(ends(one) != ends(other), "where it begins or ends".to_owned());
    tell(one.looped != other.looped, "its loop".to_owned());
    let shape = |program: &Program, region: &Region| {
        let place = program.shape_of_region(region)?;
        program.shapes.get(place).cloned()
    };
    let rest = |region: &Region| (region.key_follow, region.to_end, region.cut);
    tell(
        shape(before, one) != shape(after, other) || rest(one) != rest(other),
        "how it plays".to_owned(),
    );
    what
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;
    use crate::{Change, lay_over};
    use program::{RegionKey, RegionOf};
    use serde_json::json;

    fn frozen(said: &Facts, takes: &[(u64, Cell)], change: impl Fn(&mut Program)) -> Frozen {
        let mut region = Region::whole(0, 60, 100).on_keys(58, 62);
        region.key = RegionKey {
            strand: StrandId(0),
            of: RegionOf::Own(1),
        };
        let mut program = Program::plain("x", Vec::new(), vec![region]);
        change(&mut program);
        let played = takes.iter().map(|(take, cell)| PlayedTake {
            take: *take,
            cell: *cell,
            treatment: None,
        });
        Frozen::of(&plan(&[60, 64], &[40, 110], 1), said, played.collect(), &program)
    }

    #[test]
    fn what_changed_is_told_in_sentences_and_what_did_not_is_not() {
        let cells = plan(&[60, 64], &[40, 110], 1).cells();
        let before = frozen(&Facts::new(), &[(1, cells[0]), (2, cells[1])], |_| {});
        assert_eq!(before.changed(&before), Changed::default());
        let read: Frozen = serde_json::from_value(json!(before)).unwrap();
        assert_eq!(read, before);
        let said = Facts::from([
            ((Target::Instrument, Fact::BelowKeys), json!(7)),
            ((Target::Strand(StrandId(0)), Fact::StrandGainDb), json!(-3.0)),
        ]);
        let after = frozen(&said, &[(5, cells[0]), (6, cells[2])], |program| {
            program.regions[0].when.keys.high = 64;
            program.regions[0].gain_db = -2.0;
            let mut fresh = program.regions[0].clone();
            fresh.key.of = RegionOf::Own(2);
            program.regions.push(fresh);
        });
        let changed = before.changed(&after);
        assert_eq!(
            changed.regions,
            [
                "Keys A♯3–E4: keys A♯3–D4 → A♯3–E4, level by -2.0 dB",
                "Keys A♯3–E4 is new"
            ]
        );
        assert_eq!(changed.takes.len(), 3);
        assert_eq!(
            changed.settings,
            ["below keys: by itself → 7", "Keys, gain in dB: by itself → -3.0"]
        );
        assert!(after.changed(&before).regions[1].ends_with("is gone"));
    }

    #[test]
    fn it_is_taken_back_as_one_change_and_what_came_since_is_not_played() {
        let cells = plan(&[60, 64], &[40, 110], 1).cells();
        let then = Facts::from([
            ((Target::Instrument, Fact::BelowKeys), json!(7)),
            ((Target::Take(1), Fact::GainDb), json!(-3.0)),
        ]);
        let edition = frozen(&then, &[(1, cells[0])], |_| {});
        let now = Facts::from([
            ((Target::Instrument, Fact::Name), json!("Another")),
            ((Target::Instrument, Fact::AboveKeys), json!(9)),
            ((Target::Take(1), Fact::GainDb), json!(2.0)),
        ]);
        // Recorded since: the same place anew, and another place.
        let all = [(1, cells[0]), (2, cells[0]), (3, cells[1])];
        let change = Change::propose("x", &now, edition.take_back(&now, &all)).unwrap();
        let mut said = now.clone();
        lay_over(&mut said, &change.fields);
        let mut wanted = then.clone();
        wanted.insert((Target::Instrument, Fact::Name), json!("Another"));
        wanted.insert((Target::Take(1), Fact::Chosen), json!(true));
        wanted.insert((Target::Take(3), Fact::Chosen), json!(false));
        assert_eq!(said, wanted);
        // Taken back once more, nothing is left to be done; and undone, all is as it was.
        assert!(edition.take_back(&said, &all).is_empty());
        let undone = change.undo(&said);
        lay_over(&mut said, &undone.set);
        assert_eq!(said, now);
    }
}
