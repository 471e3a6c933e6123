//! Instruments and their takes.

use crate::events::Told;
use crate::hold::{last_id, lock, touch};
use crate::schema::{instruments, recordings, runs, takes};
use crate::{NewTake, Recording, RecordingForm, Store};
use anyhow::Context;
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{Cell, LayerId, Origin, PassId, Plan, RecordedTake};
use serde_json::json;
use signal::Audio;
use std::ops::Range;
use work::{JobKind, Part};

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

impl TakeRow {
    /// The same without its audio.
    pub fn recorded(&self) -> RecordedTake {
        RecordedTake {
            id: self.id,
            cell: self.cell,
            rate_hz: self.form.rate_hz,
            channels: self.form.channels,
            frames: self.frames,
            origin: self.origin.clone(),
        }
    }

    /// Its audio.
    pub fn part(&self) -> Part {
        Part {
            recording: self.recording.clone(),
            form: self.form,
            first_frame: self.first_frame,
            frames: self.frames,
        }
    }
}

pub(crate) type InstrumentColumns = (u64, String, String, NaiveDateTime);

pub(crate) fn instrument_row((id, name, plan, kept_at): InstrumentColumns) -> anyhow::Result<InstrumentRow> {
    Ok(InstrumentRow {
        id,
        name,
        plan: serde_json::from_str(&plan).with_context(|| format!("the plan of instrument {id}"))?,
        kept_at,
    })
}

/// A take's own columns, as they are read.
#[derive(Queryable)]
pub(crate) struct TakeColumns {
    id: u64,
    instrument_id: u64,
    pass: u64,
    key: u8,
    layer: u64,
    round_robin: u16,
    recording: String,
    first_frame: u64,
    frames: u64,
    made_at: NaiveDateTime,
    thumbnail: Option<Vec<u8>>,
    origin: Option<String>,
    _spool: Option<String>,
}

pub(crate) type FormColumns = (u32, u16, u16);

pub(crate) fn form_of((rate_hz, channels, bits): FormColumns) -> RecordingForm {
    RecordingForm {
        rate_hz,
        channels,
        bits,
    }
}

impl TakeColumns {
    pub(crate) fn row(self, form: FormColumns) -> TakeRow {
        TakeRow {
            id: self.id,
            instrument_id: self.instrument_id,
            cell: Cell {
                pass: PassId(self.pass),
                key: self.key,
                layer: LayerId(self.layer),
                round_robin: self.round_robin,
            },
            recording: self.recording,
            first_frame: self.first_frame,
            frames: self.frames,
            form: form_of(form),
            made_at: self.made_at,
            thumbnail: self.thumbnail,
            // What an older version wrote and this one does not know is no reason to lose the take.
            origin: self
                .origin
                .and_then(|text| serde_json::from_str(&text).ok())
                .unwrap_or_default(),
        }
    }
}

/// Adds takes whose recordings lie under their hashes. One that was added from its spool already is not added again.
pub(crate) async fn add_takes(
    connection: &mut AsyncMysqlConnection,
    instrument_id: u64,
    new: &[NewTake],
) -> anyhow::Result<(Vec<u64>, Told)> {
    let (mut ids, mut told) = (Vec::with_capacity(new.len()), Told::default());
    for take in new {
        if let Some(spool) = &take.spool {
            let known: Option<u64> = takes::table
                .filter(takes::spool.eq(spool))
                .select(takes::id)
                .first(connection)
                .await
                .optional()?;
            if let Some(known) = known {
                ids.push(known);
                continue;
            }
        }
        diesel::insert_into(takes::table)
            .values((
                takes::instrument_id.eq(instrument_id),
                takes::pass.eq(take.cell.pass.0),
                takes::rung_key.eq(take.cell.key),
                takes::layer.eq(take.cell.layer.0),
                takes::round_robin.eq(take.cell.round_robin),
                takes::recording.eq(&take.recording.hash),
                takes::first_frame.eq(take.first_frame),
                takes::frames.eq(take.frames),
                takes::origin.eq(serde_json::to_string(&take.origin)?),
                takes::spool.eq(&take.spool),
            ))
            .execute(connection)
            .await?;
        let id = last_id(connection).await?;
        let body = json!({ "take": id });
        crate::jobs::enqueue(connection, instrument_id, JobKind::Measure, &body).await?;
        told.add(instrument_id, "take", body);
        ids.push(id);
    }
    touch(connection, instrument_id).await?;
    Ok((ids, told))
}

impl Store {
    /// Some channels of the frames in a span of a take, from the take's first.
    ///
    /// # Errors
    /// Where the recording cannot be read.
    pub async fn take_audio(
        &self,
        take: &TakeRow,
        span: Range<u64>,
        channels: Range<usize>,
    ) -> anyhow::Result<Audio> {
        let end = span.end.min(take.frames);
        let span = take.first_frame + span.start.min(end)..take.first_frame + end;
        self.read_recording(&take.recording, take.form, span, channels)
            .await
    }

    /// A new instrument; gives its number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn create_instrument(&self, name: &str, plan: &Plan) -> anyhow::Result<u64> {
        let plan = serde_json::to_string(plan)?;
        self.write(async |connection| {
            let id = create(connection, name, &plan).await?;
            Ok((id, Told::of(id, "instrument", json!({}))))
        })
        .await
    }

    /// All instruments, oldest first; one whose plan cannot be read does not hide the others.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn instruments(&self) -> anyhow::Result<Vec<InstrumentRow>> {
        let rows: Vec<InstrumentColumns> = self
            .read(async |connection| Ok(instruments::table.order(instruments::id).load(connection).await?))
            .await?;
        Ok(rows.into_iter().filter_map(readable).collect())
    }

    /// One instrument.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn instrument(&self, id: u64) -> anyhow::Result<Option<InstrumentRow>> {
        let row: Option<InstrumentColumns> = self
            .read(async |connection| Ok(instruments::table.find(id).first(connection).await.optional()?))
            .await?;
        row.map(instrument_row).transpose()
    }

    /// Notes that a recording will lie under its hash, before it does: see the sweep.
    ///
    /// # Errors
    /// Those of the database.
    pub(crate) async fn note_recording(&self, recording: &Recording) -> anyhow::Result<()> {
        let form = recording.form;
        self.write(async |connection| {
            diesel::insert_into(recordings::table)
                .values((
                    recordings::hash.eq(&recording.hash),
                    recordings::rate_hz.eq(form.rate_hz),
                    recordings::channels.eq(form.channels),
                    recordings::bits.eq(form.bits),
                    recordings::frames.eq(recording.frames),
                ))
                .on_conflict(diesel::dsl::DuplicatedKeys)
                .do_update()
                .set(recordings::noted_at.eq(diesel::dsl::sql::<diesel::sql_types::Datetime>("NOW(3)")))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }

    /// Takes of recordings that lie under their hashes: all of them, or none. Nothing of them is to be seen before this returns.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn add_takes(&self, instrument_id: u64, takes: &[NewTake]) -> anyhow::Result<Vec<u64>> {
        self.add_takes_of_run(instrument_id, None, takes).await
    }

    /// The same, of a recording that only its holder may add to. A [`work::Refusal`] where another server goes on with it.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn add_takes_of_run(
        &self,
        instrument_id: u64,
        holder: Option<&str>,
        takes: &[NewTake],
    ) -> anyhow::Result<Vec<u64>> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument_id).await?,
                "There is no such instrument."
            );
            if let Some(holder) = holder {
                let others: i64 = runs::table
                    .filter(runs::instrument_id.eq(instrument_id))
                    .filter(runs::holder.ne(holder))
                    .count()
                    .get_result(connection)
                    .await?;
                if others > 0 {
                    return Err(work::refusal(
                        "Another Ladder goes on with this recording: it was away from the database for too long here.",
                    ));
                }
            }
            add_takes(connection, instrument_id, takes).await
        })
        .await
    }

    /// One take.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn take(&self, id: u64) -> anyhow::Result<Option<TakeRow>> {
        let row: Option<(TakeColumns, FormColumns)> = self
            .read(async |connection| {
                Ok(takes::table
                    .inner_join(recordings::table.on(recordings::hash.eq(takes::recording)))
                    .select((
                        takes::all_columns,
                        (recordings::rate_hz, recordings::channels, recordings::bits),
                    ))
                    .filter(takes::id.eq(id))
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        Ok(row.map(|(take, form)| take.row(form)))
    }

    /// The small pictures of an instrument's takes.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn thumbnails(&self, instrument: u64) -> anyhow::Result<Vec<(u64, Vec<u8>)>> {
        self.read(async |connection| {
            Ok(takes::table
                .filter(takes::instrument_id.eq(instrument))
                .filter(takes::thumbnail.is_not_null())
                .select((takes::id, takes::thumbnail.assume_not_null()))
                .load(connection)
                .await?)
        })
        .await
    }

    /// A recording by its hash.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn recording(&self, hash: &str) -> anyhow::Result<Option<Recording>> {
        let row: Option<(FormColumns, u64)> = self
            .read(async |connection| {
                Ok(recordings::table
                    .find(hash)
                    .select((
                        (recordings::rate_hz, recordings::channels, recordings::bits),
                        recordings::frames,
                    ))
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        Ok(row.map(|(form, frames)| Recording {
            hash: hash.to_owned(),
            form: form_of(form),
            frames,
        }))
    }
}

pub(crate) async fn create(
    connection: &mut AsyncMysqlConnection,
    name: &str,
    plan: &str,
) -> QueryResult<u64> {
    diesel::insert_into(instruments::table)
        .values((instruments::name.eq(name), instruments::plan.eq(plan)))
        .execute(connection)
        .await?;
    last_id(connection).await
}

pub(crate) fn readable(row: InstrumentColumns) -> Option<InstrumentRow> {
    instrument_row(row)
        .inspect_err(|error| tracing::error!("left out of the shelf: {error:#}"))
        .ok()
}
