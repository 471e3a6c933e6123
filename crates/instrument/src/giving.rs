//! What of an instrument is given away, and under which names.

use crate::names::MiddleC;
use crate::naming::{Named, name_by_rule};
use crate::{Cell, LayerId, PassId, Plan};
use program::{Loop, Program, Region, StrandId};
use serde::{Deserialize, Serialize};

/// A layer of one pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LayerOfPass {
    /// The pass.
    pub pass: PassId,
    /// The layer.
    pub layer: LayerId,
}

/// What is chosen of an instrument that is given away.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Giving {
    /// Strands that are left out.
    pub without: Vec<StrandId>,
    /// Layers that are left out.
    pub without_layers: Vec<LayerOfPass>,
    /// Whether recordings go out whole and as they were made, and not trimmed, faded and levelled.
    pub as_recorded: bool,
    /// How recordings are called, see [`name_by_rule`]; as they are called here, where it is left out.
    pub names: Option<String>,
    /// How middle C is written in that.
    pub middle_c: MiddleC,
}

impl Giving {
    /// What is given away of a program that was made by a plan; `cell_of` tells the cell of a sample's source.
    ///
    /// # Errors
    /// A sentence, where names cannot be made by the rule.
    pub fn of(
        &self,
        mut program: Program,
        plan: &Plan,
        cell_of: &dyn Fn(&str) -> Option<Cell>,
    ) -> Result<Program, String> {
        let cells: Vec<Option<Cell>> = program
            .samples
            .iter()
            .map(|sample| cell_of(&sample.source))
            .collect();
        program.regions.retain(|region| {
            let cell = cells.get(region.sample).copied().flatten();
            let is_left_out = cell.is_some_and(|Cell { pass, layer, .. }| {
                self.without_layers.contains(&LayerOfPass { pass, layer })
            });
            !is_left_out && !self.without.contains(&region.key.strand)
        });
        if self.as_recorded {
            let frames: Vec<u64> = program.samples.iter().map(|sample| sample.frames).collect();
            for region in &mut program.regions {
                let frames = frames.get(region.sample).copied().unwrap_or(region.end_frame);
                make_as_recorded(region, frames);
            }
        }
        let Some(rule) = &self.names else {
            return Ok(program);
        };
        let name = program.name.clone();
        for (sample, cell) in program.samples.iter_mut().zip(cells) {
            let Some(cell) = cell else {
                continue;
            };
            let named = Named {
                name: &sample.name,
                cell,
            };
            sample.name = name_by_rule(rule, &name, plan, self.middle_c, named)?;
        }
        Ok(program)
    }
}

/// A recording from its first frame to its last, untouched: its loop is marked, and what was crossfaded at its end is as it was recorded.
fn make_as_recorded(region: &mut Region, frames: u64) {
    (region.start_frame, region.end_frame) = (0, frames);
    (region.fade_in_frames, region.fade_out_frames) = (0, 0);
    region.gain_db = 0.0;
    region.looped = region.looped.map(|looped| Loop {
        crossfade_frames: 0,
        ..looped
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;
    use program::{LoopRuns, Sample, SampleId};

    #[test]
    fn layers_and_strands_are_left_out_and_recordings_go_out_whole() {
        let plan = plan(&[60], &[40, 110], 1);
        let cells = plan.cells();
        let sample = |n: usize| Sample {
            id: SampleId(n as u64),
            name: format!("take {n}"),
            source: n.to_string(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 5_000,
        };
        let region = |n: usize| Region {
            start_frame: 100,
            fade_out_frames: 50,
            gain_db: -3.0,
            looped: Some(Loop {
                crossfade_frames: 200,
                ..Loop::plain(1_000, 4_000, LoopRuns::ThroughRelease)
            }),
            ..Region::whole(n, 60, 4_500)
        };
        let whole = Program::plain("Slate", vec![sample(0), sample(1)], vec![region(0), region(1)]);
        let cell_of = |source: &str| cells.get(source.parse::<usize>().ok()?).copied();
        let given = |giving: &Giving| giving.of(whole.clone(), &plan, &cell_of);
        assert_eq!(given(&Giving::default()), Ok(whole.clone()));
        let soft = LayerOfPass {
            pass: cells[0].pass,
            layer: cells[0].layer,
        };
        let giving = Giving {
            without_layers: vec![soft],
            as_recorded: true,
            names: Some("{instrument} {layer}".to_owned()),
            ..Giving::default()
        };
        let given_away = given(&giving).unwrap();
        assert_eq!(given_away.regions.len(), 1);
        let left = &given_away.regions[0];
        assert_eq!((left.sample, left.start_frame, left.end_frame), (1, 0, 5_000));
        assert_eq!((left.fade_out_frames, left.gain_db), (0, 0.0));
        assert_eq!(
            left.looped,
            Some(Loop::plain(1_000, 4_000, LoopRuns::ThroughRelease))
        );
        assert!(given_away.samples[1].name.starts_with("Slate "));
        let strand = whole.regions[0].key.strand;
        let none = Giving {
            without: vec![strand],
            ..Giving::default()
        };
        assert_eq!(given(&none).unwrap().regions, []);
        let unnamed = Giving {
            names: Some("{pitch}".to_owned()),
            ..Giving::default()
        };
        assert!(given(&unnamed).is_err());
    }
}
