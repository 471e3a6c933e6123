//! Files that were dropped on the page and are not yet taken in.

use crate::changes::base_plan;
use crate::events::Told;
use crate::hold::{last_id, lock};
use crate::instruments::{FormColumns, add_takes, create, form_of};
use crate::schema::{recordings, waiting_files};
use crate::{NewTake, Recording, RecordingForm, Store};
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{Fact, MapSettings, Plan, Said, Target, map_wishes, plan_of, plan_wishes};
use serde_json::{Value, json};

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

impl WaitingRow {
    /// Its recording.
    pub fn recording(&self) -> Recording {
        Recording {
            hash: self.recording.clone(),
            form: self.form,
            frames: self.frames,
        }
    }
}

/// Files that become takes of one instrument.
#[derive(Debug, Clone)]
pub struct TakenIn {
    /// The name of a new instrument; `None` takes them into the one where they wait.
    pub name: Option<String>,
    /// The plan that has a cell for each.
    pub plan: Plan,
    /// The plan that it was made from: where it is another one by now, nothing is taken in.
    pub from_plan: Plan,
    /// How they share the keys, where that is not left to the rule.
    pub map: Option<MapSettings>,
    /// Their takes.
    pub takes: Vec<NewTake>,
    /// Gains in dB that bring a normalised set back onto one curve, as a change of its own; empty for any other.
    pub gains: Vec<f64>,
    /// The files that wait no longer.
    pub files: Vec<u64>,
}

type Columns = ((u64, String, String, String), FormColumns, u64);

impl Store {
    /// Adds one, whose recording lies under its hash.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn add_waiting(
        &self,
        instrument: u64,
        name: &str,
        recording: &Recording,
        heard: &Value,
    ) -> anyhow::Result<u64> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            diesel::insert_into(waiting_files::table)
                .values((
                    waiting_files::instrument_id.eq(instrument),
                    waiting_files::name.eq(name),
                    waiting_files::recording.eq(&recording.hash),
                    waiting_files::heard.eq(heard.to_string()),
                ))
                .execute(connection)
                .await?;
            let id = last_id(connection).await?;
            Ok((id, Told::of(instrument, "file", json!({}))))
        })
        .await
    }

    /// Those of an instrument, by name.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn waiting(&self, instrument: u64) -> anyhow::Result<Vec<WaitingRow>> {
        let rows: Vec<Columns> = self
            .read(async |connection| {
                Ok(waiting_files::table
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
                        (recordings::rate_hz, recordings::channels, recordings::bits),
                        recordings::frames,
                    ))
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter()
            .map(|((id, name, recording, heard), form, frames)| {
                Ok(WaitingRow {
                    id,
                    name,
                    recording,
                    heard: serde_json::from_str(&heard)?,
                    form: form_of(form),
                    frames,
                })
            })
            .collect()
    }

    /// They wait no longer: they are not wanted.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn forget_waiting(&self, instrument: u64, ids: &[u64]) -> anyhow::Result<()> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            let of = waiting_files::instrument_id
                .eq(instrument)
                .and(waiting_files::id.eq_any(ids.to_vec()));
            diesel::delete(waiting_files::table.filter(of))
                .execute(connection)
                .await?;
            Ok(((), Told::of(instrument, "file", json!({}))))
        })
        .await
    }

    /// Files become takes, of this instrument or of new ones: all of them, or none. Gives the instruments. A [`work::Refusal`] where the plan or
    /// the files are others by now.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn take_in(&self, instrument: u64, all: &[TakenIn]) -> anyhow::Result<Vec<u64>> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            let (mut into_all, mut told) = (Vec::new(), Told::of(instrument, "file", json!({})));
            for taken in all {
                let of = waiting_files::instrument_id
                    .eq(instrument)
                    .and(waiting_files::id.eq_any(taken.files.clone()));
                let gone = diesel::delete(waiting_files::table.filter(of))
                    .execute(connection)
                    .await?;
                if gone != taken.files.len() {
                    return Err(work::refusal(
                        "A file was taken in meanwhile: look at the list again.",
                    ));
                }
                let into = match &taken.name {
                    Some(name) => {
                        let (id, of_it) = make(connection, name, &taken.plan, taken.map).await?;
                        told.extend(of_it);
                        id
                    }
                    None => {
                        let base = base_plan(connection, instrument).await?;
                        let said = crate::changes::load(connection, instrument).await?;
                        if plan_of(&base, &said) != taken.from_plan {
                            return Err(work::refusal(
                                "The plan was changed meanwhile: look at the list again.",
                            ));
                        }
                        let mut wishes = plan_wishes(&base, &said, &taken.from_plan, &taken.plan)
                            .map_err(|error| work::refusal(error.to_string()))?;
                        wishes.extend(taken.map.into_iter().flat_map(map_wishes));
                        told.extend(
                            crate::changes::change(connection, instrument, "take files in", wishes).await?,
                        );
                        instrument
                    }
                };
                let (ids, of_takes) = add_takes(connection, into, &taken.takes).await?;
                told.extend(of_takes);
                if !taken.gains.is_empty() {
                    let gain = |(id, gain): (u64, &f64)| {
                        (Target::Take(id), Fact::GainDb, Said::Value((*gain).into()))
                    };
                    let wishes = ids.into_iter().zip(&taken.gains).map(gain).collect();
                    told.extend(
                        crate::changes::change(connection, into, "even a normalised set", wishes).await?,
                    );
                }
                into_all.push(into);
            }
            Ok((into_all, told))
        })
        .await
    }

    /// Makes an instrument of takes that are there, at once.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn make_of(
        &self,
        name: &str,
        plan: &Plan,
        map: Option<MapSettings>,
        takes: &[NewTake],
    ) -> anyhow::Result<u64> {
        self.write(async |connection| {
            let (id, mut told) = make(connection, name, plan, map).await?;
            let (_, of_takes) = add_takes(connection, id, takes).await?;
            told.extend(of_takes);
            Ok((id, told))
        })
        .await
    }
}

/// A new instrument, locked.
pub(crate) async fn make(
    connection: &mut AsyncMysqlConnection,
    name: &str,
    plan: &Plan,
    map: Option<MapSettings>,
) -> anyhow::Result<(u64, Told)> {
    let id = create(connection, name, &serde_json::to_string(plan)?).await?;
    lock(connection, id).await?;
    let mut told = Told::of(id, "instrument", json!({}));
    if let Some(map) = map {
        let wishes = map_wishes(map);
        told.extend(crate::changes::change(connection, id, "lay files over the keys", wishes).await?);
    }
    Ok((id, told))
}
