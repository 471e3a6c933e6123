//! A program that is written, and where its audio and its pictures are.

use crate::{Library, Snapshot, take_of_source};
use anyhow::Context;
use formats::Place;
use instrument::Panel;
use program::Program;
use std::path::PathBuf;

/// Where pictures of panels lie in the store, by their hashes.
pub const PICTURES: &str = "pictures/";

/// Where the audio of a program's samples is.
pub trait Samples {
    /// The whole of a sample, by its `source`.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<signal::Audio>;

    /// Files of this machine that it reads; none where they lie in a library.
    fn files(&self) -> Vec<PathBuf> {
        Vec::new()
    }

    /// A picture of its panel, by its hash; `None` where it is not there.
    ///
    /// # Errors
    /// Where it cannot be read.
    fn picture(&self, _hash: &str) -> anyhow::Result<Option<Vec<u8>>> {
        Ok(None)
    }
}

pub(crate) struct OfSnapshot<'a> {
    pub(crate) library: &'a dyn Library,
    pub(crate) snapshot: &'a Snapshot,
}

impl Samples for OfSnapshot<'_> {
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<signal::Audio> {
        let id = take_of_source(&sample.source)?;
        let take = self.snapshot.takes.get(&id).context("a take is not there")?;
        let of = (
            usize::from(sample.first_channel),
            usize::from(sample.source_channels),
        );
        take.audio(self.library, of, 0, u64::MAX)
    }

    fn picture(&self, hash: &str) -> anyhow::Result<Option<Vec<u8>>> {
        self.library.bytes(&format!("{PICTURES}{hash}"), 0..u64::MAX)
    }
}

/// A program that is written, alone or with others.
pub struct ToWrite<'a, S: Samples + ?Sized> {
    /// What it is.
    pub program: &'a Program,
    /// Where it stands among others.
    pub place: Place,
    /// What it is played by, where the format holds that.
    pub panel: Option<&'a Panel>,
    /// Its audio.
    pub samples: &'a S,
}

/// What stands where.
pub(crate) fn placed<'a, S: Samples + ?Sized>(parts: &[ToWrite<'a, S>]) -> Vec<(&'a Program, Place)> {
    parts.iter().map(|part| (part.program, part.place)).collect()
}
