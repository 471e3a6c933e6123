//! Plans kept to be used again.

use crate::Store;
use crate::instruments::last_id;
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
    pub async fn keep_pattern(&self, name: &str, plan: &Plan) -> anyhow::Result<u64> {
        let mut connection = self.connection().await?;
        diesel::insert_into(patterns::table)
            .values((
                patterns::name.eq(name),
                patterns::plan.eq(serde_json::to_string(plan)?),
            ))
            .execute(&mut connection)
            .await?;
        Ok(last_id(&mut connection).await?)
    }

    /// All, by name.
    pub async fn patterns(&self) -> anyhow::Result<Vec<PatternRow>> {
        let mut connection = self.connection().await?;
        let rows: Vec<(u64, String, String)> = patterns::table
            .order(patterns::name)
            .load(&mut connection)
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
    pub async fn forget_pattern(&self, id: u64) -> anyhow::Result<()> {
        let mut connection = self.connection().await?;
        diesel::delete(patterns::table.find(id))
            .execute(&mut connection)
            .await?;
        Ok(())
    }
}
