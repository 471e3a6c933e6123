//! What was played while a recording was made: notes and controllers over time, in passages that are heard one by one.

use crate::Controller;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A recording is laid beside at most so many notes, and so long.
pub const MOST_SCORE_NOTES: usize = 2_000;
/// The longest score, in milliseconds.
pub const LONGEST_SCORE_MS: f64 = 600_000.0;
/// What begins within this after all before it was let go is of one passage with it, in milliseconds: what sounds on is heard as its tail.
const TOGETHER_MS: f64 = 60.0;
/// A passage that lasts longer than this ends before its next note, in milliseconds.
const LONG_MS: f64 = 4_000.0;
/// The tail of the last passage is heard for so long, in milliseconds.
const LAST_TAIL_MS: f64 = 1_500.0;

/// A key that goes down and comes up.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ScoreNote {
    /// From the beginning, in milliseconds.
    pub at_ms: f64,
    /// When it comes up.
    pub until_ms: f64,
    /// Which key.
    pub key: u8,
    /// How hard, 1 to 127.
    pub strike: u8,
}

/// What was played. How much later its source sounds is found by listening.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Score {
    /// In the order in which they begin.
    pub notes: Vec<ScoreNote>,
    /// Controllers of the source that were set before: they are the source's own, and are not played on what was built.
    #[serde(default)]
    pub set_first: Vec<Controller>,
}

/// Notes that are heard together, until the next begin.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Passage {
    /// Its keys, from the lowest, each once.
    pub keys: Vec<u8>,
    /// How hard the hardest is struck.
    pub strike: u8,
    /// When the first goes down, in milliseconds.
    pub at_ms: f64,
    /// When the last comes up.
    pub up_ms: f64,
    /// When the next passage begins.
    pub end_ms: f64,
}

impl Passage {
    /// Whether it is one key by itself.
    pub fn is_single(&self) -> bool {
        self.keys.len() == 1
    }
}

impl Score {
    /// Whether it can be played: notes in order, each with an end, none outside what keys and strikes there are, and no more of them than may be.
    pub fn is_playable(&self) -> bool {
        let fits = |note: &ScoreNote| {
            note.key < 128
                && (1..=127).contains(&note.strike)
                && note.at_ms >= 0.0
                && note.until_ms > note.at_ms
                && note.until_ms <= LONGEST_SCORE_MS
        };
        !self.notes.is_empty()
            && self.notes.len() <= MOST_SCORE_NOTES
            && self.notes.iter().all(fits)
            && self.notes.is_sorted_by(|a, b| a.at_ms <= b.at_ms)
            && self
                .set_first
                .iter()
                .all(|set| set.number < 120 && set.value < 128)
    }

    /// How long it is with the tail of its last note, in milliseconds.
    pub fn length_ms(&self) -> f64 {
        let last = self.notes.iter().map(|note| note.until_ms).fold(0.0, f64::max);
        last + LAST_TAIL_MS
    }

    /// Its passages, in order.
    pub fn passages(&self) -> Vec<Passage> {
        let mut all: Vec<Passage> = Vec::new();
        for note in &self.notes {
            if let Some(now) = all.last_mut() {
                let begins_anew = note.at_ms > now.up_ms + TOGETHER_MS || note.at_ms > now.at_ms + LONG_MS;
                if !begins_anew {
                    now.up_ms = now.up_ms.max(note.until_ms);
                    now.strike = now.strike.max(note.strike);
                    now.keys.push(note.key);
                    continue;
                }
                now.end_ms = note.at_ms;
                now.up_ms = now.up_ms.min(note.at_ms);
            }
            all.push(Passage {
                keys: vec![note.key],
                strike: note.strike,
                at_ms: note.at_ms,
                up_ms: note.until_ms,
                end_ms: self.length_ms(),
            });
        }
        for passage in &mut all {
            passage.keys.sort_unstable();
            passage.keys.dedup();
        }
        all
    }

    /// Some of its passages alone, close after one another, and where they lie then; whether each of [`Self::passages`] is wanted is told.
    pub fn only(&self, wanted: &[bool]) -> (Self, Vec<Passage>) {
        let (mut notes, mut passages) = (Vec::new(), Vec::new());
        let mut at_ms = 0.0;
        let all = self.passages().into_iter().zip(wanted);
        for (passage, _) in all.filter(|(_, wanted)| **wanted) {
            let earlier = passage.at_ms - at_ms;
            let of_it =
                (self.notes.iter()).filter(|note| note.at_ms >= passage.at_ms && note.at_ms < passage.end_ms);
            notes.extend(of_it.map(|note| ScoreNote {
                at_ms: note.at_ms - earlier,
                until_ms: note.until_ms.min(passage.end_ms) - earlier,
                ..*note
            }));
            at_ms += passage.end_ms - passage.at_ms;
            passages.push(Passage {
                at_ms: passage.at_ms - earlier,
                up_ms: passage.up_ms - earlier,
                end_ms: at_ms,
                keys: passage.keys,
                strike: passage.strike,
            });
        }
        (
            Self {
                notes,
                ..self.clone()
            },
            passages,
        )
    }

    /// What tells most of a source in a short time: single notes along its keys, and chords, each softly and hard, held and let go. `keys` are those that sound,
    /// from the lowest; none gives nothing to play.
    pub fn of_keys(keys: &[u8]) -> Self {
        const SINGLE: usize = 6;
        const STRIKES: [u8; 2] = [48, 104];
        const HELD_MS: f64 = 2_000.0;
        const APART_MS: f64 = 3_200.0;
        /// A chord of three, and how far from one another they begin: open, so that no two share a band.
        const CHORD: [u8; 3] = [0, 7, 16];
        let mut score = Self::default();
        if keys.is_empty() {
            return score;
        }
        let nearest = |at: f64| keys[((keys.len() - 1) as f64 * at).round() as usize];
        let mut single: Vec<u8> = (0..SINGLE)
            .map(|n| nearest((n as f64 + 0.5) / SINGLE as f64))
            .collect();
        single.dedup();
        let mut all: Vec<Vec<u8>> = single.iter().map(|key| vec![*key]).collect();
        for at in [0.1, 0.35, 0.6] {
            let low = nearest(at);
            let chord = CHORD.map(|up| low.saturating_add(up));
            if chord.iter().all(|key| keys.contains(key)) {
                all.push(chord.to_vec());
            }
        }
        let mut at_ms = 0.0;
        for keys in &all {
            for strike in STRIKES {
                score.notes.extend(keys.iter().map(|key| ScoreNote {
                    at_ms,
                    until_ms: at_ms + HELD_MS,
                    key: *key,
                    strike,
                }));
                at_ms += APART_MS;
            }
        }
        score
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(at_ms: f64, until_ms: f64, key: u8) -> ScoreNote {
        ScoreNote {
            at_ms,
            until_ms,
            key,
            strike: 90,
        }
    }

    #[test]
    fn what_sounds_together_is_one_passage() {
        let score = Score {
            notes: vec![
                note(0.0, 500.0, 64),
                note(10.0, 480.0, 60),
                note(530.0, 900.0, 62),
                note(2_000.0, 2_400.0, 72),
            ],
            ..Score::default()
        };
        assert!(score.is_playable());
        let passages = score.passages();
        assert_eq!(passages.len(), 2);
        assert_eq!(passages[0].keys, [60, 62, 64], "a legato line goes on");
        assert_eq!((passages[0].up_ms, passages[0].end_ms), (900.0, 2_000.0));
        assert_eq!((passages[1].end_ms, score.length_ms()), (3_900.0, 3_900.0));
        assert!(passages[1].is_single());
    }

    #[test]
    fn a_long_line_is_cut_at_its_notes() {
        let line = (0..20).map(|n| note(f64::from(n) * 500.0, f64::from(n) * 500.0 + 510.0, 60));
        let score = Score {
            notes: line.collect(),
            ..Score::default()
        };
        let passages = score.passages();
        assert_eq!(passages.len(), 3);
        for pair in passages.windows(2) {
            assert!(pair[0].up_ms <= pair[1].at_ms && pair[0].end_ms == pair[1].at_ms);
        }
    }

    #[test]
    fn some_passages_follow_one_another_closely_and_each_is_as_long_as_before() {
        let score = Score::of_keys(&(36..=84).collect::<Vec<u8>>());
        let all = score.passages();
        let wanted: Vec<bool> = (0..all.len()).map(|n| n % 3 == 1).collect();
        let (some, places) = score.only(&wanted);
        assert!(some.is_playable());
        assert_eq!(places.len(), 6);
        let before = all.iter().zip(&wanted).filter(|(_, wanted)| **wanted);
        for ((before, _), now) in before.zip(&places) {
            assert_eq!(before.keys, now.keys);
            assert!((before.end_ms - before.at_ms - now.end_ms + now.at_ms).abs() < 1e-9);
            assert!((before.up_ms - before.at_ms - now.up_ms + now.at_ms).abs() < 1e-9);
        }
        let again: Vec<Vec<u8>> = some.passages().into_iter().map(|passage| passage.keys).collect();
        let keys: Vec<Vec<u8>> = places.into_iter().map(|passage| passage.keys).collect();
        assert_eq!(
            again, keys,
            "what is heard together stays together, and nothing else"
        );
        assert_eq!(score.only(&vec![true; all.len()]), (score.clone(), all));
    }

    #[test]
    fn the_keys_of_a_source_are_played_softly_and_hard_alone_and_in_chords() {
        let keys: Vec<u8> = (36..=84).collect();
        let score = Score::of_keys(&keys);
        assert!(score.is_playable());
        let passages = score.passages();
        let singles = passages.iter().filter(|passage| passage.is_single()).count();
        assert_eq!((passages.len(), singles), (18, 12));
        assert!(
            passages
                .iter()
                .flat_map(|passage| &passage.keys)
                .all(|key| keys.contains(key))
        );
        assert_eq!(Score::of_keys(&[60]).passages().len(), 2, "a drum has no chord");
        assert!(!Score::of_keys(&[]).is_playable());
    }

    #[test]
    fn what_cannot_be_played_is_refused() {
        let good = Score::of_keys(&[60, 61]);
        let with = |alter: fn(&mut Score)| {
            let mut score = good.clone();
            alter(&mut score);
            score.is_playable()
        };
        assert!(with(|_| ()));
        assert!(!with(|score| score.notes[0].strike = 0));
        assert!(!with(|score| score.notes[0].until_ms = 0.0));
        assert!(!with(|score| score.notes[0].at_ms = f64::NAN));
        assert!(!with(|score| score.notes[1].at_ms = LONGEST_SCORE_MS));
        assert!(!with(|score| score.notes.reverse()));
        assert!(!with(|score| score.set_first.push(Controller {
            number: 121,
            value: 0
        })));
    }
}
