//! An instrument as pages see it: what was measured, what follows, what was said.

use crate::api::JobView;
use instrument::{
    Advice, Cell, Correction, Fact, Facts, MapSettings, Missing, Origin, PassFigures, PlacedTake, Plan, Ring,
    Slicing, SoundCheck, Suggestion, Target, Treatment, advice, figures_of, heard_for, key_name,
    make_program, missing, suggest, treat, wants_a_loop,
};
use program::{Program, Sample};
use serde::Serialize;
use signal::{Levels, LoopFacts, MEASURE_VERSION, Measurement};
use std::collections::HashMap;
use store::{Store, TakeRow, Whole};
use utoipa::ToSchema;
use work::{Snapshot, Suggested, TreatedTake, source_of};

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
    /// Whether an earlier version of Ladder measured it: measured again, it may be suggested otherwise.
    pub outdated: bool,
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
    /// Takes that could not be measured, as the jobs that tried: what went wrong stands there.
    pub unmeasured: Vec<JobView>,
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
    /// Whether its recording ended before it was told to.
    pub broken_off: bool,
    /// Where it is cut.
    pub slicing: Slicing,
}

pub(crate) fn said<T: serde::de::DeserializeOwned>(facts: &Facts, fact: Fact) -> Option<T> {
    facts
        .get(&(Target::Instrument, fact))
        .and_then(|value| serde_json::from_value(value.clone()).ok())
}

/// A take that may be the chosen one of its cell.
pub(crate) struct Candidate {
    pub(crate) id: u64,
    pub(crate) cell: Cell,
    /// It is refused, or made from another: used only where somebody says so.
    pub(crate) only_by_word: bool,
}

/// The newest take of each cell that is neither refused nor made from another, unless one was chosen.
pub(crate) fn chosen(takes: impl Iterator<Item = Candidate>, facts: &Facts) -> HashMap<Cell, u64> {
    let mut by_cell: HashMap<Cell, (bool, u64)> = HashMap::new();
    for take in takes {
        let said = facts
            .get(&(Target::Take(take.id), Fact::Chosen))
            .and_then(serde_json::Value::as_bool);
        if said == Some(false) || (said.is_none() && take.only_by_word) {
            continue;
        }
        let candidate = (said == Some(true), take.id);
        let best = by_cell.entry(take.cell).or_insert(candidate);
        *best = candidate.max(*best);
    }
    by_cell.into_iter().map(|(cell, (_, id))| (cell, id)).collect()
}

pub(crate) fn only_by_word(origin: &Origin) -> bool {
    origin.is_refused() || origin.made_by.is_some()
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

/// An instrument as pages see it, with what jobs need beside.
pub(crate) struct Seen {
    pub(crate) view: InstrumentView,
    rows: Vec<TakeRow>,
    /// What follows from measurements and was not kept yet.
    followed: Vec<(u64, u32, Suggested)>,
}

impl Seen {
    /// Takes as they are treated now: of some, those that are measured.
    fn treated(&self, wanted: impl Fn(&TakeView) -> bool) -> impl Iterator<Item = TreatedTake> {
        let pairs = self.view.takes.iter().zip(&self.rows);
        pairs
            .filter(move |(take, _)| wanted(take))
            .filter_map(|(take, row)| {
                Some(TreatedTake {
                    id: take.id,
                    cell: take.cell,
                    part: row.part(),
                    kind: self.view.plan.kind,
                    facts: take.facts.clone()?,
                    treatment: take.treatment.clone()?,
                    room: TreatedTake::room_of(&row.origin),
                })
            })
    }

    /// What a job works on, of some takes.
    pub(crate) fn snapshot(&self, wanted: impl Fn(&TakeView) -> bool) -> Snapshot {
        Snapshot {
            program: self.view.program.clone(),
            takes: self.treated(wanted).map(|take| (take.id, take)).collect(),
        }
    }

    /// Names of the renders that are in use: of every take as it is treated now, and of what sounds.
    pub(crate) fn renders(&self) -> Vec<String> {
        let all: HashMap<u64, TreatedTake> = self
            .treated(|take| take.cleaned.is_some())
            .map(|take| (take.id, take))
            .collect();
        let wholes = all.values().map(|take| (take, 0, take.part.form.channels));
        let samples = self.view.program.samples.iter().filter_map(|sample| {
            let take = all.get(&work::take_of_source(&sample.source).ok()?)?;
            Some((take, sample.first_channel, sample.source_channels))
        });
        wholes
            .chain(samples)
            .filter_map(|(take, first, channels)| {
                let name = take.treatment.cleaned_name(&take.facts)?;
                Some(take.render_path(&name, usize::from(first), usize::from(channels)))
            })
            .collect()
    }
}

/// Everything about an instrument, but its run.
pub(crate) async fn view_of(store: &Store, id: u64) -> anyhow::Result<Option<InstrumentView>> {
    Ok(seen(store, id).await?.map(|seen| seen.view))
}

/// The same, with what jobs need.
pub(crate) async fn seen(store: &Store, id: u64) -> anyhow::Result<Option<Seen>> {
    let Some(whole) = store.whole(id).await? else {
        return Ok(None);
    };
    let unmeasured = store.unmeasured(id).await?;
    let seen = tokio::task::spawn_blocking(move || see(whole, unmeasured)).await?;
    if !seen.followed.is_empty() {
        // Where it cannot be kept now, the next look keeps it.
        if let Err(error) = store.put_suggestions(&seen.followed).await {
            tracing::warn!(instrument = id, "{error:#}");
        }
    }
    Ok(Some(seen))
}

/// What follows from all that is known and said of an instrument.
fn see(whole: Whole, unmeasured: Vec<store::Job>) -> Seen {
    let Whole {
        row,
        history,
        facts,
        takes: rows,
        measurements: mut counted,
        cleaned_levels,
        judged_loops,
        long_takes,
        check,
    } = whole;
    let id = row.id;
    let plan: Plan = said(&facts, Fact::Plan).unwrap_or(row.plan);
    let name: String = said(&facts, Fact::Name).unwrap_or(row.name);
    let map: MapSettings = said(&facts, Fact::Map).unwrap_or_default();
    // What follows for another kind or key than before follows by today's rules, and is kept from now on.
    let mut followed = Vec::new();
    let mut measured: HashMap<u64, (Measurement, Suggestion)> = HashMap::with_capacity(counted.len());
    for row in &rows {
        let Some(of) = counted.remove(&row.id) else {
            continue;
        };
        let key = row.cell.key;
        let known = of.suggested(plan.kind, key).cloned();
        let is_known = known.is_some();
        let version = of.facts.version;
        let facts = heard_for(key, of.facts);
        let inside = row.origin.inside.as_ref();
        let suggestion =
            known.unwrap_or_else(|| suggest(plan.kind, key, row.form.rate_hz, row.frames, &facts, inside));
        if !is_known {
            let suggested = Suggested {
                kind: plan.kind,
                key,
                suggestion: suggestion.clone(),
            };
            followed.push((row.id, version, suggested));
        }
        measured.insert(row.id, (facts, suggestion));
    }
    let candidates = rows.iter().map(|take| Candidate {
        id: take.id,
        cell: take.cell,
        only_by_word: only_by_word(&take.origin),
    });
    let chosen = chosen(candidates, &facts);
    let mut placed = Vec::new();
    let mut takes: Vec<TakeView> = rows
        .iter()
        .map(|take| {
            let measurement = measured.get(&take.id).map(|(facts, _)| facts);
            let correction = Correction::of(take.id, &facts).made_for(&plan, take.cell);
            let suggestion = measured.get(&take.id).map(|(_, suggestion)| suggestion.clone());
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
                missing(
                    plan.kind,
                    pass.sounds_on,
                    facts,
                    (take.form.rate_hz, take.frames),
                    &take.origin,
                    &correction,
                    treatment.as_ref(),
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
                outdated: measurement.is_some_and(|facts| facts.version < MEASURE_VERSION),
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
            let (facts, _) = measured.get(&take.id)?;
            let frames = facts.end_frame.saturating_sub(facts.start_frame);
            Some(Ring {
                pass: take.cell.pass,
                seconds: frames as f64 / f64::from(take.form.rate_hz),
                cut_off: facts.end_frame as u64 >= take.frames,
                beats_s: facts.beats.map(|beats| beats.seconds),
                wants_a_loop: wants_a_loop(plan.kind, take.form.rate_hz, facts),
            })
        })
        .collect();
    let long_takes = long_takes
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
            broken_off: row.broken_off,
        })
        .collect();
    let view = InstrumentView {
        id,
        name,
        figures: plan.passes.iter().map(figures_of).collect(),
        map,
        takes,
        undo: history.undo,
        redo: history.redo,
        kept_at: row.kept_at.and_utc().to_rfc3339(),
        run: None,
        check,
        unmeasured: unmeasured.into_iter().map(JobView::of).collect(),
        advice: advice(&plan, &rings),
        tags: said(&facts, Fact::Tags).unwrap_or_default(),
        long_takes,
        program,
        plan,
    };
    Seen { view, rows, followed }
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
        source: source_of(take.id, cleaned),
        rate_hz: take.form.rate_hz,
        first_channel: 0,
        source_channels: take.form.channels,
        channels: take.form.channels,
        frames: take.frames,
    }
}
