//! The audio of takes that lie in a folder.

use super::files::{Heard, decoded};
use super::places::Place;
use anyhow::Context;
use instrument::ResolvedTake;
use signal::{Audio, Measurement};
use std::collections::HashMap;
use std::path::PathBuf;

/// Where the audio of takes lies, by their numbers, and what is done to it.
pub(super) struct Sounds {
    of: HashMap<u64, Sound>,
}

struct Sound {
    file: PathBuf,
    right: Option<PathBuf>,
    facts: Measurement,
}

impl Sounds {
    pub(super) fn of(places: &[Place], good: &[(PathBuf, Heard)]) -> Self {
        let sound = |of: &Place| Sound {
            file: good[of.file].0.clone(),
            right: of.right.map(|right| good[right].0.clone()),
            facts: good[of.file].1.facts.clone(),
        };
        Self {
            of: places.iter().map(|of| (of.take, sound(of))).collect(),
        }
    }

    /// Every file that is read.
    pub(super) fn files(&self) -> Vec<PathBuf> {
        let both = |sound: &Sound| std::iter::once(sound.file.clone()).chain(sound.right.clone());
        self.of.values().flat_map(both).collect()
    }

    /// A take, cleaned where that is said.
    pub(super) fn audio(&self, take: &ResolvedTake) -> anyhow::Result<Audio> {
        let sound = self.of.get(&take.recorded.id).context("a take is not there")?;
        let audio = sound.whole()?;
        let treatment = take
            .treatment
            .as_ref()
            .filter(|treatment| !treatment.cleaning.is_empty());
        Ok(match treatment {
            Some(treatment) => signal::clean(&audio, &treatment.cleaning, treatment.places(&sound.facts)),
            None => audio,
        })
    }
}

impl Sound {
    fn whole(&self) -> anyhow::Result<Audio> {
        let mut audio = decoded(&self.file)?;
        if let Some(right) = &self.right {
            let mut other = decoded(right)?;
            anyhow::ensure!(
                audio.rate_hz == other.rate_hz,
                "«{}» and its right side have different rates",
                self.file.display()
            );
            // The shorter one ends in silence.
            let frames = audio.frames().max(other.frames());
            audio.channels.truncate(1);
            audio.channels.append(&mut other.channels);
            audio.channels.truncate(2);
            for side in &mut audio.channels {
                side.resize(frames, 0.0);
            }
        }
        Ok(audio)
    }
}
