//! What an audio file says of itself.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a file said of itself.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Inside {
    /// The key at which it sounds as recorded.
    pub root_key: Option<u8>,
    /// How far it lies above that key.
    pub recording_cents: f64,
    /// Its loop.
    #[serde(rename = "loop")]
    pub looped: Option<InsideLoop>,
}

/// A loop that stood inside a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InsideLoop {
    /// First frame of the loop.
    pub start_frame: u64,
    /// First frame after it.
    pub end_frame: u64,
}
