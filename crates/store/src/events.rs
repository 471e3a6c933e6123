//! What changed, numbered, so that every page can catch up after a gap.

use crate::Store;
use crate::schema::{event_order, events};
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Eq, Queryable)]
pub struct StoredEvent {
    /// Its number; later ones are higher, and are never to be seen before it is.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// `instrument`, `take`, `measured`, `treated`, `changed`, `long_take`, `file`, `run` or `job`; `kept` of what belongs to none.
    pub kind: String,
    /// JSON.
    pub body: String,
}

/// What a transaction tells when it ends.
#[derive(Debug, Default)]
pub(crate) struct Told(Vec<(u64, &'static str, String)>);

impl Told {
    /// One thing.
    pub(crate) fn of(instrument: u64, kind: &'static str, body: serde_json::Value) -> Self {
        Self(vec![(instrument, kind, body.to_string())])
    }

    pub(crate) fn add(&mut self, instrument: u64, kind: &'static str, body: serde_json::Value) {
        self.0.push((instrument, kind, body.to_string()));
    }

    pub(crate) fn extend(&mut self, other: Self) {
        self.0.extend(other.0);
    }

    /// The last thing before a transaction ends: whoever gives numbers holds their order until then, so that numbers are seen in it.
    pub(crate) async fn write(self, connection: &mut AsyncMysqlConnection) -> QueryResult<()> {
        if self.0.is_empty() {
            return Ok(());
        }
        let count = self.0.len() as u64;
        diesel::update(event_order::table.find(1))
            .set(event_order::last.eq(event_order::last + count))
            .execute(connection)
            .await?;
        let last: u64 = event_order::table
            .find(1)
            .select(event_order::last)
            .first(connection)
            .await?;
        let rows: Vec<_> = (last + 1 - count..)
            .zip(self.0)
            .map(|(id, (instrument, kind, body))| {
                (
                    events::id.eq(id),
                    events::instrument_id.eq(instrument),
                    events::kind.eq(kind),
                    events::body.eq(body),
                )
            })
            .collect();
        for rows in rows.chunks(500) {
            diesel::insert_into(events::table)
                .values(rows.to_vec())
                .execute(connection)
                .await?;
        }
        Ok(())
    }
}

impl Store {
    /// Events after a number, at most 1,000: where it is so many, there may be more.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn events_after(&self, id: u64) -> anyhow::Result<Vec<StoredEvent>> {
        self.read(async |connection| {
            Ok(events::table
                .filter(events::id.gt(id))
                .order(events::id)
                .limit(1_000)
                .load(connection)
                .await?)
        })
        .await
    }

    /// The number of the newest event, 0 where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn newest_event(&self) -> anyhow::Result<u64> {
        self.read(async |connection| {
            let newest = event_order::table.select(event_order::last).first(connection);
            Ok(newest.await.optional()?.unwrap_or(0))
        })
        .await
    }
}
