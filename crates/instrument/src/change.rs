//! Every edit is one command, with field-by-field before-values, so that it can be undone from anywhere.

use crate::Correction;
use crate::effect_settings::refuses_setting;
use crate::facts::{Fact, Facts, Said, standing};
use crate::stages::cleaning_of;
use crate::target::{About, Target};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

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

/// One gesture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// What was done, for "Undo …".
    pub label: String,
    /// Every field it touched.
    pub fields: Vec<FieldChange>,
}

/// What somebody wants a field to say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Wish {
    /// Of what.
    pub target: Target,
    /// Which field.
    pub fact: Fact,
    /// What it should say.
    pub after: Said,
    /// What stood there when it was wished for: where something else stands there by now, the whole change is refused.
    #[serde(default)]
    pub made_from: Option<Said>,
}

impl From<(Target, Fact, Said)> for Wish {
    fn from((target, fact, after): (Target, Fact, Said)) -> Self {
        Self {
            target,
            fact,
            after,
            made_from: None,
        }
    }
}

/// Lays the fields of a change over what was said.
pub fn lay_over(facts: &mut Facts, fields: &[FieldChange]) {
    for field in fields {
        match &field.after {
            Said::Automatic => facts.remove(&(field.target, field.fact)),
            Said::Value(value) => facts.insert((field.target, field.fact), value.clone()),
        };
    }
}

/// Why an edit cannot be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ChangeError(pub String);

impl ChangeError {
    /// Something that it was made from is another by now.
    pub(crate) fn meanwhile() -> Self {
        Self("Somebody else changed the same meanwhile: look at it, and say it again.".into())
    }
}

/// What an undo or redo did.
#[derive(Debug, Clone, PartialEq)]
pub struct Applied {
    /// Fields that were set.
    pub set: Vec<FieldChange>,
    /// Fields that were changed since and so left alone.
    pub left_alone: usize,
}

impl Change {
    /// A change from what `facts` hold to the given values. Fields that already hold are dropped.
    ///
    /// # Errors
    /// A sentence where a value does not fit its field, or was made from another than the one that stands there.
    pub fn propose<W: Into<Wish>>(
        label: &str,
        facts: &Facts,
        wishes: impl IntoIterator<Item = W>,
    ) -> Result<Self, ChangeError> {
        let mut fields = Vec::new();
        for wish in wishes {
            let Wish {
                target,
                fact,
                after,
                made_from,
            } = wish.into();
            check(target, fact, &after)?;
            let before = standing(facts, target, fact);
            if before == after {
                continue;
            }
            if made_from.is_some_and(|made_from| !made_from.agrees_with(&before)) {
                return Err(ChangeError::meanwhile());
            }
            fields.push(FieldChange {
                target,
                fact,
                before,
                after,
            });
        }
        check_settings(facts, &fields)?;
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
        let (set, changed): (Vec<_>, Vec<_>) =
            fields.partition(|f| standing(facts, f.target, f.fact) == f.before);
        Applied {
            set,
            left_alone: changed.len(),
        }
    }
}

/// Settings of effects lie where their kind lets them: as it is said, or by this very change.
fn check_settings(facts: &Facts, fields: &[FieldChange]) -> Result<(), ChangeError> {
    for field in fields {
        let Said::Value(value) = &field.after else {
            continue;
        };
        let of_kind = |other: &&FieldChange| (other.target, other.fact) == (field.target, Fact::EffectKind);
        let kind = match fields.iter().find(of_kind) {
            Some(other) => other.after.clone(),
            None => standing(facts, field.target, Fact::EffectKind),
        };
        let kind = match &kind {
            Said::Value(kind) => Some(kind),
            Said::Automatic => None,
        };
        if let Some(sentence) = refuses_setting(field.fact, value, kind) {
            return Err(ChangeError(sentence));
        }
    }
    Ok(())
}

fn check(target: Target, fact: Fact, said: &Said) -> Result<(), ChangeError> {
    if !fact.is_of(target.about()) {
        let of = target.about().name();
        return Err(ChangeError(format!("{} is not said of a {of}.", fact.name())));
    }
    let refused = match said {
        Said::Value(value) => fact.refuses(value),
        Said::Automatic => None,
    };
    refused.map_or(Ok(()), |sentence| Err(ChangeError(sentence)))
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
                Fact::of(About::Take)
                    .filter(|fact| fact.is_stage())
                    .filter_map(|fact| Some((fact.name(), said(fact)?))),
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
        lay_over(&mut facts, &first.fields);
        let second = Change::propose("b", &facts, vec![set(2, Fact::StartFrame, json!(99))]).unwrap();
        lay_over(&mut facts, &second.fields);
        let undone = first.undo(&facts);
        assert_eq!((undone.set.len(), undone.left_alone), (1, 1));
        lay_over(&mut facts, &undone.set);
        assert_eq!(Correction::of(1, &facts).start_frame, None);
        assert_eq!(Correction::of(2, &facts).start_frame, Some(99));
    }

    #[test]
    fn what_was_made_from_another_value_is_refused_whole() {
        let mut facts = Facts::new();
        let wish = |take, value: u64, from: Option<u64>| Wish {
            made_from: Some(from.map_or(Said::Automatic, |from| Said::Value(json!(from)))),
            ..Wish::from(set(take, Fact::StartFrame, json!(value)))
        };
        let first = Change::propose("a", &facts, [wish(1, 10, None)]).unwrap();
        lay_over(&mut facts, &first.fields);
        assert!(Change::propose("b", &facts, [wish(2, 5, None), wish(1, 20, None)]).is_err());
        assert!(Change::propose("b", &facts, [wish(2, 5, None), wish(1, 20, Some(10))]).is_ok());
        // What stands there already is no quarrel, and a number that is written otherwise is the same.
        assert!(Change::propose("b", &facts, [wish(1, 10, Some(3))]).is_ok());
        let mut from_page = wish(1, 20, None);
        from_page.made_from = Some(Said::Value(json!(10.0)));
        assert!(Change::propose("b", &facts, [from_page]).is_ok());
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

    /// A field, what it said, and what it says.
    type Noted = (usize, Option<u64>, Option<u64>);

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
                lay_over(&mut facts, &change.fields);
                changes.push(change);
            }
            let end = facts.clone();
            for change in changes.iter().rev() {
                let undone = change.undo(&facts);
                prop_assert_eq!(undone.left_alone, 0);
                lay_over(&mut facts, &undone.set);
            }
            prop_assert!(facts.is_empty());
            for change in &changes {
                let redone = change.redo(&facts);
                lay_over(&mut facts, &redone.set);
            }
            prop_assert_eq!(facts, end);
        }

        /// Steps, any of them undone and done again in any order: what stands, and how much is left alone, is what a plain table of
        /// numbers says, whose fields go back where nobody changed them since.
        #[test]
        fn any_order_of_undo_and_redo_is_what_a_plain_table_says(
            acts in proptest::collection::vec((0u8..4, any::<proptest::sample::Index>(), proptest::collection::vec((0usize..3, 0u64..4), 1..4)), 1..40)
        ) {
            const FIELDS: [(Target, Fact); 3] = [
                (Target::Take(1), Fact::StartFrame),
                (Target::Region(program::StrandId(2), 9), Fact::RegionLowKey),
                (Target::Instrument, Fact::AboveKeys),
            ];
            let mut facts = Facts::new();
            let mut steps: Vec<Change> = Vec::new();
            let mut table: [Option<u64>; 3] = [None; 3];
            // Of each step its fields, as a plain reader would note them: which, from what, to what; and whether it is done.
            let mut noted: Vec<(Vec<Noted>, bool)> = Vec::new();
            for (act, which, edits) in acts {
                if act < 2 || steps.is_empty() {
                    // 0 goes back to automatic; of a field that is said twice in one edit, the last counts.
                    let mut wanted: Vec<(usize, Option<u64>)> = Vec::new();
                    for (field, value) in edits {
                        wanted.retain(|(other, _)| *other != field);
                        wanted.push((field, (value > 0).then_some(value)));
                    }
                    let wishes = wanted.iter().map(|(field, value)| {
                        let after = value.map_or(Said::Automatic, |value| Said::Value(json!(value)));
                        (FIELDS[*field].0, FIELDS[*field].1, after)
                    });
                    let change = Change::propose("edit", &facts, wishes).unwrap();
                    lay_over(&mut facts, &change.fields);
                    steps.push(change);
                    let differ = wanted.into_iter().filter(|(field, value)| table[*field] != *value);
                    let fields: Vec<_> = differ.map(|(field, value)| (field, table[field], value)).collect();
                    for (field, _, after) in &fields {
                        table[*field] = *after;
                    }
                    noted.push((fields, true));
                } else {
                    let n = which.index(steps.len());
                    let (fields, done) = &mut noted[n];
                    let applied = if *done { steps[n].undo(&facts) } else { steps[n].redo(&facts) };
                    lay_over(&mut facts, &applied.set);
                    let mut left_alone = 0;
                    for (field, before, after) in fields.iter() {
                        let (from, to) = if *done { (after, before) } else { (before, after) };
                        if table[*field] == *from {
                            table[*field] = *to;
                        } else {
                            left_alone += 1;
                        }
                    }
                    *done = !*done;
                    prop_assert_eq!(applied.left_alone, left_alone);
                }
                let stands: Vec<Option<u64>> = FIELDS.iter().map(|field| facts.get(field).and_then(Value::as_u64)).collect();
                prop_assert_eq!(&stands[..], &table[..]);
            }
        }
    }
}
