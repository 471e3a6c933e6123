//! What the user said, and its undo.

use crate::Store;
use crate::instruments::last_id;
use crate::schema::{changes, facts, instruments};
use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl};
use instrument::{Change, ChangeError, Fact, Facts, FieldChange, Said, Target};

/// What Undo and Redo would do.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct History {
    /// Label of what Undo undoes.
    pub undo: Option<String>,
    /// Label of what Redo does again.
    pub redo: Option<String>,
}

/// What was undone or done again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undone {
    /// Its label.
    pub label: String,
    /// Fields left alone, since they were changed since.
    pub left_alone: usize,
}

const DONE: u8 = 0;
const UNDONE: u8 = 1;
const OVERTAKEN: u8 = 2;

fn number_of(target: Target) -> u64 {
    match target {
        Target::Instrument => 0,
        Target::Take(id) | Target::LongTake(id) => id,
    }
}

fn name_of(fact: Fact) -> anyhow::Result<String> {
    Ok(serde_json::to_string(&fact)?.trim_matches('"').to_owned())
}

async fn load(connection: &mut AsyncMysqlConnection, instrument: u64) -> anyhow::Result<Facts> {
    let rows: Vec<(u64, String, String)> = facts::table
        .filter(facts::instrument_id.eq(instrument))
        .select((facts::target, facts::fact, facts::value))
        .load(connection)
        .await?;
    rows.into_iter()
        .map(|(target, fact, value)| {
            let fact: Fact = serde_json::from_value(serde_json::Value::String(fact))?;
            let target = match target {
                0 => Target::Instrument,
                id if fact.is_of_long_take() => Target::LongTake(id),
                id => Target::Take(id),
            };
            Ok(((target, fact), serde_json::from_str(&value)?))
        })
        .collect()
}

async fn write(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    fields: &[FieldChange],
) -> anyhow::Result<()> {
    for field in fields {
        let (target, fact) = (number_of(field.target), name_of(field.fact)?);
        match &field.after {
            Said::Automatic => {
                diesel::delete(facts::table.find((instrument, target, fact)))
                    .execute(connection)
                    .await?;
            }
            Said::Value(value) => {
                diesel::replace_into(facts::table)
                    .values((
                        facts::instrument_id.eq(instrument),
                        facts::target.eq(target),
                        facts::fact.eq(fact),
                        facts::value.eq(value.to_string()),
                    ))
                    .execute(connection)
                    .await?;
            }
        }
    }
    diesel::update(instruments::table.find(instrument))
        .set(instruments::kept_at.eq(chrono::Utc::now().naive_utc()))
        .execute(connection)
        .await?;
    Ok(())
}

/// Edits of one instrument come one after another.
async fn lock(connection: &mut AsyncMysqlConnection, instrument: u64) -> QueryResult<Option<u64>> {
    instruments::table
        .find(instrument)
        .select(instruments::id)
        .for_update()
        .first(connection)
        .await
        .optional()
}

impl Store {
    /// Everything said of an instrument.
    pub async fn facts(&self, instrument: u64) -> anyhow::Result<Facts> {
        load(&mut *self.connection().await?, instrument).await
    }

    /// One gesture: checked, kept, and told to all pages. The inner error is a sentence for the user.
    pub async fn change(
        &self,
        instrument: u64,
        label: &str,
        wishes: Vec<(Target, Fact, Said)>,
    ) -> anyhow::Result<Result<u64, ChangeError>> {
        let mut connection = self.connection().await?;
        let (store, label) = (self.clone(), label.to_owned());
        connection
            .transaction(async move |connection| {
                if lock(connection, instrument).await?.is_none() {
                    return Ok(Err(ChangeError("There is no such instrument.".into())));
                }
                let change = match Change::propose(&label, &load(connection, instrument).await?, wishes) {
                    Ok(change) => change,
                    Err(error) => return Ok(Err(error)),
                };
                if change.fields.is_empty() {
                    return Ok(Ok(0));
                }
                write(connection, instrument, &change.fields).await?;
                diesel::update(
                    changes::table.filter(
                        changes::instrument_id
                            .eq(instrument)
                            .and(changes::state.eq(UNDONE)),
                    ),
                )
                .set(changes::state.eq(OVERTAKEN))
                .execute(connection)
                .await?;
                diesel::insert_into(changes::table)
                    .values((
                        changes::instrument_id.eq(instrument),
                        changes::label.eq(&change.label),
                        changes::fields.eq(serde_json::to_string(&change.fields)?),
                        changes::state.eq(DONE),
                    ))
                    .execute(connection)
                    .await?;
                let id = last_id(connection).await?;
                store
                    .append_event(connection, instrument, "changed", "{}")
                    .await?;
                Ok::<_, anyhow::Error>(Ok(id))
            })
            .await
    }

    /// Undoes the newest change, or (`again`) does the last undone one again; `None` where there is none.
    pub async fn step_back(&self, instrument: u64, again: bool) -> anyhow::Result<Option<Undone>> {
        let mut connection = self.connection().await?;
        let store = self.clone();
        connection
            .transaction(async move |connection| {
                lock(connection, instrument).await?;
                let Some((id, label, fields)) = next_of(connection, instrument, again).await? else {
                    return Ok(None);
                };
                let change = Change {
                    label,
                    fields: serde_json::from_str(&fields)?,
                };
                let now = load(connection, instrument).await?;
                let applied = if again {
                    change.redo(&now)
                } else {
                    change.undo(&now)
                };
                write(connection, instrument, &applied.set).await?;
                diesel::update(changes::table.find(id))
                    .set(changes::state.eq(if again { DONE } else { UNDONE }))
                    .execute(connection)
                    .await?;
                store
                    .append_event(connection, instrument, "changed", "{}")
                    .await?;
                Ok::<_, anyhow::Error>(Some(Undone {
                    label: change.label,
                    left_alone: applied.left_alone,
                }))
            })
            .await
    }

    /// What Undo and Redo would do.
    pub async fn history(&self, instrument: u64) -> anyhow::Result<History> {
        let mut connection = self.connection().await?;
        let undo = next_of(&mut connection, instrument, false)
            .await?
            .map(|(_, label, _)| label);
        let redo = next_of(&mut connection, instrument, true)
            .await?
            .map(|(_, label, _)| label);
        Ok(History { undo, redo })
    }
}

async fn next_of(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    again: bool,
) -> QueryResult<Option<(u64, String, String)>> {
    let query = changes::table
        .filter(changes::instrument_id.eq(instrument))
        .select((changes::id, changes::label, changes::fields));
    if again {
        query
            .filter(changes::state.eq(UNDONE))
            .order(changes::id.asc())
            .first(connection)
            .await
            .optional()
    } else {
        query
            .filter(changes::state.eq(DONE))
            .order(changes::id.desc())
            .first(connection)
            .await
            .optional()
    }
}
