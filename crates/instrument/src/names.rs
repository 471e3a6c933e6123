//! Names of keys.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What key 60 is called.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub enum MiddleC {
    /// Scientific pitch notation.
    #[default]
    C4,
    /// The other habit.
    C3,
}

/// The name of a MIDI key, with sharps: `C♯4`.
pub fn key_name(key: u8, middle_c: MiddleC) -> String {
    const LETTERS: [&str; 12] = ["C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B"];
    let octave = i32::from(key) / 12 - if middle_c == MiddleC::C4 { 1 } else { 2 };
    format!("{}{octave}", LETTERS[usize::from(key % 12)])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn key_60_is_middle_c_in_both_habits() {
        assert_eq!(key_name(60, MiddleC::C4), "C4");
        assert_eq!(key_name(60, MiddleC::C3), "C3");
        assert_eq!(key_name(0, MiddleC::C4), "C-1");
        assert_eq!(key_name(70, MiddleC::C4), "A♯4");
    }
}
