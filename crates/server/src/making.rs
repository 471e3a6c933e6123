//! New takes from old: made by a job, kept as takes that know where they came from.

use crate::treated::Treated;
use anyhow::Context;
use instrument::{Fact, Making, Origin, Said, Target};
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

/// Makes them one after another; what was made when it is cancelled stays.
pub(crate) async fn make(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<serde_json::Value> {
    let Makings { of } = serde_json::from_value(job.input.clone())?;
    let mut made = 0;
    for (n, (take, making)) in of.iter().enumerate() {
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        share.store((n * 1000 / of.len()) as u32, Ordering::Relaxed);
        if let Some(from) = Treated::of(store, *take).await? {
            make_one(store, job, from, *making).await?;
            made += 1;
        }
    }
    Ok(serde_json::json!({ "made": made }))
}

async fn make_one(store: &Store, job: &Job, from: Treated, making: Making) -> anyhow::Result<()> {
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
    let ids = store.add_takes(job.instrument_id, vec![take]).await?;
    if let (Some(new), Some(looped)) = (ids.first(), looped) {
        let value = Said::Value(serde_json::to_value(looped)?);
        store
            .change(
                job.instrument_id,
                "loop it over its periods",
                vec![(Target::Take(*new), Fact::Loop, value)],
            )
            .await?
            .map_err(|error| anyhow::anyhow!(error))?;
    }
    if let (Some(new), true) = (ids.first(), making.cell(row.cell) == row.cell) {
        choose_instead(store, job.instrument_id, row.id, *new).await?;
    }
    Ok(())
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

/// What was made is meant to be used: where the take it came from had been chosen by hand, it is chosen in its place.
pub(crate) async fn choose_instead(
    store: &Store,
    instrument: u64,
    from: u64,
    new: u64,
) -> anyhow::Result<()> {
    let facts = store.facts(instrument).await?;
    if facts.get(&(Target::Take(from), Fact::Chosen)) != Some(&true.into()) {
        return Ok(());
    }
    choose_in_place_of(store, instrument, "use the take made from it", from, new).await
}

/// One take is chosen in place of another: one undo brings the earlier one back.
pub(crate) async fn choose_in_place_of(
    store: &Store,
    instrument: u64,
    label: &str,
    from: u64,
    new: u64,
) -> anyhow::Result<()> {
    let wishes = vec![
        (Target::Take(new), Fact::Chosen, Said::Value(true.into())),
        (Target::Take(from), Fact::Chosen, Said::Automatic),
    ];
    store
        .change(instrument, label, wishes)
        .await?
        .map_err(|error| anyhow::anyhow!(error))?;
    Ok(())
}
