//! Kits: sounds of one key each that are not transposed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which keys a kit is laid out on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum KitKeys {
    /// One after another.
    All,
    /// White ones only.
    White,
}

/// Pitch classes of the white keys, from C.
const WHITE: [u8; 7] = [0, 2, 4, 5, 7, 9, 11];

/// The keys of so many sounds, from a first one upward; fewer where the keyboard ends.
pub fn kit_keys(first: u8, count: usize, on: KitKeys) -> Vec<u8> {
    (first..=127)
        .filter(|key| on == KitKeys::All || WHITE.contains(&(key % 12)))
        .take(count)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sounds_are_laid_out_on_white_keys_or_on_all() {
        assert_eq!(kit_keys(36, 4, KitKeys::All), [36, 37, 38, 39]);
        assert_eq!(
            kit_keys(36, 9, KitKeys::White),
            [36, 38, 40, 41, 43, 45, 47, 48, 50]
        );
        // It begins at the next white one.
        assert_eq!(kit_keys(37, 2, KitKeys::White), [38, 40]);
        assert_eq!(kit_keys(126, 5, KitKeys::All), [126, 127]);
    }
}
