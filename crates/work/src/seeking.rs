//! Loops of some lengths, looked for in many takes, and kept as one change.

use crate::{Effect, Library, Outcome, Snapshot, TreatedTake, Watch, refusal};
use instrument::{Fact, Said, Target};
use signal::{Evening, LoopCandidate, LoopLengths, Stage};

/// Looks for loops and keeps the best of each take. A take that has none is not looped, is as it would be by itself where any length would do,
/// or stays as it is where it was to be evened. Nothing is kept when it is cancelled.
#[derive(Debug, Clone)]
pub struct Seek {
    /// How long loops may be.
    pub lengths: LoopLengths,
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
                let (found, wish) = evened_loops_of(library, take, self.lengths)?;
                if let Some(best) = take.best_of(&found, self.lengths) {
                    wishes.push((target, Fact::Loop, Said::Value(serde_json::to_value(best)?)));
                    wishes.push((target, Fact::Evening, Said::Value(serde_json::to_value(wish)?)));
                    looped += 1;
                }
            } else {
                let best = take.best_of(&loops_of(library, take, self.lengths)?, self.lengths);
                looped += usize::from(best.is_some());
                // Without one of any length it is as it would be by itself, and marked; without one of the lengths asked for it is not looped.
                let said = if best.is_none() && self.lengths == LoopLengths::default() {
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
    lengths: LoopLengths,
) -> anyhow::Result<Vec<LoopCandidate>> {
    let audio = take.whole(library)?;
    let period = take.facts.pitch.map(|pitch| f64::from(audio.rate_hz) / pitch.hz);
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    Ok(signal::find_loops(&audio, start, end, period, lengths))
}

/// How a take is evened where that is not said otherwise: wholly.
const EVENED: Evening = Evening { share: 1.0 };

/// Places to loop a take once it is evened over them, best first, and how it is evened.
fn evened_loops_of(
    library: &dyn Library,
    take: &TreatedTake,
    lengths: LoopLengths,
) -> anyhow::Result<(Vec<LoopCandidate>, Evening)> {
    let wish = take.treatment.cleaning.evening.unwrap_or(EVENED);
    let Some(pitch) = take.facts.pitch else {
        return Ok((Vec::new(), wish));
    };
    let audio = take.without(Stage::Evening).whole(library)?;
    let period = f64::from(audio.rate_hz) / pitch.hz;
    let (start, end) = (take.facts.start_frame, take.facts.end_frame);
    let found = signal::find_evened_loops(&audio, start, end, period, lengths, &wish);
    Ok((found, wish))
}
