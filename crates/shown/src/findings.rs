//! What is wrong with an instrument, as pages see it.

use crate::seen;
use crate::view::see;
use check::Heard;
use formats::Format;
use instrument::{Finding, FindingKind, Limits, Step, Unit, resolve};
use serde::Serialize;
use signal::KeySound;
use std::collections::BTreeMap;
use store::Store;
use utoipa::ToSchema;
use work::{JobKind, Listen, ToHear, heard_by_name, name_of_all, to_hear};

/// Something that is wrong, with what follows from its kind.
#[derive(Debug, Serialize, ToSchema)]
pub struct FindingView {
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
    /// All limits.
    pub limits: Vec<LimitView>,
}

impl FindingsView {
    fn of(found: Vec<Finding>, heard: Heard, limits: &Limits, all: usize, lacking: &[ToHear]) -> Self {
        let mut left = BTreeMap::new();
        for finding in found.iter().filter(|finding| finding.accepted.is_none()) {
            *left.entry(finding.kind.step()).or_default() += 1;
        }
        let view = |finding: Finding| FindingView {
            key: finding.key(),
            title: finding.kind.title(),
            step: finding.kind.step(),
            wrong: finding.is_wrong(),
            times: (finding.times() * 100.0).round() / 100.0,
            finding,
        };
        let limit = |kind: FindingKind| LimitView {
            kind,
            number: kind.number(),
            title: kind.title(),
            step: kind.step(),
            unit: kind.unit(),
            limit: limits.at(kind),
            by_itself: kind.limit(),
            because: kind.because(),
        };
        Self {
            findings: found.into_iter().map(view).collect(),
            left,
            heard: all - lacking.len(),
            to_hear: lacking.len(),
            wanted: name_of_all(lacking),
            keys: heard.keys,
            limits: FindingKind::all()
                .filter(|kind| kind.has_limit())
                .map(limit)
                .collect(),
        }
    }
}

/// What is wrong with an instrument, of what is known and was heard of it; `None` where there is none.
///
/// # Errors
/// Those of the database.
pub async fn findings_of(store: &Store, id: u64) -> anyhow::Result<Option<FindingsView>> {
    let Some(mut whole) = store.whole(id).await? else {
        return Ok(None);
    };
    let known = store.heard(id).await?;
    let formats = formats_of(store, id).await?;
    let found = tokio::task::spawn_blocking(move || {
        let wanted = to_hear(&see(whole.clone(), Vec::new()).snapshot(|take| take.chosen));
        let all = wanted.len();
        let (heard, lacking) = heard_by_name(wanted, &known);
        let resolved = resolve(whole.known());
        let limits = Limits::of(&Limits::default(), &whole.facts);
        let found = check::findings(&resolved, (&heard, &formats), &limits, &whole.facts);
        FindingsView::of(found, heard, &limits, all, &lacking)
    })
    .await?;
    Ok(Some(found))
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
        let names = all.iter().map(|wanted| wanted.name.clone()).collect();
        store.keep_heard(id, &names).await?;
    }
    let (_, wanted) = heard_by_name(all, &known);
    Ok(Some(Listen {
        instrument: id,
        snapshot,
        wanted,
    }))
}
