//! Instruments are written out.

use crate::export::{foresee, written};
use crate::folder::{IntoFolder, give_into};
use crate::levels::even_levels;
use crate::to_write::OfSnapshot;
use crate::{ExportSettings, Library, Outcome, Shell, Snapshot, ToWrite, Took, Watch, shell_path};
use formats::{Format, Place, clean_name};
use std::time::Instant;

/// Where exports lie.
pub const EXPORTS: &str = "exports/";

/// Of the bar, so much is listening to levels.
const LISTENING: f64 = 0.3;

/// Writes instruments out, as they were when that was asked for.
#[derive(Debug, Clone)]
pub struct Export {
    /// What to write.
    pub settings: ExportSettings,
    /// Each with its takes, and where it stands.
    pub snapshots: Vec<(Snapshot, Place)>,
    /// Whether levels are made such that all are as loud as the softest.
    pub even: bool,
    /// A name for all of them together, as what is written is called; the program's own, where it is one.
    pub title: Option<String>,
    /// What is written is kept under this.
    pub name: String,
    /// Where it is given to; a file to download, where it is left out.
    pub into: Option<IntoFolder>,
    /// The hash of the shell that a page which plays has.
    pub shell: Option<String>,
}

/// A shell that lies in a library, by its hash.
pub(crate) fn shell_of(library: &dyn Library, hash: Option<&str>) -> anyhow::Result<Option<Shell>> {
    let Some(hash) = hash else {
        return Ok(None);
    };
    let packed = library.bytes(&shell_path(hash), 0..u64::MAX)?;
    packed.map(Shell::of_packed).transpose()
}

impl Export {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled, or the format cannot hold it.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let began = Instant::now();
        let ending = match self.settings.format {
            Format::Sfz | Format::Page => "zip",
            Format::SoundFont2 => "sf2",
        };
        let shell = shell_of(library, self.shell.as_deref())?;
        let mut snapshots = self.snapshots.clone();
        let listening = if self.even { LISTENING } else { 0.0 };
        if self.even {
            even_levels(library, &mut snapshots, |share| {
                watch.tell(share * listening).is_ok()
            })?;
        }
        let samples: Vec<OfSnapshot> = (snapshots.iter())
            .map(|(snapshot, _)| OfSnapshot { library, snapshot })
            .collect();
        let parts: Vec<ToWrite<OfSnapshot>> = (snapshots.iter().zip(&samples))
            .map(|((snapshot, place), samples)| ToWrite {
                program: &snapshot.program,
                place: *place,
                panel: Some(&snapshot.panel),
                samples,
            })
            .collect();
        let said: Vec<_> = (parts.iter()).map(|part| (part.program, part.place)).collect();
        let audio_bytes = foresee(&said, self.settings)?.bytes;
        let tell = |done: f64| watch.tell(listening + done * (1.0 - listening)).is_ok();
        if let Some(into) = &self.into {
            let (exported, given) = give_into(&parts, (self.settings, shell.as_ref()), into, tell)?;
            watch.tell(1.0)?;
            return Ok(Outcome {
                result: serde_json::json!({
                    "name": exported.name, "given": given, "losses": exported.losses,
                }),
                ..Outcome::default()
            });
        }
        let (file, mut exported) = written(library, (self.settings, shell.as_ref()), &parts, tell)?;
        if let Some(title) = &self.title {
            exported.name = format!("{}.{ending}", clean_name(title));
        }
        let key = serde_json::to_vec(&(self.settings, &self.title, self.even, &self.shell))?;
        let path = format!(
            "{EXPORTS}{}-{}.{ending}",
            self.name,
            &blake3::hash(&key).to_hex()[..16]
        );
        let size = file.as_file().metadata()?.len();
        library.put_file(&path, file.path())?;
        watch.tell(1.0)?;
        let took = Took {
            audio_bytes,
            seconds: began.elapsed().as_secs_f64(),
        };
        Ok(Outcome {
            result: serde_json::json!({
                "file": path, "name": exported.name, "bytes": size, "losses": exported.losses, "took": took,
            }),
            ..Outcome::default()
        })
    }
}
