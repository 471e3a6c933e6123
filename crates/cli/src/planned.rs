//! What is planned of a folder of recordings, and how it is called.

use instrument::PlanFile;
use std::path::Path;
use work::refusal;

/// A plan file.
///
/// # Errors
/// With a sentence, where it cannot be read or does not say what a plan says.
pub fn plan_of(path: &Path) -> anyhow::Result<PlanFile> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| refusal(format!("«{}» cannot be read: {error}", path.display())))?;
    PlanFile::read(&text).map_err(refusal)
}

/// As an instrument of a folder is called: as it is planned, else as its folder is.
pub fn name_of(folder: &Path, plan: Option<&PlanFile>) -> String {
    let planned = plan.and_then(|file| file.name.clone());
    let called = || {
        Some(
            folder
                .canonicalize()
                .ok()?
                .file_name()?
                .to_string_lossy()
                .into_owned(),
        )
    };
    planned.or_else(called).unwrap_or_else(|| "Instrument".to_owned())
}
