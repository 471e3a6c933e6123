//! The shell of a page that plays, which is the same for all instruments: its HTML and scripts, the engine and the decoder.

use anyhow::Context;
use std::io::{Cursor, Read, Write};
use std::path::Path;
use zip::write::SimpleFileOptions;

/// Where shells lie in the store, by their hashes.
pub const SHELLS: &str = "shells/";

/// Files of a shell, by their paths.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shell {
    files: Vec<(String, Vec<u8>)>,
}

impl Shell {
    /// Of these files.
    pub fn new(mut files: Vec<(String, Vec<u8>)>) -> Self {
        files.sort();
        Self { files }
    }

    /// Of a folder as it is built.
    ///
    /// # Errors
    /// Where it is not there, or cannot be read.
    pub fn of_folder(folder: &Path) -> anyhow::Result<Self> {
        let mut files = Vec::new();
        let mut folders = vec![folder.to_owned()];
        while let Some(next) = folders.pop() {
            let entries =
                std::fs::read_dir(&next).with_context(|| format!("«{}» cannot be read", next.display()));
            for entry in entries? {
                let path = entry?.path();
                if path.is_dir() {
                    folders.push(path);
                } else {
                    let name = path.strip_prefix(folder)?.to_string_lossy().into_owned();
                    files.push((name, std::fs::read(&path)?));
                }
            }
        }
        Ok(Self::new(files))
    }

    /// Its files, by their paths.
    pub fn files(&self) -> &[(String, Vec<u8>)] {
        &self.files
    }

    /// As one file: the same shell gives the same bytes.
    ///
    /// # Errors
    /// That it cannot be packed.
    pub fn packed(&self) -> anyhow::Result<Vec<u8>> {
        let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let plain = SimpleFileOptions::default().last_modified_time(zip::DateTime::default());
        for (name, bytes) in &self.files {
            zip.start_file(name.as_str(), plain)?;
            zip.write_all(bytes)?;
        }
        Ok(zip.finish()?.into_inner())
    }

    /// Of such a file.
    ///
    /// # Errors
    /// Where it is none.
    pub fn of_packed(bytes: Vec<u8>) -> anyhow::Result<Self> {
        let mut zip = zip::ZipArchive::new(Cursor::new(bytes))?;
        let mut files = Vec::with_capacity(zip.len());
        for place in 0..zip.len() {
            let mut entry = zip.by_index(place)?;
            let mut bytes = Vec::new();
            entry.read_to_end(&mut bytes)?;
            files.push((entry.name().to_owned(), bytes));
        }
        Ok(Self::new(files))
    }
}

/// Where a shell lies that has such a hash.
pub fn shell_path(hash: &str) -> String {
    format!("{SHELLS}{hash}.zip")
}
