//! Readers of others that panic on a file which was made to break them take nothing with them but that file.

use crate::FormatError;

/// What is read, or that it broke what reads it; `what` is the beginning of that sentence.
pub(crate) fn unharmed<T>(
    what: &str,
    read: impl FnOnce() -> Result<T, FormatError>,
) -> Result<T, FormatError> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(read)).unwrap_or_else(|_| {
        Err(FormatError::Unreadable(format!(
            "{what}: its decoder gave up on it."
        )))
    })
}
