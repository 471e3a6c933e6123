//! What sounds again in a sound that fades: a door, a chair, a word.

use crate::{amplitude_to_db, frames_of_ms};
use serde::{Deserialize, Serialize};

const WINDOW_MS: f64 = 20.0;
/// The strike itself may rise for so long.
const STRIKE_MS: f64 = 250.0;
/// So many windows before it: as long as a beat of strings or reeds is low.
const BEFORE: usize = 15;
/// What is under this over the floor is the floor.
const OVER_FLOOR_DB: f64 = 12.0;
/// What is further under the loudest after the strike is not heard as another sound.
const UNDER_LOUDEST_DB: f64 = 45.0;

/// A rise in a sound that should fall.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct AnotherSound {
    /// Where it is highest.
    pub frame: usize,
    /// How far it rises over what most of the 0.3 s before it was at most, or over the floor, in dB.
    pub db: f64,
}

/// The largest rise of a sound that begins at `start`, after its strike is over, well over a floor in dBFS; `None` where it only falls.
pub fn find_another_sound(mono: &[f32], rate_hz: u32, start: usize, floor_dbfs: f64) -> Option<AnotherSound> {
    let window = frames_of_ms(rate_hz, WINDOW_MS).max(1);
    let after = start + frames_of_ms(rate_hz, STRIKE_MS);
    // Two windows at a time: a beat between partials is slower than that, or it is not heard as a rise.
    let levels: Vec<f64> = mono
        .get(after..)?
        .chunks_exact(window)
        .map(|part| {
            let power: f64 = part.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
            amplitude_to_db((power / part.len() as f64).sqrt().max(1e-6))
        })
        .collect();
    let loudest = levels.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let audible = (floor_dbfs + OVER_FLOOR_DB).max(loudest - UNDER_LOUDEST_DB);
    let mut most: Option<AnotherSound> = None;
    for (n, pair) in levels.windows(2).enumerate() {
        let level = pair[0].min(pair[1]);
        // What beats comes back to where it was just before, what falls in goes beyond.
        let mut before = levels[n.saturating_sub(BEFORE)..n].to_vec();
        before.sort_by(f64::total_cmp);
        let Some(high) = before.get(before.len() * 85 / 100) else {
            continue;
        };
        let db = level - high.max(floor_dbfs);
        if level > audible && db > most.map_or(0.0, |most| most.db) {
            most = Some(AnotherSound {
                frame: after + n * window,
                db,
            });
        }
    }
    most
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_only_falls_has_none_and_a_door_is_found_where_it_falls_shut() {
        let mut sound: Vec<f32> = (0..96_000)
            .map(|n| {
                let t = n as f32 / 48_000.0;
                (t * 440.0 * std::f32::consts::TAU).sin() * 0.5 * (-3.0 * t).exp()
            })
            .collect();
        assert_eq!(find_another_sound(&sound, 48_000, 0, -90.0), None);
        // At 1.5 s it has fallen to 0.5·e^−4.5 = 0.0056; what is four times that is 12 dB over it, and 6.6 dB less over what it was 0.255 s before.
        for (n, x) in sound[72_000..76_800].iter_mut().enumerate() {
            *x += (n as f32 * 0.7).sin() * 0.0225;
        }
        let found = find_another_sound(&sound, 48_000, 0, -90.0).expect("a door");
        assert!((found.db - 5.4).abs() < 1.0, "{found:?}");
        assert!((72_000..76_800).contains(&found.frame), "{found:?}");
    }
}
