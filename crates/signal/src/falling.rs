//! How a held sound falls silent once it is let go.

use crate::energy::Energy;
use crate::frames_of_ms;
use crate::loops::{dies_away_of, settled};

/// Level is looked at in windows of this length, so often.
const WINDOW_MS: f64 = 25.0;
const HOP_MS: f64 = 2.5;
/// It is let go where it was last held within so many dB of its level.
const HELD_WITHIN_DB: f64 = 3.0;
/// The fall counts down to so many dB under the held level, and as far over what is behind it.
const DOWN_TO_DB: f64 = 45.0;
const OVER_FLOOR_DB: f64 = 8.0;
/// What falls by less, or not in about a straight line of dB, tells nothing.
const LEAST_FALL_DB: f64 = 15.0;
const MOST_ASIDE_DB: f64 = 4.0;
/// Quicker than this is a cut; slower is no release.
const SHORTEST_MS: f64 = 20.0;
const LONGEST_MS: f64 = 30_000.0;

/// Milliseconds for 100 dB by which a sound in frames `start..end` falls at its end, by a straight line of least squares through its level in dB; `None`
/// where it dies away by itself, is cut off while it is held, or falls in another way.
pub(crate) fn falls_silent_ms(energy: &Energy, rate_hz: u32, start: usize, end: usize) -> Option<f64> {
    if dies_away_of(energy, rate_hz, start, end) {
        return None;
    }
    let (first, last) = settled(energy, rate_hz, start, end.min(energy.frames()))?;
    let [window, hop] = [WINDOW_MS, HOP_MS].map(|ms| frames_of_ms(rate_hz, ms).max(1));
    let db = |rms: f64| 20.0 * rms.max(1e-9).log10();
    let held_db = db(energy.rms(first, last));
    let levels: Vec<f64> = (first..energy.frames().saturating_sub(window))
        .step_by(hop)
        .map(|at| db(energy.rms(at, at + window)))
        .collect();
    let let_go = levels
        .iter()
        .rposition(|level| *level >= held_db - HELD_WITHIN_DB)?;
    let floor_db = levels[let_go..].iter().copied().fold(f64::MAX, f64::min);
    let lowest = (held_db - DOWN_TO_DB).max(floor_db + OVER_FLOOR_DB);
    let fall: Vec<f64> = levels[let_go..]
        .iter()
        .copied()
        .take_while(|level| *level > lowest)
        .collect();
    let (slope, aside_db) = line_through(&fall)?;
    let by_db = fall.first()? - fall.last()?;
    let ms = -100.0 * HOP_MS / slope;
    let tells = by_db >= LEAST_FALL_DB && aside_db <= MOST_ASIDE_DB && slope < 0.0;
    (tells && (SHORTEST_MS..=LONGEST_MS).contains(&ms)).then(|| ms.round())
}

/// The slope of a straight line of least squares from point to point, and how far points lie aside of it, as RMS.
fn line_through(points: &[f64]) -> Option<(f64, f64)> {
    let n = points.len() as f64;
    if n < 3.0 {
        return None;
    }
    let (middle, mean) = ((n - 1.0) / 2.0, points.iter().sum::<f64>() / n);
    let at = |k: usize| k as f64 - middle;
    let sum = |of: &dyn Fn(usize, f64) -> f64| points.iter().enumerate().map(|(k, y)| of(k, *y)).sum::<f64>();
    let slope = sum(&|k, y| at(k) * (y - mean)) / sum(&|k, _| at(k) * at(k));
    let aside = sum(&|k, y| (y - mean - slope * at(k)).powi(2));
    Some((slope, (aside / n).sqrt()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Audio;
    use rand::{Rng, SeedableRng};

    const RATE: u32 = 48_000;

    /// A tone that is held for 1.5 s, and falls by 100 dB in so many milliseconds, over noise that far under it.
    fn held_tone(hz: f64, ms: f64, noise_db: f64) -> Audio {
        let mut random = rand_pcg::Pcg64::seed_from_u64(7);
        let tone = |n: u32| {
            let t = f64::from(n) / f64::from(RATE);
            let fall = 10f64.powf(-5.0 * ((t - 1.5).max(0.0) * 1000.0 / ms));
            let partials =
                (1..=6).map(|k| (t * hz * f64::from(k) * std::f64::consts::TAU).sin() / f64::from(k));
            let noise = random.random_range(-1.0..1.0) * 10f64.powf(noise_db / 20.0);
            (0.3 * (partials.sum::<f64>() * (t / 0.02).min(1.0) * fall + noise)) as f32
        };
        Audio::mono(RATE, (0..3 * RATE).map(tone).collect())
    }

    fn found(audio: &Audio) -> Option<f64> {
        let bounds = crate::sound_bounds(audio)?;
        falls_silent_ms(&Energy::of(audio), RATE, bounds.start_frame, bounds.end_frame)
    }

    #[test]
    fn a_release_is_found_as_long_as_it_is() {
        for hz in [55.0, 440.0, 2_500.0] {
            for ms in [120.0, 400.0, 1_500.0] {
                for noise_db in [-90.0, -45.0] {
                    let ms_found = found(&held_tone(hz, ms, noise_db));
                    let aside = ms_found.map(|found| (found / ms - 1.0).abs());
                    assert!(
                        aside.is_some_and(|aside| aside < 0.15),
                        "{hz} Hz, {ms} ms over {noise_db} dB: {ms_found:?}"
                    );
                }
            }
        }
    }

    #[test]
    fn what_is_cut_off_while_it_is_held_or_dies_away_tells_nothing() {
        let audio = held_tone(440.0, 400.0, -90.0);
        assert_eq!(found(&audio.slice(0, 60_000)), None);
        let dying = (0..3 * RATE)
            .map(|n| (f64::from(n) * 0.06).sin() * 10f64.powf(-f64::from(n) / 48_000.0))
            .map(|x| x as f32);
        assert_eq!(found(&Audio::mono(RATE, dying.collect())), None);
        assert_eq!(found(&Audio::mono(RATE, vec![0.0; 9_600])), None);
    }
}
