//! Names that last: what can be edited, undone, played or counted is referred to by them, never by its place in a list.

use serde::{Deserialize, Deserializer, Serialize};
use utoipa::ToSchema;

/// Names are below this, so that a page's numbers hold them whole.
pub const NAMES_END: u64 = (1 << 53) - 1;

/// A pass of an instrument, for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct PassId(pub u64);

/// A layer of a pass, for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct LayerId(pub u64);

/// What has a name.
pub(crate) trait Named {
    /// Its name as a number; [`NAMES_END`] where it has none yet.
    fn name(&mut self) -> &mut u64;
}

/// Without a name yet: what is read from before there were names.
impl Default for PassId {
    fn default() -> Self {
        Self(NAMES_END)
    }
}

/// Without a name yet: what is read from before there were names.
impl Default for LayerId {
    fn default() -> Self {
        Self(NAMES_END)
    }
}

/// Reads a list in which what was written before there were names is named by its place: by it the rest of that database refers to it.
pub(crate) fn named_by_place<'de, T, D>(from: D) -> Result<Vec<T>, D::Error>
where
    T: Named + Deserialize<'de>,
    D: Deserializer<'de>,
{
    let mut all = Vec::<T>::deserialize(from)?;
    for (place, one) in (0u64..).zip(&mut all) {
        let name = one.name();
        if *name == NAMES_END {
            *name = place;
        }
    }
    Ok(all)
}

/// Whether each has a name of its own.
pub(crate) fn are_names(names: impl Iterator<Item = u64>) -> bool {
    let mut names: Vec<u64> = names.collect();
    names.sort_unstable();
    names.last().is_none_or(|last| *last < NAMES_END) && names.windows(2).all(|pair| pair[0] != pair[1])
}
