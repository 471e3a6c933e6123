//! The store as jobs see it: one thing after another, on a thread that may wait.

use crate::{Spool, Store};
use bytes::Bytes;
use futures::StreamExt;
use signal::{Audio, Levels, LoopFacts};
use std::io::{Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::Path;
use tokio::runtime::Handle;
use work::{Library, Recording, RecordingForm, Sink};

/// The store, for a thread on which nothing else runs.
#[derive(Clone)]
pub struct StoreLibrary {
    store: Store,
    runtime: Handle,
}

impl Store {
    /// This store for jobs. To be made inside the runtime, and used on threads that may wait.
    pub fn library(&self) -> StoreLibrary {
        StoreLibrary {
            store: self.clone(),
            runtime: Handle::current(),
        }
    }
}

impl Library for StoreLibrary {
    fn frames(
        &self,
        recording: &str,
        form: RecordingForm,
        span: Range<u64>,
        channels: Range<usize>,
    ) -> anyhow::Result<Audio> {
        self.runtime
            .block_on(self.store.read_recording(recording, form, span, channels))
    }

    fn bytes(&self, name: &str, range: Range<u64>) -> anyhow::Result<Option<Vec<u8>>> {
        let bytes = self.runtime.block_on(self.store.bytes_of(name, range))?;
        Ok(bytes.map(|bytes: Bytes| bytes.into()))
    }

    fn put_bytes(&self, name: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        self.runtime.block_on(self.store.put_bytes(name, bytes))
    }

    fn put_file(&self, name: &str, from: &Path) -> anyhow::Result<()> {
        self.runtime.block_on(self.store.put_file(name, from))
    }

    fn local(&self, name: &str) -> anyhow::Result<std::fs::File> {
        if let Some(folder) = &self.store.local {
            return Ok(std::fs::File::open(folder.join(name))?);
        }
        let file = self.store.scratch().file()?;
        let mut out = file.reopen()?;
        self.runtime.block_on(async {
            let (_, mut stream) = self.store.read_file(name).await?;
            while let Some(piece) = stream.next().await {
                out.write_all(&piece?)?;
            }
            anyhow::Ok(())
        })?;
        // Its name goes now, its bytes when it is closed.
        out.seek(SeekFrom::Start(0))?;
        Ok(out)
    }

    fn temporary(&self) -> std::io::Result<tempfile::NamedTempFile> {
        self.store.scratch().file()
    }

    fn begin(&self, form: RecordingForm) -> anyhow::Result<Box<dyn Sink>> {
        let name = uuid::Uuid::new_v4().to_string();
        Ok(Box::new(SpoolSink {
            spool: Spool::begin(self.store.scratch().path(), &name, form)?,
            library: self.clone(),
        }))
    }

    fn note_levels(&self, take: u64, name: &str, levels: &Levels) -> anyhow::Result<()> {
        self.runtime
            .block_on(self.store.put_cleaned_levels(take, name, levels))
    }

    fn note_loop(&self, take: u64, name: &str, facts: &LoopFacts) -> anyhow::Result<()> {
        self.runtime
            .block_on(self.store.put_judged_loop(take, name, facts))
    }

    fn note_heard(&self, instrument: u64, name: &str, facts: &str) -> anyhow::Result<()> {
        self.runtime
            .block_on(self.store.put_heard(instrument, name, facts))
    }

    fn turn(&self) -> Box<dyn std::any::Any> {
        // It is never closed.
        Box::new(
            self.runtime
                .block_on(self.store.turns.clone().acquire_owned())
                .ok(),
        )
    }
}

struct SpoolSink {
    spool: Spool,
    library: StoreLibrary,
}

impl Sink for SpoolSink {
    fn write(&mut self, samples: &[f32]) -> std::io::Result<()> {
        self.spool.write(samples)
    }

    fn frames(&self) -> u64 {
        self.spool.frames()
    }

    fn keep(mut self: Box<Self>) -> anyhow::Result<Recording> {
        let store = self.library.store.clone();
        self.library
            .runtime
            .block_on(store.put_recording(&mut self.spool))
    }
}
