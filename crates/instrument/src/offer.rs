//! A good first plan: what is offered before anything was recorded, and what the first takes tell.
//!
//! Figures are common practice (no published source): four recordings an octave are the usual compromise, plucked and struck things
//! need 5 s or more, pads over ten.

use crate::{How, Kind, Layer, LayerId, Pass, PassId, Plan, Source};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A value that is offered, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// What it is about: `rungs`, `layers`, `round_robins`, `hold`, `tail` or `loop` of a plan; `attack`, `release` or `strike` of a shape.
    pub about: String,
    /// Half a sentence.
    pub because: String,
}

/// A plan to begin with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Offer {
    /// What is offered.
    pub plan: Plan,
    /// Why, value by value.
    pub reasons: Vec<Reason>,
}

/// What the first takes tell about the plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Advice {
    /// The pass it is about.
    pub pass: PassId,
    /// What its hold should be.
    pub hold_ms: u32,
    /// What its longest tail should be.
    pub tail_ms: u32,
    /// What it really is, where its sound says so.
    #[serde(default)]
    pub kind: Option<Kind>,
    /// A sentence.
    pub because: String,
}

/// What a kind of thing usually needs.
struct Habit {
    kind: Kind,
    range: (u8, u8),
    distance: u8,
    layers: usize,
    round_robins: u32,
    hold_ms: u32,
    tail_ms: u32,
    reasons: [&'static str; 5],
}

const HABITS: [Habit; 6] = [
    Habit {
        kind: Kind::Sustained,
        range: (36, 84),
        distance: 4,
        layers: 2,
        round_robins: 1,
        hold_ms: 3_000,
        tail_ms: 2_000,
        reasons: [
            "three an octave are enough for an even tone",
            "two strengths tell soft from loud",
            "a held tone does not sound repeated",
            "a loop needs two steady seconds after the attack",
            "a damped sound is gone soon",
        ],
    },
    Habit {
        kind: Kind::Pad,
        range: (36, 84),
        distance: 6,
        layers: 1,
        round_robins: 1,
        hold_ms: 12_000,
        tail_ms: 8_000,
        reasons: [
            "a pad bears stretching better than most",
            "its strength is mostly level, which the shape gives",
            "a held tone does not sound repeated",
            "a moving sound wants a loop of seconds, so over ten",
            "pads fade slowly",
        ],
    },
    Habit {
        kind: Kind::Voice,
        range: (48, 72),
        distance: 2,
        layers: 2,
        round_robins: 1,
        hold_ms: 4_000,
        tail_ms: 1_500,
        reasons: [
            "a voice changes its character when it is stretched",
            "two strengths tell soft from loud",
            "a held tone does not sound repeated",
            "as long as a calm breath",
            "only the room rings on",
        ],
    },
    Habit {
        kind: Kind::Struck,
        range: (48, 84),
        distance: 3,
        layers: 3,
        round_robins: 2,
        hold_ms: 5_000,
        tail_ms: 10_000,
        reasons: [
            "four an octave are the usual compromise",
            "a harder strike sounds different, not only louder",
            "the same strike twice is heard as a machine",
            "struck things need 5 s or more",
            "it is waited for only as long as it rings",
        ],
    },
    Habit {
        kind: Kind::Plucked,
        range: (40, 76),
        distance: 3,
        layers: 3,
        round_robins: 2,
        hold_ms: 5_000,
        tail_ms: 6_000,
        reasons: [
            "four an octave are the usual compromise",
            "a harder pluck sounds different, not only louder",
            "the same pluck twice is heard as a machine",
            "plucked things need 5 s or more",
            "it is waited for only as long as it rings",
        ],
    },
    Habit {
        kind: Kind::Drum,
        range: (36, 47),
        distance: 1,
        layers: 4,
        round_robins: 4,
        hold_ms: 500,
        tail_ms: 5_000,
        reasons: [
            "every sound has a key of its own",
            "drums live by their strengths",
            "rolls need several of each",
            "a drum is not held",
            "it is waited for only as long as it rings",
        ],
    },
];

const NAMES: [&[&str]; 4] = [
    &["all"],
    &["soft", "loud"],
    &["soft", "medium", "loud"],
    &["soft", "medium", "loud", "hard"],
];

/// So many layers, soft to loud, struck towards the upper end of equal parts of the velocities.
pub fn even_layers(count: usize) -> Vec<Layer> {
    let count = count.clamp(1, 127);
    (0..count)
        .map(|n| {
            let name = NAMES.get(count - 1).and_then(|names| names.get(n));
            let strike = (n as f64 + 0.8) / count as f64 * 115.0 + 8.0;
            Layer {
                id: LayerId(n as u64),
                name: name.map_or_else(|| format!("layer {}", n + 1), |name| (*name).to_owned()),
                // More layers than a step of velocity each: still rising.
                strike_velocity: if count > 60 {
                    (127 - count + n + 1) as u8
                } else {
                    strike.round() as u8
                },
                round_robins: None,
                low_velocity: None,
                crossfade: None,
            }
        })
        .collect()
}

/// So many layers, evenly struck, in place of others: each of those goes on as the one that is struck most alike, in their order, and keeps its name for
/// good, so that what was recorded stays with its strength. What is new is named by `fresh_name`.
pub fn layers_again(count: usize, before: &[Layer], fresh_name: &mut dyn FnMut() -> u64) -> Vec<Layer> {
    let mut layers = even_layers(count);
    // The least sum of differences between strikes, over all ways to pair the fewer with some of the more in order.
    let strikes =
        |of: &[Layer]| -> Vec<u32> { of.iter().map(|layer| u32::from(layer.strike_velocity)).collect() };
    let (new, old) = (strikes(&layers), strikes(before));
    let pairs = if new.len() >= old.len() {
        nearest(&old, &new)
    } else {
        let pairs = nearest(&new, &old);
        pairs.into_iter().map(|(new, old)| (old, new)).collect()
    };
    let goes_on: BTreeMap<usize, usize> = pairs.into_iter().map(|(old, new)| (new, old)).collect();
    for (n, layer) in layers.iter_mut().enumerate() {
        layer.id = goes_on
            .get(&n)
            .map_or_else(|| LayerId(fresh_name()), |old| before[*old].id);
    }
    layers
}

/// Pairs each of the fewer with one of the more, in order, so that they lie nearest together.
fn nearest(fewer: &[u32], more: &[u32]) -> Vec<(usize, usize)> {
    let (rows, columns) = (fewer.len(), more.len());
    // The least cost of pairing the first `n` of the fewer with some of the first `m` of the more.
    let mut least = vec![vec![u32::MAX; columns + 1]; rows + 1];
    least[0] = vec![0; columns + 1];
    for n in 1..=rows {
        for m in n..=columns {
            let taken = least[n - 1][m - 1].saturating_add(fewer[n - 1].abs_diff(more[m - 1]));
            least[n][m] = taken.min(least[n][m - 1]);
        }
    }
    let (mut pairs, mut m) = (Vec::new(), columns);
    for n in (1..=rows).rev() {
        while m > n && least[n][m] == least[n][m - 1] {
            m -= 1;
        }
        m -= 1;
        pairs.push((n - 1, m));
    }
    pairs
}

/// Rungs from `low` to `high`, `distance` keys apart.
pub fn even_rungs(low: u8, high: u8, distance: u8) -> Vec<u8> {
    (low..=high.min(127))
        .step_by(usize::from(distance.max(1)))
        .collect()
}

/// Offers a first plan for a kind of thing. By hand, one strength and one round robin fewer are asked of a player than of a machine.
pub fn first_plan(kind: Kind, how: How, rig: &str) -> Offer {
    let habit = HABITS
        .iter()
        .find(|habit| habit.kind == kind)
        .unwrap_or(&HABITS[0]);
    let by_hand = how == How::ByHand;
    let layers = if by_hand && habit.layers > 2 {
        habit.layers - 1
    } else {
        habit.layers
    };
    let (low, high) = habit.range;
    let plan = Plan {
        kind,
        source: Source {
            how,
            rig: rig.to_owned(),
            channel: 1,
            bank: None,
            program: 1,
        },
        rate_hz: 48_000,
        bits: 24,
        channels: 2,
        mics: Vec::new(),
        passes: vec![Pass {
            id: PassId(0),
            name: "Keys".into(),
            sounds_on: SoundsOn::KeyDown,
            rungs: even_rungs(low, high, habit.distance),
            layers: even_layers(layers),
            round_robins: habit.round_robins,
            hold_ms: habit.hold_ms,
            hold_high_ms: None,
            tail_ms: habit.tail_ms,
            controller: None,
            chord: Vec::new(),
        }],
    };
    let abouts = ["rungs", "layers", "round_robins", "hold", "tail"];
    let mut reasons: Vec<Reason> = abouts
        .iter()
        .zip(habit.reasons)
        .map(|(about, because)| Reason {
            about: (*about).to_owned(),
            because: because.to_owned(),
        })
        .collect();
    reasons.push(Reason {
        about: "loop".into(),
        because: if kind.loops() {
            "it sounds as long as the key is down".into()
        } else {
            "it dies away by itself".into()
        },
    });
    Offer { plan, reasons }
}

/// How long one take rang.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Ring {
    /// Of which pass.
    pub pass: PassId,
    /// From the start of the sound to its end.
    pub seconds: f64,
    /// Whether the sound went on to the take's last frame: it was cut off.
    pub cut_off: bool,
    /// After how many seconds its level comes round, where it beats.
    pub beats_s: Option<f64>,
    /// Whether it should be looped, and has no loop that is as good as its kind wants it.
    pub wants_a_loop: bool,
}

/// A good loop needs so many rounds of what beats, and so much before and after them, in seconds.
const ROUNDS: f64 = 2.2;
const AROUND_S: f64 = 1.0;
/// Nobody is told to hold a key for longer, in seconds.
const LONGEST_HOLD_S: f64 = 30.0;

/// What most takes of a pass need for a good loop and do not have: how long they should be held, and why.
fn longer_hold(plan: &Plan, pass: &Pass, rings: &[&Ring]) -> Option<(f64, String)> {
    let wanting = rings.iter().filter(|ring| ring.wants_a_loop).count();
    if !plan.kind.loops() || pass.sounds_on != SoundsOn::KeyDown || wanting * 2 <= rings.len() {
        return None;
    }
    let hold_s = f64::from(pass.hold_ms) / 1000.0;
    let beats_s = rings
        .iter()
        .filter_map(|ring| ring.beats_s)
        .max_by(f64::total_cmp);
    let needed_s = beats_s
        .map_or(2.0 * hold_s, |beats| ROUNDS * beats + AROUND_S)
        .min(LONGEST_HOLD_S);
    let why = match beats_s {
        Some(beats) => format!(
            "{}: its level comes round every {beats:.1} s, and {wanting} of {} takes have no good loop yet. One needs two rounds and a second around them.",
            pass.name,
            rings.len()
        ),
        None => format!(
            "{}: {wanting} of {} takes have no good loop, and nothing in them comes round within {hold_s:.1} s. Held for longer there is more to choose from.",
            pass.name,
            rings.len()
        ),
    };
    (needed_s > hold_s * ROOM).then_some((needed_s, why))
}

/// A fifth more than was heard, since the next one may ring longer.
const ROOM: f64 = 1.2;

/// What the first takes tell about hold and tail, where it differs from the plan by more than a quarter.
pub fn advice(plan: &Plan, rings: &[Ring]) -> Vec<Advice> {
    let mut all = Vec::new();
    for pass in &plan.passes {
        let of_pass = || rings.iter().filter(|ring| ring.pass == pass.id);
        let Some(longest) = of_pass().map(|ring| ring.seconds).max_by(f64::total_cmp) else {
            continue;
        };
        let cut_off = of_pass().any(|ring| ring.cut_off);
        let planned = f64::from(pass.hold_ms + pass.tail_ms) / 1000.0;
        let half_seconds = |seconds: f64| ((seconds * 2.0).ceil() * 500.0).clamp(500.0, 600_000.0) as u32;
        if cut_off {
            all.push(Advice {
                pass: pass.id,
                hold_ms: pass.hold_ms,
                tail_ms: half_seconds(f64::from(pass.tail_ms) / 1000.0 * 1.5),
                kind: None,
                because: format!(
                    "{}: a take was still sounding when its time was over, so give it half as much again.",
                    pass.name
                ),
            });
        } else if plan.kind.loops()
            && pass.sounds_on == SoundsOn::KeyDown
            && longest < f64::from(pass.hold_ms) / 1000.0 * 0.75
        {
            all.push(Advice {
                pass: pass.id,
                hold_ms: half_seconds(longest * ROOM),
                tail_ms: pass.tail_ms,
                kind: Some(Kind::Struck),
                because: format!(
                    "{}: it dies away after {longest:.1} s while it is still held, so plan it as struck, without a loop.",
                    pass.name
                ),
            });
        } else if let Some((needed_s, why)) = longer_hold(plan, pass, &of_pass().collect::<Vec<_>>()) {
            all.push(Advice {
                pass: pass.id,
                hold_ms: half_seconds(needed_s),
                tail_ms: pass.tail_ms,
                kind: None,
                because: why,
            });
        } else if !plan.kind.loops() && longest * ROOM < planned * 0.75 {
            let hold = half_seconds((longest * ROOM).min(f64::from(pass.hold_ms) / 1000.0));
            let tail = half_seconds((longest * ROOM - f64::from(hold) / 1000.0).max(0.5));
            all.push(Advice {
                pass: pass.id,
                hold_ms: hold,
                tail_ms: tail,
                kind: None,
                because: format!(
                    "{}: it rings {longest:.1} s at most, so {:.1} s are enough.",
                    pass.name,
                    f64::from(hold + tail) / 1000.0
                ),
            });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_first_plan_can_be_recorded_and_says_why() {
        for habit in &HABITS {
            for how in [How::OverMidi, How::ByHand, How::LongTake, How::Files] {
                let offer = first_plan(habit.kind, how, "night-ferry");
                assert_eq!(offer.plan.check(), Ok(()), "{:?}", habit.kind);
                assert_eq!(offer.reasons.len(), 6);
            }
        }
        let struck = first_plan(Kind::Struck, How::OverMidi, "x").plan.passes.remove(0);
        // Job page, common practice: struck things 5 s or more, four an octave.
        assert!(struck.hold_ms >= 5_000 && struck.rungs[4] - struck.rungs[0] == 12);
        assert!(first_plan(Kind::Pad, How::OverMidi, "x").plan.passes[0].hold_ms > 10_000);
    }

    /// Two strengths become three: what was soft and loud stays so, and what is new lies between; and the other way round.
    #[test]
    fn layers_go_on_as_those_that_are_struck_most_alike() {
        let struck = |strikes: &[u8]| -> Vec<Layer> {
            (0..)
                .zip(strikes)
                .map(|(id, &strike_velocity)| Layer {
                    id: LayerId(id),
                    strike_velocity,
                    ..even_layers(1).remove(0)
                })
                .collect()
        };
        let again = |count, before: &[u8]| -> Vec<u64> {
            layers_again(count, &struck(before), &mut || 99)
                .iter()
                .map(|layer| layer.id.0)
                .collect()
        };
        assert_eq!(again(3, &[50, 110]), [0, 99, 1]);
        assert_eq!(again(3, &[100, 110]), [99, 0, 1]);
        assert_eq!(again(2, &[39, 77, 115]), [0, 2]);
        assert_eq!(again(2, &[50, 110]), [0, 1]);
        assert_eq!(again(1, &[]), [99]);
    }

    #[test]
    fn layers_rise_however_many() {
        for count in [1, 2, 5, 16, 61, 127] {
            let layers = even_layers(count);
            assert_eq!(layers.len(), count);
            assert!(
                layers
                    .windows(2)
                    .all(|pair| pair[0].strike_velocity < pair[1].strike_velocity)
            );
            assert!(
                layers
                    .iter()
                    .all(|layer| (1..=127).contains(&layer.strike_velocity))
            );
        }
    }

    #[test]
    fn the_first_takes_tell_how_long_it_really_rings() {
        let plan = first_plan(Kind::Struck, How::ByHand, "x").plan;
        let ring = |seconds, cut_off| Ring {
            pass: PassId(0),
            seconds,
            cut_off,
            beats_s: None,
            wants_a_loop: false,
        };
        let shorter = advice(&plan, &[ring(2.9, false), ring(3.0, false)]);
        assert_eq!((shorter[0].hold_ms, shorter[0].tail_ms), (4_000, 500));
        assert!(shorter[0].because.contains("3.0 s"));
        let longer = advice(&plan, &[ring(14.9, true)]);
        assert_eq!((longer[0].hold_ms, longer[0].tail_ms), (5_000, 15_000));
        assert!(advice(&plan, &[ring(12.0, false)]).is_empty());
        assert!(advice(&plan, &[]).is_empty());
        let held = first_plan(Kind::Sustained, How::OverMidi, "x").plan;
        let dying = advice(&held, &[ring(1.2, false), ring(0.9, false)]);
        assert_eq!((dying[0].kind, dying[0].hold_ms), (Some(Kind::Struck), 1_500));
        assert!(advice(&held, &[ring(3.4, false)]).is_empty());
    }

    #[test]
    fn the_first_takes_tell_how_long_a_good_loop_wants_them_held() {
        let mut plan = first_plan(Kind::Pad, How::OverMidi, "x").plan;
        plan.passes[0].hold_ms = 3_000;
        let ring = |beats_s, wants_a_loop| Ring {
            pass: PassId(0),
            seconds: 3.2,
            cut_off: false,
            beats_s,
            wants_a_loop,
        };
        let beating = advice(&plan, &[ring(Some(0.9), true), ring(Some(3.4), true)]);
        assert_eq!(beating[0].hold_ms, 8_500);
        assert!(beating[0].because.contains("every 3.4 s"));
        let drifting = advice(&plan, &[ring(None, true)]);
        assert_eq!(drifting[0].hold_ms, 6_000);
        // Most are well, or there was room for two rounds.
        assert!(advice(&plan, &[ring(None, true), ring(None, false)]).is_empty());
        assert!(advice(&plan, &[ring(Some(0.5), true)]).is_empty());
        plan.kind = Kind::Plucked;
        assert!(
            advice(&plan, &[ring(None, true)])
                .iter()
                .all(|a| a.hold_ms <= 3_000)
        );
    }
}
