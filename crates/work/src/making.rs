//! New takes from old.

use crate::printing::printed;
use crate::{Effect, Library, MadeTake, NewTake, Outcome, Snapshot, TreatedTake, Watch, keep, refusal};
use instrument::{Fact, Making, Origin, Printing, Said, TakeLoop, Target, Treatment};
use signal::{Audio, Measurement};

/// Makes takes one after another; they are used from then on, by one change. When it is cancelled nothing has changed.
#[derive(Debug, Clone)]
pub struct Make {
    /// A take each, and what is made of it.
    pub of: Vec<(u64, Making)>,
    /// The takes as they were when it was asked for.
    pub snapshot: Snapshot,
    /// What is said with them, in the same change.
    pub wishes: Vec<(Target, Fact, Said)>,
}

impl Make {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let mut made = Vec::new();
        for (n, (take, making)) in self.of.iter().enumerate() {
            watch.tell(n as f64 / self.of.len() as f64)?;
            if let Some(from) = self.snapshot.takes.get(take) {
                made.push(make_one(library, &self.snapshot, from, *making)?);
            }
        }
        watch.tell(1.0)?;
        let says = self
            .of
            .first()
            .map(|(_, making)| making.says())
            .unwrap_or_default();
        let label = match made.len() {
            1 => says,
            many => format!("{says}, {many} takes"),
        };
        Ok(Outcome {
            result: serde_json::json!({ "made": made.len() }),
            effect: Effect::Takes {
                label,
                made,
                wishes: self.wishes.clone(),
            },
        })
    }
}

/// So many times as long, or as short, a take becomes at most: four octaves.
const FURTHEST: f64 = 16.0;

/// The take that is made, its audio kept already, and how it is looped where that is known.
fn make_one(
    library: &dyn Library,
    snapshot: &Snapshot,
    from: &TreatedTake,
    making: Making,
) -> anyhow::Result<MadeTake> {
    let ratio = making.ratio(from.treatment.root_key, from.treatment.recording_cents);
    if ratio.is_some_and(|ratio| !(1.0 / FURTHEST..=FURTHEST).contains(&ratio)) {
        return Err(refusal(
            "A take is re-pitched by four octaves at most: begin with one that is nearer.",
        ));
    }
    let audio = from.whole(library)?;
    let (audio, looped) = match making {
        Making::Printed(printing) => (print(&audio, snapshot, from, printing)?, None),
        _ => made_of(audio, from, making),
    };
    let cell = making.cell(from.cell);
    let origin = Origin {
        from_take: Some(from.id),
        made_by: Some(making.says()),
        ..Origin::default()
    };
    Ok(MadeTake {
        take: NewTake::whole(cell, keep(library, &audio, 32)?, origin),
        // For another key it takes nobody's place.
        in_place_of: Some(from.id).filter(|_| cell == from.cell),
        looped,
        said: match making {
            Making::Printed(_) => stays_of(&from.treatment),
            _ => Vec::new(),
        },
    })
}

/// What an effect does not alter: its root and tuning, whatever is heard of them through it, its level and its place.
fn stays_of(treatment: &Treatment) -> Vec<(Fact, serde_json::Value)> {
    let numbers = [
        (Fact::GainDb, treatment.gain_db, 0.0),
        (Fact::Pan, treatment.pan, 0.0),
        (Fact::TuneCents, treatment.tune_cents, 0.0),
        (Fact::RecordingCents, treatment.recording_cents, f64::NAN),
    ];
    let said = numbers.into_iter().filter(|(_, value, usual)| value != usual);
    said.map(|(fact, value, _)| (fact, value.into()))
        .chain([(Fact::RootKey, treatment.root_key.into())])
        .collect()
}

/// What is played of a take, with effects in it.
fn print(
    audio: &Audio,
    snapshot: &Snapshot,
    from: &TreatedTake,
    printing: Printing,
) -> anyhow::Result<Audio> {
    let treatment = &from.treatment;
    let trimmed = audio.slice(treatment.start_frame as usize, treatment.end_frame as usize);
    let sides = usize::from(snapshot.sides_of(from.id).unwrap_or(2));
    let of = (&snapshot.program, printing);
    printed(&trimmed, sides, of, treatment.root_key)
        .ok_or_else(|| refusal("The strand whose effects these are is gone."))
}

fn made_of(audio: Audio, from: &TreatedTake, making: Making) -> (Audio, Option<TakeLoop>) {
    let treatment = &from.treatment;
    let trimmed = || audio.slice(treatment.start_frame as usize, treatment.end_frame as usize);
    let made = match making {
        Making::ShortLoop { periods } => return crate::short_loop(&audio, &from.facts, periods),
        Making::Printed(_) => audio,
        Making::Reversed => signal::reversed(&trimmed()),
        Making::Swell { crossfade_ms } => signal::swell(&trimmed(), crossfade_ms),
        Making::InTune | Making::AtKey { .. } => {
            let ratio = making.ratio(treatment.root_key, treatment.recording_cents);
            signal::resampled(&audio, ratio.unwrap_or(1.0))
        }
        Making::Flattened { share } => flattened(&audio, treatment, &from.facts, share),
    };
    (made, None)
}

/// How often the pitch is followed for flattening.
const FOLLOWED_MS: f64 = 10.0;

fn flattened(audio: &Audio, treatment: &Treatment, facts: &Measurement, share: f64) -> Audio {
    let Some(pitch) = facts.pitch else {
        return audio.clone();
    };
    let hop = signal::frames_of_ms(audio.rate_hz, FOLLOWED_MS);
    let curve = signal::pitch_curve(
        &audio.to_mono(),
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
