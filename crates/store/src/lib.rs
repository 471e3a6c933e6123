//! What is kept: facts in MariaDB through Diesel, audio files under their content's hash, long jobs with leases.

mod audio;
mod changes;
mod events;
mod instruments;
mod jobs;
mod long_takes;
mod patterns;
mod schema;
mod spool;
mod testing;
mod treated;
mod waiting;

pub use changes::{History, Undone};
pub use events::StoredEvent;
pub use instruments::{InstrumentRow, NewTake, TakeRow};
pub use jobs::{Job, JobState};
pub use long_takes::LongTakeRow;
pub use patterns::PatternRow;
pub use spool::{RecordingForm, Spool};
pub use testing::TestDatabase;
pub use treated::ByTreatment;
pub use waiting::WaitingRow;

use anyhow::Context;
use diesel_async::AsyncMysqlConnection;
use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::deadpool::{Object, Pool};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use object_store::ObjectStore;
use std::path::{Path, PathBuf};
use std::sync::Arc;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// The database and the audio files.
#[derive(Clone)]
pub struct Store {
    pool: Pool<AsyncMysqlConnection>,
    files: Arc<dyn ObjectStore>,
    spool: PathBuf,
}

impl Store {
    /// Opens, and brings the tables up to date. Audio lies under `folder/audio` unless `LADDER_AUDIO_URL` names another object store;
    /// the spool of what is arriving always lies under `folder/spool`.
    pub async fn open(database_url: &str, folder: &Path) -> anyhow::Result<Self> {
        let (audio, spool) = (folder.join("audio"), folder.join("spool"));
        std::fs::create_dir_all(&audio)?;
        std::fs::create_dir_all(&spool)?;
        let files: Arc<dyn ObjectStore> = match std::env::var("LADDER_AUDIO_URL") {
            Ok(url) => {
                let url = url.parse().context("LADDER_AUDIO_URL is no address")?;
                let (files, prefix) = object_store::parse_url_opts(&url, std::env::vars())?;
                Arc::new(object_store::prefix::PrefixStore::new(files, prefix))
            }
            Err(_) => Arc::new(object_store::local::LocalFileSystem::new_with_prefix(&audio)?),
        };
        let manager = AsyncDieselConnectionManager::<AsyncMysqlConnection>::new(database_url);
        let pool = Pool::builder(manager).max_size(12).build()?;
        let connection = pool.get().await.context("the database cannot be reached")?;
        let mut harness = diesel_async::AsyncMigrationHarness::new(connection);
        tokio::task::block_in_place(|| harness.run_pending_migrations(MIGRATIONS).map(|_| ()))
            .map_err(|error| anyhow::anyhow!("the tables could not be brought up to date: {error}"))?;
        Ok(Self { pool, files, spool })
    }

    pub(crate) async fn connection(&self) -> anyhow::Result<Object<AsyncMysqlConnection>> {
        self.pool.get().await.context("the database cannot be reached")
    }

    /// The folder in which audio arrives.
    pub fn spool_folder(&self) -> &Path {
        &self.spool
    }
}
