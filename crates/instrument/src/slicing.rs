//! Where a long take is cut, and for which cells.

use crate::{Cell, Plan};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;

/// A stretch of a long take that is to be a take.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Slice {
    /// First frame, room included.
    pub first_frame: u64,
    /// First frame after.
    pub end_frame: u64,
    /// The key heard in it, where one was.
    #[serde(default)]
    pub key: Option<u8>,
    /// How far above that key.
    #[serde(default)]
    pub cents: Option<f64>,
    /// It begins in the tail of the one before.
    #[serde(default)]
    pub in_tail: bool,
    /// Not to be used: a false start, a cough.
    #[serde(default)]
    pub left_out: bool,
}

/// How and where a long take is cut.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Slicing {
    /// In order, not overlapping.
    pub slices: Vec<Slice>,
}

impl Slicing {
    /// Whether every slice ends after it starts and none overlaps another.
    pub fn is_in_order(&self) -> bool {
        self.slices.iter().all(|s| s.first_frame < s.end_frame)
            && self
                .slices
                .windows(2)
                .all(|pair| pair[0].end_frame <= pair[1].first_frame)
    }
}

/// How slices are dealt out to cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Deal {
    /// The cells in the order of the plan.
    InOrder,
    /// Each note with all its layers and round robins in one go, as the plan counts them, layers from soft to loud.
    Repeats,
    /// To the rung whose note was heard; several of one note fill its layers and round robins in order.
    ByPitch,
}

/// Where a slice goes; `None` where it fits nowhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dealt {
    /// Index of the slice.
    pub slice: usize,
    /// Its cell.
    pub cell: Option<Cell>,
}

/// A pitch this near to a rung is that rung's, where no other is nearer: half the smallest distance is common, a semitone and a
/// half is as far as a tuning by ear goes.
const NEAR_KEYS: f64 = 1.5;

/// Deals the slices that are not left out to the plan's free cells, each cell once.
pub fn deal(plan: &Plan, slices: &[Slice], how: Deal, taken: &HashSet<Cell>) -> Vec<Dealt> {
    let free: Vec<Cell> = plan
        .cells()
        .into_iter()
        .filter(|cell| !taken.contains(cell))
        .collect();
    let used = slices.iter().enumerate().filter(|(_, slice)| !slice.left_out);
    match how {
        // Without passes between them the two are one order: layer by layer inside each rung. `InOrder` goes through all rungs of
        // one layer first, as a player who stays at one strength does.
        Deal::Repeats => used
            .enumerate()
            .map(|(n, (slice, _))| Dealt {
                slice,
                cell: free.get(n).copied(),
            })
            .collect(),
        Deal::InOrder => {
            let mut free = free;
            free.sort_by_cached_key(|cell| {
                let pass = plan.passes.iter().position(|pass| pass.id == cell.pass);
                let layers = pass.map(|at| &plan.passes[at].layers);
                let layer = layers.and_then(|all| all.iter().position(|layer| layer.id == cell.layer));
                (pass, layer, cell.round_robin, cell.key)
            });
            used.enumerate()
                .map(|(n, (slice, _))| Dealt {
                    slice,
                    cell: free.get(n).copied(),
                })
                .collect()
        }
        Deal::ByPitch => {
            let mut given: HashSet<Cell> = HashSet::new();
            used.map(|(index, slice)| {
                let heard = slice
                    .key
                    .map(|key| f64::from(key) + slice.cents.unwrap_or(0.0) / 100.0);
                let rung = heard.and_then(|heard| {
                    free.iter()
                        .map(|cell| (cell.key, (f64::from(cell.key) - heard).abs()))
                        .filter(|(_, off)| *off <= NEAR_KEYS)
                        .min_by(|a, b| a.1.total_cmp(&b.1))
                        .map(|(key, _)| key)
                });
                let cell = rung.and_then(|key| {
                    free.iter()
                        .find(|cell| cell.key == key && !given.contains(cell))
                        .copied()
                });
                given.extend(cell);
                Dealt { slice: index, cell }
            })
            .collect()
        }
    }
}

/// How far a slice may lie from its note's time.
const NEAR_MS: f64 = 400.0;

/// Deals slices to cells by the times at which their sounds were to come, as the plan's MIDI file has them: the recording may begin
/// earlier or later than the file by any amount, found as the shift under which most slices meet a note. `starts_ms` are the slices'
/// sounds, without their room; `notes` are cells and their times, in order.
pub fn deal_by_times(starts_ms: &[f64], notes: &[(Cell, f64)]) -> Vec<Dealt> {
    let nearest = |at: f64| {
        let after = notes.partition_point(|(_, time)| *time < at);
        [after.checked_sub(1), Some(after)]
            .into_iter()
            .flatten()
            .filter_map(|n| Some((n, (notes.get(n)?.1 - at).abs())))
            .min_by(|a, b| a.1.total_cmp(&b.1))
    };
    let meeting = |shift: f64| {
        let offs = starts_ms
            .iter()
            .filter_map(|start| nearest(start - shift))
            .map(|(_, off)| off);
        let near: Vec<f64> = offs.filter(|off| *off < NEAR_MS).collect();
        (near.len(), -near.iter().sum::<f64>())
    };
    // One of the first slices is one of the first notes.
    let shifts = starts_ms
        .iter()
        .take(8)
        .flat_map(|start| notes.iter().take(8).map(move |(_, time)| start - time));
    let best = shifts.max_by(|a, b| {
        let (a, b) = (meeting(*a), meeting(*b));
        a.0.cmp(&b.0).then(a.1.total_cmp(&b.1))
    });
    let Some(shift) = best else { return Vec::new() };
    // Of two slices near one note the nearer is its; a clock that runs otherwise is followed from note to note.
    let mut given: Vec<Option<(usize, f64)>> = vec![None; notes.len()];
    let mut drift = 0.0;
    for (slice, start) in starts_ms.iter().enumerate() {
        let Some((note, _)) = nearest(start - shift - drift) else {
            continue;
        };
        let off = start - shift - drift - notes[note].1;
        if off.abs() < NEAR_MS && given[note].is_none_or(|(_, before)| off.abs() < before) {
            given[note] = Some((slice, off.abs()));
            drift += off * 0.3;
        }
    }
    let cell_of = |slice: usize| {
        given
            .iter()
            .position(|held| held.is_some_and(|(of, _)| of == slice))
            .map(|note| notes[note].0)
    };
    (0..starts_ms.len())
        .map(|slice| Dealt {
            slice,
            cell: cell_of(slice),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;

    fn slices(keys: &[u8]) -> Vec<Slice> {
        (0u64..)
            .zip(keys)
            .map(|(n, &key)| Slice {
                first_frame: n * 100,
                end_frame: n * 100 + 90,
                key: Some(key),
                cents: Some(-20.0),
                in_tail: false,
                left_out: false,
            })
            .collect()
    }

    fn cells(dealt: &[Dealt]) -> Vec<Option<(u8, u64)>> {
        dealt.iter().map(|d| d.cell.map(|c| (c.key, c.layer.0))).collect()
    }

    #[test]
    fn slices_go_to_cells_in_order_in_repeats_or_by_pitch() {
        let plan = plan(&[60, 64], &[40, 100], 1);
        let none = HashSet::new();
        let dealt = |keys: &[u8], how| cells(&deal(&plan, &slices(keys), how, &none));
        let four = [60, 60, 64, 64];
        assert_eq!(
            dealt(&four, Deal::Repeats),
            [Some((60, 0)), Some((60, 1)), Some((64, 0)), Some((64, 1))]
        );
        assert_eq!(
            dealt(&four, Deal::InOrder),
            [Some((60, 0)), Some((64, 0)), Some((60, 1)), Some((64, 1))]
        );
        // A wrong octave and a note too many fit nowhere, and are said.
        assert_eq!(
            dealt(&[64, 76, 60, 64, 64], Deal::ByPitch),
            [Some((64, 0)), None, Some((60, 0)), Some((64, 1)), None]
        );
    }

    #[test]
    fn a_recording_of_the_plans_file_lands_in_its_cells() {
        let plan = plan(&(48..68).collect::<Vec<u8>>(), &[100], 1);
        let notes: Vec<(Cell, f64)> = plan
            .cells()
            .into_iter()
            .zip((0..).map(|n| 2_000.0 + f64::from(n) * 5_000.0))
            .collect();
        // Begun 3.7 s before the file, on a clock 0.02 % slow, with a cough, and one note missed.
        let mut starts: Vec<f64> = notes.iter().map(|(_, time)| time * 1.0002 + 3_700.0).collect();
        starts.remove(7);
        starts.insert(3, starts[2] + 2_100.0);
        let dealt = deal_by_times(&starts, &notes);
        for (n, dealt) in dealt.iter().enumerate() {
            let expected = match n {
                0..3 => Some(n),
                3 => None,
                4..8 => Some(n - 1),
                _ => Some(n),
            };
            assert_eq!(dealt.cell, expected.map(|n| notes[n].0), "slice {n}");
        }
        assert!(deal_by_times(&[], &notes).is_empty());
    }

    #[test]
    fn what_is_left_out_or_taken_is_passed_over() {
        let plan = plan(&[60, 64], &[100], 1);
        let mut three = slices(&[60, 60, 64]);
        three[1].left_out = true;
        let taken = HashSet::from([plan.cells()[0]]);
        assert_eq!(
            cells(&deal(&plan, &three, Deal::Repeats, &taken)),
            [Some((64, 0)), None]
        );
    }

    #[test]
    fn slices_that_overlap_are_out_of_order() {
        let mut slicing = Slicing {
            slices: slices(&[60, 61]),
        };
        assert!(slicing.is_in_order());
        slicing.slices[0].end_frame = 150;
        assert!(!slicing.is_in_order());
    }
}
