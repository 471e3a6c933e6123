//! What a plan will cost.

use crate::{Pass, Plan, velocity_thresholds};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a plan will cost: an upper limit, since tails end when they are gone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cost {
    /// Cells to record.
    pub notes: u64,
    /// At 1× speed, every tail at its longest.
    pub seconds: f64,
    /// On disk.
    pub bytes: u64,
    /// The furthest any key between two rungs lies from the rung above it.
    pub furthest_stretch_keys: u8,
    /// What follows for each pass.
    pub passes: Vec<PassFigures>,
}

/// What follows from a pass as it is planned.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassFigures {
    /// How long each rung is held, in the order of the rungs.
    pub holds_ms: Vec<u32>,
    /// The lowest velocity that each layer plays from, soft to loud.
    pub low_velocities: Vec<u8>,
}

/// What follows from a pass as it is planned.
pub fn figures_of(pass: &Pass) -> PassFigures {
    PassFigures {
        holds_ms: pass.rungs.iter().map(|key| pass.hold_ms_at(*key)).collect(),
        low_velocities: velocity_thresholds(&pass.layers),
    }
}

/// Counts the cost of a plan.
pub fn cost_of(plan: &Plan) -> Cost {
    let per_frame = u64::from(plan.recording_channels()) * u64::from(plan.bits / 8);
    let mut cost = Cost {
        notes: 0,
        seconds: 0.0,
        bytes: 0,
        furthest_stretch_keys: 0,
        passes: plan.passes.iter().map(figures_of).collect(),
    };
    for pass in &plan.passes {
        let each = u64::from(pass.cells_of_rung());
        let rung = |key: &u8| u64::from(pass.hold_ms_at(*key) + pass.tail_ms);
        let milliseconds = each * pass.rungs.iter().map(rung).sum::<u64>();
        cost.notes += each * pass.rungs.len() as u64;
        cost.seconds += milliseconds as f64 / 1000.0;
        cost.bytes += milliseconds * u64::from(plan.rate_hz) / 1000 * per_frame;
        let gap = pass
            .rungs
            .windows(2)
            .map(|pair| pair[1] - pair[0] - 1)
            .max()
            .unwrap_or(0);
        cost.furthest_stretch_keys = cost.furthest_stretch_keys.max(gap);
    }
    cost
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;

    /// Common practice (job page): 72 notes at 25 s is half an hour.
    #[test]
    fn seventy_two_notes_of_twenty_five_seconds_take_half_an_hour() {
        let mut plan = plan(&(36..72).collect::<Vec<u8>>(), &[40, 100], 1);
        plan.passes[0].hold_ms = 20_000;
        plan.passes[0].tail_ms = 5_000;
        let cost = cost_of(&plan);
        assert_eq!((cost.notes, cost.seconds), (72, 1800.0));
        assert_eq!(cost.bytes, 1800 * 48_000 * 6);
        assert_eq!(cost.furthest_stretch_keys, 0);
    }
}
