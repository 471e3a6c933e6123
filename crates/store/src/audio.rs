//! Recordings under their hash, and exports under their job. Files go in and out as streams.

use crate::{RecordingForm, Spool, Store};
use anyhow::Context;
use bytes::Bytes;
use futures::StreamExt;
use futures::stream::BoxStream;
use object_store::path::Path;
use object_store::{ObjectStore, WriteMultipart};
use signal::Audio;
use tokio::io::AsyncReadExt;

/// Bytes read from disk and sent at once.
const PART_BYTES: usize = 1 << 20;
/// Parts under way at once.
const PARTS: usize = 4;

fn recording_path(hash: &str) -> Path {
    Path::from(format!("recordings/{}/{hash}.wav", hash.get(..2).unwrap_or("00")))
}

impl Store {
    /// Ends a spool and puts it under its hash, which it gives.
    pub async fn put_recording(&self, spool: &mut Spool) -> anyhow::Result<String> {
        let hash = spool.finish()?;
        self.put_file(recording_path(&hash).as_ref(), spool.path())
            .await
            .context("the recording could not be kept")?;
        Ok(hash)
    }

    /// Frames `first..first + frames` of a recording; any stretch is read at once, however long the file.
    pub async fn read_recording(
        &self,
        hash: &str,
        form: RecordingForm,
        first: u64,
        frames: u64,
    ) -> anyhow::Result<Audio> {
        let per_frame = u64::from(form.channels) * u64::from(form.bits / 8);
        let start = form.layout(0).header().len() as u64 + first * per_frame;
        let bytes = self
            .files
            .get_range(&recording_path(hash), start..start + frames * per_frame)
            .await
            .context("the recording could not be read")?;
        let samples = formats::decode_samples(form.bits, &bytes);
        Ok(Audio::from_interleaved(
            form.rate_hz,
            usize::from(form.channels),
            &samples,
        ))
    }

    /// Puts a file from the local disk under a name.
    pub async fn put_file(&self, name: &str, from: &std::path::Path) -> anyhow::Result<()> {
        let mut file = tokio::fs::File::open(from).await?;
        let upload = self.files.put_multipart(&Path::from(name)).await?;
        let mut writer = WriteMultipart::new(upload);
        let mut part = vec![0; PART_BYTES];
        loop {
            let count = file.read(&mut part).await?;
            if count == 0 {
                break;
            }
            writer.wait_for_capacity(PARTS).await?;
            writer.write(&part[..count]);
        }
        writer.finish().await?;
        Ok(())
    }

    /// Puts bytes under a name.
    pub async fn put_bytes(&self, name: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        self.files.put(&Path::from(name), bytes.into()).await?;
        Ok(())
    }

    /// Bytes `first..end` under a name, cut to what is there; `None` where there is no such name.
    pub async fn bytes_of(&self, name: &str, range: std::ops::Range<u64>) -> anyhow::Result<Option<Bytes>> {
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

    /// Removes what was written longest ago of all under a folder, until the rest is no more than so many bytes.
    pub async fn keep_under(&self, folder: &str, most_bytes: u64) -> anyhow::Result<()> {
        let mut all: Vec<object_store::ObjectMeta> = self
            .files
            .list(Some(&Path::from(folder)))
            .filter_map(|found| async { found.ok() })
            .collect()
            .await;
        let mut size: u64 = all.iter().map(|file| file.size).sum();
        all.sort_by_key(|file| file.last_modified);
        for file in all {
            if size <= most_bytes {
                break;
            }
            size -= file.size;
            self.files.delete(&file.location).await?;
        }
        Ok(())
    }

    /// Puts a stream of bytes under a name; gives how many they were.
    pub async fn put_stream<E: Into<anyhow::Error>>(
        &self,
        name: &str,
        mut stream: impl futures::Stream<Item = Result<Bytes, E>> + Unpin,
    ) -> anyhow::Result<u64> {
        let mut writer = WriteMultipart::new(self.files.put_multipart(&Path::from(name)).await?);
        let mut count = 0;
        while let Some(piece) = stream.next().await {
            let piece = match piece {
                Ok(piece) => piece,
                Err(error) => {
                    writer.abort().await?;
                    return Err(error.into());
                }
            };
            count += piece.len() as u64;
            writer.wait_for_capacity(PARTS).await?;
            writer.write(&piece);
        }
        writer.finish().await?;
        Ok(count)
    }

    /// Forgets a file.
    pub async fn forget_file(&self, name: &str) -> anyhow::Result<()> {
        Ok(self.files.delete(&Path::from(name)).await?)
    }

    /// Reads a file back, with its length.
    pub async fn read_file(
        &self,
        name: &str,
    ) -> anyhow::Result<(u64, BoxStream<'static, object_store::Result<Bytes>>)> {
        let found = self.files.get(&Path::from(name)).await?;
        Ok((found.meta.size, found.into_stream()))
    }
}
