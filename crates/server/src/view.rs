//! An instrument as pages see it: what was measured, what follows, what was said.

use instrument::{
    Advice, Cell, Correction, Fact, Facts, Kind, MapSettings, Missing, Origin, PassFigures, PlacedTake, Plan,
    Ring, Slicing, SoundCheck, Suggestion, Target, Treatment, advice, figures_of, heard_for, key_name,
    make_program, missing, suggest, treat,
};
use program::{Program, Sample};
use serde::Serialize;
use signal::{Levels, LoopFacts, Measurement};
use std::collections::HashMap;
use store::{Store, TakeRow};
use utoipa::ToSchema;

/// A take with everything known of it.
#[derive(Debug, Serialize, ToSchema)]
pub struct TakeView {
    /// Its number.
    pub id: u64,
    /// Where it belongs.
    pub cell: Cell,
    /// Frames per second.
    pub rate_hz: u32,
    /// 1 or 2.
    pub channels: u16,
    /// Length.
    pub frames: u64,
    /// When, UTC.
    pub made_at: String,
    /// Whether it is the chosen one of its cell.
    pub chosen: bool,
    /// `null` until it is measured.
    pub facts: Option<Measurement>,
    /// What Ladder would do.
    pub suggestion: Option<Suggestion>,
    /// What the user said.
    pub correction: Correction,
    /// What holds.
    pub treatment: Option<Treatment>,
    /// A name of what cleaning makes of it; `null` where nothing is cleaned.
    pub cleaned: Option<String>,
    /// How loud it is before its gain: as recorded, or as it is cleaned; `null` until that is known.
    pub levels: Option<Levels>,
    /// What its loop is worth; `null` where it has none or turns in place, and until it is judged.
    pub seam: Option<LoopFacts>,
    /// Where the loudness of its layer runs at its key, gains included, in LUFS; `null` where too few takes tell.
    pub curve_lufs: Option<f64>,
    /// Where the instrument's own tuning runs at its key, in cents from the planned one; `null` where too few takes tell.
    pub curve_cents: Option<f64>,
    /// What it should have, being of its kind, and was not found; nothing until it is measured.
    pub missing: Vec<Missing>,
    /// Where it came from, and what was heard in it at once.
    pub origin: Origin,
}

/// Everything about an instrument.
#[derive(Debug, Serialize, ToSchema)]
pub struct InstrumentView {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// What is recorded.
    pub plan: Plan,
    /// What follows for each of its passes.
    pub figures: Vec<PassFigures>,
    /// How rungs share keys.
    pub map: MapSettings,
    /// All takes, oldest first.
    pub takes: Vec<TakeView>,
    /// What Undo undoes.
    pub undo: Option<String>,
    /// What Redo does again.
    pub redo: Option<String>,
    /// When something was last kept, UTC.
    pub kept_at: String,
    /// A recording that is going.
    pub run: Option<session::Progress>,
    /// What was last measured of its rig.
    pub check: Option<SoundCheck>,
    /// What the takes so far tell about the plan.
    pub advice: Vec<Advice>,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Recordings that are sliced.
    pub long_takes: Vec<LongTakeView>,
    /// What sounds.
    pub program: Program,
}

/// A recording that is sliced.
#[derive(Debug, Serialize, ToSchema)]
pub struct LongTakeView {
    /// Its number.
    pub id: u64,
    /// Its file's name, or when it was recorded.
    pub name: String,
    /// Frames per second.
    pub rate_hz: u32,
    /// Channels.
    pub channels: u16,
    /// Length.
    pub frames: u64,
    /// When, UTC.
    pub made_at: String,
    /// Where it is cut.
    pub slicing: Slicing,
}

/// A card on the shelf.
#[derive(Debug, Serialize, ToSchema)]
pub struct Card {
    /// Its number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// Cells planned.
    pub cells: usize,
    /// Cells that have a take.
    pub taken: usize,
    /// Cells whose take is measured.
    pub measured: usize,
    /// Layers of the first pass.
    pub layers: usize,
    /// Key extents, roots and velocity extents of its regions.
    pub regions: Vec<CardRegion>,
    /// When something was last kept, UTC.
    pub kept_at: String,
}

/// A region as a card draws it.
#[derive(Debug, Serialize, ToSchema)]
pub struct CardRegion {
    /// Lowest key.
    pub low_key: u8,
    /// Highest key.
    pub high_key: u8,
    /// Lowest velocity.
    pub low_velocity: u8,
    /// Highest velocity.
    pub high_velocity: u8,
}

fn said<T: serde::de::DeserializeOwned>(facts: &Facts, fact: Fact) -> Option<T> {
    facts
        .get(&(Target::Instrument, fact))
        .and_then(|value| serde_json::from_value(value.clone()).ok())
}

/// The newest take of each cell that is neither refused nor made from another, unless one was chosen.
fn chosen(takes: &[TakeRow], facts: &Facts) -> HashMap<Cell, u64> {
    let mut by_cell: HashMap<Cell, (bool, u64)> = HashMap::new();
    for take in takes {
        let said = facts
            .get(&(Target::Take(take.id), Fact::Chosen))
            .and_then(serde_json::Value::as_bool);
        if said == Some(false)
            || (said.is_none() && (take.origin.is_refused() || take.origin.made_by.is_some()))
        {
            continue;
        }
        let candidate = (said == Some(true), take.id);
        let best = by_cell.entry(take.cell).or_insert(candidate);
        *best = candidate.max(*best);
    }
    by_cell.into_iter().map(|(cell, (_, id))| (cell, id)).collect()
}

/// The plan as it stands; `None` where there is no such instrument.
pub(crate) async fn plan_of(store: &Store, id: u64) -> anyhow::Result<Option<Plan>> {
    let Some(row) = store.instrument(id).await? else {
        return Ok(None);
    };
    Ok(Some(
        said(&store.facts(id).await?, Fact::Plan).unwrap_or(row.plan),
    ))
}

/// The program as it stands.
pub(crate) async fn program_of(store: &Store, id: u64) -> anyhow::Result<Program> {
    view_of(store, id)
        .await?
        .map(|view| view.program)
        .ok_or_else(|| anyhow::anyhow!("There is no such instrument."))
}

/// Everything about an instrument, but its run.
pub(crate) async fn view_of(store: &Store, id: u64) -> anyhow::Result<Option<InstrumentView>> {
    let Some(row) = store.instrument(id).await? else {
        return Ok(None);
    };
    // Read first: what Undo names is then never newer than what is shown.
    let history = store.history(id).await?;
    let (facts, rows, mut measured, cleaned_levels, judged_loops) = (
        store.facts(id).await?,
        store.takes(Some(id)).await?,
        store.measurements(id).await?,
        store.cleaned_levels(id).await?,
        store.judged_loops(id).await?,
    );
    for row in &rows {
        if let Some(facts) = measured.remove(&row.id) {
            measured.insert(row.id, heard_for(row.cell.key, facts));
        }
    }
    let plan: Plan = said(&facts, Fact::Plan).unwrap_or(row.plan);
    let name: String = said(&facts, Fact::Name).unwrap_or(row.name);
    let map: MapSettings = said(&facts, Fact::Map).unwrap_or_default();
    let chosen = chosen(&rows, &facts);
    let mut placed = Vec::new();
    let mut takes: Vec<TakeView> = rows
        .iter()
        .map(|take| {
            let measurement = measured.get(&take.id);
            let correction = Correction::of(take.id, &facts);
            let suggestion = measurement.map(|m| {
                let inside = take.origin.inside.as_ref();
                suggest(
                    plan.kind,
                    take.cell.key,
                    take.form.rate_hz,
                    take.frames,
                    m,
                    inside,
                )
            });
            let treatment = suggestion
                .as_ref()
                .map(|s| treat(take.cell.key, s, &correction, take.frames));
            let cleaned = treatment
                .as_ref()
                .zip(measurement)
                .and_then(|(treatment, facts)| treatment.cleaned_name(facts));
            let levels = match &cleaned {
                Some(name) => cleaned_levels.get(&(take.id, name.clone())).copied(),
                None => measurement.map(Measurement::levels),
            };
            let seam = treatment
                .as_ref()
                .zip(measurement)
                .and_then(|(treatment, facts)| {
                    let name = treatment.loop_name(facts)?;
                    treatment
                        .measured_loop(facts)
                        .or_else(|| judged_loops.get(&(take.id, name)).copied())
                });
            let is_chosen = chosen.get(&take.cell) == Some(&take.id);
            if let (true, Some(treatment)) = (is_chosen, treatment.clone()) {
                placed.push(PlacedTake {
                    cell: take.cell,
                    sample: sample_of(take, &plan, cleaned.clone()),
                    treatment,
                });
            }
            let pass = plan.passes.get(usize::from(take.cell.pass));
            let missing = measurement.zip(pass).map(|(facts, pass)| {
                let looped = treatment.as_ref().is_some_and(|t| t.looped.is_some());
                missing(
                    plan.kind,
                    pass.sounds_on,
                    facts,
                    &take.origin,
                    &correction,
                    looped,
                )
            });
            TakeView {
                id: take.id,
                cell: take.cell,
                rate_hz: take.form.rate_hz,
                channels: take.form.channels,
                frames: take.frames,
                made_at: take.made_at.and_utc().to_rfc3339(),
                chosen: is_chosen,
                facts: measurement.cloned(),
                suggestion,
                correction,
                cleaned,
                treatment,
                levels,
                seam,
                curve_lufs: None,
                curve_cents: None,
                missing: missing.unwrap_or_default(),
                origin: take.origin.clone(),
            }
        })
        .collect();
    crate::curves::tell_tuning(&mut takes);
    crate::curves::tell_levels(&mut takes);
    let program = make_program(&name, &plan, &map, &placed);
    let rings: Vec<Ring> = rows
        .iter()
        .filter_map(|take| {
            let facts = measured.get(&take.id)?;
            let frames = facts.end_frame.saturating_sub(facts.start_frame);
            Some(Ring {
                pass: take.cell.pass,
                seconds: frames as f64 / f64::from(take.form.rate_hz),
                cut_off: facts.end_frame as u64 >= take.frames,
            })
        })
        .collect();
    let long_takes = store
        .long_takes(id)
        .await?
        .into_iter()
        .map(|row| LongTakeView {
            id: row.id,
            slicing: facts
                .get(&(Target::LongTake(row.id), Fact::Slices))
                .and_then(|value| serde_json::from_value(value.clone()).ok())
                .unwrap_or_default(),
            name: row.name,
            rate_hz: row.form.rate_hz,
            channels: row.form.channels,
            frames: row.frames,
            made_at: row.made_at.and_utc().to_rfc3339(),
        })
        .collect();
    Ok(Some(InstrumentView {
        id,
        name,
        figures: plan.passes.iter().map(figures_of).collect(),
        map,
        takes,
        undo: history.undo,
        redo: history.redo,
        kept_at: row.kept_at.and_utc().to_rfc3339(),
        run: None,
        check: None,
        advice: advice(&plan, &rings),
        tags: said(&facts, Fact::Tags).unwrap_or_default(),
        long_takes,
        program,
        plan,
    }))
}

/// A take's place in words: pass, note, layer and turn.
pub(crate) fn take_name(plan: &Plan, cell: Cell) -> String {
    let pass = plan.passes.get(usize::from(cell.pass));
    let layer = pass.and_then(|pass| pass.layers.get(usize::from(cell.layer)));
    let mut name = format!(
        "{} {} {}",
        pass.map_or("", |pass| pass.name.as_str()),
        key_name(cell.key, instrument::MiddleC::C4),
        layer.map_or("", |layer| layer.name.as_str()),
    );
    if pass
        .zip(layer)
        .is_some_and(|(pass, layer)| pass.round_robins_of(layer) > 1)
    {
        name.push_str(&format!(" {}", cell.round_robin + 1));
    }
    name.trim().to_owned()
}

fn sample_of(take: &TakeRow, plan: &Plan, cleaned: Option<String>) -> Sample {
    Sample {
        name: take_name(plan, take.cell),
        source: crate::treated::source_of(take.id, cleaned),
        rate_hz: take.form.rate_hz,
        first_channel: 0,
        source_channels: take.form.channels,
        channels: take.form.channels,
        frames: take.frames,
    }
}

/// All cards.
pub(crate) async fn cards(store: &Store) -> anyhow::Result<Vec<Card>> {
    let mut cards = Vec::new();
    for row in store.instruments().await? {
        let Some(view) = view_of(store, row.id).await? else {
            continue;
        };
        let planned = view.plan.cells();
        let has = |cell: &Cell, test: &dyn Fn(&TakeView) -> bool| {
            view.takes.iter().any(|take| take.cell == *cell && test(take))
        };
        cards.push(Card {
            id: row.id,
            name: view.name.clone(),
            kind: view.plan.kind,
            tags: view.tags.clone(),
            cells: planned.len(),
            taken: planned.iter().filter(|cell| has(cell, &|_| true)).count(),
            measured: planned
                .iter()
                .filter(|cell| has(cell, &|take| take.facts.is_some()))
                .count(),
            layers: view.plan.passes.first().map_or(0, |pass| pass.layers.len()),
            regions: view
                .program
                .regions
                .iter()
                .map(|r| CardRegion {
                    low_key: r.low_key,
                    high_key: r.high_key,
                    low_velocity: r.low_velocity,
                    high_velocity: r.high_velocity,
                })
                .collect(),
            kept_at: view.kept_at,
        });
    }
    Ok(cards)
}
