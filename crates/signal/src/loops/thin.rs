//! A sound at a lower rate, with its bands: what a search for loops looks at before it looks to the frame.

use super::LoopCandidate;
use super::listen::Listener;
use super::rough::Rough;
use super::worth::Lively;
use crate::Audio;
use crate::bands::{Bands, Ear, Levels};

/// The lower rate is this at least.
const RATE_HZ: f64 = 11_000.0;
/// And a period has so many frames.
const FRAMES_A_PERIOD: f64 = 6.0;

/// The sound. All frames are those of the lower rate.
pub(super) struct Thin {
    /// Frames of the sound itself for one of these.
    pub(super) by: usize,
    /// Frames per second.
    pub(super) rate: f64,
    /// Where the sound begins and ends.
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) period: Option<f64>,
    /// All channels.
    pub(super) sides: Vec<Vec<f32>>,
    /// Their mean.
    pub(super) heard: Listener,
    pub(super) hop: usize,
    /// In dB, a row a moment, and the ear that hears them.
    pub(super) moments: Vec<Levels>,
    pub(super) ear: Ear,
    /// Level of each moment, in dB.
    pub(super) loudness: Vec<f32>,
    /// From which length on a loop is lively.
    pub(super) lively: Lively,
}

impl Thin {
    pub(super) fn of(audio: &Audio, start: usize, end: usize, period: Option<f64>) -> Self {
        let rate = f64::from(audio.rate_hz);
        let by = (rate / RATE_HZ)
            .min(period.map_or(f64::MAX, |period| period / FRAMES_A_PERIOD))
            .max(1.0) as usize;
        let thinned = |channel: &Vec<f32>| -> Vec<f32> {
            channel
                .chunks_exact(by)
                .map(|frames| frames.iter().sum::<f32>() / by as f32)
                .collect()
        };
        let sides: Vec<Vec<f32>> = audio.channels.iter().map(thinned).collect();
        let mono = match &sides[..] {
            [one] => one.clone(),
            _ => thinned(&audio.to_mono()),
        };
        let rate_hz = audio.rate_hz / by as u32;
        let heard = Listener::new(mono, rate_hz, Bands::fast(rate_hz));
        let hop = heard.hop();
        let (ear, moments, loudness) = heard.moments();
        let (start, end) = (start / by, (end / by).min(heard.samples.len()));
        let rate = rate / by as f64;
        let inside = (start / hop).min(loudness.len())..(end / hop).min(loudness.len());
        let lively = lively(&loudness[inside], hop as f64 / rate);
        Self {
            by,
            rate,
            start,
            end,
            period: period.map(|period| period / by as f64),
            lively,
            sides,
            hop,
            ear,
            moments,
            heard,
            loudness,
        }
    }

    /// A loop that was found in the sound itself.
    pub(super) fn place(&self, found: &LoopCandidate) -> Rough {
        let start = found.start_frame / self.by;
        Rough {
            start,
            end: start + (found.end_frame - found.start_frame + self.by / 2) / self.by,
            likeness: f32::from(found.likeness_percent) / 100.0,
        }
    }

    /// Of a moment.
    pub(super) fn middle(&self, moment: usize) -> usize {
        moment * self.hop + self.heard.window() / 2
    }
}

/// From which length on a loop is lively: half of the sound, and no more than this.
const LIVELY_SHARE: f64 = 0.5;
const LIVELY_S: f64 = 0.55;
/// Of a dying sound, what falls by no more than this; and no less than this.
const FALL_DB: f64 = 0.7;
const SHORTEST_S: f64 = 0.016;
/// A fall over the second half is believed from here on, and where it is so many times what the levels scatter around it.
const FALLS_DB: f64 = 1.4;
const FALLS_TIMES: f64 = 3.0;
const FEWEST_MOMENTS: usize = 6;

fn lively(loudness: &[f32], moment_s: f64) -> Lively {
    let wished = (LIVELY_SHARE * loudness.len() as f64 * moment_s).min(LIVELY_S);
    let fall = falls(&loudness[loudness.len() / 2..]);
    let seconds = fall.map_or(wished, |db| wished.min(FALL_DB * moment_s / db));
    Lively {
        seconds: seconds.max(SHORTEST_S),
        dies: fall.is_some(),
    }
}

/// By how much the level falls from moment to moment, in dB, by a straight line of least squares; `None` where that is not certain.
fn falls(loudness: &[f32]) -> Option<f64> {
    if loudness.len() < FEWEST_MOMENTS {
        return None;
    }
    let count = loudness.len() as f64;
    let mean = loudness.iter().map(|x| f64::from(*x)).sum::<f64>() / count;
    // How far each moment lies from the middle one, and its level from the mean.
    let off: Vec<(f64, f64)> = loudness
        .iter()
        .enumerate()
        .map(|(n, x)| (n as f64 - (count - 1.0) / 2.0, f64::from(*x) - mean))
        .collect();
    let slope = off.iter().map(|(t, x)| t * x).sum::<f64>() / off.iter().map(|(t, _)| t * t).sum::<f64>();
    let scatter = (off.iter().map(|(t, x)| (x - slope * t).powi(2)).sum::<f64>() / count).sqrt();
    let fall = -slope * count;
    (fall > FALLS_DB && fall > FALLS_TIMES * scatter).then_some(-slope)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_dies_is_lively_in_a_short_loop_and_what_moves_in_half_a_second() {
        let of = |level: &dyn Fn(f32) -> f32| {
            let loudness: Vec<f32> = (0..300).map(|n| level(n as f32 / 100.0)).collect();
            lively(&loudness, 0.01)
        };
        let moving = of(&|t| (t * 30.0).sin() * 3.0 - t);
        assert!(!moving.dies && (moving.seconds - LIVELY_S).abs() < 1e-9);
        // 10 dB a second: 0.7 dB take 70 ms.
        let dying = of(&|t| -10.0 * t);
        assert!(dying.dies && (dying.seconds - 0.07).abs() < 1e-3, "{dying:?}");
        let short = lively(&[0.0; 20], 0.01);
        assert!((short.seconds - 0.1).abs() < 1e-9);
    }
}
