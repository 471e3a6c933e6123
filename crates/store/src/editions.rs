//! Editions: what was given away, which never changes.

use crate::Store;
use crate::events::Told;
use crate::schema::{edition_recordings, editions};
use anyhow::Context;
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::Frozen;
use serde_json::{Value, json};
use std::collections::HashSet;
use std::time::Duration;
use work::{EDITIONS, EditionFile, FrozenEdition, edition_path};

/// An edition.
#[derive(Debug, Clone, PartialEq)]
pub struct EditionRow {
    /// Its number among all.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// Its number among those of its instrument, from 1.
    pub number: u32,
    /// What its maker says of it.
    pub notes: String,
    /// When.
    pub made_at: NaiveDateTime,
    /// Its files.
    pub files: Vec<EditionFile>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = editions)]
struct Columns {
    id: u64,
    instrument_id: u64,
    number: u32,
    notes: String,
    made_at: NaiveDateTime,
    files: String,
}

fn row(of: Columns) -> anyhow::Result<EditionRow> {
    let files = serde_json::from_str(&of.files).with_context(|| format!("the files of edition {}", of.id))?;
    Ok(EditionRow {
        id: of.id,
        instrument_id: of.instrument_id,
        number: of.number,
        notes: of.notes,
        made_at: of.made_at,
        files,
    })
}

/// Adds one to an instrument that is locked: the next number is its.
pub(crate) async fn add(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    of: &FrozenEdition,
) -> anyhow::Result<(Told, Value)> {
    let last: Option<u32> = editions::table
        .filter(editions::instrument_id.eq(instrument))
        .select(diesel::dsl::max(editions::number))
        .first(connection)
        .await?;
    let number = last.unwrap_or(0) + 1;
    diesel::insert_into(editions::table)
        .values((
            editions::instrument_id.eq(instrument),
            editions::number.eq(number),
            editions::notes.eq(&of.notes),
            editions::frozen.eq(&of.frozen),
            editions::files.eq(serde_json::to_string(&of.files)?),
        ))
        .execute(connection)
        .await?;
    let id = crate::hold::last_id(connection).await?;
    let recordings: HashSet<&String> = of.recordings.iter().collect();
    let rows: Vec<_> = recordings
        .into_iter()
        .map(|hash| {
            (
                edition_recordings::edition_id.eq(id),
                edition_recordings::recording.eq(hash),
            )
        })
        .collect();
    for rows in rows.chunks(500) {
        diesel::insert_into(edition_recordings::table)
            .values(rows.to_vec())
            .execute(connection)
            .await?;
    }
    let told = Told::of(instrument, "edition", json!({ "number": number }));
    Ok((told, json!({ "edition": id, "number": number })))
}

impl Store {
    /// The editions of an instrument, newest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn editions(&self, instrument: u64) -> anyhow::Result<Vec<EditionRow>> {
        let rows: Vec<Columns> = self
            .read(async |connection| {
                let of = editions::table.filter(editions::instrument_id.eq(instrument));
                Ok(of
                    .order(editions::number.desc())
                    .select(Columns::as_select())
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter().map(row).collect()
    }

    /// One edition, with what it was made from.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn edition(&self, id: u64) -> anyhow::Result<Option<(EditionRow, Frozen)>> {
        let found: Option<(Columns, String)> = self
            .read(async |connection| {
                let of = editions::table.find(id);
                Ok(of
                    .select((Columns::as_select(), editions::frozen))
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        found
            .map(|(columns, frozen)| {
                let frozen = serde_json::from_str(&frozen).with_context(|| format!("edition {id}"))?;
                Ok((row(columns)?, frozen))
            })
            .transpose()
    }

    /// Removes files that no edition has, and that nobody touched for a while.
    pub(crate) async fn sweep_editions(&self, untouched: Duration) -> anyhow::Result<usize> {
        let mut old = self.files_under(EDITIONS).await?;
        old.retain(|file| crate::sweep::is_older(file, untouched));
        if old.is_empty() {
            return Ok(0);
        }
        let rows: Vec<String> = self
            .read(async |connection| Ok(editions::table.select(editions::files).load(connection).await?))
            .await?;
        let mut named = HashSet::new();
        for files in rows {
            // Where one cannot be read, nothing is removed.
            let files: Vec<EditionFile> = serde_json::from_str(&files)?;
            named.extend(files.into_iter().map(|file| edition_path(&file.hash)));
        }
        let mut gone = 0;
        for file in old {
            let name = file.location.as_ref();
            if !named.contains(name) {
                self.forget_file(name).await?;
                gone += 1;
            }
        }
        Ok(gone)
    }
}
