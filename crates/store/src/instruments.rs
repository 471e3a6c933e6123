//! Instruments, their takes and what was measured of them.

use crate::schema::{instruments, measurements, recordings, runs, takes};
use crate::{RecordingForm, Store};
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl};
use instrument::{Cell, Origin, Plan};
use signal::{Audio, MEASURE_VERSION, Measurement};
use std::collections::HashMap;

/// An instrument as it was made; what was said of it since is in its facts.
#[derive(Debug, Clone)]
pub struct InstrumentRow {
    /// Its number.
    pub id: u64,
    /// As first named.
    pub name: String,
    /// As first planned.
    pub plan: Plan,
    /// When something was last kept.
    pub kept_at: NaiveDateTime,
}

/// A take with its recording.
#[derive(Debug, Clone)]
pub struct TakeRow {
    /// Its number.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// Where.
    pub cell: Cell,
    /// Hash of the recording it is a part of.
    pub recording: String,
    /// Its first frame there.
    pub first_frame: u64,
    /// Its length.
    pub frames: u64,
    /// Of the recording.
    pub form: RecordingForm,
    /// When.
    pub made_at: NaiveDateTime,
    /// A small picture, once measured.
    pub thumbnail: Option<Vec<u8>>,
    /// Where it came from.
    pub origin: Origin,
}

/// A take to be added.
#[derive(Debug, Clone)]
pub struct NewTake {
    /// Where it belongs.
    pub cell: Cell,
    /// Hash of its recording, which lies in the store.
    pub recording: String,
    /// How that is kept.
    pub form: RecordingForm,
    /// Length of the whole recording.
    pub recording_frames: u64,
    /// The take's first frame in it.
    pub first_frame: u64,
    /// The take's length.
    pub frames: u64,
    /// Where it came from.
    pub origin: Origin,
}

type TakeColumns = (
    u64,
    u64,
    u16,
    u8,
    u16,
    u16,
    String,
    u64,
    u64,
    NaiveDateTime,
    Option<Vec<u8>>,
    Option<String>,
);

type FormColumns = (u32, u16, u16);

fn take_row(
    (
        id,
        instrument_id,
        pass,
        key,
        layer,
        round_robin,
        recording,
        first_frame,
        frames,
        made_at,
        thumbnail,
        origin,
    ): TakeColumns,
    (rate_hz, channels, bits): FormColumns,
) -> TakeRow {
    let cell = Cell {
        pass,
        key,
        layer,
        round_robin,
    };
    TakeRow {
        id,
        instrument_id,
        cell,
        recording,
        first_frame,
        frames,
        form: RecordingForm {
            rate_hz,
            channels,
            bits,
        },
        made_at,
        thumbnail,
        // What an older version wrote and this one does not know is no reason to lose the take.
        origin: origin
            .and_then(|text| serde_json::from_str(&text).ok())
            .unwrap_or_default(),
    }
}

pub(crate) async fn last_id(connection: &mut AsyncMysqlConnection) -> QueryResult<u64> {
    diesel::select(diesel::dsl::sql::<
        diesel::sql_types::Unsigned<diesel::sql_types::BigInt>,
    >("LAST_INSERT_ID()"))
    .get_result(connection)
    .await
}

impl Store {
    /// Frames `first..end` of a take, from the take's first.
    pub async fn take_audio(&self, take: &TakeRow, first: u64, end: u64) -> anyhow::Result<Audio> {
        let end = end.min(take.frames);
        self.read_recording(
            &take.recording,
            take.form,
            take.first_frame + first,
            end.saturating_sub(first),
        )
        .await
    }

    /// A new instrument; gives its number.
    pub async fn create_instrument(&self, name: &str, plan: &Plan) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        let plan = serde_json::to_string(plan)?;
        diesel::insert_into(instruments::table)
            .values((instruments::name.eq(name), instruments::plan.eq(plan)))
            .execute(&mut connection)
            .await?;
        let id = last_id(&mut connection).await?;
        self.append_event(&mut connection, id, "instrument", "{}").await?;
        Ok(id)
    }

    /// All instruments, oldest first.
    pub async fn instruments(&self) -> anyhow::Result<Vec<InstrumentRow>> {
        let mut connection = self.connection().await?;
        let rows: Vec<(u64, String, String, NaiveDateTime)> = instruments::table
            .order(instruments::id)
            .load(&mut connection)
            .await?;
        rows.into_iter()
            .map(|(id, name, plan, kept_at)| {
                Ok(InstrumentRow {
                    id,
                    name,
                    plan: serde_json::from_str(&plan)?,
                    kept_at,
                })
            })
            .collect()
    }

    /// One instrument.
    pub async fn instrument(&self, id: u64) -> anyhow::Result<Option<InstrumentRow>> {
        let mut connection = self.connection().await?;
        let row: Option<(u64, String, String, NaiveDateTime)> = instruments::table
            .find(id)
            .first(&mut connection)
            .await
            .optional()?;
        let row = row.map(|(id, name, plan, kept_at)| {
            Ok::<_, serde_json::Error>(InstrumentRow {
                id,
                name,
                plan: serde_json::from_str(&plan)?,
                kept_at,
            })
        });
        Ok(row.transpose()?)
    }

    /// Notes a recording that lies under its hash.
    pub(crate) async fn note_recording(
        connection: &mut AsyncMysqlConnection,
        hash: &str,
        form: RecordingForm,
        frames: u64,
    ) -> QueryResult<usize> {
        diesel::insert_or_ignore_into(recordings::table)
            .values((
                recordings::hash.eq(hash),
                recordings::rate_hz.eq(form.rate_hz),
                recordings::channels.eq(form.channels),
                recordings::bits.eq(form.bits),
                recordings::frames.eq(frames),
            ))
            .execute(connection)
            .await
    }

    /// Takes of recordings that lie under their hashes: all of them, or none. Nothing of them is to be seen before this returns.
    pub async fn add_takes(&self, instrument_id: u64, takes: Vec<NewTake>) -> anyhow::Result<Vec<u64>> {
        let mut connection = self.connection().await?;
        let store = self.clone();
        connection
            .transaction(async move |connection| {
                let mut ids = Vec::with_capacity(takes.len());
                for take in &takes {
                    Self::note_recording(connection, &take.recording, take.form, take.recording_frames)
                        .await?;
                    diesel::insert_into(takes::table)
                        .values((
                            takes::instrument_id.eq(instrument_id),
                            takes::pass.eq(take.cell.pass),
                            takes::rung_key.eq(take.cell.key),
                            takes::layer.eq(take.cell.layer),
                            takes::round_robin.eq(take.cell.round_robin),
                            takes::recording.eq(&take.recording),
                            takes::first_frame.eq(take.first_frame),
                            takes::frames.eq(take.frames),
                            takes::origin.eq(serde_json::to_string(&take.origin)?),
                        ))
                        .execute(connection)
                        .await?;
                    let id = last_id(connection).await?;
                    let body = serde_json::json!({ "take": id });
                    store
                        .enqueue_on(connection, instrument_id, "measure", &body)
                        .await?;
                    store
                        .append_event(connection, instrument_id, "take", &body.to_string())
                        .await?;
                    ids.push(id);
                }
                diesel::update(instruments::table.find(instrument_id))
                    .set(instruments::kept_at.eq(chrono::Utc::now().naive_utc()))
                    .execute(connection)
                    .await?;
                Ok::<_, anyhow::Error>(ids)
            })
            .await
    }

    /// The takes of an instrument, or of all, oldest first.
    pub async fn takes(&self, instrument_id: Option<u64>) -> anyhow::Result<Vec<TakeRow>> {
        let mut connection = self.connection().await?;
        let mut query = takes::table
            .inner_join(recordings::table.on(recordings::hash.eq(takes::recording)))
            .select((
                takes::all_columns,
                (recordings::rate_hz, recordings::channels, recordings::bits),
            ))
            .order(takes::id)
            .into_boxed();
        if let Some(id) = instrument_id {
            query = query.filter(takes::instrument_id.eq(id));
        }
        let rows: Vec<(TakeColumns, FormColumns)> = query.load(&mut connection).await?;
        Ok(rows
            .into_iter()
            .map(|(take, form)| take_row(take, form))
            .collect())
    }

    /// One take.
    pub async fn take(&self, id: u64) -> anyhow::Result<Option<TakeRow>> {
        let mut connection = self.connection().await?;
        let row: Option<(TakeColumns, FormColumns)> = takes::table
            .inner_join(recordings::table.on(recordings::hash.eq(takes::recording)))
            .select((
                takes::all_columns,
                (recordings::rate_hz, recordings::channels, recordings::bits),
            ))
            .filter(takes::id.eq(id))
            .first(&mut connection)
            .await
            .optional()?;
        Ok(row.map(|(take, form)| take_row(take, form)))
    }

    /// How long a recording is; 0 where there is none.
    pub async fn recording_frames(&self, hash: &str) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        let frames = recordings::table
            .find(hash)
            .select(recordings::frames)
            .first(&mut connection)
            .await
            .optional()?;
        Ok(frames.unwrap_or(0))
    }

    /// Keeps what was measured of a take. Measuring again by the same version changes nothing.
    pub async fn put_measurement(
        &self,
        take: &TakeRow,
        facts: &Measurement,
        thumbnail: &[u8],
    ) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::insert_or_ignore_into(measurements::table)
            .values((
                measurements::take_id.eq(take.id),
                measurements::version.eq(MEASURE_VERSION),
                measurements::facts.eq(serde_json::to_string(facts)?),
            ))
            .execute(&mut connection)
            .await?;
        diesel::update(takes::table.find(take.id))
            .set(takes::thumbnail.eq(thumbnail))
            .execute(&mut connection)
            .await?;
        self.append_event(
            &mut connection,
            take.instrument_id,
            "measured",
            &format!("{{\"take\":{}}}", take.id),
        )
        .await
    }

    /// What was measured of an instrument's takes. A take keeps to the version that measured it first.
    pub async fn measurements(&self, instrument_id: u64) -> anyhow::Result<HashMap<u64, Measurement>> {
        let mut connection = self.connection().await?;
        let rows: Vec<(u64, u32, String)> = measurements::table
            .inner_join(takes::table.on(takes::id.eq(measurements::take_id)))
            .filter(takes::instrument_id.eq(instrument_id))
            .select((measurements::take_id, measurements::version, measurements::facts))
            .order(measurements::version.desc())
            .load(&mut connection)
            .await?;
        rows.into_iter()
            .map(|(id, _, facts)| Ok((id, serde_json::from_str(&facts)?)))
            .collect()
    }

    /// What was measured of one take, by the version that measured it first.
    pub async fn measurement(&self, take: u64) -> anyhow::Result<Option<Measurement>> {
        let mut connection = self.connection().await?;
        let facts: Option<String> = measurements::table
            .filter(measurements::take_id.eq(take))
            .select(measurements::facts)
            .order(measurements::version.asc())
            .first(&mut connection)
            .await
            .optional()?;
        Ok(facts.map(|facts| serde_json::from_str(&facts)).transpose()?)
    }

    /// Notes that a run is going, so that it goes on after a restart; or that it has ended.
    pub async fn set_run(&self, instrument_id: u64, settings: Option<&str>) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        match settings {
            Some(settings) => {
                diesel::replace_into(runs::table)
                    .values((runs::instrument_id.eq(instrument_id), runs::settings.eq(settings)))
                    .execute(&mut connection)
                    .await?
            }
            None => {
                diesel::delete(runs::table.find(instrument_id))
                    .execute(&mut connection)
                    .await?
            }
        };
        Ok(())
    }

    /// Runs that were going.
    pub async fn runs(&self) -> anyhow::Result<Vec<(u64, String)>> {
        let mut connection = self.connection().await?;
        Ok(runs::table.load(&mut connection).await?)
    }
}
