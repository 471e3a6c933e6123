//! Recordings under their hash, and files under their names. They go in and out as streams.

use crate::folder::sync_folder;
use crate::{Spool, Store};
use anyhow::Context;
use bytes::Bytes;
use futures::StreamExt;
use futures::stream::BoxStream;
use object_store::local::LocalFileSystem;
use object_store::path::Path;
use object_store::prefix::PrefixStore;
use object_store::{ObjectStore, WriteMultipart};
use signal::Audio;
use std::ops::Range;
use std::sync::Arc;
use tokio::io::AsyncReadExt;
use work::{Recording, RecordingForm};

/// Bytes read from disk and sent at once.
const PART_BYTES: usize = 1 << 20;
/// Parts under way at once.
const PARTS: usize = 4;
/// A recording is read in pieces of so many bytes: beside what it becomes, no more of it is in memory.
const PIECE_BYTES: u64 = 2 << 20;

type Files = (Arc<dyn ObjectStore>, Option<Arc<std::path::Path>>);

/// The files at an address, or under `folder/audio`.
pub(crate) fn files_at(url: Option<&str>, folder: &std::path::Path) -> anyhow::Result<Files> {
    let Some(url) = url else {
        let audio = folder.join("audio");
        std::fs::create_dir_all(&audio)?;
        let files = LocalFileSystem::new_with_prefix(&audio)?;
        return Ok((Arc::new(files), Some(audio.into())));
    };
    let url = url::Url::parse(url).context("LADDER_AUDIO_URL is no address")?;
    // Names of environment variables as they are usually written; the crate knows them in lower case.
    let options = std::env::vars_os().filter_map(|(name, value)| {
        Some((name.into_string().ok()?.to_lowercase(), value.into_string().ok()?))
    });
    let (files, prefix) = object_store::parse_url_opts(&url, options)
        .with_context(|| format!("the audio at {url} cannot be reached"))?;
    Ok((Arc::new(PrefixStore::new(files, prefix)), None))
}

pub(crate) fn recording_path(hash: &str) -> String {
    format!("recordings/{}/{hash}.wav", hash.get(..2).unwrap_or("00"))
}

impl Store {
    /// Ends a spool and puts it under its hash. Before the file is there, the database knows that it will be: the sweep leaves it alone.
    ///
    /// # Errors
    /// Those of the disk, the database and the object store.
    pub async fn put_recording(&self, spool: &mut Spool) -> anyhow::Result<Recording> {
        let recording = Recording {
            hash: spool.finish()?,
            form: spool.form(),
            frames: spool.frames(),
        };
        self.note_recording(&recording).await?;
        self.put_file(&recording_path(&recording.hash), spool.path())
            .await
            .context("the recording could not be kept")?;
        Ok(recording)
    }

    /// Some channels of the frames in a span of a recording; any stretch is read at once, however long the file.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    pub async fn read_recording(
        &self,
        hash: &str,
        form: RecordingForm,
        span: Range<u64>,
        channels: Range<usize>,
    ) -> anyhow::Result<Audio> {
        let frame_bytes = form.frame_bytes().max(1);
        let header = form.layout(0).header().len() as u64;
        let all = usize::from(form.channels);
        let channels = channels.start.min(all)..channels.end.min(all);
        let frames = span.end.saturating_sub(span.start);
        let at = |frame: u64| {
            let bytes = span.start.checked_add(frame)?.checked_mul(frame_bytes)?;
            bytes.checked_add(header)
        };
        let mut sides: Vec<Vec<f32>> = channels
            .clone()
            .map(|_| Vec::with_capacity(frames as usize))
            .collect();
        let piece = (PIECE_BYTES / frame_bytes).max(1);
        let path = Path::from(recording_path(hash));
        let mut first = 0;
        while first < frames {
            let last = (first + piece).min(frames);
            let range = at(first).zip(at(last)).context("that stretch is out of reach")?;
            let bytes = self
                .files
                .get_range(&path, range.0..range.1)
                .await
                .context("the recording could not be read")?;
            let samples = formats::decode_samples(form.bits, &bytes);
            for (side, channel) in sides.iter_mut().zip(channels.clone()) {
                side.extend(samples.chunks_exact(all.max(1)).map(|frame| frame[channel]));
            }
            first = last;
        }
        Ok(Audio {
            rate_hz: form.rate_hz,
            channels: sides,
        })
    }

    /// Puts a file from the local disk under a name.
    ///
    /// # Errors
    /// Those of the disk and the object store.
    pub async fn put_file(&self, name: &str, from: &std::path::Path) -> anyhow::Result<()> {
        let file = tokio::fs::File::open(from).await?;
        let parts = futures::stream::unfold(file, |mut file| async move {
            let mut part = vec![0; PART_BYTES];
            match file.read(&mut part).await {
                Ok(0) => None,
                Ok(count) => {
                    part.truncate(count);
                    Some((Ok(Bytes::from(part)), file))
                }
                Err(error) => Some((Err(error), file)),
            }
        });
        self.put_stream(name, Box::pin(parts)).await?;
        Ok(())
    }

    /// Puts bytes under a name.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn put_bytes(&self, name: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        self.files.put(&Path::from(name), bytes.into()).await?;
        self.sync(name).await
    }

    /// What lies under a name is safe when this returns: the local object store does not see to it.
    async fn sync(&self, name: &str) -> anyhow::Result<()> {
        let Some(folder) = self.local.clone() else {
            return Ok(());
        };
        let path = folder.join(name);
        tokio::task::spawn_blocking(move || {
            std::fs::File::open(&path)?.sync_all()?;
            // The folder that it lies in may be new as well.
            let around = path.ancestors().skip(1).take_while(|part| *part != &*folder);
            for part in around {
                sync_folder(part)?;
            }
            sync_folder(&folder)
        })
        .await??;
        Ok(())
    }

    /// Bytes `first..end` under a name, cut to what is there; `None` where there is no such name.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn bytes_of(&self, name: &str, range: Range<u64>) -> anyhow::Result<Option<Bytes>> {
        let path = Path::from(name);
        let size = match self.files.head(&path).await {
            Ok(meta) => meta.size,
            Err(object_store::Error::NotFound { .. }) => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        let end = range.end.min(size);
        if range.start >= end {
            return Ok(Some(Bytes::new()));
        }
        Ok(Some(self.files.get_range(&path, range.start..end).await?))
    }

    /// Puts a stream of bytes under a name; gives how many they were. Where the stream or the store fails, nothing is left under it.
    ///
    /// # Errors
    /// Those of the stream and the object store.
    pub async fn put_stream<E: Into<anyhow::Error>>(
        &self,
        name: &str,
        mut stream: impl futures::Stream<Item = Result<Bytes, E>> + Unpin,
    ) -> anyhow::Result<u64> {
        let mut writer = WriteMultipart::new(self.files.put_multipart(&Path::from(name)).await?);
        let mut count = 0;
        while let Some(piece) = stream.next().await {
            let ready = match piece {
                Ok(piece) => match writer.wait_for_capacity(PARTS).await {
                    Ok(()) => Ok(piece),
                    Err(error) => Err(error.into()),
                },
                Err(error) => Err(error.into()),
            };
            match ready {
                Ok(piece) => {
                    count += piece.len() as u64;
                    writer.write(&piece);
                }
                Err(error) => {
                    // What went wrong first is what is told.
                    let _ = writer.abort().await;
                    return Err(error);
                }
            }
        }
        writer.finish().await?;
        self.sync(name).await?;
        Ok(count)
    }

    /// Forgets a file.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn forget_file(&self, name: &str) -> anyhow::Result<()> {
        match self.files.delete(&Path::from(name)).await {
            Ok(()) | Err(object_store::Error::NotFound { .. }) => Ok(()),
            Err(error) => Err(error.into()),
        }
    }

    /// Reads a file back, with its length.
    ///
    /// # Errors
    /// Those of the object store.
    pub async fn read_file(
        &self,
        name: &str,
    ) -> anyhow::Result<(u64, BoxStream<'static, object_store::Result<Bytes>>)> {
        let found = self.files.get(&Path::from(name)).await?;
        Ok((found.meta.size, found.into_stream()))
    }
}
