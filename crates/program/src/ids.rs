//! Names of a program's parts, which outlive an edit of it: voices, audio and settings are kept by them.

use fnv::FnvHasher;
use serde::{Deserialize, Serialize};
use std::hash::Hasher;

macro_rules! names {
    ($( $(#[$says:meta])* $name:ident; )*) => {
        $(
            $(#[$says])*
            #[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
            #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
            #[serde(transparent)]
            pub struct $name(pub u64);
        )*
    };
}

names! {
    /// A strand, for good.
    StrandId;
    /// A sample, for good: the same number is the same audio. Below 2⁵³, so that a browser's numbers hold it.
    SampleId;
    /// A shape, for good.
    ShapeId;
    /// A course over time of a shape.
    CourseId;
    /// A slow movement of a shape.
    MovementId;
    /// A route of a shape.
    RouteId;
    /// A curve that routes share.
    CurveId;
    /// A bus that strands send to.
    BusId;
    /// An effect in a row of them.
    EffectId;
    /// A control of the panel.
    ControlId;
    /// A switch that chooses among regions.
    SwitchId;
}

impl SampleId {
    /// Of audio that is told by some words and numbers: a hash of them in 52 bits, the same on every machine.
    pub fn of(source: &str, numbers: &[u64]) -> Self {
        let mut hasher = FnvHasher::default();
        hasher.write(source.as_bytes());
        for number in numbers {
            hasher.write(&number.to_le_bytes());
        }
        let hash = hasher.finish();
        Self((hash >> 12) ^ (hash & 0xfff))
    }
}

impl ShapeId {
    /// Of the shape that a strand has for itself.
    pub fn of_strand(strand: StrandId) -> Self {
        Self(strand.0)
    }

    /// Of the shape that a region has for itself: below 2⁵³, and none of a strand.
    pub fn of_region(key: RegionKey) -> Self {
        Self::of_part(key.strand, key.of.number())
    }

    /// The same by the number of the region among those of its strand.
    pub fn of_part(strand: StrandId, number: u64) -> Self {
        Self(SampleId::of("shape", &[strand.0, number]).0)
    }
}

impl CourseId {
    /// That of loudness itself: its times are driven by this name, and no other course has it.
    pub const LOUDNESS: Self = Self(0);
}

/// A region, for good.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RegionKey {
    /// Its strand.
    pub strand: StrandId,
    /// Which of it.
    pub of: RegionOf,
}

/// Which region of a strand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RegionOf {
    /// Made by rule from a cell, whichever of its takes is chosen.
    Cell {
        /// Its pass.
        pass: u64,
        /// Its rung.
        key: u8,
        /// Its layer.
        layer: u64,
        /// Its turn.
        round_robin: u16,
    },
    /// Made by hand or brought from elsewhere.
    Own(u64),
}

impl RegionOf {
    /// Itself as one number below 2⁵³, by which it can be kept and said: among the regions of a strand there is no other.
    pub fn number(self) -> u64 {
        match self {
            Self::Own(id) => id,
            Self::Cell {
                pass,
                key,
                layer,
                round_robin,
            } => SampleId::of("cell", &[pass, key.into(), layer, round_robin.into()]).0,
        }
    }
}

impl Default for RegionOf {
    fn default() -> Self {
        Self::Own(0)
    }
}

#[cfg(test)]
mod tests {
    use super::SampleId;

    #[test]
    fn a_sample_is_told_by_what_it_is_made_from() {
        let one = SampleId::of("12~a", &[0, 2]);
        assert_eq!(one, SampleId::of("12~a", &[0, 2]));
        for other in [
            SampleId::of("12~b", &[0, 2]),
            SampleId::of("12~a", &[1, 2]),
            SampleId::of("12", &[0, 2]),
        ] {
            assert_ne!(one, other);
        }
        assert!(one.0 < 1 << 53);
    }
}
