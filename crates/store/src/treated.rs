//! What is known of takes as they are treated: levels once they are cleaned, and what loops are worth that measuring did not find. Each is kept
//! under a name of all that went in, so that going back to an earlier treatment finds it again.

use crate::schema::{cleaned_levels, judged_loops, takes};
use crate::{Store, TakeRow};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use serde::de::DeserializeOwned;
use signal::{Levels, LoopFacts};
use std::collections::HashMap;

/// By take and name.
pub type ByTreatment<T> = HashMap<(u64, String), T>;

fn read<T: DeserializeOwned>(rows: Vec<(u64, String, String)>) -> anyhow::Result<ByTreatment<T>> {
    rows.into_iter()
        .map(|(take, name, facts)| Ok(((take, name), serde_json::from_str(&facts)?)))
        .collect()
}

impl Store {
    /// Keeps the levels of a take as it was cleaned.
    pub async fn put_cleaned_levels(
        &self,
        take: &TakeRow,
        name: &str,
        levels: &Levels,
    ) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::replace_into(cleaned_levels::table)
            .values((
                cleaned_levels::take_id.eq(take.id),
                cleaned_levels::name.eq(name),
                cleaned_levels::levels.eq(serde_json::to_string(levels)?),
            ))
            .execute(&mut connection)
            .await?;
        self.tell_of_treated(take).await
    }

    /// The levels of an instrument's takes as they were cleaned.
    pub async fn cleaned_levels(&self, instrument_id: u64) -> anyhow::Result<ByTreatment<Levels>> {
        let mut connection = self.connection().await?;
        let rows = cleaned_levels::table
            .inner_join(takes::table.on(takes::id.eq(cleaned_levels::take_id)))
            .filter(takes::instrument_id.eq(instrument_id))
            .select(cleaned_levels::all_columns)
            .load(&mut connection)
            .await?;
        read(rows)
    }

    /// Keeps what a take's loop is worth.
    pub async fn put_judged_loop(&self, take: &TakeRow, name: &str, facts: &LoopFacts) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::replace_into(judged_loops::table)
            .values((
                judged_loops::take_id.eq(take.id),
                judged_loops::name.eq(name),
                judged_loops::facts.eq(serde_json::to_string(facts)?),
            ))
            .execute(&mut connection)
            .await?;
        self.tell_of_treated(take).await
    }

    /// What loops of an instrument's takes are worth.
    pub async fn judged_loops(&self, instrument_id: u64) -> anyhow::Result<ByTreatment<LoopFacts>> {
        let mut connection = self.connection().await?;
        let rows = judged_loops::table
            .inner_join(takes::table.on(takes::id.eq(judged_loops::take_id)))
            .filter(takes::instrument_id.eq(instrument_id))
            .select(judged_loops::all_columns)
            .load(&mut connection)
            .await?;
        read(rows)
    }

    async fn tell_of_treated(&self, take: &TakeRow) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        let body = format!("{{\"take\":{}}}", take.id);
        self.append_event(&mut connection, take.instrument_id, "treated", &body)
            .await
    }
}
