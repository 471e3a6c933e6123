//! The shelf: a card an instrument, from what the shelf's few statements read.

use instrument::{Outline, outline};
use serde::Serialize;
use store::{ShelfRow, Store};
use utoipa::ToSchema;

/// How much there is to look at in an instrument.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct Looked {
    /// What is wrong.
    pub wrong: u32,
    /// What is to be looked at beside that.
    pub look: u32,
}

/// A card on the shelf.
#[derive(Debug, Serialize, ToSchema)]
pub struct Card {
    /// Its number.
    pub id: u64,
    /// What it is.
    #[serde(flatten)]
    pub outline: Outline,
    /// When something was last kept, UTC.
    pub kept_at: String,
    /// How much there was to look at when it was looked at last; `None` where nobody did yet.
    pub looked: Option<Looked>,
}

/// All cards, as they are sent.
///
/// # Errors
/// Those of the database.
pub async fn cards_as_json(store: &Store) -> anyhow::Result<Vec<u8>> {
    let shelf = store.shelf().await?;
    let written = tokio::task::spawn_blocking(move || {
        let cards: Vec<Card> = shelf.into_iter().map(card_of).collect();
        serde_json::to_vec(&cards)
    });
    Ok(written.await??)
}

fn card_of(of: ShelfRow) -> Card {
    Card {
        id: of.row.id,
        outline: outline(
            &of.row.name,
            &of.row.plan,
            (&of.facts, of.brought.as_ref().map(|row| &row.brought)),
            &of.takes,
        ),
        kept_at: of.row.kept_at.and_utc().to_rfc3339(),
        looked: of.looked.map(|looked| Looked {
            wrong: looked.wrong,
            look: looked.look,
        }),
    }
}
