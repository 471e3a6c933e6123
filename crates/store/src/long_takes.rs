//! Recordings that are sliced.

use crate::instruments::last_id;
use crate::schema::{long_takes, recordings};
use crate::{RecordingForm, Store};
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use signal::Audio;

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
    /// Of the recording.
    pub form: RecordingForm,
    /// Length.
    pub frames: u64,
}

type Columns = ((u64, u64, String, String, NaiveDateTime), (u32, u16, u16, u64));

fn row_of(
    ((id, instrument_id, name, recording, made_at), (rate_hz, channels, bits, frames)): Columns,
) -> LongTakeRow {
    LongTakeRow {
        id,
        instrument_id,
        name,
        recording,
        made_at,
        form: RecordingForm {
            rate_hz,
            channels,
            bits,
        },
        frames,
    }
}

impl Store {
    /// Adds one, whose recording lies under its hash.
    pub async fn add_long_take(
        &self,
        instrument: u64,
        name: &str,
        recording: &str,
        form: RecordingForm,
        frames: u64,
    ) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        Self::note_recording(&mut connection, recording, form, frames).await?;
        diesel::insert_into(long_takes::table)
            .values((
                long_takes::instrument_id.eq(instrument),
                long_takes::name.eq(name),
                long_takes::recording.eq(recording),
            ))
            .execute(&mut connection)
            .await?;
        let id = last_id(&mut connection).await?;
        let body = serde_json::json!({ "long_take": id });
        self.enqueue_on(&mut connection, instrument, "overview", &body)
            .await?;
        let body = body.to_string();
        self.append_event(&mut connection, instrument, "long_take", &body)
            .await?;
        Ok(id)
    }

    /// Those of an instrument, oldest first.
    pub async fn long_takes(&self, instrument: u64) -> anyhow::Result<Vec<LongTakeRow>> {
        let mut connection = self.connection().await?;
        let rows: Vec<Columns> = long_takes::table
            .inner_join(recordings::table.on(recordings::hash.eq(long_takes::recording)))
            .filter(long_takes::instrument_id.eq(instrument))
            .order(long_takes::id)
            .select((
                long_takes::all_columns,
                (
                    recordings::rate_hz,
                    recordings::channels,
                    recordings::bits,
                    recordings::frames,
                ),
            ))
            .load(&mut connection)
            .await?;
        Ok(rows.into_iter().map(row_of).collect())
    }

    /// One.
    pub async fn long_take(&self, id: u64) -> anyhow::Result<Option<LongTakeRow>> {
        let mut connection = self.connection().await?;
        let row: Option<Columns> = long_takes::table
            .inner_join(recordings::table.on(recordings::hash.eq(long_takes::recording)))
            .filter(long_takes::id.eq(id))
            .select((
                long_takes::all_columns,
                (
                    recordings::rate_hz,
                    recordings::channels,
                    recordings::bits,
                    recordings::frames,
                ),
            ))
            .first(&mut connection)
            .await
            .optional()?;
        Ok(row.map(row_of))
    }

    /// Frames `first..end` of one.
    pub async fn long_take_audio(&self, row: &LongTakeRow, first: u64, end: u64) -> anyhow::Result<Audio> {
        let end = end.min(row.frames);
        self.read_recording(&row.recording, row.form, first, end.saturating_sub(first))
            .await
    }
}
