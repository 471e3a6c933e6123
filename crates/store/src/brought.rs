//! Instruments that others made: what was read is kept as it is, beside the file that it came from.

use crate::instruments::add_takes;
use crate::schema::brought;
use crate::waiting::make;
use crate::{NewTake, Store};
use anyhow::Context;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{Brought, Plan};
use std::path::Path;
use std::time::Duration;

/// Where files lie that instruments were read from.
const SOURCES: &str = "sources/";

/// What was brought with an instrument.
#[derive(Debug, Clone, PartialEq)]
pub struct BroughtRow {
    /// What was read.
    pub brought: Brought,
    /// The name of the file that it came from.
    pub file: String,
    /// The hash under which that file lies.
    pub source: String,
    /// What the model does not hold of it, a sentence each.
    pub lost: Vec<String>,
}

pub(crate) type BroughtColumns = (u64, String, String, String, String);

pub(crate) fn brought_row((id, brought, file, source, lost): BroughtColumns) -> anyhow::Result<BroughtRow> {
    let what = || format!("what was brought with instrument {id}");
    Ok(BroughtRow {
        brought: serde_json::from_str(&brought).with_context(what)?,
        file,
        source,
        lost: serde_json::from_str(&lost).with_context(what)?,
    })
}

fn source_path(hash: &str) -> String {
    format!("{SOURCES}{hash}")
}

impl Store {
    /// Puts a file that instruments are read from under its hash, which it gives.
    ///
    /// # Errors
    /// Those of the disk and the object store.
    pub async fn put_source(&self, from: &Path) -> anyhow::Result<String> {
        let path = from.to_owned();
        let hash = tokio::task::spawn_blocking(move || {
            let mut hasher = blake3::Hasher::new();
            hasher.update_reader(std::fs::File::open(path)?)?;
            std::io::Result::Ok(hasher.finalize().to_hex().to_string())
        });
        let hash = hash.await??;
        self.put_file(&source_path(&hash), from).await?;
        Ok(hash)
    }

    /// The name of the file that an instrument was read from, and the hash under which it lies.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn source(&self, instrument: u64) -> anyhow::Result<Option<(String, String)>> {
        self.read(async |connection| {
            let of = brought::table.find(instrument);
            Ok(of
                .select((brought::file, brought::source))
                .first(connection)
                .await
                .optional()?)
        })
        .await
    }

    /// The bytes of a file that instruments were read from, and how many they are.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn read_source(
        &self,
        hash: &str,
    ) -> anyhow::Result<(
        u64,
        impl futures::Stream<Item = object_store::Result<bytes::Bytes>> + use<>,
    )> {
        self.read_file(&source_path(hash)).await
    }

    /// Makes an instrument of what was brought and of its recordings, at once. Gives its number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn make_of_brought(
        &self,
        name: &str,
        plan: &Plan,
        of: &BroughtRow,
        takes: &[NewTake],
    ) -> anyhow::Result<u64> {
        let (said, lost) = (
            serde_json::to_string(&of.brought)?,
            serde_json::to_string(&of.lost)?,
        );
        self.write(async |connection| {
            let (id, mut told) = make(connection, name, plan, None).await?;
            diesel::insert_into(brought::table)
                .values((
                    brought::instrument_id.eq(id),
                    brought::was_read.eq(&said),
                    brought::file.eq(&of.file),
                    brought::source.eq(&of.source),
                    brought::lost.eq(&lost),
                ))
                .execute(connection)
                .await?;
            let (_, of_takes) = add_takes(connection, id, takes).await?;
            told.extend(of_takes);
            Ok((id, told))
        })
        .await
    }

    /// Removes files that no instrument was read from any more and that nobody touched for a while.
    pub(crate) async fn sweep_sources(&self, untouched: Duration) -> anyhow::Result<usize> {
        let mut old = self.files_under(SOURCES).await?;
        old.retain(|file| crate::sweep::is_older(file, untouched));
        if old.is_empty() {
            return Ok(0);
        }
        let named: Vec<String> = self
            .read(async |connection| Ok(brought::table.select(brought::source).load(connection).await?))
            .await?;
        let mut gone = 0;
        for file in old {
            let name = file.location.as_ref();
            if !named.iter().any(|hash| source_path(hash) == name) {
                self.forget_file(name).await?;
                gone += 1;
            }
        }
        Ok(gone)
    }
}

/// What was brought with one instrument.
pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
    id: u64,
) -> QueryResult<Option<BroughtColumns>> {
    brought::table.find(id).first(connection).await.optional()
}
