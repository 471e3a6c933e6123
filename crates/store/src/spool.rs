//! Audio while it arrives: written to a local file, synced before it is acknowledged.

use formats::{WavLayout, encode_samples};
use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// How a recording is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RecordingForm {
    /// Frames per second.
    pub rate_hz: u32,
    /// Interleaved in every frame.
    pub channels: u16,
    /// 24, or 32 (float).
    pub bits: u16,
}

impl RecordingForm {
    pub(crate) fn layout(self, frames: u64) -> WavLayout {
        WavLayout {
            rate_hz: self.rate_hz,
            channels: self.channels,
            bits: self.bits,
            frames,
            sampler: None,
        }
    }

    /// Begins the hash under which a recording is kept: BLAKE3 of rate, channels, width and samples.
    fn hasher(self) -> blake3::Hasher {
        let mut hasher = blake3::Hasher::new();
        hasher
            .update(&self.rate_hz.to_le_bytes())
            .update(&self.channels.to_le_bytes())
            .update(&self.bits.to_le_bytes());
        hasher
    }
}

/// One recording that is arriving. Its file is gone when it is dropped.
pub struct Spool {
    file: File,
    path: PathBuf,
    form: RecordingForm,
    frames: u64,
    hasher: blake3::Hasher,
    bytes: Vec<u8>,
}

impl Spool {
    /// A new one in a folder.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn begin(folder: &Path, name: &str, form: RecordingForm) -> std::io::Result<Self> {
        let path = folder.join(format!("{name}.part"));
        let mut file = File::options()
            .create(true)
            .truncate(true)
            .read(true)
            .write(true)
            .open(&path)?;
        // The lengths follow at the end.
        file.write_all(&form.layout(0).header())?;
        Ok(Self {
            file,
            path,
            form,
            frames: 0,
            hasher: form.hasher(),
            bytes: Vec::new(),
        })
    }

    /// Adds interleaved frames.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn write(&mut self, samples: &[f32]) -> std::io::Result<()> {
        self.bytes.clear();
        encode_samples(self.form.bits, samples, &mut self.bytes);
        self.hasher.update(&self.bytes);
        self.frames += samples.len() as u64 / u64::from(self.form.channels.max(1));
        self.file.write_all(&self.bytes)
    }

    /// What was written before is safe when this returns: it may be acknowledged.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn sync(&mut self) -> std::io::Result<()> {
        self.file.sync_data()
    }

    /// Ends it: from now on the file is a WAV file. Gives its hash.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn finish(&mut self) -> std::io::Result<String> {
        let layout = self.form.layout(self.frames);
        if layout.sample_bytes() % 2 == 1 {
            self.file.write_all(&[0])?;
        }
        self.file.seek(SeekFrom::Start(0))?;
        self.file.write_all(&layout.header())?;
        self.sync()?;
        Ok(self.hasher.finalize().to_hex().to_string())
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Frames so far.
    pub fn frames(&self) -> u64 {
        self.frames
    }

    /// How it is kept.
    pub fn form(&self) -> RecordingForm {
        self.form
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        // What was kept lies under its hash by now; what was not is half a recording, which nobody wants.
        let _ = std::fs::remove_file(&self.path);
    }
}
