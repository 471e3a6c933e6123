//! Long jobs: what there is to do, what is being done, and how it ended. Who does it is in [`crate::claims`].

use crate::Store;
use crate::events::Told;
use crate::hold::{last_id, lock};
use crate::schema::jobs;
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Datetime, Nullable};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::{Value, json};
use work::JobKind;

/// So often a job is tried.
pub const MOST_TRIES: u32 = 3;

/// Where a job stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JobState {
    /// Nobody has it yet.
    Waiting,
    /// Somebody works on it.
    Running,
    /// It has a result.
    Done,
    /// It has an error.
    Failed,
    /// The user did not want it any more.
    Cancelled,
}

impl JobState {
    const ALL: [Self; 5] = [
        Self::Waiting,
        Self::Running,
        Self::Done,
        Self::Failed,
        Self::Cancelled,
    ];

    /// As it is kept and sent.
    pub fn name(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Cancelled => "cancelled",
        }
    }

    fn of(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.name() == name)
    }

    /// Whether nothing more comes of it.
    pub fn has_ended(self) -> bool {
        !matches!(self, Self::Waiting | Self::Running)
    }
}

/// A job as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Job {
    /// Its number.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// What it does.
    pub kind: JobKind,
    /// What it is given.
    pub input: Value,
    /// See [`JobState`].
    pub state: JobState,
    /// 0 to 1.
    pub share: f64,
    /// What came out.
    pub result: Option<Value>,
    /// What went wrong, as a sentence.
    pub error: Option<String>,
    /// How often it was begun.
    pub tries: u32,
}

/// How a job ended that did not end well.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ended {
    /// Trying again would not help.
    Refused(String),
    /// Something went wrong that may not go wrong again.
    Failed(String),
    /// What it needs was away: this try does not count.
    Unreachable,
}

#[derive(Queryable)]
pub(crate) struct Columns {
    pub(crate) id: u64,
    instrument_id: u64,
    kind: String,
    input: String,
    state: String,
    share: f64,
    result: Option<String>,
    error: Option<String>,
    tries: u32,
}

pub(crate) type Selected = (
    jobs::id,
    jobs::instrument_id,
    jobs::kind,
    jobs::input,
    jobs::state,
    jobs::share,
    jobs::result,
    jobs::error,
    jobs::tries,
);

pub(crate) const COLUMNS: Selected = (
    jobs::id,
    jobs::instrument_id,
    jobs::kind,
    jobs::input,
    jobs::state,
    jobs::share,
    jobs::result,
    jobs::error,
    jobs::tries,
);

impl Columns {
    pub(crate) fn job(self) -> anyhow::Result<Job> {
        Ok(Job {
            id: self.id,
            instrument_id: self.instrument_id,
            kind: JobKind::of(&self.kind)
                .ok_or_else(|| anyhow::anyhow!("nobody here knows the job «{}»", self.kind))?,
            input: serde_json::from_str(&self.input)?,
            state: JobState::of(&self.state).ok_or_else(|| anyhow::anyhow!("a job is «{}»", self.state))?,
            share: self.share,
            result: self.result.as_deref().map(serde_json::from_str).transpose()?,
            error: self.error,
            tries: self.tries,
        })
    }
}

/// The lease of a job that somebody works on: half a minute from now, by the database's clock.
pub(crate) fn lease() -> diesel::expression::SqlLiteral<Nullable<Datetime>> {
    sql("NOW(3) + INTERVAL 30 SECOND")
}

pub(crate) fn now() -> diesel::expression::SqlLiteral<Nullable<Datetime>> {
    sql("NOW(3)")
}

pub(crate) async fn enqueue(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    kind: JobKind,
    input: &Value,
) -> anyhow::Result<u64> {
    diesel::insert_into(jobs::table)
        .values((
            jobs::instrument_id.eq(instrument),
            jobs::kind.eq(kind.name()),
            jobs::input.eq(input.to_string()),
        ))
        .execute(connection)
        .await?;
    Ok(last_id(connection).await?)
}

/// Asks for a render, unless one waits already.
pub(crate) async fn enqueue_render(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<()> {
    let waiting: i64 = jobs::table
        .filter(jobs::instrument_id.eq(instrument))
        .filter(jobs::kind.eq(JobKind::Render.name()))
        .filter(jobs::state.eq(JobState::Waiting.name()))
        .count()
        .get_result(connection)
        .await?;
    if waiting == 0 {
        enqueue(connection, instrument, JobKind::Render, &json!({})).await?;
    }
    Ok(())
}

/// Pages show every job but the measuring of takes, which tells of itself where it ends well.
pub(crate) fn told_of(job: &Job, state: JobState) -> Told {
    if job.kind == JobKind::Measure && state != JobState::Failed {
        return Told::default();
    }
    Told::of(job.instrument_id, "job", json!({ "job": job.id }))
}

impl Store {
    /// Adds a job.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn enqueue(&self, instrument: u64, kind: JobKind, input: &Value) -> anyhow::Result<u64> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            let id = enqueue(connection, instrument, kind, input).await?;
            Ok((id, Told::of(instrument, "job", json!({ "job": id }))))
        })
        .await
    }

    /// Asks for a render, unless one waits already.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn enqueue_render(&self, instrument: u64) -> anyhow::Result<()> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            enqueue_render(connection, instrument).await?;
            Ok(((), Told::default()))
        })
        .await
    }

    /// Asks to be listened to, unless that is under way; `of` is a name of what there is to hear. What was cancelled or failed is not begun again by itself, until
    /// there is something else to hear, or somebody wants it `again`.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn enqueue_listen(&self, instrument: u64, of: &str, again: bool) -> anyhow::Result<()> {
        self.enqueue_once(instrument, JobKind::Listen, &json!({ "of": of }), again)
            .await
    }

    /// Asks for what follows from what it is given, unless a job of that kind is under way. What was cancelled or failed is not begun again by itself, until it is given
    /// something else, or somebody wants it `again`.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn enqueue_once(
        &self,
        instrument: u64,
        kind: JobKind,
        input: &Value,
        again: bool,
    ) -> anyhow::Result<()> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            let newest: Option<Columns> = jobs::table
                .filter(jobs::instrument_id.eq(instrument))
                .filter(jobs::kind.eq(kind.name()))
                .order(jobs::id.desc())
                .select(COLUMNS)
                .first(connection)
                .await
                .optional()?;
            let newest = newest.map(Columns::job).transpose()?;
            let is_known =
                newest.is_some_and(|job| !job.state.has_ended() || (job.input == *input && !again));
            if is_known {
                return Ok(((), Told::default()));
            }
            let id = enqueue(connection, instrument, kind, input).await?;
            Ok(((), Told::of(instrument, "job", json!({ "job": id }))))
        })
        .await
    }

    /// Cancels a job that has not ended; gives it as it stands then.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn cancel(&self, id: u64) -> anyhow::Result<Option<Job>> {
        self.end_as(id, &[JobState::Waiting, JobState::Running], JobState::Cancelled)
            .await
    }

    /// Tries a job again that has failed; gives it as it stands then.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn try_again(&self, id: u64) -> anyhow::Result<Option<Job>> {
        self.end_as(id, &[JobState::Failed], JobState::Waiting).await
    }

    async fn end_as(&self, id: u64, from: &[JobState], to: JobState) -> anyhow::Result<Option<Job>> {
        let names: Vec<&str> = from.iter().map(|state| state.name()).collect();
        self.write(async |connection| {
            let rows =
                diesel::update(jobs::table.filter(jobs::id.eq(id).and(jobs::state.eq_any(names.clone()))))
                    .set((
                        jobs::state.eq(to.name()),
                        jobs::tries.eq(0),
                        jobs::share.eq(0.0),
                        jobs::not_before.eq(sql::<Nullable<Datetime>>("NULL")),
                        jobs::ended_at.eq(if to.has_ended() { now() } else { sql("NULL") }),
                    ))
                    .execute(connection)
                    .await?;
            let row: Option<Columns> = jobs::table
                .find(id)
                .select(COLUMNS)
                .first(connection)
                .await
                .optional()?;
            let job = row.map(Columns::job).transpose()?;
            let told = job.as_ref().filter(|_| rows == 1);
            let told = told.map_or_else(Told::default, |job| {
                Told::of(job.instrument_id, "job", json!({ "job": id }))
            });
            Ok((job, told))
        })
        .await
    }

    /// One job.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn job(&self, id: u64) -> anyhow::Result<Option<Job>> {
        let row: Option<Columns> = self
            .read(async |connection| {
                Ok(jobs::table
                    .find(id)
                    .select(COLUMNS)
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        row.map(Columns::job).transpose()
    }

    /// An instrument's newest jobs of some kinds, newest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn jobs(&self, instrument: u64, kinds: &[JobKind]) -> anyhow::Result<Vec<Job>> {
        let names: Vec<&str> = kinds.iter().map(|kind| kind.name()).collect();
        let rows: Vec<Columns> = self
            .read(async |connection| {
                Ok(jobs::table
                    .filter(jobs::instrument_id.eq(instrument))
                    .filter(jobs::kind.eq_any(names.clone()))
                    .order(jobs::id.desc())
                    .limit(20)
                    .select(COLUMNS)
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter().map(Columns::job).collect()
    }

    /// What the newest jobs of a kind that ended well were given and what came out, whosever they are, newest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn done(&self, kind: JobKind, most: i64) -> anyhow::Result<Vec<(Value, Value)>> {
        let rows: Vec<(String, Option<String>)> = self
            .read(async |connection| {
                Ok(jobs::table
                    .filter(jobs::kind.eq(kind.name()))
                    .filter(jobs::state.eq(JobState::Done.name()))
                    .order(jobs::id.desc())
                    .limit(most)
                    .select((jobs::input, jobs::result))
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter()
            .filter_map(|(input, result)| Some((input, result?)))
            .map(|(input, result)| Ok((serde_json::from_str(&input)?, serde_json::from_str(&result)?)))
            .collect()
    }

    /// Jobs that are running for some instruments, but those that measure.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn running(&self, instruments: &[u64]) -> anyhow::Result<Vec<Job>> {
        let rows: Vec<Columns> = self
            .read(async |connection| {
                Ok(jobs::table
                    .filter(jobs::state.eq(JobState::Running.name()))
                    .filter(jobs::instrument_id.eq_any(instruments.to_vec()))
                    .filter(jobs::kind.ne(JobKind::Measure.name()))
                    .select(COLUMNS)
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter().map(Columns::job).collect()
    }

    /// Takes of an instrument that could not be measured, with the jobs that tried and what went wrong.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn unmeasured(&self, instrument: u64) -> anyhow::Result<Vec<Job>> {
        let rows: Vec<Columns> = self
            .read(async |connection| {
                Ok(jobs::table
                    .filter(jobs::instrument_id.eq(instrument))
                    .filter(jobs::kind.eq(JobKind::Measure.name()))
                    .filter(jobs::state.eq(JobState::Failed.name()))
                    .order(jobs::id)
                    .select(COLUMNS)
                    .load(connection)
                    .await?)
            })
            .await?;
        rows.into_iter().map(Columns::job).collect()
    }
}
