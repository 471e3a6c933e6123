//! How loud takes of each strength were so far: what the next one of it should lie between.

use std::collections::BTreeMap;

/// Takes of one layer lie within this of their median: common practice.
const WINDOW_DB: f64 = 7.0;
/// What may be in a layer of which nothing was heard yet.
pub(super) const ANY_LEVEL_DBFS: (f64, f64) = (-50.0, -0.2);

/// Peaks of good takes in dBFS, by the velocity that they were struck with.
#[derive(Default)]
pub(super) struct Levels(BTreeMap<u8, Vec<f64>>);

impl Levels {
    /// Of takes that are there already: their velocities and peaks.
    pub(super) fn of(heard: &[(u8, f64)]) -> Self {
        let mut levels = Self::default();
        for (velocity, peak_dbfs) in heard {
            levels.keep(*velocity, *peak_dbfs);
        }
        levels
    }

    /// One more.
    pub(super) fn keep(&mut self, velocity: u8, peak_dbfs: f64) {
        self.0.entry(velocity).or_default().push(peak_dbfs);
    }

    /// Peaks that fit a strength: around those kept of it, else between its neighbours'.
    pub(super) fn window_of(&self, velocity: u8) -> (f64, f64) {
        let (lowest, highest) = ANY_LEVEL_DBFS;
        if let Some(own) = self.0.get(&velocity).filter(|own| own.len() > 1) {
            let own = median(own);
            return (own - WINDOW_DB, (own + WINDOW_DB).min(highest));
        }
        let softer = self.0.range(..velocity).next_back();
        let louder = self.0.range(velocity.saturating_add(1)..).next();
        (
            softer.map_or(lowest, |(_, peaks)| median(peaks)),
            louder.map_or(highest, |(_, peaks)| median(peaks)),
        )
    }
}

fn median(peaks: &[f64]) -> f64 {
    let mut peaks = peaks.to_vec();
    peaks.sort_by(f64::total_cmp);
    peaks[peaks.len() / 2]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_strength_lies_around_its_own_takes_else_between_its_neighbours() {
        let none = Levels::default();
        assert_eq!(none.window_of(80), ANY_LEVEL_DBFS);
        let levels = Levels::of(&[(40, -30.0), (40, -28.0), (40, -33.0), (110, -6.0)]);
        assert_eq!(levels.window_of(40), (-37.0, -23.0));
        assert_eq!(levels.window_of(80), (-30.0, -6.0));
        // One take of its own is not enough to go by.
        assert_eq!(levels.window_of(110), (-30.0, -0.2));
    }
}
