//! Plans kept to be used again.

use crate::Store;
use crate::events::Told;
use crate::hold::last_id;
use crate::schema::patterns;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use instrument::Plan;

/// A plan under a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PatternRow {
    /// Its number.
    pub id: u64,
    /// As its maker calls it.
    pub name: String,
    /// The plan.
    pub plan: Plan,
}

impl Store {
    /// Keeps a plan; gives its number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn keep_pattern(&self, name: &str, plan: &Plan) -> anyhow::Result<u64> {
        let plan = serde_json::to_string(plan)?;
        self.write(async |connection| {
            diesel::insert_into(patterns::table)
                .values((patterns::name.eq(name), patterns::plan.eq(&plan)))
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
        let rows: Vec<(u64, String, String)> = self
            .read(async |connection| Ok(patterns::table.order(patterns::name).load(connection).await?))
            .await?;
        rows.into_iter()
            .map(|(id, name, plan)| {
                Ok(PatternRow {
                    id,
                    name,
                    plan: serde_json::from_str(&plan)?,
                })
            })
            .collect()
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
