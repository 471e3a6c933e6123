//! What is heard of one key as an instrument plays it.

use crate::{Audio, amplitude_to_db, brightness_key, find_pitches, frames_of_ms};
use serde::{Deserialize, Serialize};

/// One key, struck, held and let go. What is `None` cannot be told.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeySound {
    /// Which.
    pub key: u8,
    /// How hard, as a MIDI velocity.
    pub strike: u8,
    /// RMS of its loudest 100 ms while it is held; `None` for silence.
    pub level_dbfs: Option<f64>,
    /// How far its pitch lies above its key's in equal temperament.
    pub cents: Option<f64>,
    /// See [`brightness_key`].
    pub brightness_key: Option<f64>,
    /// The step with which it begins, under its loudest, in dB.
    pub first_step_db: Option<f64>,
    /// The highest step within 20 ms after its key comes up, where it moves much more than it did before, under its loudest, in dB.
    pub release_step_db: Option<f64>,
    /// How long it still sounds after its key came up, where that is longer than was listened for; else `None`.
    pub rings_ms: Option<f64>,
    /// How far the loudest 50 ms after its key came up lie over the last 50 ms before.
    pub key_up_over_db: Option<f64>,
}

/// Softer is silence.
const SILENT: f32 = 1e-5;
/// A pitch further from its key is another's.
const NEAR_CENTS: f64 = 250.0;
/// A step is so many times what a sound moves by itself.
const STEP_TIMES: f32 = 6.0;

impl KeySound {
    /// Hears one key that was struck at the first frame and let go at `up`; of a sound that goes on to its last frame, see [`Self::rings_ms`].
    pub fn of(audio: &Audio, (key, strike): (u8, u8), up: usize) -> Self {
        let rate = audio.rate_hz;
        let mono = audio.to_mono();
        let up = up.min(mono.len());
        let ms = |value: f64| frames_of_ms(rate, value).max(1);
        let peak = audio
            .channels
            .iter()
            .flatten()
            .fold(0.0f32, |top, x| top.max(x.abs()));
        let empty = Self {
            key,
            strike,
            ..Self::default()
        };
        if peak <= SILENT {
            return empty;
        }
        let begun = mono.iter().position(|x| x.abs() > SILENT).unwrap_or(0);
        let held = &mono[begun.min(up)..up];
        let rms_db = |part: &[f32]| {
            let power: f64 = part.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
            amplitude_to_db((power / part.len().max(1) as f64).sqrt().max(1e-7))
        };
        let loudest = held
            .chunks(ms(100.0))
            .map(rms_db)
            .fold(f64::NEG_INFINITY, f64::max);
        let rounded = |db: f64| (db * 100.0).round() / 100.0;
        let under = |step: f32| (step > 0.0).then(|| rounded(amplitude_to_db(f64::from(step / peak))));
        let pitch = || {
            let found = find_pitches(held, rate, 0, held.len());
            let cents = found
                .iter()
                .map(|pitch| (f64::from(pitch.key) - f64::from(key)) * 100.0 + pitch.cents);
            cents
                .filter(|cents| cents.abs() < NEAR_CENTS)
                .min_by(|a, b| a.abs().total_cmp(&b.abs()))
        };
        let silent_after = mono[up..]
            .iter()
            .rposition(|x| x.abs() > SILENT * 10.0)
            .map_or(0, |at| at + 1);
        let rings = silent_after + ms(20.0) > mono.len() - up && mono.len() > up + ms(1_000.0);
        let before_up = &mono[up.saturating_sub(ms(50.0))..up];
        let after_up = mono[up..]
            .chunks(ms(50.0))
            .map(rms_db)
            .fold(f64::NEG_INFINITY, f64::max);
        Self {
            level_dbfs: loudest.is_finite().then(|| rounded(loudest)),
            cents: pitch().map(rounded),
            brightness_key: brightness_key(&held[..held.len().min(ms(300.0))], rate),
            first_step_db: under(first_step(&mono[begun..], ms(1.0))),
            release_step_db: under(release_step(&mono, up, ms(20.0))),
            rings_ms: rings.then(|| (mono.len() - up) as f64 * 1_000.0 / f64::from(rate)),
            key_up_over_db: (after_up.is_finite() && !before_up.is_empty())
                .then(|| rounded(after_up - rms_db(before_up))),
            ..empty
        }
    }
}

/// The first frame, where it is a step: far more than the sound moves from frame to frame in its first millisecond.
fn first_step(sound: &[f32], within: usize) -> f32 {
    let Some(first) = sound.first() else { return 0.0 };
    let moves = sound[..within.min(sound.len())]
        .windows(2)
        .map(|w| (w[1] - w[0]).abs());
    let usual = moves.fold(0.0f32, f32::max);
    if first.abs() > usual { first.abs() } else { 0.0 }
}

/// Where the sound moves much more after a frame than before it.
fn release_step(sound: &[f32], up: usize, within: usize) -> f32 {
    let most = |part: &[f32]| {
        part.windows(2)
            .map(|w| (w[1] - w[0]).abs())
            .fold(0.0f32, f32::max)
    };
    let before = most(&sound[up.saturating_sub(within)..up]);
    let after = most(&sound[up.saturating_sub(1)..(up + within).min(sound.len())]);
    if after > before.max(1e-6) * STEP_TIMES {
        after
    } else {
        0.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tone(seconds: f32, up: usize, after: impl Fn(usize) -> f32) -> Audio {
        let samples = (0..(seconds * 48_000.0) as usize).map(|n| {
            let gain = if n < up {
                (n as f32 / 480.0).min(1.0)
            } else {
                after(n - up)
            };
            (n as f32 * 440.0 / 48_000.0 * std::f32::consts::TAU).sin() * 0.5 * gain
        });
        Audio::mono(48_000, samples.collect())
    }

    #[test]
    fn a_key_that_is_right_is_heard_as_it_is() {
        let right = tone(2.0, 48_000, |n| (1.0 - n as f32 / 9_600.0).max(0.0));
        let heard = KeySound::of(&right, (69, 100), 48_000);
        assert!(
            (heard.level_dbfs.unwrap() + 9.03).abs() < 0.1,
            "RMS of 0.5: {heard:?}"
        );
        assert!(heard.cents.unwrap().abs() < 0.5, "{heard:?}");
        assert_eq!(
            (heard.first_step_db, heard.release_step_db, heard.rings_ms),
            (None, None, None)
        );
        let off = KeySound::of(&right, (70, 100), 48_000);
        assert!((off.cents.unwrap() + 100.0).abs() < 0.5);
        let silence = KeySound::of(&Audio::mono(48_000, vec![0.0; 96_000]), (69, 100), 48_000);
        assert_eq!(silence.level_dbfs, None);
    }

    #[test]
    fn what_hangs_or_is_cut_off_is_heard() {
        let hangs = KeySound::of(&tone(4.0, 48_000, |_| 1.0), (69, 100), 48_000);
        assert!((hangs.rings_ms.unwrap() - 3_000.0).abs() < 1.0, "{hangs:?}");
        // Cut at the crest: 48,027 frames are 440.2475 waves.
        let cut = KeySound::of(&tone(2.0, 48_027, |_| 0.0), (69, 100), 48_027);
        assert!(cut.release_step_db.unwrap() > -1.0, "{cut:?}");
    }
}
