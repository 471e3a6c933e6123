//! The room's noise floor, over which a strike stands out and into which a tail sinks.

use crate::silence::check_silence;
use instrument::SoundCheck;
use signal::{Audio, amplitude_to_db, db_to_amplitude};

const ASSUMED_DBFS: f64 = -90.0;
/// A strike stands out from the floor by this.
const STRIKE_DB: f64 = 12.0;
/// What is over the floor by no more than this is gone.
const GONE_DB: f64 = 2.0;
/// What varies by more than this is not silence.
const STEADY_DB: f64 = 6.0;
/// A room that is quieter than its floor by this for so many windows has another floor.
const LOWER_DB: f64 = 6.0;
const LOWER_WINDOWS: u32 = 15;

/// As it is known so far.
pub(super) struct Floor {
    /// Linear, full scale 1.
    rms: f64,
    lower: u32,
}

impl Floor {
    /// Before anything was heard.
    pub(super) fn assumed() -> Self {
        Self {
            rms: db_to_amplitude(ASSUMED_DBFS),
            lower: 0,
        }
    }

    /// In dBFS.
    pub(super) fn dbfs(&self) -> f64 {
        amplitude_to_db(self.rms)
    }

    /// What is over this is a strike.
    pub(super) fn strike(&self) -> f64 {
        self.rms * db_to_amplitude(STRIKE_DB)
    }

    /// Whether a window of this RMS has sunk into it.
    pub(super) fn is_gone(&self, rms: f64) -> bool {
        rms <= self.rms * db_to_amplitude(GONE_DB)
    }

    /// Measures it in a silence; `None` where something still sounds in it, unless the quietest of it has to do.
    pub(super) fn measure(&mut self, silence: &Audio, has_to_do: bool) -> Option<SoundCheck> {
        let (quiet, steady) = quietest(silence);
        if !steady && !has_to_do {
            // A floor measured now would hide every strike.
            return None;
        }
        let mut check = check_silence(&quiet);
        check.noise_floor_dbfs = signal::rms_dbfs(&quiet).max(ASSUMED_DBFS);
        self.rms = db_to_amplitude(check.noise_floor_dbfs);
        Some(check.judged())
    }

    /// Hears one window more; whether the floor is lower by now: what was taken for it may have been a tail, or a lorry that has gone by.
    pub(super) fn sinks(&mut self, rms: f64, listens: bool) -> bool {
        self.lower = if rms < self.rms * db_to_amplitude(-LOWER_DB) {
            self.lower + 1
        } else {
            0
        };
        let sinks = self.lower >= LOWER_WINDOWS && listens;
        if sinks {
            self.lower = 0;
            self.rms = rms.max(db_to_amplitude(ASSUMED_DBFS));
        }
        sinks
    }
}

/// The quietest fifth of a stretch, and whether the whole of it is about as quiet.
fn quietest(audio: &Audio) -> (Audio, bool) {
    let part = audio.frames() / 5;
    let mut parts: Vec<(f64, Audio)> = (0..5)
        .map(|n| audio.slice(n * part, (n + 1) * part))
        .map(|part| (signal::rms_dbfs(&part).max(ASSUMED_DBFS), part))
        .collect();
    parts.sort_by(|a, b| a.0.total_cmp(&b.0));
    let steady = parts[4].0 - parts[0].0 < STEADY_DB;
    (parts.swap_remove(0).1, steady)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_floor_that_was_a_tail_is_lowered_once_it_is_gone() {
        let mut floor = Floor::assumed();
        let hum = |level: f32| -> Audio {
            let wave =
                (0..24_000).map(|n| (n as f32 * std::f32::consts::TAU * 50.0 / 48_000.0).sin() * level);
            Audio::mono(48_000, wave.collect())
        };
        let dies: Vec<f32> = (0..24_000)
            .map(|n| 0.5f32.powf(n as f32 / 2_000.0) * 0.1)
            .collect();
        assert_eq!(floor.measure(&Audio::mono(48_000, dies), false), None);
        floor.measure(&hum(0.01), false).expect("a floor");
        assert!((floor.dbfs() + 43.0).abs() < 0.1, "{}", floor.dbfs());
        assert!(floor.is_gone(0.008) && !floor.is_gone(0.02) && floor.strike() < 0.03);
        // A quarter of it: fifteen windows of 20 ms, and only while it listens.
        let sinks = (0..20).filter(|_| floor.sinks(0.001_7, false)).count();
        assert_eq!(sinks, 0);
        assert!(floor.sinks(0.001_7, true));
        assert!((floor.dbfs() + 55.4).abs() < 0.1, "{}", floor.dbfs());
    }
}
