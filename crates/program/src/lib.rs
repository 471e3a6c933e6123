//! What is played: samples, regions and strands as plain data. The engine, the formats and the instrument share it.
//!
//! A [`Program`] holds no audio: a [`Sample`] names a recording by its hash, and whoever plays or writes it brings the frames.
//! An end frame is always the first frame after.

mod ids;
mod laws;
mod region;
mod select;

pub use ids::{RegionKey, RegionOf, SampleId, StrandId};
pub use laws::{crossfade_gains, fade_gain, pan_gains, playback_ratio, velocity_gain_db};
pub use region::{FadeCurve, Loop, LoopRuns, LoopWay, Region, RoundRobin, Sample, Shape, SoundsOn, Strand};
pub use select::{Counters, regions_for_key};

use serde::{Deserialize, Serialize};

/// Everything that is heard and exported.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Program {
    /// As the player sees it.
    pub name: String,
    /// Each recording that a region plays, once.
    pub samples: Vec<Sample>,
    /// Sets of regions that share an event and a shape.
    pub strands: Vec<Strand>,
    /// What sounds on which keys and velocities.
    pub regions: Vec<Region>,
}

impl Program {
    /// One of its strands.
    pub fn strand(&self, id: StrandId) -> Option<&Strand> {
        self.strands.iter().find(|strand| strand.id == id)
    }

    /// The strand of a region.
    pub fn strand_of(&self, region: &Region) -> Option<&Strand> {
        self.strand(region.key.strand)
    }

    /// The regions of a strand.
    pub fn regions_of(&self, strand: StrandId) -> impl Iterator<Item = &Region> {
        self.regions
            .iter()
            .filter(move |region| region.key.strand == strand)
    }
}
