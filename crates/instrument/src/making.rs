//! New takes from old: what is made of which, and for which cell.

use crate::{Cell, PassId, Plan};
use program::{BusId, StrandId};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a take is made from another.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Making {
    /// The last frame first.
    Reversed,
    /// Reversed into forward, joined by a crossfade.
    Swell {
        /// Its length.
        crossfade_ms: f64,
    },
    /// Brought to its root by resampling: what the map does with numbers, done to the samples.
    InTune,
    /// Its movement in pitch taken out.
    Flattened {
        /// How much of it, 0 to 1.
        share: f64,
    },
    /// Resampled a little, so that so many periods are whole frames, and looped over just these.
    ShortLoop {
        /// How many; 1 is a single cycle.
        periods: u32,
    },
    /// At another key, by resampling.
    AtKey {
        /// Which.
        key: u8,
    },
    /// Through a row of effects, at its own pitch, with what is heard after it.
    Printed(Printing),
}

/// Which effects a take is made with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Printing {
    /// The strand as which it is played: what it sends, and its filter.
    pub strand: StrandId,
    /// The row.
    pub bus: BusId,
    /// Whether the strand's filter is in it too.
    #[serde(default)]
    pub with_filter: bool,
    /// The strike, 1 to 127, where a filter follows it.
    #[serde(default = "usual_strike")]
    pub strike: u8,
}

fn usual_strike() -> u8 {
    100
}

impl Making {
    /// A sentence where it cannot be.
    pub fn check(&self) -> Result<(), String> {
        match self {
            Self::Swell { crossfade_ms } if !(1.0..=5_000.0).contains(crossfade_ms) => {
                Err("A swell's crossfade lasts from 1 ms to 5 s.".into())
            }
            Self::Flattened { share } if !(0.0..=1.0).contains(share) => {
                Err("What is flattened is a share from 0 to 100 %.".into())
            }
            Self::ShortLoop { periods } if !(1..=1_000).contains(periods) => {
                Err("A short loop has from 1 to 1,000 periods.".into())
            }
            Self::AtKey { key } if *key > 127 => Err("Keys go from 0 to 127.".into()),
            Self::Printed(printing) if !(1..=127).contains(&printing.strike) => {
                Err("A strike lies within 1 to 127.".into())
            }
            _ => Ok(()),
        }
    }

    /// For the take's origin: what was done.
    pub fn says(&self) -> String {
        match self {
            Self::Reversed => "reversed".into(),
            Self::Swell { .. } => "a swell".into(),
            Self::InTune => "brought in tune".into(),
            Self::Flattened { share } if *share >= 0.995 => "pitch flattened".into(),
            Self::Flattened { share } => format!("pitch flattened by {:.0} %", share * 100.0),
            Self::ShortLoop { periods: 1 } => "a single cycle".into(),
            Self::ShortLoop { periods } => format!("a loop of {periods} periods"),
            Self::AtKey { .. } => "re-pitched".into(),
            Self::Printed(printing) if printing.with_filter => "effects and filter printed".into(),
            Self::Printed(_) => "effects printed".into(),
        }
    }

    /// The cell of what is made.
    pub fn cell(&self, from: Cell) -> Cell {
        match self {
            Self::AtKey { key } => Cell { key: *key, ..from },
            _ => from,
        }
    }

    /// Frames of what is made per frame of a recording that lies `recording_cents` above its root key, where it is resampled.
    pub fn ratio(&self, root_key: u8, recording_cents: f64) -> Option<f64> {
        let up_cents = match self {
            Self::InTune => -recording_cents,
            Self::AtKey { key } => (f64::from(*key) - f64::from(root_key)) * 100.0 - recording_cents,
            _ => return None,
        };
        Some((-up_cents / 1200.0).exp2())
    }
}

/// From which recording a rung is made that was not recorded.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MadeFrom {
    /// The next above, since stretching down is less heard (common practice); else the next below.
    #[default]
    NextAbove,
    /// The nearest; of two, the one above.
    Nearest,
    /// One after another, up the keyboard, so that neighbours do not sound like one stretched recording.
    InTurn,
}

/// How the rungs of a pass that were not recorded are made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FillRule {
    /// From which.
    pub from: MadeFrom,
    /// From these takes alone; from any where there are none.
    #[serde(default)]
    pub of: Vec<u64>,
    /// A recording reaches so far, in semitones.
    pub furthest_keys: u8,
}

impl Default for FillRule {
    fn default() -> Self {
        Self {
            from: MadeFrom::NextAbove,
            of: Vec::new(),
            furthest_keys: 127,
        }
    }
}

impl FillRule {
    /// Rungs of a pass that have no take, each with the one that it is made from; layer by layer. What no recording reaches is left out.
    pub fn makings(&self, plan: &Plan, pass: PassId, taken: &[(Cell, u64)]) -> Vec<(u64, Making)> {
        let Some(planned) = plan.pass(pass) else {
            return Vec::new();
        };
        let mut made = Vec::new();
        for layer in planned.layers.iter().map(|layer| layer.id) {
            let mut of_layer: Vec<&(Cell, u64)> = (taken.iter())
                .filter(|(cell, _)| cell.pass == pass && cell.layer == layer)
                .collect();
            of_layer.sort_by_key(|(cell, _)| (cell.key, cell.round_robin));
            let is_empty = |key: &&u8| !of_layer.iter().any(|(cell, _)| cell.key == **key);
            for (n, &key) in planned.rungs.iter().filter(is_empty).enumerate() {
                let within: Vec<(u8, u64)> = (of_layer.iter())
                    .filter(|(_, take)| self.of.is_empty() || self.of.contains(take))
                    .map(|(cell, take)| (cell.key, *take))
                    .filter(|(from, _)| from.abs_diff(key) <= self.furthest_keys)
                    .collect();
                made.extend(
                    self.choose(&within, key, n)
                        .map(|take| (take, Making::AtKey { key })),
                );
            }
        }
        made
    }

    /// The take that the `n`th empty rung is made from, of those with their keys, rising.
    fn choose(&self, within: &[(u8, u64)], key: u8, n: usize) -> Option<u64> {
        let chosen = match self.from {
            MadeFrom::NextAbove => (within.iter().find(|(from, _)| *from > key))
                .or_else(|| within.iter().min_by_key(|(from, _)| from.abs_diff(key))),
            MadeFrom::Nearest => within
                .iter()
                .min_by_key(|(from, _)| (from.abs_diff(key), *from < key)),
            MadeFrom::InTurn => within.get(n % within.len().max(1)),
        };
        chosen.map(|(_, take)| *take)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;

    #[test]
    fn empty_rungs_are_made_from_the_next_above_else_below() {
        let plan = plan(&[48, 52, 56, 60], &[40, 100], 2);
        let cell = |key, layer, round_robin| Cell {
            pass: PassId(0),
            key,
            layer: crate::LayerId(layer),
            round_robin,
        };
        let taken = [
            (cell(52, 0, 1), 1),
            (cell(52, 0, 0), 2),
            (cell(56, 0, 0), 3),
            (cell(48, 1, 0), 4),
            (cell(52, 1, 0), 5),
            (cell(56, 1, 0), 6),
            (cell(60, 1, 0), 7),
        ];
        let rule = FillRule::default();
        let made = rule.makings(&plan, PassId(0), &taken);
        assert_eq!(
            made,
            [(2, Making::AtKey { key: 48 }), (3, Making::AtKey { key: 60 })]
        );
        assert!(rule.makings(&plan, PassId(7), &taken).is_empty());
    }

    #[test]
    fn which_recording_and_how_far_it_reaches_is_a_rule() {
        let plan = plan(&[48, 50, 52, 54, 56, 58, 60], &[100], 1);
        let cell = |key| Cell {
            pass: PassId(0),
            key,
            layer: crate::LayerId(0),
            round_robin: 0,
        };
        let taken = [(cell(48), 1), (cell(52), 2), (cell(60), 3)];
        let made = |from, of: &[u64], furthest_keys| {
            let of = of.to_vec();
            let rule = FillRule {
                from,
                of,
                furthest_keys,
            };
            let of_rung = |(take, how)| match how {
                Making::AtKey { key } => (key, take),
                _ => (0, 0),
            };
            let made = rule.makings(&plan, PassId(0), &taken).into_iter();
            made.map(of_rung).collect::<Vec<(u8, u64)>>()
        };
        assert_eq!(
            made(MadeFrom::NextAbove, &[], 127),
            [(50, 2), (54, 3), (56, 3), (58, 3)]
        );
        assert_eq!(
            made(MadeFrom::Nearest, &[], 127),
            [(50, 2), (54, 2), (56, 3), (58, 3)]
        );
        assert_eq!(made(MadeFrom::Nearest, &[], 2), [(50, 2), (54, 2), (58, 3)]);
        assert_eq!(made(MadeFrom::Nearest, &[1], 6), [(50, 1), (54, 1)]);
        assert_eq!(
            made(MadeFrom::InTurn, &[], 127),
            [(50, 1), (54, 2), (56, 3), (58, 1)]
        );
        assert_eq!(
            made(MadeFrom::InTurn, &[2, 3], 6),
            [(50, 2), (54, 3), (56, 2), (58, 3)]
        );
    }

    #[test]
    fn what_is_resampled_lands_on_its_key() {
        // A fifth up, 2^(-7/12) as long; a take 12 cents sharp is made longer.
        let fifth = Making::AtKey { key: 67 }.ratio(60, 0.0);
        assert!((fifth.unwrap() - 0.667_42).abs() < 1e-5);
        assert!((Making::InTune.ratio(60, 12.0).unwrap() - 1.006_956).abs() < 1e-6);
        assert_eq!(Making::Reversed.ratio(60, 12.0), None);
        assert!(Making::Swell { crossfade_ms: 0.0 }.check().is_err());
        assert!(Making::Flattened { share: 1.1 }.check().is_err());
    }
}
