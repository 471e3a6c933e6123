//! What can be spoken of: the instrument, its passes, takes, regions, strands, and what drives them.

use crate::{LayerId, PassId};
use program::{BusId, Region, ShapeId, StrandId};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What an edit is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Target {
    /// The instrument itself.
    Instrument,
    /// A pass of its plan.
    Pass(PassId),
    /// A layer of a pass.
    Layer(PassId, LayerId),
    /// A take, by its id.
    Take(u64),
    /// A long take, by its id.
    LongTake(u64),
    /// A region of a strand, by [`program::RegionOf::number`].
    Region(StrandId, u64),
    /// A strand.
    Strand(StrandId),
    /// What drives a number of a shape, by its [`program::RouteId`].
    Route(ShapeId, u64),
    /// A slow movement of a shape, by its [`program::MovementId`].
    Movement(ShapeId, u64),
    /// A course of a shape, by its [`program::CourseId`].
    Course(ShapeId, u64),
    /// A row of effects that strands send to.
    Bus(BusId),
    /// What a strand sends to such a row.
    Send(StrandId, BusId),
    /// An effect in a row, by its [`program::EffectId`].
    Effect(BusId, u64),
    /// A page of the panel.
    Page(u64),
    /// A part of the panel: where it has a value, by its [`program::ControlId`].
    Part(u64),
    /// A set of values of the panel.
    Preset(u64),
    /// Something that was found, by [`crate::Finding::key`].
    Finding(u64),
    /// All that is found of a kind, by [`crate::FindingKind::number`].
    FindingKind(u64),
    /// A key, struck so, that was marked by ear: see [`mark_number`].
    Mark(u64),
}

/// The number of a mark: its key, and 256 for each step of how hard that is struck.
pub fn mark_number(key: u8, strike: u8) -> u64 {
    u64::from(key) | (u64::from(strike) << 8)
}

/// A kind of [`Target`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum About {
    /// See [`Target::Instrument`].
    Instrument,
    /// See [`Target::Pass`].
    Pass,
    /// See [`Target::Layer`].
    Layer,
    /// See [`Target::Take`].
    Take,
    /// See [`Target::LongTake`].
    LongTake,
    /// See [`Target::Region`].
    Region,
    /// See [`Target::Strand`].
    Strand,
    /// See [`Target::Route`].
    Route,
    /// See [`Target::Movement`].
    Movement,
    /// See [`Target::Course`].
    Course,
    /// See [`Target::Bus`].
    Bus,
    /// See [`Target::Send`].
    Send,
    /// See [`Target::Effect`].
    Effect,
    /// See [`Target::Page`].
    Page,
    /// See [`Target::Part`].
    Part,
    /// See [`Target::Preset`].
    Preset,
    /// See [`Target::Finding`].
    Finding,
    /// See [`Target::FindingKind`].
    FindingKind,
    /// See [`Target::Mark`].
    Mark,
}

const ABOUTS: [(About, &str); 19] = [
    (About::Instrument, "instrument"),
    (About::Pass, "pass"),
    (About::Layer, "layer"),
    (About::Take, "take"),
    (About::LongTake, "long_take"),
    (About::Region, "region"),
    (About::Strand, "strand"),
    (About::Route, "route"),
    (About::Movement, "movement"),
    (About::Course, "course"),
    (About::Bus, "bus"),
    (About::Send, "send"),
    (About::Effect, "effect"),
    (About::Page, "page"),
    (About::Part, "part"),
    (About::Preset, "preset"),
    (About::Finding, "finding"),
    (About::FindingKind, "finding_kind"),
    (About::Mark, "mark"),
];

impl About {
    /// As it is kept.
    pub fn name(self) -> &'static str {
        ABOUTS
            .iter()
            .find(|(about, _)| *about == self)
            .map_or("", |(_, name)| name)
    }
}

impl Target {
    /// A region of a program.
    pub fn of_region(region: &Region) -> Self {
        Self::Region(region.key.strand, region.key.of.number())
    }

    /// Its kind.
    pub fn about(self) -> About {
        match self {
            Self::Instrument => About::Instrument,
            Self::Pass(_) => About::Pass,
            Self::Layer(..) => About::Layer,
            Self::Take(_) => About::Take,
            Self::LongTake(_) => About::LongTake,
            Self::Region(..) => About::Region,
            Self::Strand(_) => About::Strand,
            Self::Route(..) => About::Route,
            Self::Movement(..) => About::Movement,
            Self::Course(..) => About::Course,
            Self::Bus(_) => About::Bus,
            Self::Send(..) => About::Send,
            Self::Effect(..) => About::Effect,
            Self::Page(_) => About::Page,
            Self::Part(_) => About::Part,
            Self::Preset(_) => About::Preset,
            Self::Finding(_) => About::Finding,
            Self::FindingKind(_) => About::FindingKind,
            Self::Mark(_) => About::Mark,
        }
    }

    /// As it is kept: the name of its kind, its number, and that of its part; 0 where there is none.
    pub fn kept(self) -> (&'static str, u64, u64) {
        let (number, part) = match self {
            Self::Instrument => (0, 0),
            Self::Pass(pass) => (pass.0, 0),
            Self::Layer(pass, layer) => (pass.0, layer.0),
            Self::Take(id)
            | Self::LongTake(id)
            | Self::Page(id)
            | Self::Part(id)
            | Self::Preset(id)
            | Self::Finding(id)
            | Self::FindingKind(id)
            | Self::Mark(id) => (id, 0),
            Self::Region(strand, number) => (strand.0, number),
            Self::Route(shape, number) | Self::Movement(shape, number) | Self::Course(shape, number) => {
                (shape.0, number)
            }
            Self::Strand(strand) => (strand.0, 0),
            Self::Bus(bus) => (bus.0, 0),
            Self::Send(strand, bus) => (strand.0, bus.0),
            Self::Effect(bus, number) => (bus.0, number),
        };
        (self.about().name(), number, part)
    }

    /// Of what is kept; `None` for a kind that is not known.
    pub fn of_kept(about: &str, number: u64, part: u64) -> Option<Self> {
        let (about, _) = ABOUTS.iter().find(|(_, name)| *name == about)?;
        Some(match about {
            About::Instrument => Self::Instrument,
            About::Pass => Self::Pass(PassId(number)),
            About::Layer => Self::Layer(PassId(number), LayerId(part)),
            About::Take => Self::Take(number),
            About::LongTake => Self::LongTake(number),
            About::Region => Self::Region(StrandId(number), part),
            About::Strand => Self::Strand(StrandId(number)),
            About::Route => Self::Route(ShapeId(number), part),
            About::Movement => Self::Movement(ShapeId(number), part),
            About::Course => Self::Course(ShapeId(number), part),
            About::Bus => Self::Bus(BusId(number)),
            About::Send => Self::Send(StrandId(number), BusId(part)),
            About::Effect => Self::Effect(BusId(number), part),
            About::Page => Self::Page(number),
            About::Part => Self::Part(number),
            About::Preset => Self::Preset(number),
            About::Finding => Self::Finding(number),
            About::FindingKind => Self::FindingKind(number),
            About::Mark => Self::Mark(number),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_target_is_kept_and_read_again() {
        let all = [
            Target::Instrument,
            Target::Pass(PassId(3)),
            Target::Layer(PassId(3), LayerId(1)),
            Target::Take(9),
            Target::LongTake(9),
            Target::Region(StrandId(4), 77),
            Target::Strand(StrandId(4)),
            Target::Route(ShapeId(4), 2),
            Target::Movement(ShapeId(4), 2),
            Target::Course(ShapeId(4), 2),
            Target::Bus(BusId(2)),
            Target::Send(StrandId(4), BusId(2)),
            Target::Effect(BusId(9), 1),
            Target::Page(3),
            Target::Part(3),
            Target::Preset(3),
            Target::Finding(3),
            Target::FindingKind(3),
            Target::Mark(mark_number(60, 112)),
        ];
        for target in all {
            let (about, number, part) = target.kept();
            assert_eq!(Target::of_kept(about, number, part), Some(target));
        }
        assert_eq!(Target::of_kept("shape", 1, 0), None);
    }
}
