//! An instrument beside its source, as pages see it.

use crate::seen;
use crate::view::see;
use check::{Apart, Nearer, PassageBeside, Proposal};
use instrument::{Change, Fact, Facts, Score, Target, Wish, lay_over, resolve, said_about};
use program::Program;
use serde::Serialize;
use std::sync::Arc;
use store::{LongTakeRow, Store, Whole};
use utoipa::ToSchema;
use work::{LayBeside, Part, ProgramWith, kept_beside, name_of_beside};

/// Something that brings both nearer, as a page shows it.
#[derive(Debug, Serialize, ToSchema)]
pub struct ProposalView {
    /// What; `None` for all that is proposed at once.
    pub what: Option<Nearer>,
    /// In a sentence without its end.
    pub says: String,
    /// How far both lie apart with it alone.
    pub after: Apart,
}

/// A recording of a source, and what is known of both.
#[derive(Debug, Serialize, ToSchema)]
pub struct BesideView {
    /// The recording: a long take.
    pub long_take: u64,
    /// As that is called.
    pub name: String,
    /// When it was made, UTC.
    pub made_at: String,
    /// What was played.
    pub score: Score,
    /// What both are when they are compared now; the same as `compared` where that is so still.
    pub of: String,
    /// What they were when they were compared; `None` where they were not yet.
    pub compared: Option<String>,
    /// Whether what would bring both nearer was tried then.
    pub tried: bool,
    /// Frames of a second of the recording.
    pub rate_hz: u32,
    /// How many of them a passage sounds after its time in the score.
    pub lag_frames: i64,
    /// How much louder the source is, as heard.
    pub louder_db: f64,
    /// All passages.
    pub passages: Vec<PassageBeside>,
    /// How far both lie apart, on the passages that judge.
    pub before: Apart,
    /// Whether it is judged by the very passages that it is found by.
    pub judged_by_same: bool,
    /// What would bring both nearer, what does most first.
    pub proposals: Vec<ProposalView>,
    /// All of those at once, where there are several.
    pub together: Option<ProposalView>,
}

/// How a match is called in what was done.
pub const MATCHING: &str = "match the source: ";

fn part_of(row: &LongTakeRow) -> Part {
    Part {
        recording: row.recording.clone(),
        form: row.form,
        first_frame: 0,
        frames: row.frames,
    }
}

async fn recording_of(store: &Store, instrument: u64, long_take: u64) -> anyhow::Result<Option<LongTakeRow>> {
    let row = store.long_take(long_take).await?;
    Ok(row.filter(|row| row.instrument_id == instrument))
}

/// What was played while it was recorded.
fn played_by(row: &LongTakeRow, facts: &Facts) -> Option<Score> {
    said_about(facts, Target::LongTake(row.id), Fact::PlayedBy).flatten()
}

/// Recordings of its source, newest first, and what they were compared to; `None` where there is no such instrument.
///
/// # Errors
/// Those of the database.
pub async fn beside_of(store: &Store, id: u64) -> anyhow::Result<Option<Vec<BesideView>>> {
    let Some(whole) = store.whole(id).await? else {
        return Ok(None);
    };
    let known = store.heard(id).await?;
    let views = tokio::task::spawn_blocking(move || {
        let mut whole = whole;
        let rows = std::mem::take(&mut whole.long_takes);
        let of_source: Vec<(LongTakeRow, Score)> = (rows.into_iter().rev())
            .filter_map(|row| played_by(&row, &whole.facts).map(|score| (row, score)))
            .collect();
        if of_source.is_empty() {
            return Vec::new();
        }
        let program = resolve(whole.known()).program;
        of_source
            .into_iter()
            .map(|(row, score)| {
                let kept = known.get(&kept_beside(row.id));
                view_of_one(&row, score, &program, kept.map(String::as_str))
            })
            .collect()
    });
    Ok(Some(views.await?))
}

fn view_of_one(row: &LongTakeRow, score: Score, program: &Program, kept: Option<&str>) -> BesideView {
    let known = kept.and_then(|kept| serde_json::from_str::<check::Beside>(kept).ok());
    let was = known.is_some();
    let laid = known.unwrap_or_default();
    let view = |proposal: Proposal| ProposalView {
        what: proposal.what,
        says: proposal.says,
        after: proposal.after,
    };
    BesideView {
        long_take: row.id,
        name: row.name.clone(),
        made_at: row.made_at.and_utc().to_rfc3339(),
        of: name_of_beside(&part_of(row), &score, program),
        compared: was.then_some(laid.of),
        tried: laid.tried,
        score,
        rate_hz: row.form.rate_hz,
        lag_frames: laid.lag_frames,
        louder_db: laid.louder_db,
        passages: laid.passages,
        before: laid.before,
        judged_by_same: laid.judged_by_same,
        proposals: laid.proposals.into_iter().map(view).collect(),
        together: laid.together.map(view),
    }
}

/// What was proposed when an instrument was laid beside a recording, by what; `None` for all of it at once. Gives what both were, what it says, and what is said
/// by it; `None` where that is not proposed.
///
/// # Errors
/// Those of the database.
pub async fn proposed(
    store: &Store,
    id: u64,
    (long_take, what): (u64, Option<Nearer>),
) -> anyhow::Result<Option<(String, String, Vec<Wish>)>> {
    let known = store.heard(id).await?;
    let kept = known.get(&kept_beside(long_take));
    let Some(laid) = kept.and_then(|kept| serde_json::from_str::<check::Beside>(kept).ok()) else {
        return Ok(None);
    };
    let mut all = laid.proposals.into_iter().chain(laid.together);
    let one = all.find(|proposal| proposal.what == what);
    Ok(one.map(|proposal| (laid.of, proposal.says, proposal.wishes)))
}

/// What a job lays beside a recording; `None` where there is no such recording, or nobody knows what was played.
///
/// # Errors
/// Those of the database.
pub async fn lay_beside_of(store: &Store, id: u64, long_take: u64) -> anyhow::Result<Option<LayBeside>> {
    let Some(row) = recording_of(store, id, long_take).await? else {
        return Ok(None);
    };
    let Some(whole) = store.whole(id).await? else {
        return Ok(None);
    };
    let Some(score) = played_by(&row, &whole.facts) else {
        return Ok(None);
    };
    let snapshot = see(whole.clone(), Vec::new()).snapshot(|take| take.chosen);
    let recording = part_of(&row);
    Ok(Some(LayBeside {
        instrument: id,
        long_take,
        of: name_of_beside(&recording, &score, &snapshot.program),
        recording,
        score,
        snapshot,
        with: program_with(whole),
    }))
}

/// The program with wishes laid over what was said.
fn program_with(whole: Whole) -> ProgramWith {
    Arc::new(move |wishes: &[Wish]| {
        let mut other = whole.clone();
        let change = Change::propose(MATCHING, &other.facts, wishes.to_vec())?;
        lay_over(&mut other.facts, &change.fields);
        Ok(resolve(other.known()).program)
    })
}

/// Both sounds of a recording of a source: where it lies and what was played, and what was built; `None` where there is none.
///
/// # Errors
/// Those of the database.
pub async fn both_of(
    store: &Store,
    id: u64,
    long_take: u64,
) -> anyhow::Result<Option<(Part, Score, work::Snapshot)>> {
    let Some(row) = recording_of(store, id, long_take).await? else {
        return Ok(None);
    };
    let facts = store.facts(id).await?;
    let Some((score, seen)) = played_by(&row, &facts).zip(seen(store, id).await?) else {
        return Ok(None);
    };
    Ok(Some((part_of(&row), score, seen.snapshot(|take| take.chosen))))
}
