//! What a take of its kind should have and was not found: it is marked, where an empty place would be overlooked.

use crate::{Correction, Kind, Origin, Treatment, is_cut_off, stands_still};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use signal::Measurement;
use utoipa::ToSchema;

/// What is missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Missing {
    /// A pitch was not heard, and its maker did not say what its root is.
    Pitch,
    /// There is no place worth looping, and its maker did not say that it is not to be looped.
    Loop,
    /// Its loop is so short that it stands still, and its maker did not choose it.
    LoopLength,
    /// It ends in the midst of its sound, and its maker did not say where it ends.
    End,
}

/// What a take of so many frames lacks that sounds on something, with what was measured of it, how it is
/// treated, and what its maker said. Noises of keys and pedals need neither pitch nor loop.
pub fn missing(
    kind: Kind,
    on: SoundsOn,
    facts: &Measurement,
    (rate_hz, frames): (u32, u64),
    origin: &Origin,
    said: &Correction,
    treated: Option<&Treatment>,
) -> Vec<Missing> {
    // What others gave away as it is was meant to be so.
    if on != SoundsOn::KeyDown || origin.as_made.is_some() {
        return Vec::new();
    }
    let inside = origin.inside.as_ref().and_then(|inside| inside.root_key);
    let rooted = facts.pitch.is_some() || said.no_pitch || said.root_key.or(inside).is_some();
    let looped = treated.and_then(|treated| treated.looped);
    let mut all = Vec::new();
    if kind.pitched() && !rooted {
        all.push(Missing::Pitch);
    }
    if kind.loops() && looped.is_none() && said.looped.is_none() {
        all.push(Missing::Loop);
    }
    if let (Some(looped), None) = (looped, said.looped)
        && stands_still(
            kind,
            (looped.end_frame - looped.start_frame) as f64 / f64::from(rate_hz),
        )
    {
        all.push(Missing::LoopLength);
    }
    if kind.pitched() && looped.is_none() && said.end_frame.is_none() && is_cut_off(facts, frames) {
        all.push(Missing::End);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{TakeLoop, suggest, treat};

    #[test]
    fn what_should_be_there_is_missed_until_somebody_says_that_it_should_not() {
        let facts = signal::measure(&signal::Audio::mono(48_000, vec![0.0; 48_000]));
        let origin = Origin::default();
        let looped_for = |frames| Correction {
            looped: Some(Some(TakeLoop::plain(0, frames, 0))),
            ..Correction::default()
        };
        let of = |kind, on, said: &Correction, set: &Correction| {
            let suggested = suggest(kind, 57, 48_000, 48_000, &facts, None);
            let treated = treat(57, &suggested, set, 48_000);
            missing(kind, on, &facts, (48_000, 48_000), &origin, said, Some(&treated))
        };
        let (key, nothing) = (SoundsOn::KeyDown, Correction::default());
        assert_eq!(
            of(Kind::Pad, key, &nothing, &nothing),
            [Missing::Pitch, Missing::Loop]
        );
        assert_eq!(
            of(Kind::Voice, key, &nothing, &looped_for(24_000)),
            [Missing::Pitch]
        );
        assert_eq!(of(Kind::Struck, key, &nothing, &nothing), [Missing::Pitch]);
        assert_eq!(of(Kind::Drum, key, &nothing, &nothing), []);
        assert_eq!(of(Kind::Pad, SoundsOn::KeyUp, &nothing, &nothing), []);
        let by_hand = Correction {
            no_pitch: true,
            looped: Some(None),
            ..Correction::default()
        };
        assert_eq!(of(Kind::Pad, key, &by_hand, &by_hand), []);
        // A pad stands still in a loop of half a second, unless somebody chose it.
        let short = looped_for(24_000);
        assert_eq!(
            of(Kind::Pad, key, &nothing, &short),
            [Missing::Pitch, Missing::LoopLength]
        );
        assert_eq!(of(Kind::Pad, key, &short, &short), [Missing::Pitch]);
    }
}
