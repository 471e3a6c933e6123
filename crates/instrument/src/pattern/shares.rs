//! To which part of a pattern something that was said belongs.

use crate::{About, Fact, RouteSaid, Target};
use program::{ControlId, ParamId, Source};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// A part of a pattern that can be laid by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = PatternShare)]
pub enum Share {
    /// Rules of the map, and limits of single regions.
    Map,
    /// Strands and their shapes.
    Strands,
    /// Rows of effects.
    Effects,
    /// The panel, and what it drives.
    Panel,
}

impl Share {
    /// All of a pattern.
    pub const ALL: [Self; 4] = [Self::Map, Self::Strands, Self::Effects, Self::Panel];
}
/// To which part of a pattern something that was said belongs; `None` for what belongs to the recordings, to the plan or to the shelf.
pub(super) fn share_of(target: Target, fact: Fact, value: &Value) -> Option<Share> {
    match target {
        Target::Instrument => matches!(
            fact,
            Fact::Fill
                | Fact::StrikeCrossfade
                | Fact::TurnOrder
                | Fact::FurthestStretchKeys
                | Fact::BelowKeys
                | Fact::AboveKeys
                | Fact::MostVoices
        )
        .then_some(Share::Map),
        Target::Pass(_) | Target::Layer(..) | Target::Take(_) | Target::LongTake(_) => None,
        // What evens one recording with its neighbours is no matter of another.
        Target::Region(..)
            if matches!(
                fact,
                Fact::RegionGainDb | Fact::RegionTuneCents | Fact::RegionOffsetFrames
            ) =>
        {
            None
        }
        Target::Region(..) if fact.is_of(About::Strand) => Some(Share::Strands),
        Target::Region(..) => Some(Share::Map),
        Target::Strand(_) | Target::Movement(..) | Target::Course(..) => Some(Share::Strands),
        Target::Route(..) => Some(match route_of(value) {
            Some(route) if controls_of(&route).next().is_some() => Share::Panel,
            Some(RouteSaid {
                to: ParamId::Effect(..),
                ..
            }) => Share::Effects,
            _ => Share::Strands,
        }),
        Target::Bus(_) | Target::Send(..) | Target::Effect(..) => Some(Share::Effects),
        Target::Page(_) | Target::Part(_) | Target::Preset(_) => Some(Share::Panel),
        Target::Finding(_) | Target::FindingKind(_) | Target::Mark(_) => None,
    }
}

/// A route, where that is what was said.
pub(super) fn route_of(value: &Value) -> Option<RouteSaid> {
    serde_json::from_value(value.clone()).ok()
}

/// The controls that it comes from.
pub(super) fn controls_of(route: &RouteSaid) -> impl Iterator<Item = ControlId> {
    [Some(route.from), route.times]
        .into_iter()
        .filter_map(|source| match source? {
            Source::Control(id) => Some(id),
            _ => None,
        })
}
