//! What is kept beside the instruments, and used with all of them: by kind and name, as JSON that the store does not look into.

use crate::Store;
use crate::events::Told;
use crate::schema::kept;
use diesel::prelude::*;
use diesel_async::RunQueryDsl;

/// What is told of a thing that belongs to no instrument: none has this number.
const NO_INSTRUMENT: u64 = 0;

fn told(kind: &str) -> Told {
    Told::of(NO_INSTRUMENT, "kept", serde_json::json!({ "of": kind }))
}

impl Store {
    /// Keeps something under a name; what had the name is gone.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn keep(&self, kind: &str, name: &str, said: &serde_json::Value) -> anyhow::Result<()> {
        let said = said.to_string();
        self.write(async |connection| {
            diesel::replace_into(kept::table)
                .values((kept::kind.eq(kind), kept::name.eq(name), kept::said.eq(&said)))
                .execute(connection)
                .await?;
            Ok(((), told(kind)))
        })
        .await
    }

    /// All of a kind with their names, by these.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn kept(&self, kind: &str) -> anyhow::Result<Vec<(String, serde_json::Value)>> {
        let rows: Vec<(String, String)> = self
            .read(async |connection| {
                let of_kind = kept::table.filter(kept::kind.eq(kind)).order(kept::name);
                Ok(of_kind.select((kept::name, kept::said)).load(connection).await?)
            })
            .await?;
        rows.into_iter()
            .map(|(name, said)| Ok((name, serde_json::from_str(&said)?)))
            .collect()
    }

    /// Forgets one, if it is there.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn forget(&self, kind: &str, name: &str) -> anyhow::Result<()> {
        self.write(async |connection| {
            diesel::delete(kept::table.find((kind, name)))
                .execute(connection)
                .await?;
            Ok(((), told(kind)))
        })
        .await
    }
}
