//! What is loud is lowered: by a ratio, or to a limit. Both sides alike, so that nothing moves.

use crate::{Process, Settings, gain, keeps};

/// Around where it begins, the ratio comes in over so many dB.
const KNEE_DB: f64 = 6.0;
/// Softer is nothing.
const FLOOR: f32 = 1e-6;

/// Feed-forward, in dB, with a soft knee (Giannoulis, Massberg and Reiss, *Digital Dynamic Range Compressor Design*, JAES 60, 2012, equations 4 and 17).
#[derive(Debug)]
pub(crate) struct Compressor {
    rate_hz: f64,
    over_db: f64,
    ratio: f64,
    attack: f64,
    release: f64,
    /// A block ago, and now.
    made_up_db: (f64, f64),
    /// By how much it lowers now.
    lowers_db: f64,
}

impl Compressor {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            over_db: 0.0,
            ratio: 1.0,
            attack: 0.0,
            release: 0.0,
            made_up_db: (0.0, 0.0),
            lowers_db: 0.0,
        }
    }

    /// By how much a level is to be lowered, in dB.
    fn lowered_db(&self, db: f64) -> f64 {
        let over = db - self.over_db;
        let share = 1.0 - 1.0 / self.ratio;
        if 2.0 * over <= -KNEE_DB {
            0.0
        } else if 2.0 * over < KNEE_DB {
            share * (over + KNEE_DB / 2.0) * (over + KNEE_DB / 2.0) / (2.0 * KNEE_DB)
        } else {
            share * over
        }
    }
}

impl Process for Compressor {
    fn set(&mut self, settings: &Settings, _: f64) {
        let [over_db, ratio, attack, release, made_up_db, ..] = *settings;
        (self.over_db, self.ratio, self.made_up_db.1) = (over_db, ratio, made_up_db);
        self.attack = keeps(attack, self.rate_hz);
        self.release = keeps(release, self.rate_hz);
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let (mut made_up_db, to_db) = self.made_up_db;
        let by_db = (to_db - made_up_db) / left.len().max(1) as f64;
        self.made_up_db.0 = to_db;
        for (left, right) in left.iter_mut().zip(right) {
            made_up_db += by_db;
            let loud = left.abs().max(right.abs());
            let wanted = if loud > FLOOR {
                self.lowered_db(20.0 * f64::from(libm::log10f(loud)))
            } else {
                0.0
            };
            let keeps = if wanted > self.lowers_db {
                self.attack
            } else {
                self.release
            };
            self.lowers_db = wanted + (self.lowers_db - wanted) * keeps;
            let by = gain(made_up_db - self.lowers_db) as f32;
            *left *= by;
            *right *= by;
        }
    }

    fn clear(&mut self) {
        self.lowers_db = 0.0;
        self.made_up_db.0 = self.made_up_db.1;
    }
}

/// Nothing is louder than a limit: at once, and coming back gradually.
#[derive(Debug)]
pub(crate) struct Limiter {
    rate_hz: f64,
    /// A block ago, and now; nothing where it has not begun.
    limit: (f32, f32),
    release: f32,
    gain: f32,
}

impl Limiter {
    pub(crate) fn new(rate_hz: f64) -> Self {
        Self {
            rate_hz,
            limit: (0.0, 1.0),
            release: 0.0,
            gain: 1.0,
        }
    }
}

impl Process for Limiter {
    fn set(&mut self, settings: &Settings, _: f64) {
        self.limit.1 = gain(settings[0]) as f32;
        if self.limit.0 == 0.0 {
            self.limit.0 = self.limit.1;
        }
        self.release = keeps(settings[1], self.rate_hz) as f32;
    }

    fn run(&mut self, left: &mut [f32], right: &mut [f32]) {
        let (mut limit, to) = self.limit;
        let by = (to - limit) / left.len().max(1) as f32;
        self.limit.0 = to;
        for (left, right) in left.iter_mut().zip(right) {
            limit += by;
            let loud = left.abs().max(right.abs());
            self.gain = 1.0 + (self.gain - 1.0) * self.release;
            if loud * self.gain > limit {
                self.gain = limit / loud;
            }
            // To rounding.
            *left = (*left * self.gain).clamp(-limit, limit);
            *right = (*right * self.gain).clamp(-limit, limit);
        }
    }

    fn clear(&mut self) {
        self.gain = 1.0;
        self.limit.0 = 0.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Far over where it begins, a level rises by a dB for as many as the ratio says.
    #[test]
    fn a_ratio_is_what_it_is_called() {
        let level_out = |db: f64| {
            let mut compressor = Compressor::new(48_000.0);
            compressor.set(&[-30.0, 4.0, 1.0, 50.0, 0.0, 0.0, 0.0, 0.0], 120.0);
            let mut out = 0.0;
            for _ in 0..3_000 {
                let (mut left, mut right) = ([gain(db) as f32; 32], [gain(db) as f32; 32]);
                compressor.run(&mut left, &mut right);
                out = f64::from(left[31]);
            }
            20.0 * out.log10()
        };
        assert!((level_out(-40.0) + 40.0).abs() < 0.01);
        assert!((level_out(-2.0) - level_out(-10.0) - 2.0).abs() < 0.01);
        assert!((level_out(-10.0) - (-30.0 + 20.0 / 4.0)).abs() < 0.01);
    }

    #[test]
    fn nothing_comes_over_a_limit() {
        let mut limiter = Limiter::new(48_000.0);
        limiter.set(&[-6.0, 8.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0], 120.0);
        let most = gain(-6.0) as f32;
        for n in 0..400 {
            let loud = if n % 50 < 10 { 3.0 } else { 0.2 };
            let mut left: Vec<f32> = (0..32)
                .map(|i| loud * ((n * 32 + i) as f32 * 0.3).sin())
                .collect();
            let mut right = left.clone();
            limiter.run(&mut left, &mut right);
            assert!(left.iter().all(|x| x.abs() <= most));
            // What is soft is itself again once it has come back.
            if n % 50 == 49 {
                assert!((limiter.gain - 1.0).abs() < 0.05, "{}", limiter.gain);
            }
        }
    }
}
