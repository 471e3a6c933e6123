//! Regions that are made by hand: one is cut in two, and the second plays what the first does.

use crate::facts::said_about;
use crate::{Fact, Facts, Said, Target, Wish};
use program::{Program, Region, RegionOf, Strand, StrandId};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

/// Where regions are cut.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CutAt {
    /// The lowest key of the upper one.
    Key(u8),
    /// The softest strike of the harder one.
    Strike(u8),
}

/// Adds the regions that were made by hand of others of their strand, to its other mics as well; one whose original is gone is not there.
pub(crate) fn add_own(program: &mut Program, said: &Facts) {
    let made = said.keys().filter_map(|(target, fact)| match (target, fact) {
        (Target::Region(strand, number), Fact::RegionCopyOf) => {
            let of = said_about::<Option<u64>>(said, *target, Fact::RegionCopyOf).flatten()?;
            Some((*strand, *number, of))
        }
        _ => None,
    });
    for (strand, number, of) in made {
        let shares = |other: &&Strand| other.id == strand || other.regions_of == Some(strand);
        let strands: Vec<StrandId> = (program.strands.iter().filter(shares))
            .map(|one| one.id)
            .collect();
        for strand in strands {
            let original = |region: &Region| region.key.strand == strand && region.key.of.number() == of;
            if let Some(at) = program.regions.iter().position(original) {
                let mut own = program.regions[at].clone();
                own.key.of = RegionOf::Own(number);
                program.regions.insert(at + 1, own);
            }
        }
    }
}

/// What cuts regions in two at a place; those that it does not meet stay as they are.
pub fn split(
    program: &Program,
    said: &Facts,
    of: &[(StrandId, u64)],
    at: CutAt,
    fresh: &mut dyn FnMut() -> u64,
) -> Vec<Wish> {
    let mut wishes = Vec::new();
    for region in &program.regions {
        let (strand, number) = (region.key.strand, region.key.of.number());
        let (span, low, high, border) = match at {
            CutAt::Key(key) => (region.when.keys, Fact::RegionLowKey, Fact::RegionHighKey, key),
            CutAt::Strike(strike) => (
                region.when.strikes,
                Fact::RegionLowStrike,
                Fact::RegionHighStrike,
                strike,
            ),
        };
        if !of.contains(&(strand, number)) || border <= span.low || border > span.high {
            continue;
        }
        let target = Target::of_region(region);
        let own = Target::Region(strand, fresh());
        // One that was made by hand itself is a copy of the same.
        let root = said_about::<Option<u64>>(said, target, Fact::RegionCopyOf)
            .flatten()
            .unwrap_or(number);
        let mut say = |target, fact, value| wishes.push(Wish::from((target, fact, Said::Value(value))));
        say(own, Fact::RegionCopyOf, json!(root));
        for ((_, fact), value) in said
            .range((target, Fact::RegionLowKey)..)
            .take_while(|((other, _), _)| *other == target)
        {
            if !matches!(fact, Fact::RegionCopyOf) && *fact != low && *fact != high {
                say(own, *fact, value.clone());
            }
        }
        say(own, low, json!(border));
        say(own, high, json!(span.high));
        say(target, high, json!(border - 1));
    }
    wishes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, lay_by_hand, lay_over};
    use program::Span;

    #[test]
    fn a_region_is_cut_in_two_and_the_parts_are_one_again_when_it_is_undone() {
        let mut base = Program::plain("x", Vec::new(), vec![Region::whole(0, 60, 100).on_keys(50, 70)]);
        base.regions[0].key.of = RegionOf::Cell {
            pass: 1,
            key: 60,
            layer: 2,
            round_robin: 0,
        };
        let name = |region: &Region| (region.key.strand, region.key.of.number());
        let mut said = Facts::from([(
            (Target::of_region(&base.regions[0]), Fact::RegionGainDb),
            json!(-2.0),
        )]);
        let made = |said: &Facts| {
            let mut program = base.clone();
            lay_by_hand(&mut program, said);
            program
        };
        let mut names = 900..;
        let mut changes = Vec::new();
        for at in [CutAt::Key(61), CutAt::Strike(64), CutAt::Key(90)] {
            let program = made(&said);
            let of: Vec<_> = program.regions.iter().map(name).collect();
            let change = Change::propose(
                "x",
                &said,
                split(&program, &said, &of, at, &mut || names.next().unwrap()),
            )
            .unwrap();
            lay_over(&mut said, &change.fields);
            changes.push(change);
        }
        let program = made(&said);
        let mut parts: Vec<(Span, Span, f64)> = (program.regions.iter())
            .map(|region| (region.when.keys, region.when.strikes, region.gain_db))
            .collect();
        parts.sort_by_key(|(keys, strikes, _)| (keys.low, strikes.low));
        let part = |keys, strikes| (keys, strikes, -2.0);
        assert_eq!(
            parts,
            [
                part(Span::of(50, 60), Span::of(1, 63)),
                part(Span::of(50, 60), Span::of(64, 127)),
                part(Span::of(61, 70), Span::of(1, 63)),
                part(Span::of(61, 70), Span::of(64, 127)),
            ]
        );
        for change in changes.iter().rev() {
            let undone = change.undo(&said);
            lay_over(&mut said, &undone.set);
        }
        assert_eq!(made(&said).regions.len(), 1);
        assert_eq!(made(&said).regions[0].when.keys, Span::of(50, 70));
    }
}
