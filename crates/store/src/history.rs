//! What was done to an instrument, step by step; any step can be undone on which nothing after it depends.

use crate::Store;
use crate::changes::{BEFORE, DONE, UNDONE, check, fields_of, load, write};
use crate::events::Told;
use crate::hold::lock;
use crate::jobs::enqueue_render;
use crate::schema::changes;
use chrono::NaiveDateTime;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use instrument::Change;
use serde_json::json;

/// Steps that are listed, at most: the newest.
const MOST_STEPS: i64 = 100;

/// One thing that was done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Its number.
    pub id: u64,
    /// What was done.
    pub label: String,
    /// When, UTC.
    pub made_at: NaiveDateTime,
    /// Whether it was undone since.
    pub undone: bool,
    /// Whether it can be undone by itself: it is done, and nothing after it depends on it.
    pub may_undo: bool,
}

type StepColumns = (u64, String, String, u8, NaiveDateTime);

impl Store {
    /// What was done to an instrument, newest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn steps(&self, instrument: u64) -> anyhow::Result<Vec<Step>> {
        let (rows, facts): (Vec<StepColumns>, _) = self
            .read_at_once(async |connection| {
                let rows = changes::table
                    .filter(changes::instrument_id.eq(instrument))
                    .order(changes::id.desc())
                    .limit(MOST_STEPS)
                    .select((
                        changes::id,
                        changes::label,
                        changes::fields,
                        changes::state,
                        changes::made_at,
                    ))
                    .load(connection)
                    .await?;
                Ok((rows, load(connection, instrument).await?))
            })
            .await?;
        rows.into_iter()
            .map(|(id, label, fields, state, made_at)| {
                let change = Change {
                    label,
                    fields: fields_of(state, &fields)?,
                };
                Ok(Step {
                    may_undo: state == DONE && change.stands_alone(&facts),
                    undone: !matches!(state, DONE | BEFORE),
                    label: change.label,
                    id,
                    made_at,
                })
            })
            .collect()
    }

    /// Undoes one step, whatever came after it; gives its label, `None` where there is none. A [`work::Refusal`] where something after it depends on it, or
    /// it is undone already.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn undo_step(&self, instrument: u64, step: u64) -> anyhow::Result<Option<String>> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            let row: Option<(String, String, u8)> = changes::table
                .find(step)
                .filter(changes::instrument_id.eq(instrument))
                .select((changes::label, changes::fields, changes::state))
                .first(connection)
                .await
                .optional()?;
            let Some((label, fields, state)) = row else {
                return Ok((None, Told::default()));
            };
            let change = Change {
                label,
                fields: fields_of(state, &fields)?,
            };
            let now = load(connection, instrument).await?;
            let applied = change.undo(&now);
            if state == BEFORE {
                return Err(work::refusal(
                    "An earlier Ladder did this to what is kept otherwise now: it cannot be undone.",
                ));
            }
            if state != DONE {
                return Err(work::refusal("This is undone already."));
            }
            if applied.left_alone > 0 {
                return Err(work::refusal(
                    "Something that was done later says the same fields: undo that first.",
                ));
            }
            check(connection, instrument, now, &applied.set).await?;
            write(connection, instrument, &applied.set).await?;
            diesel::update(changes::table.find(step))
                .set(changes::state.eq(UNDONE))
                .execute(connection)
                .await?;
            if applied.set.iter().any(|field| field.fact.is_rendered()) {
                enqueue_render(connection, instrument).await?;
            }
            let told = Told::of(instrument, "changed", json!({}));
            Ok((Some(change.label), told))
        })
        .await
    }
}
