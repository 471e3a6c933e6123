//! Level over time: the expander under the tail, the compressor, the limiter. All sides together, so that nothing wanders.

use super::{Compressor, Expander, Limiter};
use crate::{Audio, amplitude_to_db, db_to_amplitude, frames_of_ms};
use std::ops::Range;

/// Levels are read over so long, and so often.
const LEVEL_MS: f64 = 20.0;
const STEP_MS: f64 = 1.0;
/// The expander lowers by no more than this.
const MOST_DB: f64 = 30.0;
/// How slowly the expander's gain moves: centred, so that it opens before the sound and closes after it.
const EXPANDER_MS: f64 = 60.0;
/// Where there is no silence to measure.
const FLOOR_ASSUMED_DBFS: f64 = -90.0;

const KNEE_DB: f64 = 6.0;
const ATTACK_MS: f64 = 10.0;
const RELEASE_MS: f64 = 150.0;

const LOOK_AHEAD_MS: f64 = 2.0;
/// Two interpolators differ by about this much near half the rate.
const MARGIN_DB: f64 = 0.15;

/// RMS of all channels around each step, in dBFS.
fn levels(audio: &Audio) -> (Vec<f64>, usize) {
    let step = frames_of_ms(audio.rate_hz, STEP_MS).max(1);
    let reach = frames_of_ms(audio.rate_hz, LEVEL_MS / 2.0).max(1);
    let energy = crate::energy::Energy::of(audio);
    let levels = (0..audio.frames())
        .step_by(step)
        .map(|at| {
            let around = energy.rms(at.saturating_sub(reach), (at + reach).min(audio.frames()));
            amplitude_to_db(around.max(1e-7))
        })
        .collect();
    (levels, step)
}

/// Multiplies by gains in dB that stand `step` frames apart.
fn apply(audio: &mut Audio, gains_db: &[f64], step: usize) {
    let gains: Vec<f64> = gains_db.iter().map(|db| db_to_amplitude(*db)).collect();
    let Some(&last) = gains.last() else {
        return;
    };
    for channel in &mut audio.channels {
        for (n, x) in channel.iter_mut().enumerate() {
            let (at, share) = (n / step, (n % step) as f64 / step as f64);
            let (a, b) = (
                gains[at.min(gains.len() - 1)],
                *gains.get(at + 1).unwrap_or(&last),
            );
            *x = (f64::from(*x) * (a + (b - a) * share)) as f32;
        }
    }
}

/// Each value as the Hann-weighted mean of those around it, `reach` on either side.
fn smooth(values: &[f64], reach: usize) -> Vec<f64> {
    let weights: Vec<f64> = (0..=2 * reach)
        .map(|n| 0.5 - 0.5 * (std::f64::consts::TAU * (n as f64 + 1.0) / (2 * reach + 2) as f64).cos())
        .collect();
    let whole: f64 = weights.iter().sum();
    let last = values.len().saturating_sub(1);
    (0..values.len())
        .map(|n| {
            weights
                .iter()
                .enumerate()
                .map(|(k, weight)| values[(n + k).saturating_sub(reach).min(last)] * weight)
                .sum::<f64>()
                / whole
        })
        .collect()
}

/// What lies under the threshold falls away faster; what lies above is left as it is.
pub(super) fn expander(audio: &mut Audio, wish: &Expander, silence: &Range<usize>) {
    let quiet = audio.slice(silence.start, silence.end);
    let floor = if quiet.frames() >= frames_of_ms(audio.rate_hz, LEVEL_MS) {
        crate::rms_dbfs(&quiet).max(FLOOR_ASSUMED_DBFS)
    } else {
        FLOOR_ASSUMED_DBFS
    };
    let threshold = floor + wish.over_floor_db.clamp(0.0, 60.0);
    let slope = (wish.ratio - 1.0).clamp(0.0, 10.0);
    let (levels, step) = levels(audio);
    let gains: Vec<f64> = levels
        .iter()
        .map(|level| (slope * (level - threshold).min(0.0)).max(-MOST_DB))
        .collect();
    // Opened for all around a sound before it is smoothed: the sound itself is never touched.
    let reach = (EXPANDER_MS / STEP_MS / 2.0) as usize;
    let turned: Vec<f64> = gains.iter().map(|gain| -gain).collect();
    let opened: Vec<f64> = lowest_around(&turned, reach).iter().map(|gain| -gain).collect();
    apply(audio, &smooth(&opened, reach), step);
}

/// Static curve with a soft knee and smooth decoupled attack and release on the gain in dB
/// (D. Giannoulis, M. Massberg, J. Reiss, J. Audio Eng. Soc. 60, 2012, eqs. 4 and 17).
pub(super) fn compressor(audio: &mut Audio, wish: &Compressor) {
    let slope = 1.0 / wish.ratio.clamp(1.0, 100.0) - 1.0;
    let (levels, step) = levels(audio);
    let coefficient = |ms: f64| (-STEP_MS / ms).exp();
    let (attack, release) = (coefficient(ATTACK_MS), coefficient(RELEASE_MS));
    let (mut held, mut smoothed) = (0.0f64, 0.0f64);
    let gains: Vec<f64> = levels
        .iter()
        .map(|level| {
            let over = level - wish.threshold_dbfs;
            let lowered = if 2.0 * over < -KNEE_DB {
                0.0
            } else if 2.0 * over <= KNEE_DB {
                -slope * (over + KNEE_DB / 2.0).powi(2) / (2.0 * KNEE_DB)
            } else {
                -slope * over
            };
            held = lowered.max(release * held + (1.0 - release) * lowered);
            smoothed = attack * smoothed + (1.0 - attack) * held;
            -smoothed
        })
        .collect();
    apply(audio, &gains, step);
}

/// Interpolation at quarters of a frame: the filter of ITU-R BS.1770-4, annex 2 (coefficients from memory, checked against the crate
/// `ebur128` below). The third and fourth phases are the second and first backwards.
const PHASES: [[f64; 12]; 2] = [
    [
        0.001_708_984_375,
        0.010_986_328_125,
        -0.019_653_320_312_5,
        0.033_203_125,
        -0.059_448_242_187_5,
        0.137_329_101_562_5,
        0.972_167_968_75,
        -0.102_294_921_875,
        0.047_607_421_875,
        -0.026_611_328_125,
        0.014_892_578_125,
        -0.008_300_781_25,
    ],
    [
        -0.029_174_804_687_5,
        0.029_296_875,
        -0.051_757_812_5,
        0.089_111_328_125,
        -0.166_503_906_25,
        0.465_087_890_625,
        0.779_785_156_25,
        -0.200_317_382_812_5,
        0.101_562_5,
        -0.058_227_539_062_5,
        0.033_081_054_687_5,
        -0.018_920_898_437_5,
    ],
];

/// The highest of a frame and of what lies around it between the frames, per frame, all channels together, linear.
fn true_peaks(audio: &Audio) -> Vec<f64> {
    let mut peaks = vec![0.0f64; audio.frames()];
    for channel in &audio.channels {
        let at = |n: i64| {
            usize::try_from(n)
                .ok()
                .and_then(|n| channel.get(n))
                .map_or(0.0, |x| f64::from(*x))
        };
        for (n, peak) in peaks.iter_mut().enumerate() {
            let mut top = f64::from(channel[n].abs());
            for phase in &PHASES {
                let (mut there, mut back) = (0.0, 0.0);
                for (k, c) in phase.iter().enumerate() {
                    let x = at(n as i64 + k as i64 - 6);
                    there += x * phase[11 - k];
                    back += x * c;
                }
                top = top.max(there.abs()).max(back.abs());
            }
            *peak = peak.max(top);
        }
    }
    peaks
}

/// The gain that each frame needs, held over the look-ahead and smoothed over it: never more than was needed anywhere.
pub(super) fn limiter(audio: &mut Audio, wish: &Limiter) {
    // What a first pass bends has peaks of its own, a little over it.
    limit_once(audio, wish);
    limit_once(audio, wish);
}

fn limit_once(audio: &mut Audio, wish: &Limiter) {
    let ceiling = db_to_amplitude(wish.ceiling_dbtp.min(0.0) - MARGIN_DB);
    let needed: Vec<f64> = true_peaks(audio)
        .iter()
        .map(|peak| (ceiling / peak.max(1e-9)).min(1.0))
        .collect();
    if needed.iter().all(|gain| *gain >= 1.0) {
        return;
    }
    let reach = frames_of_ms(audio.rate_hz, LOOK_AHEAD_MS).max(1);
    let held = lowest_around(&needed, reach);
    for channel in &mut audio.channels {
        for (x, gain) in channel.iter_mut().zip(smooth(&held, reach)) {
            *x = (f64::from(*x) * gain) as f32;
        }
    }
}

/// The lowest of each value and those around it, by a queue of candidates (D. Lemire, Nordic J. Computing 13, 2006).
fn lowest_around(values: &[f64], reach: usize) -> Vec<f64> {
    let mut queue: std::collections::VecDeque<usize> = std::collections::VecDeque::new();
    let mut next = 0;
    (0..values.len())
        .map(|n| {
            while next < values.len() && next <= n + reach {
                while queue.back().is_some_and(|&back| values[back] >= values[next]) {
                    queue.pop_back();
                }
                queue.push_back(next);
                next += 1;
            }
            while queue.front().is_some_and(|&front| front + reach < n) {
                queue.pop_front();
            }
            queue.front().map_or(1.0, |&front| values[front])
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::{RATE, noise, rms_db, sum, tone};
    use super::*;
    use ebur128::{EbuR128, Mode};

    #[test]
    fn the_expander_lowers_the_tail_and_leaves_the_sound() {
        let (frames, silence) = (96_000, 24_000);
        let floor = noise(0.001, frames, 1);
        let sound: Vec<f32> = tone(300.0, 0.3, frames)
            .iter()
            .enumerate()
            .map(|(n, x)| {
                if n < silence {
                    0.0
                } else {
                    x * (-((n - silence) as f32) / 9_000.0).exp()
                }
            })
            .collect();
        let before = Audio::mono(RATE, sum(&floor, &sound));
        let mut after = before.clone();
        let wish = Expander {
            over_floor_db: 10.0,
            ratio: 2.0,
        };
        expander(&mut after, &wish, &(0..silence));
        let fell = rms_db(&before.channels[0][5_000..20_000]) - rms_db(&after.channels[0][5_000..20_000]);
        // 10 dB under the threshold, at 2:1: 10 dB lower.
        assert!((fell - 10.0).abs() < 0.6, "{fell}");
        let kept = rms_db(&before.channels[0][24_000..40_000]) - rms_db(&after.channels[0][24_000..40_000]);
        assert!(kept.abs() < 0.02, "{kept}");
    }

    /// Ratio and threshold, read off steady tones: 12 dB over at 3:1 is 4 dB over.
    #[test]
    fn the_compressor_keeps_to_its_curve() {
        let level = |over_db: f64| {
            let amplitude = db_to_amplitude(-30.0 + over_db) * std::f64::consts::SQRT_2;
            let mut audio = Audio::mono(RATE, tone(500.0, amplitude, 96_000));
            compressor(
                &mut audio,
                &Compressor {
                    threshold_dbfs: -30.0,
                    ratio: 3.0,
                },
            );
            rms_db(&audio.channels[0][60_000..90_000]) + 30.0
        };
        assert!((level(12.0) - 4.0).abs() < 0.1, "{}", level(12.0));
        assert!((level(-12.0) + 12.0).abs() < 0.05, "{}", level(-12.0));
    }

    #[test]
    fn no_true_peak_is_over_the_ceiling() {
        for (seed, hz) in [(1, 12_000.0), (2, 997.0), (3, 5_300.0)] {
            let wave = sum(&tone(hz, 0.9, 48_000), &noise(0.1, 48_000, seed));
            let mut audio = Audio::mono(RATE, wave);
            limiter(&mut audio, &Limiter { ceiling_dbtp: -3.0 });
            let mut meter = EbuR128::new(1, RATE, Mode::TRUE_PEAK).unwrap();
            meter.add_frames_f32(&audio.channels[0]).unwrap();
            let peak = amplitude_to_db(meter.true_peak(0).unwrap());
            // The interpolators differ by some hundredths of a decibel below half the band.
            assert!((-4.5..=-2.9).contains(&peak), "{hz}: {peak}");
        }
        let mut quiet = Audio::mono(RATE, tone(997.0, 0.4, 4_800));
        let before = quiet.clone();
        limiter(&mut quiet, &Limiter { ceiling_dbtp: -3.0 });
        assert_eq!(quiet, before);
    }

    #[test]
    fn the_lowest_around_is_the_lowest_around() {
        let values = [5.0, 3.0, 4.0, 9.0, 9.0, 9.0, 1.0];
        assert_eq!(lowest_around(&values, 1), [3.0, 3.0, 3.0, 4.0, 9.0, 1.0, 1.0]);
    }
}
