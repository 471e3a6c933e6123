//! Where a strand is silent between its lowest and highest key, and where two of its regions sound at once.

use crate::{Fill, MapSettings};
use program::{Program, Region, Span, StrandId, Turn};
use serde::Serialize;
use utoipa::ToSchema;

/// A region that is stretched by more keys than this is heard to be, and by more than the second plainly so (common practice: neighbours three to four keys
/// apart are not told from each other, a fifth is).
pub const STRETCH_KEYS: [u8; 2] = [2, 4];

/// What is wrong with a stretch of keys and strikes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Covered {
    /// Nothing answers.
    Gap,
    /// More than one region does, and each at more than half its power.
    Overlap,
}

/// A stretch of keys and strikes of a strand that is not covered once.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Coverage {
    /// Of which strand.
    pub strand: StrandId,
    /// What it is.
    pub what: Covered,
    /// Lowest and highest key.
    pub low_key: u8,
    /// See `low_key`.
    pub high_key: u8,
    /// Softest and hardest strike.
    pub low_strike: u8,
    /// See `low_strike`.
    pub high_strike: u8,
}

/// Two that cross in a fade sound together there, each at half its power or less.
const HALF_POWER: f64 = 0.5 + 1e-6;

/// Whether it waits for a controller, a key or its turn: others stand in for it.
fn is_one_of_several(region: &Region) -> bool {
    let when = &region.when;
    !when.sources.is_empty()
        || when.chosen_by.is_some()
        || matches!(when.turn, Turn::Random { from, .. } if from > 0.0)
        || when.turn.follows_another()
}

/// All of them, strand by strand, upward. Keys without any region between rungs are right where the rule leaves them silent.
pub fn coverage(program: &Program, map: &MapSettings) -> Vec<Coverage> {
    let wanted = |found: &Coverage| {
        let whole = (found.low_strike, found.high_strike) == (1, 127);
        !(map.fill == Fill::None && found.what == Covered::Gap && whole)
    };
    (program.strands.iter())
        .flat_map(|strand| of_strand(program, strand.id))
        .filter(wanted)
        .collect()
}

fn of_strand(program: &Program, strand: StrandId) -> Vec<Coverage> {
    let Some(of) = program.strand(strand) else {
        return Vec::new();
    };
    let all: Vec<&Region> = program.regions_of(strand).collect();
    let meets = |a: Span, b: Span| (a.low.max(b.low), a.high.min(b.high));
    let keys = all
        .iter()
        .map(|region| meets(region.when.keys, of.when.keys))
        .filter(|(low, high)| low <= high);
    let (Some(lowest), Some(highest)) = (
        keys.clone().map(|(low, _)| low).min(),
        keys.map(|(_, high)| high).max(),
    ) else {
        return Vec::new();
    };
    let mut found: Vec<Coverage> = Vec::new();
    // Those that reach down to the key before this one, and may go on.
    let mut open: Vec<Coverage> = Vec::new();
    for key in lowest..=highest {
        let on_key: Vec<&Region> = all
            .iter()
            .copied()
            .filter(|region| region.when.keys.gain(key) > 0.0)
            .collect();
        let mut now = runs(&on_key, strand, key, of.when.strikes);
        for run in &mut now {
            let same = |below: &&Coverage| {
                (below.what, below.low_strike, below.high_strike)
                    == (run.what, run.low_strike, run.high_strike)
            };
            if let Some(below) = open.iter().find(same) {
                run.low_key = below.low_key;
            }
        }
        found.extend(open.into_iter().filter(|below| {
            !now.iter().any(|run| {
                run.low_key == below.low_key
                    && run.what == below.what
                    && run.low_strike == below.low_strike
                    && run.high_strike == below.high_strike
            })
        }));
        open = now;
    }
    found.extend(open);
    found
}

/// What is wrong on one key, from soft to hard.
fn runs(on_key: &[&Region], strand: StrandId, key: u8, strikes: Span) -> Vec<Coverage> {
    let mut runs: Vec<Coverage> = Vec::new();
    for strike in strikes.low..=strikes.high {
        let heard = on_key
            .iter()
            .filter(|region| region.when.strikes.contains(strike))
            .count();
        let loud = |region: &&&Region| {
            !is_one_of_several(region) && region.when.gain(key, strike).powi(2) > HALF_POWER
        };
        let what = match (heard, on_key.iter().filter(loud).count()) {
            (0, _) => Covered::Gap,
            (_, 2..) => Covered::Overlap,
            _ => continue,
        };
        match runs.last_mut() {
            Some(run) if run.what == what && run.high_strike + 1 == strike => run.high_strike = strike,
            _ => runs.push(Coverage {
                strand,
                what,
                low_key: key,
                high_key: key,
                low_strike: strike,
                high_strike: strike,
            }),
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{Fade, RegionOf};

    fn region(n: u64, keys: (u8, u8), strikes: (u8, u8)) -> Region {
        let mut region = Region::whole(0, keys.0, 100).on_keys(keys.0, keys.1);
        region.key.of = RegionOf::Own(n);
        region.when.strikes = Span::of(strikes.0, strikes.1);
        region
    }

    fn of(regions: Vec<Region>) -> Vec<(Covered, [u8; 4])> {
        let all = coverage(&Program::plain("x", Vec::new(), regions), &MapSettings::default());
        let extent = |c: Coverage| (c.what, [c.low_key, c.high_key, c.low_strike, c.high_strike]);
        all.into_iter().map(extent).collect()
    }

    #[test]
    fn what_is_covered_once_is_right() {
        assert_eq!(
            of(vec![
                region(0, (40, 50), (1, 60)),
                region(1, (40, 50), (61, 127)),
                region(2, (51, 60), (1, 127))
            ]),
            []
        );
    }

    #[test]
    fn gaps_and_overlaps_are_one_stretch_each() {
        let found = of(vec![
            region(0, (40, 50), (1, 60)),
            region(1, (40, 50), (70, 127)),
            region(2, (53, 60), (1, 127)),
            region(3, (58, 60), (100, 127)),
        ]);
        assert_eq!(
            found,
            [
                (Covered::Gap, [40, 50, 61, 69]),
                (Covered::Gap, [51, 52, 1, 127]),
                (Covered::Overlap, [58, 60, 100, 127])
            ]
        );
    }

    #[test]
    fn what_crosses_or_takes_turns_does_not_overlap() {
        let (mut soft, mut loud) = (region(0, (40, 50), (1, 80)), region(1, (40, 50), (50, 127)));
        soft.when.strikes.fade_out = Some(Fade { from: 49, to: 81 });
        loud.when.strikes.fade_in = Some(Fade { from: 49, to: 81 });
        assert_eq!(of(vec![soft, loud]), []);
        let turn = |n: u64| {
            let mut one = region(n, (40, 50), (1, 127));
            one.when.turn = Turn::InOrder {
                place: n as u16,
                of: 2,
            };
            one
        };
        assert_eq!(of(vec![turn(0), turn(1)]), []);
        assert_eq!(
            of(vec![turn(0), region(9, (40, 50), (1, 127))]),
            [(Covered::Overlap, [40, 50, 1, 127])]
        );
    }

    #[test]
    fn keys_that_the_rule_leaves_silent_are_no_gaps() {
        let program = Program::plain(
            "x",
            Vec::new(),
            vec![region(0, (40, 40), (1, 127)), region(1, (44, 44), (1, 127))],
        );
        let none = MapSettings {
            fill: Fill::None,
            ..MapSettings::default()
        };
        assert_eq!(coverage(&program, &none), []);
        assert_eq!(coverage(&program, &MapSettings::default()).len(), 1);
    }

    #[test]
    fn a_strand_that_is_limited_is_looked_at_within_its_limits() {
        let mut program = Program::plain("x", Vec::new(), vec![region(0, (40, 50), (20, 127))]);
        program.strands[0].when.strikes = Span::of(20, 127);
        program.strands[0].when.keys = Span::of(45, 127);
        assert_eq!(coverage(&program, &MapSettings::default()), []);
    }
}
