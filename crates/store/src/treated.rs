//! What is known of takes as they are treated: levels once they are cleaned, and what loops are worth that measuring did not find. Each is kept
//! under a name of all that went in, so that going back to an earlier treatment finds it again.

use crate::Store;
use crate::events::Told;
use crate::schema::{cleaned_levels, judged_loops, takes};
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::ByTreatment;
use serde::de::DeserializeOwned;
use serde_json::json;
use signal::{Levels, LoopFacts};

fn read<T: DeserializeOwned>(rows: Vec<(u64, String, String)>) -> anyhow::Result<ByTreatment<T>> {
    rows.into_iter()
        .map(|(take, name, facts)| Ok(((take, name), serde_json::from_str(&facts)?)))
        .collect()
}

/// The levels of an instrument's takes as they were cleaned.
pub(crate) async fn levels_of(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<ByTreatment<Levels>> {
    let rows = cleaned_levels::table
        .inner_join(takes::table.on(takes::id.eq(cleaned_levels::take_id)))
        .filter(takes::instrument_id.eq(instrument))
        .select(cleaned_levels::all_columns)
        .load(connection)
        .await?;
    read(rows)
}

/// What loops of a take are worth.
pub(crate) async fn loops_of_take(
    connection: &mut AsyncMysqlConnection,
    take: u64,
) -> anyhow::Result<ByTreatment<LoopFacts>> {
    let rows = judged_loops::table
        .filter(judged_loops::take_id.eq(take))
        .select(judged_loops::all_columns)
        .load(connection)
        .await?;
    read(rows)
}

/// What loops of an instrument's takes are worth.
pub(crate) async fn loops_of(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<ByTreatment<LoopFacts>> {
    let rows = judged_loops::table
        .inner_join(takes::table.on(takes::id.eq(judged_loops::take_id)))
        .filter(takes::instrument_id.eq(instrument))
        .select(judged_loops::all_columns)
        .load(connection)
        .await?;
    read(rows)
}

async fn told_of(connection: &mut AsyncMysqlConnection, take: u64) -> anyhow::Result<Told> {
    let instrument: u64 = takes::table
        .find(take)
        .select(takes::instrument_id)
        .first(connection)
        .await?;
    Ok(Told::of(instrument, "treated", json!({ "take": take })))
}

impl Store {
    /// Keeps the levels of a take as it was cleaned.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_cleaned_levels(&self, take: u64, name: &str, levels: &Levels) -> anyhow::Result<()> {
        let text = serde_json::to_string(levels)?;
        self.write(async |connection| {
            diesel::replace_into(cleaned_levels::table)
                .values((
                    cleaned_levels::take_id.eq(take),
                    cleaned_levels::name.eq(name),
                    cleaned_levels::levels.eq(&text),
                ))
                .execute(connection)
                .await?;
            Ok(((), told_of(connection, take).await?))
        })
        .await
    }

    /// Keeps what a take's loop is worth.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_judged_loop(&self, take: u64, name: &str, facts: &LoopFacts) -> anyhow::Result<()> {
        let text = serde_json::to_string(facts)?;
        self.write(async |connection| {
            diesel::replace_into(judged_loops::table)
                .values((
                    judged_loops::take_id.eq(take),
                    judged_loops::name.eq(name),
                    judged_loops::facts.eq(&text),
                ))
                .execute(connection)
                .await?;
            Ok(((), told_of(connection, take).await?))
        })
        .await
    }
}
