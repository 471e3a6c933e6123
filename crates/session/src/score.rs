//! A score is played on a source, and all that comes back is one recording.

use crate::lead::{Action, Lead, Order, Progress, RunState};
use crate::long::{LongSession, NO_CELL};
use crate::run::{SessionSettings, programs};
use instrument::{Controller, Score};
use signal::frames_of_ms;

/// The room is heard for so long before the first note: noise is known by it.
const ROOM_MS: f64 = 500.0;
/// Programs and controllers leave so long before.
const SET_MS: f64 = 250.0;

/// Plays a score, and keeps everything from its first frame on as a [`LongSession`] does.
pub struct ScoreSession {
    settings: SessionSettings,
    score: Score,
    long: LongSession,
    stopped: bool,
}

impl ScoreSession {
    /// Begins with the next frame, number 0.
    pub fn new(settings: SessionSettings, score: Score) -> Self {
        let end = frames_of_ms(settings.rate_hz, ROOM_MS + score.length_ms()) as u64;
        Self {
            long: LongSession::new(settings.channels, Some(end)),
            settings,
            score,
            stopped: false,
        }
    }

    fn ms(&self, ms: f64) -> u64 {
        frames_of_ms(self.settings.rate_hz, ms) as u64
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
}

impl Lead for ScoreSession {
    fn audio(&mut self, samples: &[f32]) -> Vec<Action> {
        let mut actions = self.long.audio(samples);
        if matches!(actions.first(), Some(Action::Begin { .. })) {
            actions.splice(1..1, self.all());
        }
        actions
    }

    /// What was stopped is laid beside nothing: it is thrown away, and the source let go.
    fn order(&mut self, order: Order) -> Vec<Action> {
        if self.long.order(order).is_empty() {
            return Vec::new();
        }
        self.stopped = true;
        let channel = self.settings.midi_channel & 0x0F;
        // All notes off (MIDI 1.0, controller 123).
        vec![
            Self::message(self.long.frames(), vec![0xB0 | channel, 123, 0]),
            Action::Abandon { cell: NO_CELL },
            Action::Finished,
        ]
    }

    fn left_late(&mut self, _: u64) {}

    fn progress(&mut self) -> Progress {
        let rate = f64::from(self.settings.rate_hz.max(1));
        let at_ms = self.long.frames() as f64 * 1_000.0 / rate - ROOM_MS;
        let passages = self.score.passages();
        let now = self.long.progress();
        Progress {
            state: if self.stopped {
                RunState::Stopped
            } else {
                now.state
            },
            done: (passages.iter())
                .filter(|passage| passage.end_ms <= at_ms)
                .count(),
            total: passages.len(),
            seconds_left: ((self.score.length_ms() - at_ms) / 1_000.0).max(0.0),
            ..now
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
        let frames = ((ROOM_MS + whole.score.length_ms()) * 48.0) as usize;
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
