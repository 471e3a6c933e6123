//! Instruments that are given away together, made as loud as each other.

use crate::to_write::OfSnapshot;
use crate::{Library, Snapshot, play, refusal};
use formats::{Phrase, PhraseEvent, Place};
use program::{On, Program};
use signal::loudness_lufs;

/// Strike, in MIDI velocity, and how long each key is held.
const STRIKE: u8 = 100;
const HELD_MS: f64 = 1_500.0;
const RATE_HZ: u32 = 48_000;
const VOICES: usize = 64;

/// Lowers each to the softest, by its loudness as it is played: BS.1770, gated, of keys at a quarter, the middle and three quarters of those that it has.
/// What is silent is left as it is.
///
/// # Errors
/// Those of the library; a refusal where `tell` answers false.
pub(crate) fn even_levels(
    library: &dyn Library,
    snapshots: &mut [(Snapshot, Place)],
    tell: impl Fn(f64) -> bool,
) -> anyhow::Result<()> {
    let mut heard = Vec::with_capacity(snapshots.len());
    for (n, (snapshot, _)) in snapshots.iter().enumerate() {
        if !tell(n as f64 / snapshots.len() as f64) {
            return Err(refusal("Cancelled."));
        }
        let phrase = phrase_of(&snapshot.program);
        let samples = OfSnapshot { library, snapshot };
        let loudness = match phrase.events.is_empty() {
            true => None,
            false => loudness_lufs(&play(&snapshot.program, &samples, &phrase, RATE_HZ, VOICES)?.0),
        };
        heard.push(loudness);
    }
    let gains = gains_of(&heard);
    for ((snapshot, _), gain_db) in snapshots.iter_mut().zip(gains) {
        for strand in &mut snapshot.program.strands {
            strand.gain_db += gain_db;
        }
    }
    Ok(())
}

/// By how many dB each is brought to the softest, given their loudness.
fn gains_of(heard: &[Option<f64>]) -> Vec<f64> {
    let softest = heard.iter().flatten().copied().reduce(f64::min);
    heard
        .iter()
        .map(|own| softest.zip(*own).map_or(0.0, |(softest, own)| softest - own))
        .collect()
}

/// Three of its keys, one after another.
fn phrase_of(program: &Program) -> Phrase {
    let mut keys: Vec<u8> = (program.regions.iter())
        .filter(|region| {
            let strand = program.strand_of(region);
            strand.is_some_and(|strand| !strand.muted && matches!(strand.on, On::KeyDown(_)))
        })
        .flat_map(|region| region.when.keys.low..=region.when.keys.high)
        .collect();
    keys.sort_unstable();
    keys.dedup();
    let mut events = Vec::new();
    let mut at_ms = 0.0;
    for quarter in 1..=3 {
        if let Some(&key) = keys.get((keys.len() * quarter / 4).min(keys.len().saturating_sub(1))) {
            let event = |at_ms, velocity| PhraseEvent {
                at_ms,
                bytes: [0x90, key, velocity],
            };
            events.extend([event(at_ms, STRIKE), event(at_ms + HELD_MS, 0)]);
            at_ms += HELD_MS;
        }
    }
    Phrase {
        events,
        length_ms: at_ms,
        name: String::new(),
        quarters_a_minute: 120.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::Region;

    #[test]
    fn each_comes_down_to_the_softest_and_silence_stays() {
        assert_eq!(gains_of(&[Some(-14.0), None, Some(-20.0)]), [-6.0, 0.0, 0.0]);
        assert_eq!(gains_of(&[None]), [0.0]);
    }

    #[test]
    fn three_keys_of_those_that_sound_are_struck() {
        let region = Region::whole(0, 60, 1_000).on_keys(40, 79);
        let phrase = phrase_of(&Program::plain("a", Vec::new(), vec![region]));
        let struck: Vec<u8> = phrase
            .events
            .iter()
            .step_by(2)
            .map(|event| event.bytes[1])
            .collect();
        assert_eq!(struck, [50, 60, 70]);
        assert!(phrase_of(&Program::default()).events.is_empty());
    }
}
