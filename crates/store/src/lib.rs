//! What is kept: facts in MariaDB through Diesel, audio files under their content's hash, long jobs with leases.

mod arriving;
mod audio;
mod brought;
mod changes;
mod claims;
mod connection;
mod editions;
mod events;
mod folder;
mod heard;
mod history;
mod hold;
mod instruments;
mod jobs;
mod kept;
mod library;
mod long_takes;
mod measurements;
mod patterns;
mod runs;
mod schema;
mod shelving;
mod spool;
mod sweep;
mod testing;
mod treated;
mod waiting;
mod whole;

pub use arriving::{About, Arrived, Belongs};
pub use brought::BroughtRow;
pub use changes::{History, Undone};
pub use connection::{is_full, is_locked_out, is_unreachable};
pub use editions::EditionRow;
pub use events::StoredEvent;
pub use folder::{Folder, Scratch};
pub use heard::Looked;
pub use history::Step;
pub use instruments::{InstrumentRow, TakeRow};
pub use jobs::{Ended, Job, JobState, MOST_TRIES};
pub use library::StoreLibrary;
pub use long_takes::{LongTakeRow, NewLongTake};
pub use patterns::PatternRow;
pub use runs::{GoesOn, RunRow};
pub use shelving::Frees;
pub use spool::Spool;
pub use sweep::{RENDERS_KEPT_BYTES, Swept};
pub use testing::TestDatabase;
pub use waiting::{TakenIn, WaitingRow};
pub use whole::{ShelfRow, Whole};
pub use work::{NewTake, Recording, RecordingForm};

use anyhow::Context;
use connection::Pool;
use diesel::migration::MigrationSource;
use diesel::mysql::Mysql;
use diesel_async::RunQueryDsl;
use diesel_async::pooled_connection::deadpool::Object;
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use object_store::ObjectStore;
use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();
/// A database that says nothing for so long at the start is not there.
const FIRST_ANSWER: Duration = Duration::from_secs(10);

/// The database and the audio files.
#[derive(Clone)]
pub struct Store {
    pool: Pool,
    files: Arc<dyn ObjectStore>,
    /// The folder of audio, where that is local.
    local: Option<Arc<Path>>,
    scratch: Arc<Scratch>,
    /// Renders take whole cores: no more at once than there are, so that the page stays alive.
    turns: Arc<Semaphore>,
}

impl Store {
    /// Opens, and brings the tables up to date. Audio lies under `folder/audio` unless `LADDER_AUDIO_URL` names another object store (credentials
    /// by its usual environment variables); what is under way always lies under `folder/spool`.
    ///
    /// # Errors
    /// With a sentence, where the database or the audio cannot be reached.
    pub async fn open(database_url: &str, folder: &Path) -> anyhow::Result<Self> {
        let url = std::env::var("LADDER_AUDIO_URL").ok();
        Self::open_at(database_url, folder, url.as_deref()).await
    }

    /// The same, with audio at a given address.
    ///
    /// # Errors
    /// See [`Store::open`].
    pub async fn open_at(database_url: &str, folder: &Path, audio_url: Option<&str>) -> anyhow::Result<Self> {
        let scratch = Arc::new(Scratch::make(folder)?);
        let (files, local) = audio::files_at(audio_url, folder)?;
        let pool = connection::pool(database_url)?;
        let store = Self {
            pool,
            files,
            local,
            scratch,
            turns: Arc::new(Semaphore::new(
                std::thread::available_parallelism().map_or(1, |n| n.get().div_ceil(2)),
            )),
        };
        tokio::time::timeout(FIRST_ANSWER, store.ask())
            .await
            .unwrap_or_else(|_| {
                Err(anyhow::anyhow!(
                    "something listens at its address and does not answer"
                ))
            })
            .context("the database cannot be reached")?;
        store.migrate().await?;
        Ok(store)
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// Where it does not.
    pub async fn ask(&self) -> anyhow::Result<()> {
        self.read(async move |connection| {
            diesel::sql_query("SELECT 1").execute(connection).await?;
            Ok(())
        })
        .await
    }

    /// Servers that start together bring the tables up to date one after another.
    async fn migrate(&self) -> anyhow::Result<()> {
        let mut connection = self.pool.get().await.context("the database cannot be reached")?;
        diesel::sql_query("SELECT GET_LOCK(CONCAT('ladder ', DATABASE()), 60)")
            .execute(&mut connection)
            .await?;
        let mut harness = diesel_async::AsyncMigrationHarness::new(connection);
        let done = tokio::task::block_in_place(|| {
            let known: HashSet<String> = MigrationSource::<Mysql>::migrations(&MIGRATIONS)?
                .iter()
                .map(|step| step.name().version().to_string())
                .collect();
            let applied = harness.applied_migrations()?;
            let is_newer = applied.iter().any(|step| !known.contains(&step.to_string()));
            if !is_newer {
                harness.run_pending_migrations(MIGRATIONS)?;
            }
            Ok::<_, Box<dyn std::error::Error + Send + Sync>>(!is_newer)
        });
        let done =
            done.map_err(|error| anyhow::anyhow!("the tables could not be brought up to date: {error}"))?;
        anyhow::ensure!(
            done,
            "this database was written by a newer Ladder: start that one, or give this one a folder of its own"
        );
        // The lock goes with its connection.
        drop(Object::take(harness.into_inner()));
        Ok(())
    }

    /// The folder of such a name that instruments are given into, on this machine.
    pub fn given_folder(&self, name: &str) -> std::path::PathBuf {
        self.scratch.given().join(name)
    }

    /// Where this process keeps what is under way.
    pub fn scratch(&self) -> &Scratch {
        &self.scratch
    }
}
