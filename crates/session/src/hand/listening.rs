//! What is heard, window by window: silence, a strike, its tail, and the take that they make.

use super::levels::ANY_LEVEL_DBFS;
use super::{FLOOR_MS, HandSession, Phase, ROOM_MS, STRIKES_AGAIN_AFTER};
use crate::lead::{Action, RunState};
use crate::verdict::{Wanted, judge};
use instrument::{Finding, SoundCheck, Verdict};
use program::SoundsOn;
use signal::amplitude_to_db;

/// It is quiet after so many quiet windows.
const QUIET_WINDOWS: u32 = 5;
const SHORTEST_MS: f64 = 150.0;
const LONGEST_SETTLING_MS: f64 = 5_000.0;
/// How much of a count-in's end still counts as on the beat.
const ON_THE_BEAT_MS: f64 = 120.0;
/// After so many bad takes of one cell in a row, the player is asked what to do.
const MOST_TRIES: u32 = 8;
/// The sound check waits so long for the loudest note, and listens to it for so long.
const LONGEST_CHECK_MS: f64 = 12_000.0;
const CHECKED_MS: f64 = 800.0;
/// After so long the quietest that was heard has to do.
const LONGEST_LISTENING_MS: f64 = 8_000.0;

impl HandSession {
    /// A window is over: what follows from it in the phase that the session is in.
    pub(super) fn window_done(&mut self, rms: f64) -> Vec<Action> {
        let listens = matches!(
            self.phase,
            Phase::Settling { .. } | Phase::Waiting { .. } | Phase::Tuning { .. }
        );
        if self.floor.sinks(rms, listens)
            && let Some(check) = &mut self.check
        {
            check.noise_floor_dbfs = self.floor.dbfs();
            *check = check.clone().judged();
        }
        let is_quiet = self.floor.is_gone(rms);
        let frames = self.windows.frames();
        match self.phase {
            Phase::Listening if self.frame >= self.ms(FLOOR_MS) => {
                let heard: Vec<f32> = self.kept.iter().copied().collect();
                let silence = self.windows.planar(&heard);
                let has_to_do = self.frame >= self.ms(LONGEST_LISTENING_MS);
                let Some(check) = self.floor.measure(&silence, has_to_do) else {
                    return Vec::new();
                };
                self.check = Some(check);
                self.go_on()
            }
            Phase::Settling { since, quiet } => {
                let quiet = if is_quiet { quiet + 1 } else { 0 };
                self.phase = Phase::Settling { since, quiet };
                let waited = self.frame - since >= self.ms(LONGEST_SETTLING_MS);
                if self.paused || !(quiet >= QUIET_WINDOWS || waited) {
                    return Vec::new();
                }
                self.phase = Phase::Waiting { asked_at: self.frame };
                self.asked += 1;
                let job = &self.jobs[self.at];
                vec![Action::Ask {
                    cell: job.cell,
                    velocity: job.velocity,
                    after_ms: self.settings.reference_ms + self.settings.count_in_ms,
                }]
            }
            Phase::Waiting { asked_at } => {
                let since = self.frame - frames - asked_at;
                let deaf = self.ms(f64::from(self.settings.reference_ms));
                if self.check_only && since > self.ms(LONGEST_CHECK_MS) {
                    return self.end_check();
                }
                if since < deaf || rms < self.floor.strike() {
                    return Vec::new();
                }
                if self.check_only {
                    self.phase = Phase::Checking { struck: self.frame };
                    return Vec::new();
                }
                let counted = self.ms(f64::from(self.settings.count_in_ms));
                let early = since + self.ms(ON_THE_BEAT_MS) < deaf + counted;
                let room = (self.kept.len() / self.settings.channels) as u64;
                let first = self.frame - room.min(self.ms(ROOM_MS) + frames).min(self.frame - asked_at);
                let extra = (self.kept.len() as u64)
                    .saturating_sub((self.frame - first) * self.settings.channels as u64);
                self.kept.drain(..extra as usize);
                self.lost = 0;
                self.phase = Phase::Sounding {
                    first,
                    struck: self.frame - frames,
                    quiet: 0,
                    early,
                };
                vec![Action::Begin {
                    cell: self.jobs[self.at].cell,
                    first_frame: first,
                }]
            }
            Phase::Sounding {
                first,
                struck,
                quiet,
                early,
            } => {
                let quiet = if is_quiet { quiet + 1 } else { 0 };
                self.phase = Phase::Sounding {
                    first,
                    struck,
                    quiet,
                    early,
                };
                let job = &self.jobs[self.at];
                let longest = self.ms(f64::from(job.hold_ms + job.tail_ms));
                if quiet < QUIET_WINDOWS && self.frame - struck < longest {
                    return Vec::new();
                }
                self.end_take(early)
            }
            Phase::Tuning { quiet } => {
                let quiet = if is_quiet { quiet + 1 } else { 0 };
                let again = quiet >= STRIKES_AGAIN_AFTER && !self.paused;
                self.phase = Phase::Tuning {
                    quiet: if again { 0 } else { quiet },
                };
                let job = &self.jobs[self.at];
                let ask = Action::Ask {
                    cell: job.cell,
                    velocity: job.velocity,
                    after_ms: 0,
                };
                again.then_some(ask).into_iter().collect()
            }
            Phase::Checking { struck } if self.frame - struck >= self.ms(CHECKED_MS) => self.end_check(),
            _ => Vec::new(),
        }
    }

    fn end_take(&mut self, early: bool) -> Vec<Action> {
        let job = self.jobs[self.at].clone();
        let samples: Vec<f32> = self.kept.drain(..).collect();
        let take = self.windows.planar(&samples);
        let is_strike = job.on == SoundsOn::KeyDown;
        let wanted = Wanted {
            key: job.cell.key,
            // Neither a chord has a note that can be wrong, nor what is heard as a key comes up.
            pitched: self.settings.pitched && job.keys.len() == 1 && is_strike,
            window_dbfs: if is_strike {
                self.levels.window_of(job.velocity)
            } else {
                ANY_LEVEL_DBFS
            },
            noise_floor_dbfs: self.floor.dbfs(),
            shortest_ms: SHORTEST_MS,
            dies_away: self.settings.dies_away,
        };
        let mut verdict = judge(&take, &wanted);
        let lost = (self.lost > 0).then_some(Finding::lost_frames(self.lost));
        let beside: Vec<Finding> = early.then(Finding::too_early).into_iter().chain(lost).collect();
        if !beside.is_empty() {
            let pitch = verdict.key.zip(verdict.cents);
            let findings = beside.into_iter().chain(verdict.findings).collect();
            verdict = Verdict::of(findings, pitch, verdict.peak_dbfs);
        }
        let good = verdict.is_good();
        if good && is_strike {
            self.levels.keep(job.velocity, verdict.peak_dbfs);
        }
        self.verdict = Some(verdict.clone());
        let mut actions = vec![Action::End {
            cell: job.cell,
            end_frame: self.frame,
            verdict: Some(Box::new(verdict)),
        }];
        self.tries += 1;
        if !self.settings.hands_free || (!good && self.tries >= MOST_TRIES) {
            self.phase = Phase::Deciding;
        } else if good {
            self.at += 1;
            self.done += 1;
            actions.extend(self.go_on());
        } else {
            self.settle();
        }
        actions
    }

    /// The sound check ends: with a level, where something was played.
    fn end_check(&mut self) -> Vec<Action> {
        if let Some(check) = self.check.take() {
            let heard = self.loudest > 0.0;
            let mut check = SoundCheck {
                peak_dbfs: heard.then(|| amplitude_to_db(f64::from(self.loudest))),
                ..check
            }
            .judged();
            if !heard {
                check
                    .advice
                    .push("No note was played: play your loudest to learn whether the gain is right.".into());
            }
            self.check = Some(check);
        }
        self.phase = Phase::Ended(RunState::Finished);
        vec![Action::Finished]
    }
}
