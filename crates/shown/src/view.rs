//! An instrument as pages see it: what was measured, what follows, what was said; and what jobs work on.

use crate::JobView;
use instrument::{
    Advice, Cell, Correction, Coverage, Fact, Facts, Frozen, MapSettings, Missing, Origin, Panel,
    PassFigures, Plan, PlanFile, PlayedTake, RecordingFile, RegionSaid, ResolvedTake, STRETCH_KEYS, Score,
    Slicing, SoundCheck, StrandSaid, Suggested, Suggestion, Target, Treatment, Under, Wish, coverage,
    figures_of, file_of_take, resolve, said_about, said_of,
};
use program::{Program, Standing};
use serde::Serialize;
use signal::{Levels, LoopFacts, Measurement};
use std::collections::HashMap;
use store::{LongTakeRow, Store, TakeRow, Whole};
use utoipa::ToSchema;
use work::{Snapshot, TreatedTake};

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
    /// What whoever plays it sees and moves.
    pub panel: Panel,
    /// Of each of its regions: what it is called, and what was set by hand.
    pub regions: Vec<RegionSaid>,
    /// Of each of its strands: what it is a copy of, what chooses it, and what was set by hand.
    pub strands: Vec<StrandSaid>,
    /// Where each of the 128 controllers stands before anybody moved it.
    pub controllers_at_first: Vec<u8>,
    /// Where strands are silent within their keys, or sound more than once.
    pub coverage: Vec<Coverage>,
    /// Keys of stretch that are heard, and that are plainly heard.
    pub stretch_keys: [u8; 2],
    /// Where it was brought from, where others made it.
    pub brought: Option<BroughtView>,
    /// Takes that could not be measured, as the jobs that tried: what went wrong stands there.
    pub unmeasured: Vec<JobView>,
}

/// Where an instrument was brought from.
#[derive(Debug, Serialize, ToSchema)]
pub struct BroughtView {
    /// The name of that file.
    pub file: String,
    /// Whether its regions are those of that file; else they follow the rule.
    pub as_brought: bool,
    /// What is not held of it, a sentence each.
    pub lost: Vec<String>,
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
    /// What was played while it was recorded, where that is known: it is laid beside the instrument then.
    pub played_by: Option<Score>,
}

/// The plan as it stands; `None` where there is no such instrument.
pub async fn plan_of(store: &Store, id: u64) -> anyhow::Result<Option<Plan>> {
    let Some(row) = store.instrument(id).await? else {
        return Ok(None);
    };
    Ok(Some(instrument::plan_of(&row.plan, &store.facts(id).await?)))
}

/// An instrument as pages see it, with what jobs need beside.
pub struct Seen {
    /// As pages see it.
    pub view: InstrumentView,
    rows: Vec<TakeRow>,
    said: Facts,
    /// What follows from measurements and was not kept yet.
    followed: Vec<(u64, u32, Suggested)>,
}

impl Seen {
    /// Takes as they are treated now: of some, those that are measured, and those that play as they were brought.
    fn treated(&self, wanted: impl Fn(&TakeView) -> bool) -> impl Iterator<Item = TreatedTake> {
        let pairs = self.view.takes.iter().zip(&self.rows);
        pairs
            .filter(move |(take, _)| wanted(take))
            .filter_map(|(take, row)| {
                let made = take.origin.as_made.as_ref();
                let unheard = || made.map(|_| Measurement::unheard(take.frames as usize));
                Some(TreatedTake {
                    id: take.id,
                    cell: take.cell,
                    part: row.part(),
                    kind: self.view.plan.kind_of(take.cell.pass),
                    facts: take.facts.clone().or_else(unheard)?,
                    treatment: take.treatment.clone().or_else(|| made.cloned())?,
                    room: TreatedTake::room_of(&row.origin),
                })
            })
    }

    /// What a job works on, of some takes.
    pub fn snapshot(&self, wanted: impl Fn(&TakeView) -> bool) -> Snapshot {
        self.snapshot_of(self.view.program.clone(), wanted)
    }

    /// The same of another program of these takes.
    pub fn snapshot_of(&self, program: Program, wanted: impl Fn(&TakeView) -> bool) -> Snapshot {
        Snapshot {
            program,
            panel: self.view.panel.clone(),
            takes: self.treated(wanted).map(|take| (take.id, take)).collect(),
        }
    }

    /// What the instrument is, for an edition.
    pub fn frozen(&self) -> Frozen {
        let view = &self.view;
        let played = view
            .takes
            .iter()
            .filter(|take| take.chosen)
            .map(|take| PlayedTake {
                take: take.id,
                cell: take.cell,
                treatment: take.treatment.clone().or_else(|| take.origin.as_made.clone()),
            });
        Frozen::of(&view.plan, &self.said, played.collect(), &view.program)
    }

    /// The plan and all that was said, for a script, with the files that the takes which play go out as.
    pub fn plan_file(&self) -> PlanFile {
        let view = &self.view;
        let played = view.takes.iter().filter(|take| take.chosen);
        let recordings = played.map(|take| RecordingFile {
            take: take.id,
            file: file_of_take(&view.plan, take.cell, take.id),
            called: take.origin.file.clone(),
            pass: take.cell.pass,
            key: take.cell.key,
            layer: take.cell.layer,
            round_robin: take.cell.round_robin,
        });
        PlanFile::of(&view.name, &view.plan, &self.said, recordings.collect())
    }

    /// What a pattern is laid under, and what one is kept of.
    pub fn under(&self) -> Under<'_> {
        Under {
            plan: &self.view.plan,
            program: &self.view.program,
            said: &self.said,
        }
    }

    /// What takes an edition back.
    pub fn take_back(&self, edition: &Frozen) -> Vec<Wish> {
        let all: Vec<(u64, Cell)> = self.view.takes.iter().map(|take| (take.id, take.cell)).collect();
        edition.take_back(&self.said, &all)
    }

    /// Names of the renders that are in use: of every take as it is treated now, and of what sounds.
    pub fn renders(&self) -> Vec<String> {
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

impl InstrumentView {
    /// As it is sent.
    ///
    /// # Errors
    /// None that is known: all of it can be written as JSON.
    pub fn to_json(&self) -> serde_json::Result<Vec<u8>> {
        serde_json::to_vec(self)
    }
}

/// Everything about an instrument, but its run.
pub async fn view_of(store: &Store, id: u64) -> anyhow::Result<Option<InstrumentView>> {
    Ok(seen(store, id).await?.map(|seen| seen.view))
}

/// The same, with what jobs need.
pub async fn seen(store: &Store, id: u64) -> anyhow::Result<Option<Seen>> {
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

/// What follows from all that is known and said of an instrument, as pages see it.
pub(crate) fn see(mut whole: Whole, unmeasured: Vec<store::Job>) -> Seen {
    let resolved = resolve(whole.known());
    let Whole {
        row,
        history,
        facts,
        brought,
        takes: rows,
        long_takes,
        check,
        ..
    } = whole;
    let takes = resolved.takes.into_iter().zip(&rows);
    let view = InstrumentView {
        id: row.id,
        figures: resolved.plan.passes.iter().map(figures_of).collect(),
        takes: takes.map(|(take, row)| TakeView::of(take, row)).collect(),
        undo: history.undo,
        redo: history.redo,
        kept_at: row.kept_at.and_utc().to_rfc3339(),
        run: None,
        check,
        brought: brought.map(|row| BroughtView {
            file: row.file,
            as_brought: said_of(&facts, Fact::AsBrought).unwrap_or(true),
            lost: row.lost,
        }),
        unmeasured: unmeasured.into_iter().map(JobView::of).collect(),
        long_takes: long_takes
            .into_iter()
            .map(|row| LongTakeView::of(row, &facts))
            .collect(),
        name: resolved.name,
        map: resolved.map,
        advice: resolved.advice,
        tags: resolved.tags,
        controllers_at_first: Standing::of(&resolved.program).controllers().to_vec(),
        coverage: coverage(&resolved.program, &resolved.map),
        stretch_keys: STRETCH_KEYS,
        program: resolved.program,
        panel: resolved.panel,
        regions: resolved.regions,
        strands: resolved.strands,
        plan: resolved.plan,
    };
    Seen {
        view,
        rows,
        said: facts,
        followed: resolved.followed,
    }
}

impl TakeView {
    fn of(take: ResolvedTake, row: &TakeRow) -> Self {
        let recorded = take.recorded;
        Self {
            id: recorded.id,
            cell: recorded.cell,
            rate_hz: recorded.rate_hz,
            channels: recorded.channels,
            frames: recorded.frames,
            made_at: row.made_at.and_utc().to_rfc3339(),
            chosen: take.chosen,
            facts: take.facts,
            outdated: take.outdated,
            suggestion: take.suggestion,
            correction: take.correction,
            treatment: take.treatment,
            cleaned: take.cleaned,
            levels: take.levels,
            seam: take.seam,
            curve_lufs: take.curve_lufs,
            curve_cents: take.curve_cents,
            missing: take.missing,
            origin: recorded.origin,
        }
    }
}

impl LongTakeView {
    fn of(row: LongTakeRow, facts: &Facts) -> Self {
        let of = Target::LongTake(row.id);
        Self {
            id: row.id,
            slicing: said_about(facts, of, Fact::Slices).unwrap_or_default(),
            played_by: said_about(facts, of, Fact::PlayedBy).flatten(),
            name: row.name,
            rate_hz: row.form.rate_hz,
            channels: row.form.channels,
            frames: row.frames,
            made_at: row.made_at.and_utc().to_rfc3339(),
            broken_off: row.broken_off,
        }
    }
}
