//! What sounds just now, against what is asked for.

use crate::lead::Needle;
use signal::{Pitch, find_pitches, frames_of_ms};
use std::collections::VecDeque;

/// A pitch is that of the newest so much of a sound, once there is so much of it.
const NEWEST_MS: f64 = 400.0;
const SOONEST_MS: f64 = 140.0;
/// Under this a pitch is no evidence.
const SURE: f64 = 0.4;
/// Of notes that explain a sound nearly alike, one this near to what is asked for is meant.
const MEANT_CENTS: f64 = 60.0;

/// Keeps the newest of a sound from its strike on; its pitch is found when somebody looks.
pub(crate) struct Ear {
    rate_hz: u32,
    channels: usize,
    /// Mono.
    newest: VecDeque<f32>,
    sounds: bool,
    /// Whether anything came since the last look.
    is_new: bool,
    last: Option<Needle>,
}

impl Ear {
    pub(crate) fn new(rate_hz: u32, channels: usize) -> Self {
        Self {
            rate_hz,
            channels: channels.max(1),
            newest: VecDeque::new(),
            sounds: false,
            is_new: false,
            last: None,
        }
    }

    /// Another note is asked for.
    pub(crate) fn forget(&mut self) {
        *self = Self::new(self.rate_hz, self.channels);
    }

    /// Takes a window of interleaved samples, which stands out from the room or not.
    pub(crate) fn hear(&mut self, samples: &[f32], stands_out: bool) {
        if stands_out && !self.sounds {
            self.newest.clear();
        }
        self.sounds = stands_out;
        if !stands_out {
            return;
        }
        let mean = |frame: &[f32]| frame.iter().sum::<f32>() / frame.len() as f32;
        self.newest.extend(samples.chunks_exact(self.channels).map(mean));
        let most = frames_of_ms(self.rate_hz, NEWEST_MS);
        self.newest.drain(..self.newest.len().saturating_sub(most));
        self.is_new = true;
    }

    /// Where the needle stands; `None` until something was heard.
    pub(crate) fn needle(&mut self, asked: u8) -> Option<Needle> {
        let enough = self.newest.len() >= frames_of_ms(self.rate_hz, SOONEST_MS);
        if std::mem::take(&mut self.is_new) && enough {
            let heard = self.newest.make_contiguous();
            let over = |pitch: &Pitch| (f64::from(pitch.key) - f64::from(asked)) * 100.0 + pitch.cents;
            let all = find_pitches(heard, self.rate_hz, 0, heard.len());
            let meant = all.iter().find(|pitch| over(pitch).abs() <= MEANT_CENTS);
            let sure = meant
                .or(all.first())
                .filter(|pitch| pitch.confidence >= SURE)
                .map(|pitch| (pitch.key, over(pitch)));
            if let Some((key, cents)) = sure {
                self.last = Some(Needle {
                    key,
                    cents,
                    sounds: true,
                });
            }
        }
        self.last = self.last.map(|needle| Needle {
            sounds: self.sounds,
            ..needle
        });
        self.last
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn window(cents: f64, from: usize) -> Vec<f32> {
        let hz = 440.0 * 2f64.powf(cents / 1200.0);
        (from..from + 960)
            .flat_map(|n| {
                let turn = std::f64::consts::TAU * hz * n as f64 / 48_000.0;
                let x = (turn.sin() + 0.5 * (2.0 * turn).sin()) as f32 * 0.2;
                [x, x]
            })
            .collect()
    }

    #[test]
    fn the_needle_follows_what_is_struck_and_stays_where_it_was() {
        let mut ear = Ear::new(48_000, 2);
        assert_eq!(ear.needle(69), None);
        for cents in [-12.0, 30.0, -1188.0] {
            for n in 0..30 {
                ear.hear(&window(cents, n * 960), true);
            }
            let needle = ear.needle(69).unwrap();
            assert!((needle.cents - cents).abs() < 1.0 && needle.sounds, "{needle:?}");
            ear.hear(&[0.0; 1_920], false);
            let after = ear.needle(69).unwrap();
            assert_eq!(
                after,
                Needle {
                    sounds: false,
                    ..needle
                }
            );
        }
        ear.forget();
        assert_eq!(ear.needle(69), None);
    }
}
