//! The stretch before looping, evened: what drifts in level and in colour from the loop's start to its end is held.

use super::Evening;
use crate::energy::Energy;
use crate::loops::{WORST_DRIFT_DB, WORST_SEAM_DB, by_rank, settled};
use crate::stft::{Stft, bins};
use crate::{
    Audio, LoopCandidate, LoopFacts, LoopLengths, PlayedLoop, db_to_amplitude, find_steady_loops,
    likeness_percent, timbre_db,
};

/// Bands of a third of an octave from here upward; what lies below is the first of them.
const LOWEST_HZ: f64 = 60.0;
const PER_OCTAVE: f64 = 3.0;
/// The ends are compared over so long on either side, or a quarter of the loop.
const BESIDE_S: f64 = 0.15;
/// No band drifts by more that can be held.
const MOST_DB: f64 = 24.0;
/// Bands under the loudest by this much, as a power, are noise: they are moved as the whole is.
const FAINT: f64 = 1e-6;

/// Every band is moved by what it drifts from the loop's start to its end, in a straight line in decibels, so that both ends have its mean: exact for
/// what dies away by itself, and nothing is done to what beats or moves and is at its end as it was at its start. Outside the loop the gains of its
/// ends go on, so that nothing jumps where it is entered.
pub(super) fn evening(audio: &mut Audio, wish: &Evening, start: usize, end: usize) {
    let stft = Stft::new(audio.rate_hz);
    let frames = audio.frames();
    let end = end.min(frames);
    if end <= start + 4 * stft.hop() {
        return;
    }
    let spectra: Vec<_> = audio
        .channels
        .iter()
        .map(|channel| stft.forward(channel))
        .collect();
    let count = spectra.first().map_or(0, Vec::len);
    let middle = |n: usize| stft.span(n).start + stft.size() as i64 / 2;
    let reach = (BESIDE_S * f64::from(audio.rate_hz)).min((end - start) as f64 / 4.0) as i64;
    let around = |frame: usize| -> Vec<usize> {
        (0..count)
            .filter(|n| (middle(*n) - frame as i64).abs() <= reach.max(stft.hop() as i64))
            .collect()
    };
    let (first, last) = (around(start), around(end));
    if first.is_empty() || last.is_empty() {
        return;
    }
    // All sides of a band together, so that nothing wanders.
    let power = |band: &std::ops::Range<usize>, at: &[usize]| -> f64 {
        let sum: f64 = at
            .iter()
            .flat_map(|&n| spectra.iter().flat_map(move |side| &side[n][band.clone()]))
            .map(|bin| f64::from(bin.norm_sqr()))
            .sum();
        sum / at.len() as f64
    };
    let drift_db = |band: &std::ops::Range<usize>| -> f64 {
        let (a, b) = (power(band, &first), power(band, &last));
        if a > 0.0 && b > 0.0 {
            (10.0 * (b / a).log10()).clamp(-MOST_DB, MOST_DB)
        } else {
            0.0
        }
    };
    let bands = bands(audio.rate_hz, stft.size());
    let whole = drift_db(&(0..bins(stft.size())));
    let loudest = bands.iter().map(|band| power(band, &first)).fold(0.0, f64::max);
    let drifts: Vec<f64> = bands
        .iter()
        .map(|band| {
            if power(band, &first) < loudest * FAINT {
                whole
            } else {
                drift_db(band)
            }
        })
        .collect();
    let share = wish.share.clamp(0.0, 1.0);
    let gains_at = |n: usize| -> Vec<f32> {
        let place = (middle(n) as f64 - start as f64) / (end - start) as f64;
        let from_mean = place.clamp(0.0, 1.0) - 0.5;
        drifts
            .iter()
            .map(|drift| db_to_amplitude(-drift * from_mean * share) as f32)
            .collect()
    };
    let gains: Vec<Vec<f32>> = (0..count).map(gains_at).collect();
    for (channel, mut spectra) in audio.channels.iter_mut().zip(spectra) {
        for (spectrum, gains) in spectra.iter_mut().zip(&gains) {
            for (band, gain) in bands.iter().zip(gains) {
                for bin in &mut spectrum[band.clone()] {
                    *bin *= *gain;
                }
            }
        }
        *channel = stft.back(&spectra, frames);
    }
}

/// Places to loop inside `start..end` of what cannot be looped as it is, since it dies away or changes its colour: looked for where it is evened over all
/// that has settled, and each then judged evened over itself alone, as it will be heard. Best first; see [`find_steady_loops`].
pub fn find_evened_loops(
    audio: &Audio,
    start: usize,
    end: usize,
    period_frames: f64,
    lengths: LoopLengths,
    wish: &Evening,
) -> Vec<LoopCandidate> {
    let end = end.min(audio.frames());
    let Some((first, last)) = settled(&Energy::of(audio), audio.rate_hz, start, end) else {
        return Vec::new();
    };
    let evened = |first: usize, last: usize| {
        let mut out = audio.clone();
        evening(&mut out, wish, first, last);
        out
    };
    let mut found = find_steady_loops(&evened(first, last), start, end, period_frames, lengths);
    found.retain_mut(|place| {
        let (start, end) = (place.start_frame, place.end_frame);
        let own = evened(start, end);
        let played = PlayedLoop {
            start_frame: start,
            end_frame: end,
            crossfade_frames: place.crossfade_frames,
            likeness_percent: place.likeness_percent,
        };
        let worth = LoopFacts::of(&own, played, period_frames);
        let Some(seam_db) = worth.seam_db.filter(|seam| *seam <= WORST_SEAM_DB) else {
            return false;
        };
        *place = LoopCandidate {
            seam_db,
            drift_db: worth.drift_db,
            audible_db: worth.audible_db,
            timbre_db: timbre_db(&own.to_mono(), own.rate_hz, start, end),
            likeness_percent: likeness_percent(seam_db),
            ..*place
        };
        worth.drift_db <= WORST_DRIFT_DB
    });
    by_rank(&mut found, f64::from(audio.rate_hz));
    found
}

/// Bins of each band.
fn bands(rate_hz: u32, size: usize) -> Vec<std::ops::Range<usize>> {
    let per_bin = f64::from(rate_hz) / size as f64;
    let mut edges = vec![0];
    let mut hz = LOWEST_HZ;
    while hz < f64::from(rate_hz) / 2.0 {
        let bin = (hz / per_bin).round() as usize;
        if edges.last().is_some_and(|last| bin > *last) {
            edges.push(bin);
        }
        hz *= (1.0 / PER_OCTAVE).exp2();
    }
    edges.push(bins(size));
    edges.windows(2).map(|pair| pair[0]..pair[1]).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::RATE;
    use super::*;
    use crate::{drift_db, seam_db};
    use std::f64::consts::TAU;

    fn sound(level: impl Fn(f64, f64) -> f64) -> Audio {
        let samples = (0..4 * RATE)
            .map(|n| {
                let t = f64::from(n) / f64::from(RATE);
                let partial = |k: f64| (t * 220.0 * k * TAU).sin() / k * level(t, k);
                ((1..6).map(|k| partial(f64::from(k))).sum::<f64>() * 0.3) as f32
            })
            .collect();
        Audio::mono(RATE, samples)
    }

    /// 220 periods of 220 Hz: one second.
    const LOOP: (usize, usize) = (48_000, 96_000);

    fn seam(audio: &Audio) -> f64 {
        seam_db(audio, LOOP.0, LOOP.1, f64::from(RATE) / 220.0).unwrap()
    }

    fn evened(audio: &Audio, share: f64) -> Audio {
        let mut out = audio.clone();
        evening(&mut out, &Evening { share }, LOOP.0, LOOP.1);
        out
    }

    #[test]
    fn a_dying_tone_whose_upper_partials_die_faster_loops_once_it_is_evened() {
        let before = sound(|t, k| (-t * 0.3 * k).exp());
        let drift = |audio: &Audio| drift_db(audio, LOOP.0, LOOP.1);
        let after = evened(&before, 1.0);
        assert!(drift(&before) > 2.0);
        assert!(drift(&after) < 0.3, "{}", drift(&after));
        assert!(
            seam(&before) > -14.0 && seam(&after) < seam(&before) - 12.0,
            "{} {}",
            seam(&before),
            seam(&after)
        );
        // The share of the evening is the share of the drift that goes.
        let left = drift(&evened(&before, 0.5)) / drift(&before);
        assert!((left - 0.5).abs() < 0.12, "{left}");
    }

    #[test]
    fn what_beats_over_whole_beats_is_left_as_it_is() {
        let before = sound(|t, _| 1.0 + 0.4 * (t * 2.0 * TAU).cos());
        let after = evened(&before, 1.0);
        assert!(
            seam(&before) < -60.0 && seam(&after) < -40.0,
            "{} {}",
            seam(&before),
            seam(&after)
        );
    }

    #[test]
    fn what_dies_too_fast_to_be_looped_is_looped_evened() {
        // 7 dB a second, the upper partials faster.
        let dying = sound(|t, k| (-t * 0.8 * k.sqrt()).exp());
        let period = f64::from(RATE) / 220.0;
        let lively = LoopLengths {
            shortest_s: 0.5,
            ..LoopLengths::default()
        };
        assert_eq!(
            find_steady_loops(&dying, 0, dying.frames(), period, lively),
            [],
            "it must need evening"
        );
        let wish = Evening { share: 1.0 };
        let found = find_evened_loops(&dying, 0, dying.frames(), period, lively, &wish);
        let best = found[0];
        assert!(best.seam_db <= -20.0 && best.drift_db <= 1.0, "{best:?}");
        // What is told is what is there once it is evened.
        let mut own = dying.clone();
        evening(&mut own, &wish, best.start_frame, best.end_frame);
        assert_eq!(
            seam_db(&own, best.start_frame, best.end_frame, period),
            Some(best.seam_db)
        );
        assert_eq!(find_evened_loops(&dying, 0, 0, period, lively, &wish), []);
    }
}
