//! Loops of some lengths, looked for in many takes, and kept as one change.

use crate::{Effect, Library, Outcome, Snapshot, TreatedTake, Watch, refusal};
use instrument::{Fact, Said, TakeLoop, Target, stands_still};
use serde::{Deserialize, Serialize};
use signal::{Evening, LoopCandidate, LoopLengths, Stage};

/// From where on a take is searched for loops.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SearchedFrom {
    /// From its start.
    #[default]
    Start,
    /// From a share of its sound on, 0 to 1.
    Share(f64),
    /// From so many seconds after its start on.
    Seconds(f64),
}

impl SearchedFrom {
    /// The first frame that is searched of a sound in `start..end`.
    fn frame(self, start: usize, end: usize, rate_hz: u32) -> usize {
        let off = match self {
            Self::Start => 0.0,
            Self::Share(share) => share.clamp(0.0, 1.0) * end.saturating_sub(start) as f64,
            Self::Seconds(seconds) => seconds.max(0.0) * f64::from(rate_hz),
        };
        start.saturating_add(off as usize).min(end)
    }
}

/// What is looked for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Sought {
    /// How long loops may be.
    pub lengths: LoopLengths,
    /// Where.
    #[serde(default)]
    pub from: SearchedFrom,
}

/// Looks for loops and keeps the best of each take. A take that has none is not looped, is as it would be by itself where any length would do,
/// or stays as it is where it was to be evened. Nothing is kept when it is cancelled.
#[derive(Debug, Clone)]
pub struct Seek {
    /// What is looked for.
    pub sought: Sought,
    /// Whether the takes are evened over their loops.
    pub evened: bool,
    /// For "Undo …".
    pub label: String,
    /// The takes as they were when it was asked for.
    pub snapshot: Snapshot,
}

impl Seek {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled, or nothing is worth looping.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let (mut wishes, mut looped) = (Vec::new(), 0);
        for (n, take) in self.snapshot.takes.values().enumerate() {
            watch.tell(n as f64 / self.snapshot.takes.len() as f64)?;
            let target = Target::Take(take.id);
            if self.evened {
                let (found, wish) = evened_loops_of(library, take, self.sought)?;
                let best = take.best_of(&found, self.sought.lengths);
                // A pad that is evened only to stand still is left as it is, where no length was asked for.
                let serves = |best: &TakeLoop| {
                    let seconds =
                        (best.end_frame - best.start_frame) as f64 / f64::from(take.part.form.rate_hz);
                    self.sought != Sought::default() || !stands_still(take.kind, seconds)
                };
                if let Some(best) = best.filter(serves) {
                    wishes.push((target, Fact::Loop, Said::Value(serde_json::to_value(best)?)));
                    wishes.push((target, Fact::Evening, Said::Value(serde_json::to_value(wish)?)));
                    looped += 1;
                }
            } else {
                let best = take.best_of(&loops_of(library, take, self.sought)?, self.sought.lengths);
                looped += usize::from(best.is_some());
                // Without one of any length it is as it would be by itself, and marked; without one of what was asked for it is not looped.
                let said = if best.is_none() && self.sought == Sought::default() {
                    Said::Automatic
                } else {
                    Said::Value(serde_json::to_value(best)?)
                };
                wishes.push((target, Fact::Loop, said));
            }
        }
        watch.tell(1.0)?;
        if wishes.is_empty() {
            return Err(refusal(
                "Evened too there is no place worth looping. What was there is as it was.",
            ));
        }
        Ok(Outcome {
            effect: Effect::Change {
                label: self.label.clone(),
                wishes,
            },
            result: serde_json::json!({ "looped": looped }),
        })
    }
}

/// Places to loop a take as it is cleaned now, best first.
///
/// # Errors
/// Those of the library.
pub fn loops_of(
    library: &dyn Library,
    take: &TreatedTake,
    sought: Sought,
) -> anyhow::Result<Vec<LoopCandidate>> {
    let audio = take.whole(library)?;
    let period = take.facts.pitch.map(|pitch| f64::from(audio.rate_hz) / pitch.hz);
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let start = sought.from.frame(start, end, audio.rate_hz);
    Ok(signal::find_loops(&audio, start, end, period, sought.lengths))
}

/// How a take is evened where that is not said otherwise: wholly.
const EVENED: Evening = Evening { share: 1.0 };

/// Places to loop a take once it is evened over them, best first, and how it is evened.
fn evened_loops_of(
    library: &dyn Library,
    take: &TreatedTake,
    sought: Sought,
) -> anyhow::Result<(Vec<LoopCandidate>, Evening)> {
    let wish = take.treatment.cleaning.evening.unwrap_or(EVENED);
    let Some(pitch) = take.facts.pitch else {
        return Ok((Vec::new(), wish));
    };
    let audio = take.without(Stage::Evening).whole(library)?;
    let period = f64::from(audio.rate_hz) / pitch.hz;
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let start = sought.from.frame(start, end, audio.rate_hz);
    let found = signal::find_evened_loops(&audio, start, end, period, sought.lengths, &wish);
    Ok((found, wish))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sound_is_searched_from_a_share_or_a_time_on() {
        let of = |from: SearchedFrom| from.frame(1_000, 9_000, 1_000);
        assert_eq!(of(SearchedFrom::Start), 1_000);
        assert_eq!(of(SearchedFrom::Share(0.5)), 5_000);
        assert_eq!(of(SearchedFrom::Seconds(1.5)), 2_500);
        // What lies outside is nothing.
        assert_eq!(
            [SearchedFrom::Share(7.0), SearchedFrom::Seconds(1e12)].map(of),
            [9_000, 9_000]
        );
        assert_eq!(
            [SearchedFrom::Share(-1.0), SearchedFrom::Seconds(f64::NAN)].map(of),
            [1_000, 1_000]
        );
    }
}
