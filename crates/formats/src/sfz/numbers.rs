//! Numbers of SFZ, and the names of notes.

use super::Opcodes;
use crate::FormatError;

/// The number of an opcode, or what is usual where it is not there.
pub(super) fn number_of(opcodes: &Opcodes, name: &str, default: f64) -> Result<f64, FormatError> {
    let Some(text) = opcodes.get(name) else {
        return Ok(default);
    };
    let parsed = text
        .trim()
        .parse::<f64>()
        .ok()
        .or_else(|| key_of_name(text.trim()).map(f64::from));
    parsed
        .filter(|x| x.is_finite())
        .ok_or_else(|| FormatError::Unreadable(format!("{name}={text} is no number.")))
}

/// `c4` is 60; `#` and `b` shift.
fn key_of_name(name: &str) -> Option<u8> {
    let lower = name.to_lowercase();
    let letter = "c d ef g a b".find(lower.chars().next()?)? as i32;
    let rest = &lower[1..];
    let (shift, octave) = match rest.chars().next()? {
        '#' => (1, &rest[1..]),
        'b' => (-1, &rest[1..]),
        _ => (0, rest),
    };
    u8::try_from(letter + shift + 12 * (octave.parse::<i32>().ok()? + 1))
        .ok()
        .filter(|key| *key < 128)
}
