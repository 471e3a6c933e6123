//! What an edition is made of.

use crate::export_settings::ExportSettings;
use formats::Loss;
use serde::{Deserialize, Serialize};

/// Where files of editions lie.
pub const EDITIONS: &str = "editions/";

/// Where a file of an edition lies, by its hash.
pub fn edition_path(hash: &str) -> String {
    format!("{EDITIONS}{hash}")
}

/// A file of an edition.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EditionFile {
    /// BLAKE3 of its bytes.
    pub hash: String,
    /// As it is called.
    pub name: String,
    /// Its size.
    pub bytes: u64,
    /// As what it was written.
    pub settings: ExportSettings,
    /// What it could not hold.
    pub losses: Vec<Loss>,
}

/// An edition that was made.
#[derive(Debug, Clone, PartialEq)]
pub struct FrozenEdition {
    /// What its maker says of it.
    pub notes: String,
    /// What the instrument was, as [`instrument::Frozen`] is written.
    pub frozen: String,
    /// Its files.
    pub files: Vec<EditionFile>,
    /// Hashes of the recordings that they were made from.
    pub recordings: Vec<String>,
}
