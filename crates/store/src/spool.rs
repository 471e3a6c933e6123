//! Audio while it arrives: written to a local file, synced before it is acknowledged.

use signal::Audio;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// BLAKE3 of rate, channels, width and samples: the name under which a recording is kept.
pub fn hash_of(rate_hz: u32, channels: u16, samples: &[f32]) -> String {
    let mut hasher = header(rate_hz, channels);
    samples.iter().for_each(|sample| {
        hasher.update(&sample.to_le_bytes());
    });
    hasher.finalize().to_hex().to_string()
}

fn header(rate_hz: u32, channels: u16) -> blake3::Hasher {
    let mut hasher = blake3::Hasher::new();
    hasher
        .update(&rate_hz.to_le_bytes())
        .update(&channels.to_le_bytes())
        .update(&32u16.to_le_bytes());
    hasher
}

/// One take that is arriving. It is gone when it is dropped before it was kept.
pub struct Spool {
    file: File,
    path: PathBuf,
    rate_hz: u32,
    channels: u16,
    frames: u64,
    hasher: blake3::Hasher,
    hash: String,
}

impl Spool {
    /// A new one in a folder.
    pub fn begin(folder: &Path, name: &str, rate_hz: u32, channels: u16) -> std::io::Result<Self> {
        let path = folder.join(format!("{name}.part"));
        let file = File::options()
            .create(true)
            .truncate(true)
            .read(true)
            .write(true)
            .open(&path)?;
        Ok(Self {
            file,
            path,
            rate_hz,
            channels,
            frames: 0,
            hasher: header(rate_hz, channels),
            hash: String::new(),
        })
    }

    /// Adds interleaved frames.
    pub fn write(&mut self, samples: &[f32]) -> std::io::Result<()> {
        let bytes: Vec<u8> = samples.iter().flat_map(|sample| sample.to_le_bytes()).collect();
        self.hasher.update(&bytes);
        self.frames += samples.len() as u64 / u64::from(self.channels.max(1));
        self.file.write_all(&bytes)
    }

    /// What was written before is safe when this returns: it may be acknowledged.
    pub fn sync(&mut self) -> std::io::Result<()> {
        self.file.sync_data()
    }

    /// Ends it: its hash is known from now on. Gives the audio.
    pub fn finish(&mut self) -> std::io::Result<Audio> {
        self.sync()?;
        self.hash = self.hasher.finalize().to_hex().to_string();
        let mut bytes = Vec::new();
        self.file.seek(SeekFrom::Start(0))?;
        self.file.read_to_end(&mut bytes)?;
        let samples: Vec<f32> = bytes
            .chunks_exact(4)
            .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
            .collect();
        Ok(Audio::from_interleaved(
            self.rate_hz,
            usize::from(self.channels),
            &samples,
        ))
    }

    /// Empty before [`Spool::finish`].
    pub fn hash(&self) -> &str {
        &self.hash
    }

    /// Frames so far.
    pub fn frames(&self) -> u64 {
        self.frames
    }

    /// Frames per second.
    pub fn rate_hz(&self) -> u32 {
        self.rate_hz
    }

    /// Channels.
    pub fn channels(&self) -> u16 {
        self.channels
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        // What was kept lies under its hash by now; what was not is half a take, which nobody wants.
        let _ = std::fs::remove_file(&self.path);
    }
}
