//! Where a key's level, pitch and brightness are expected: on the curve through all rungs at that strike.

use instrument::Curve;
use program::{On, Program};
use serde::Serialize;
use signal::KeySound;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// Fewer places are no curve.
const FEWEST_PLACES: usize = 5;

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

/// Keys beside each other that the same recordings play at one strike: places among those that were heard, up the keys.
pub(crate) struct Run {
    pub(crate) places: Vec<usize>,
    /// The one that is played nearest to how it was recorded.
    nearest: usize,
}

impl Run {
    /// How hard its keys were struck.
    pub(crate) fn strike(&self, keys: &[KeySound]) -> u8 {
        keys[self.nearest].strike
    }

    /// Its lowest key and its highest.
    pub(crate) fn ends<'a>(&self, keys: &'a [KeySound]) -> (&'a KeySound, &'a KeySound) {
        let end = |n: Option<&usize>| &keys[n.copied().unwrap_or(self.nearest)];
        (end(self.places.first()), end(self.places.last()))
    }
}

/// Roots of what sounds on a key, strand by strand: none where nothing is known of it.
fn roots_on(program: &Program, sound: &KeySound) -> Vec<u8> {
    let sounds = program.regions.iter().filter(|region| {
        let strand = program.strand_of(region);
        let struck = strand.is_some_and(|of| !of.muted && matches!(of.on, On::KeyDown(_)));
        struck && region.when.keys.contains(sound.key) && region.when.strikes.contains(sound.strike)
    });
    sounds.map(|region| region.root_key).collect()
}

/// All that was heard, in such runs, strike by strike.
pub(crate) fn runs(keys: &[KeySound], program: &Program) -> Vec<Run> {
    let mut by_strike: BTreeMap<u8, Vec<(usize, Vec<u8>)>> = BTreeMap::new();
    for (n, sound) in keys.iter().enumerate() {
        let of_strike = by_strike.entry(sound.strike).or_default();
        of_strike.push((n, roots_on(program, sound)));
    }
    let mut all = Vec::new();
    for mut of_strike in by_strike.into_values() {
        of_strike.sort_by_key(|(n, _)| keys[*n].key);
        for run in of_strike.chunk_by(|(_, a), (_, b)| a == b && !a.is_empty()) {
            let off =
                |(n, roots): &&(usize, Vec<u8>)| roots.first().map_or(0, |root| root.abs_diff(keys[*n].key));
            all.extend(run.iter().min_by_key(off).map(|(nearest, _)| Run {
                places: run.iter().map(|(n, _)| *n).collect(),
                nearest: *nearest,
            }));
        }
    }
    all
}

/// What is expected of each of some keys, in their order. A recording that serves several keys counts once: else those would draw the curve to themselves.
pub fn expected(keys: &[KeySound], program: &Program) -> Vec<Expected> {
    let mut all = vec![Expected::default(); keys.len()];
    let runs = runs(keys, program);
    for of_strike in runs.chunk_by(|a, b| a.strike(keys) == b.strike(keys)) {
        let places = || of_strike.iter().flat_map(|run| run.places.iter().copied());
        let curve = |value: fn(&KeySound) -> Option<f64>| {
            let through = |places: &mut dyn Iterator<Item = usize>| {
                let points = places.map(|n| &keys[n]);
                let points = points.filter_map(|sound| Some((f64::from(sound.key), value(sound)?)));
                Some(Curve::through(points)).filter(|curve| curve.places() >= FEWEST_PLACES)
            };
            through(&mut of_strike.iter().map(|run| run.nearest)).or_else(|| through(&mut places()))
        };
        let level = curve(|sound| sound.level_dbfs);
        let cents = curve(|sound| sound.cents);
        let brightness = curve(|sound| sound.brightness_key);
        for n in places() {
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
    use program::Region;

    fn sound(key: u8, strike: u8) -> KeySound {
        KeySound {
            key,
            strike,
            level_dbfs: Some(-20.0 - f64::from(key) * 0.1 - if strike < 64 { 12.0 } else { 0.0 }),
            ..KeySound::default()
        }
    }

    #[test]
    fn a_key_that_steps_out_does_not_move_what_is_expected_of_it() {
        let mut keys: Vec<KeySound> = (40..=60)
            .flat_map(|key| [sound(key, 32), sound(key, 112)])
            .collect();
        keys[21].level_dbfs = Some(-9.0);
        let all = expected(&keys, &Program::default());
        assert_eq!(all[21].level_dbfs, Some(-25.0));
        assert_eq!(all[20].level_dbfs, Some(-37.0));
        assert_eq!((all[21].cents, all[21].brightness_key), (None, None));
        // Four keys are no curve.
        assert_eq!(expected(&keys[..8], &Program::default())[0], Expected::default());
    }

    #[test]
    fn a_recording_that_serves_five_keys_counts_once() {
        let regions = (0..7).map(|n| Region::whole(0, 44 + 5 * n, 1_000).on_keys(40 + 5 * n, 44 + 5 * n));
        let program = Program::plain("reeds", Vec::new(), regions.collect());
        let mut keys: Vec<KeySound> = (40..75).map(|key| sound(key, 112)).collect();
        for loud in &mut keys[15..20] {
            loud.level_dbfs = loud.level_dbfs.map(|db| db + 9.0);
        }
        let runs = runs(&keys, &program);
        assert_eq!(
            (runs.len(), runs[3].places.clone(), runs[3].nearest),
            (7, vec![15, 16, 17, 18, 19], 19)
        );
        for (sound, expected) in keys.iter().zip(expected(&keys, &program)) {
            let at = -20.0 - f64::from(sound.key) * 0.1;
            let off = expected.level_dbfs.unwrap() - at;
            assert!(off.abs() < 0.5, "{}: {off}", sound.key);
        }
    }
}
