//! What the user said, and its undo.

use crate::events::Told;
use crate::hold::{lock, touch};
use crate::instruments::add_takes;
use crate::jobs::enqueue_render;
use crate::schema::{changes, facts, instruments};
use crate::{NewTake, Store};
use anyhow::Context;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{
    Change, ChangeError, Fact, Facts, FieldChange, Plan, Said, Target, Wish, check_plan, lay_over,
    plan_wishes,
};
use serde_json::json;
use std::collections::BTreeMap;
use work::MadeTake;

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

pub(crate) const DONE: u8 = 0;
pub(crate) const UNDONE: u8 = 1;
const OVERTAKEN: u8 = 2;
/// Done by an earlier Ladder to what is kept otherwise now: listed, and not undone.
pub(crate) const BEFORE: u8 = 3;

/// The fields of a step that can be undone or done again; those of others are not read, since an earlier Ladder may have written them.
pub(crate) fn fields_of(state: u8, fields: &str) -> anyhow::Result<Vec<FieldChange>> {
    Ok(if matches!(state, DONE | UNDONE) {
        serde_json::from_str(fields)?
    } else {
        Vec::new()
    })
}

/// What is read of a fact: what it is about, its number and part, its name, and what it says.
pub(crate) type FactRow = (String, u64, u64, String, String);
type FactColumns = (
    facts::about,
    facts::target,
    facts::part,
    facts::fact,
    facts::value,
);
/// The columns of a [`FactRow`].
pub(crate) const FACT: FactColumns = (
    facts::about,
    facts::target,
    facts::part,
    facts::fact,
    facts::value,
);

/// Facts of their rows.
pub(crate) fn facts_of(rows: Vec<FactRow>) -> anyhow::Result<Facts> {
    rows.into_iter()
        .map(|(about, number, part, name, value)| {
            let known = Target::of_kept(&about, number, part).zip(Fact::named(&name));
            let key = known.with_context(|| format!("the fact {name} of a {about} is not known"))?;
            Ok((key, serde_json::from_str(&value)?))
        })
        .collect()
}

pub(crate) async fn load(connection: &mut AsyncMysqlConnection, instrument: u64) -> anyhow::Result<Facts> {
    let rows = facts::table
        .filter(facts::instrument_id.eq(instrument))
        .select(FACT)
        .load(connection)
        .await?;
    facts_of(rows)
}

/// The plan that an instrument was made with.
pub(crate) async fn base_plan(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<Plan> {
    let plan: String = instruments::table
        .find(instrument)
        .select(instruments::plan)
        .first(connection)
        .await?;
    Ok(serde_json::from_str(&plan)?)
}

/// Refuses what would leave a plan that cannot be recorded.
pub(crate) async fn check(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    mut said: Facts,
    fields: &[FieldChange],
) -> anyhow::Result<()> {
    if fields.iter().any(FieldChange::is_of_plan) {
        lay_over(&mut said, fields);
        let base = base_plan(connection, instrument).await?;
        check_plan(&base, &said).map_err(|error| work::refusal(error.to_string()))?;
    }
    Ok(())
}

/// Fields written by one statement.
const FIELDS_AT_ONCE: usize = 500;

pub(crate) async fn write(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    fields: &[FieldChange],
) -> anyhow::Result<()> {
    type Kind = (&'static str, u64, &'static str);
    let (mut said, mut automatic) = (Vec::new(), BTreeMap::<Kind, Vec<u64>>::new());
    for field in fields {
        let ((about, target, part), fact) = (field.target.kept(), field.fact.name());
        match &field.after {
            Said::Automatic => automatic.entry((about, part, fact)).or_default().push(target),
            Said::Value(value) => said.push((
                facts::instrument_id.eq(instrument),
                facts::about.eq(about),
                facts::target.eq(target),
                facts::part.eq(part),
                facts::fact.eq(fact),
                facts::value.eq(value.to_string()),
            )),
        }
    }
    for said in said.chunks(FIELDS_AT_ONCE) {
        diesel::replace_into(facts::table)
            .values(said.to_vec())
            .execute(connection)
            .await?;
    }
    for ((about, part, fact), targets) in automatic {
        for targets in targets.chunks(FIELDS_AT_ONCE) {
            let of = facts::instrument_id
                .eq(instrument)
                .and(facts::about.eq(about))
                .and(facts::part.eq(part))
                .and(facts::fact.eq(fact))
                .and(facts::target.eq_any(targets.to_vec()));
            diesel::delete(facts::table.filter(of))
                .execute(connection)
                .await?;
        }
    }
    touch(connection, instrument).await?;
    Ok(())
}

/// Does a change of an instrument that is locked. A [`work::Refusal`] where it cannot be.
pub(crate) async fn change<W: Into<Wish>>(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    label: &str,
    wishes: Vec<W>,
) -> anyhow::Result<Told> {
    let now = load(connection, instrument).await?;
    let change = Change::propose(label, &now, wishes).map_err(|error| work::refusal(error.to_string()))?;
    if change.fields.is_empty() {
        return Ok(Told::default());
    }
    check(connection, instrument, now, &change.fields).await?;
    write(connection, instrument, &change.fields).await?;
    let undone = changes::instrument_id
        .eq(instrument)
        .and(changes::state.eq(UNDONE));
    diesel::update(changes::table.filter(undone))
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
    Ok(Told::of(instrument, "changed", json!({})))
}

/// The same of a plan, part by part.
pub(crate) async fn change_plan(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    label: &str,
    from: &Plan,
    to: &Plan,
) -> anyhow::Result<Told> {
    let base = base_plan(connection, instrument).await?;
    let now = load(connection, instrument).await?;
    let wishes = plan_wishes(&base, &now, from, to).map_err(|error| work::refusal(error.to_string()))?;
    change(connection, instrument, label, wishes).await
}

/// What is said of takes that were made: they are used, and looped where that is known.
pub(crate) fn wishes_for(made: &[MadeTake], ids: &[u64]) -> anyhow::Result<Vec<(Target, Fact, Said)>> {
    let pairs = made.iter().zip(ids);
    let mut wishes = work::in_place_of(pairs.clone().map(|(made, id)| (made.in_place_of, *id)));
    for (made, id) in pairs {
        if let Some(looped) = made.looped {
            let said = Said::Value(serde_json::to_value(looped)?);
            wishes.push((Target::Take(*id), Fact::Loop, said));
        }
        let said = made.said.iter().cloned();
        wishes.extend(said.map(|(fact, value)| (Target::Take(*id), fact, Said::Value(value))));
    }
    Ok(wishes)
}

impl Store {
    /// Everything said of an instrument.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn facts(&self, instrument: u64) -> anyhow::Result<Facts> {
        self.read(async |connection| load(connection, instrument).await)
            .await
    }

    /// One gesture: checked, kept, and told to all pages; with a render, where it may alter samples. The inner error is a sentence for the user.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn change<W: Into<Wish> + Clone>(
        &self,
        instrument: u64,
        label: &str,
        wishes: Vec<W>,
    ) -> anyhow::Result<Result<(), ChangeError>> {
        let wishes: Vec<Wish> = wishes.into_iter().map(Into::into).collect();
        let renders = wishes.iter().any(|wish| wish.fact.is_rendered());
        let done = self
            .write(async |connection| {
                if !lock(connection, instrument).await? {
                    return Err(work::refusal("There is no such instrument."));
                }
                let told = change(connection, instrument, label, wishes.clone()).await?;
                if renders {
                    enqueue_render(connection, instrument).await?;
                }
                Ok(((), told))
            })
            .await;
        refused(done)
    }

    /// Makes one plan another, part by part: what somebody else said of other parts meanwhile stays. The inner error is a sentence for the user.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn change_plan(
        &self,
        instrument: u64,
        label: &str,
        from: &Plan,
        to: &Plan,
    ) -> anyhow::Result<Result<(), ChangeError>> {
        let done = self
            .write(async |connection| {
                if !lock(connection, instrument).await? {
                    return Err(work::refusal("There is no such instrument."));
                }
                Ok(((), change_plan(connection, instrument, label, from, to).await?))
            })
            .await;
        refused(done)
    }

    /// Chooses takes in place of those that they came from, as one change.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn choose_in_place_of(
        &self,
        instrument: u64,
        label: &str,
        pairs: &[(u64, u64)],
    ) -> anyhow::Result<()> {
        let wishes = work::in_place_of(pairs.iter().map(|(from, new)| (Some(*from), *new)));
        self.change(instrument, label, wishes)
            .await?
            .map_err(|error| anyhow::anyhow!(error))
    }

    /// Adds takes and uses each in place of the one that it was made from, by one change: all of it, or nothing.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn use_made(
        &self,
        instrument: u64,
        label: &str,
        made: &[MadeTake],
    ) -> anyhow::Result<Vec<u64>> {
        let new: Vec<NewTake> = made.iter().map(|made| made.take.clone()).collect();
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            let (ids, mut told) = add_takes(connection, instrument, &new).await?;
            told.extend(change(connection, instrument, label, wishes_for(made, &ids)?).await?);
            Ok((ids, told))
        })
        .await
    }

    /// Undoes the newest change, or (`again`) does the last undone one again; `None` where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn step_back(&self, instrument: u64, again: bool) -> anyhow::Result<Option<Undone>> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            let Some((id, label)) = next_of(connection, instrument, again).await? else {
                return Ok((None, Told::default()));
            };
            let fields: String = changes::table
                .find(id)
                .select(changes::fields)
                .first(connection)
                .await?;
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
            check(connection, instrument, now, &applied.set).await?;
            write(connection, instrument, &applied.set).await?;
            diesel::update(changes::table.find(id))
                .set(changes::state.eq(if again { DONE } else { UNDONE }))
                .execute(connection)
                .await?;
            if applied.set.iter().any(|field| field.fact.is_rendered()) {
                enqueue_render(connection, instrument).await?;
            }
            let undone = Undone {
                label: change.label,
                left_alone: applied.left_alone,
            };
            Ok((Some(undone), Told::of(instrument, "changed", json!({}))))
        })
        .await
    }

    /// What Undo and Redo would do.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn history(&self, instrument: u64) -> anyhow::Result<History> {
        self.read(async |connection| history(connection, instrument).await)
            .await
    }
}

/// A refusal is a sentence for the user, not an error.
fn refused<T>(done: anyhow::Result<T>) -> anyhow::Result<Result<T, ChangeError>> {
    match done {
        Ok(done) => Ok(Ok(done)),
        Err(error) => match error.downcast::<work::Refusal>() {
            Ok(work::Refusal(sentence)) => Ok(Err(ChangeError(sentence))),
            Err(error) => Err(error),
        },
    }
}

pub(crate) async fn history(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<History> {
    let label = |next: Option<(u64, String)>| next.map(|(_, label)| label);
    Ok(History {
        undo: label(next_of(connection, instrument, false).await?),
        redo: label(next_of(connection, instrument, true).await?),
    })
}

async fn next_of(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    again: bool,
) -> QueryResult<Option<(u64, String)>> {
    let query = changes::table
        .filter(changes::instrument_id.eq(instrument))
        .select((changes::id, changes::label));
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
