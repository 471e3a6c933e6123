//! An edition is made: every file that is to be given away is written once, and lies under its hash from then on.

use crate::edition::{EditionFile, FrozenEdition, edition_path};
use crate::export::{Export, OfSnapshot};
use crate::{Effect, ExportSettings, Library, Outcome, Snapshot, Watch};

/// Makes an edition.
#[derive(Debug, Clone)]
pub struct Freeze {
    /// What its maker says of it.
    pub notes: String,
    /// What the instrument is.
    pub frozen: String,
    /// What is to be written, each of what sounds and its takes.
    pub wanted: Vec<(ExportSettings, Snapshot)>,
}

impl Freeze {
    /// Does it.
    ///
    /// # Errors
    /// Those of [`Export::run`].
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let mut files = Vec::with_capacity(self.wanted.len());
        let count = self.wanted.len() as f64;
        for (n, (settings, snapshot)) in self.wanted.iter().enumerate() {
            let samples = OfSnapshot { library, snapshot };
            let tell = |share: f64| watch.tell((n as f64 + share) / count).is_ok();
            let (file, exported) = Export::written(*settings, snapshot, &samples, tell)?;
            let mut hasher = blake3::Hasher::new();
            hasher.update_reader(file.reopen()?)?;
            let hash = hasher.finalize().to_hex().to_string();
            library.put_file(&edition_path(&hash), file.path())?;
            files.push(EditionFile {
                hash,
                name: exported.name,
                bytes: file.as_file().metadata()?.len(),
                settings: *settings,
                losses: exported.losses,
            });
        }
        watch.tell(1.0)?;
        let takes = self
            .wanted
            .iter()
            .flat_map(|(_, snapshot)| snapshot.takes.values());
        let mut recordings: Vec<String> = takes.map(|take| take.part.recording.clone()).collect();
        recordings.sort();
        recordings.dedup();
        Ok(Outcome {
            effect: Effect::Edition(FrozenEdition {
                notes: self.notes.clone(),
                frozen: self.frozen.clone(),
                files,
                recordings,
            }),
            ..Outcome::default()
        })
    }
}
