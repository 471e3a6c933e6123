//! A lowered program as it will sound, before a sample of it is written.

use crate::controls::numbers_of;
use crate::{Bake, Lowered};
use program::{Control, Loop, Program, Region, RegionKey, ShapeId, Span, Strand, StrandId};
use std::collections::HashSet;

/// Shapes of a lowered program are told from those of the original by this, so that a hand on one of the original's moves none of it.
const LOWERED_SHAPES: u64 = 1 << 40;

impl Lowered {
    /// The lowered program on the samples of the original: what is baked into its audio is played as the engine plays it. Samples, strands and regions
    /// have the names and places of the original's, so that an engine goes over from the one to the other; what is left out is there, and answers to nothing.
    pub fn heard(&self, original: &Program) -> Program {
        let shape_of = |id: ShapeId| ShapeId(LOWERED_SHAPES + id.0);
        let mut regions: Vec<Region> = original.regions.iter().cloned().map(silent).collect();
        let mut strands: Vec<Strand> = Vec::new();
        let mut known: HashSet<StrandId> = HashSet::new();
        for (lowered, &from) in self.program.regions.iter().zip(&self.regions_from) {
            let (Some(strand), Some(bake), Some(place)) = (
                self.program.strand_of(lowered),
                self.bakes.get(lowered.sample),
                regions.get_mut(from),
            ) else {
                continue;
            };
            let key = original.regions[from].key;
            if known.insert(key.strand) {
                strands.push(Strand {
                    id: key.strand,
                    shape: shape_of(strand.shape),
                    ..strand.clone()
                });
            }
            *place = on_original(lowered, bake, key);
            place.shape = Some(shape_of(lowered.shape.unwrap_or(strand.shape)));
        }
        // A strand of which nothing is left has regions still, and no program has regions without a strand.
        for strand in original
            .strands
            .iter()
            .filter(|strand| !known.contains(&strand.id))
        {
            strands.push(Strand::new(strand.id, strand.name.clone(), strand.shape));
        }
        let shapes = self.program.shapes.iter().cloned().map(|mut shape| {
            shape.id = shape_of(shape.id);
            shape
        });
        // Moved on the panel, a control moves its controller.
        let numbers = numbers_of(original);
        let controls = original.controls.iter().map(|control| Control {
            controller: numbers.get(&control.id).copied(),
            ..control.clone()
        });
        Program {
            controls: controls.collect(),
            samples: original.samples.clone(),
            shapes: shapes.collect(),
            strands,
            regions,
            ..self.program.clone()
        }
    }
}

/// A region that no key, strike or pedal reaches.
fn silent(mut region: Region) -> Region {
    let nowhere = Span {
        low: 1,
        high: 0,
        ..Span::of(0, 0)
    };
    region.when.keys = nowhere;
    region.when.strikes = nowhere;
    region.when.sources.clear();
    region.shape = None;
    region
}

/// What plays a lowered region's stretch as it lies in the original.
fn on_original(lowered: &Region, bake: &Bake, key: RegionKey) -> Region {
    let runs = lowered.looped.map(|written| written.runs);
    let looped = bake
        .looped
        .zip(runs)
        .map(|(looped, runs)| Loop { runs, ..looped });
    Region {
        key,
        sample: bake.sample,
        start_frame: bake.start_frame,
        end_frame: bake.end_frame,
        fade_in_frames: bake.fade_in_frames,
        fade_out_frames: bake.fade_out_frames,
        fade_curve: bake.fade_curve,
        looped,
        gain_db: lowered.gain_db + bake.gain_db,
        ..lowered.clone()
    }
}
