//! Where files go that are written: into a zip, or a folder.

use anyhow::Context;
use formats::{Placed, Together};
use std::fs::{File, Permissions};
use std::io::{BufWriter, Seek, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use zip::CompressionMethod;
use zip::write::SimpleFileOptions;

/// Where files go.
pub(crate) trait Files {
    /// Writes one under a path with `/`.
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()>;
}

/// A zip of files that are not packed.
pub(crate) struct Zip<W: Write + Seek>(pub(crate) zip::ZipWriter<W>);

impl<W: Write + Seek> Files for Zip<W> {
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        // Audio does not get smaller by packing; without the clock in it, the same program gives the same bytes.
        let plain = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Stored)
            .last_modified_time(zip::DateTime::default())
            .large_file(true);
        self.0.start_file(path, plain)?;
        write(&mut self.0)
    }
}

/// A folder of files, each of them whole or not there.
pub(crate) struct Folder<'a>(pub(crate) &'a Path);

impl Files for Folder<'_> {
    fn file(
        &mut self,
        path: &str,
        write: &mut dyn FnMut(&mut dyn Write) -> anyhow::Result<()>,
    ) -> anyhow::Result<()> {
        write_whole(&self.0.join(path), |mut out| write(&mut out))
    }
}

/// Writes a file that is whole or not there; the folders that it lies in are made.
///
/// # Errors
/// Where it cannot be written, and those of `write`.
pub fn write_whole<T>(
    path: &Path,
    write: impl FnOnce(&mut BufWriter<File>) -> anyhow::Result<T>,
) -> anyhow::Result<T> {
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty());
    let parent = parent.unwrap_or(Path::new("."));
    let unwritable = || format!("«{}» cannot be written", path.display());
    std::fs::create_dir_all(parent).with_context(unwritable)?;
    // As any file of its maker's: the process's mask takes away what it takes.
    let mut named = tempfile::Builder::new();
    let file = named
        .permissions(Permissions::from_mode(0o666))
        .tempfile_in(parent)
        .with_context(unwritable)?;
    let mut out = BufWriter::new(file.reopen()?);
    let done = write(&mut out)?;
    out.flush()?;
    file.persist(path).with_context(unwritable)?;
    Ok(done)
}

/// The text beside the files that says who made them.
pub(crate) const CREDITS: &str = "Credits and licence.txt";

/// What stands in it: each thing once, though several say it; `None` where nobody says anything.
pub(crate) fn credits_of(all: &Together) -> Option<String> {
    let mut said: Vec<String> = Vec::new();
    for Placed { program, .. } in &all.programs {
        let both = [("Credits", &program.credits), ("Licence", &program.licence)];
        for (what, text) in both.into_iter().filter(|(_, text)| !text.is_empty()) {
            let text = format!("{what}\n\n{text}\n");
            if !said.contains(&text) {
                said.push(text);
            }
        }
    }
    Some(said.join("\n")).filter(|said| !said.is_empty())
}
