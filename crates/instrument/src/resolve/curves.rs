//! Where an instrument's own tuning and loudness run along its ladder, so that a single fault is told from what is its nature.

use super::ResolvedTake;
use crate::{ANOTHER_NOTE_CENTS, Curve, LayerId, PassId};
use std::collections::BTreeMap;

/// Fewer rungs are no curve.
const FEWEST_RUNGS: usize = 5;

/// Tells every take where its pass's own tuning runs: a piano's stretch, an organ that is sharp throughout.
pub(super) fn tell_tuning(takes: &mut [ResolvedTake]) {
    let off = |take: &ResolvedTake| -> Option<f64> {
        let pitch = take.facts.as_ref()?.pitch?;
        // Another note says nothing of the instrument's tuning.
        let cents = (f64::from(pitch.key) - f64::from(take.recorded.cell.key)) * 100.0 + pitch.cents;
        (take.chosen && !take.correction.no_pitch && cents.abs() <= ANOTHER_NOTE_CENTS).then_some(cents)
    };
    let mut passes: Vec<PassId> = takes.iter().map(|take| take.recorded.cell.pass).collect();
    passes.sort_unstable();
    passes.dedup();
    for pass in passes {
        let of_pass = takes.iter().filter(|take| take.recorded.cell.pass == pass);
        let curve =
            Curve::through(of_pass.filter_map(|take| Some((f64::from(take.recorded.cell.key), off(take)?))));
        if curve.places() < FEWEST_RUNGS {
            continue;
        }
        for take in takes.iter_mut().filter(|take| take.recorded.cell.pass == pass) {
            take.curve_cents = Some((curve.at(f64::from(take.recorded.cell.key)) * 100.0).round() / 100.0);
        }
    }
}

/// Tells every take how loud its layer is around its key, as a smooth curve along the ladder.
pub(super) fn tell_levels(takes: &mut [ResolvedTake]) {
    let loudness = |take: &ResolvedTake| -> Option<f64> {
        let gain_db = take.treatment.as_ref()?.gain_db;
        Some(take.levels?.loudness_lufs? + gain_db).filter(|_| take.chosen)
    };
    let mut points: BTreeMap<(PassId, LayerId), Vec<(f64, f64)>> = BTreeMap::new();
    for take in takes.iter() {
        if let Some(lufs) = loudness(take) {
            let layer = points
                .entry((take.recorded.cell.pass, take.recorded.cell.layer))
                .or_default();
            layer.push((f64::from(take.recorded.cell.key), lufs));
        }
    }
    let curves: BTreeMap<(PassId, LayerId), Curve> = points
        .into_iter()
        .map(|(layer, points)| (layer, Curve::through(points)))
        .filter(|(_, curve)| curve.places() >= FEWEST_RUNGS)
        .collect();
    for take in takes {
        let curve = curves.get(&(take.recorded.cell.pass, take.recorded.cell.layer));
        take.curve_lufs =
            curve.map(|curve| (curve.at(f64::from(take.recorded.cell.key)) * 100.0).round() / 100.0);
    }
}
