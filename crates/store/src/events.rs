//! What changed, numbered, so that every page can catch up after a gap.

use crate::Store;
use crate::schema::events;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredEvent {
    /// Its number; later ones are higher.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// `instrument`, `take`, `measured`, `treated`, `changed` or `job`.
    pub kind: String,
    /// JSON.
    pub body: String,
}

impl Store {
    pub(crate) async fn append_event(
        &self,
        connection: &mut AsyncMysqlConnection,
        instrument: u64,
        kind: &str,
        body: &str,
    ) -> anyhow::Result<()> {
        diesel::insert_into(events::table)
            .values((
                events::instrument_id.eq(instrument),
                events::kind.eq(kind),
                events::body.eq(body),
            ))
            .execute(connection)
            .await?;
        Ok(())
    }

    /// Events after a number, at most 1,000.
    pub async fn events_after(&self, id: u64) -> anyhow::Result<Vec<StoredEvent>> {
        let mut connection = self.connection().await?;
        let rows: Vec<(u64, u64, String, String)> = events::table
            .filter(events::id.gt(id))
            .order(events::id)
            .limit(1_000)
            .load(&mut connection)
            .await?;
        Ok(rows
            .into_iter()
            .map(|(id, instrument_id, kind, body)| StoredEvent {
                id,
                instrument_id,
                kind,
                body,
            })
            .collect())
    }

    /// The number of the newest event, 0 where there is none.
    pub async fn newest_event(&self) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        let newest: Option<u64> = events::table
            .select(diesel::dsl::max(events::id))
            .first(&mut connection)
            .await?;
        Ok(newest.unwrap_or(0))
    }
}
