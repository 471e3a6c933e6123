//! Long jobs: claimed in one short statement, held by a lease, finished conditionally.

use crate::Store;
use crate::instruments::last_id;
use crate::schema::jobs;
use chrono::{NaiveDateTime, TimeDelta, Utc};
use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, RunQueryDsl};
use serde_json::Value;

const LEASE: TimeDelta = TimeDelta::seconds(30);

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
}

/// A job as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Job {
    /// Its number.
    pub id: u64,
    /// Whose.
    pub instrument_id: u64,
    /// `measure` or `export`.
    pub kind: String,
    /// What it is given.
    pub input: Value,
    /// See [`JobState`].
    pub state: String,
    /// 0 to 1.
    pub share: f64,
    /// What came out.
    pub result: Option<Value>,
    /// What went wrong, as a sentence.
    pub error: Option<String>,
}

type Columns = (
    u64,
    u64,
    String,
    String,
    String,
    String,
    Option<NaiveDateTime>,
    f64,
    Option<String>,
    Option<String>,
);

fn job_of(
    (id, instrument_id, kind, input, state, _, _, share, result, error): Columns,
) -> anyhow::Result<Job> {
    let result = result.as_deref().map(serde_json::from_str).transpose()?;
    Ok(Job {
        id,
        instrument_id,
        kind,
        input: serde_json::from_str(&input)?,
        state,
        share,
        result,
        error,
    })
}

impl Store {
    pub(crate) async fn enqueue_on(
        &self,
        connection: &mut AsyncMysqlConnection,
        instrument: u64,
        kind: &str,
        input: &Value,
    ) -> anyhow::Result<u64> {
        diesel::insert_into(jobs::table)
            .values((
                jobs::instrument_id.eq(instrument),
                jobs::kind.eq(kind),
                jobs::input.eq(input.to_string()),
            ))
            .execute(connection)
            .await?;
        Ok(last_id(connection).await?)
    }

    /// Adds a job.
    pub async fn enqueue(&self, instrument: u64, kind: &str, input: &Value) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        let id = self.enqueue_on(&mut connection, instrument, kind, input).await?;
        self.append_event(&mut connection, instrument, "job", &format!("{{\"job\":{id}}}"))
            .await?;
        Ok(id)
    }

    /// Claims the oldest job that nobody holds, or whose holder has gone.
    pub async fn claim(&self, holder: &str) -> anyhow::Result<Option<Job>> {
        let mut connection = self.connection().await?;
        let holder = holder.to_owned();
        connection
            .transaction(async move |connection| {
                let now = Utc::now().naive_utc();
                let free = jobs::state
                    .eq("waiting")
                    .or(jobs::state.eq("running").and(jobs::lease_until.lt(now)));
                let row: Option<Columns> = jobs::table
                    .filter(free)
                    .order(jobs::id)
                    .for_update()
                    .skip_locked()
                    .first(connection)
                    .await
                    .optional()?;
                let Some(row) = row else { return Ok(None) };
                diesel::update(jobs::table.find(row.0))
                    .set((
                        jobs::state.eq("running"),
                        jobs::holder.eq(&holder),
                        jobs::lease_until.eq(now + LEASE),
                    ))
                    .execute(connection)
                    .await?;
                job_of(row).map(Some)
            })
            .await
    }

    /// Renews the lease and tells how far it is; false where the job is no longer this holder's, or was cancelled.
    pub async fn renew(&self, job: &Job, holder: &str, share: f64) -> anyhow::Result<bool> {
        let mut connection = self.connection().await?;
        let held = jobs::id
            .eq(job.id)
            .and(jobs::holder.eq(holder))
            .and(jobs::state.eq("running"));
        let until = Utc::now().naive_utc() + LEASE;
        let rows = diesel::update(jobs::table.filter(held))
            .set((jobs::lease_until.eq(until), jobs::share.eq(share)))
            .execute(&mut connection)
            .await?;
        self.tell_of(&mut connection, job).await?;
        Ok(rows == 1)
    }

    /// Pages show every job but the measuring of takes, which tells of itself.
    async fn tell_of(&self, connection: &mut AsyncMysqlConnection, job: &Job) -> anyhow::Result<()> {
        if job.kind == "measure" {
            return Ok(());
        }
        let body = serde_json::json!({ "job": job.id }).to_string();
        self.append_event(connection, job.instrument_id, "job", &body)
            .await
    }

    /// Ends a job, if this holder still has it; two never finish one.
    pub async fn finish(
        &self,
        job: &Job,
        holder: &str,
        outcome: Result<Value, String>,
    ) -> anyhow::Result<bool> {
        let mut connection = self.connection().await?;
        let held = jobs::id
            .eq(job.id)
            .and(jobs::holder.eq(holder))
            .and(jobs::state.eq("running"));
        let (state, result, error) = match outcome {
            Ok(value) => (JobState::Done, Some(value.to_string()), None),
            Err(sentence) => (JobState::Failed, None, Some(sentence)),
        };
        let rows = diesel::update(jobs::table.filter(held))
            .set((
                jobs::state.eq(state.name()),
                jobs::share.eq(1.0),
                jobs::result.eq(result),
                jobs::error.eq(error),
            ))
            .execute(&mut connection)
            .await?;
        self.tell_of(&mut connection, job).await?;
        Ok(rows == 1)
    }

    /// Cancels a job that has not ended.
    pub async fn cancel(&self, id: u64) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::update(jobs::table.filter(jobs::id.eq(id).and(jobs::state.eq_any(["waiting", "running"]))))
            .set(jobs::state.eq(JobState::Cancelled.name()))
            .execute(&mut connection)
            .await?;
        Ok(())
    }

    /// One job.
    pub async fn job(&self, id: u64) -> anyhow::Result<Option<Job>> {
        let mut connection = self.connection().await?;
        let row: Option<Columns> = jobs::table.find(id).first(&mut connection).await.optional()?;
        row.map(job_of).transpose()
    }

    /// An instrument's newest jobs of a kind, newest first.
    pub async fn jobs(&self, instrument: u64, kind: &str) -> anyhow::Result<Vec<Job>> {
        let mut connection = self.connection().await?;
        let rows: Vec<Columns> = jobs::table
            .filter(jobs::instrument_id.eq(instrument).and(jobs::kind.eq(kind)))
            .order(jobs::id.desc())
            .limit(20)
            .load(&mut connection)
            .await?;
        rows.into_iter().map(job_of).collect()
    }
}
