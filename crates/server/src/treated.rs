//! A take as its treatment makes it: where its samples are altered they are rendered, and kept under a name of all that went in.

use anyhow::Context;
use instrument::{Correction, Fact, Kind, Plan, TakeLoop, Treatment, best_loop, heard_for, suggest, treat};
use signal::{Audio, Cleaning, Levels, LoopCandidate, LoopFacts, LoopLengths, Measurement, Stage};
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU32, Ordering};
use store::{ByTreatment, Store, TakeRow};
use tokio::sync::Semaphore;

const FOLDER: &str = "cleaned/";
/// What was rendered and not heard for longest goes when it is more than this.
const MOST_BYTES: u64 = 4 << 30;
/// Over how much the seam of a sound without pitch is compared.
const UNPITCHED_PERIOD_FRAMES: f64 = 200.0;
/// How often that is looked at, in renders.
const LOOK_EVERY: u32 = 32;

/// Renders take whole cores: no more at once than there are, so that the page stays alive.
static TURNS: LazyLock<Semaphore> =
    LazyLock::new(|| Semaphore::new(std::thread::available_parallelism().map_or(1, |n| n.get().div_ceil(2))));
static RENDERS: AtomicU32 = AtomicU32::new(0);

/// A take that was measured, with what is done to it.
#[derive(Clone)]
pub(crate) struct Treated {
    pub(crate) row: TakeRow,
    pub(crate) kind: Kind,
    pub(crate) facts: Measurement,
    pub(crate) treatment: Treatment,
}

impl Treated {
    /// A take as it stands now; `None` until it is measured, or where there is none.
    pub(crate) async fn of(store: &Store, id: u64) -> anyhow::Result<Option<Self>> {
        let (Some(row), Some(facts)) = (store.take(id).await?, store.measurement(id).await?) else {
            return Ok(None);
        };
        let facts = heard_for(row.cell.key, facts);
        let said = store.facts(row.instrument_id).await?;
        let kind = match said.get(&(instrument::Target::Instrument, Fact::Plan)) {
            Some(plan) => serde_json::from_value::<Plan>(plan.clone())?.kind,
            None => match store.instrument(row.instrument_id).await? {
                Some(row) => row.plan.kind,
                None => return Ok(None),
            },
        };
        let inside = row.origin.inside.as_ref();
        let suggestion = suggest(kind, row.cell.key, row.form.rate_hz, row.frames, &facts, inside);
        let treatment = treat(row.cell.key, &suggestion, &Correction::of(id, &said), row.frames);
        Ok(Some(Self {
            row,
            kind,
            facts,
            treatment,
        }))
    }

    /// Frames `first..end` of some of the recording's channels, cleaned where that is wished.
    pub(crate) async fn audio(
        &self,
        store: &Store,
        (first_channel, channels): (usize, usize),
        first: u64,
        end: u64,
    ) -> anyhow::Result<Audio> {
        let end = end.min(self.row.frames);
        let Some(name) = self.treatment.cleaned_name(&self.facts) else {
            let audio = store.take_audio(&self.row, first, end).await?;
            return Ok(audio.channels_of(first_channel, channels));
        };
        let row = &self.row;
        let from = usize::from(row.form.channels).saturating_sub(first_channel);
        let channels = channels.min(from);
        let path = format!(
            "{FOLDER}{}-{}-{}-{name}-{first_channel}-{channels}",
            row.recording, row.first_frame, row.frames
        );
        let sides = self.treatment.cleaning.channels_out(channels);
        let frame_bytes = sides as u64 * 4;
        if let Some(bytes) = store
            .bytes_of(&path, first * frame_bytes..end * frame_bytes)
            .await?
        {
            let samples: Vec<f32> = bytes
                .chunks_exact(4)
                .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
                .collect();
            return Ok(Audio::from_interleaved(row.form.rate_hz, sides, &samples));
        }
        let whole = self.clean(store, first_channel, channels).await?;
        if first_channel == 0 {
            self.keep_levels(store, &name, &whole).await?;
        }
        store.put_bytes(&path, crate::audio::as_bytes(&whole)).await?;
        if RENDERS.fetch_add(1, Ordering::Relaxed) % LOOK_EVERY == LOOK_EVERY - 1 {
            store.keep_under(FOLDER, MOST_BYTES).await?;
        }
        Ok(whole.slice(first as usize, end as usize))
    }

    /// A take is as loud as its first mic.
    async fn keep_levels(&self, store: &Store, name: &str, whole: &Audio) -> anyhow::Result<()> {
        let levels = Levels::of(whole, self.facts.start_frame, self.facts.end_frame);
        store.put_cleaned_levels(&self.row, name, &levels).await
    }

    /// Keeps its levels as it is cleaned, where they are not among those known though it was rendered: for another take of the same sound.
    pub(crate) async fn tell_levels(&self, store: &Store, known: &ByTreatment<Levels>) -> anyhow::Result<()> {
        let Some(name) = self.treatment.cleaned_name(&self.facts) else {
            return Ok(());
        };
        if known.contains_key(&(self.row.id, name.clone())) {
            return Ok(());
        }
        let whole = self.audio(store, (0, usize::MAX), 0, u64::MAX).await?;
        self.keep_levels(store, &name, &whole).await
    }

    async fn clean(&self, store: &Store, first_channel: usize, channels: usize) -> anyhow::Result<Audio> {
        let _turn = TURNS.acquire().await?;
        let audio = store.take_audio(&self.row, 0, self.row.frames).await?;
        let (cleaning, places) = (self.treatment.cleaning, self.treatment.places(&self.facts));
        let check = self.row.origin.sound_check.as_ref();
        let room = check.map(|check| check.noise_bands.clone()).unwrap_or_default();
        tokio::task::spawn_blocking(move || {
            signal::clean_in_room(
                &audio.channels_of(first_channel, channels),
                &cleaning,
                places,
                &room,
            )
        })
        .await
        .context("a take could not be rendered")
    }

    /// Judges its loop and keeps what that is worth, where measuring did not find it.
    pub(crate) async fn judge_loop(&self, store: &Store) -> anyhow::Result<()> {
        let (treatment, facts) = (&self.treatment, &self.facts);
        let (Some(looped), Some(name)) = (treatment.looped, treatment.loop_name(facts)) else {
            return Ok(());
        };
        if treatment.measured_loop(facts).is_some() {
            return Ok(());
        }
        let audio = self.audio(store, (0, usize::MAX), 0, u64::MAX).await?;
        let period = facts.pitch.map_or(UNPITCHED_PERIOD_FRAMES, |pitch| {
            f64::from(audio.rate_hz) / pitch.hz
        });
        let (start, end) = (looped.start_frame as usize, looped.end_frame as usize);
        let worth = tokio::task::spawn_blocking(move || LoopFacts::of(&audio, start, end, period)).await?;
        store.put_judged_loop(&self.row, &name, &worth).await
    }

    /// The best of the places to loop it that were found for some lengths. Of any length it is one that suits its kind; of lengths that somebody asked
    /// for, or of a kind that is not looped by itself, the best of all.
    pub(crate) fn best_of(&self, places: &[LoopCandidate], lengths: LoopLengths) -> Option<TakeLoop> {
        let asked = lengths != LoopLengths::default() || !self.kind.loops();
        let suited = || best_loop(self.kind, self.row.form.rate_hz, places);
        let best = if asked { places.first() } else { suited() };
        best.map(TakeLoop::found)
    }

    /// The same take, cleaned otherwise.
    fn cleaned_by(&self, cleaning: Cleaning) -> Self {
        Self {
            treatment: Treatment {
                cleaning,
                ..self.treatment.clone()
            },
            ..self.clone()
        }
    }

    /// The same take without one stage of its cleaning.
    pub(crate) fn without(&self, stage: Stage) -> Self {
        self.cleaned_by(self.treatment.cleaning.without(stage))
    }

    /// What one stage of cleaning takes away of what those before it leave, or what all of them take, frames `first..end`.
    pub(crate) async fn taken_away(
        &self,
        store: &Store,
        of: (usize, usize),
        (first, end): (u64, u64),
        stage: Option<Stage>,
    ) -> anyhow::Result<Audio> {
        let all = self.treatment.cleaning;
        let (before, after) = match stage {
            Some(stage) => (all.through(stage).without(stage), all.through(stage)),
            None => (Cleaning::default(), all),
        };
        let before = self.cleaned_by(before).audio(store, of, first, end).await?;
        let after = self.cleaned_by(after).audio(store, of, first, end).await?;
        Ok(signal::taken_away(&before, &after))
    }
}

/// The name under which a program's sample is brought: the take's number, and what was made of it.
pub(crate) fn source_of(take: u64, cleaned: Option<String>) -> String {
    match cleaned {
        Some(name) => format!("{take}~{name}"),
        None => take.to_string(),
    }
}

/// The take's number in a sample's source.
pub(crate) fn take_of_source(source: &str) -> anyhow::Result<u64> {
    Ok(source.split('~').next().unwrap_or(source).parse()?)
}
