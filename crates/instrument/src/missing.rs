//! What a take of its kind should have and was not found: it is marked, where an empty place would be overlooked.

use crate::{Correction, Kind, Origin, is_cut_off};
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
    /// It ends in the midst of its sound, and its maker did not say where it ends.
    End,
}

/// What a take of so many frames lacks that sounds on something, with what was measured of it, `looped` or not, and what its
/// maker said. Noises of keys and pedals need neither pitch nor loop.
pub fn missing(
    kind: Kind,
    on: SoundsOn,
    facts: &Measurement,
    frames: u64,
    origin: &Origin,
    said: &Correction,
    looped: bool,
) -> Vec<Missing> {
    if on != SoundsOn::KeyDown {
        return Vec::new();
    }
    let inside = origin.inside.as_ref().and_then(|inside| inside.root_key);
    let rooted = facts.pitch.is_some() || said.no_pitch || said.root_key.or(inside).is_some();
    let mut all = Vec::new();
    if kind.pitched() && !rooted {
        all.push(Missing::Pitch);
    }
    if kind.loops() && !looped && said.looped.is_none() {
        all.push(Missing::Loop);
    }
    if kind.pitched() && !looped && said.end_frame.is_none() && is_cut_off(facts, frames) {
        all.push(Missing::End);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_should_be_there_is_missed_until_somebody_says_that_it_should_not() {
        let facts = signal::measure(&signal::Audio::mono(48_000, vec![0.0; 4_800]));
        let (origin, nothing) = (Origin::default(), Correction::default());
        let of =
            |kind, on, said: &Correction, looped| missing(kind, on, &facts, 4_800, &origin, said, looped);
        let key = SoundsOn::KeyDown;
        assert_eq!(
            of(Kind::Pad, key, &nothing, false),
            [Missing::Pitch, Missing::Loop]
        );
        assert_eq!(of(Kind::Pad, key, &nothing, true), [Missing::Pitch]);
        assert_eq!(of(Kind::Struck, key, &nothing, false), [Missing::Pitch]);
        assert_eq!(of(Kind::Drum, key, &nothing, false), []);
        assert_eq!(of(Kind::Pad, SoundsOn::KeyUp, &nothing, false), []);
        let by_hand = Correction {
            no_pitch: true,
            looped: Some(None),
            ..Correction::default()
        };
        assert_eq!(of(Kind::Pad, key, &by_hand, false), []);
    }
}
