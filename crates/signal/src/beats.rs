//! How slowly a held sound moves: after how long its level comes round again.

use crate::energy::Energy;
use crate::frames_of_ms;
use crate::loops::settled;
use crate::seams::percentile;
use serde::{Deserialize, Serialize};

/// A level that rises and falls by itself, as that of two strings or oscillators that are not quite in tune.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Beats {
    /// From one time round to the next.
    pub seconds: f64,
    /// From its twentieth to its nineteen twentieths, in dB.
    pub depth_db: f64,
}

const HOP_MS: f64 = 20.0;
const FEWEST_MOMENTS: usize = 16;
/// What moves by less does not beat.
const LEAST_DB: f64 = 0.8;
/// A level that comes round is as like itself as this, by correlation.
const ALIKE: f64 = 0.5;

/// How the level of a sound in frames `start..end` beats while it is held, a straight fall or rise aside; `None` where it does not, or not twice.
pub(crate) fn beats(energy: &Energy, rate_hz: u32, start: usize, end: usize) -> Option<Beats> {
    let (first, last) = settled(energy, rate_hz, start, end.min(energy.frames()))?;
    let hop = frames_of_ms(rate_hz, HOP_MS).max(1);
    let levels: Vec<f64> = (first..last.saturating_sub(2 * hop))
        .step_by(hop)
        .map(|at| 20.0 * energy.rms(at, at + 2 * hop).max(1e-9).log10())
        .collect();
    if levels.len() < FEWEST_MOMENTS {
        return None;
    }
    let swing = without_line(&levels);
    let mut sorted = swing.clone();
    let depth_db = percentile(&mut sorted, 0.95) - percentile(&mut sorted, 0.05);
    let power = swing.iter().map(|x| x * x).sum::<f64>() / swing.len() as f64;
    if depth_db < LEAST_DB {
        return None;
    }
    let alike = |lag: usize| {
        let pairs = swing.iter().zip(&swing[lag..]);
        pairs.map(|(a, b)| a * b).sum::<f64>() / (swing.len() - lag) as f64 / power
    };
    let course: Vec<f64> = (0..=swing.len() / 2).map(alike).collect();
    // After it has gone the other way for the first time.
    let turned = course.iter().position(|x| *x < 0.0)?;
    let round = (turned..course.len().saturating_sub(1))
        .find(|&n| n > 0 && course[n] > ALIKE && course[n] >= course[n - 1] && course[n] >= course[n + 1])?;
    Some(Beats {
        seconds: (round * hop) as f64 / f64::from(rate_hz),
        depth_db,
    })
}

/// What is left of a course once its straight line of least squares is taken out.
fn without_line(course: &[f64]) -> Vec<f64> {
    let count = course.len() as f64;
    let (middle, mean) = ((count - 1.0) / 2.0, course.iter().sum::<f64>() / count);
    let (mut slope, mut spread) = (0.0, 0.0);
    for (n, x) in course.iter().enumerate() {
        let off = n as f64 - middle;
        slope += off * (x - mean);
        spread += off * off;
    }
    let slope = slope / spread.max(1e-9);
    let line = |n: usize| mean + slope * (n as f64 - middle);
    course.iter().enumerate().map(|(n, x)| x - line(n)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Audio;
    use std::f64::consts::TAU;

    /// Two tones beside each other, for so long, dying by so many decibels a second.
    fn two(hz: f64, apart_hz: f64, seconds: usize, dies_db: f64) -> Audio {
        let samples = (0..seconds * 24_000)
            .map(|n| {
                let t = n as f64 / 24_000.0;
                let both = (TAU * hz * t).sin() + 0.6 * (TAU * (hz + apart_hz) * t).sin();
                (both * 0.3 * 10f64.powf(-dies_db * t / 20.0)) as f32
            })
            .collect();
        Audio::mono(24_000, samples)
    }

    fn heard(audio: &Audio) -> Option<Beats> {
        beats(&Energy::of(audio), audio.rate_hz, 0, audio.frames())
    }

    #[test]
    fn two_tones_beat_by_their_difference() {
        for (apart_hz, seconds, dies_db) in [(0.3, 12, 0.0), (1.0, 5, 0.0), (2.5, 4, 1.5)] {
            let audio = two(220.0, apart_hz, seconds, dies_db);
            let found = heard(&audio).unwrap();
            assert!(
                (found.seconds * apart_hz - 1.0).abs() < 0.06 && found.depth_db > 6.0,
                "{apart_hz} Hz: {found:?}"
            );
        }
    }

    #[test]
    fn what_stands_or_does_not_come_round_does_not_beat() {
        let still = two(220.0, 0.0, 4, 2.0);
        assert_eq!(heard(&still), None);
        let slow = two(220.0, 0.1, 4, 0.0);
        assert_eq!(heard(&slow), None);
        assert_eq!(heard(&Audio::mono(48_000, Vec::new())), None);
    }
}
