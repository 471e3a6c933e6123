//! What is wrong with takes beside their neighbours: along the ladder, from layer to layer, from turn to turn.

use crate::Heard;
use crate::mends::{of_take, tenth};
use crate::usual::out_of_usual;
use instrument::{Cell, Curve, Fact, Finding, FindingKind, LayerId, PassId, Resolved, ResolvedTake, Target};
use serde_json::json;
use std::collections::BTreeMap;

/// Fewer rungs are no curve.
const FEWEST_RUNGS: usize = 5;
/// A gain is never so high that a take clips.
const MOST_PEAK_DBFS: f64 = -0.1;

/// Of every chosen take.
pub(crate) fn found(resolved: &Resolved, heard: &Heard) -> Vec<Finding> {
    let chosen: Vec<&ResolvedTake> = resolved.takes.iter().filter(|take| take.chosen).collect();
    let mut found: Vec<Finding> = off_curve(&chosen, loudness)
        .filter_map(|(take, off)| level_step(take, off))
        .collect();
    let pumps = |take: &ResolvedTake| heard.takes.get(&take.recorded.id)?.pumps_db;
    let more = off_curve(&chosen, pumps).filter(|(_, off)| *off > 0.0);
    found.extend(more.map(|(take, off)| {
        let says = format!(
            "Its level moves by {} dB more than its neighbours' as it goes round.",
            tenth(off)
        );
        on(take, Finding::measured(FindingKind::LoopPumps, off, says))
    }));
    let likeness = |take: &ResolvedTake| take.levels?.correlation;
    found.extend(off_curve(&chosen, likeness).filter_map(|(take, off)| against(take, off)));
    let brightness = |take: &ResolvedTake| heard.takes.get(&take.recorded.id)?.brightness_key;
    found.extend(off_curve(&chosen, brightness).map(|(take, off)| {
        let way = if off > 0.0 { "brighter" } else { "duller" };
        let says = format!("{} semitones {way} than its neighbours.", tenth(off.abs()));
        on(take, Finding::measured(FindingKind::BrightnessStep, off, says))
    }));
    let balance = |take: &ResolvedTake| Some(take.levels?.balance_db? - 20.0 * side_ratio(take).log10());
    found.extend(off_curve(&chosen, balance).map(|(take, off)| leans(take, off)));
    found.extend(layers(resolved, &chosen, heard));
    found.extend(turns(&chosen));
    found
}

fn on(take: &ResolvedTake, finding: Finding) -> Finding {
    finding
        .about(Target::Take(take.recorded.id))
        .on(take.recorded.cell)
}

fn loudness(take: &ResolvedTake) -> Option<f64> {
    Some(take.levels?.loudness_lufs? + take.treatment.as_ref()?.gain_db)
}

fn level_step(take: &ResolvedTake, off: f64) -> Option<Finding> {
    let treatment = take.treatment.as_ref()?;
    let way = if off > 0.0 { "over" } else { "under" };
    let says = format!("{} dB {way} its layer's own curve.", tenth(off.abs()));
    let peak = take.levels?.peak_dbfs?;
    let gain = (treatment.gain_db - off).min(MOST_PEAK_DBFS - peak);
    let gain = (gain * 100.0).round() / 100.0;
    let even = of_take(
        take,
        "Even it",
        format!(
            "Its gain goes from {} to {} dB.",
            tenth(treatment.gain_db),
            tenth(gain)
        ),
        vec![(Fact::GainDb, Some(json!(gain)))],
    );
    let finding = Finding::measured(FindingKind::LevelStep, off, says);
    Some(on(take, finding.mended_by(Some(even))))
}

/// How far the likeness of its sides must lie under its neighbours'.
const UNLIKE: f64 = 0.4;

fn against(take: &ResolvedTake, off: f64) -> Option<Finding> {
    let likeness = take.levels?.correlation.filter(|_| off < -UNLIKE)?;
    let says = "Much of it is lost where its sides are summed, and not of its neighbours.";
    let mend = of_take(
        take,
        "Use its left side",
        "It is played from its left side alone.",
        vec![(Fact::Channels, Some(json!({ "sides": "left", "width": 1.0 })))],
    );
    let finding = Finding::measured(FindingKind::SidesAgainst, likeness, says);
    Some(on(take, finding.mended_by(Some(mend))))
}

/// How far a value of each take lies from where that of its layer runs, of those that lie further off than is usual there.
fn off_curve<'a>(
    chosen: &[&'a ResolvedTake],
    value: impl Fn(&ResolvedTake) -> Option<f64>,
) -> impl Iterator<Item = (&'a ResolvedTake, f64)> {
    let mut points: BTreeMap<(PassId, LayerId), Vec<(&'a ResolvedTake, f64)>> = BTreeMap::new();
    for take in chosen {
        if let Some(value) = value(take) {
            let Cell { pass, layer, .. } = take.recorded.cell;
            points.entry((pass, layer)).or_default().push((take, value));
        }
    }
    points.into_values().flat_map(|points| {
        let key = |take: &ResolvedTake| f64::from(take.recorded.cell.key);
        let curve = Curve::through(points.iter().map(|(take, value)| (key(take), *value)));
        let enough = curve.places() >= FEWEST_RUNGS;
        let off: Vec<(&'a ResolvedTake, f64)> = points
            .into_iter()
            .map(|(take, value)| (take, value - curve.at(key(take))))
            .collect();
        let beyond = out_of_usual(off.iter().map(|(_, off)| *off));
        off.into_iter()
            .filter(move |(_, off)| enough && off.abs() > beyond)
    })
}

/// By how many times its place makes the right side louder than the left: equal power.
fn side_ratio(take: &ResolvedTake) -> f64 {
    let pan = take.treatment.as_ref().map_or(0.0, |treatment| treatment.pan);
    (std::f64::consts::FRAC_PI_4 * (pan.clamp(-0.99, 0.99) + 1.0)).tan()
}

fn leans(take: &ResolvedTake, off: f64) -> Finding {
    let side = if off > 0.0 { "left" } else { "right" };
    let says = format!(
        "Its {side} side is {} dB louder than its neighbours'.",
        tenth(off.abs())
    );
    let pan = take.treatment.as_ref().map_or(0.0, |treatment| treatment.pan);
    // Equal power: the sides' gains are cosine and sine of one angle, whose tangent is their ratio.
    let angle = |ratio: f64| 4.0 / std::f64::consts::PI * ratio.atan() - 1.0;
    let balanced = (angle(side_ratio(take) * 10f64.powf(off / 20.0)) * 1_000.0).round() / 1_000.0;
    let mend = of_take(
        take,
        "Balance it",
        format!(
            "Its place goes from {} to {}.",
            tenth(pan * 100.0),
            tenth(balanced * 100.0)
        ),
        vec![(Fact::Pan, Some(json!(balanced)))],
    );
    on(
        take,
        Finding::measured(FindingKind::Leans, off, says).mended_by(Some(mend)),
    )
}

/// Each layer beside the one under it, key by key.
fn layers(resolved: &Resolved, chosen: &[&ResolvedTake], heard: &Heard) -> Vec<Finding> {
    let mut cells: BTreeMap<(PassId, u8, LayerId), Vec<&ResolvedTake>> = BTreeMap::new();
    for take in chosen {
        let Cell { pass, key, layer, .. } = take.recorded.cell;
        cells.entry((pass, key, layer)).or_default().push(take);
    }
    let mean = |of: &[&ResolvedTake], value: &dyn Fn(&ResolvedTake) -> Option<f64>| {
        let all: Vec<f64> = of.iter().filter_map(|take| value(take)).collect();
        (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
    };
    let brightness = |take: &ResolvedTake| heard.takes.get(&take.recorded.id)?.brightness_key;
    let mut found = Vec::new();
    for pass in &resolved.plan.passes {
        for &key in &pass.rungs {
            for two in pass.layers.windows(2) {
                let of = |layer: LayerId| cells.get(&(pass.id, key, layer));
                let (Some(soft), Some(loud)) = (of(two[0].id), of(two[1].id)) else {
                    continue;
                };
                let Some(first) = loud.first() else { continue };
                if let (Some(softer), Some(louder)) = (mean(soft, &loudness), mean(loud, &loudness)) {
                    let short = softer - louder;
                    let says = format!("{} dB under «{}», the softer one.", tenth(short), two[0].name);
                    found.extend(
                        (short > 0.0)
                            .then(|| on(first, Finding::measured(FindingKind::NotLouder, short, says))),
                    );
                }
                if let (Some(duller), Some(brighter)) = (mean(soft, &brightness), mean(loud, &brightness)) {
                    let short = duller - brighter;
                    let says = format!(
                        "{} semitones under «{}», the softer one.",
                        tenth(short),
                        two[0].name
                    );
                    found.extend(
                        (short > 0.0)
                            .then(|| on(first, Finding::measured(FindingKind::NotBrighter, short, says))),
                    );
                }
            }
        }
    }
    found
}

/// Round robins beside each other.
fn turns(chosen: &[&ResolvedTake]) -> Vec<Finding> {
    let mut places: BTreeMap<(PassId, u8, LayerId), Vec<&ResolvedTake>> = BTreeMap::new();
    for take in chosen {
        let Cell { pass, key, layer, .. } = take.recorded.cell;
        places.entry((pass, key, layer)).or_default().push(take);
    }
    let mut found = Vec::new();
    for turns in places.into_values().filter(|turns| turns.len() > 1) {
        for (n, take) in turns.iter().enumerate() {
            let same = turns[..n].iter().find(|other| is_same_recording(other, take));
            if let Some(other) = same {
                let says = format!(
                    "It is the same as round robin {}.",
                    other.recorded.cell.round_robin + 1
                );
                found.push(on(take, Finding::so(FindingKind::SameRecording, says)));
            }
        }
        let levels: Vec<(f64, &ResolvedTake)> = turns
            .iter()
            .filter_map(|take| Some((loudness(take)?, *take)))
            .collect();
        let by = |a: &&(f64, &ResolvedTake), b: &&(f64, &ResolvedTake)| a.0.total_cmp(&b.0);
        if let (Some(softest), Some(loudest)) = (levels.iter().min_by(by), levels.iter().max_by(by)) {
            let db = loudest.0 - softest.0;
            let says = format!("They lie {} dB apart.", tenth(db));
            found.push(on(
                softest.1,
                Finding::measured(FindingKind::UnlikeTurns, db, says),
            ));
        }
    }
    found
}

/// Whether all that was measured agrees to the last bit: no two takes are so alike.
fn is_same_recording(one: &ResolvedTake, other: &ResolvedTake) -> bool {
    let (Some(a), Some(b)) = (&one.facts, &other.facts) else {
        return false;
    };
    a.loudness_lufs.is_some()
        && (a.loudness_lufs, a.peak_dbfs) == (b.loudness_lufs, b.peak_dbfs)
        && a.pitch.map(|pitch| pitch.hz.to_bits()) == b.pitch.map(|pitch| pitch.hz.to_bits())
}
