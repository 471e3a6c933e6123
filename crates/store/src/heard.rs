//! What was heard of instruments.

use crate::Store;
use crate::events::Told;
use crate::schema::{heard, looked};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use std::collections::{HashMap, HashSet};

/// How much there was to look at when an instrument was looked at last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Looked {
    /// What is wrong.
    pub wrong: u32,
    /// What is to be looked at beside that.
    pub look: u32,
}

impl Store {
    /// Keeps what was heard under a name.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_heard(&self, instrument: u64, name: &str, facts: &str) -> anyhow::Result<()> {
        self.write(async |connection| {
            diesel::replace_into(heard::table)
                .values((
                    heard::instrument_id.eq(instrument),
                    heard::name.eq(name),
                    heard::facts.eq(facts),
                ))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }

    /// All that was heard of an instrument, by name.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn heard(&self, instrument: u64) -> anyhow::Result<HashMap<String, String>> {
        self.read(async |connection| {
            let rows: Vec<(String, String)> = heard::table
                .filter(heard::instrument_id.eq(instrument))
                .select((heard::name, heard::facts))
                .load(connection)
                .await?;
            Ok(rows.into_iter().collect())
        })
        .await
    }

    /// Keeps how much there is to look at in an instrument.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_looked(&self, instrument: u64, now: Looked) -> anyhow::Result<()> {
        let known = self
            .read(async |connection| {
                let row: Option<(u32, u32)> = looked::table
                    .find(instrument)
                    .select((looked::wrong, looked::look))
                    .first(connection)
                    .await
                    .optional()?;
                Ok(row)
            })
            .await?;
        if known == Some((now.wrong, now.look)) {
            return Ok(());
        }
        self.write(async |connection| {
            diesel::replace_into(looked::table)
                .values((
                    looked::instrument_id.eq(instrument),
                    looked::wrong.eq(now.wrong),
                    looked::look.eq(now.look),
                ))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }

    /// Forgets what is not among some names: it follows from what is no more.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn keep_heard(&self, instrument: u64, names: &HashSet<String>) -> anyhow::Result<()> {
        let known = self.heard(instrument).await?;
        let old: Vec<&String> = known.keys().filter(|name| !names.contains(*name)).collect();
        for some in old.chunks(500) {
            self.write(async |connection| {
                let those = heard::table
                    .filter(heard::instrument_id.eq(instrument))
                    .filter(heard::name.eq_any(some.iter().copied()));
                diesel::delete(those).execute(connection).await?;
                Ok(((), Told::default()))
            })
            .await?;
        }
        Ok(())
    }
}
