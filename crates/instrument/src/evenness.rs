//! Evening many takes at once: their levels and their tuning, by a rule for all that are chosen.
//!
//! Each rule gives a value a take; putting them there is one command, undone as one.

use crate::{Cell, LayerId, PassId};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// How levels are evened.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LevelRule {
    /// Every take to one peak.
    Peak {
        /// That one.
        dbfs: f64,
    },
    /// Every take to one loudness.
    Loudness {
        /// That one.
        lufs: f64,
    },
    /// Every layer as a whole, by one gain, so that its loudest take has this peak: what differs inside it stays.
    LayerPeak {
        /// That peak.
        dbfs: f64,
    },
    /// Along the ladder: single steps are taken out, the instrument's own slope stays.
    Smooth,
}

/// A take whose level is evened.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LevelOf {
    /// Its number.
    pub take: u64,
    /// Its cell.
    pub cell: Cell,
    /// Before its gain.
    pub peak_dbfs: f64,
    /// Before its gain.
    pub loudness_lufs: f64,
}

/// A value that a rule gives a take.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Proposed {
    /// Its number.
    pub take: u64,
    /// dB or cents.
    pub value: f64,
}

/// Gains are kept inside what can be set by hand, and never make a take clip.
const GAINS_DB: (f64, f64) = (-96.0, 48.0);
const MOST_PEAK_DBFS: f64 = -0.1;

/// Gains by a rule. Of the difference between layers (their medians, by loudness) the share `layers_kept`, 0 to 1, stays where the
/// rule would take it away.
pub fn even_levels(rule: LevelRule, layers_kept: f64, takes: &[LevelOf]) -> Vec<Proposed> {
    let layers = by_layer(takes);
    let medians: BTreeMap<(PassId, LayerId), f64> = layers
        .iter()
        .map(|(layer, of)| (*layer, median(of.iter().map(|t| t.loudness_lufs).collect())))
        .collect();
    let loudest = medians.values().copied().fold(f64::NEG_INFINITY, f64::max);
    let curves: BTreeMap<(PassId, LayerId), Curve> = layers
        .iter()
        .map(|(layer, of)| {
            let points = of.iter().map(|t| (f64::from(t.cell.key), t.loudness_lufs));
            (*layer, Curve::through(points))
        })
        .collect();
    let gain_of = |take: &LevelOf| -> f64 {
        let layer = (take.cell.pass, take.cell.layer);
        // How far this layer should stay below the loudest.
        let below = (medians[&layer] - loudest) * layers_kept.clamp(0.0, 1.0);
        match rule {
            LevelRule::Peak { dbfs } => dbfs + below - take.peak_dbfs,
            LevelRule::Loudness { lufs } => lufs + below - take.loudness_lufs,
            LevelRule::LayerPeak { dbfs } => {
                let top = layers[&layer]
                    .iter()
                    .map(|t| t.peak_dbfs)
                    .fold(f64::NEG_INFINITY, f64::max);
                dbfs + below - top
            }
            LevelRule::Smooth => curves[&layer].at(f64::from(take.cell.key)) - take.loudness_lufs,
        }
    };
    takes
        .iter()
        .map(|take| {
            let (least, most) = GAINS_DB;
            let gain = gain_of(take)
                .min(MOST_PEAK_DBFS - take.peak_dbfs)
                .clamp(least, most);
            Proposed {
                take: take.take,
                value: (gain * 100.0).round() / 100.0,
            }
        })
        .collect()
}

/// A set of fewer takes says nothing of how it was made.
const FEWEST_NORMALISED: usize = 6;
/// Peaks of a set that was normalised lie within this, in dB, but for a tenth of them at either end.
const NORMALISED_WITHIN_DB: f64 = 0.3;

/// Whether takes were brought to one peak, each by itself, before they came here: what was recorded in one go never is so even.
pub fn is_normalised(takes: &[LevelOf]) -> bool {
    let mut peaks: Vec<f64> = takes.iter().map(|take| take.peak_dbfs).collect();
    peaks.sort_by(f64::total_cmp);
    let off = peaks.len() / 10;
    peaks.len() >= FEWEST_NORMALISED && peaks[peaks.len() - 1 - off] - peaks[off] <= NORMALISED_WITHIN_DB
}

/// Gains that bring a normalised set back onto one curve along the ladder, all lowered together so that none clips.
pub fn even_normalised(takes: &[LevelOf]) -> Vec<Proposed> {
    let curves: BTreeMap<(PassId, LayerId), Curve> = by_layer(takes)
        .into_iter()
        .map(|(layer, of)| {
            let points = of.iter().map(|t| (f64::from(t.cell.key), t.loudness_lufs));
            (layer, Curve::through(points))
        })
        .collect();
    let gain_of = |take: &LevelOf| {
        let curve = &curves[&(take.cell.pass, take.cell.layer)];
        curve.at(f64::from(take.cell.key)) - take.loudness_lufs
    };
    let over = takes
        .iter()
        .map(|take| gain_of(take) + take.peak_dbfs - MOST_PEAK_DBFS)
        .fold(0.0, f64::max);
    takes
        .iter()
        .map(|take| Proposed {
            take: take.take,
            value: ((gain_of(take) - over).clamp(GAINS_DB.0, GAINS_DB.1) * 100.0).round() / 100.0,
        })
        .collect()
}

fn by_layer(takes: &[LevelOf]) -> BTreeMap<(PassId, LayerId), Vec<&LevelOf>> {
    let mut layers: BTreeMap<(PassId, LayerId), Vec<&LevelOf>> = BTreeMap::new();
    for take in takes {
        layers
            .entry((take.cell.pass, take.cell.layer))
            .or_default()
            .push(take);
    }
    layers
}

/// How takes are tuned on playing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TuningRule {
    /// Every take to equal temperament.
    Equal,
    /// To the ladder's own curve: single faults are taken out, a piano's stretch or an organ that is sharp throughout stays.
    OwnCurve,
    /// As it was recorded.
    AsRecorded,
}

/// A take that is tuned.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TuningOf {
    /// Its number.
    pub take: u64,
    /// The root it stands on.
    pub root_key: u8,
    /// How far the recording lies above it.
    pub recording_cents: f64,
}

/// Cents that are added on playing, beyond what corrects the recording: the truth about the recording stays what it is.
pub fn tune(rule: TuningRule, takes: &[TuningOf]) -> Vec<Proposed> {
    let curve = Curve::through(
        takes
            .iter()
            .map(|take| (f64::from(take.root_key), take.recording_cents)),
    );
    takes
        .iter()
        .map(|take| {
            let cents = match rule {
                TuningRule::Equal => 0.0,
                TuningRule::AsRecorded => take.recording_cents,
                TuningRule::OwnCurve => curve.at(f64::from(take.root_key)),
            };
            Proposed {
                take: take.take,
                value: (cents * 100.0).round() / 100.0,
            }
        })
        .collect()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    match values.len() {
        0 => 0.0,
        n if n % 2 == 1 => values[n / 2],
        n => f64::midpoint(values[n / 2 - 1], values[n / 2]),
    }
}

/// Neighbours that a point of the curve is drawn from, and how often outliers are weighted down.
const NEIGHBOURS: usize = 9;
const ROUNDS: usize = 4;
/// In decibels or cents: what is closer than this is no outlier.
const LEAST_SPREAD: f64 = 0.1;

/// A robust smooth curve through points: locally weighted straight lines with tricube weights, outliers weighted down by
/// bisquare over six median deviations (W. S. Cleveland, J. Am. Stat. Assoc. 74, 1979). Several points at one place count as their median, so that
/// neighbours are other places.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Curve {
    points: Vec<(f64, f64)>,
    robust: Vec<f64>,
}

impl Curve {
    /// Through points `(x, y)` in any order.
    pub fn through(points: impl IntoIterator<Item = (f64, f64)>) -> Self {
        let mut all: Vec<(f64, f64)> = points.into_iter().collect();
        all.sort_by(|a, b| a.0.total_cmp(&b.0));
        let points: Vec<(f64, f64)> = all
            .chunk_by(|a, b| a.0 == b.0)
            .map(|of| (of[0].0, median(of.iter().map(|(_, y)| *y).collect())))
            .collect();
        let mut robust = vec![1.0; points.len()];
        for _ in 0..ROUNDS {
            let off: Vec<f64> = points
                .iter()
                .map(|(at, y)| y - local_line(&points, &robust, *at))
                .collect();
            // Where most lie on the curve exactly, the others are outliers all the same.
            let spread = (6.0 * median(off.iter().map(|o| o.abs()).collect())).max(LEAST_SPREAD);
            robust = off
                .iter()
                .map(|o| (1.0 - (o / spread).powi(2)).max(0.0).powi(2))
                .collect();
        }
        Self { points, robust }
    }

    /// How many places it is drawn through.
    pub fn places(&self) -> usize {
        self.points.len()
    }

    /// Its height at `x`; 0 where it goes through nothing.
    pub fn at(&self, x: f64) -> f64 {
        if self.points.is_empty() {
            return 0.0;
        }
        local_line(&self.points, &self.robust, x)
    }
}

fn local_line(points: &[(f64, f64)], robust: &[f64], x: f64) -> f64 {
    let mut distances: Vec<f64> = points.iter().map(|(at, _)| (at - x).abs()).collect();
    distances.sort_by(f64::total_cmp);
    let reach = distances
        .get(NEIGHBOURS.min(points.len()).saturating_sub(1))
        .copied()
        .unwrap_or(0.0)
        .max(1.0)
        * 1.01;
    let (mut w, mut wx, mut wy, mut wxx, mut wxy) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for ((at, y), robust) in points.iter().zip(robust) {
        let distance = ((at - x).abs() / reach).min(1.0);
        let weight = (1.0 - distance.powi(3)).powi(3) * robust;
        let at = at - x;
        w += weight;
        wx += weight * at;
        wy += weight * y;
        wxx += weight * at * at;
        wxy += weight * at * y;
    }
    if w <= 0.0 {
        return median(points.iter().map(|(_, y)| *y).collect());
    }
    let determinant = w * wxx - wx * wx;
    if determinant.abs() < 1e-9 * w * w {
        return wy / w;
    }
    (wxx * wy - wx * wxy) / determinant
}

#[cfg(test)]
mod tests {
    use super::*;

    fn take(n: u64, key: u8, layer: u64, loudness: f64) -> LevelOf {
        LevelOf {
            take: n,
            cell: Cell {
                pass: PassId(0),
                key,
                layer: LayerId(layer),
                round_robin: 0,
            },
            peak_dbfs: loudness + 10.0,
            loudness_lufs: loudness,
        }
    }

    fn gains(rule: LevelRule, kept: f64, takes: &[LevelOf]) -> Vec<f64> {
        even_levels(rule, kept, takes).iter().map(|p| p.value).collect()
    }

    #[test]
    fn a_normalised_set_is_told_and_brought_back_onto_its_curve() {
        // Twelve keys whose loudness falls by a dB each, two of them brought up: all with their peak at full scale.
        let takes: Vec<LevelOf> = (0u8..12)
            .map(|n| LevelOf {
                take: n.into(),
                cell: Cell {
                    pass: PassId(0),
                    key: 48 + n,
                    layer: LayerId(0),
                    round_robin: 0,
                },
                peak_dbfs: -0.02 * f64::from(n % 3),
                loudness_lufs: -12.0 - f64::from(n) + if n == 4 || n == 9 { 5.0 } else { 0.0 },
            })
            .collect();
        assert!(is_normalised(&takes));
        let gains = even_normalised(&takes);
        let after: Vec<f64> = takes
            .iter()
            .zip(&gains)
            .map(|(t, g)| t.loudness_lufs + g.value)
            .collect();
        for pair in after.windows(2) {
            assert!((pair[0] - pair[1] - 1.0).abs() < 0.2, "{after:?}");
        }
        assert!(
            takes
                .iter()
                .zip(&gains)
                .all(|(t, g)| t.peak_dbfs + g.value <= MOST_PEAK_DBFS + 0.01)
        );
        // As recorded their peaks differ; and few say nothing.
        let recorded: Vec<LevelOf> = takes
            .iter()
            .map(|take| LevelOf {
                peak_dbfs: take.loudness_lufs + 9.0,
                ..*take
            })
            .collect();
        assert!(!is_normalised(&recorded) && !is_normalised(&takes[..5]));
    }

    #[test]
    fn takes_go_to_one_level_and_layers_keep_their_difference() {
        let takes = [
            take(1, 60, 0, -40.0),
            take(2, 64, 0, -36.0),
            take(3, 60, 1, -20.0),
            take(4, 64, 1, -24.0),
        ];
        assert_eq!(
            gains(LevelRule::Loudness { lufs: -30.0 }, 0.0, &takes),
            [10.0, 6.0, -10.0, -6.0]
        );
        // Medians are −38 and −22: half of the 16 dB between them stays.
        assert_eq!(
            gains(LevelRule::Loudness { lufs: -30.0 }, 0.5, &takes),
            [2.0, -2.0, -10.0, -6.0]
        );
        assert_eq!(
            gains(LevelRule::Peak { dbfs: -12.0 }, 0.0, &takes),
            [18.0, 14.0, -2.0, 2.0]
        );
        // As a whole: the louder of each layer reaches the peak, the other stays 4 dB below it.
        assert_eq!(
            gains(LevelRule::LayerPeak { dbfs: -12.0 }, 0.0, &takes),
            [14.0, 14.0, -2.0, -2.0]
        );
        // No gain makes a take clip.
        assert_eq!(gains(LevelRule::Loudness { lufs: 0.0 }, 0.0, &takes)[2], 9.9);
    }

    #[test]
    fn a_single_step_is_taken_out_and_the_slope_stays() {
        // A third of a dB softer each key, and one rung 6 dB too loud.
        let takes: Vec<LevelOf> = (0..13u8)
            .map(|n| {
                take(
                    u64::from(n),
                    48 + n,
                    0,
                    -30.0 - f64::from(n) / 3.0 + if n == 6 { 6.0 } else { 0.0 },
                )
            })
            .collect();
        for (n, gain) in gains(LevelRule::Smooth, 1.0, &takes).into_iter().enumerate() {
            let expected = if n == 6 { -6.0 } else { 0.0 };
            assert!((gain - expected).abs() < 0.3, "{n}: {gain}");
        }
    }

    #[test]
    fn a_rung_that_is_wrong_in_every_layer_does_not_bend_the_curve() {
        // Eight takes a rung, 6 cents sharp throughout; one rung 30 cents flat in all of them.
        let points = (48..72u8).flat_map(|key| {
            let cents = if key == 60 { -30.0 } else { 6.0 };
            (0..8u8).map(move |n| (f64::from(key), cents + f64::from(n) * 0.05))
        });
        let curve = Curve::through(points);
        assert_eq!(curve.places(), 24);
        for key in 48..72u8 {
            assert!(
                (curve.at(f64::from(key)) - 6.2).abs() < 0.5,
                "{key}: {}",
                curve.at(f64::from(key))
            );
        }
        assert_eq!(Curve::through([]).at(60.0), 0.0);
    }

    #[test]
    fn the_ladders_own_tuning_is_told_from_a_single_fault() {
        // An organ 8 cents sharp throughout, one reed 25 flat.
        let takes: Vec<TuningOf> = (0..13u8)
            .map(|n| TuningOf {
                take: u64::from(n),
                root_key: 48 + n,
                recording_cents: if n == 4 {
                    -25.0
                } else {
                    8.0 + f64::from(n % 2) * 0.4
                },
            })
            .collect();
        let own = tune(TuningRule::OwnCurve, &takes);
        assert!(own.iter().all(|p| (p.value - 8.2).abs() < 0.5), "{own:?}");
        assert!(tune(TuningRule::Equal, &takes).iter().all(|p| p.value == 0.0));
        assert_eq!(tune(TuningRule::AsRecorded, &takes)[4].value, -25.0);
        assert!(tune(TuningRule::OwnCurve, &[]).is_empty());
    }
}
