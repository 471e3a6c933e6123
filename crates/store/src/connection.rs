//! Connections: lent for a piece of work, given back only when that has come to its end.

use crate::Store;
use crate::events::Told;
use anyhow::Context;
use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::deadpool::{self, Object};
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use std::time::Duration;

pub(crate) type Pool = deadpool::Pool<AsyncMysqlConnection>;

const MOST_CONNECTIONS: usize = 12;
/// Whoever waits longer for a connection is told that the database does not keep up.
const LONGEST_WAIT: Duration = Duration::from_secs(30);
const LONGEST_GREETING: Duration = Duration::from_secs(5);
/// What the database breaks off, for a deadlock or a lock that came too late, is tried again so often.
const TRIES: u32 = 12;

pub(crate) fn pool(url: &str) -> anyhow::Result<Pool> {
    let manager = AsyncDieselConnectionManager::<AsyncMysqlConnection>::new(url);
    Ok(deadpool::Pool::builder(manager)
        .max_size(MOST_CONNECTIONS)
        .wait_timeout(Some(LONGEST_WAIT))
        .create_timeout(Some(LONGEST_GREETING))
        .recycle_timeout(Some(LONGEST_GREETING))
        .runtime(::deadpool::Runtime::Tokio1)
        .build()?)
}

/// A connection that is thrown away unless its work came to an end: whoever asked may have gone in the middle of a question, and the next
/// would hear the answer to that.
struct Lent {
    connection: Option<Object<AsyncMysqlConnection>>,
    ended: bool,
}

impl Drop for Lent {
    fn drop(&mut self) {
        if let Some(connection) = self.connection.take().filter(|_| !self.ended) {
            drop(Object::take(connection));
        }
    }
}

/// What is done on a connection, as often as the database breaks it off: a closure whose futures may go to another thread.
pub(crate) trait Work<'c, R>: Fn(&'c mut AsyncMysqlConnection) -> <Self as Work<'c, R>>::Fut {
    /// What it does.
    type Fut: Future<Output = anyhow::Result<R>> + Send;
}

impl<'c, R, F, Fut> Work<'c, R> for F
where
    F: Fn(&'c mut AsyncMysqlConnection) -> Fut,
    Fut: Future<Output = anyhow::Result<R>> + Send,
{
    type Fut = Fut;
}

impl Store {
    async fn lend(&self) -> anyhow::Result<Lent> {
        let connection = self.pool.get().await.context("the database cannot be reached")?;
        Ok(Lent {
            connection: Some(connection),
            ended: false,
        })
    }

    /// Reads on a connection. Whoever stops waiting for it costs a connection, and spoils none.
    pub(crate) async fn read<R: Send, F>(&self, work: F) -> anyhow::Result<R>
    where
        F: for<'c> Work<'c, R> + AsyncFn(&mut AsyncMysqlConnection) -> anyhow::Result<R> + Send + Sync,
    {
        let mut lent = self.lend().await?;
        let connection = lent.connection.as_mut().context("no connection")?;
        let read = work(connection).await;
        lent.ended = true;
        read
    }

    /// Reads everything as it stood at one moment.
    pub(crate) async fn read_at_once<R: Send, F>(&self, work: F) -> anyhow::Result<R>
    where
        F: for<'c> Work<'c, R> + AsyncFn(&mut AsyncMysqlConnection) -> anyhow::Result<R> + Send + Sync,
    {
        let mut lent = self.lend().await?;
        let connection = lent.connection.as_mut().context("no connection")?;
        diesel::sql_query("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            .execute(connection)
            .await?;
        let read = work(connection).await;
        diesel::sql_query("ROLLBACK").execute(connection).await?;
        lent.ended = true;
        read
    }

    /// Writes all of it or nothing, and tells of it. What the database breaks off is tried again, so that `work` may be done more than once.
    /// Order of locks: the instrument, then whatever belongs to it, then the events' order.
    pub(crate) async fn write<R: Send, F>(&self, work: F) -> anyhow::Result<R>
    where
        F: for<'c> Work<'c, (R, Told)>
            + AsyncFn(&mut AsyncMysqlConnection) -> anyhow::Result<(R, Told)>
            + Send
            + Sync,
    {
        let mut tries = 0;
        loop {
            let mut lent = self.lend().await?;
            let connection = lent.connection.as_mut().context("no connection")?;
            let written = transact(connection, &work).await;
            // A connection whose transaction could not be ended is no good any more.
            lent.ended = match &written {
                Ok(_) => true,
                Err(_) => diesel::sql_query("ROLLBACK").execute(connection).await.is_ok(),
            };
            drop(lent);
            match written {
                Err(error) if tries < TRIES && was_broken_off(&error) => {
                    tries += 1;
                    let wait = u64::from(tries * tries) * 2 + u64::from(std::process::id() % 5);
                    tokio::time::sleep(Duration::from_millis(wait)).await;
                }
                other => return other,
            }
        }
    }
}

async fn transact<R: Send, F>(connection: &mut AsyncMysqlConnection, work: &F) -> anyhow::Result<R>
where
    F: for<'c> Work<'c, (R, Told)> + AsyncFn(&mut AsyncMysqlConnection) -> anyhow::Result<(R, Told)>,
{
    diesel::sql_query("START TRANSACTION").execute(connection).await?;
    let (done, told) = work(connection).await?;
    told.write(connection).await?;
    diesel::sql_query("COMMIT").execute(connection).await?;
    Ok(done)
}

/// Whether the database broke it off so that others could go on: "Deadlock found when trying to get lock", "Lock wait timeout exceeded",
/// "Record has changed since last read".
fn was_broken_off(error: &anyhow::Error) -> bool {
    let text = format!("{error:#}");
    ["Deadlock found", "Lock wait timeout", "Record has changed"]
        .iter()
        .any(|sign| text.contains(sign))
}

/// Whether it is the database that is away, so that trying again later helps.
pub fn is_unreachable(error: &anyhow::Error) -> bool {
    let text = format!("{error:#}");
    [
        "the database cannot be reached",
        "Input/output error",
        "Connection refused",
        "connection was closed",
        "Connection closed",
        "Connection reset",
        "Broken pipe",
        "broken pipe",
        "Server shutdown",
        "Can't connect",
        "Timeout",
    ]
    .iter()
    .any(|sign| text.contains(sign))
}

/// Whether the object store does not let Ladder in.
pub fn is_locked_out(error: &anyhow::Error) -> bool {
    let text = format!("{error:#}");
    [
        "necessary privileges",
        "valid authentication credentials",
        "SignatureDoesNotMatch",
        "InvalidAccessKeyId",
    ]
    .iter()
    .any(|sign| text.contains(sign))
}

/// Whether a disk is full.
pub fn is_full(error: &anyhow::Error) -> bool {
    let full = |error: &(dyn std::error::Error + 'static)| {
        error.downcast_ref::<std::io::Error>().is_some_and(|error| {
            matches!(
                error.kind(),
                std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded
            )
        })
    };
    // The object store keeps the words of an error, and not always the error.
    error.chain().any(full) || format!("{error:#}").contains("No space left on device")
}
