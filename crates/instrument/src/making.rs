//! New takes from old: what is made of which, and for which cell.

use crate::{Cell, PassId, Plan};
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

/// Rungs of a pass that were not recorded, each with the take it is best made from: the next rung above, since stretching down is less heard
/// (common practice), else the next below; layer by layer.
pub fn missing_from_neighbours(plan: &Plan, pass: PassId, taken: &[(Cell, u64)]) -> Vec<(u64, Making)> {
    let Some(planned) = plan.pass(pass) else {
        return Vec::new();
    };
    let mut made = Vec::new();
    for &key in &planned.rungs {
        for layer in planned.layers.iter().map(|layer| layer.id) {
            let of_layer = || {
                taken
                    .iter()
                    .filter(move |(cell, _)| cell.pass == pass && cell.layer == layer)
            };
            if of_layer().any(|(cell, _)| cell.key == key) {
                continue;
            }
            let above = of_layer()
                .filter(|(cell, _)| cell.key > key)
                .min_by_key(|(cell, _)| (cell.key, cell.round_robin));
            let below = of_layer()
                .filter(|(cell, _)| cell.key < key)
                .max_by_key(|(cell, _)| (cell.key, std::cmp::Reverse(cell.round_robin)));
            if let Some((_, take)) = above.or(below) {
                made.push((*take, Making::AtKey { key }));
            }
        }
    }
    made
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
        let made = missing_from_neighbours(&plan, PassId(0), &taken);
        assert_eq!(
            made,
            [(2, Making::AtKey { key: 48 }), (3, Making::AtKey { key: 60 })]
        );
        assert!(missing_from_neighbours(&plan, PassId(7), &taken).is_empty());
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
