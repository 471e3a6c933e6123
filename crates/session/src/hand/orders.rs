//! What the player, or somebody beside them, tells the session to do.

use super::{HandSession, Phase, STRIKES_AGAIN_AFTER};
use crate::lead::{Action, Order, RunState};
use instrument::Verdict;

impl HandSession {
    /// Does what was told; what does not fit the moment does nothing.
    pub(super) fn obey(&mut self, order: Order) -> Vec<Action> {
        if matches!(self.phase, Phase::Ended(_) | Phase::Listening) && order != Order::Stop {
            return Vec::new();
        }
        match order {
            Order::Pause => self.paused = true,
            Order::Resume => self.paused = false,
            Order::HandsFree | Order::HandsOn => {
                self.settings.hands_free = order == Order::HandsFree;
                let good = self.verdict.as_ref().is_some_and(Verdict::is_good);
                if self.settings.hands_free && matches!(self.phase, Phase::Deciding) {
                    return self.obey(if good { Order::Keep } else { Order::Again });
                }
            }
            Order::Keep if matches!(self.phase, Phase::Deciding) => {
                let cell = self.jobs[self.at].cell;
                self.at += 1;
                self.done += 1;
                let mut actions = vec![Action::Choose { cell }];
                actions.extend(self.go_on());
                return actions;
            }
            Order::Keep => {}
            Order::Tune if self.check_only => {}
            Order::Tune => {
                let actions = self.let_go();
                self.ear.forget();
                self.phase = Phase::Tuning {
                    quiet: STRIKES_AGAIN_AFTER,
                };
                return actions;
            }
            Order::Record if matches!(self.phase, Phase::Tuning { .. }) => {
                self.tries = 0;
                self.settle();
            }
            Order::Record => {}
            Order::Again => {
                let actions = self.let_go();
                self.tries = 0;
                self.settle();
                return actions;
            }
            Order::Skip => {
                let mut actions = self.let_go();
                self.at += 1;
                actions.extend(self.go_on());
                return actions;
            }
            Order::Back => {
                let actions = self.let_go();
                self.at = self.at.saturating_sub(1);
                self.tries = 0;
                self.settle();
                return actions;
            }
            Order::Stop => {
                if matches!(self.phase, Phase::Ended(_)) {
                    return Vec::new();
                }
                let mut actions = self.let_go();
                self.phase = Phase::Ended(RunState::Stopped);
                actions.push(Action::Finished);
                return actions;
            }
        }
        Vec::new()
    }

    /// What sounds is given up.
    fn let_go(&self) -> Vec<Action> {
        match self.phase {
            Phase::Sounding { .. } => vec![Action::Abandon {
                cell: self.jobs[self.at].cell,
            }],
            _ => Vec::new(),
        }
    }
}
