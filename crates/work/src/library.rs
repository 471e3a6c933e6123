//! Where jobs read and write audio, and how they are watched.

use crate::{Recording, RecordingForm};
use signal::{Audio, Levels, LoopFacts};
use std::ops::Range;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

/// Audio under names: the store, or a folder in a test. What is put twice under one name is the same both times.
pub trait Library: Sync {
    /// Some channels of frames `first..first + frames` of a recording.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    fn frames(
        &self,
        recording: &str,
        form: RecordingForm,
        span: Range<u64>,
        channels: Range<usize>,
    ) -> anyhow::Result<Audio>;

    /// Bytes under a name, cut to what is there; `None` where there is no such name.
    ///
    /// # Errors
    /// Where they cannot be read.
    fn bytes(&self, name: &str, range: Range<u64>) -> anyhow::Result<Option<Vec<u8>>>;

    /// Puts bytes under a name.
    ///
    /// # Errors
    /// Where they cannot be written.
    fn put_bytes(&self, name: &str, bytes: Vec<u8>) -> anyhow::Result<()>;

    /// Puts a local file under a name.
    ///
    /// # Errors
    /// Where it cannot be written.
    fn put_file(&self, name: &str, from: &Path) -> anyhow::Result<()>;

    /// A file under a name, on the local disk while it is held.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    fn local(&self, name: &str) -> anyhow::Result<std::fs::File>;

    /// A file of this process alone, gone when it is dropped.
    ///
    /// # Errors
    /// Those of the disk.
    fn temporary(&self) -> std::io::Result<tempfile::NamedTempFile>;

    /// A recording that is written piece by piece.
    ///
    /// # Errors
    /// Those of the disk.
    fn begin(&self, form: RecordingForm) -> anyhow::Result<Box<dyn Sink>>;

    /// Notes how loud a take is as it was cleaned, by the name of what was made of it.
    ///
    /// # Errors
    /// Where it cannot be kept.
    fn note_levels(&self, take: u64, name: &str, levels: &Levels) -> anyhow::Result<()>;

    /// Notes what a take's loop is worth, by its name.
    ///
    /// # Errors
    /// Where it cannot be kept.
    fn note_loop(&self, take: u64, name: &str, facts: &LoopFacts) -> anyhow::Result<()>;

    /// Notes what was heard of an instrument, as JSON, under a name of all that it follows from.
    ///
    /// # Errors
    /// Where it cannot be kept.
    fn note_heard(&self, instrument: u64, name: &str, facts: &str) -> anyhow::Result<()>;

    /// Waits for a turn at what takes a whole core; the turn lasts as long as what is given back.
    fn turn(&self) -> Box<dyn std::any::Any>;
}

/// Puts a whole sound into the library.
///
/// # Errors
/// Those of [`Library::begin`] and [`Sink`].
pub fn keep(library: &dyn Library, audio: &Audio, bits: u16) -> anyhow::Result<Recording> {
    const PIECE: usize = 65_536;
    let form = RecordingForm {
        rate_hz: audio.rate_hz,
        channels: audio.channels.len() as u16,
        bits,
    };
    let mut sink = library.begin(form)?;
    for first in (0..audio.frames()).step_by(PIECE) {
        sink.write(&audio.slice(first, first + PIECE).interleaved())?;
    }
    sink.keep()
}

/// A recording that is being written.
pub trait Sink: Send {
    /// Adds interleaved frames.
    ///
    /// # Errors
    /// Those of the disk.
    fn write(&mut self, samples: &[f32]) -> std::io::Result<()>;

    /// Frames so far.
    fn frames(&self) -> u64;

    /// Ends it and keeps it under its hash.
    ///
    /// # Errors
    /// Those of the disk.
    fn keep(self: Box<Self>) -> anyhow::Result<Recording>;
}

/// Why something cannot be, as a sentence for whoever asked: trying again would not help.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Refusal(pub String);

/// An error that ends a job at once.
pub fn refusal(sentence: impl Into<String>) -> anyhow::Error {
    Refusal(sentence.into()).into()
}

/// How far a job is, and whether it is still wanted.
#[derive(Debug)]
pub struct Watch {
    thousandths: AtomicU32,
    wanted: AtomicBool,
}

impl Default for Watch {
    fn default() -> Self {
        Self {
            thousandths: AtomicU32::new(0),
            wanted: AtomicBool::new(true),
        }
    }
}

impl Watch {
    /// Tells how far it is, 0 to 1.
    ///
    /// # Errors
    /// [`Refusal`] where nobody wants it any more.
    pub fn tell(&self, share: f64) -> Result<(), Refusal> {
        self.thousandths
            .store((share.clamp(0.0, 1.0) * 1_000.0) as u32, Ordering::Relaxed);
        if self.wanted.load(Ordering::Relaxed) {
            Ok(())
        } else {
            Err(Refusal("Cancelled.".into()))
        }
    }

    /// How far it is, 0 to 1.
    pub fn share(&self) -> f64 {
        f64::from(self.thousandths.load(Ordering::Relaxed)) / 1_000.0
    }

    /// It is not wanted any more.
    pub fn stop(&self) {
        self.wanted.store(false, Ordering::Relaxed);
    }
}
