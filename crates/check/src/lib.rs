//! What is wrong with an instrument: found by pure functions of what it is and of what was heard of it. No audio, no I/O.
//!
//! Each finding says what it is about, how much of it there is and from which limit on that is one ([`instrument::Limits`]), and, where it can be mended by
//! itself, what the step's own act would say. Whoever asks decides which limits hold, and which findings are accepted.

mod as_planned;
mod as_played;
mod as_written;
mod beside;
mod expected;
mod marked;
mod matching;
mod mends;
mod one_take;
mod report;
mod source;
mod usual;

pub use expected::{Expected, expected};
pub use matching::{Match, Plays, Sounds, Wanted, find_match};
pub use report::{Figure, Report, Reported, place_of};
pub use source::{Apart, Beside, Nearer, PassageBeside, Proposal, beside, judges};

use formats::Format;
use instrument::{Facts, Finding, Limits, Resolved, settle_findings};
use signal::{KeySound, TakeSound};
use std::collections::HashMap;

/// Ten keys struck hard stay under it, in dBTP: what packing with loss adds fits above (EBU R 128).
pub const CEILING_DBTP: f64 = -1.0;

/// What was heard of an instrument. What is missing was not listened to yet: nothing is found in it.
#[derive(Debug, Clone, Default)]
pub struct Heard {
    /// Of takes as they are treated, by their numbers.
    pub takes: HashMap<u64, TakeSound>,
    /// Of keys as they sound, up the keys.
    pub keys: Vec<KeySound>,
    /// Of its keys together.
    pub together: Option<TogetherHeard>,
    /// How loud the instruments of the shelf are meant to be, see [`TogetherHeard::loudness_lufs`]; `None` where there is no shelf.
    pub shelf_lufs: Option<f64>,
}

/// What is heard where keys sound together, and of the instrument as a whole.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct TogetherHeard {
    /// True peak of a chord of ten keys, struck hard; `None` where that is silent.
    pub peak_dbtp: Option<f64>,
    /// Voices that the chord wants.
    pub voices_wanted: usize,
    /// Voices that it has, as the instrument limits them.
    pub voices: usize,
    /// K-weighted level of its middle key, struck 100 (ITU-R BS.1770-4, the loudest 400 ms); `None` where that is silent.
    pub loudness_lufs: Option<f64>,
    /// Notes that were cut off.
    pub cuts: Vec<CutHeard>,
}

/// A note that was ended by another.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct CutHeard {
    /// Its key.
    pub key: u8,
    /// By what.
    pub by: CutBy,
    /// The step with which it ended, under its loudest, in dB; `None` where there was none.
    pub step_db: Option<f64>,
}

/// How a note is ended by another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum CutBy {
    /// By what cuts its strand or its region off.
    Choke,
    /// By one that wants its voice.
    Theft,
}

/// All that is wrong, worst first, with what is accepted last; of what cannot be written, for the formats that are wanted.
pub fn findings(
    resolved: &Resolved,
    (heard, formats): (&Heard, &[Format]),
    limits: &Limits,
    said: &Facts,
) -> Vec<Finding> {
    let mut found = as_planned::found(resolved);
    found.extend(one_take::found(resolved, heard));
    found.extend(beside::found(resolved, heard));
    found.extend(as_played::found(resolved, heard));
    found.extend(as_written::found(resolved, formats));
    found.extend(marked::found(said));
    let over = found.into_iter().filter_map(|finding| limits.over(finding));
    settle_findings(over.collect(), said)
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::{
        Cell, Counted, FindingKind, How, Kind, Known, Layer, LayerId, Origin, Pass, PassId, Plan,
        RecordedTake, Source,
    };
    use program::SoundsOn;
    use signal::{Audio, measure};

    /// Three rungs, two layers.
    pub(crate) fn plan() -> Plan {
        let layer = |n: u64, name: &str| Layer {
            id: LayerId(n),
            name: name.to_owned(),
            strike_velocity: 50 + n as u8 * 50,
            round_robins: None,
            low_velocity: None,
            crossfade: None,
        };
        Plan {
            kind: Kind::Sustained,
            source: Source {
                how: How::Files,
                rig: String::new(),
                channel: 1,
                bank: None,
                program: 1,
            },
            rate_hz: 48_000,
            bits: 24,
            channels: 1,
            mics: Vec::new(),
            passes: vec![Pass {
                id: PassId(0),
                name: "Keys".to_owned(),
                sounds_on: SoundsOn::KeyDown,
                rungs: vec![48, 52, 56],
                layers: vec![layer(0, "soft"), layer(1, "loud")],
                round_robins: 1,
                hold_ms: 2_000,
                hold_high_ms: None,
                tail_ms: 1_000,
                controller: None,
                chord: Vec::new(),
            }],
        }
    }

    pub(crate) fn resolved(takes: Vec<(RecordedTake, Option<Counted>)>) -> Resolved {
        instrument::resolve(Known {
            name: "An organ of reeds with a long name",
            plan: &plan(),
            said: &Facts::new(),
            brought: None,
            takes,
            cleaned_levels: &HashMap::new(),
            judged_loops: &HashMap::new(),
        })
    }

    /// A second of sound as a take of a cell, measured.
    pub(crate) fn take(id: u64, cell: Cell, sound: impl Fn(usize) -> f32) -> (RecordedTake, Option<Counted>) {
        let recorded = RecordedTake {
            id,
            cell,
            rate_hz: 48_000,
            channels: 1,
            frames: 48_000,
            origin: Origin::default(),
        };
        let counted = Counted {
            facts: measure(&Audio::mono(48_000, (0..48_000).map(sound).collect())),
            suggested: Vec::new(),
        };
        (recorded, Some(counted))
    }

    /// An instrument of which nothing was recorded.
    pub(crate) fn empty() -> Resolved {
        resolved(Vec::new())
    }

    /// Those that are over their limits.
    pub(crate) fn over(found: Vec<Finding>) -> Vec<Finding> {
        let limits = Limits::default();
        found
            .into_iter()
            .filter_map(|finding| limits.over(finding))
            .collect()
    }

    pub(crate) fn kinds(found: &[Finding]) -> Vec<FindingKind> {
        found.iter().map(|finding| finding.kind).collect()
    }

    #[test]
    fn of_what_nobody_began_with_nothing_is_wrong() {
        let found = findings(
            &empty(),
            (&Heard::default(), &[]),
            &Limits::default(),
            &Facts::new(),
        );
        assert_eq!(found, []);
    }
}
