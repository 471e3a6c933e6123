//! Where a key's level, pitch and brightness are expected: on the curve through all keys at that strike.

use instrument::Curve;
use serde::Serialize;
use signal::KeySound;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Fewer keys are no curve.
const FEWEST_KEYS: usize = 5;

/// What is expected of a key, of its neighbours at the same strike. What is `None` cannot be told.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, ToSchema)]
pub struct Expected {
    /// See [`KeySound::level_dbfs`].
    pub level_dbfs: Option<f64>,
    /// See [`KeySound::cents`].
    pub cents: Option<f64>,
    /// See [`KeySound::brightness_key`].
    pub brightness_key: Option<f64>,
}

/// What is expected of each of some keys, in their order.
pub fn expected(keys: &[KeySound]) -> Vec<Expected> {
    let mut by_strike: BTreeMap<u8, Vec<usize>> = BTreeMap::new();
    for (n, sound) in keys.iter().enumerate() {
        by_strike.entry(sound.strike).or_default().push(n);
    }
    let mut all = vec![Expected::default(); keys.len()];
    for places in by_strike.into_values() {
        let curve = |value: fn(&KeySound) -> Option<f64>| {
            let points = places.iter().map(|n| &keys[*n]);
            let points = points.filter_map(|sound| Some((f64::from(sound.key), value(sound)?)));
            Some(Curve::through(points)).filter(|curve| curve.places() >= FEWEST_KEYS)
        };
        let level = curve(|sound| sound.level_dbfs);
        let cents = curve(|sound| sound.cents);
        let brightness = curve(|sound| sound.brightness_key);
        for n in places {
            let at = |curve: &Option<Curve>| {
                let height = curve.as_ref()?.at(f64::from(keys[n].key));
                Some((height * 100.0).round() / 100.0)
            };
            all[n] = Expected {
                level_dbfs: at(&level),
                cents: at(&cents),
                brightness_key: at(&brightness),
            };
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_that_steps_out_does_not_move_what_is_expected_of_it() {
        let sound = |key: u8, strike: u8| KeySound {
            key,
            strike,
            level_dbfs: Some(-20.0 - f64::from(key) * 0.1 - if strike < 64 { 12.0 } else { 0.0 }),
            ..KeySound::default()
        };
        let mut keys: Vec<KeySound> = (40..=60)
            .flat_map(|key| [sound(key, 32), sound(key, 112)])
            .collect();
        keys[21].level_dbfs = Some(-9.0);
        let all = expected(&keys);
        assert_eq!(all[21].level_dbfs, Some(-25.0));
        assert_eq!(all[20].level_dbfs, Some(-37.0));
        assert_eq!((all[21].cents, all[21].brightness_key), (None, None));
        // Four keys are no curve.
        assert_eq!(expected(&keys[..8])[0], Expected::default());
    }
}
