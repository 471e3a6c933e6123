//! What of a pattern fits nothing, in sentences.

use super::Pattern;
use super::seats::Nowhere;
use super::shares::{controls_of, route_of};
use crate::Fact;
use crate::edition::SaidOf;
use program::StrandId;
use std::collections::{BTreeMap, BTreeSet};

/// What of a pattern fits nothing.
#[derive(Default)]
pub(super) struct LeftOut {
    /// By strand: settings of it, and the controls that drive it.
    strands: BTreeMap<StrandId, (usize, BTreeSet<String>)>,
    regions: usize,
}

impl LeftOut {
    pub(super) fn note(&mut self, pattern: &Pattern, of: &SaidOf, nowhere: Nowhere) {
        match nowhere {
            Nowhere::Region => self.regions += 1,
            Nowhere::Strand(strand) if pattern.strand(strand).is_none() => self.regions += 1,
            Nowhere::Strand(strand) => {
                let (settings, controls) = self.strands.entry(strand).or_default();
                let route = (of.fact == Fact::Route).then(|| route_of(&of.value)).flatten();
                let mut by = route.iter().flat_map(controls_of).peekable();
                if by.peek().is_none() {
                    *settings += 1;
                }
                controls.extend(by.map(|control| pattern.control_name(control)));
            }
        }
    }

    pub(super) fn sentences(self, pattern: &Pattern) -> Vec<String> {
        let of_strand = |(id, (settings, controls)): (StrandId, (usize, BTreeSet<String>))| {
            let name = pattern
                .strand(id)
                .map_or("A strand", |strand| strand.name.as_str());
            let mut left = Vec::new();
            if settings > 0 {
                left.push(counted(settings, "setting"));
            }
            if !controls.is_empty() {
                let names: Vec<String> = controls.iter().map(|name| format!("“{name}”")).collect();
                left.push(format!("what {} drives of it", in_a_row(&names)));
            }
            format!(
                "“{name}” has no strand here to go with. Left out: {}.",
                left.join(", and ")
            )
        };
        let regions = (self.regions > 0).then(|| {
            let count = counted(self.regions, "setting");
            format!("{count} of single regions: no recording lies at their places.")
        });
        self.strands.into_iter().map(of_strand).chain(regions).collect()
    }
}

/// «a, b and c».
fn in_a_row(names: &[String]) -> String {
    match names {
        [some @ .., last] if !some.is_empty() => format!("{} and {last}", some.join(", ")),
        _ => names.concat(),
    }
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}
