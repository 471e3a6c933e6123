//! Loops of some lengths, looked for in many takes by a job, and kept as one change.

use crate::treated::Treated;
use anyhow::Context;
use instrument::{Fact, Said, Target};
use serde::{Deserialize, Serialize};
use signal::{Evening, LoopCandidate, LoopLengths, Stage};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use store::{Job, Store};

/// What the job is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Seeking {
    /// Takes, by their numbers.
    pub(crate) takes: Vec<u64>,
    /// How long their loops may be.
    pub(crate) lengths: LoopLengths,
    /// Whether they are evened over their loops.
    #[serde(default)]
    pub(crate) evened: bool,
    /// For "Undo …".
    pub(crate) label: String,
}

/// Places to loop a take as it is cleaned now, best first; none where it has no pitch.
pub(crate) async fn loops_of(
    store: &Store,
    take: &Treated,
    lengths: LoopLengths,
) -> anyhow::Result<Vec<LoopCandidate>> {
    let Some(pitch) = take.facts.pitch else {
        return Ok(Vec::new());
    };
    let audio = take.audio(store, (0, usize::MAX), 0, u64::MAX).await?;
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let period = f64::from(audio.rate_hz) / pitch.hz;
    tokio::task::spawn_blocking(move || signal::find_loops_of(&audio, start, end, period, lengths))
        .await
        .context("loops could not be looked for")
}

/// How a take is evened where that is not said otherwise: wholly.
const EVENED: Evening = Evening { share: 1.0 };

/// Places to loop a take once it is evened over them, best first, and how it is evened.
async fn evened_loops_of(
    store: &Store,
    take: &Treated,
    lengths: LoopLengths,
) -> anyhow::Result<(Vec<LoopCandidate>, Evening)> {
    let wish = take.treatment.cleaning.evening.unwrap_or(EVENED);
    let Some(pitch) = take.facts.pitch else {
        return Ok((Vec::new(), wish));
    };
    let before = take.without(Stage::Evening);
    let audio = before.audio(store, (0, usize::MAX), 0, u64::MAX).await?;
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let period = f64::from(audio.rate_hz) / pitch.hz;
    let search = move || signal::find_evened_loops(&audio, start, end, period, lengths, &wish);
    let found = tokio::task::spawn_blocking(search)
        .await
        .context("loops could not be looked for")?;
    Ok((found, wish))
}

/// Looks for them and keeps the best of each take. A take that has none is not looped, is as it would be by itself where any length would
/// do, or stays as it is where it was to be evened. Nothing is kept when it is cancelled.
pub(crate) async fn seek(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<serde_json::Value> {
    let Seeking {
        takes,
        lengths,
        evened,
        label,
    } = serde_json::from_value(job.input.clone())?;
    let (mut wishes, mut looped) = (Vec::new(), 0);
    for (n, id) in takes.iter().enumerate() {
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        share.store((n * 1000 / takes.len()) as u32, Ordering::Relaxed);
        let Some(take) = Treated::of(store, *id).await? else {
            continue;
        };
        let target = Target::Take(*id);
        if evened {
            let (found, wish) = evened_loops_of(store, &take, lengths).await?;
            if let Some(best) = take.best_of(&found, lengths) {
                wishes.push((target, Fact::Loop, Said::Value(serde_json::to_value(best)?)));
                wishes.push((target, Fact::Evening, Said::Value(serde_json::to_value(wish)?)));
                looped += 1;
            }
        } else {
            let best = take.best_of(&loops_of(store, &take, lengths).await?, lengths);
            looped += usize::from(best.is_some());
            // Without one of any length it is as it would be by itself, and marked; without one of the lengths asked for it is not looped.
            let said = if best.is_none() && lengths == LoopLengths::default() {
                Said::Automatic
            } else {
                Said::Value(serde_json::to_value(best)?)
            };
            wishes.push((target, Fact::Loop, said));
        }
    }
    anyhow::ensure!(
        !wishes.is_empty(),
        "Evened too there is no place worth looping. What was there is as it was."
    );
    store
        .change(job.instrument_id, &label, wishes)
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    // What measuring did not find is judged as it is now cleaned.
    crate::api::render_soon(store, job.instrument_id).await?;
    Ok(serde_json::json!({ "looped": looped }))
}
