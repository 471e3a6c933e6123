//! What was built, laid beside its source: passage by passage, and all of it in a few figures.

use instrument::{Passage, Wish};
use serde::{Deserialize, Serialize};
use signal::{PassageApart, PassageSound};
use utoipa::ToSchema;

/// Further apart counts no more, in dB: one wild figure does not hide the rest.
const MOST_DB: f64 = 12.0;

/// One passage of both.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PassageBeside {
    /// What was played.
    pub passage: Passage,
    /// Whether a match is judged by it; else it is found by it.
    pub judges: bool,
    /// As the source sounds.
    pub source: PassageSound,
    /// As what was built does.
    pub built: PassageSound,
    /// How far the source lies over it.
    pub apart: PassageApart,
}

/// How far a source and what was built lie apart: means over passages, without sign.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Apart {
    /// All of it as one figure, in dB: the root of their squares, width by a half, an octave as a dB, and ten cents as one.
    pub all_db: f64,
    /// Level.
    pub level_db: f64,
    /// Thirds of octaves, level aside.
    pub spectrum_db: f64,
    /// Level over time, level aside.
    pub course_db: f64,
    /// Width.
    pub side_db: f64,
    /// Movement.
    pub moves_db: f64,
    /// How fast that is, in octaves.
    pub moves_octaves: f64,
    /// Pitch of single notes.
    pub cents: f64,
}

/// What would bring both nearer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Nearer {
    /// Several keys at once.
    Voices,
    /// Level of all.
    Level,
    /// How strongly the strike drives level.
    StrikeToLevel,
    /// Tuning of all.
    Pitch,
    /// An equaliser over all.
    Tone,
    /// A low-pass, or where a filter has its cutoff.
    Cutoff,
    /// A low-pass that the strike opens.
    StrikeToCutoff,
    /// Attack.
    Attack,
    /// Release.
    Release,
    /// Width.
    Width,
    /// A chorus over all.
    Chorus,
}

impl Nearer {
    /// In the order in which they are tried: what shapes a note first, what is laid over all of it then, its level last.
    pub const IN_ORDER: [Self; 11] = [
        Self::Voices,
        Self::Pitch,
        Self::Attack,
        Self::Release,
        Self::Cutoff,
        Self::StrikeToCutoff,
        Self::Chorus,
        Self::Tone,
        Self::Width,
        Self::StrikeToLevel,
        Self::Level,
    ];
}

/// Something that brings both nearer.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Proposal {
    /// What; `None` for all that is proposed at once.
    pub what: Option<Nearer>,
    /// In a sentence without its end.
    pub says: String,
    /// What is said by it.
    pub wishes: Vec<Wish>,
    /// How far both lie apart with it alone, on the passages that judge.
    pub after: Apart,
}

/// What was built beside its source.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Beside {
    /// A name of all that it follows from.
    pub of: String,
    /// Whether what would bring both nearer was tried.
    pub tried: bool,
    /// How many frames of the recording a passage sounds after its time in the score.
    pub lag_frames: i64,
    /// How much louder the source is, as heard: what makes them equally loud to compare.
    pub louder_db: f64,
    /// All passages.
    pub passages: Vec<PassageBeside>,
    /// How far both lie apart, on the passages that judge.
    pub before: Apart,
    /// Whether it is judged by the very passages that it is found by, for there are no others.
    pub judged_by_same: bool,
    /// What would bring both nearer, what does most first.
    pub proposals: Vec<Proposal>,
    /// All of those at once, where there are several.
    pub together: Option<Proposal>,
}

impl Apart {
    /// Of some passages; nothing apart where there are none.
    pub fn of<'a>(all: impl Iterator<Item = &'a PassageApart> + Clone) -> Self {
        let mean = |of: &dyn Fn(&PassageApart) -> Option<f64>| {
            let known: Vec<f64> = all.clone().filter_map(of).map(f64::abs).collect();
            known.iter().sum::<f64>() / known.len().max(1) as f64
        };
        let apart = Self {
            all_db: 0.0,
            // Where one of both is silent, they are as far apart as can be.
            level_db: mean(&|one| Some(one.level_db.unwrap_or(MOST_DB).clamp(-MOST_DB, MOST_DB))),
            spectrum_db: mean(&|one| Some(one.spectrum_db)),
            course_db: mean(&|one| Some(one.course_db)),
            side_db: mean(&|one| Some(one.side_db.clamp(-MOST_DB, MOST_DB))),
            moves_db: mean(&|one| Some(one.moves_db)),
            moves_octaves: mean(&|one| one.moves_octaves),
            cents: mean(&|one| one.cents),
        };
        let squares = [
            apart.level_db,
            apart.spectrum_db,
            apart.course_db,
            apart.side_db / 2.0,
            apart.moves_db,
            apart.moves_octaves,
            apart.cents / 10.0,
        ];
        Self {
            all_db: squares.iter().map(|x| x * x).sum::<f64>().sqrt(),
            ..apart
        }
    }
}

/// Which passages judge: every second of the single notes and of the chords, by what is played, however hard. Where nothing would be left to find a match by, all do both.
pub fn judges(passages: &[Passage]) -> Vec<bool> {
    let mut known: [Vec<&[u8]>; 2] = [Vec::new(), Vec::new()];
    passages
        .iter()
        .map(|passage| {
            let known = &mut known[usize::from(passage.is_single())];
            let at = known
                .iter()
                .position(|keys| *keys == passage.keys)
                .unwrap_or_else(|| {
                    known.push(&passage.keys);
                    known.len() - 1
                });
            at % 2 == 1
        })
        .collect()
}

/// Both, passage by passage, of what is heard of them in the same order.
pub fn beside(passages: &[Passage], source: &[PassageSound], built: &[PassageSound]) -> Vec<PassageBeside> {
    let judging = judges(passages);
    (passages.iter().zip(judging).zip(source.iter().zip(built)))
        .map(|((passage, judges), (source, built))| PassageBeside {
            passage: passage.clone(),
            judges,
            apart: source.apart(built),
            source: source.clone(),
            built: built.clone(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::Score;

    #[test]
    fn half_of_the_notes_and_of_the_chords_judge_at_both_strikes() {
        let passages = Score::of_keys(&(36..=84).collect::<Vec<u8>>()).passages();
        let judging = judges(&passages);
        assert_eq!(
            judging.iter().filter(|judges| **judges).count(),
            8,
            "three of six notes, one of three chords"
        );
        for (pair, passages) in judging.chunks(2).zip(passages.chunks(2)) {
            assert_eq!(passages[0].keys, passages[1].keys);
            assert_eq!(pair[0], pair[1]);
        }
    }

    #[test]
    fn what_is_silent_is_as_far_apart_as_can_be_and_nothing_hides_the_rest() {
        let silent = PassageApart::default();
        assert_eq!(Apart::of([&silent].into_iter()).level_db, MOST_DB);
        let apart = PassageApart {
            level_db: Some(-3.0),
            spectrum_db: 4.0,
            side_db: 90.0,
            ..PassageApart::default()
        };
        let all = Apart::of([&apart].into_iter());
        assert_eq!((all.level_db, all.spectrum_db, all.side_db), (3.0, 4.0, MOST_DB));
        assert!((all.all_db - (9.0f64 + 16.0 + 36.0).sqrt()).abs() < 1e-9);
    }
}
