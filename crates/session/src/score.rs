//! A score is played on a source, and all that comes back is one recording.

use crate::lead::{Action, Lead, Order, Progress, RunState};
use crate::long::NO_CELL;
use crate::run::{SessionSettings, programs};
use instrument::{Controller, Score};
use signal::frames_of_ms;

/// The room is heard for so long before the first note: noise is known by it.
const ROOM_MS: f64 = 500.0;
/// Programs and controllers leave so long before.
const SET_MS: f64 = 250.0;

/// Plays a score, and keeps everything from its first frame on.
pub struct ScoreSession {
    settings: SessionSettings,
    score: Score,
    frame: u64,
    state: RunState,
    peak: f32,
}

impl ScoreSession {
    /// Begins with the next frame, number 0.
    pub fn new(settings: SessionSettings, score: Score) -> Self {
        Self {
            settings,
            score,
            frame: 0,
            state: RunState::Recording,
            peak: 0.0,
        }
    }

    /// When the recording begins, in milliseconds after the score does: before it.
    pub fn recording_from_ms() -> f64 {
        -ROOM_MS
    }

    fn ms(&self, ms: f64) -> u64 {
        frames_of_ms(self.settings.rate_hz, ms) as u64
    }

    fn end(&self) -> u64 {
        self.ms(ROOM_MS + self.score.length_ms())
    }

    fn message(at_frame: u64, bytes: Vec<u8>) -> Action {
        Action::Midi { at_frame, bytes }
    }

    /// All of it, in the order in which it leaves.
    fn all(&self) -> Vec<Action> {
        let channel = self.settings.midi_channel & 0x0F;
        let mut set = programs(&self.settings);
        for Controller { number, value } in &self.score.set_first {
            set.extend([0xB0 | channel, number & 127, value & 127]);
        }
        let mut timed: Vec<(u64, Vec<u8>)> = Vec::with_capacity(2 * self.score.notes.len());
        for note in &self.score.notes {
            let at = |ms: f64| self.ms(ROOM_MS + ms);
            timed.push((at(note.until_ms), vec![0x80 | channel, note.key, 64]));
            timed.push((at(note.at_ms), vec![0x90 | channel, note.key, note.strike]));
        }
        // A key that comes up as it goes down again comes up first.
        timed.sort_by_key(|(at, bytes)| (*at, bytes[0]));
        let first = Self::message(self.ms(ROOM_MS - SET_MS), set);
        std::iter::once(first)
            .chain(timed.into_iter().map(|(at, bytes)| Self::message(at, bytes)))
            .collect()
    }

    fn over(&mut self) -> Vec<Action> {
        self.state = RunState::Finished;
        vec![
            Action::End {
                cell: NO_CELL,
                end_frame: self.frame,
                verdict: None,
            },
            Action::Finished,
        ]
    }
}

impl Lead for ScoreSession {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        if self.state != RunState::Recording || samples.is_empty() {
            return Vec::new();
        }
        let mut actions = Vec::new();
        if self.frame == 0 {
            actions.push(Action::Begin {
                cell: NO_CELL,
                first_frame: 0,
            });
            actions.extend(self.all());
        }
        self.frame += (samples.len() / self.settings.channels.max(1)) as u64;
        self.peak = samples.iter().fold(self.peak, |top, x| top.max(x.abs()));
        if self.frame >= self.end() {
            actions.extend(self.over());
        }
        actions
    }

    /// What was stopped is laid beside nothing: it is thrown away, and the source let go.
    fn order(&mut self, order: Order) -> Vec<Action> {
        if order != Order::Stop || self.state != RunState::Recording {
            return Vec::new();
        }
        self.state = RunState::Stopped;
        let channel = self.settings.midi_channel & 0x0F;
        // All notes off (MIDI 1.0, controller 123).
        vec![
            Self::message(self.frame, vec![0xB0 | channel, 123, 0]),
            Action::Abandon { cell: NO_CELL },
            Action::Finished,
        ]
    }

    fn left_late(&mut self, _: u64) {}

    fn progress(&mut self) -> Progress {
        let left = self.end().saturating_sub(self.frame);
        let at_ms = self.frame as f64 * 1_000.0 / f64::from(self.settings.rate_hz.max(1)) - ROOM_MS;
        let passages = self.score.passages();
        Progress {
            state: self.state,
            cell: None,
            cell_share: 0.0,
            done: passages.iter().filter(|passage| passage.end_ms <= at_ms).count(),
            total: passages.len(),
            seconds_left: left as f64 / f64::from(self.settings.rate_hz.max(1)),
            check: None,
            peak_dbfs: signal::amplitude_to_db(f64::from(std::mem::take(&mut self.peak)).max(1e-6)),
            verdict: None,
            needle: None,
            hands_free: true,
            asked: 0,
            frames: self.frame,
            waits_for: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn session() -> ScoreSession {
        let settings = SessionSettings {
            rate_hz: 48_000,
            channels: 1,
            midi_channel: 2,
            midi_bank: None,
            midi_program: 4,
        };
        let score = Score {
            set_first: vec![Controller {
                number: 93,
                value: 100,
            }],
            ..Score::of_keys(&[60])
        };
        ScoreSession::new(settings, score)
    }

    #[test]
    fn everything_leaves_at_its_time_after_a_moment_of_the_room() {
        let mut session = session();
        let begun = session.audio(&[0.0; 64]);
        assert!(matches!(begun[0], Action::Begin { first_frame: 0, .. }));
        let midi: Vec<(u64, &[u8])> = begun
            .iter()
            .filter_map(|action| match action {
                Action::Midi { at_frame, bytes } => Some((*at_frame, &bytes[..])),
                _ => None,
            })
            .collect();
        // Program change on channel 3, then the controller; a key that goes down half a second after the recording began, and comes up 2 s later.
        assert_eq!(midi[0], (12_000, &[0xC2, 4, 0xB2, 93, 100][..]));
        assert_eq!(midi[1], (24_000, &[0x92, 60, 48][..]));
        assert_eq!(midi[2], (24_000 + 96_000, &[0x82, 60, 64][..]));
        assert_eq!(midi.len(), 5);
        assert!(session.audio(&[0.0; 64]).is_empty(), "it is all on its way");
        assert_eq!(session.progress().total, 2);
    }

    #[test]
    fn it_ends_by_itself_after_the_last_tail_and_is_thrown_away_where_it_is_stopped() {
        let mut whole = session();
        let frames = whole.end() as usize;
        whole.audio(&vec![0.0; frames - 1]);
        assert!(matches!(
            whole.audio(&[0.0])[..],
            [Action::End { .. }, Action::Finished]
        ));
        assert_eq!(whole.progress().done, 2);
        let mut stopped = session();
        stopped.audio(&[0.0; 64]);
        assert!(matches!(
            stopped.order(Order::Stop)[..],
            [Action::Midi { .. }, Action::Abandon { .. }, Action::Finished]
        ));
        assert!(stopped.order(Order::Stop).is_empty());
    }
}
