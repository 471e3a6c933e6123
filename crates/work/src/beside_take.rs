//! A take beside another of the same hand: its neighbour's, or an earlier one of its own.

use crate::{Library, TreatedTake};
use check::PassageBeside;
use instrument::Passage;
use serde::Serialize;
use signal::{Audio, PassageSound, loudness_lufs, quiet_bands, resampled};
use utoipa::ToSchema;

/// Both are compared over so much of what they are held, in seconds, and over three fifths of the shorter at most.
const HELD_S: f64 = 2.0;
const HELD_SHARE: f64 = 0.6;

/// Both, the other at the pitch of the one.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct TakeBeside {
    /// As one passage; the other stands where what was built does.
    pub passage: PassageBeside,
    /// How much louder the one is, as heard.
    pub louder_db: f64,
    /// How much faster the other is played to be heard at the pitch of the one.
    pub pace: f64,
}

/// Lays a take beside another, both trimmed and cleaned as they are; `strike` is how hard the one was meant.
///
/// # Errors
/// Those of the library.
pub fn take_beside(
    library: &dyn Library,
    (one, other): (&TreatedTake, &TreatedTake),
    strike: u8,
) -> anyhow::Result<TakeBeside> {
    let both = [(one, one.whole(library)?), (other, other.whole(library)?)].map(|(take, whole)| Trimmed {
        key: take.cell.key,
        noise: quiet_bands(&whole),
        audio: whole.slice(
            take.treatment.start_frame as usize,
            take.treatment.end_frame as usize,
        ),
    });
    Ok(laid(both, strike))
}

/// What is played of a take.
struct Trimmed {
    key: u8,
    /// What its recording has without it.
    noise: Vec<f64>,
    audio: Audio,
}

fn laid([one, other]: [Trimmed; 2], strike: u8) -> TakeBeside {
    let pace = 2f64.powf((f64::from(one.key) - f64::from(other.key)) / 12.0);
    let this = one.audio;
    // As many frames as it has when it is played so much faster, at the rate of the one.
    let ratio = f64::from(this.rate_hz) / f64::from(other.audio.rate_hz) / pace;
    let that = match (ratio - 1.0).abs() < 1e-9 {
        true => other.audio,
        false => Audio {
            rate_hz: this.rate_hz,
            ..resampled(&other.audio, ratio)
        },
    };
    let rate = f64::from(this.rate_hz);
    let shorter = this.frames().min(that.frames());
    let up = ((HELD_S * rate) as usize).min((shorter as f64 * HELD_SHARE) as usize);
    let heard = |audio: &Audio, noise: &[f64]| PassageSound::of(audio, up, Some(one.key), noise);
    let (source, built) = (heard(&this, &one.noise), heard(&that, &other.noise));
    let louder = loudness_lufs(&this).zip(loudness_lufs(&that));
    let ms = |frames: usize| frames as f64 * 1_000.0 / rate;
    TakeBeside {
        passage: PassageBeside {
            passage: Passage {
                keys: vec![one.key],
                strike,
                at_ms: 0.0,
                up_ms: ms(up),
                end_ms: ms(shorter),
            },
            judges: false,
            apart: source.apart(&built),
            source,
            built,
        },
        louder_db: louder.map_or(0.0, |(this, that)| this - that),
        pace,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    /// Harmonics of a key, all of them at the same share of it, from a rate.
    fn tone(key: u8, rate_hz: u32, gain: f64) -> Trimmed {
        let hz = signal::hz_of_key(f64::from(key));
        let sample = |n: usize| {
            let at = n as f64 / f64::from(rate_hz);
            let sum: f64 = (1..=12)
                .map(|h| (TAU * hz * f64::from(h) * at).sin() / f64::from(h))
                .sum();
            (sum * 0.1 * gain) as f32
        };
        Trimmed {
            key,
            noise: Vec::new(),
            audio: Audio::mono(rate_hz, (0..rate_hz as usize * 3).map(sample).collect()),
        }
    }

    #[test]
    fn a_neighbour_is_heard_at_the_pitch_of_the_take() {
        // Five keys lower, another rate, half as loud: at one pitch only level is left of that.
        let beside = laid([tone(62, 48_000, 1.0), tone(57, 44_100, 0.5)], 90);
        assert!((beside.pace - 2f64.powf(5.0 / 12.0)).abs() < 1e-9);
        assert!((beside.louder_db - 6.02).abs() < 0.2, "{}", beside.louder_db);
        let apart = &beside.passage.apart;
        assert!((apart.level_db.unwrap() - 6.02).abs() < 0.1, "{apart:?}");
        assert!(apart.spectrum_db < 0.3 && apart.course_db < 0.3, "{apart:?}");
        assert!(apart.cents.unwrap().abs() < 0.5, "{apart:?}");
    }

    #[test]
    fn a_take_beside_itself_is_nowhere_apart() {
        let beside = laid([tone(60, 48_000, 1.0), tone(60, 48_000, 1.0)], 90);
        assert_eq!((beside.louder_db, beside.pace), (0.0, 1.0));
        assert_eq!(beside.passage.apart.level_db, Some(0.0));
        assert_eq!(beside.passage.apart.spectrum_db, 0.0);
    }
}
