//! Files that were dropped on the page and are not yet taken in.

use crate::instruments::last_id;
use crate::schema::{recordings, waiting_files};
use crate::{RecordingForm, Store};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use serde_json::Value;

/// A file that waits.
#[derive(Debug, Clone)]
pub struct WaitingRow {
    /// Its number.
    pub id: u64,
    /// Its name, with folders.
    pub name: String,
    /// Hash of its recording.
    pub recording: String,
    /// What was heard in it and stood inside it.
    pub heard: Value,
    /// Of the recording.
    pub form: RecordingForm,
    /// Length.
    pub frames: u64,
}

impl Store {
    /// Adds one, whose recording lies under its hash.
    pub async fn add_waiting(
        &self,
        instrument: u64,
        name: &str,
        recording: &str,
        form: RecordingForm,
        frames: u64,
        heard: &Value,
    ) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        Self::note_recording(&mut connection, recording, form, frames).await?;
        diesel::insert_into(waiting_files::table)
            .values((
                waiting_files::instrument_id.eq(instrument),
                waiting_files::name.eq(name),
                waiting_files::recording.eq(recording),
                waiting_files::heard.eq(heard.to_string()),
            ))
            .execute(&mut connection)
            .await?;
        let id = last_id(&mut connection).await?;
        self.append_event(&mut connection, instrument, "file", "{}")
            .await?;
        Ok(id)
    }

    /// Those of an instrument, by name.
    pub async fn waiting(&self, instrument: u64) -> anyhow::Result<Vec<WaitingRow>> {
        type Columns = ((u64, String, String, String), (u32, u16, u16, u64));
        let mut connection = self.connection().await?;
        let rows: Vec<Columns> = waiting_files::table
            .inner_join(recordings::table.on(recordings::hash.eq(waiting_files::recording)))
            .filter(waiting_files::instrument_id.eq(instrument))
            .order((waiting_files::name, waiting_files::id))
            .select((
                (
                    waiting_files::id,
                    waiting_files::name,
                    waiting_files::recording,
                    waiting_files::heard,
                ),
                (
                    recordings::rate_hz,
                    recordings::channels,
                    recordings::bits,
                    recordings::frames,
                ),
            ))
            .load(&mut connection)
            .await?;
        rows.into_iter()
            .map(
                |((id, name, recording, heard), (rate_hz, channels, bits, frames))| {
                    Ok(WaitingRow {
                        id,
                        name,
                        recording,
                        heard: serde_json::from_str(&heard)?,
                        form: RecordingForm {
                            rate_hz,
                            channels,
                            bits,
                        },
                        frames,
                    })
                },
            )
            .collect()
    }

    /// They wait no longer: taken in, or not wanted.
    pub async fn forget_waiting(&self, instrument: u64, ids: &[u64]) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::delete(
            waiting_files::table.filter(
                waiting_files::instrument_id
                    .eq(instrument)
                    .and(waiting_files::id.eq_any(ids.to_vec())),
            ),
        )
        .execute(&mut connection)
        .await?;
        self.append_event(&mut connection, instrument, "file", "{}").await
    }
}
