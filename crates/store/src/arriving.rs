//! Recordings of pages while they arrive. What is acknowledged is promised: beside each spool lies a file that says what it belongs to, so
//! that any later start of the folder's server can keep it, whatever became of everything else.

use crate::folder::{sync_folder, write_synced};
use crate::{Spool, Store};
use anyhow::Context;
use instrument::{Cell, Origin};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use work::RecordingForm;

/// What a recording belongs to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Belongs {
    /// A cell.
    Cell(Cell),
    /// A long take of that name.
    LongTake(String),
}

/// What a spool says of itself. How many frames of it are safe is told by its length.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct About {
    /// Its name, which no other spool has.
    pub spool: String,
    /// Whose.
    pub instrument: u64,
    /// What.
    pub belongs: Belongs,
    /// How it is kept.
    pub form: RecordingForm,
    /// The number that its first frame has on the page's line.
    pub first_frame: u64,
    /// Channels of that line, and how many mics they are.
    pub line_channels: u16,
    /// See above.
    pub mics: u16,
    /// What is known of the take.
    pub origin: Origin,
    /// Frames that were lost on their way.
    pub lost_frames: u64,
}

/// One that an earlier process left behind.
#[derive(Debug)]
pub struct Arrived {
    /// What it is.
    pub about: About,
    /// Its audio so far: whole frames.
    pub spool: Spool,
}

impl Arrived {
    /// The number of the next frame on the page's line.
    pub fn next_frame(&self) -> u64 {
        self.about.first_frame + self.spool.frames()
    }
}

fn about_path(folder: &Path, spool: &str) -> PathBuf {
    folder.join(format!("{spool}.about"))
}

impl Store {
    /// Begins a recording that outlives this process; before this returns, what it belongs to is safe.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn arrive(&self, about: &About) -> anyhow::Result<Spool> {
        let folder = self.scratch().arriving();
        write_synced(&about_path(folder, &about.spool), &serde_json::to_vec(about)?)?;
        let spool = Spool::begin(folder, &about.spool, about.form)?.staying();
        sync_folder(folder)?;
        Ok(spool)
    }

    /// Those that an earlier process of this folder left behind, oldest first.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn arrived(&self) -> anyhow::Result<Vec<Arrived>> {
        let folder = self.scratch().arriving();
        let mut found = Vec::new();
        for entry in std::fs::read_dir(folder)? {
            let path = entry?.path();
            if path.extension().is_some_and(|ending| ending == "part")
                && !path.with_extension("about").exists()
            {
                // What does not say what it is was begun by an earlier version, and promised to nobody.
                std::fs::remove_file(&path)?;
            }
            if path.extension().is_none_or(|ending| ending != "about") {
                continue;
            }
            let read = || -> anyhow::Result<Arrived> {
                let about: About = serde_json::from_slice(&std::fs::read(&path)?)?;
                let spool = Spool::go_on(&path.with_extension("part"), about.form)
                    .with_context(|| format!("the recording «{}»", about.spool))?;
                Ok(Arrived { about, spool })
            };
            match read() {
                Ok(arrived) => found.push((path.metadata()?.modified().ok(), arrived)),
                // Begun, and not a frame of it written: nothing of it was promised.
                Err(_) if !path.with_extension("part").exists() => std::fs::remove_file(&path)?,
                // Left where it is, for whoever can read it.
                Err(error) => tracing::error!("{}: {error:#}", path.display()),
            }
        }
        found.sort_by_key(|(made, _)| *made);
        Ok(found.into_iter().map(|(_, arrived)| arrived).collect())
    }

    /// Removes a spool whose take is kept, or that its maker threw away.
    ///
    /// # Errors
    /// Those of the disk.
    pub fn forget_arrived(&self, spool: &str) -> std::io::Result<()> {
        let folder = self.scratch().arriving();
        for path in [folder.join(format!("{spool}.part")), about_path(folder, spool)] {
            match std::fs::remove_file(path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error),
                _ => {}
            }
        }
        sync_folder(folder)
    }
}
