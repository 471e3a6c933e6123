//! New takes from old: made by a job, kept as takes that know where they came from.

use crate::treated::Treated;
use anyhow::Context;
use instrument::{Fact, Making, Origin, Said, TakeLoop, Target};
use serde::{Deserialize, Serialize};
use signal::Audio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use store::{Job, NewTake, RecordingForm, Spool, Store};

/// What the job is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Makings {
    /// A take each, and what is made of it.
    pub(crate) of: Vec<(u64, Making)>,
}

/// Makes them one after another and uses them from then on, by one change. When it is cancelled nothing has changed.
pub(crate) async fn make(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<serde_json::Value> {
    let Makings { of } = serde_json::from_value(job.input.clone())?;
    let (mut made, mut froms, mut loops) = (Vec::new(), Vec::new(), Vec::new());
    for (n, (take, making)) in of.iter().enumerate() {
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        share.store((n * 1000 / of.len()) as u32, Ordering::Relaxed);
        if let Some(from) = Treated::of(store, *take).await? {
            // For another key it takes nobody's place.
            froms.push(Some(from.row.id).filter(|_| making.cell(from.row.cell) == from.row.cell));
            let (new, looped) = make_one(store, job, from, *making).await?;
            made.push(new);
            loops.push(looped);
        }
    }
    let says = of.first().map(|(_, making)| making.says()).unwrap_or_default();
    let label = match made.len() {
        1 => says,
        many => format!("{says}, {many} takes"),
    };
    let ids = store.add_takes(job.instrument_id, made).await?;
    let looped = ids.iter().zip(loops).filter_map(|(id, looped)| {
        let value = serde_json::to_value(looped?).ok()?;
        Some((Target::Take(*id), Fact::Loop, Said::Value(value)))
    });
    let wishes = in_place_of(froms.into_iter().zip(ids.iter().copied()))
        .into_iter()
        .chain(looped)
        .collect();
    store
        .change(job.instrument_id, &label, wishes)
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    Ok(serde_json::json!({ "made": ids.len() }))
}

/// The take that is made, its audio kept already, and how it is looped where that is known.
async fn make_one(
    store: &Store,
    job: &Job,
    from: Treated,
    making: Making,
) -> anyhow::Result<(NewTake, Option<TakeLoop>)> {
    let audio = from.audio(store, (0, usize::MAX), 0, u64::MAX).await?;
    let (treatment, facts, row) = (from.treatment, from.facts, from.row);
    let (made, looped) = tokio::task::spawn_blocking(move || {
        if let Making::ShortLoop { periods } = making {
            return work::short_loop(&audio, &facts, periods);
        }
        let trimmed = || audio.slice(treatment.start_frame as usize, treatment.end_frame as usize);
        let made = match making {
            Making::Reversed => signal::reversed(&trimmed()),
            Making::Swell { crossfade_ms } => signal::swell(&trimmed(), crossfade_ms),
            Making::InTune | Making::AtKey { .. } => {
                let ratio = making.ratio(treatment.root_key, treatment.recording_cents);
                signal::resampled(&audio, ratio.unwrap_or(1.0))
            }
            Making::Flattened { share } => flattened(&audio, &treatment, &facts, share),
            Making::ShortLoop { .. } => audio,
        };
        (made, None)
    })
    .await
    .context("a take could not be made")?;
    let form = RecordingForm {
        rate_hz: made.rate_hz,
        channels: made.channels.len() as u16,
        bits: 32,
    };
    let mut spool = Spool::begin(store.spool_folder(), &format!("made-{}-{}", job.id, row.id), form)?;
    spool.write(&made.interleaved())?;
    let frames = spool.frames();
    let recording = store.put_recording(&mut spool).await?;
    let take = NewTake {
        cell: making.cell(row.cell),
        recording,
        form,
        recording_frames: frames,
        first_frame: 0,
        frames,
        origin: Origin {
            from_take: Some(row.id),
            made_by: Some(making.says()),
            ..Origin::default()
        },
    };
    Ok((take, looped))
}

/// How often the pitch is followed for flattening.
const FOLLOWED_MS: f64 = 10.0;

fn flattened(
    audio: &Audio,
    treatment: &instrument::Treatment,
    facts: &signal::Measurement,
    share: f64,
) -> Audio {
    let Some(pitch) = facts.pitch else {
        return audio.clone();
    };
    let mono = audio.to_mono();
    let hop = signal::frames_of_ms(audio.rate_hz, FOLLOWED_MS);
    let curve = signal::pitch_curve(
        &mono,
        audio.rate_hz,
        facts.start_frame,
        facts.end_frame,
        pitch.hz,
        hop,
    );
    signal::flattened(
        audio,
        &curve,
        treatment.root_key,
        treatment.recording_cents,
        share,
    )
}

/// Takes chosen, each in place of the one that it came from, if any: what is made is used only where somebody says so, and one undo brings the earlier ones
/// back.
fn in_place_of(pairs: impl Iterator<Item = (Option<u64>, u64)>) -> Vec<(Target, Fact, Said)> {
    pairs
        .flat_map(|(from, new)| {
            let earlier = from.map(|from| (Target::Take(from), Fact::Chosen, Said::Automatic));
            let chosen = (Target::Take(new), Fact::Chosen, Said::Value(true.into()));
            std::iter::once(chosen).chain(earlier)
        })
        .collect()
}

/// Chooses takes in place of those that they came from, as one change.
pub(crate) async fn choose_in_place_of(
    store: &Store,
    instrument: u64,
    label: &str,
    pairs: impl Iterator<Item = (u64, u64)>,
) -> anyhow::Result<()> {
    store
        .change(
            instrument,
            label,
            in_place_of(pairs.map(|(from, new)| (Some(from), new))),
        )
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    Ok(())
}
