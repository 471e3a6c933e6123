//! Taking hold of an instrument, noting that it was kept, and the id of what was just put in.

use crate::schema::instruments;
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};

/// Takes hold of an instrument until the transaction ends: the first of all locks, so that whatever writes to it comes one after another.
/// False where there is none.
pub(crate) async fn lock(connection: &mut AsyncMysqlConnection, instrument: u64) -> QueryResult<bool> {
    let found: Option<u64> = instruments::table
        .find(instrument)
        .select(instruments::id)
        .for_update()
        .first(connection)
        .await
        .optional()?;
    Ok(found.is_some())
}

/// Notes that something of it was kept just now.
pub(crate) async fn touch(connection: &mut AsyncMysqlConnection, instrument: u64) -> QueryResult<()> {
    diesel::update(instruments::table.find(instrument))
        .set(instruments::kept_at.eq(diesel::dsl::sql::<diesel::sql_types::Datetime>("NOW(3)")))
        .execute(connection)
        .await?;
    Ok(())
}

/// The id that the last row of this connection got.
pub(crate) async fn last_id(connection: &mut AsyncMysqlConnection) -> QueryResult<u64> {
    diesel::select(diesel::dsl::sql::<
        diesel::sql_types::Unsigned<diesel::sql_types::BigInt>,
    >("LAST_INSERT_ID()"))
    .get_result(connection)
    .await
}
