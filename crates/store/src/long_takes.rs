//! Recordings that are sliced.

use crate::events::Told;
use crate::hold::{last_id, lock};
use crate::instruments::{FormColumns, form_of};
use crate::jobs::enqueue;
use crate::schema::{long_takes, recordings};
use crate::{Recording, RecordingForm, Store};
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::json;
use signal::Audio;
use work::JobKind;

/// A long take.
#[derive(Debug, Clone)]
pub struct LongTakeRow {
    /// Its number.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// Its file's name, or when it was recorded.
    pub name: String,
    /// Hash of its recording.
    pub recording: String,
    /// When.
    pub made_at: NaiveDateTime,
    /// Whether its recording ended before it was told to.
    pub broken_off: bool,
    /// Of the recording.
    pub form: RecordingForm,
    /// Length.
    pub frames: u64,
}

impl LongTakeRow {
    /// Its recording.
    pub fn recording(&self) -> Recording {
        Recording {
            hash: self.recording.clone(),
            form: self.form,
            frames: self.frames,
        }
    }
}

/// A long take to be added.
#[derive(Debug, Clone)]
pub struct NewLongTake {
    /// Its file's name, or when it was recorded.
    pub name: String,
    /// Its recording, which lies in the store.
    pub recording: Recording,
    /// The spool that it arrived in: added twice from one spool it is one long take.
    pub spool: Option<String>,
    /// Whether its recording ended before it was told to.
    pub broken_off: bool,
}

type Selected = (
    (
        long_takes::id,
        long_takes::instrument_id,
        long_takes::name,
        long_takes::recording,
        long_takes::made_at,
        long_takes::broken_off,
    ),
    (recordings::rate_hz, recordings::channels, recordings::bits),
    recordings::frames,
);

const COLUMNS: Selected = (
    (
        long_takes::id,
        long_takes::instrument_id,
        long_takes::name,
        long_takes::recording,
        long_takes::made_at,
        long_takes::broken_off,
    ),
    (recordings::rate_hz, recordings::channels, recordings::bits),
    recordings::frames,
);

type Columns = ((u64, u64, String, String, NaiveDateTime, bool), FormColumns, u64);

fn row_of(((id, instrument_id, name, recording, made_at, broken_off), form, frames): Columns) -> LongTakeRow {
    LongTakeRow {
        id,
        instrument_id,
        name,
        recording,
        made_at,
        broken_off,
        form: form_of(form),
        frames,
    }
}

pub(crate) async fn add(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    new: &NewLongTake,
) -> anyhow::Result<(u64, Told)> {
    if let Some(spool) = &new.spool {
        let known: Option<u64> = long_takes::table
            .filter(long_takes::spool.eq(spool))
            .select(long_takes::id)
            .first(connection)
            .await
            .optional()?;
        if let Some(known) = known {
            return Ok((known, Told::default()));
        }
    }
    diesel::insert_into(long_takes::table)
        .values((
            long_takes::instrument_id.eq(instrument),
            long_takes::name.eq(&new.name),
            long_takes::recording.eq(&new.recording.hash),
            long_takes::spool.eq(&new.spool),
            long_takes::broken_off.eq(new.broken_off),
        ))
        .execute(connection)
        .await?;
    let id = last_id(connection).await?;
    let body = json!({ "long_take": id });
    enqueue(connection, instrument, JobKind::Overview, &body).await?;
    Ok((id, Told::of(instrument, "long_take", body)))
}

pub(crate) async fn load(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<Vec<LongTakeRow>> {
    let rows: Vec<Columns> = long_takes::table
        .inner_join(recordings::table.on(recordings::hash.eq(long_takes::recording)))
        .filter(long_takes::instrument_id.eq(instrument))
        .order(long_takes::id)
        .select(COLUMNS)
        .load(connection)
        .await?;
    Ok(rows.into_iter().map(row_of).collect())
}

impl Store {
    /// Adds one, whose recording lies under its hash.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn add_long_take(&self, instrument: u64, new: &NewLongTake) -> anyhow::Result<u64> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            add(connection, instrument, new).await
        })
        .await
    }

    /// Those of an instrument, oldest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn long_takes(&self, instrument: u64) -> anyhow::Result<Vec<LongTakeRow>> {
        self.read(async |connection| load(connection, instrument).await)
            .await
    }

    /// One.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn long_take(&self, id: u64) -> anyhow::Result<Option<LongTakeRow>> {
        let row: Option<Columns> = self
            .read(async |connection| {
                Ok(long_takes::table
                    .inner_join(recordings::table.on(recordings::hash.eq(long_takes::recording)))
                    .filter(long_takes::id.eq(id))
                    .select(COLUMNS)
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        Ok(row.map(row_of))
    }

    /// Frames `first..end` of one, all channels.
    ///
    /// # Errors
    /// Where the recording cannot be read.
    pub async fn long_take_audio(&self, row: &LongTakeRow, first: u64, end: u64) -> anyhow::Result<Audio> {
        let end = end.min(row.frames);
        let all = 0..usize::from(row.form.channels);
        self.read_recording(&row.recording, row.form, first.min(end)..end, all)
            .await
    }
}
