//! Audio while it arrives: written to a local file, synced before it is acknowledged.

use formats::encode_samples;
use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use work::RecordingForm;

/// Begins the hash under which a recording is kept: BLAKE3 of rate, channels, width and samples.
fn hasher(form: RecordingForm) -> blake3::Hasher {
    let mut hasher = blake3::Hasher::new();
    hasher
        .update(&form.rate_hz.to_le_bytes())
        .update(&form.channels.to_le_bytes())
        .update(&form.bits.to_le_bytes());
    hasher
}

/// One recording that is arriving. Its file is gone when it is dropped, unless it is to outlive its process.
#[derive(Debug)]
pub struct Spool {
    file: File,
    path: PathBuf,
    form: RecordingForm,
    frames: u64,
    hasher: blake3::Hasher,
    bytes: Vec<u8>,
    stays: bool,
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
            hasher: hasher(form),
            bytes: Vec::new(),
            stays: false,
        })
    }

    /// Goes on with one that an earlier process began: its whole frames are kept, and more can follow.
    pub(crate) fn go_on(path: &Path, form: RecordingForm) -> std::io::Result<Self> {
        let mut file = File::options().read(true).write(true).open(path)?;
        let header = form.layout(0).header().len() as u64;
        let length = file.metadata()?.len();
        let frames = length.saturating_sub(header) / form.frame_bytes().max(1);
        let mut hasher = hasher(form);
        let end = header + frames * form.frame_bytes();
        if length < header {
            file.set_len(0)?;
            file.write_all(&form.layout(0).header())?;
        } else {
            file.set_len(end)?;
            file.seek(SeekFrom::Start(header))?;
            let mut rest = BufReader::with_capacity(1 << 16, &file).take(end - header);
            std::io::copy(&mut rest, &mut hasher)?;
        }
        file.seek(SeekFrom::Start(end.max(header)))?;
        Ok(Self {
            file,
            path: path.to_owned(),
            form,
            frames,
            hasher,
            bytes: Vec::new(),
            stays: true,
        })
    }

    /// Its file outlives it, until it is told to go.
    pub(crate) fn staying(mut self) -> Self {
        self.stays = true;
        self
    }

    /// Adds interleaved frames.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn write(&mut self, samples: &[f32]) -> std::io::Result<()> {
        self.bytes.clear();
        encode_samples(self.form.bits, samples, &mut self.bytes);
        self.file.write_all(&self.bytes)?;
        self.hasher.update(&self.bytes);
        self.frames += samples.len() as u64 / u64::from(self.form.channels.max(1));
        Ok(())
    }

    /// What was written before is safe when this returns: it may be acknowledged.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn sync(&mut self) -> std::io::Result<()> {
        self.file.sync_data()
    }

    /// Ends it: from now on the file is a WAV file. Gives its hash. It may be ended again after an error.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn finish(&mut self) -> std::io::Result<String> {
        let layout = self.form.layout(self.frames);
        let end = layout.header().len() as u64 + layout.sample_bytes();
        if layout.sample_bytes() % 2 == 1 {
            self.file.seek(SeekFrom::Start(end))?;
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
        if !self.stays {
            // What was kept lies under its hash by now; what was not is half a recording, which nobody wants.
            let _ = std::fs::remove_file(&self.path);
        }
    }
}
