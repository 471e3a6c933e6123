//! Long jobs: claimed in one short statement, held by a lease that goes by the database's clock, ended in one transaction with what they write.

use crate::Store;
use crate::changes::{change, wishes_for};
use crate::events::Told;
use crate::instruments::{add_takes, last_id, lock};
use crate::schema::jobs;
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Datetime, Nullable};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use serde_json::{Value, json};
use work::{Effect, JobKind, Outcome};

/// So often a job is tried.
const MOST_TRIES: u32 = 3;

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
struct Columns {
    id: u64,
    instrument_id: u64,
    kind: String,
    input: String,
    state: String,
    share: f64,
    result: Option<String>,
    error: Option<String>,
    tries: u32,
}

type Selected = (
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

const COLUMNS: Selected = (
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
    fn job(self) -> anyhow::Result<Job> {
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
fn lease() -> diesel::expression::SqlLiteral<Nullable<Datetime>> {
    sql("NOW(3) + INTERVAL 30 SECOND")
}

fn now() -> diesel::expression::SqlLiteral<Nullable<Datetime>> {
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
fn told_of(job: &Job, state: JobState) -> Told {
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

    /// Claims the oldest job whose holder has gone, or else that nobody holds. One that broke off for the third time is not begun again: it has
    /// failed.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn claim(&self, holder: &str) -> anyhow::Result<Option<Job>> {
        self.write(async |connection| {
            let lapsed: Option<Columns> = jobs::table
                .filter(jobs::state.eq(JobState::Running.name()))
                .filter(jobs::lease_until.lt(now()))
                .order(jobs::id)
                .select(COLUMNS)
                .for_update()
                .skip_locked()
                .first(connection)
                .await
                .optional()?;
            let free = match lapsed {
                Some(lapsed) => Some(lapsed),
                None => jobs::table
                    .filter(jobs::state.eq(JobState::Waiting.name()))
                    .filter(jobs::not_before.is_null().or(jobs::not_before.le(now())))
                    .order(jobs::id)
                    .select(COLUMNS)
                    .for_update()
                    .skip_locked()
                    .first(connection)
                    .await
                    .optional()?,
            };
            let Some(columns) = free else {
                return Ok((None, Told::default()));
            };
            let id = columns.id;
            let job = match columns.job() {
                Ok(job) if job.tries < MOST_TRIES => job,
                broken => {
                    let sentence = match &broken {
                        Ok(_) => {
                            "It broke off three times, for a reason that was not left behind.".to_owned()
                        }
                        Err(error) => format!("{error:#}"),
                    };
                    diesel::update(jobs::table.find(id))
                        .set((
                            jobs::state.eq(JobState::Failed.name()),
                            jobs::error.eq(sentence),
                            jobs::ended_at.eq(now()),
                        ))
                        .execute(connection)
                        .await?;
                    let told = broken.map_or_else(|_| Told::default(), |job| told_of(&job, JobState::Failed));
                    return Ok((None, told));
                }
            };
            diesel::update(jobs::table.find(id))
                .set((
                    jobs::state.eq(JobState::Running.name()),
                    jobs::holder.eq(holder),
                    jobs::lease_until.eq(lease()),
                    jobs::tries.eq(job.tries + 1),
                ))
                .execute(connection)
                .await?;
            let told = told_of(&job, JobState::Running);
            let job = Job {
                tries: job.tries + 1,
                state: JobState::Running,
                ..job
            };
            Ok((Some(job), told))
        })
        .await
    }

    /// Renews the lease and notes how far it is; false where the job is no longer this holder's, or was cancelled.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn renew(&self, job: &Job, holder: &str, share: f64) -> anyhow::Result<bool> {
        self.write(async |connection| {
            let rows = diesel::update(jobs::table.filter(held(job.id, holder)))
                .set((jobs::lease_until.eq(lease()), jobs::share.eq(share)))
                .execute(connection)
                .await?;
            Ok((rows == 1, Told::default()))
        })
        .await
    }

    /// Ends a job well, if this holder still has it, with all that it writes: both or neither. False where it was not its any more.
    ///
    /// # Errors
    /// Those of the database, and where what it writes does not fit any more.
    pub async fn finish(&self, job: &Job, holder: &str, outcome: &Outcome) -> anyhow::Result<bool> {
        self.write(async |connection| {
            lock(connection, job.instrument_id).await?;
            let mine: Option<u64> = jobs::table
                .filter(held(job.id, holder))
                .select(jobs::id)
                .for_update()
                .first(connection)
                .await
                .optional()?;
            if mine.is_none() {
                return Ok((false, Told::default()));
            }
            let (told, result) = take_effect(connection, job, outcome).await?;
            diesel::update(jobs::table.find(job.id))
                .set((
                    jobs::state.eq(JobState::Done.name()),
                    jobs::share.eq(1.0),
                    jobs::result.eq(Some(result.to_string())),
                    jobs::error.eq(None::<String>),
                    jobs::ended_at.eq(now()),
                ))
                .execute(connection)
                .await?;
            let mut all = told;
            all.extend(told_of(job, JobState::Done));
            Ok((true, all))
        })
        .await
    }

    /// Ends a try that did not end well: the job waits for its next, or has failed with a sentence. False where it was not this holder's any more.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn give_up(&self, job: &Job, holder: &str, ended: &Ended) -> anyhow::Result<bool> {
        let last = match ended {
            Ended::Refused(sentence) => Some(sentence),
            Ended::Failed(sentence) if job.tries >= MOST_TRIES => Some(sentence),
            _ => None,
        };
        // What was away does not count; what failed waits longer each time.
        let (tries, wait_s) = match ended {
            Ended::Unreachable => (job.tries.saturating_sub(1), 1),
            _ => (job.tries, 2 * job.tries * job.tries),
        };
        self.write(async |connection| {
            let of_mine = diesel::update(jobs::table.filter(held(job.id, holder)));
            let rows = match last {
                Some(sentence) => {
                    of_mine
                        .set((
                            jobs::state.eq(JobState::Failed.name()),
                            jobs::error.eq(Some(sentence)),
                            jobs::ended_at.eq(now()),
                        ))
                        .execute(connection)
                        .await?
                }
                None => {
                    let later = sql::<Nullable<Datetime>>(&format!("NOW(3) + INTERVAL {wait_s} SECOND"));
                    of_mine
                        .set((
                            jobs::state.eq(JobState::Waiting.name()),
                            jobs::tries.eq(tries),
                            jobs::not_before.eq(later),
                        ))
                        .execute(connection)
                        .await?
                }
            };
            let state = last.map_or(JobState::Waiting, |_| JobState::Failed);
            Ok((rows == 1, told_of(job, state)))
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

    /// Frees what an earlier process of a folder held: its jobs can be begun again at once.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn free_jobs(&self, folder: &str) -> anyhow::Result<usize> {
        let mine = format!("{folder}/%");
        self.write(async |connection| {
            let freed = diesel::update(
                jobs::table
                    .filter(jobs::state.eq(JobState::Running.name()))
                    .filter(jobs::holder.like(&mine)),
            )
            .set(jobs::lease_until.eq(sql::<Nullable<Datetime>>("NOW(3) - INTERVAL 1 SECOND")))
            .execute(connection)
            .await?;
            Ok((freed, Told::default()))
        })
        .await
    }
}

/// Whether a job is this holder's.
#[diesel::dsl::auto_type]
fn held<'a>(id: u64, holder: &'a str) -> _ {
    let state: &'static str = "running";
    jobs::id
        .eq(id)
        .and(jobs::holder.eq(holder))
        .and(jobs::state.eq(state))
}

/// Writes what a job ends with; gives what its page is told.
async fn take_effect(
    connection: &mut AsyncMysqlConnection,
    job: &Job,
    outcome: &Outcome,
) -> anyhow::Result<(Told, Value)> {
    let instrument = job.instrument_id;
    let mut result = outcome.result.clone();
    let told = match &outcome.effect {
        Effect::Nothing => Told::default(),
        Effect::Measured {
            take,
            facts,
            thumbnail,
            judged,
        } => {
            crate::measurements::put(connection, instrument, *take, facts, thumbnail, judged.as_ref()).await?
        }
        Effect::LongTake { name, recording } => {
            let new = crate::NewLongTake {
                name: name.clone(),
                recording: recording.clone(),
                spool: None,
                broken_off: false,
            };
            let (id, told) = crate::long_takes::add(connection, instrument, &new).await?;
            result = json!({ "long_take": id });
            told
        }
        Effect::Takes { label, made } => {
            let new: Vec<_> = made.iter().map(|made| made.take.clone()).collect();
            let (ids, mut told) = add_takes(connection, instrument, &new).await?;
            told.extend(change(connection, instrument, label, wishes_for(made, &ids)?).await?);
            told
        }
        Effect::Change { label, wishes } => {
            let told = change(connection, instrument, label, wishes.clone()).await?;
            // What measuring did not find is judged as it is now cleaned.
            enqueue_render(connection, instrument).await?;
            told
        }
    };
    Ok((told, result))
}
