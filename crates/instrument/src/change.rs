//! Every edit is one command, with field-by-field before-values, so that it can be undone from anywhere.

use crate::{Correction, MapSettings, Plan, Slicing, TakeLoop};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use signal::Cleaning;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What an edit is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Target {
    /// The instrument itself.
    Instrument,
    /// A take, by its id.
    Take(u64),
    /// A long take, by its id.
    LongTake(u64),
}

/// A field that can be said.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fact {
    /// Instrument: its name.
    Name,
    /// Instrument: its plan.
    Plan,
    /// Instrument: how rungs share keys.
    Map,
    /// Instrument: words to find it by on the shelf.
    Tags,
    /// Instrument: whether it is set aside from the shelf.
    SetAside,
    /// Long take: where it is cut, and for what.
    Slices,
    /// Take: first frame heard.
    StartFrame,
    /// Take: first frame not heard.
    EndFrame,
    /// Take: length of the fade-in.
    FadeInFrames,
    /// Take: length of the fade-out.
    FadeOutFrames,
    /// Take: the course of its fades.
    FadeCurve,
    /// Take: its place between left and right.
    Pan,
    /// Take: what is done to its sides; this and all down to the limiter are stages of [`signal::Cleaning`].
    Channels,
    /// Take: whether its mean is taken out.
    RemoveDc,
    /// Take: its high-pass.
    HighPass,
    /// Take: hum notched.
    Hum,
    /// Take: hiss taken out.
    Hiss,
    /// Take: the expander under its tail.
    Expander,
    /// Take: its compressor.
    Compressor,
    /// Take: its loop evened.
    Evening,
    /// Take: its limiter.
    Limiter,
    /// Take: level.
    GainDb,
    /// Take: root key.
    RootKey,
    /// Take: cents above the root.
    RecordingCents,
    /// Take: the stretch whose pitch counts, as its first frame and the first after it.
    PitchStretch,
    /// Take: whether it has no pitch of its own: a chord, a noise.
    NoPitch,
    /// Take: cents added on playing, beyond what corrects the recording.
    TuneCents,
    /// Take: loop; `null` is none.
    Loop,
    /// Take: the version of measuring whose measurement counts; the first that measured it does, where none is said.
    MeasuredBy,
    /// Take: whether it is the chosen one of its cell; the newest is, where none is said to be.
    Chosen,
}

const CLEANING: [(Fact, &str); 9] = [
    (Fact::Channels, "channels"),
    (Fact::RemoveDc, "remove_dc"),
    (Fact::HighPass, "high_pass"),
    (Fact::Hum, "hum"),
    (Fact::Hiss, "hiss"),
    (Fact::Expander, "expander"),
    (Fact::Compressor, "compressor"),
    (Fact::Evening, "evening"),
    (Fact::Limiter, "limiter"),
];

impl Fact {
    /// Whether it is said of long takes.
    pub fn is_of_long_take(self) -> bool {
        self == Self::Slices
    }

    /// The stage of [`Cleaning`] that it says.
    pub fn cleaning_field(self) -> Option<&'static str> {
        CLEANING
            .iter()
            .find(|(fact, _)| *fact == self)
            .map(|(_, name)| *name)
    }

    /// Whether saying it may alter samples: a stage of cleaning, or the loop that is evened.
    pub fn is_rendered(self) -> bool {
        self == Self::Loop || self.cleaning_field().is_some()
    }

    fn is_of_instrument(self) -> bool {
        matches!(
            self,
            Self::Name | Self::Plan | Self::Map | Self::Tags | Self::SetAside
        )
    }
}

/// One field of one target, from what to what; `None` is automatic.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FieldChange {
    /// Of what.
    pub target: Target,
    /// Which field.
    pub fact: Fact,
    /// What stood there.
    pub before: Said,
    /// What stands there now.
    pub after: Said,
}

/// What was said of a field, or nothing.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    /// The automatic value holds.
    #[default]
    Automatic,
    /// This holds.
    Value(Value),
}

/// One gesture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// What was done, for "Undo …".
    pub label: String,
    /// Every field it touched.
    pub fields: Vec<FieldChange>,
}

/// Why an edit cannot be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ChangeError(pub String);

/// What an undo or redo did.
#[derive(Debug, Clone, PartialEq)]
pub struct Applied {
    /// Fields that were set.
    pub set: Vec<FieldChange>,
    /// Fields that were changed since and so left alone.
    pub left_alone: usize,
}

/// Everything said of an instrument, by target and field.
pub type Facts = BTreeMap<(Target, Fact), Value>;

/// What was said of the instrument itself; `None` where nothing was, and where it cannot be read.
pub fn said_of<T: serde::de::DeserializeOwned>(facts: &Facts, fact: Fact) -> Option<T> {
    let value = facts.get(&(Target::Instrument, fact))?;
    serde_json::from_value(value.clone()).ok()
}

impl Change {
    /// A change from what `facts` hold to the given values. Fields that already hold are dropped.
    ///
    /// Errors where a value does not fit its field, with a sentence.
    pub fn propose(
        label: &str,
        facts: &Facts,
        wishes: Vec<(Target, Fact, Said)>,
    ) -> Result<Self, ChangeError> {
        let mut fields = Vec::new();
        for (target, fact, after) in wishes {
            check(target, fact, &after)?;
            let before = facts
                .get(&(target, fact))
                .cloned()
                .map_or(Said::Automatic, Said::Value);
            if before != after {
                fields.push(FieldChange {
                    target,
                    fact,
                    before,
                    after,
                });
            }
        }
        Ok(Self {
            label: label.to_owned(),
            fields,
        })
    }

    /// What undoing it does to `facts`: each field goes back, unless it was changed since.
    pub fn undo(&self, facts: &Facts) -> Applied {
        let back = self.fields.iter().map(|f| FieldChange {
            before: f.after.clone(),
            after: f.before.clone(),
            ..f.clone()
        });
        Self::apply_where_unchanged(back, facts)
    }

    /// Whether all of it can be undone: nothing that came after it said anything of the same fields.
    pub fn stands_alone(&self, facts: &Facts) -> bool {
        self.undo(facts).left_alone == 0
    }

    /// What redoing it does to `facts`.
    pub fn redo(&self, facts: &Facts) -> Applied {
        Self::apply_where_unchanged(self.fields.iter().cloned(), facts)
    }

    fn apply_where_unchanged(fields: impl Iterator<Item = FieldChange>, facts: &Facts) -> Applied {
        let (set, changed): (Vec<_>, Vec<_>) = fields.partition(|f| {
            let now = facts
                .get(&(f.target, f.fact))
                .cloned()
                .map_or(Said::Automatic, Said::Value);
            now == f.before
        });
        Applied {
            set,
            left_alone: changed.len(),
        }
    }
}

fn is<T: serde::de::DeserializeOwned>(value: &Value) -> bool {
    serde_json::from_value::<T>(value.clone()).is_ok()
}

/// Whether a stage is one, and its numbers lie where they make sense.
fn cleaning_fits(fact: Fact, value: &Value) -> bool {
    let Some(cleaning) = cleaning_of([(fact, value)].into_iter()) else {
        return false;
    };
    let within = |x: f64, low: f64, high: f64| x.is_finite() && (low..=high).contains(&x);
    cleaning.channels.is_none_or(|c| within(c.width, 0.0, 2.0))
        && cleaning
            .high_pass
            .is_none_or(|h| within(h.hz, 10.0, 2_000.0) && matches!(h.db_per_octave, 12 | 24 | 36 | 48))
        && cleaning
            .hum
            .is_none_or(|h| h.hz.is_none_or(|hz| within(hz, 20.0, 500.0)))
        && cleaning.hiss.is_none_or(|h| within(h.reduction_db, 0.0, 40.0))
        && cleaning
            .expander
            .is_none_or(|e| within(e.over_floor_db, 0.0, 40.0) && within(e.ratio, 1.0, 4.0))
        && cleaning
            .compressor
            .is_none_or(|c| within(c.threshold_dbfs, -60.0, 0.0) && within(c.ratio, 1.0, 10.0))
        && cleaning.evening.is_none_or(|e| within(e.share, 0.0, 1.0))
        && cleaning
            .limiter
            .is_none_or(|l| within(l.ceiling_dbtp, -24.0, 0.0))
}

/// The stages that were said; `None` where one cannot be read.
fn cleaning_of<'a>(said: impl Iterator<Item = (Fact, &'a Value)>) -> Option<Cleaning> {
    let fields: serde_json::Map<String, Value> = said
        .filter_map(|(fact, value)| Some((fact.cleaning_field()?.to_owned(), value.clone())))
        .collect();
    serde_json::from_value(Value::Object(fields)).ok()
}

fn check(target: Target, fact: Fact, said: &Said) -> Result<(), ChangeError> {
    let belongs = match target {
        Target::Instrument => fact.is_of_instrument(),
        Target::LongTake(_) => fact.is_of_long_take(),
        Target::Take(_) => !fact.is_of_instrument() && !fact.is_of_long_take(),
    };
    if !belongs {
        return Err(ChangeError(format!("{fact:?} does not belong to this.")));
    }
    let Said::Value(value) = said else { return Ok(()) };
    let frame = || value.is_u64();
    let number = |low: f64, high: f64| value.as_f64().is_some_and(|x| (low..=high).contains(&x));
    let fits = match fact {
        Fact::Name => value
            .as_str()
            .is_some_and(|name| !name.trim().is_empty() && name.chars().count() <= 120),
        Fact::Plan => serde_json::from_value::<Plan>(value.clone()).is_ok_and(|plan| plan.check().is_ok()),
        Fact::Map => serde_json::from_value::<MapSettings>(value.clone()).is_ok(),
        Fact::Tags => serde_json::from_value::<Vec<String>>(value.clone())
            .is_ok_and(|tags| tags.len() <= 20 && tags.iter().all(|tag| tag.chars().count() <= 40)),
        Fact::Slices => serde_json::from_value::<Slicing>(value.clone()).is_ok_and(|s| s.is_in_order()),
        Fact::StartFrame | Fact::EndFrame | Fact::FadeInFrames | Fact::FadeOutFrames => frame(),
        Fact::FadeCurve => is::<program::FadeCurve>(value),
        Fact::Pan => number(-1.0, 1.0),
        fact if fact.cleaning_field().is_some() => cleaning_fits(fact, value),
        Fact::GainDb => number(-96.0, 48.0),
        Fact::RootKey => value.as_u64().is_some_and(|key| key <= 127),
        Fact::MeasuredBy => value
            .as_u64()
            .is_some_and(|version| version <= u64::from(signal::MEASURE_VERSION)),
        Fact::RecordingCents | Fact::TuneCents => number(-1200.0, 1200.0),
        Fact::Loop => {
            value.is_null()
                || serde_json::from_value::<TakeLoop>(value.clone())
                    .is_ok_and(|l| l.start_frame < l.end_frame)
        }
        Fact::PitchStretch => {
            serde_json::from_value::<[u64; 2]>(value.clone()).is_ok_and(|[first, end]| first < end)
        }
        Fact::Chosen | Fact::NoPitch | Fact::SetAside => value.is_boolean(),
        _ => false,
    };
    if fits {
        return Ok(());
    }
    Err(ChangeError(match fact {
        Fact::Name => "A name has 1 to 120 letters.".into(),
        Fact::GainDb => "A level lies between −96 and 48 dB.".into(),
        Fact::RootKey => "A root is a key from 0 to 127.".into(),
        Fact::RecordingCents | Fact::TuneCents => "Cents lie between −1200 and 1200.".into(),
        Fact::Loop => "A loop must end after it starts.".into(),
        Fact::Plan => "This plan cannot be recorded.".into(),
        Fact::Tags => "At most 20 tags, of 40 letters each.".into(),
        Fact::Slices => "Slices must end after they start, and follow one another.".into(),
        _ => format!("{value} does not fit {fact:?}."),
    }))
}

impl Correction {
    /// Reads what was said of one take.
    pub fn of(take: u64, facts: &Facts) -> Self {
        let said = |fact| facts.get(&(Target::Take(take), fact));
        Self {
            start_frame: said(Fact::StartFrame).and_then(Value::as_u64),
            end_frame: said(Fact::EndFrame).and_then(Value::as_u64),
            fade_in_frames: said(Fact::FadeInFrames).and_then(Value::as_u64),
            fade_out_frames: said(Fact::FadeOutFrames).and_then(Value::as_u64),
            fade_curve: said(Fact::FadeCurve).and_then(|value| serde_json::from_value(value.clone()).ok()),
            pan: said(Fact::Pan).and_then(Value::as_f64),
            cleaning: cleaning_of(
                CLEANING
                    .iter()
                    .filter_map(|(fact, _)| Some((*fact, said(*fact)?))),
            )
            .unwrap_or_default(),
            tune_cents: said(Fact::TuneCents).and_then(Value::as_f64),
            gain_db: said(Fact::GainDb).and_then(Value::as_f64),
            root_key: said(Fact::RootKey)
                .and_then(Value::as_u64)
                .and_then(|key| u8::try_from(key).ok()),
            recording_cents: said(Fact::RecordingCents).and_then(Value::as_f64),
            pitch_stretch: said(Fact::PitchStretch)
                .and_then(|value| serde_json::from_value(value.clone()).ok()),
            no_pitch: said(Fact::NoPitch).and_then(Value::as_bool).unwrap_or(false),
            looped: said(Fact::Loop).and_then(|value| serde_json::from_value(value.clone()).ok()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    fn put(facts: &mut Facts, fields: &[FieldChange]) {
        for f in fields {
            match &f.after {
                Said::Automatic => facts.remove(&(f.target, f.fact)),
                Said::Value(value) => facts.insert((f.target, f.fact), value.clone()),
            };
        }
    }

    fn set(take: u64, fact: Fact, value: Value) -> (Target, Fact, Said) {
        (Target::Take(take), fact, Said::Value(value))
    }

    #[test]
    fn undo_leaves_alone_what_was_changed_since_and_says_so() {
        let mut facts = Facts::new();
        let first = Change::propose(
            "a",
            &facts,
            vec![
                set(1, Fact::StartFrame, json!(10)),
                set(2, Fact::StartFrame, json!(10)),
            ],
        )
        .unwrap();
        put(&mut facts, &first.fields);
        let second = Change::propose("b", &facts, vec![set(2, Fact::StartFrame, json!(99))]).unwrap();
        put(&mut facts, &second.fields);
        let undone = first.undo(&facts);
        assert_eq!((undone.set.len(), undone.left_alone), (1, 1));
        put(&mut facts, &undone.set);
        assert_eq!(Correction::of(1, &facts).start_frame, None);
        assert_eq!(Correction::of(2, &facts).start_frame, Some(99));
    }

    #[test]
    fn a_value_that_does_not_fit_is_refused() {
        let facts = Facts::new();
        for wish in [
            set(1, Fact::RootKey, json!(200)),
            set(1, Fact::GainDb, json!("loud")),
            set(
                1,
                Fact::Loop,
                json!({"start_frame": 9, "end_frame": 3, "crossfade_frames": 0}),
            ),
            (Target::Instrument, Fact::StartFrame, Said::Value(json!(1))),
            (Target::Instrument, Fact::Name, Said::Value(json!(" "))),
        ] {
            assert!(Change::propose("x", &facts, vec![wish]).is_err());
        }
    }

    proptest! {
        /// Undoing everything, newest first, brings back the start; redoing brings back the end.
        #[test]
        fn undo_and_redo_are_inverse(edits in proptest::collection::vec((0u64..4, 0u64..3, 0u64..50), 1..20)) {
            let mut facts = Facts::new();
            let mut changes = Vec::new();
            for (take, field, value) in edits {
                let fact = [Fact::StartFrame, Fact::EndFrame, Fact::Loop][field as usize];
                let value = if fact == Fact::Loop { Value::Null } else { json!(value) };
                let change = Change::propose("e", &facts, vec![set(take, fact, value)]).unwrap();
                put(&mut facts, &change.fields);
                changes.push(change);
            }
            let end = facts.clone();
            for change in changes.iter().rev() {
                let undone = change.undo(&facts);
                prop_assert_eq!(undone.left_alone, 0);
                put(&mut facts, &undone.set);
            }
            prop_assert!(facts.is_empty());
            for change in &changes {
                let redone = change.redo(&facts);
                put(&mut facts, &redone.set);
            }
            prop_assert_eq!(facts, end);
        }
    }
}
