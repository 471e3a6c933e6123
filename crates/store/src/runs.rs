//! Recordings that are going: each belongs to the server that holds its lease, and goes on elsewhere only once that has lapsed.

use crate::Store;
use crate::events::Told;
use crate::hold::lock;
use crate::schema::{runs, sound_checks};
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Datetime, Nullable};
use diesel_async::RunQueryDsl;
use instrument::SoundCheck;
use serde_json::json;

/// Where a recording goes on when its server has gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GoesOn {
    /// At any server: its rig is simulated.
    Anywhere,
    /// At the next start of its folder's server, where what arrived of it lies: a page's, or one that a full disk stopped.
    Here,
    /// Nowhere: a sound check, some chosen cells.
    Nowhere,
}

impl GoesOn {
    fn name(self) -> &'static str {
        match self {
            Self::Anywhere => "anywhere",
            Self::Here => "here",
            Self::Nowhere => "nowhere",
        }
    }
}

/// A recording that was going.
#[derive(Debug, Clone, PartialEq, Eq, Queryable)]
pub struct RunRow {
    /// Whose.
    pub instrument_id: u64,
    /// How it was begun, as JSON.
    pub settings: String,
}

fn lease() -> diesel::expression::SqlLiteral<Nullable<Datetime>> {
    sql("NOW(3) + INTERVAL 20 SECOND")
}

fn lapsed() -> diesel::expression::SqlLiteral<Bool> {
    sql("(lease_until IS NULL OR lease_until < NOW(3))")
}

impl Store {
    /// Takes hold of an instrument for a recording; false where another server holds it.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn hold_run(
        &self,
        instrument: u64,
        holder: &str,
        settings: &str,
        goes_on: GoesOn,
    ) -> anyhow::Result<bool> {
        self.write(async |connection| {
            anyhow::ensure!(
                lock(connection, instrument).await?,
                "There is no such instrument."
            );
            let others: i64 = runs::table
                .filter(runs::instrument_id.eq(instrument))
                .filter(runs::holder.ne(holder))
                .filter(runs::lease_until.gt(sql::<Nullable<Datetime>>("NOW(3)")))
                .count()
                .get_result(connection)
                .await?;
            if others > 0 {
                return Ok((false, Told::default()));
            }
            diesel::replace_into(runs::table)
                .values((
                    runs::instrument_id.eq(instrument),
                    runs::settings.eq(settings),
                    runs::holder.eq(holder),
                    runs::lease_until.eq(lease()),
                    runs::goes_on.eq(goes_on.name()),
                ))
                .execute(connection)
                .await?;
            Ok((true, Told::of(instrument, "run", json!({}))))
        })
        .await
    }

    /// Goes on holding all recordings of a server; gives their instruments.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn renew_runs(&self, holder: &str) -> anyhow::Result<Vec<u64>> {
        self.write(async |connection| {
            diesel::update(runs::table.filter(runs::holder.eq(holder)))
                .set(runs::lease_until.eq(lease()))
                .execute(connection)
                .await?;
            let held = runs::table
                .filter(runs::holder.eq(holder))
                .select(runs::instrument_id)
                .load(connection)
                .await?;
            Ok((held, Told::default()))
        })
        .await
    }

    /// A recording has ended: nobody goes on with it.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn end_run(&self, instrument: u64, holder: &str) -> anyhow::Result<()> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            diesel::delete(runs::table.find(instrument).filter(runs::holder.eq(holder)))
                .execute(connection)
                .await?;
            Ok(((), Told::of(instrument, "run", json!({}))))
        })
        .await
    }

    /// A recording was stopped by what its server lacks: it goes on at that folder's next start, not before.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_run_aside(&self, instrument: u64, holder: &str) -> anyhow::Result<()> {
        self.write(async |connection| {
            diesel::update(runs::table.find(instrument).filter(runs::holder.eq(holder)))
                .set((
                    runs::goes_on.eq(GoesOn::Here.name()),
                    runs::lease_until.eq(sql::<Nullable<Datetime>>("NULL")),
                ))
                .execute(connection)
                .await?;
            Ok(((), Told::of(instrument, "run", json!({}))))
        })
        .await
    }

    /// Frees what an earlier process of a folder held, and forgets what of it goes on nowhere.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn free_runs(&self, folder: &str) -> anyhow::Result<()> {
        let mine = format!("{folder}/%");
        self.write(async |connection| {
            diesel::delete(
                runs::table
                    .filter(runs::holder.like(&mine))
                    .filter(runs::goes_on.eq(GoesOn::Nowhere.name())),
            )
            .execute(connection)
            .await?;
            diesel::update(runs::table.filter(runs::holder.like(&mine)))
                .set(runs::lease_until.eq(sql::<Nullable<Datetime>>("NULL")))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }

    /// Takes over recordings that nobody holds any more: those that go on anywhere and, where a folder is named, those that go on there.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn take_over_runs(&self, holder: &str, folder: Option<&str>) -> anyhow::Result<Vec<RunRow>> {
        let mine = folder.map(|folder| format!("{folder}/%"));
        self.write(async |connection| {
            let anywhere = runs::goes_on.eq(GoesOn::Anywhere.name());
            let free = runs::table
                .filter(lapsed())
                .select((runs::instrument_id, runs::settings))
                .for_update()
                .skip_locked();
            let rows: Vec<RunRow> = match &mine {
                Some(mine) => {
                    let here = runs::goes_on.eq(GoesOn::Here.name()).and(runs::holder.like(mine));
                    free.filter(anywhere.or(here)).load(connection).await?
                }
                None => free.filter(anywhere).load(connection).await?,
            };
            let ids: Vec<u64> = rows.iter().map(|row| row.instrument_id).collect();
            if !ids.is_empty() {
                diesel::update(runs::table.filter(runs::instrument_id.eq_any(ids)))
                    .set((runs::holder.eq(holder), runs::lease_until.eq(lease())))
                    .execute(connection)
                    .await?;
            }
            // What goes on nowhere, and whose server has been gone for long, is forgotten.
            diesel::delete(
                runs::table
                    .filter(lapsed())
                    .filter(runs::goes_on.eq(GoesOn::Nowhere.name())),
            )
            .execute(connection)
            .await?;
            Ok((rows, Told::default()))
        })
        .await
    }

    /// Keeps what was last measured of an instrument's rig.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_sound_check(&self, instrument: u64, check: &SoundCheck) -> anyhow::Result<()> {
        let text = serde_json::to_string(check)?;
        self.write(async |connection| {
            lock(connection, instrument).await?;
            diesel::replace_into(sound_checks::table)
                .values((
                    sound_checks::instrument_id.eq(instrument),
                    sound_checks::sound_check.eq(&text),
                ))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }
}
