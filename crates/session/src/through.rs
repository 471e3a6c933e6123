//! Through a box: takes are played out one after another, and what comes back is kept with its tail.

use crate::lead::{Action, Lead, Order, Progress, RunState};
use crate::silence::check_silence;
use crate::windows::{Heard, Windows};
use instrument::{Cell, SoundCheck};
use signal::{Audio, amplitude_to_db, db_to_amplitude, frames_of_ms, sound_bounds};
use std::collections::VecDeque;

/// A take to play out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlayJob {
    /// Its cell, and of what comes back.
    pub cell: Cell,
    /// Its number, for who plays it.
    pub take: u64,
    /// Its length.
    pub frames: u64,
}

const FLOOR_MS: f64 = 400.0;
const LEAD_MS: f64 = 220.0;
/// What is kept before the sound comes back.
const ROOM_MS: f64 = 100.0;
const PULSE_WAIT_MS: f64 = 1_500.0;
const WINDOW_MS: f64 = 50.0;
const GONE_DB: f64 = 2.0;
/// Between two echoes it is quiet too: a tail is over after 0.8 s without one.
const QUIET_WINDOWS: u32 = 16;
/// A box may echo for ever: longer tails than this are cut.
const LONGEST_TAIL_MS: f64 = 15_000.0;
const FLOOR_ASSUMED_DBFS: f64 = -90.0;

/// What is played out to measure the delay: 5 ms of a loud 1 kHz cosine, mono; its first frame is its loudest.
pub fn pulse(rate_hz: u32) -> Vec<f32> {
    (0..frames_of_ms(rate_hz, 5.0))
        .map(|n| (n as f32 * 1_000.0 / rate_hz as f32 * std::f32::consts::TAU).cos() * 0.7)
        .collect()
}

enum Phase {
    Listening,
    Pulse { at: u64 },
    Settling { since: u64, quiet: u32 },
    Playing { first: u64, over: u64, quiet: u32 },
    Ended(RunState),
}

/// Plays takes through a box and keeps what comes back, its delay taken out.
pub struct ThroughSession {
    rate_hz: u32,
    jobs: VecDeque<PlayJob>,
    total: usize,
    done: usize,
    frame: u64,
    phase: Phase,
    windows: Windows,
    heard: Vec<f32>,
    floor: f64,
    delay: u64,
    check: Option<SoundCheck>,
    paused: bool,
}

impl ThroughSession {
    /// For takes in their order, beginning with the next frame, number 0.
    pub fn new(rate_hz: u32, channels: usize, jobs: Vec<PlayJob>) -> Self {
        Self {
            rate_hz,
            total: jobs.len(),
            jobs: jobs.into(),
            done: 0,
            frame: 0,
            phase: Phase::Listening,
            windows: Windows::new(rate_hz, channels, WINDOW_MS),
            heard: Vec::new(),
            floor: db_to_amplitude(FLOOR_ASSUMED_DBFS),
            delay: 0,
            check: None,
            paused: false,
        }
    }

    fn ms(&self, ms: f64) -> u64 {
        self.windows.ms(ms)
    }

    fn audio_heard(&mut self) -> Audio {
        let heard = std::mem::take(&mut self.heard);
        self.windows.planar(&heard)
    }

    fn settle(&mut self) {
        self.phase = Phase::Settling {
            since: self.frame,
            quiet: 0,
        };
    }

    fn window_done(&mut self, Heard { samples: heard, rms }: &Heard) -> Vec<Action> {
        let is_quiet = *rms <= self.floor * db_to_amplitude(GONE_DB);
        match self.phase {
            Phase::Listening => {
                self.heard.extend_from_slice(heard);
                if self.frame < self.ms(FLOOR_MS) {
                    return Vec::new();
                }
                let audio = self.audio_heard();
                let mut check = check_silence(&audio);
                check.noise_floor_dbfs = signal::rms_dbfs(&audio).max(FLOOR_ASSUMED_DBFS);
                self.floor = db_to_amplitude(check.noise_floor_dbfs);
                self.check = Some(check.judged());
                let at = self.frame + self.ms(LEAD_MS);
                self.phase = Phase::Pulse { at };
                vec![Action::PlayPulse { at_frame: at }]
            }
            Phase::Pulse { at } => {
                self.heard.extend_from_slice(heard);
                if self.frame < at + self.ms(PULSE_WAIT_MS) {
                    return Vec::new();
                }
                let audio = self.audio_heard();
                let first = self.frame - audio.frames() as u64;
                let loud = signal::peak_dbfs(&audio) > amplitude_to_db(self.floor) + 12.0;
                let back = sound_bounds(&audio)
                    .filter(|_| loud)
                    .map(|b| first + b.start_frame as u64);
                let Some(back) = back else {
                    if let Some(check) = &mut self.check {
                        check
                            .advice
                            .push("Nothing came back from the box: look at its cables and its level.".into());
                    }
                    self.phase = Phase::Ended(RunState::Stopped);
                    return vec![Action::Finished];
                };
                self.delay = back.saturating_sub(at);
                if let Some(check) = &mut self.check {
                    check.delay_ms = Some(self.delay as f64 * 1000.0 / f64::from(self.rate_hz));
                }
                self.settle();
                Vec::new()
            }
            Phase::Settling { since, quiet } => {
                let quiet = if is_quiet { quiet + 1 } else { 0 };
                self.phase = Phase::Settling { since, quiet };
                let waited = self.frame - since >= self.ms(LONGEST_TAIL_MS);
                if self.paused || !(quiet >= QUIET_WINDOWS || waited) {
                    return Vec::new();
                }
                let Some(job) = self.jobs.front().copied() else {
                    self.phase = Phase::Ended(RunState::Finished);
                    return vec![Action::Finished];
                };
                let at_frame = self.frame + self.ms(LEAD_MS);
                let first = at_frame + self.delay - self.ms(ROOM_MS);
                self.phase = Phase::Playing {
                    first,
                    over: at_frame + self.delay + job.frames,
                    quiet: 0,
                };
                vec![
                    Action::Begin {
                        cell: job.cell,
                        first_frame: first,
                    },
                    Action::Play {
                        at_frame,
                        take: job.take,
                    },
                ]
            }
            Phase::Playing { first, over, quiet } => {
                let quiet = if is_quiet && self.frame > over {
                    quiet + 1
                } else {
                    0
                };
                self.phase = Phase::Playing { first, over, quiet };
                if quiet < QUIET_WINDOWS && self.frame < over + self.ms(LONGEST_TAIL_MS) {
                    return Vec::new();
                }
                let Some(job) = self.jobs.pop_front() else {
                    return Vec::new();
                };
                self.done += 1;
                self.settle();
                vec![Action::End {
                    cell: job.cell,
                    end_frame: self.frame,
                    verdict: None,
                }]
            }
            Phase::Ended(_) => Vec::new(),
        }
    }
}

impl Lead for ThroughSession {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        let mut actions = Vec::new();
        for heard in self.windows.push(samples) {
            self.frame += self.windows.frames();
            actions.extend(self.window_done(&heard));
        }
        actions
    }

    fn order(&mut self, order: Order) -> Vec<Action> {
        let current = || self.jobs.front().map(|job| Action::Abandon { cell: job.cell });
        match (order, &self.phase) {
            (_, Phase::Ended(_)) => Vec::new(),
            (Order::Pause, _) => {
                self.paused = true;
                Vec::new()
            }
            (Order::Resume, _) => {
                self.paused = false;
                Vec::new()
            }
            (Order::Skip, Phase::Playing { .. }) => {
                let actions = current().into_iter().collect();
                self.jobs.pop_front();
                self.settle();
                actions
            }
            (Order::Stop, _) => {
                let mut actions: Vec<Action> = current().into_iter().collect();
                self.phase = Phase::Ended(RunState::Stopped);
                actions.push(Action::Finished);
                actions
            }
            _ => Vec::new(),
        }
    }

    fn left_late(&mut self, by_frames: u64) {
        match &mut self.phase {
            Phase::Playing { over, .. } => *over += by_frames,
            Phase::Pulse { at } => *at += by_frames,
            _ => {}
        }
    }

    fn progress(&mut self) -> Progress {
        let (state, share) = match self.phase {
            Phase::Listening => (RunState::Listening, 0.0),
            Phase::Pulse { .. } => (RunState::Pulse, 0.0),
            Phase::Settling { .. } if self.paused => (RunState::Paused, 0.0),
            Phase::Settling { .. } => (RunState::Recording, 0.0),
            Phase::Playing { first, over, .. } => {
                let share = self.frame.saturating_sub(first) as f64 / (over - first).max(1) as f64;
                (RunState::Recording, share.min(1.0))
            }
            Phase::Ended(state) => (state, 0.0),
        };
        let left: u64 = self.jobs.iter().map(|job| job.frames + self.ms(2_000.0)).sum();
        Progress {
            cell: self.jobs.front().map(|job| job.cell),
            cell_share: share,
            done: self.done,
            total: self.total,
            seconds_left: left as f64 / f64::from(self.rate_hz),
            check: self.check.clone(),
            peak_dbfs: self.windows.take_peak_dbfs(),
            frames: self.frame,
            ..Progress::of(state)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rig::EchoBox;

    fn cell(key: u8) -> Cell {
        Cell {
            pass: instrument::PassId(0),
            key,
            layer: instrument::LayerId(0),
            round_robin: 0,
        }
    }

    #[test]
    fn takes_come_back_with_their_tail_and_without_the_delay() {
        let tone: Vec<f32> = (0..24_000)
            .flat_map(|n| {
                let x = (n as f32 * 0.06).sin() * 0.5;
                [x, x]
            })
            .collect();
        let jobs = [60, 64]
            .map(|key| PlayJob {
                cell: cell(key),
                take: u64::from(key),
                frames: 24_000,
            })
            .to_vec();
        let mut session = ThroughSession::new(48_000, 2, jobs);
        let mut echo = EchoBox::new(48_000, 31.0, 7);
        let (mut kept, mut begun, mut played, mut all) = (Vec::new(), 0, 0, Vec::new());
        'run: loop {
            let block = echo.render(512);
            all.extend_from_slice(&block.samples);
            for action in session.audio(&block.samples) {
                match action {
                    Action::PlayPulse { at_frame } => {
                        let stereo = pulse(48_000).iter().flat_map(|&x| [x, x]).collect();
                        assert_eq!(echo.play(at_frame, stereo), at_frame);
                    }
                    Action::Play { at_frame, .. } => {
                        played = echo.play(at_frame, tone.clone());
                        assert_eq!(played, at_frame);
                    }
                    Action::Begin { first_frame, .. } => begun = first_frame,
                    Action::End { cell, end_frame, .. } => kept.push((cell.key, begun, end_frame, played)),
                    Action::Finished => break 'run,
                    _ => {}
                }
            }
            assert!(all.len() < 48_000 * 2 * 60, "{:?}", session.progress());
        }
        assert_eq!(kept.len(), 2, "{:?}", session.progress());
        let measured = session.progress().check.unwrap().delay_ms.unwrap();
        assert!((measured - 31.0).abs() < 1.0, "{measured}");
        for (_, first, end, played) in kept {
            let audio = Audio::from_interleaved(48_000, 2, &all[first as usize * 2..end as usize * 2]);
            let start_ms = sound_bounds(&audio).unwrap().start_frame as f64 / 48.0;
            assert!((start_ms - ROOM_MS).abs() < 1.5, "{start_ms}");
            // Half a second of tone, and echoes 8 dB under one another down to the hiss: more than a second more.
            assert!(end - played > 24_000 + 48_000, "{}", end - played);
        }
    }
}
