//! What a loop is worth: how far it stands out, then how lively it is.

use super::HEARD_DRIFT_DB;
use crate::seams::INSIDE_S;

/// From which length on a loop of a sound is lively, and whether the sound dies.
#[derive(Debug, Clone, Copy)]
pub(super) struct Lively {
    pub(super) seconds: f64,
    pub(super) dies: bool,
}

/// How the level moves inside a loop, in dB: all of it, and its last quarter over its first.
#[derive(Debug, Clone, Copy)]
pub(super) struct Moves {
    pub(super) pumps_db: f64,
    pub(super) drift_db: f64,
}

/// What is heard counts by so much a decibel; what is not, by less; and under this it is all the same.
const HEARD: f64 = 1.5;
const NOT_HEARD: f64 = 0.6;
const BEYOND_HEARING: f64 = 0.1;
const BEYOND_HEARING_DB: f64 = -2.0;
const DEEPEST_DB: f64 = -8.0;
/// And where it was compared with what lies outside the loop.
const DEEPEST_OUTSIDE_DB: f64 = -1.0;
/// That it is heard at all, or just not.
const AUDIBLE: f64 = 1.0;
const JUST_AUDIBLE_DB: f64 = -0.1;
/// Each halving under the length from which it is lively, less where the sound dies; each doubling over it, up to so many, counts for it.
const HALVED: f64 = 1.8;
const HALVED_DYING: f64 = 0.35;
const DOUBLED: f64 = 0.04;
const MOST_DOUBLED: f64 = 2.0;
/// Each decibel by which its level moves, and each of drift that is heard in what dies: every round begins with a step of it.
const PUMPS: f64 = 0.02;
const DRIFTS: f64 = 1.0;

/// Less is better. What is not known counts for nothing.
pub(super) fn worth(audible_db: Option<f64>, moves: Option<Moves>, seconds: f64, lively: Lively) -> f64 {
    let audible = audible_db.unwrap_or(0.0);
    // What has no inside is compared with the sound before it, which may still have been beginning: that it is far from being heard says little.
    let audible = if seconds < INSIDE_S {
        audible.max(DEEPEST_OUTSIDE_DB)
    } else {
        audible
    };
    let mut cost = if audible > 0.0 {
        HEARD * audible
    } else if audible > BEYOND_HEARING_DB {
        NOT_HEARD * audible
    } else {
        NOT_HEARD * BEYOND_HEARING_DB + BEYOND_HEARING * (audible.max(DEEPEST_DB) - BEYOND_HEARING_DB)
    };
    if audible > JUST_AUDIBLE_DB {
        cost += AUDIBLE;
    }
    let doublings = (seconds / lively.seconds).log2();
    cost += if lively.dies { HALVED_DYING } else { HALVED } * (-doublings).max(0.0);
    cost -= DOUBLED * doublings.clamp(0.0, MOST_DOUBLED);
    if let Some(moves) = moves {
        cost += PUMPS * moves.pumps_db;
        if lively.dies {
            cost += DRIFTS * (moves.drift_db - HEARD_DRIFT_DB.0).max(0.0);
        }
    }
    cost
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_heard_goes_before_what_is_lively_and_that_before_what_is_deeper_still() {
        let half_a_second = Lively {
            seconds: 0.5,
            dies: false,
        };
        let of = |db, seconds| worth(Some(db), None, seconds, half_a_second);
        assert!(of(-0.5, 0.5) < of(0.5, 1.0));
        assert!(of(-0.5, 0.5) < of(-4.0, 0.2));
        assert!(of(-4.0, 0.5) < of(-0.5, 0.5));
        assert!(of(-0.5, 1.0) < of(-0.5, 0.5));
        // A loop that has no inside is not livelier for being compared with an attack.
        assert!(of(-6.7, 0.11) > of(-0.6, 0.25));
        // Of a dying sound a short loop is no loss, and a step in level is one.
        let dying = Lively {
            dies: true,
            ..half_a_second
        };
        let moves = |drift_db| {
            Some(Moves {
                pumps_db: 1.0,
                drift_db,
            })
        };
        assert!(worth(Some(-0.5), None, 0.1, dying) < of(-0.5, 0.1));
        assert!(worth(Some(-0.5), moves(3.0), 0.5, dying) > worth(Some(-0.5), moves(0.5), 0.1, dying));
    }
}
