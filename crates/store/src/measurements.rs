//! What was measured of takes, and what follows from it: appended, never changed.

use crate::Store;
use crate::changes::{FACT, FactRow};
use crate::events::Told;
use crate::schema::{facts, instruments, judged_loops, measurements, suggestions, takes};
use diesel::prelude::*;
use diesel_async::{AsyncMysqlConnection, RunQueryDsl};
use instrument::{About, Correction, Counted, Fact, Facts, Suggested, Target, plan_of};
use serde_json::json;
use signal::Measurement;
use std::collections::HashMap;
use work::{MeasuredTake, TreatedTake, Untreated};

/// A take, the version that measured it, and what it measured.
type MeasuredRow = (u64, u32, String);
/// Take, version, kind, key, and what followed.
type SuggestedRow = (u64, u32, String, u8, String);

/// Of an instrument, as they stand in the database: [`counted`] reads them.
pub(crate) async fn rows_of(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
) -> anyhow::Result<(Vec<MeasuredRow>, Vec<SuggestedRow>)> {
    let measured = measurements::table
        .inner_join(takes::table.on(takes::id.eq(measurements::take_id)))
        .filter(takes::instrument_id.eq(instrument))
        .select(measurements::all_columns)
        .load(connection)
        .await?;
    let suggested = suggestions::table
        .inner_join(takes::table.on(takes::id.eq(suggestions::take_id)))
        .filter(takes::instrument_id.eq(instrument))
        .select(suggestions::all_columns)
        .load(connection)
        .await?;
    Ok((measured, suggested))
}

/// What counts of each take: as its maker says, else by the version that measured it first.
pub(crate) fn counted(
    said: &Facts,
    measured: Vec<MeasuredRow>,
    suggested: Vec<SuggestedRow>,
) -> anyhow::Result<HashMap<u64, Counted>> {
    let mut counts: HashMap<u64, (u32, String)> = HashMap::new();
    for (take, version, text) in measured {
        let wished = said
            .get(&(Target::Take(take), Fact::MeasuredBy))
            .and_then(serde_json::Value::as_u64);
        let is_wished = |version: u32| wished == Some(u64::from(version));
        let better = counts
            .get(&take)
            .is_none_or(|(other, _)| is_wished(version) || (!is_wished(*other) && version < *other));
        if better {
            counts.insert(take, (version, text));
        }
    }
    let mut all: HashMap<u64, Counted> = HashMap::with_capacity(counts.len());
    for (take, (version, text)) in counts {
        let facts = Measurement {
            version,
            ..serde_json::from_str(&text)?
        };
        let suggested = Vec::new();
        all.insert(take, Counted { facts, suggested });
    }
    for (take, version, kind, key, text) in suggested {
        let Some(of) = all.get_mut(&take).filter(|of| of.facts.version == version) else {
            continue;
        };
        of.suggested.push(Suggested {
            kind: serde_json::from_value(kind.into())?,
            key,
            suggestion: serde_json::from_str(&text)?,
        });
    }
    Ok(all)
}

/// Keeps what was measured of a take. Measuring again by the same version changes nothing.
pub(crate) async fn put(
    connection: &mut AsyncMysqlConnection,
    instrument: u64,
    measured: &MeasuredTake,
) -> anyhow::Result<Told> {
    let (take, version) = (measured.take, measured.facts.version);
    diesel::insert_or_ignore_into(measurements::table)
        .values((
            measurements::take_id.eq(take),
            measurements::version.eq(version),
            measurements::facts.eq(serde_json::to_string(&measured.facts)?),
        ))
        .execute(connection)
        .await?;
    suggest(connection, &[(take, version, measured.suggested.clone())]).await?;
    diesel::update(takes::table.find(take))
        .set(takes::thumbnail.eq(&measured.thumbnail))
        .execute(connection)
        .await?;
    if let Some((name, worth)) = &measured.judged {
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

/// Rows written by one statement.
const AT_ONCE: usize = 200;

/// What followed first is what follows.
async fn suggest(connection: &mut AsyncMysqlConnection, all: &[(u64, u32, Suggested)]) -> anyhow::Result<()> {
    let rows = all
        .iter()
        .map(|(take, version, of)| {
            Ok((
                suggestions::take_id.eq(take),
                suggestions::version.eq(version),
                suggestions::kind.eq(of.kind.name()),
                suggestions::rung_key.eq(of.key),
                suggestions::suggestion.eq(serde_json::to_string(&of.suggestion)?),
            ))
        })
        .collect::<anyhow::Result<Vec<_>>>()?;
    diesel::insert_or_ignore_into(suggestions::table)
        .values(rows)
        .execute(connection)
        .await?;
    Ok(())
}

impl Store {
    /// Keeps what follows from measurements for another kind or another key than they were made for: takes, versions and what follows.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn put_suggestions(&self, all: &[(u64, u32, Suggested)]) -> anyhow::Result<()> {
        self.write(async |connection| {
            for some in all.chunks(AT_ONCE) {
                suggest(connection, some).await?;
            }
            Ok(((), Told::default()))
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
        let (said, plan): (Vec<FactRow>, String) = self
            .read(async |connection| {
                let said = facts::table
                    .filter(facts::instrument_id.eq(row.instrument_id))
                    .filter(facts::about.ne(About::Take.name()).or(facts::target.eq(id)))
                    .select(FACT)
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
        let plan = plan_of(&serde_json::from_str(&plan)?, &said);
        Ok(Some(Untreated {
            part: row.part(),
            kind: plan.kind_of(row.cell.pass),
            said: Correction::of(id, &said).made_for(&plan, row.cell),
            recorded: row.recorded(),
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
        let (measured, suggested, said, judged) = self
            .read(async |connection| {
                let measured = measurements::table
                    .filter(measurements::take_id.eq(id))
                    .select(measurements::all_columns)
                    .load(connection)
                    .await?;
                let suggested = suggestions::table
                    .filter(suggestions::take_id.eq(id))
                    .select(suggestions::all_columns)
                    .load(connection)
                    .await?;
                let said: Vec<FactRow> = facts::table
                    .filter(facts::target.eq(id).and(facts::fact.eq(Fact::MeasuredBy.name())))
                    .select(FACT)
                    .load(connection)
                    .await?;
                let judged = crate::treated::loops_of_take(connection, id).await?;
                Ok((measured, suggested, said, judged))
            })
            .await?;
        let said = crate::changes::facts_of(said)?;
        let mut counted = counted(&said, measured, suggested)?;
        Ok(counted.remove(&id).map(|counted| take.measured(counted, &judged)))
    }
}
