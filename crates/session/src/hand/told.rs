//! How far the session is, as its page shows it.

use super::{HandSession, Phase};
use crate::lead::{Needle, Progress, RunState};

impl HandSession {
    /// Of the cell that is asked for, and of the whole.
    pub(super) fn told(&mut self) -> Progress {
        let needle = self.needle();
        let job = self.jobs.get(self.at);
        let longest = job.map_or(1, |job| self.ms(f64::from(job.hold_ms + job.tail_ms)));
        let (state, cell_share) = match self.phase {
            Phase::Listening => (RunState::Listening, 0.0),
            Phase::Settling { .. } if self.paused => (RunState::Paused, 0.0),
            Phase::Settling { .. } => (RunState::Settling, 0.0),
            Phase::Waiting { .. } => (RunState::Waiting, 0.0),
            Phase::Sounding { struck, .. } => {
                let share = (self.frame - struck) as f64 / longest.max(1) as f64;
                (RunState::Recording, share.min(1.0))
            }
            Phase::Tuning { .. } if self.paused => (RunState::Paused, 0.0),
            Phase::Tuning { .. } => (RunState::Tuning, 0.0),
            Phase::Deciding => (RunState::Deciding, 1.0),
            Phase::Checking { .. } => (RunState::Pulse, 0.5),
            Phase::Ended(state) => (state, 0.0),
        };
        let left: f64 = self.jobs[self.at.min(self.jobs.len())..]
            .iter()
            .map(|job| f64::from(job.hold_ms + job.tail_ms) / 1000.0)
            .sum();
        let seconds_left = if self.done == 0 {
            left
        } else {
            self.frame as f64 / f64::from(self.settings.rate_hz) / self.done as f64
                * (self.jobs.len() - self.at) as f64
        };
        Progress {
            state,
            cell: job.map(|job| job.cell),
            cell_share,
            done: self.done,
            total: if self.check_only { 0 } else { self.jobs.len() },
            seconds_left,
            check: self.check.clone(),
            peak_dbfs: self.windows.take_peak_dbfs(),
            verdict: self.verdict.clone(),
            needle,
            hands_free: self.settings.hands_free,
            asked: self.asked,
            frames: self.frame,
            waits_for: None,
        }
    }

    /// While a note is asked for.
    fn needle(&mut self) -> Option<Needle> {
        let asked = self.jobs.get(self.at)?.cell.key;
        let asks = matches!(
            self.phase,
            Phase::Settling { .. } | Phase::Waiting { .. } | Phase::Sounding { .. } | Phase::Tuning { .. }
        );
        asks.then(|| self.ear.needle(asked)).flatten()
    }
}
