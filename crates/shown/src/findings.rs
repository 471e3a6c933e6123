//! What is wrong with an instrument, as pages see it.

use crate::seen;
use crate::view::see;
use check::{Expected, Heard, Report};
use formats::Format;
use instrument::{Finding, FindingKind, Limits, Resolved, Step, Unit, resolve};
use serde::Serialize;
use signal::KeySound;
use std::collections::BTreeMap;
use store::{Looked, Store};
use utoipa::ToSchema;
use work::{JobKind, Listen, ToHear, heard_by_name, is_kept_beside, name_of_all, to_hear};

/// Something that is wrong, with what follows from its kind.
#[derive(Debug, Serialize, ToSchema)]
pub struct FindingView {
    /// Where, in words.
    pub place: String,
    /// What was found.
    #[serde(flatten)]
    pub finding: Finding,
    /// Its name for good.
    pub key: u64,
    /// As it is called.
    pub title: &'static str,
    /// Where it is mended.
    pub step: Step,
    /// Whether it is wrong; else it is to be looked at.
    pub wrong: bool,
    /// How many times its limit it is.
    pub times: f64,
}

/// A limit that can be set.
#[derive(Debug, Serialize, ToSchema)]
pub struct LimitView {
    /// Of what.
    pub kind: FindingKind,
    /// By what it is set, see [`instrument::Target::FindingKind`].
    pub number: u64,
    /// As that is called.
    pub title: &'static str,
    /// Where it is mended.
    pub step: Step,
    /// In what it is measured.
    pub unit: Unit,
    /// What holds.
    pub limit: f64,
    /// What holds for all instruments.
    pub of_all: f64,
    /// What holds by itself.
    pub by_itself: f64,
    /// Where that comes from.
    pub because: &'static str,
}

/// All that is wrong with an instrument.
#[derive(Debug, Serialize, ToSchema)]
pub struct FindingsView {
    /// Worst first, what is accepted last.
    pub findings: Vec<FindingView>,
    /// How much is left to look at, step by step.
    pub left: BTreeMap<Step, usize>,
    /// Things that were listened to.
    pub heard: usize,
    /// Things that are still to be listened to.
    pub to_hear: usize,
    /// A name of those; empty where there are none.
    pub wanted: String,
    /// Keys as they sound.
    pub keys: Vec<KeySound>,
    /// What is expected of each of them, of its neighbours.
    pub expected: Vec<Expected>,
    /// All limits.
    pub limits: Vec<LimitView>,
}

/// What is wrong with an instrument as it stands, and what that follows from.
struct Looking {
    resolved: Resolved,
    heard: Heard,
    found: Vec<Finding>,
    house: Limits,
    limits: Limits,
    /// How many things there are to listen to.
    all: usize,
    /// Those that were not listened to yet.
    lacking: Vec<ToHear>,
}

impl FindingsView {
    fn of(looking: Looking) -> Self {
        let mut left = BTreeMap::new();
        for finding in looking.found.iter().filter(|finding| finding.accepted.is_none()) {
            *left.entry(finding.kind.step()).or_default() += 1;
        }
        let view = |finding: Finding| FindingView {
            key: finding.key(),
            title: finding.kind.title(),
            step: finding.kind.step(),
            wrong: finding.is_wrong(),
            times: (finding.times() * 100.0).round() / 100.0,
            place: check::place_of(&looking.resolved, &finding),
            finding,
        };
        let limit = |kind: FindingKind| LimitView {
            kind,
            number: kind.number(),
            title: kind.title(),
            step: kind.step(),
            unit: kind.unit(),
            limit: looking.limits.at(kind),
            of_all: looking.house.at(kind),
            by_itself: kind.limit(),
            because: kind.because(),
        };
        Self {
            findings: looking.found.into_iter().map(view).collect(),
            left,
            heard: looking.all - looking.lacking.len(),
            to_hear: looking.lacking.len(),
            wanted: name_of_all(&looking.lacking),
            expected: check::expected(&looking.heard.keys, &looking.resolved.program),
            keys: looking.heard.keys,
            limits: FindingKind::all()
                .filter(|kind| kind.has_limit())
                .map(limit)
                .collect(),
        }
    }

    /// How much is left to look at.
    pub fn counts(&self) -> Looked {
        let left = || self.findings.iter().filter(|one| one.finding.accepted.is_none());
        let wrong = left().filter(|one| one.wrong).count();
        Looked {
            wrong: wrong as u32,
            look: (left().count() - wrong) as u32,
        }
    }
}

async fn look_at(store: &Store, id: u64) -> anyhow::Result<Option<Looking>> {
    let Some(mut whole) = store.whole(id).await? else {
        return Ok(None);
    };
    let known = store.heard(id).await?;
    let formats = formats_of(store, id).await?;
    let house = house_limits(store).await?;
    let shelf_lufs = shelf_lufs(store).await?;
    let looking = tokio::task::spawn_blocking(move || {
        let wanted = to_hear(&see(whole.clone(), Vec::new()).snapshot(|take| take.chosen));
        let all = wanted.len();
        let (mut heard, lacking) = heard_by_name(wanted, &known);
        heard.shelf_lufs = Some(shelf_lufs);
        let resolved = resolve(whole.known());
        let limits = Limits::of(&house, &whole.facts);
        let found = check::findings(&resolved, (&heard, &formats), &limits, &whole.facts);
        Looking {
            resolved,
            heard,
            found,
            house,
            limits,
            all,
            lacking,
        }
    });
    Ok(Some(looking.await?))
}

/// What is wrong with an instrument, of what is known and was heard of it; `None` where there is none.
///
/// # Errors
/// Those of the database.
pub async fn findings_of(store: &Store, id: u64) -> anyhow::Result<Option<FindingsView>> {
    Ok(look_at(store, id).await?.map(FindingsView::of))
}

/// The same as a report, with what was mended; `None` where there is no such instrument.
///
/// # Errors
/// Those of the database.
pub async fn report_of(store: &Store, id: u64) -> anyhow::Result<Option<Report>> {
    let Some(looking) = look_at(store, id).await? else {
        return Ok(None);
    };
    let steps = store.steps(id).await?.into_iter().filter(|step| !step.undone);
    let mended = steps.filter_map(|step| {
        let what = step.label.strip_prefix(MENDING)?;
        Some(format!("{what}, {} UTC", step.made_at.format("%Y-%m-%d %H:%M")))
    });
    Ok(Some(Report::of(
        &looking.resolved,
        &looking.heard,
        &looking.found,
        mended.collect(),
    )))
}

/// How what mends findings is called in what was done.
pub const MENDING: &str = "mending: ";
/// Under which kind limits of all instruments are kept.
pub const HOUSE_LIMITS: &str = "limit";

/// Under which kind, and which name, it is kept how loud the instruments of the shelf are meant to be.
pub const SHELF: &str = "shelf";
const SHELF_LOUDNESS: &str = "loudness_lufs";
/// That of programmes that are broadcast (EBU R 128), as the page has it where nothing else is said; here it is of a key.
const SHELF_LUFS: f64 = -23.0;

async fn shelf_lufs(store: &Store) -> anyhow::Result<f64> {
    let kept = store.kept(SHELF).await?;
    let said = kept.iter().find(|(name, _)| name == SHELF_LOUDNESS);
    Ok(said.and_then(|(_, said)| said.as_f64()).unwrap_or(SHELF_LUFS))
}

/// Limits of all instruments; what is no limit, or of a kind that is not known, counts for nothing.
async fn house_limits(store: &Store) -> anyhow::Result<Limits> {
    let kept = store.kept(HOUSE_LIMITS).await?;
    let limit = |limits: Limits, (name, said): (String, serde_json::Value)| match (
        FindingKind::of(&name),
        said.as_f64(),
    ) {
        (Some(kind), Some(limit)) => limits.with(kind, limit),
        _ => limits,
    };
    Ok(kept.into_iter().fold(Limits::default(), limit))
}

/// To what it was written lately: what those cannot hold is worth knowing before the next time.
async fn formats_of(store: &Store, id: u64) -> anyhow::Result<Vec<Format>> {
    let jobs = store.jobs(id, &[JobKind::Export]).await?;
    let format = |job: store::Job| serde_json::from_value(job.input.get("format")?.clone()).ok();
    Ok(jobs.into_iter().filter_map(format).collect())
}

/// What a job listens to; `None` where there is no such instrument. What follows from what is no more is forgotten, once there is much of it.
///
/// # Errors
/// Those of the database.
pub async fn listen_to(store: &Store, id: u64) -> anyhow::Result<Option<Listen>> {
    /// So many times what counts is kept: an undo finds what was heard before.
    const KEPT_TIMES: usize = 4;
    let Some(seen) = seen(store, id).await? else {
        return Ok(None);
    };
    let snapshot = seen.snapshot(|take| take.chosen);
    let known = store.heard(id).await?;
    let all = to_hear(&snapshot);
    if known.len() > KEPT_TIMES * all.len() + 200 {
        let beside = known.keys().filter(|name| is_kept_beside(name)).cloned();
        let names = all
            .iter()
            .map(|wanted| wanted.name.clone())
            .chain(beside)
            .collect();
        store.keep_heard(id, &names).await?;
    }
    let (_, wanted) = heard_by_name(all, &known);
    Ok(Some(Listen {
        instrument: id,
        snapshot,
        wanted,
    }))
}
