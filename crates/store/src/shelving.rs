//! Instruments as wholes: made twice, and removed for good.

use crate::Store;
use crate::events::Told;
use crate::hold::lock;
use crate::instruments::create;
use crate::jobs::{enqueue, enqueue_render};
use crate::schema::{facts, instruments, measurements, runs, takes};
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text, Unsigned};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{About, Fact, Origin, said_of};
use serde_json::json;
use std::collections::HashMap;
use work::JobKind;

/// What goes with an instrument that is removed for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frees {
    /// Its takes.
    pub takes: u64,
    /// Recordings that nothing else is a part of.
    pub recordings: u64,
    /// What those take on the disk.
    pub bytes: u64,
}

#[derive(QueryableByName)]
struct FreesRow {
    #[diesel(sql_type = Unsigned<BigInt>)]
    recordings: u64,
    #[diesel(sql_type = Unsigned<BigInt>)]
    bytes: u64,
}

/// Recordings of an instrument (`?`) that no other has a part of.
const OWN_RECORDINGS: &str = "SELECT CAST(COUNT(*) AS UNSIGNED) AS recordings, \
    CAST(COALESCE(SUM(r.frames * r.channels * (r.bits DIV 8)), 0) AS UNSIGNED) AS bytes \
    FROM recordings r, (SELECT CAST(? AS UNSIGNED) AS id) own WHERE (\
    EXISTS (SELECT 1 FROM takes t WHERE t.recording = r.hash AND t.instrument_id = own.id) \
    OR EXISTS (SELECT 1 FROM long_takes t WHERE t.recording = r.hash AND t.instrument_id = own.id) \
    OR EXISTS (SELECT 1 FROM waiting_files t WHERE t.recording = r.hash AND t.instrument_id = own.id)) \
    AND NOT EXISTS (SELECT 1 FROM takes t WHERE t.recording = r.hash AND t.instrument_id <> own.id) \
    AND NOT EXISTS (SELECT 1 FROM long_takes t WHERE t.recording = r.hash AND t.instrument_id <> own.id) \
    AND NOT EXISTS (SELECT 1 FROM waiting_files t WHERE t.recording = r.hash AND t.instrument_id <> own.id)";

/// Rows of an instrument (the first `?`) beside those of its copy (the second): both were made in one order.
fn pairs(table: &str) -> String {
    format!(
        "(SELECT a.id AS old, b.id AS new FROM \
        (SELECT id, ROW_NUMBER() OVER (ORDER BY id) AS n FROM {table} WHERE instrument_id = ?) a JOIN \
        (SELECT id, ROW_NUMBER() OVER (ORDER BY id) AS n FROM {table} WHERE instrument_id = ?) b ON a.n = b.n) pair"
    )
}

impl Store {
    /// Makes an instrument once more under a name, sharing its recordings: with its takes, what was measured and what was said of them, without what
    /// could be undone. Gives its number; `None` where there is no such instrument.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn duplicate(&self, id: u64, name: &str) -> anyhow::Result<Option<u64>> {
        self.write(async |connection| {
            if !lock(connection, id).await? {
                return Ok((None, Told::default()));
            }
            let plan: String = instruments::table
                .find(id)
                .select(instruments::plan)
                .first(connection)
                .await?;
            let copy = create(connection, name, &plan).await?;
            copy_rows(connection, id, copy).await?;
            let named = (
                facts::instrument_id.eq(copy),
                facts::about.eq(About::Instrument.name()),
                facts::target.eq(0),
                facts::part.eq(0),
                facts::fact.eq(Fact::Name.name()),
                facts::value.eq(json!(name).to_string()),
            );
            diesel::replace_into(facts::table)
                .values(named)
                .execute(connection)
                .await?;
            measure_what_is_not(connection, copy).await?;
            enqueue_render(connection, copy).await?;
            Ok((Some(copy), Told::of(copy, "instrument", json!({}))))
        })
        .await
    }

    /// What removing an instrument for good would free; `None` where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn frees(&self, id: u64) -> anyhow::Result<Option<Frees>> {
        self.read(async |connection| {
            let there: i64 = instruments::table
                .filter(instruments::id.eq(id))
                .count()
                .get_result(connection)
                .await?;
            if there == 0 {
                return Ok(None);
            }
            let of: i64 = takes::table
                .filter(takes::instrument_id.eq(id))
                .count()
                .get_result(connection)
                .await?;
            let row: FreesRow = diesel::sql_query(OWN_RECORDINGS)
                .bind::<Unsigned<BigInt>, _>(id)
                .get_result(connection)
                .await?;
            Ok(Some(Frees {
                takes: of.unsigned_abs(),
                recordings: row.recordings,
                bytes: row.bytes,
            }))
        })
        .await
    }

    /// Removes an instrument that was set aside, with all that is known and said of it; recordings that nothing else is a part of are swept later. False
    /// where there is none. A [`work::Refusal`] where it was not set aside, or is being recorded.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn remove_for_good(&self, id: u64) -> anyhow::Result<bool> {
        self.write(async |connection| {
            if !lock(connection, id).await? {
                return Ok((false, Told::default()));
            }
            let said = crate::changes::load(connection, id).await?;
            if said_of(&said, Fact::SetAside) != Some(true) {
                return Err(work::refusal("Only what was set aside is removed for good."));
            }
            let going: i64 = runs::table
                .filter(runs::instrument_id.eq(id))
                .count()
                .get_result(connection)
                .await?;
            if going > 0 {
                return Err(work::refusal("A recording of it is going on: stop that first."));
            }
            diesel::delete(instruments::table.find(id))
                .execute(connection)
                .await?;
            Ok((true, Told::of(id, "instrument", json!({}))))
        })
        .await
    }
}

/// Takes and long takes with all that hangs on them.
async fn copy_rows(connection: &mut AsyncMysqlConnection, from: u64, to: u64) -> anyhow::Result<()> {
    // A spool belongs to the take that came out of it.
    let copies = [
        "INSERT INTO takes (instrument_id, pass, rung_key, layer, round_robin, recording, first_frame, frames, made_at, thumbnail, origin) \
         SELECT ?, pass, rung_key, layer, round_robin, recording, first_frame, frames, made_at, thumbnail, origin FROM takes \
         WHERE instrument_id = ? ORDER BY id",
        "INSERT INTO long_takes (instrument_id, name, recording, made_at, broken_off) \
         SELECT ?, name, recording, made_at, broken_off FROM long_takes WHERE instrument_id = ? ORDER BY id",
        "INSERT INTO sound_checks (instrument_id, sound_check) SELECT ?, sound_check FROM sound_checks WHERE instrument_id = ?",
        "INSERT INTO brought (instrument_id, was_read, file, source, lost) SELECT ?, was_read, file, source, lost FROM brought WHERE instrument_id = ?",
        "INSERT INTO facts (instrument_id, about, target, part, fact, value) SELECT ?, about, target, part, fact, value FROM facts \
         WHERE instrument_id = ? AND about NOT IN ('take', 'long_take') AND fact <> 'set_aside'",
    ];
    for copy in copies {
        diesel::sql_query(copy)
            .bind::<Unsigned<BigInt>, _>(to)
            .bind::<Unsigned<BigInt>, _>(from)
            .execute(connection)
            .await?;
    }
    let of_takes = [
        ("measurements", "version, facts"),
        ("suggestions", "version, kind, rung_key, suggestion"),
        ("cleaned_levels", "name, levels"),
        ("judged_loops", "name, facts"),
    ];
    for (table, columns) in of_takes {
        let copy = format!(
            "INSERT INTO {table} (take_id, {columns}) SELECT pair.new, {columns} FROM {table} JOIN {} ON pair.old = take_id",
            pairs("takes")
        );
        diesel::sql_query(copy)
            .bind::<Unsigned<BigInt>, _>(from)
            .bind::<Unsigned<BigInt>, _>(to)
            .execute(connection)
            .await?;
    }
    for (table, about) in [("takes", About::Take), ("long_takes", About::LongTake)] {
        let copy = format!(
            "INSERT INTO facts (instrument_id, about, target, part, fact, value) SELECT ?, f.about, pair.new, f.part, f.fact, f.value \
             FROM facts f JOIN {} ON pair.old = f.target WHERE f.instrument_id = ? AND f.about = ?",
            pairs(table)
        );
        diesel::sql_query(copy)
            .bind::<Unsigned<BigInt>, _>(to)
            .bind::<Unsigned<BigInt>, _>(from)
            .bind::<Unsigned<BigInt>, _>(to)
            .bind::<Unsigned<BigInt>, _>(from)
            .bind::<Text, _>(about.name())
            .execute(connection)
            .await?;
    }
    point_to_own_takes(connection, from, to).await
}

/// A take that was made from another of the same instrument is, in the copy, made from the copy of that.
async fn point_to_own_takes(connection: &mut AsyncMysqlConnection, from: u64, to: u64) -> anyhow::Result<()> {
    let ids =
        async |connection: &mut AsyncMysqlConnection, of: u64| -> QueryResult<Vec<(u64, Option<String>)>> {
            takes::table
                .filter(takes::instrument_id.eq(of))
                .select((takes::id, takes::origin))
                .order(takes::id)
                .load(connection)
                .await
        };
    let (old, new) = (ids(connection, from).await?, ids(connection, to).await?);
    let new_of: HashMap<u64, u64> = old
        .iter()
        .zip(&new)
        .map(|((old, _), (new, _))| (*old, *new))
        .collect();
    for (id, origin) in new {
        let origin: Option<Origin> = origin.and_then(|text| serde_json::from_str(&text).ok());
        let Some(mut origin) = origin else { continue };
        let Some(own) = origin.from_take.and_then(|take| new_of.get(&take)) else {
            continue;
        };
        origin.from_take = Some(*own);
        diesel::update(takes::table.find(id))
            .set(takes::origin.eq(serde_json::to_string(&origin)?))
            .execute(connection)
            .await?;
    }
    Ok(())
}

async fn measure_what_is_not(connection: &mut AsyncMysqlConnection, instrument: u64) -> anyhow::Result<()> {
    let of_take = measurements::table.filter(measurements::take_id.eq(takes::id));
    let left: Vec<u64> = takes::table
        .filter(takes::instrument_id.eq(instrument))
        .filter(diesel::dsl::not(diesel::dsl::exists(of_take)))
        .select(takes::id)
        .load(connection)
        .await?;
    for take in left {
        enqueue(connection, instrument, JobKind::Measure, &json!({ "take": take })).await?;
    }
    Ok(())
}
