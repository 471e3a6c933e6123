//! Patterns: how an instrument is made, kept to be used again.

use crate::Store;
use crate::events::Told;
use crate::hold::last_id;
use crate::schema::patterns;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use instrument::{Held, Pattern};

/// A pattern under a name.
#[derive(Debug, Clone, PartialEq)]
pub struct PatternRow {
    /// Its number.
    pub id: u64,
    /// As its maker calls it.
    pub name: String,
    /// What was kept.
    pub pattern: Pattern,
}

/// As it is kept: its number, its name, the plan, and what is held beside that.
type Kept = (u64, String, String, Option<String>);

fn read((id, name, plan, held): Kept) -> anyhow::Result<PatternRow> {
    let held = held.as_deref().map(serde_json::from_str::<Held>).transpose()?;
    Ok(PatternRow {
        id,
        name,
        pattern: Pattern {
            plan: serde_json::from_str(&plan)?,
            held: held.unwrap_or_default(),
        },
    })
}

impl Store {
    /// Keeps a pattern; gives its number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn keep_pattern(&self, name: &str, pattern: &Pattern) -> anyhow::Result<u64> {
        let plan = serde_json::to_string(&pattern.plan)?;
        let held = serde_json::to_string(&pattern.held)?;
        self.write(async |connection| {
            diesel::insert_into(patterns::table)
                .values((
                    patterns::name.eq(name),
                    patterns::plan.eq(&plan),
                    patterns::held.eq(&held),
                ))
                .execute(connection)
                .await?;
            Ok((last_id(connection).await?, Told::default()))
        })
        .await
    }

    /// All, by name.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn patterns(&self) -> anyhow::Result<Vec<PatternRow>> {
        let rows: Vec<Kept> = self
            .read(async |connection| Ok(patterns::table.order(patterns::name).load(connection).await?))
            .await?;
        rows.into_iter().map(read).collect()
    }

    /// One of them; `None` where there is none of that number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn pattern(&self, id: u64) -> anyhow::Result<Option<PatternRow>> {
        let row: Option<Kept> = self
            .read(async |connection| Ok(patterns::table.find(id).first(connection).await.optional()?))
            .await?;
        row.map(read).transpose()
    }

    /// Forgets one; those made from it stay.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn forget_pattern(&self, id: u64) -> anyhow::Result<()> {
        self.write(async |connection| {
            diesel::delete(patterns::table.find(id))
                .execute(connection)
                .await?;
            Ok(((), Told::default()))
        })
        .await
    }
}
