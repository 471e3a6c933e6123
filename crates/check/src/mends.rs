//! What mends a finding: what the step's own act would say.

use instrument::{Fact, Mend, ResolvedTake, Said, Target, Wish};
use serde_json::Value;

/// An act with its button and what it changes.
pub(crate) fn mend(label: &str, changes: impl Into<String>, wishes: Vec<(Target, Fact, Said)>) -> Mend {
    Mend {
        label: label.to_owned(),
        changes: changes.into(),
        wishes: wishes.into_iter().map(Wish::from).collect(),
    }
}

/// Of one take: facts with what they should say; `None` brings the automatic value back.
pub(crate) fn of_take(
    take: &ResolvedTake,
    label: &str,
    changes: impl Into<String>,
    facts: Vec<(Fact, Option<Value>)>,
) -> Mend {
    let target = Target::Take(take.recorded.id);
    let said = |value: Option<Value>| value.map_or(Said::Automatic, Said::Value);
    let wishes = facts
        .into_iter()
        .map(|(fact, value)| (target, fact, said(value)))
        .collect();
    mend(label, changes, wishes)
}

/// A value with its sign, a real minus among them, and so many decimals.
pub(crate) fn signed(value: f64, decimals: usize) -> String {
    format!("{value:+.decimals$}").replace('-', "−")
}

/// A value with one decimal and a real minus sign.
pub(crate) fn tenth(value: f64) -> String {
    format!("{value:.1}").replace('-', "−")
}
