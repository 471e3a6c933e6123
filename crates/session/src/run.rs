//! The unattended run over MIDI.

use crate::lead::{Action, CellJob, Lead, Order, Progress, RunState};
use crate::silence::check_silence;
use crate::windows::{Heard, Windows};
use instrument::{Controller, SoundCheck};
use program::SoundsOn;
use signal::{db_to_amplitude, frames_of_ms, sound_bounds};
use std::collections::VecDeque;

/// Room before the note in every take, for the noise floor and for a slow converter.
const ROOM_MS: f64 = 110.0;
/// How far ahead messages are scheduled: more than the room, so that a take's first frame lies in the future.
const LEAD_MS: f64 = 160.0;
/// A key-up sound begins when the key comes up: no room before it is silent.
const KEY_UP_ROOM_MS: f64 = 5.0;
/// A room that became louder must not hold the run up for ever.
const LONGEST_SETTLING_MS: f64 = 5_000.0;
const FLOOR_MS: f64 = 400.0;
const WINDOW_MS: f64 = 50.0;
const PULSE_HOLD_MS: f64 = 250.0;
const PULSE_WAIT_MS: f64 = 1_200.0;
/// A tail is gone when two windows in a row are less than 2 dB over the floor.
const GONE_DB: f64 = 2.0;
const QUIET_WINDOWS: u32 = 2;
/// After the tail, this much of the room stays in the take.
const FLOOR_ASSUMED_DBFS: f64 = -90.0;

/// How the run is set up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionSettings {
    /// Of the input.
    pub rate_hz: u32,
    /// Of the input.
    pub channels: usize,
    /// MIDI channel from 0.
    pub midi_channel: u8,
    /// MIDI bank, if one is to be chosen.
    pub midi_bank: Option<u16>,
    /// MIDI program from 0.
    pub midi_program: u8,
}

enum Phase {
    Listening,
    Pulse {
        sent: u64,
        heard: Vec<f32>,
    },
    Settling {
        since: u64,
        quiet: u32,
    },
    Cell {
        first: u64,
        key_up: u64,
        longest: u64,
        quiet: u32,
    },
    Ended(RunState),
}

/// What chooses bank and program.
pub(crate) fn programs(settings: &SessionSettings) -> Vec<u8> {
    let channel = settings.midi_channel & 0x0F;
    let mut bytes = Vec::new();
    if let Some(bank) = settings.midi_bank {
        // Bank select, coarse and fine (MIDI 1.0, controllers 0 and 32).
        let (coarse, fine) = ((bank >> 7) as u8 & 127, bank as u8 & 127);
        bytes.extend([0xB0 | channel, 0, coarse, 0xB0 | channel, 32, fine]);
    }
    bytes.extend([0xC0 | channel, settings.midi_program & 127]);
    bytes
}

/// Leads through the cells.
pub struct Session {
    settings: SessionSettings,
    jobs: VecDeque<CellJob>,
    total: usize,
    done: usize,
    frame: u64,
    cells_began_at: u64,
    phase: Phase,
    paused: bool,
    windows: Windows,
    floor: f64,
    silence: Vec<f32>,
    check: Option<SoundCheck>,
    delay_frames: Option<u64>,
    /// What the controllers were last set to.
    controller: Option<Controller>,
    check_only: bool,
}

impl Session {
    /// A run over the given cells, beginning with the next frame, number 0.
    pub fn new(settings: SessionSettings, jobs: Vec<CellJob>) -> Self {
        Self {
            total: jobs.len(),
            jobs: jobs.into(),
            settings,
            done: 0,
            frame: 0,
            cells_began_at: 0,
            phase: Phase::Listening,
            paused: false,
            windows: Windows::new(settings.rate_hz, settings.channels, WINDOW_MS),
            floor: db_to_amplitude(FLOOR_ASSUMED_DBFS),
            silence: Vec::new(),
            check: None,
            delay_frames: None,
            controller: None,
            check_only: false,
        }
    }

    /// Only the sound check: the cells tell which key is tried, and none is recorded.
    pub fn check_only(settings: SessionSettings, jobs: Vec<CellJob>) -> Self {
        Self {
            check_only: true,
            total: 0,
            ..Self::new(settings, jobs)
        }
    }

    fn let_go(&self) -> Vec<Action> {
        match (&self.phase, self.jobs.front()) {
            (Phase::Cell { .. }, Some(job)) => {
                vec![
                    self.notes_off(&job.keys, self.frame),
                    Action::Abandon { cell: job.cell },
                ]
            }
            _ => Vec::new(),
        }
    }

    /// Throws the current cell's take away and goes to the next.
    fn skip(&mut self) -> Vec<Action> {
        let Phase::Cell { .. } = self.phase else {
            return Vec::new();
        };
        let mut actions = self.let_go();
        self.jobs.pop_front();
        self.total = self.total.saturating_sub(1);
        self.settle(0);
        actions.extend(self.when_ended());
        actions
    }

    /// Ends the run; the current cell's take is thrown away.
    fn stop(&mut self) -> Vec<Action> {
        if matches!(self.phase, Phase::Ended(_)) {
            return Vec::new();
        }
        let mut actions = self.let_go();
        self.phase = Phase::Ended(RunState::Stopped);
        actions.push(Action::Finished);
        actions
    }

    fn settle(&mut self, quiet: u32) {
        self.phase = Phase::Settling {
            since: self.frame,
            quiet,
        };
    }

    fn window_done(&mut self, Heard { samples: heard, rms }: &Heard) -> Vec<Action> {
        let is_quiet = *rms <= self.floor * db_to_amplitude(GONE_DB);
        match &mut self.phase {
            Phase::Listening => {
                self.silence.extend_from_slice(heard);
                if self.frame < self.ms(FLOOR_MS) {
                    return Vec::new();
                }
                let silence = std::mem::take(&mut self.silence);
                let audio = self.windows.planar(&silence);
                let mut check = check_silence(&audio);
                check.noise_floor_dbfs = signal::rms_dbfs(&audio).max(FLOOR_ASSUMED_DBFS);
                self.floor = db_to_amplitude(check.noise_floor_dbfs);
                self.check = Some(check.judged());
                self.begin_pulse()
            }
            Phase::Pulse { sent, heard: all } => {
                all.extend_from_slice(heard);
                let sent = *sent;
                if self.frame < sent + frames_of_ms(self.settings.rate_hz, PULSE_WAIT_MS) as u64 {
                    return Vec::new();
                }
                let all = std::mem::take(all);
                self.settle(0);
                let delay = self.delay_of(sent, &all);
                self.delay_frames = Some(delay.unwrap_or(0));
                let rate = f64::from(self.settings.rate_hz);
                if let Some(check) = self.check.take() {
                    let peak = all.iter().fold(0.0f32, |top, x| top.max(x.abs()));
                    let mut check = SoundCheck {
                        delay_ms: delay.map(|frames| frames as f64 / rate * 1000.0),
                        peak_dbfs: delay.map(|_| signal::amplitude_to_db(f64::from(peak))),
                        ..check
                    }
                    .judged();
                    if delay.is_none() {
                        check
                            .advice
                            .push("No sound came back for a note: look at cable, channel and input.".into());
                    }
                    self.check = Some(check);
                }
                if self.check_only {
                    self.phase = Phase::Ended(RunState::Finished);
                    return vec![Action::Finished];
                }
                Vec::new()
            }
            Phase::Settling { since, quiet } => {
                *quiet = if is_quiet { *quiet + 1 } else { 0 };
                let (since, quiet) = (*since, *quiet);
                let waited = self.frame - since >= self.ms(LONGEST_SETTLING_MS);
                if (quiet >= QUIET_WINDOWS || waited) && !self.paused {
                    self.begin_cell()
                } else {
                    Vec::new()
                }
            }
            Phase::Cell {
                key_up,
                longest,
                quiet,
                ..
            } => {
                let after_key_up = self.frame > *key_up;
                *quiet = if is_quiet && after_key_up { *quiet + 1 } else { 0 };
                if *quiet < QUIET_WINDOWS && self.frame < *longest {
                    return Vec::new();
                }
                self.end_cell()
            }
            Phase::Ended(_) => Vec::new(),
        }
    }

    fn begin_pulse(&mut self) -> Vec<Action> {
        let Some(job) = self.jobs.front() else {
            self.phase = Phase::Ended(RunState::Finished);
            return vec![Action::Finished];
        };
        let at_frame = self.frame + self.ms(LEAD_MS);
        let channel = self.settings.midi_channel & 0x0F;
        let program = Action::Midi {
            at_frame: self.frame,
            bytes: programs(&self.settings),
        };
        let key = self
            .jobs
            .get(self.jobs.len() / 2)
            .map_or(job.cell.key, |job| job.cell.key);
        self.phase = Phase::Pulse {
            sent: at_frame,
            heard: Vec::new(),
        };
        vec![
            program,
            Action::Midi {
                at_frame,
                bytes: vec![0x90 | channel, key, 127],
            },
            self.notes_off(&[key], at_frame + self.ms(PULSE_HOLD_MS)),
        ]
    }

    /// The frames from a message leaving to its sound; `None` where nothing was heard.
    fn delay_of(&self, sent: u64, heard: &[f32]) -> Option<u64> {
        let first = self.frame - (heard.len() / self.settings.channels) as u64;
        let audio = self.windows.planar(heard);
        let bounds = sound_bounds(&audio)?;
        let heard = signal::peak_dbfs(&audio) > signal::amplitude_to_db(self.floor) + 12.0;
        heard.then(|| (first + bounds.start_frame as u64).saturating_sub(sent))
    }

    fn begin_cell(&mut self) -> Vec<Action> {
        let Some(job) = self.jobs.front().cloned() else {
            return Vec::new();
        };
        if self.done == 0 {
            self.cells_began_at = self.frame;
        }
        let delay = self.delay_frames.unwrap_or(0);
        let at_frame = self.frame + self.ms(LEAD_MS);
        let key_up = at_frame + self.ms(f64::from(job.hold_ms));
        let first = match job.on {
            SoundsOn::KeyDown => at_frame + delay - self.ms(ROOM_MS),
            SoundsOn::KeyUp => key_up + delay - self.ms(KEY_UP_ROOM_MS),
        };
        let longest = key_up + delay + self.ms(f64::from(job.tail_ms));
        self.phase = Phase::Cell {
            first,
            key_up: key_up + delay,
            longest,
            quiet: 0,
        };
        let channel = self.settings.midi_channel & 0x0F;
        let mut actions = Vec::new();
        if self.controller != job.controller {
            // What the pass before held goes back to 0, where it is another controller.
            let before = self
                .controller
                .filter(|c| job.controller.is_none_or(|now| now.number != c.number));
            let back = before.map(|c| Controller { value: 0, ..c });
            for controller in back.into_iter().chain(job.controller) {
                actions.push(Action::Midi {
                    at_frame: self.frame,
                    bytes: vec![0xB0 | channel, controller.number & 127, controller.value & 127],
                });
            }
            self.controller = job.controller;
        }
        actions.extend([
            Action::Begin {
                cell: job.cell,
                first_frame: first,
            },
            Action::Midi {
                at_frame,
                bytes: job
                    .keys
                    .iter()
                    .flat_map(|key| [0x90 | channel, *key, job.velocity])
                    .collect(),
            },
            self.notes_off(&job.keys, key_up),
        ]);
        actions
    }

    fn end_cell(&mut self) -> Vec<Action> {
        let Some(job) = self.jobs.pop_front() else {
            return Vec::new();
        };
        self.done += 1;
        self.settle(QUIET_WINDOWS);
        let mut actions = vec![Action::End {
            cell: job.cell,
            end_frame: self.frame,
            verdict: None,
        }];
        actions.extend(self.when_ended());
        actions
    }

    fn when_ended(&mut self) -> Vec<Action> {
        if !self.jobs.is_empty() {
            return Vec::new();
        }
        self.phase = Phase::Ended(RunState::Finished);
        vec![Action::Finished]
    }

    fn notes_off(&self, keys: &[u8], at_frame: u64) -> Action {
        let status = 0x80 | (self.settings.midi_channel & 0x0F);
        Action::Midi {
            at_frame,
            bytes: keys.iter().flat_map(|key| [status, *key, 64]).collect(),
        }
    }

    fn ms(&self, ms: f64) -> u64 {
        self.windows.ms(ms)
    }
}

impl Lead for Session {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        let mut actions = Vec::new();
        for heard in self.windows.push(samples) {
            self.frame += self.windows.frames();
            actions.extend(self.window_done(&heard));
        }
        actions
    }

    fn order(&mut self, order: Order) -> Vec<Action> {
        match order {
            Order::Pause => self.paused = true,
            Order::Resume => self.paused = false,
            Order::Skip => return self.skip(),
            Order::Stop => return self.stop(),
            // Nobody plays: nothing to keep or to ask for again.
            Order::Keep
            | Order::Again
            | Order::Back
            | Order::HandsFree
            | Order::HandsOn
            | Order::Tune
            | Order::Record => {}
        }
        Vec::new()
    }

    fn left_late(&mut self, by_frames: u64) {
        match &mut self.phase {
            Phase::Cell { key_up, longest, .. } => {
                *key_up += by_frames;
                *longest += by_frames;
            }
            Phase::Pulse { sent, .. } => *sent += by_frames,
            _ => {}
        }
    }

    fn progress(&mut self) -> Progress {
        let rate = f64::from(self.settings.rate_hz);
        let state = match &self.phase {
            Phase::Listening => RunState::Listening,
            Phase::Pulse { .. } => RunState::Pulse,
            Phase::Settling { .. } if self.paused => RunState::Paused,
            Phase::Settling { .. } | Phase::Cell { .. } => RunState::Recording,
            Phase::Ended(state) => *state,
        };
        let (cell, cell_share) = match (&self.phase, self.jobs.front()) {
            (Phase::Cell { first, longest, .. }, Some(job)) => {
                let share = self.frame.saturating_sub(*first) as f64 / (longest - first).max(1) as f64;
                (Some(job.cell), share.min(1.0))
            }
            _ => (None, 0.0),
        };
        let planned: f64 = self
            .jobs
            .iter()
            .map(|job| f64::from(job.hold_ms + job.tail_ms) / 1000.0)
            .sum();
        let seconds_left = if self.done == 0 {
            planned
        } else {
            (self.frame - self.cells_began_at) as f64 / rate / self.done as f64 * self.jobs.len() as f64
        };
        Progress {
            cell,
            cell_share,
            done: self.done,
            total: self.total,
            seconds_left,
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
    use instrument::Cell;
    use rig::{Model, Rig, RigSettings};

    fn jobs(keys: &[u8]) -> Vec<CellJob> {
        let cell = |key| Cell {
            pass: instrument::PassId(0),
            key,
            layer: instrument::LayerId(0),
            round_robin: 0,
        };
        keys.iter()
            .map(|&key| CellJob {
                cell: cell(key),
                keys: vec![key],
                velocity: 100,
                hold_ms: 1_000,
                tail_ms: 3_000,
                on: SoundsOn::KeyDown,
                controller: None,
            })
            .collect()
    }

    fn session(keys: &[u8]) -> Session {
        let settings = SessionSettings {
            rate_hz: 48_000,
            channels: 2,
            midi_channel: 0,
            midi_bank: Some(129),
            midi_program: 0,
        };
        Session::new(settings, jobs(keys))
    }

    /// Runs to the end; gives each take's first and end frame and when its note-on left.
    fn run(
        session: &mut Session,
        rig: &mut Rig,
        mut each_block: impl FnMut(&mut Session) -> Vec<Action>,
    ) -> Vec<(u8, u64, u64, u64)> {
        let (mut takes, mut on, mut begun) = (Vec::new(), 0, None);
        for _ in 0..6_000 {
            let block = rig.render(512);
            let mut actions = session.audio(&block.samples);
            actions.extend(each_block(session));
            for action in actions {
                match action {
                    Action::Midi { at_frame, bytes } => {
                        let left = rig.schedule(at_frame, &bytes);
                        assert!(left == at_frame || bytes[0] != 0x90, "too late");
                        if bytes[0] == 0x90 {
                            on = left;
                        }
                    }
                    Action::Begin { cell, first_frame } => begun = Some((cell.key, first_frame)),
                    Action::End { cell, end_frame, .. } => {
                        let (key, first) = begun.take().unwrap();
                        assert_eq!(key, cell.key);
                        takes.push((key, first, end_frame, on));
                    }
                    Action::Abandon { .. } => begun = None,
                    Action::Finished => return takes,
                    other => panic!("nobody plays: {other:?}"),
                }
            }
        }
        panic!("the run never ended: {:?}", session.progress());
    }

    #[test]
    fn the_delay_is_measured_and_taken_out() {
        for delay_ms in [3.0, 12.0, 45.0] {
            let mut rig = Rig::new(
                Model::NightFerry,
                48_000,
                RigSettings {
                    delay_ms,
                    ..RigSettings::default()
                },
            );
            let mut session = session(&[48, 60]);
            let takes = run(&mut session, &mut rig, |_| Vec::new());
            let measured = session.progress().check.unwrap().delay_ms.unwrap();
            assert!((measured - delay_ms).abs() < 1.0, "{measured} for {delay_ms}");
            for (_, first, _, on) in takes {
                let room_ms = (on as f64 + delay_ms * 48.0 - first as f64) / 48.0;
                assert!((room_ms - ROOM_MS).abs() < 1.0, "{room_ms}");
            }
        }
    }

    #[test]
    fn a_tail_ends_when_it_is_gone_and_not_later() {
        let mut rig = Rig::new(Model::NightFerry, 48_000, RigSettings::default());
        let takes = run(&mut session(&[48, 55, 60]), &mut rig, |_| Vec::new());
        assert_eq!(takes.iter().map(|take| take.0).collect::<Vec<u8>>(), [48, 55, 60]);
        for (_, first, end, _) in takes {
            let seconds = (end - first) as f64 / 48_000.0;
            assert!((1.2..2.0).contains(&seconds), "{seconds}");
        }
    }

    #[test]
    fn key_up_sounds_are_taken_from_the_key_coming_up() {
        let mut rig = Rig::new(Model::ReedOrgan, 48_000, RigSettings::default());
        let mut jobs = jobs(&[60, 64]);
        jobs.iter_mut().for_each(|job| job.on = SoundsOn::KeyUp);
        let mut session = Session::new(session(&[]).settings, jobs);
        for (_, first, end, on) in run(&mut session, &mut rig, |_| Vec::new()) {
            // Held for 1 s, 12 ms of delay, 5 ms of room. A reed takes 45 ms to speak: the delay is known to a tenth of that.
            let after_ms = (first as f64 - on as f64) / 48.0;
            assert!((after_ms - 1_007.0).abs() < 4.5, "{after_ms}");
            assert!((0.1..0.6).contains(&((end - first) as f64 / 48_000.0)));
        }
    }

    #[test]
    fn a_chord_goes_down_and_comes_up_together() {
        let mut rig = Rig::new(Model::NightFerry, 48_000, RigSettings::default());
        let mut jobs = jobs(&[48]);
        jobs[0].keys = vec![43, 48, 52];
        let mut session = Session::new(session(&[]).settings, jobs);
        let mut sent: Vec<Vec<u8>> = Vec::new();
        let mut take: Vec<f32> = Vec::new();
        let mut first = None;
        for _ in 0..1_000 {
            let block = rig.render(512);
            if first.is_some_and(|first| block.first_frame >= first) {
                take.extend(block.samples.iter().step_by(2));
            }
            let actions = session.audio(&block.samples);
            for action in &actions {
                if let Action::Midi { at_frame, bytes } = action {
                    rig.schedule(*at_frame, bytes);
                    sent.push(bytes.clone());
                }
                if let Action::Begin { first_frame, .. } = action {
                    first = Some(*first_frame);
                }
            }
            if actions.contains(&Action::Finished) {
                break;
            }
        }
        // After the bank, the program and the pulse of the sound check.
        let struck = [[0x90, 43, 100], [0x90, 48, 100], [0x90, 52, 100]].concat();
        let let_go = [[0x80, 43, 64], [0x80, 48, 64], [0x80, 52, 64]].concat();
        assert_eq!(sent[sent.len() - 2..], [struck, let_go]);
        // All three of its fundamentals are in the take, and none of a key between.
        let level = |key: u8| {
            let hz = signal::hz_of_key(f64::from(key));
            let (mut re, mut im) = (0.0, 0.0);
            for (n, x) in take[12_000..43_200].iter().enumerate() {
                let phase = std::f64::consts::TAU * hz * n as f64 / 48_000.0;
                let window = (std::f64::consts::PI * n as f64 / 31_200.0).sin().powi(2);
                re += f64::from(*x) * window * phase.cos();
                im += f64::from(*x) * window * phase.sin();
            }
            signal::amplitude_to_db(re.hypot(im) / 15_600.0 * 2.0)
        };
        for key in [43, 48, 52] {
            assert!(
                level(key) > level(45) + 15.0,
                "{key}: {} and {}",
                level(key),
                level(45)
            );
        }
    }

    #[test]
    fn a_sound_check_measures_and_records_nothing() {
        let settings = RigSettings {
            noise_dbfs: -50.0,
            ..RigSettings::default()
        };
        let mut rig = Rig::new(Model::NightFerry, 48_000, settings);
        let mut session = Session::check_only(session(&[]).settings, jobs(&[60]));
        assert!(run(&mut session, &mut rig, |_| Vec::new()).is_empty());
        let check = session.progress().check.unwrap();
        assert!((check.noise_floor_dbfs + 50.0).abs() < 1.0, "{check:?}");
        assert!(check.advice.iter().any(|line| line.contains("much")), "{check:?}");
        assert!(check.delay_ms.is_some() && check.peak_dbfs.is_some());
    }

    #[test]
    fn skipping_pausing_and_stopping_work_in_the_middle() {
        let mut rig = Rig::new(Model::ReedOrgan, 48_000, RigSettings::default());
        let (mut skipped, mut blocks) = (false, 0);
        let takes = run(&mut session(&[48, 55, 60]), &mut rig, |session| {
            let progress = session.progress();
            if !skipped && progress.cell.is_some_and(|cell| cell.key == 55) && progress.cell_share > 0.1 {
                skipped = true;
                session.order(Order::Pause);
                return session.order(Order::Skip);
            }
            if progress.state == RunState::Paused {
                blocks += 1;
                if blocks > 100 {
                    return session.order(Order::Resume);
                }
            }
            Vec::new()
        });
        assert!(skipped && blocks > 100);
        assert_eq!(takes.iter().map(|take| take.0).collect::<Vec<u8>>(), [48, 60]);
        let mut stopped = session(&[48]);
        assert_eq!(stopped.order(Order::Stop), [Action::Finished]);
        assert_eq!(stopped.progress().state, RunState::Stopped);
    }
}
