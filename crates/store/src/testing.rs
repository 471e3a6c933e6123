//! Databases of their own for tests.

use anyhow::Context;
use diesel_async::{AsyncConnection, AsyncMysqlConnection, SimpleAsyncConnection};
use std::sync::atomic::{AtomicU32, Ordering};

/// A database that is there for one test and gone after it.
pub struct TestDatabase {
    /// Its address.
    pub url: String,
    server: String,
    name: String,
}

static COUNT: AtomicU32 = AtomicU32::new(0);

impl TestDatabase {
    /// Makes one on the server that `LADDER_TEST_DATABASE_URL` names; `bin/test` sets it.
    pub async fn create() -> anyhow::Result<Self> {
        let server = std::env::var("LADDER_TEST_DATABASE_URL")
            .context("LADDER_TEST_DATABASE_URL is not set: run the tests through bin/test")?;
        Self::create_on(&server).await
    }

    /// Makes one on a server.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn create_on(server: &str) -> anyhow::Result<Self> {
        let server = server.trim_end_matches('/').to_owned();
        let name = format!(
            "ladder_test_{}_{}",
            std::process::id(),
            COUNT.fetch_add(1, Ordering::Relaxed)
        );
        let mut connection = AsyncMysqlConnection::establish(&format!("{server}/")).await?;
        connection
            .batch_execute(&format!("CREATE DATABASE {name} CHARACTER SET utf8mb4"))
            .await?;
        Ok(Self {
            url: format!("{server}/{name}"),
            server,
            name,
        })
    }

    /// Runs statements in it.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn run(&self, statements: &str) -> anyhow::Result<()> {
        let mut connection = AsyncMysqlConnection::establish(&self.url).await?;
        connection.batch_execute(statements).await?;
        Ok(())
    }

    /// Removes it. To be called at the end of a test; a test that panics leaves its database to the temporary server that `bin/test` ends.
    pub async fn remove(self) -> anyhow::Result<()> {
        let mut connection = AsyncMysqlConnection::establish(&format!("{}/", self.server)).await?;
        connection
            .batch_execute(&format!("DROP DATABASE {}", self.name))
            .await?;
        Ok(())
    }
}
