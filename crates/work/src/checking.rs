//! An instrument is checked where it lies, in a folder of recordings or in a file: no database, no server.

use crate::each::each;
use crate::treated::judged;
use crate::{Built, Opened, Samples, hear_keys, refusal, take_of_source, take_sound};
use anyhow::Context;
use check::Heard;
use formats::Format;
use instrument::{
    Cell, Counted, Facts, Finding, Known, Limits, Origin, RecordedTake, Resolved, ResolvedTake, Treatment,
    plan_of_brought, resolve,
};
use program::Sample;
use signal::{Audio, Measurement, TakeSound};
use std::collections::HashMap;
use std::path::PathBuf;

/// Of all that is done, so much is the takes; the rest is keys.
const SHARE_OF_TAKES: f64 = 0.3;

/// An instrument with its recordings at hand.
pub trait AtHand: Samples + Sync {
    /// All of it.
    fn resolved(&self) -> &Resolved;

    /// What was said of it.
    fn said(&self) -> &Facts;

    /// The audio of a take, cleaned where that is said.
    ///
    /// # Errors
    /// Where it cannot be read.
    fn take_audio(&self, take: &ResolvedTake) -> anyhow::Result<Audio>;
}

/// What was heard of an instrument, and what is wrong with it.
pub struct Checked {
    /// What was heard.
    pub heard: Heard,
    /// Worst first, what is accepted last.
    pub findings: Vec<Finding>,
}

/// Listens to an instrument as it is, and says what is wrong with it and with what would be written of it. `tell` is told how far it is, 0 to 1, and stops it
/// by answering false.
///
/// # Errors
/// Where audio cannot be read, or it was stopped.
pub fn check_at_hand(
    of: &impl AtHand,
    (formats, limits): (&[Format], &Limits),
    tell: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<Checked> {
    let resolved = of.resolved();
    let takes = hear_takes(of, &|share| tell(share * SHARE_OF_TAKES))?;
    let rest = |share: f64| tell(SHARE_OF_TAKES + share * (1.0 - SHARE_OF_TAKES));
    let (keys, together) = hear_keys(&resolved.program, of, &rest)?;
    let heard = Heard {
        takes,
        keys,
        together,
        shelf_lufs: None,
    };
    let limits = Limits::of(limits, of.said());
    let findings = check::findings(resolved, (&heard, formats), &limits, of.said());
    Ok(Checked { heard, findings })
}

/// Every take that is played, one on each processor at a time.
fn hear_takes(
    of: &impl AtHand,
    tell: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<HashMap<u64, TakeSound>> {
    let takes: Vec<&ResolvedTake> = of.resolved().takes.iter().filter(|take| take.chosen).collect();
    let one = |(): &mut (), take: &&ResolvedTake| {
        let (Some(facts), Some(treatment)) = (&take.facts, &take.treatment) else {
            return Ok(None);
        };
        let audio = of.take_audio(take)?;
        Ok(Some((take.recorded.id, take_sound(&audio, facts, treatment))))
    };
    each(&takes, 1, || (), one, tell).map(|heard| heard.into_iter().flatten().collect())
}

impl AtHand for Built {
    fn resolved(&self) -> &Resolved {
        &self.resolved
    }

    fn said(&self) -> &Facts {
        &self.said
    }

    fn take_audio(&self, take: &ResolvedTake) -> anyhow::Result<Audio> {
        self.audio_of(take)
    }
}

/// An instrument out of a file, with a place for each of its recordings, as it is taken in.
pub struct OpenedInPlace {
    resolved: Resolved,
    said: Facts,
    opened: Opened,
    /// Of each take, in the order of their numbers, which begin with 1.
    samples: Vec<Sample>,
}

impl OpenedInPlace {
    /// Measures everything that it plays, one on each processor at a time.
    ///
    /// # Errors
    /// With a sentence, where it has more than a plan holds, its audio cannot be read, or it was stopped.
    pub fn of(opened: Opened, tell: &(dyn Fn(f64) -> bool + Sync)) -> anyhow::Result<Self> {
        let mut names = 0;
        let planned = plan_of_brought(&opened.program, false, &mut || {
            names += 1;
            names
        })
        .map_err(refusal)?;
        let samples = planned.brought.program.samples.clone();
        let measure = |(): &mut (), sample: &Sample| Ok(signal::measure(&opened.audio(sample)?));
        let measured = each(&samples, 1, || (), measure, tell)?;
        let takes = || {
            let placed = samples.iter().zip(&planned.brought.cells).zip(&planned.treated);
            let recorded =
                |(n, ((sample, cell), treatment)): (usize, ((&Sample, &Cell), &Treatment))| RecordedTake {
                    id: n as u64 + 1,
                    cell: *cell,
                    rate_hz: sample.rate_hz,
                    channels: sample.channels,
                    frames: sample.frames,
                    origin: Origin {
                        file: Some(sample.name.clone()),
                        as_made: Some(treatment.clone()),
                        ..Origin::default()
                    },
                };
            let counted = |facts: &Measurement| Counted {
                facts: facts.clone(),
                suggested: Vec::new(),
            };
            placed
                .enumerate()
                .map(recorded)
                .zip(measured.iter().map(|facts| Some(counted(facts))))
                .collect()
        };
        let said = Facts::new();
        let name = opened.program.name.clone();
        let resolved_with = |levels: &_, loops: &_| {
            resolve(Known {
                name: &name,
                plan: &planned.plan,
                said: &said,
                brought: Some(&planned.brought),
                takes: takes(),
                cleaned_levels: levels,
                judged_loops: loops,
            })
        };
        let (mut levels, mut loops) = (HashMap::new(), HashMap::new());
        let first = resolved_with(&levels, &loops);
        for take in &first.takes {
            let sample = &samples[take.recorded.id as usize - 1];
            judged(take, || opened.audio(sample), &mut levels, &mut loops)?;
        }
        let resolved = resolved_with(&levels, &loops);
        Ok(Self {
            resolved,
            said,
            opened,
            samples,
        })
    }

    fn sample_of(&self, take: u64) -> anyhow::Result<&Sample> {
        let place = usize::try_from(take)?.checked_sub(1);
        place
            .and_then(|place| self.samples.get(place))
            .context("a take is not there")
    }
}

impl AtHand for OpenedInPlace {
    fn resolved(&self) -> &Resolved {
        &self.resolved
    }

    fn said(&self) -> &Facts {
        &self.said
    }

    fn take_audio(&self, take: &ResolvedTake) -> anyhow::Result<Audio> {
        self.opened.audio(self.sample_of(take.recorded.id)?)
    }
}

impl Samples for OpenedInPlace {
    fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
        let audio = self
            .opened
            .audio(self.sample_of(take_of_source(&sample.source)?)?)?;
        Ok(sides_of(audio, sample))
    }

    fn files(&self) -> Vec<PathBuf> {
        self.opened.files()
    }
}

/// Those channels of a take that a sample plays.
pub(crate) fn sides_of(mut audio: Audio, sample: &Sample) -> Audio {
    let (first, channels) = (
        usize::from(sample.first_channel),
        usize::from(sample.source_channels),
    );
    let end = (first + channels).min(audio.channels.len());
    audio.channels = audio.channels.drain(first.min(end)..end).collect();
    audio
}
