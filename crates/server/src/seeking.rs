//! Loops of some lengths, looked for in many takes by a job, and kept as one change.

use crate::treated::Treated;
use anyhow::Context;
use instrument::{Fact, Said, TakeLoop, Target};
use serde::{Deserialize, Serialize};
use signal::{LoopCandidate, LoopLengths};
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

/// Looks for them and keeps the best of each take; a take that has none is not looped. Nothing is kept when it is cancelled.
pub(crate) async fn seek(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<serde_json::Value> {
    let Seeking {
        takes,
        lengths,
        label,
    } = serde_json::from_value(job.input.clone())?;
    let mut wishes = Vec::new();
    for (n, id) in takes.iter().enumerate() {
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        share.store((n * 1000 / takes.len()) as u32, Ordering::Relaxed);
        let Some(take) = Treated::of(store, *id).await? else {
            continue;
        };
        let best = loops_of(store, &take, lengths).await?.into_iter().next();
        let looped = best.map(|found| TakeLoop::found(&found));
        let value = Said::Value(serde_json::to_value(looped)?);
        wishes.push((Target::Take(*id), Fact::Loop, value));
    }
    let looped = wishes.len();
    store
        .change(job.instrument_id, &label, wishes)
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    Ok(serde_json::json!({ "looped": looped }))
}
