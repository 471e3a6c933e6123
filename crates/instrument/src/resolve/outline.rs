//! What a shelf shows of an instrument, without all that is measured and said of its takes.

use super::{Candidate, chosen, is_as_brought, program_of};
use crate::{Brought, Cell, Fact, Facts, Kind, PlacedTake, Plan, Treatment, map_of, plan_of, said_of};
use program::Sample;
use serde::Serialize;
use std::collections::HashSet;
use utoipa::ToSchema;

/// What a shelf knows of a take.
#[derive(Debug, Clone)]
pub struct OutlinedTake {
    /// Its number.
    pub id: u64,
    /// Where it belongs.
    pub cell: Cell,
    /// Of its recording.
    pub channels: u16,
    /// See [`crate::Origin::only_by_word`].
    pub only_by_word: bool,
    /// Whether it is measured.
    pub measured: bool,
}

/// An instrument at a glance.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Outline {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Whether it is set aside.
    pub set_aside: bool,
    /// Cells planned.
    pub cells: usize,
    /// Cells that have a take.
    pub taken: usize,
    /// Cells whose take is measured.
    pub measured: usize,
    /// Layers of the first pass.
    pub layers: usize,
    /// Extents of what sounds.
    pub regions: Vec<Extent>,
}

/// Which keys and strikes a region serves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
pub struct Extent {
    /// Lowest key.
    pub low_key: u8,
    /// Highest key.
    pub high_key: u8,
    /// Lowest velocity.
    pub low_velocity: u8,
    /// Highest velocity.
    pub high_velocity: u8,
}

/// An instrument at a glance, from its name and plan when it was made, what was said, what was brought, and its takes.
pub fn outline(
    name: &str,
    plan: &Plan,
    (said, brought): (&Facts, Option<&Brought>),
    takes: &[OutlinedTake],
) -> Outline {
    let plan = plan_of(plan, said);
    let name = said_of(said, Fact::Name).unwrap_or_else(|| name.to_owned());
    let map = map_of(said);
    let candidates = takes.iter().map(|take| Candidate {
        id: take.id,
        cell: take.cell,
        only_by_word: take.only_by_word,
    });
    let chosen = chosen(candidates, said);
    // Where a region lies follows from its cell alone: what is measured and treated does not matter here.
    let placed: Vec<PlacedTake> = takes
        .iter()
        .filter(|take| take.measured && chosen.get(&take.cell) == Some(&take.id))
        .map(|take| PlacedTake {
            cell: take.cell,
            sample: Sample {
                id: program::SampleId::default(),
                name: String::new(),
                source: String::new(),
                rate_hz: plan.rate_hz,
                first_channel: 0,
                source_channels: take.channels,
                channels: take.channels,
                frames: 1,
            },
            treatment: Treatment::untouched(take.cell.key),
            as_made: None,
            falls_silent_ms: None,
        })
        .collect();
    let cells_of = |measured: bool| -> HashSet<Cell> {
        let all = takes.iter().filter(|take| take.measured || !measured);
        all.map(|take| take.cell).collect()
    };
    let (taken, measured) = (cells_of(false), cells_of(true));
    let brought = brought.filter(|_| is_as_brought(said));
    // Whoever made it planned what is there.
    let planned = brought.map_or_else(|| plan.cells(), |brought| brought.cells.clone());
    let (program, _) = program_of(&name, &plan, &map, &placed, (said, brought));
    Outline {
        kind: plan.kind,
        tags: said_of(said, Fact::Tags).unwrap_or_default(),
        set_aside: said_of(said, Fact::SetAside).unwrap_or(false),
        cells: planned.len(),
        taken: planned.iter().filter(|cell| taken.contains(cell)).count(),
        measured: planned.iter().filter(|cell| measured.contains(cell)).count(),
        layers: plan.passes.first().map_or(0, |pass| pass.layers.len()),
        // Sounds of keys that come up would lie over those that are played.
        regions: (program.regions.iter())
            .filter(|region| {
                (program.strand_of(region)).is_some_and(|strand| !strand.on.is_key_up() && !strand.muted)
            })
            .map(|region| Extent {
                low_key: region.when.keys.low,
                high_key: region.when.keys.high,
                low_velocity: region.when.strikes.low,
                high_velocity: region.when.strikes.high,
            })
            .collect(),
        name,
    }
}
