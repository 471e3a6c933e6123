//! The shelf: a card an instrument, from what the shelf's few statements read.

use instrument::{Kind, Outline, outline};
use serde::Serialize;
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
    /// Whether it is set aside from the shelf.
    pub set_aside: bool,
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
///
/// # Errors
/// Those of the database.
pub async fn cards(store: &Store) -> anyhow::Result<Vec<Card>> {
    let shelf = store.shelf().await?;
    Ok(tokio::task::spawn_blocking(move || shelf.into_iter().map(card_of).collect()).await?)
}

/// All cards, as they are sent.
///
/// # Errors
/// Those of the database.
pub async fn cards_as_json(store: &Store) -> anyhow::Result<Vec<u8>> {
    let cards = cards(store).await?;
    Ok(tokio::task::spawn_blocking(move || serde_json::to_vec(&cards)).await??)
}

fn card_of(of: ShelfRow) -> Card {
    let Outline {
        name,
        kind,
        tags,
        set_aside,
        cells,
        taken,
        measured,
        layers,
        regions,
    } = outline(&of.row.name, &of.row.plan, &of.facts, &of.takes);
    Card {
        id: of.row.id,
        name,
        kind,
        tags,
        set_aside,
        cells,
        taken,
        measured,
        layers,
        regions: regions
            .iter()
            .map(|r| CardRegion {
                low_key: r.low_key,
                high_key: r.high_key,
                low_velocity: r.low_velocity,
                high_velocity: r.high_velocity,
            })
            .collect(),
        kept_at: of.row.kept_at.and_utc().to_rfc3339(),
    }
}
