//! Steps that add an effect at the end of the row of the whole: a chorus, a tone, a width.

use super::{Plays, Search, Trial, Wanted, rounded, wish};
use crate::mends::signed;
use crate::source::Nearer;
use instrument::{EFFECT_SETTINGS, Fact, Target, Wish};
use nalgebra::{Matrix3, Vector3};
use program::{BusId, EffectKind};
use serde_json::json;
use signal::{THIRD_OCTAVES, third_octave_hz};

/// A tone that is tried, to hear what each of its bands does.
const TRIED_DB: f64 = 4.0;
/// No band of a tone is moved further.
const MOST_TONE_DB: f64 = 15.0;
/// Where two bands of a tone do the same, neither is moved far: so much is added to the diagonal of what is solved.
const DAMPED: f64 = 0.02;
/// Movement that differs by less is no reason for a chorus, width no reason for another, in dB.
const LEAST_MOVES_DB: f64 = 0.4;
const LEAST_SIDE_DB: f64 = 0.7;

/// In the order of [`program::EffectKind::settings`]: rate, depth, how much of it, around what delay, voices.
type Chorus = [f64; 5];

impl<P: Plays> Search<'_, P> {
    /// A row of the whole with one more effect at its end, set to some of its values.
    fn effect(&self, kind: EffectKind, settings: &[f64]) -> Vec<Wish> {
        let row = self.program.buses.iter().find(|bus| bus.id == BusId::WHOLE);
        let known = row
            .into_iter()
            .flat_map(|row| &row.effects)
            .map(|effect| effect.id.0);
        let added = self.wishes.iter().filter(|wish| wish.fact == Fact::EffectKind);
        let target = Target::Effect(BusId::WHOLE, 1 + known.max().unwrap_or(0) + added.count() as u64);
        let set = EFFECT_SETTINGS.iter().zip(settings);
        let settings = set.map(|(fact, value)| wish(target, *fact, json!(rounded(*value, 100.0))));
        std::iter::once(wish(target, Fact::EffectKind, json!(kind)))
            .chain(settings)
            .collect()
    }

    /// A chorus, where the source moves more: how deep around what delay from afar, then one setting of the best after another.
    pub(super) fn chorus(&mut self) -> Result<Option<Trial>, P::Error> {
        const AROUND_MS: [f64; 8] = [3.0, 4.5, 6.0, 7.5, 9.0, 11.0, 14.0, 18.0];
        const DEEP_MS: [f64; 4] = [0.8, 1.5, 2.5, 4.5];
        /// Which setting, and by what it is multiplied.
        const NEAR: [(usize, &[f64]); 7] = [
            (0, &[0.4, 0.6, 0.8, 1.25, 1.6, 2.5]),
            (2, &[0.6, 0.8, 0.9, 1.1, 1.3]),
            (3, &[0.88, 0.92, 0.96, 1.04, 1.08, 1.12]),
            (1, &[0.7, 0.85, 1.15, 1.3]),
            (0, &[0.7, 0.85, 1.15, 1.3]),
            (3, &[0.96, 0.98, 1.02, 1.04]),
            (2, &[0.9, 0.95, 1.05, 1.1]),
        ];
        if self.mean(|apart| Some(apart.moves_db)).unwrap_or(0.0) < LEAST_MOVES_DB {
            return Ok(None);
        }
        let mut all: Vec<Chorus> = Vec::new();
        for voices in [0.0, 1.0] {
            for around in AROUND_MS {
                let deep = DEEP_MS.into_iter().filter(|deep| *deep < around);
                all.extend(deep.map(|deep| [0.7, deep, 45.0, around, voices]));
            }
        }
        let Some(mut best) = self.nearest_chorus(&all)? else {
            return Ok(None);
        };
        for (place, shares) in NEAR {
            let mut near = vec![best];
            near.extend(shares.iter().map(|share| {
                let mut near = best;
                near[place] = rounded(best[place] * share, 100.0);
                near
            }));
            best = self.nearest_chorus(&near)?.unwrap_or(best);
        }
        // Depth and delay hang on each other most: at last both at once.
        let shares = |by: f64| [1.0 - 2.0 * by, 1.0 - by, 1.0, 1.0 + by, 1.0 + 2.0 * by];
        let mut near = vec![best];
        for deep in shares(0.12) {
            near.extend(shares(0.02).map(|around| {
                let [hz, was_deep, share, was_around, voices] = best;
                [
                    hz,
                    rounded(was_deep * deep, 100.0),
                    share,
                    rounded(was_around * around, 100.0),
                    voices,
                ]
            }));
        }
        best = self.nearest_chorus(&near)?.unwrap_or(best);
        let trial = self.chorus_of(&best);
        self.best(Nearer::Chorus, vec![trial])
    }

    fn chorus_of(&self, settings: &Chorus) -> Trial {
        let [hz, deep, share, around, _] = settings;
        Trial {
            says: format!("a chorus of {hz} Hz, {deep} ms deep around {around} ms, {share:.0} % of it"),
            wishes: self.effect(EffectKind::Chorus, settings),
        }
    }

    /// The nearest of some choruses, by notes and chords at the harder of their strikes: there is more to hear in them.
    fn nearest_chorus(&mut self, all: &[Chorus]) -> Result<Option<Chorus>, P::Error> {
        let hardest = |keys: &[u8]| {
            let same = self.passages.iter().filter(|other| other.keys == keys);
            same.map(|other| other.strike).max()
        };
        let wanted: Vec<bool> = (self.passages.iter().zip(&self.finds))
            .map(|(passage, finds)| *finds && hardest(&passage.keys) == Some(passage.strike))
            .collect();
        let with: Vec<Vec<Wish>> = all
            .iter()
            .map(|one| self.over_now(&self.chorus_of(one)))
            .collect();
        let wanted = Wanted {
            passages: &wanted,
            pitch: false,
        };
        let sounds = self.plays.sounds(&with, wanted)?;
        let figures =
            (all.iter().zip(&sounds)).map(|(one, sounds)| (self.figure(Nearer::Chorus, sounds, false), *one));
        Ok(figures.min_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, one)| one))
    }

    pub(super) fn width(&mut self) -> Result<Option<Trial>, P::Error> {
        let wider = self.mean(|apart| Some(apart.side_db)).unwrap_or(0.0);
        if wider.abs() < LEAST_SIDE_DB {
            return Ok(None);
        }
        let whole = 100.0 * 10f64.powf(wider / 20.0);
        let trials = [0.7, 1.0, 1.3].map(|share| {
            let percent = (100.0 + (whole - 100.0) * share).clamp(0.0, 200.0);
            Trial {
                says: format!("sides {percent:.0} % as wide"),
                wishes: self.effect(EffectKind::Width, &[percent]),
            }
        });
        self.best(Nearer::Width, trials.into())
    }

    /// An equaliser: what each of its bands does is heard, and least squares tell how much of each.
    pub(super) fn tone(&mut self) -> Result<Option<Trial>, P::Error> {
        let wanted = self.bands(&self.now);
        let known = || (0..THIRD_OCTAVES).filter(|band| wanted[*band].is_some());
        let Some((first, last)) = known().next().zip(known().next_back()) else {
            return Ok(None);
        };
        let at = |share: f64| {
            third_octave_hz(first) * (third_octave_hz(last) / third_octave_hz(first)).powf(share)
        };
        let places = [
            at(0.2).clamp(20.0, 2_000.0),
            at(0.5).clamp(50.0, 16_000.0),
            at(0.8).clamp(500.0, 18_000.0),
        ];
        let tried = [0, 1, 2].map(|n| {
            let mut gains = [0.0; 3];
            gains[n] = TRIED_DB;
            self.over_now(&self.tone_of(gains, places))
        });
        let finds = Wanted {
            passages: &self.finds,
            pitch: false,
        };
        let sounds = self.plays.sounds(&tried, finds)?;
        // What a band does to each third of an octave, by dB of it, level aside.
        let does: Vec<[Option<f64>; THIRD_OCTAVES]> =
            sounds.iter().map(|sounds| self.bands(sounds)).collect();
        let rows = known().filter_map(|band| {
            let wanted = wanted[band]?;
            let row: Option<Vec<f64>> = does
                .iter()
                .map(|does| Some((wanted - does[band]?) / TRIED_DB))
                .collect();
            Some((Vector3::from_vec(row?), wanted))
        });
        let Some(gains) = least_squares(rows) else {
            return Ok(None);
        };
        let trials = [0.6, 0.85, 1.0].map(|share| {
            let to = |db: f64| rounded((db * share).clamp(-MOST_TONE_DB, MOST_TONE_DB), 10.0);
            self.tone_of([to(gains[0]), to(gains[1]), to(gains[2])], places)
        });
        self.best(Nearer::Tone, trials.into())
    }

    fn tone_of(&self, gains: [f64; 3], places: [f64; 3]) -> Trial {
        let [low, middle, high] = places.map(f64::round);
        let settings = [gains[0], low, gains[1], middle, 0.6, gains[2], high];
        Trial {
            says: format!(
                "a tone of {} dB at {low} Hz, {} dB at {middle} Hz and {} dB at {high} Hz",
                signed(gains[0], 1),
                signed(gains[1], 1),
                signed(gains[2], 1)
            ),
            wishes: self.effect(EffectKind::Equaliser, &settings),
        }
    }
}

/// What times three columns comes nearest to what is wanted, by the normal equations; `None` where the columns tell nothing.
fn least_squares(rows: impl Iterator<Item = (Vector3<f64>, f64)>) -> Option<Vector3<f64>> {
    let (mut left, mut right) = (Matrix3::identity() * DAMPED, Vector3::zeros());
    for (row, wanted) in rows {
        left += row * row.transpose();
        right += row * wanted;
    }
    Some(left.cholesky()?.solve(&right))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn three_columns_are_fitted() {
        let rows = (0..12).map(|n| {
            let n = f64::from(n);
            let row = Vector3::new(1.0 / (1.0 + n), (n * 0.7).sin(), n / 12.0);
            (row, 3.0 * row[0] - 2.0 * row[1] + 5.0 * row[2])
        });
        let found = least_squares(rows).unwrap();
        assert!((found - Vector3::new(3.0, -2.0, 5.0)).amax() < 0.15, "{found}");
        assert_eq!(least_squares(std::iter::empty()), Some(Vector3::zeros()));
    }
}
