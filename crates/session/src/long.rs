//! One long take: everything is kept until the user says stop.

use crate::lead::{Action, Lead, Order, Progress, RunState, take_peak_dbfs};
use instrument::{Cell, LayerId, PassId};

/// The cell that stands for a recording that belongs to none yet.
pub const NO_CELL: Cell = Cell {
    pass: PassId(0),
    key: 0,
    layer: LayerId(0),
    round_robin: 0,
};

/// Keeps everything from its first frame on.
#[derive(Debug)]
pub struct LongSession {
    channels: usize,
    frame: u64,
    ends_at: Option<u64>,
    state: RunState,
    peak: f32,
    /// What was kept before is there already: nothing begins.
    resumed: bool,
}

impl LongSession {
    /// Begins with the next frame, number 0; ends by itself at a frame, where one is known.
    pub fn new(channels: usize, ends_at: Option<u64>) -> Self {
        Self {
            channels: channels.max(1),
            ends_at,
            frame: 0,
            state: RunState::Recording,
            peak: 0.0,
            resumed: false,
        }
    }
}

impl LongSession {
    /// Goes on with one of which so many frames are kept already.
    pub fn resumed(channels: usize, frames: u64) -> Self {
        Self {
            frame: frames,
            resumed: true,
            ..Self::new(channels, None)
        }
    }

    pub(crate) fn frames(&self) -> u64 {
        self.frame
    }
}

impl Lead for LongSession {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        let began = self.frame == 0 && !self.resumed && !samples.is_empty();
        self.frame += (samples.len() / self.channels) as u64;
        self.peak = samples.iter().fold(self.peak, |top, x| top.max(x.abs()));
        let mut actions = Vec::new();
        if began {
            actions.push(Action::Begin {
                cell: NO_CELL,
                first_frame: 0,
            });
        }
        if self.ends_at.is_some_and(|end| self.frame >= end) {
            actions.extend(self.order(Order::Stop));
        }
        actions
    }

    fn order(&mut self, order: Order) -> Vec<Action> {
        if order != Order::Stop || self.state == RunState::Finished {
            return Vec::new();
        }
        self.state = RunState::Finished;
        if self.frame == 0 && !self.resumed {
            return vec![Action::Finished];
        }
        vec![
            Action::End {
                cell: NO_CELL,
                end_frame: self.frame,
                verdict: None,
            },
            Action::Finished,
        ]
    }

    fn left_late(&mut self, _: u64) {}

    fn progress(&mut self) -> Progress {
        Progress {
            total: 1,
            peak_dbfs: take_peak_dbfs(&mut self.peak),
            frames: self.frame,
            ..Progress::of(self.state)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_that_goes_on_begins_nothing_and_counts_what_was_kept() {
        let mut session = LongSession::resumed(1, 500);
        assert!(session.audio(&[0.0; 10]).is_empty());
        assert_eq!(session.progress().frames, 510);
        assert!(matches!(
            session.order(Order::Stop)[..],
            [Action::End { end_frame: 510, .. }, Action::Finished]
        ));
    }

    #[test]
    fn it_keeps_everything_until_it_is_stopped() {
        let mut session = LongSession::new(2, None);
        assert!(matches!(
            session.audio(&[0.0; 64])[..],
            [Action::Begin { first_frame: 0, .. }]
        ));
        assert!(session.audio(&[0.5; 64]).is_empty());
        assert!(session.order(Order::Skip).is_empty());
        let ended = session.order(Order::Stop);
        assert!(matches!(
            ended[..],
            [Action::End { end_frame: 64, .. }, Action::Finished]
        ));
        assert!((session.progress().peak_dbfs + 6.02).abs() < 0.01);
        assert!(session.order(Order::Stop).is_empty());
        let mut known = LongSession::new(1, Some(100));
        known.audio(&[0.0; 60]);
        assert!(matches!(
            known.audio(&[0.0; 60])[..],
            [Action::End { .. }, Action::Finished]
        ));
    }
}
