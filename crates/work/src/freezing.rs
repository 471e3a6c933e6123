//! An edition is made: every file that is to be given away is written once, and lies under its hash from then on.

use crate::edition::{EditionFile, FrozenEdition, edition_path};
use crate::export::written;
use crate::exporting::shell_of;
use crate::to_write::{OfSnapshot, ToWrite};
use crate::{Effect, ExportSettings, Library, Outcome, Snapshot, Watch};
use formats::Place;

/// Makes an edition.
#[derive(Debug, Clone)]
pub struct Freeze {
    /// What its maker says of it.
    pub notes: String,
    /// What the instrument is.
    pub frozen: String,
    /// What is to be written, each of what sounds and its takes.
    pub wanted: Vec<(ExportSettings, Snapshot)>,
    /// The hash of the shell that a page which plays has.
    pub shell: Option<String>,
}

impl Freeze {
    /// Does it.
    ///
    /// # Errors
    /// Those of [`Export::run`].
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let mut files = Vec::with_capacity(self.wanted.len());
        let count = self.wanted.len() as f64;
        let shell = shell_of(library, self.shell.as_deref())?;
        for (n, (settings, snapshot)) in self.wanted.iter().enumerate() {
            let samples = OfSnapshot { library, snapshot };
            let tell = |share: f64| watch.tell((n as f64 + share) / count).is_ok();
            let part = ToWrite {
                program: &snapshot.program,
                place: Place::default(),
                panel: Some(&snapshot.panel),
                samples: &samples,
            };
            let (file, exported) = written(library, (*settings, shell.as_ref()), &[part], tell)?;
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
