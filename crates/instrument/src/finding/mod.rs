//! Something that is not right: what, where, how much, how bad, how it is mended.

use crate::{Cell, Fact, Facts, Said, Target, Wish};
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::collections::BTreeMap;
use utoipa::ToSchema;

mod at_once;
mod kinds;

pub use kinds::{FindingKind, Step, Unit};

/// From so many times its limit on it is wrong, not only to be looked at.
const WRONG_TIMES: f64 = 2.0;
/// What weighs so much is wrong as soon as it is one.
const WRONG_WEIGHT: f64 = 3.0;

/// Something that is not right.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    /// What.
    pub kind: FindingKind,
    /// Of what: the instrument, where it is about none of its parts.
    #[serde(default = "of_instrument", skip_serializing_if = "is_of_instrument")]
    pub about: Target,
    /// Which of several of its kind about the same: a cell, a key with a strike, a format; 0 where there is one.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub part: u64,
    /// Where on the board.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cell: Option<Cell>,
    /// Lowest and highest key, where it is about keys.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keys: Option<[u8; 2]>,
    /// Softest and hardest strike, where it is about those.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strikes: Option<[u8; 2]>,
    /// Where in a take's recording, where it is about one moment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_frame: Option<u64>,
    /// In the unit of its kind; `None` for what is so or not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub how_much: Option<f64>,
    /// From where on it is a finding.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit: Option<f64>,
    /// A sentence, or half of one.
    pub says: String,
    /// What mends it, where it can be mended by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mend: Option<Mend>,
    /// Why it is accepted, where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accepted: Option<String>,
}

/// What mends a finding: what the step's own act would say, in one change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Mend {
    /// As its button says.
    pub label: String,
    /// What it changes, for whoever wants to know before.
    pub changes: String,
    /// What is said.
    pub wishes: Vec<Wish>,
}

/// That something is as it should be though it was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Accepted {
    /// Why.
    pub reason: String,
    /// How much of it was accepted.
    #[serde(default)]
    pub how_much: Option<f64>,
    /// What was said of it, where nothing is measured.
    #[serde(default)]
    pub says: String,
}

/// What was accepted holds while it is so near what it was, as a share of its limit's own times.
const SAME_TIMES: f64 = 0.1;

fn of_instrument() -> Target {
    Target::Instrument
}

fn is_of_instrument(target: &Target) -> bool {
    *target == Target::Instrument
}

fn is_zero(part: &u64) -> bool {
    *part == 0
}

impl Finding {
    /// Of what is so or not.
    pub fn so(kind: FindingKind, says: impl Into<String>) -> Self {
        Self {
            kind,
            about: Target::Instrument,
            part: 0,
            cell: None,
            keys: None,
            strikes: None,
            at_frame: None,
            how_much: None,
            limit: None,
            says: says.into(),
            mend: None,
            accepted: None,
        }
    }

    /// Of what is measured, whatever its limit.
    pub fn measured(kind: FindingKind, how_much: f64, says: impl Into<String>) -> Self {
        Self {
            how_much: Some((how_much * 100.0).round() / 100.0),
            ..Self::so(kind, says)
        }
    }

    /// The same about something.
    pub fn about(self, about: Target) -> Self {
        Self { about, ..self }
    }

    /// The same on a cell.
    pub fn on(self, cell: Cell) -> Self {
        Self {
            cell: Some(cell),
            ..self
        }
    }

    /// The same with what mends it.
    pub fn mended_by(self, mend: Option<Mend>) -> Self {
        Self { mend, ..self }
    }

    /// Its name for good, below 2⁵³: what it is, and about what.
    pub fn key(&self) -> u64 {
        let (about, number, part) = self.about.kept();
        let all = format!("{} {about} {number} {part} {}", self.kind.name(), self.part);
        name_below_2_53(&all)
    }

    /// How many times its limit it is.
    pub fn times(&self) -> f64 {
        match (self.how_much, self.limit) {
            (Some(how_much), Some(limit)) => self.kind.times(how_much, limit),
            _ => 1.0,
        }
    }

    /// Whether it is wrong; else it is to be looked at.
    pub fn is_wrong(&self) -> bool {
        self.kind.weight() >= WRONG_WEIGHT || self.times() >= WRONG_TIMES
    }

    /// How bad it is, beside others: what is so or not counts as twice its limit.
    pub fn badness(&self) -> f64 {
        let times = if self.kind.has_limit() {
            self.times()
        } else {
            WRONG_TIMES
        };
        self.kind.weight() * times.clamp(1.0, 8.0)
    }

    /// Worst first; what is as bad, up the ladder.
    pub fn worst_first(&self, other: &Self) -> Ordering {
        let key = |of: &Self| of.cell.map(|cell| cell.key).or(of.keys.map(|keys| keys[0]));
        (other.is_wrong().cmp(&self.is_wrong()))
            .then_with(|| other.badness().total_cmp(&self.badness()))
            .then_with(|| key(self).cmp(&key(other)))
            .then_with(|| self.key().cmp(&other.key()))
    }

    /// That it is accepted, as it is now.
    pub fn accept(&self, reason: impl Into<String>) -> Accepted {
        Accepted {
            reason: reason.into(),
            how_much: self.how_much,
            says: self.says.clone(),
        }
    }

    /// Whether what was accepted is still what is found.
    fn is_still(&self, accepted: &Accepted) -> bool {
        match (self.how_much, accepted.how_much) {
            (Some(now), Some(then)) => {
                let limit = self.limit.unwrap_or_else(|| self.kind.limit());
                (self.kind.times(now, limit) - self.kind.times(then, limit)).abs() <= SAME_TIMES
            }
            (None, None) => self.says == accepted.says,
            _ => false,
        }
    }
}

/// A short name of a text, below 2⁵³.
pub fn name_below_2_53(text: &str) -> u64 {
    let hash = blake3::hash(text.as_bytes());
    let mut first = [0; 8];
    first.copy_from_slice(&hash.as_bytes()[..8]);
    u64::from_le_bytes(first) >> 11
}

/// From where on something is a finding, as its maker or the house says.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Limits(BTreeMap<FindingKind, f64>);

impl Limits {
    /// Those of an instrument over those of the house.
    pub fn of(house: &Self, said: &Facts) -> Self {
        let mut all = house.clone();
        for kind in FindingKind::all().filter(|kind| kind.has_limit()) {
            let said = said.get(&(Target::FindingKind(kind.number()), Fact::FindingLimit));
            if let Some(limit) = said.and_then(serde_json::Value::as_f64) {
                all.0.insert(kind, limit);
            }
        }
        all
    }

    /// With one more.
    pub fn with(mut self, kind: FindingKind, limit: f64) -> Self {
        self.0.insert(kind, limit);
        self
    }

    /// One of them.
    pub fn at(&self, kind: FindingKind) -> f64 {
        self.0.get(&kind).copied().unwrap_or_else(|| kind.limit())
    }

    /// What is over its limit, with that limit.
    pub fn over(&self, mut finding: Finding) -> Option<Finding> {
        if !finding.kind.has_limit() {
            return Some(finding);
        }
        finding.limit = Some(self.at(finding.kind));
        (finding.times() > 1.0).then_some(finding)
    }
}

impl FindingKind {
    /// Its number among what can be spoken of.
    pub fn number(self) -> u64 {
        name_below_2_53(self.name())
    }
}

/// What says that a finding is accepted, or is so no more.
pub fn accepting(finding: &Finding, reason: Option<&str>) -> Wish {
    let said = reason.map_or(Said::Automatic, |reason| {
        serde_json::to_value(finding.accept(reason)).map_or(Said::Automatic, Said::Value)
    });
    Wish::from((Target::Finding(finding.key()), Fact::Accepted, said))
}

/// Tells those that were accepted, and are still what was accepted; all of them worst first, what is accepted last.
pub fn settle_findings(mut found: Vec<Finding>, said: &Facts) -> Vec<Finding> {
    for finding in &mut found {
        let value = said.get(&(Target::Finding(finding.key()), Fact::Accepted));
        let accepted = value.and_then(|value| serde_json::from_value::<Accepted>(value.clone()).ok());
        finding.accepted = accepted.filter(|of| finding.is_still(of)).map(|of| of.reason);
    }
    found.sort_by(|a, b| (a.accepted.is_some().cmp(&b.accepted.is_some())).then_with(|| a.worst_first(b)));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_accepted_holds_until_it_changes() {
        let step = |db| Finding::measured(FindingKind::LevelStep, db, "louder").about(Target::Take(4));
        let limits = Limits::default();
        let found = limits.over(step(4.0)).expect("over 3 dB");
        let wish = accepting(&found, Some("it is the instrument's own"));
        let mut said = Facts::new();
        let Said::Value(value) = wish.after else { panic!() };
        said.insert((wish.target, wish.fact), value);
        let settled = |db| settle_findings(limits.over(step(db)).into_iter().collect(), &said);
        assert_eq!(
            settled(4.0)[0].accepted.as_deref(),
            Some("it is the instrument's own")
        );
        assert!(
            settled(4.1)[0].accepted.is_some(),
            "a tenth of a decibel is the same"
        );
        assert!(settled(5.0)[0].accepted.is_none());
        assert!(settled(2.0).is_empty());
        // Another take's is another finding.
        let other = limits.over(step(4.0)).unwrap().about(Target::Take(5));
        assert!(settle_findings(vec![other], &said)[0].accepted.is_none());
    }

    #[test]
    fn limits_are_those_of_the_house_unless_the_instrument_has_its_own() {
        let house = Limits::default().with(FindingKind::LevelStep, 2.0);
        let mut said = Facts::new();
        assert_eq!(Limits::of(&house, &said).at(FindingKind::LevelStep), 2.0);
        let kind = Target::FindingKind(FindingKind::LevelStep.number());
        said.insert((kind, Fact::FindingLimit), 6.0.into());
        let limits = Limits::of(&house, &said);
        let step = |db| limits.over(Finding::measured(FindingKind::LevelStep, db, ""));
        assert!(step(5.0).is_none() && step(-6.5).is_some());
        assert!(step(13.0).unwrap().is_wrong() && !step(7.0).unwrap().is_wrong());
    }

    #[test]
    fn the_worst_stand_first_and_what_is_accepted_last() {
        let of = |kind, how_much, take| {
            let found = Finding::measured(kind, how_much, "").about(Target::Take(take));
            Limits::default().over(found).unwrap()
        };
        let all = vec![
            of(FindingKind::LevelStep, 3.5, 1),
            of(FindingKind::LevelStep, 9.0, 2),
            Finding::so(FindingKind::WrongOctave, "").about(Target::Take(3)),
            of(FindingKind::Hum, -30.0, 4),
        ];
        let mut said = Facts::new();
        let hum = serde_json::to_value(all[3].accept("the fridge")).unwrap();
        said.insert((Target::Finding(all[3].key()), Fact::Accepted), hum);
        let takes: Vec<Target> = settle_findings(all, &said).iter().map(|f| f.about).collect();
        assert_eq!(takes, [3, 2, 1, 4].map(Target::Take));
    }
}
