//! Who holds a job: claimed in one short statement, held by a lease that goes by the database's clock, ended in one transaction with what it writes.

use crate::Store;
use crate::changes::{change, wishes_for};
use crate::events::Told;
use crate::hold::lock;
use crate::instruments::add_takes;
use crate::jobs::{COLUMNS, Columns, Ended, Job, JobState, MOST_TRIES, enqueue_render, lease, now, told_of};
use crate::schema::jobs;
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Datetime, Nullable};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{Fact, Said, Target};
use serde_json::{Value, json};
use work::{Effect, Outcome};

impl Store {
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
        Effect::Measured(measured) => crate::measurements::put(connection, instrument, measured).await?,
        Effect::MeasuredAgain { label, all } => {
            let mut told = Told::default();
            for measured in all {
                told.extend(crate::measurements::put(connection, instrument, measured).await?);
            }
            let wishes = all
                .iter()
                .map(|of| {
                    let version = Said::Value(of.facts.version.into());
                    (Target::Take(of.take), Fact::MeasuredBy, version)
                })
                .collect();
            told.extend(change(connection, instrument, label, wishes).await?);
            enqueue_render(connection, instrument).await?;
            told
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
        Effect::Takes { label, made, wishes } => {
            let new: Vec<_> = made.iter().map(|made| made.take.clone()).collect();
            let (ids, mut told) = add_takes(connection, instrument, &new).await?;
            let mut all = wishes_for(made, &ids)?;
            all.extend(wishes.iter().cloned());
            told.extend(change(connection, instrument, label, all).await?);
            told
        }
        Effect::Edition(of) => {
            let (told, made) = crate::editions::add(connection, instrument, of).await?;
            result = made;
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
