//! One number of many regions, set in one act: the same for all, moved as far, along the ladder, to alternate sides, or scattered.

use crate::facts::said_about;
use crate::{Fact, Facts, Said, Target, Wish};
use program::{Program, Region, StrandId, strike_random};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;

/// How a number is set on many regions.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AtOnce {
    /// The same on each.
    Same(f64),
    /// Each moved as far.
    By(f64),
    /// From one to another, from the lowest root to the highest.
    Along {
        /// At the lowest root.
        from: f64,
        /// At the highest.
        to: f64,
    },
    /// As much up on one rung as down on the next, around what it was.
    Alternate(f64),
    /// At random around what it was, at most so far.
    Scatter {
        /// So far.
        most: f64,
        /// The same draws the same.
        seed: u64,
    },
    /// The other way round: what was left is right.
    Mirror,
}

/// What stands in a number of a region, as the fact says it.
fn now(region: &Region, said: &Facts, fact: Fact) -> Option<f64> {
    let (keys, strikes) = (region.when.keys, region.when.strikes);
    Some(match fact {
        Fact::RegionLowKey => f64::from(keys.low),
        Fact::RegionHighKey => f64::from(keys.high),
        Fact::RegionLowStrike => f64::from(strikes.low),
        Fact::RegionHighStrike => f64::from(strikes.high),
        Fact::KeyFollow => region.key_follow,
        Fact::RegionGainDb | Fact::RegionTuneCents | Fact::RegionPan | Fact::RegionOffsetFrames => {
            said_about(said, Target::of_region(region), fact).unwrap_or(0.0)
        }
        _ => return None,
    })
}

/// Lowest and highest of a number, and whether it is a whole one.
fn limits(fact: Fact) -> (f64, f64, bool) {
    match fact {
        Fact::RegionLowKey | Fact::RegionHighKey => (0.0, 127.0, true),
        Fact::RegionLowStrike | Fact::RegionHighStrike => (1.0, 127.0, true),
        Fact::KeyFollow => (-2.0, 2.0, false),
        Fact::RegionGainDb => (-96.0, 48.0, false),
        Fact::RegionTuneCents => (-4_800.0, 4_800.0, false),
        Fact::RegionPan => (-1.0, 1.0, false),
        _ => (0.0, 1e12, true),
    }
}

/// What sets a number of some regions; nothing where the fact is no number of regions.
pub fn set_at_once(
    program: &Program,
    said: &Facts,
    of: &[(StrandId, u64)],
    fact: Fact,
    how: AtOnce,
) -> Vec<Wish> {
    let is_wanted = |region: &&Region| of.contains(&(region.key.strand, region.key.of.number()));
    let regions: Vec<&Region> = program.regions.iter().filter(is_wanted).collect();
    let mut roots: Vec<u8> = regions.iter().map(|region| region.root_key).collect();
    roots.sort_unstable();
    roots.dedup();
    let (low, high, whole) = limits(fact);
    let wish = |(n, region): (u64, &&Region)| {
        let before = now(region, said, fact)?;
        let rung = roots.binary_search(&region.root_key).unwrap_or(0);
        let value = match how {
            AtOnce::Same(value) => value,
            AtOnce::By(by) => before + by,
            AtOnce::Along { from, to } => {
                let (first, last) = (f64::from(*roots.first()?), f64::from(*roots.last()?));
                let share = (f64::from(region.root_key) - first) / (last - first).max(1.0);
                from + (to - from) * share
            }
            AtOnce::Alternate(by) => before + if rung % 2 == 0 { -by } else { by },
            AtOnce::Scatter { most, seed } => before + most * (2.0 * strike_random(seed, n + 1) - 1.0),
            AtOnce::Mirror => -before,
        };
        let fitted = value.clamp(low, high);
        // So fine that nobody hears it, and no finer than anybody reads it.
        let value = if whole {
            json!(fitted.round() as u64)
        } else {
            json!((fitted * 1e4).round() / 1e4)
        };
        Some(Wish::from((Target::of_region(region), fact, Said::Value(value))))
    };
    (0u64..).zip(&regions).filter_map(wish).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Change, lay_over};
    use program::RegionOf;
    use serde_json::Value;

    fn program() -> Program {
        let mut program = Program::plain("x", Vec::new(), Vec::new());
        for (n, root) in [48u8, 48, 54, 60].into_iter().enumerate() {
            let mut region = Region::whole(0, root, 100).on_keys(root - 5, root);
            region.key.of = RegionOf::Own(n as u64);
            program.regions.push(region);
        }
        program
    }

    fn set(said: &mut Facts, fact: Fact, how: AtOnce) -> Vec<f64> {
        let program = program();
        let of: Vec<_> = (program.regions.iter())
            .map(|region| (region.key.strand, region.key.of.number()))
            .collect();
        let change = Change::propose("x", said, set_at_once(&program, said, &of, fact, how)).unwrap();
        lay_over(said, &change.fields);
        let number = |region: &Region| {
            said.get(&(Target::of_region(region), fact))
                .and_then(Value::as_f64)
                .unwrap()
        };
        program.regions.iter().map(number).collect()
    }

    #[test]
    fn many_are_set_alike_moved_alike_and_along_the_ladder() {
        let mut said = Facts::new();
        assert_eq!(set(&mut said, Fact::RegionGainDb, AtOnce::Same(-3.0)), [-3.0; 4]);
        assert_eq!(set(&mut said, Fact::RegionGainDb, AtOnce::By(1.0)), [-2.0; 4]);
        let along = AtOnce::Along { from: -6.0, to: 0.0 };
        assert_eq!(set(&mut said, Fact::RegionGainDb, along), [-6.0, -6.0, -3.0, 0.0]);
        // What is no whole number becomes one, and nothing leaves its range.
        assert_eq!(set(&mut said, Fact::RegionHighKey, AtOnce::By(90.4)), [127.0; 4]);
    }

    #[test]
    fn rungs_go_to_alternate_sides_and_are_exchanged() {
        let mut said = Facts::new();
        assert_eq!(
            set(&mut said, Fact::RegionPan, AtOnce::Alternate(0.4)),
            [-0.4, -0.4, 0.4, -0.4]
        );
        assert_eq!(
            set(&mut said, Fact::RegionPan, AtOnce::Mirror),
            [0.4, 0.4, -0.4, 0.4]
        );
    }

    #[test]
    fn what_is_scattered_stays_within_bounds_and_is_the_same_again() {
        let scatter = |seed| {
            set(
                &mut Facts::new(),
                Fact::RegionTuneCents,
                AtOnce::Scatter { most: 5.0, seed },
            )
        };
        let once = scatter(3);
        assert!(once.iter().all(|cents| cents.abs() <= 5.0));
        assert!(once.windows(2).all(|pair| pair[0] != pair[1]));
        assert_eq!(once, scatter(3));
        assert_ne!(once, scatter(4));
    }

    #[test]
    fn what_is_no_number_of_regions_is_not_set() {
        let program = program();
        let of = [(StrandId(0), program.regions[0].key.of.number())];
        assert!(set_at_once(&program, &Facts::new(), &of, Fact::RegionToEnd, AtOnce::Same(1.0)).is_empty());
    }
}
