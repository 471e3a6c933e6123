//! What was measured of takes: appended, never changed.

use crate::Store;
use crate::events::Told;
use crate::instruments::lock;
use crate::schema::{facts, instruments, judged_loops, measurements, takes};
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{Correction, Fact, Plan, Target};
use serde_json::json;
use signal::{LoopFacts, MEASURE_VERSION, Measurement};
use work::{TreatedTake, Untreated};

/// Keeps what was measured of a take. Measuring again by the same version changes nothing.
pub(crate) async fn put(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    take: u64,
    measured: &Measurement,
    thumbnail: &[u8],
    judged: Option<&(String, LoopFacts)>,
) -> anyhow::Result<Told> {
    diesel::insert_or_ignore_into(measurements::table)
        .values((
            measurements::take_id.eq(take),
            measurements::version.eq(MEASURE_VERSION),
            measurements::facts.eq(serde_json::to_string(measured)?),
        ))
        .execute(connection)
        .await?;
    diesel::update(takes::table.find(take))
        .set(takes::thumbnail.eq(thumbnail))
        .execute(connection)
        .await?;
    if let Some((name, worth)) = judged {
        diesel::replace_into(judged_loops::table)
            .values((
                judged_loops::take_id.eq(take),
                judged_loops::name.eq(name),
                judged_loops::facts.eq(serde_json::to_string(worth)?),
            ))
            .execute(connection)
            .await?;
    }
    Ok(Told::of(instrument, "measured", json!({ "take": take })))
}

impl Store {
    /// Keeps what was measured of a take, by itself.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_measurement(
        &self,
        instrument: u64,
        take: u64,
        measured: &Measurement,
        thumbnail: &[u8],
    ) -> anyhow::Result<()> {
        self.write(async |connection| {
            lock(connection, instrument).await?;
            let told = put(connection, instrument, take, measured, thumbnail, None).await?;
            Ok(((), told))
        })
        .await
    }

    /// A take with what is said of it; `None` where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn untreated(&self, id: u64) -> anyhow::Result<Option<Untreated>> {
        let Some(row) = self.take(id).await? else {
            return Ok(None);
        };
        let (said, plan): (Vec<(u64, String, String)>, String) = self
            .read(async |connection| {
                let said = facts::table
                    .filter(facts::instrument_id.eq(row.instrument_id))
                    .filter(facts::target.eq(id).or(facts::target.eq(0)))
                    .select((facts::target, facts::fact, facts::value))
                    .load(connection)
                    .await?;
                let plan = instruments::table
                    .find(row.instrument_id)
                    .select(instruments::plan)
                    .first(connection)
                    .await?;
                Ok((said, plan))
            })
            .await?;
        let said = crate::changes::facts_of(said)?;
        // As the view has it: a plan that was said and cannot be read leaves the first one standing.
        let plan: Plan = match said.get(&(Target::Instrument, Fact::Plan)) {
            Some(said) => serde_json::from_value(said.clone()).or_else(|_| serde_json::from_str(&plan))?,
            None => serde_json::from_str(&plan)?,
        };
        Ok(Some(Untreated {
            id,
            cell: row.cell,
            part: row.part(),
            kind: plan.kind,
            said: Correction::of(id, &said),
            origin: row.origin,
        }))
    }

    /// A take as it stands now; `None` until it is measured, or where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn treated(&self, id: u64) -> anyhow::Result<Option<TreatedTake>> {
        let Some(take) = self.untreated(id).await? else {
            return Ok(None);
        };
        let measured: Option<String> = self
            .read(async |connection| {
                // By the version that measured it first.
                Ok(measurements::table
                    .filter(measurements::take_id.eq(id))
                    .select(measurements::facts)
                    .order(measurements::version.asc())
                    .first(connection)
                    .await
                    .optional()?)
            })
            .await?;
        let measured = measured.map(|text| serde_json::from_str(&text)).transpose()?;
        Ok(measured.map(|measured| take.measured(measured)))
    }
}
