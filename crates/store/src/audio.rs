//! Recordings under their hash, and exports under their job.

use crate::Store;
use anyhow::Context;
use bytes::Bytes;
use object_store::path::Path;
use object_store::{ObjectStore, PutPayload};
use signal::Audio;

/// Bytes before the first sample of the files written by [`Store::put_recording`] (`WAVE_FORMAT_EXTENSIBLE`, 32-bit float).
const WAV_HEADER_BYTES: u64 = 12 + 8 + 40 + 8 + 4 + 8;

fn recording_path(hash: &str) -> Path {
    Path::from(format!("recordings/{}/{hash}.wav", hash.get(..2).unwrap_or("00")))
}

impl Store {
    /// Puts a recording under its hash, as a WAV file of 32-bit floats. `wav` is that file.
    pub async fn put_recording(&self, hash: &str, wav: Vec<u8>) -> anyhow::Result<()> {
        self.files
            .put(&recording_path(hash), PutPayload::from(wav))
            .await
            .context("the recording could not be kept")?;
        Ok(())
    }

    /// Frames `first..first + frames` of a recording; any stretch is read at once, however long the file.
    pub async fn read_recording(
        &self,
        hash: &str,
        rate_hz: u32,
        channels: u16,
        first: u64,
        frames: u64,
    ) -> anyhow::Result<Audio> {
        let per_frame = u64::from(channels) * 4;
        let start = WAV_HEADER_BYTES + first * per_frame;
        let bytes = self
            .files
            .get_range(&recording_path(hash), start..start + frames * per_frame)
            .await
            .context("the recording could not be read")?;
        let samples: Vec<f32> = bytes
            .chunks_exact(4)
            .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
            .collect();
        Ok(Audio::from_interleaved(rate_hz, usize::from(channels), &samples))
    }

    /// Puts a file under a name.
    pub async fn put_file(&self, name: &str, bytes: Vec<u8>) -> anyhow::Result<()> {
        self.files.put(&Path::from(name), PutPayload::from(bytes)).await?;
        Ok(())
    }

    /// Reads a file back.
    pub async fn read_file(&self, name: &str) -> anyhow::Result<Bytes> {
        Ok(self.files.get(&Path::from(name)).await?.bytes().await?)
    }
}
