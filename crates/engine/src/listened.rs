//! What of a program is listened to alone.

use fnv::FnvHashMap;
use program::{Program, Region, StrandId};

/// What is listened to alone: a whole strand, or a region of it by [`program::RegionOf::number`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Alone {
    /// The strand.
    pub strand: StrandId,
    /// One of its regions; `None` all of them.
    pub region: Option<u64>,
}

/// What of a program is listened to.
pub(crate) struct Listened<'a> {
    /// All where there are none.
    alone: &'a [Alone],
}

impl<'a> Listened<'a> {
    /// Where what was listened to is gone, all are listened to.
    pub(crate) fn of(
        alone: &'a [Alone],
        program: &Program,
        places: &FnvHashMap<(StrandId, u64), usize>,
    ) -> Self {
        let is_there = |one: &Alone| match one.region {
            Some(number) => places.contains_key(&(one.strand, number)),
            None => program.strand(one.strand).is_some(),
        };
        Self {
            alone: if alone.iter().any(is_there) { alone } else { &[] },
        }
    }

    pub(crate) fn hears(&self, region: &Region) -> bool {
        let is_it = |one: &Alone| {
            one.strand == region.key.strand
                && one.region.is_none_or(|number| number == region.key.of.number())
        };
        self.alone.is_empty() || self.alone.iter().any(is_it)
    }
}

pub(crate) fn is_muted(program: &Program, region: &Region) -> bool {
    program.strand_of(region).is_some_and(|strand| strand.muted)
}
