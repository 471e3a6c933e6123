//! By hand: one prompted note after another, judged the moment it ends.

use crate::lead::{Action, CellJob, Lead, Order, Progress, RunState};
use crate::needle::Ear;
use crate::windows::Windows;
use instrument::{SoundCheck, Verdict};
use std::collections::VecDeque;

mod floor;
mod levels;
mod listening;
mod orders;
mod told;

use floor::Floor;
use levels::Levels;

/// How the player is led.
#[derive(Debug, Clone, PartialEq)]
pub struct HandSettings {
    /// Of the input.
    pub rate_hz: u32,
    /// Of the input.
    pub channels: usize,
    /// Whether the thing has notes that can be wrong.
    pub pitched: bool,
    /// Whether it dies away by itself.
    pub dies_away: bool,
    /// Keep good takes and go on without being told.
    pub hands_free: bool,
    /// After asking, so long is not listened to: a reference tone sounds.
    pub reference_ms: u32,
    /// After that, what comes before so long has passed is too early: a count-in.
    pub count_in_ms: u32,
    /// With which velocity each good take that is there already was struck, and its peak in dBFS.
    pub heard: Vec<(u8, f64)>,
}

/// Silence is listened to for so long at first.
const FLOOR_MS: f64 = 600.0;
/// One period of 50 Hz hum, so that its level does not waver.
const WINDOW_MS: f64 = 20.0;
/// Room before the strike: for the noise floor, and for a slow attack.
const ROOM_MS: f64 = 300.0;
/// While an instrument is tuned, a simulated player strikes again after so many quiet windows.
const STRIKES_AGAIN_AFTER: u32 = 75;

enum Phase {
    Listening,
    Settling {
        since: u64,
        quiet: u32,
    },
    Waiting {
        asked_at: u64,
    },
    Sounding {
        first: u64,
        struck: u64,
        quiet: u32,
        early: bool,
    },
    Deciding,
    /// What is struck is heard, and no take; a simulated player strikes again after a while.
    Tuning {
        quiet: u32,
    },
    /// The sound check hears the loudest note.
    Checking {
        struck: u64,
    },
    Ended(RunState),
}

/// Leads a player through the cells.
pub struct HandSession {
    settings: HandSettings,
    jobs: Vec<CellJob>,
    at: usize,
    done: usize,
    tries: u32,
    asked: u64,
    paused: bool,
    frame: u64,
    phase: Phase,
    windows: Windows,
    /// The newest [`ROOM_MS`], interleaved; while a take sounds, all of it.
    kept: VecDeque<f32>,
    floor: Floor,
    check: Option<SoundCheck>,
    verdict: Option<Verdict>,
    /// Of what was kept so far.
    levels: Levels,
    check_only: bool,
    loudest: f32,
    /// Frames of the current take that never came.
    lost: u64,
    ear: Ear,
}

impl HandSession {
    /// A run over the given cells, beginning with the next frame, number 0.
    pub fn new(settings: HandSettings, jobs: Vec<CellJob>) -> Self {
        let windows = Windows::new(settings.rate_hz, settings.channels, WINDOW_MS);
        Self {
            ear: Ear::new(settings.rate_hz, settings.channels),
            levels: Levels::of(&settings.heard),
            settings,
            jobs,
            at: 0,
            done: 0,
            tries: 0,
            asked: 0,
            paused: false,
            frame: 0,
            phase: Phase::Listening,
            windows,
            kept: VecDeque::new(),
            floor: Floor::assumed(),
            check: None,
            verdict: None,
            check_only: false,
            loudest: 0.0,
            lost: 0,
        }
    }

    /// Only the sound check: silence first, then the loudest note that the player will play, of the first cell given.
    pub fn check_only(settings: HandSettings, jobs: Vec<CellJob>) -> Self {
        Self {
            check_only: true,
            ..Self::new(settings, jobs)
        }
    }

    fn ms(&self, ms: f64) -> u64 {
        self.windows.ms(ms)
    }

    fn settle(&mut self) {
        self.phase = Phase::Settling {
            since: self.frame,
            quiet: 0,
        };
    }

    /// The next cell is asked for, once it is quiet; or the run ends.
    fn go_on(&mut self) -> Vec<Action> {
        self.tries = 0;
        self.ear.forget();
        if self.at < self.jobs.len() {
            self.settle();
            return Vec::new();
        }
        self.phase = Phase::Ended(RunState::Finished);
        vec![Action::Finished]
    }
}

impl Lead for HandSession {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        let mut actions = Vec::new();
        for heard in self.windows.push(samples) {
            self.frame += self.windows.frames();
            self.kept.extend(&heard.samples);
            if matches!(self.phase, Phase::Waiting { .. } | Phase::Checking { .. }) && self.check_only {
                let over = self.floor.strike() as f32;
                let highest = heard.samples.iter().fold(0.0f32, |top, x| top.max(x.abs()));
                if highest > over {
                    self.loudest = self.loudest.max(highest);
                }
            }
            if !matches!(self.phase, Phase::Sounding { .. }) {
                let most = if matches!(self.phase, Phase::Listening) {
                    self.ms(FLOOR_MS)
                } else {
                    self.ms(ROOM_MS) + self.ms(WINDOW_MS)
                };
                let most = most as usize * self.settings.channels;
                self.kept.drain(..self.kept.len().saturating_sub(most));
            }
            let listens = matches!(
                self.phase,
                Phase::Waiting { .. } | Phase::Sounding { .. } | Phase::Tuning { .. }
            );
            if listens && self.settings.pitched && !self.check_only {
                let stands_out = heard.rms >= self.floor.strike();
                self.ear.hear(&heard.samples, stands_out);
            }
            actions.extend(self.window_done(heard.rms));
        }
        actions
    }

    fn order(&mut self, order: Order) -> Vec<Action> {
        self.obey(order)
    }

    fn lost(&mut self, frames: u64) {
        if matches!(self.phase, Phase::Sounding { .. }) {
            self.lost += frames;
        }
    }

    fn left_late(&mut self, _: u64) {}

    fn progress(&mut self) -> Progress {
        self.told()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::{Cell, Finding};
    use program::SoundsOn;
    use rig::{Model, Rig, RigSettings, Slips};

    fn session(keys: &[u8], strikes: &[u8], hands_free: bool) -> HandSession {
        let settings = HandSettings {
            rate_hz: 48_000,
            channels: 2,
            pitched: true,
            dies_away: true,
            hands_free,
            reference_ms: 0,
            count_in_ms: 0,
            heard: Vec::new(),
        };
        let jobs = keys
            .iter()
            .flat_map(|&key| {
                (0u64..)
                    .zip(strikes)
                    .map(move |(layer, &velocity)| (key, layer, velocity))
            })
            .map(|(key, layer, velocity)| CellJob {
                cell: Cell {
                    pass: instrument::PassId(0),
                    key,
                    layer: instrument::LayerId(layer),
                    round_robin: 0,
                },
                keys: vec![key],
                velocity,
                hold_ms: 5_000,
                tail_ms: 10_000,
                on: SoundsOn::KeyDown,
                controller: None,
            })
            .collect();
        HandSession::new(settings, jobs)
    }

    /// What was kept: cell, length in frames and verdict.
    fn run(
        session: &mut HandSession,
        rig: &mut Rig,
        each_block: impl FnMut(&mut HandSession) -> Vec<Action>,
    ) -> Vec<(Cell, u64, Verdict)> {
        run_by(session, rig, true, each_block)
    }

    /// A patient player waits for the reference tone and the count-in.
    fn run_by(
        session: &mut HandSession,
        rig: &mut Rig,
        patient: bool,
        mut each_block: impl FnMut(&mut HandSession) -> Vec<Action>,
    ) -> Vec<(Cell, u64, Verdict)> {
        let (mut takes, mut begun) = (Vec::new(), 0);
        for _ in 0..60_000 {
            let block = rig.render(512);
            let mut actions = session.audio(&block.samples);
            actions.extend(each_block(session));
            for action in actions {
                match action {
                    Action::Ask {
                        cell,
                        velocity,
                        after_ms,
                    } => rig.ask(cell.key, velocity, if patient { after_ms } else { 0 }),
                    Action::Begin { first_frame, .. } => begun = first_frame,
                    Action::End {
                        cell,
                        end_frame,
                        verdict,
                    } => takes.push((cell, end_frame - begun, *verdict.unwrap())),
                    Action::Abandon { .. } | Action::Choose { .. } => {}
                    Action::Midi { .. } | Action::Play { .. } | Action::PlayPulse { .. } => {
                        panic!("nothing is sent by hand")
                    }
                    Action::Finished => return takes,
                }
            }
        }
        panic!("the run never ended: {:?}", session.progress());
    }

    fn careful() -> RigSettings {
        RigSettings {
            slips: Slips::NONE,
            ..RigSettings::default()
        }
    }

    #[test]
    fn a_careful_player_is_through_with_one_take_a_cell() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let takes = run(&mut session(&[60, 67, 72], &[45, 110], true), &mut rig, |_| {
            Vec::new()
        });
        assert_eq!(takes.len(), 6, "{takes:?}");
        assert!(takes.iter().all(|(.., verdict)| verdict.is_good()));
        assert!(takes.iter().all(|(_, frames, _)| *frames > 48_000));
    }

    /// Over several players: wrong notes, clipped strikes and doors happen, and none of them is taken for good.
    #[test]
    fn the_hands_free_run_copes_with_every_slip() {
        let mut refused = 0;
        for seed in 1..=4 {
            let settings = RigSettings {
                seed,
                slips: Slips {
                    wrong_note: 0.12,
                    clipped: 0.1,
                    door: 0.1,
                },
                ..RigSettings::default()
            };
            let mut rig = Rig::new(Model::SlateChimes, 48_000, settings);
            let mut session = session(&[60, 62, 64, 67, 69, 72], &[45, 110], true);
            let takes = run(&mut session, &mut rig, |_| Vec::new());
            let good: Vec<Cell> = takes
                .iter()
                .filter(|(.., v)| v.is_good())
                .map(|(cell, ..)| *cell)
                .collect();
            assert_eq!(good.len(), 12, "every cell once: {good:?}");
            refused += takes.len() - good.len();
            for (cell, _, verdict) in takes.iter().filter(|(.., v)| v.is_good()) {
                assert_eq!(verdict.key, Some(cell.key));
                assert!(verdict.peak_dbfs < -0.2);
            }
            let slips = rig.slips_made();
            assert!(
                takes.len() - good.len() <= slips + 2,
                "{} refused for {slips} slips",
                takes.len() - good.len()
            );
        }
        assert!(refused >= 8, "the players slipped too seldom to tell: {refused}");
    }

    #[test]
    fn a_note_that_still_rings_is_not_taken_for_the_floor() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        rig.schedule(0, &[0x90, 64, 120]);
        let mut session = session(&[60], &[100], true);
        let takes = run(&mut session, &mut rig, |_| Vec::new());
        assert_eq!(takes.len(), 1);
        let floor = session.progress().check.unwrap().noise_floor_dbfs;
        assert!(floor < -74.0, "{floor}");
    }

    #[test]
    fn a_sound_check_by_hand_hears_the_loudest_note() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut checking = HandSession::check_only(
            session(&[60], &[127], true).settings,
            session(&[60], &[127], true).jobs,
        );
        assert!(run(&mut checking, &mut rig, |_| Vec::new()).is_empty());
        let check = checking.progress().check.unwrap();
        assert!((-12.0..0.0).contains(&check.peak_dbfs.unwrap()), "{check:?}");
        assert_eq!(check.delay_ms, None);
        // Nobody plays: it ends by itself and says so.
        let mut silent = HandSession::check_only(
            session(&[60], &[127], true).settings,
            session(&[60], &[127], true).jobs,
        );
        let mut ended = false;
        for _ in 0..2_000 {
            ended |= silent.audio(&[0.0; 1_024]).contains(&Action::Finished);
        }
        assert!(
            ended
                && silent
                    .progress()
                    .check
                    .unwrap()
                    .advice
                    .iter()
                    .any(|line| line.contains("No note"))
        );
    }

    #[test]
    fn the_player_keeps_asks_again_goes_back_and_skips() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut session = session(&[60, 62, 64], &[100], false);
        let script = [
            Order::Again,
            Order::Keep,
            Order::Back,
            Order::Keep,
            Order::Keep,
            Order::Keep,
        ];
        let mut next = 0;
        let takes = run(&mut session, &mut rig, |session| {
            if session.progress().state == RunState::Deciding && next < script.len() {
                next += 1;
                return session.order(script[next - 1]);
            }
            Vec::new()
        });
        let keys: Vec<u8> = takes.iter().map(|(cell, ..)| cell.key).collect();
        // 60, again 60, kept; 62 decided by going back to 60; then 60, 62, 64.
        assert_eq!(keys, [60, 60, 62, 60, 62, 64]);
    }

    #[test]
    fn a_chord_has_no_note_that_is_wrong() {
        let slips = Slips {
            wrong_note: 1.0,
            ..Slips::NONE
        };
        let settings = RigSettings {
            slips,
            ..RigSettings::default()
        };
        let refused = |keys: Vec<u8>| {
            let mut rig = Rig::new(Model::SlateChimes, 48_000, settings);
            let mut session = session(&[60], &[100], false);
            session.jobs[0].keys = keys;
            let takes = run(&mut session, &mut rig, |session| match session.progress().state {
                RunState::Deciding => session.order(Order::Stop),
                _ => Vec::new(),
            });
            !takes[0].2.is_good()
        };
        assert!(refused(vec![60]));
        assert!(!refused(vec![60, 64, 67]));
    }

    #[test]
    fn what_is_struck_while_tuning_moves_the_needle_and_is_no_take() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut session = session(&[67, 72], &[100], true);
        let (mut needles, mut tuned, mut blocks) = (Vec::new(), false, 0);
        let takes = run(&mut session, &mut rig, |session| {
            let progress = session.progress();
            if progress.state == RunState::Waiting && !tuned {
                tuned = true;
                return session.order(Order::Tune);
            }
            if progress.state == RunState::Tuning {
                needles.extend(progress.needle.filter(|needle| needle.sounds));
                blocks += 1;
                if blocks == 700 {
                    return session.order(Order::Record);
                }
            }
            Vec::new()
        });
        assert_eq!(
            takes.iter().map(|(cell, ..)| cell.key).collect::<Vec<u8>>(),
            [67, 72]
        );
        assert!(needles.len() > 100, "{}", needles.len());
        // The needle shows what the take of the same bar is found to be.
        let cents = takes[0].2.cents.unwrap();
        let mut shown: Vec<f64> = needles.iter().map(|needle| needle.cents).collect();
        shown.sort_by(f64::total_cmp);
        let middle = shown[shown.len() / 2];
        assert!((middle - cents).abs() < 2.0, "{middle} for {cents}");
        assert!(needles.iter().all(|needle| needle.key == 67), "{needles:?}");
    }

    #[test]
    fn a_strike_before_the_count_in_is_over_is_too_early() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut session = session(&[60], &[100], false);
        session.settings.count_in_ms = 6_000;
        let takes = run_by(&mut session, &mut rig, false, |session| {
            if session.progress().state == RunState::Deciding {
                return session.order(Order::Stop);
            }
            Vec::new()
        });
        assert_eq!(takes[0].2.findings, [Finding::too_early()]);
    }

    /// What never came cannot be heard in the take: it is asked for again, and what is lost between takes spoils none.
    #[test]
    fn a_take_whose_frames_were_lost_is_asked_for_again() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut session = session(&[60, 64], &[100], true);
        let (mut in_a_take, mut between) = (false, false);
        let takes = run(&mut session, &mut rig, |session| {
            match session.progress().state {
                RunState::Recording if !in_a_take => {
                    in_a_take = true;
                    session.lost(128);
                }
                RunState::Waiting if !between => {
                    between = true;
                    session.lost(128);
                }
                _ => {}
            }
            Vec::new()
        });
        let keys: Vec<u8> = takes.iter().map(|(cell, ..)| cell.key).collect();
        assert_eq!(keys, [60, 60, 64]);
        assert_eq!(takes[0].2.findings, [Finding::lost_frames(128)]);
        assert!(takes[1..].iter().all(|(_, _, verdict)| verdict.is_good()));
    }

    #[test]
    fn who_waits_for_the_reference_and_the_count_in_is_in_time() {
        let mut rig = Rig::new(Model::SlateChimes, 48_000, careful());
        let mut session = session(&[60, 64], &[100], true);
        (session.settings.reference_ms, session.settings.count_in_ms) = (1_200, 2_400);
        let takes = run(&mut session, &mut rig, |_| Vec::new());
        assert_eq!(takes.len(), 2);
        assert!(
            takes.iter().all(|(_, _, verdict)| verdict.findings.is_empty()),
            "{takes:?}"
        );
    }
}
