//! The shelf: a card an instrument, from what the shelf's few statements read.

use crate::view::{Candidate, chosen, only_by_word, said};
use instrument::{Cell, Fact, Kind, MapSettings, Origin, PlacedTake, Plan, Treatment, make_program};
use program::Sample;
use serde::Serialize;
use std::collections::HashSet;
use store::{ShelfRow, Store};
use utoipa::ToSchema;

/// A card on the shelf.
#[derive(Debug, Serialize, ToSchema)]
pub struct Card {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Cells planned.
    pub cells: usize,
    /// Cells that have a take.
    pub taken: usize,
    /// Cells whose take is measured.
    pub measured: usize,
    /// Layers of the first pass.
    pub layers: usize,
    /// Key extents, roots and velocity extents of its regions.
    pub regions: Vec<CardRegion>,
    /// When something was last kept, UTC.
    pub kept_at: String,
}

/// A region as a card draws it.
#[derive(Debug, Serialize, ToSchema)]
pub struct CardRegion {
    /// Lowest key.
    pub low_key: u8,
    /// Highest key.
    pub high_key: u8,
    /// Lowest velocity.
    pub low_velocity: u8,
    /// Highest velocity.
    pub high_velocity: u8,
}

/// All cards.
pub(crate) async fn cards(store: &Store) -> anyhow::Result<Vec<Card>> {
    let shelf = store.shelf().await?;
    Ok(tokio::task::spawn_blocking(move || shelf.into_iter().map(card_of).collect()).await?)
}

fn card_of(of: ShelfRow) -> Card {
    let plan: Plan = said(&of.facts, Fact::Plan).unwrap_or(of.row.plan);
    let name: String = said(&of.facts, Fact::Name).unwrap_or(of.row.name);
    let map: MapSettings = said(&of.facts, Fact::Map).unwrap_or_default();
    let candidates = of.takes.iter().map(|take| Candidate {
        id: take.id,
        cell: take.cell,
        only_by_word: take
            .origin
            .as_deref()
            .and_then(|text| serde_json::from_str(text).ok())
            .is_some_and(|origin: Origin| only_by_word(&origin)),
    });
    let chosen = chosen(candidates, &of.facts);
    // Where a region lies follows from its cell alone: what is measured and treated does not matter here.
    let placed: Vec<PlacedTake> = of
        .takes
        .iter()
        .filter(|take| take.measured && chosen.get(&take.cell) == Some(&take.id))
        .map(|take| PlacedTake {
            cell: take.cell,
            sample: Sample {
                name: String::new(),
                source: String::new(),
                rate_hz: plan.rate_hz,
                first_channel: 0,
                source_channels: take.channels,
                channels: take.channels,
                frames: 1,
            },
            treatment: Treatment::untouched(take.cell.key),
        })
        .collect();
    let taken: HashSet<Cell> = of.takes.iter().map(|take| take.cell).collect();
    let measured: HashSet<Cell> = of
        .takes
        .iter()
        .filter(|take| take.measured)
        .map(|take| take.cell)
        .collect();
    let planned = plan.cells();
    let program = make_program(&name, &plan, &map, &placed);
    Card {
        id: of.row.id,
        kind: plan.kind,
        tags: said(&of.facts, Fact::Tags).unwrap_or_default(),
        cells: planned.len(),
        taken: planned.iter().filter(|cell| taken.contains(cell)).count(),
        measured: planned.iter().filter(|cell| measured.contains(cell)).count(),
        layers: plan.passes.first().map_or(0, |pass| pass.layers.len()),
        regions: program
            .regions
            .iter()
            .map(|r| CardRegion {
                low_key: r.low_key,
                high_key: r.high_key,
                low_velocity: r.low_velocity,
                high_velocity: r.high_velocity,
            })
            .collect(),
        kept_at: of.row.kept_at.and_utc().to_rfc3339(),
        name,
    }
}
