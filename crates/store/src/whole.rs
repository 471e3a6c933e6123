//! Everything of an instrument as it stood at one moment, in a fixed number of statements.

use crate::brought::{BroughtColumns, brought_row};
use crate::changes::{FACT, FactRow, History, facts_of, history};
use crate::instruments::{FormColumns, InstrumentColumns, TakeColumns, instrument_row, readable};
use crate::measurements::counted;
use crate::schema::{brought, facts, instruments, looked, measurements, recordings, sound_checks, takes};
use crate::{BroughtRow, InstrumentRow, LongTakeRow, Looked, Store, TakeRow};
use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use instrument::{About, ByTreatment, Counted, Fact, Facts, Known, Origin, OutlinedTake, SoundCheck};
use signal::{Levels, LoopFacts};
use std::collections::{BTreeMap, HashMap};

/// An instrument with all that is known and said of it.
#[derive(Debug, Clone)]
pub struct Whole {
    /// As it was made.
    pub row: InstrumentRow,
    /// What Undo and Redo would do.
    pub history: History,
    /// What was said.
    pub facts: Facts,
    /// What was brought, where others made it.
    pub brought: Option<BroughtRow>,
    /// Its takes, oldest first.
    pub takes: Vec<TakeRow>,
    /// What counts of them of what was measured.
    pub measurements: HashMap<u64, Counted>,
    /// Levels of takes as they were cleaned.
    pub cleaned_levels: ByTreatment<Levels>,
    /// What loops are worth that measuring did not find.
    pub judged_loops: ByTreatment<LoopFacts>,
    /// Recordings that are sliced, oldest first.
    pub long_takes: Vec<LongTakeRow>,
    /// What was last measured of its rig.
    pub check: Option<SoundCheck>,
}

impl Whole {
    /// What is resolved.
    pub fn known(&mut self) -> Known<'_> {
        let mut counted = std::mem::take(&mut self.measurements);
        Known {
            name: &self.row.name,
            plan: &self.row.plan,
            said: &self.facts,
            brought: self.brought.as_ref().map(|row| &row.brought),
            takes: self
                .takes
                .iter()
                .map(|row| (row.recorded(), counted.remove(&row.id)))
                .collect(),
            cleaned_levels: &self.cleaned_levels,
            judged_loops: &self.judged_loops,
        }
    }
}

/// What the shelf shows of an instrument.
#[derive(Debug, Clone)]
pub struct ShelfRow {
    /// As it was made.
    pub row: InstrumentRow,
    /// What was said of it, and which takes are chosen.
    pub facts: Facts,
    /// What was brought, where others made it.
    pub brought: Option<BroughtRow>,
    /// Its takes, oldest first.
    pub takes: Vec<OutlinedTake>,
    /// How much there was to look at; `None` where nobody looked yet.
    pub looked: Option<Looked>,
}

/// What an instrument's card is made from, beside which takes are chosen.
const ON_THE_SHELF: [About; 5] = [
    About::Instrument,
    About::Pass,
    About::Layer,
    About::Region,
    About::Strand,
];

impl Store {
    /// Everything of an instrument; `None` where there is none.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn whole(&self, id: u64) -> anyhow::Result<Option<Whole>> {
        let read = self
            .read_at_once(async |connection| {
                let row: Option<InstrumentColumns> =
                    instruments::table.find(id).first(connection).await.optional()?;
                let Some(row) = row else { return Ok(None) };
                let take_rows: Vec<(TakeColumns, FormColumns)> = takes::table
                    .inner_join(recordings::table.on(recordings::hash.eq(takes::recording)))
                    .select((
                        takes::all_columns,
                        (recordings::rate_hz, recordings::channels, recordings::bits),
                    ))
                    .filter(takes::instrument_id.eq(id))
                    .order(takes::id)
                    .load(connection)
                    .await?;
                let measured = crate::measurements::rows_of(connection, id).await?;
                let brought = crate::brought::load(connection, id).await?;
                let check: Option<String> = sound_checks::table
                    .find(id)
                    .select(sound_checks::sound_check)
                    .first(connection)
                    .await
                    .optional()?;
                let whole = Whole {
                    row: instrument_row(row)?,
                    history: history(connection, id).await?,
                    facts: crate::changes::load(connection, id).await?,
                    brought: None,
                    takes: Vec::new(),
                    measurements: HashMap::new(),
                    cleaned_levels: crate::treated::levels_of(connection, id).await?,
                    judged_loops: crate::treated::loops_of(connection, id).await?,
                    long_takes: crate::long_takes::load(connection, id).await?,
                    check: check.and_then(|text: String| serde_json::from_str(&text).ok()),
                };
                Ok(Some((whole, take_rows, measured, brought)))
            })
            .await?;
        let Some((mut whole, take_rows, measured, brought)) = read else {
            return Ok(None);
        };
        // Read in large numbers: not on a thread that others wait for.
        tokio::task::spawn_blocking(move || {
            whole.brought = brought.map(brought_row).transpose()?;
            whole.takes = take_rows.into_iter().map(|(take, form)| take.row(form)).collect();
            whole.measurements = counted(&whole.facts, measured.0, measured.1)?;
            Ok(Some(whole))
        })
        .await?
    }

    /// All instruments as the shelf shows them, oldest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn shelf(&self) -> anyhow::Result<Vec<ShelfRow>> {
        type TakeOfShelf = (u64, u64, (u64, u8, u64, u16), u16, Option<String>);
        let (rows, take_rows, measured, said, brought, counts) = self
            .read_at_once(async |connection| {
                let rows: Vec<InstrumentColumns> =
                    instruments::table.order(instruments::id).load(connection).await?;
                let take_rows: Vec<TakeOfShelf> = takes::table
                    .inner_join(recordings::table.on(recordings::hash.eq(takes::recording)))
                    .select((
                        takes::instrument_id,
                        takes::id,
                        (takes::pass, takes::rung_key, takes::layer, takes::round_robin),
                        recordings::channels,
                        takes::origin,
                    ))
                    .order(takes::id)
                    .load(connection)
                    .await?;
                let measured: Vec<u64> = measurements::table
                    .select(measurements::take_id)
                    .distinct()
                    .load(connection)
                    .await?;
                let said: Vec<(u64, FactRow)> = facts::table
                    .filter(
                        facts::about
                            .eq_any(ON_THE_SHELF.map(About::name))
                            .or(facts::fact.eq(Fact::Chosen.name())),
                    )
                    .select((facts::instrument_id, FACT))
                    .load(connection)
                    .await?;
                let brought: Vec<BroughtColumns> = brought::table.load(connection).await?;
                let counts: Vec<(u64, u32, u32)> = looked::table.load(connection).await?;
                Ok((rows, take_rows, measured, said, brought, counts))
            })
            .await?;
        let measured: std::collections::HashSet<u64> = measured.into_iter().collect();
        let (mut takes_of, mut said_of) = (
            BTreeMap::<u64, Vec<OutlinedTake>>::new(),
            BTreeMap::<u64, Vec<FactRow>>::new(),
        );
        for (instrument, id, (pass, key, layer, round_robin), channels, origin) in take_rows {
            let cell = instrument::Cell {
                pass: instrument::PassId(pass),
                key,
                layer: instrument::LayerId(layer),
                round_robin,
            };
            let origin: Option<Origin> = origin.and_then(|text| serde_json::from_str(&text).ok());
            takes_of.entry(instrument).or_default().push(OutlinedTake {
                id,
                cell,
                channels,
                only_by_word: origin.is_some_and(|origin| origin.only_by_word()),
                measured: measured.contains(&id),
            });
        }
        for (instrument, row) in said {
            said_of.entry(instrument).or_default().push(row);
        }
        let mut brought: HashMap<u64, BroughtColumns> =
            brought.into_iter().map(|columns| (columns.0, columns)).collect();
        let counts: HashMap<u64, Looked> = counts
            .into_iter()
            .map(|(id, wrong, look)| (id, Looked { wrong, look }))
            .collect();
        rows.into_iter()
            .filter_map(readable)
            .map(|row| {
                Ok(ShelfRow {
                    looked: counts.get(&row.id).copied(),
                    facts: facts_of(said_of.remove(&row.id).unwrap_or_default())?,
                    takes: takes_of.remove(&row.id).unwrap_or_default(),
                    brought: brought.remove(&row.id).map(brought_row).transpose()?,
                    row,
                })
            })
            .collect()
    }
}
