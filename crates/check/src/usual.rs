//! What stands out of a set that is uneven by itself.

/// By how many times their usual distance from a curve something stands out.
const OUT_OF_USUAL: f64 = 2.0;
/// A median distance is that of a normal spread by this (the inverse of its third quartile).
const OF_NORMAL: f64 = 1.4826;

/// Beyond which distance something stands out, of the distances of all.
pub(crate) fn out_of_usual(off: impl Iterator<Item = f64>) -> f64 {
    let mut distances: Vec<f64> = off.map(f64::abs).collect();
    distances.sort_by(f64::total_cmp);
    let median = distances.get(distances.len() / 2).copied().unwrap_or(0.0);
    median * OF_NORMAL * OUT_OF_USUAL
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_a_normal_spread_it_is_twice_its_deviation() {
        // Quartiles of the normal distribution lie 0.6745 deviations from its middle.
        let off = [-2.0, -0.6745, -0.3, 0.3, 0.6745, 1.0, -1.2];
        assert!((out_of_usual(off.into_iter()) - 2.0).abs() < 1e-3);
        assert_eq!(out_of_usual(std::iter::empty()), 0.0);
    }
}
