//! Hiss, taken out by its spectrum.
//!
//! Each bin's gain is Wiener's, ξ/(1 + ξ), with the a-priori signal-to-noise ratio ξ carried from frame to frame by the decision-directed
//! rule of Y. Ephraim and D. Malah (IEEE Trans. ASSP 32, 1984), whose slowness in noise is what keeps the rest from warbling
//! (O. Cappé, IEEE Trans. Speech Audio Proc. 2, 1994); and it never falls under the wished reduction.

use super::Hiss;
use crate::Audio;
use crate::stft::{Stft, bins};
use realfft::num_complex::Complex;
use std::ops::Range;

/// How much of ξ comes from the frame before.
const MEMORY: f32 = 0.98;
/// The noise is taken for a little more than it is, so that its crests fall under it too.
const OVER: f32 = 1.6;
/// Bins over which the fingerprint is smoothed: few frames of silence are a rough one.
const SMOOTH: usize = 4;
/// Fewer frames of silence than this are no fingerprint; the quietest tenth of each bin's own course serves then.
const FEWEST: usize = 4;
/// Of an exponential distribution, which the power of noise in a bin has, the tenth percentile is −ln 0.9 of the mean.
const QUIETEST: f64 = 0.1;

pub(super) fn hiss(audio: &mut Audio, wish: &Hiss, silence: &Range<usize>) {
    let stft = Stft::new(audio.rate_hz);
    let least = crate::db_to_amplitude(-wish.reduction_db.clamp(0.0, 60.0)) as f32;
    for channel in &mut audio.channels {
        let mut frames = stft.forward(channel);
        let floor = fingerprint(&frames, &stft, silence);
        let mut before = vec![1.0f32; floor.len()];
        for frame in &mut frames {
            for ((bin, noise), kept) in frame.iter_mut().zip(&floor).zip(&mut before) {
                let over = bin.norm_sqr() / noise.max(f32::MIN_POSITIVE);
                let ratio = MEMORY * *kept + (1.0 - MEMORY) * (over - 1.0).max(0.0);
                let gain = (ratio / (1.0 + ratio)).max(least);
                *kept = gain * gain * over;
                *bin *= gain;
            }
        }
        *channel = stft.back(&frames, channel.len());
    }
}

/// Mean power of each bin where nothing sounds.
fn fingerprint(frames: &[Vec<Complex<f32>>], stft: &Stft, silence: &Range<usize>) -> Vec<f32> {
    let quiet: Vec<&Vec<Complex<f32>>> = frames
        .iter()
        .enumerate()
        .filter(|(n, _)| {
            let at = stft.span(*n);
            at.start >= silence.start as i64 && at.end <= silence.end as i64
        })
        .map(|(_, frame)| frame)
        .collect();
    let powers: Vec<f32> = (0..bins(stft.size()))
        .map(|bin| {
            if quiet.len() >= FEWEST {
                quiet.iter().map(|frame| frame[bin].norm_sqr()).sum::<f32>() / quiet.len() as f32
            } else {
                let mut all: Vec<f32> = frames.iter().map(|frame| frame[bin].norm_sqr()).collect();
                if all.is_empty() {
                    return 0.0;
                }
                let at = (all.len() as f64 * QUIETEST) as usize;
                let tenth = *all.select_nth_unstable_by(at, f32::total_cmp).1;
                tenth / -(1.0 - QUIETEST).ln() as f32
            }
        })
        .collect();
    (0..powers.len())
        .map(|bin| {
            let around = &powers[bin.saturating_sub(SMOOTH)..(bin + SMOOTH + 1).min(powers.len())];
            around.iter().sum::<f32>() / around.len() as f32 * OVER
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::{RATE, noise, rms_db, sum, tone};
    use super::*;

    const WISH: Hiss = Hiss { reduction_db: 15.0 };

    #[test]
    fn hiss_falls_by_what_was_wished_and_the_tone_stays() {
        let frames = 2 * RATE as usize;
        let (from, to) = (12_000, 84_000);
        let hiss_alone = noise(0.003, frames, 5);
        let sound: Vec<f32> = tone(440.0, 0.2, frames)
            .iter()
            .enumerate()
            .map(|(n, x)| if (from..to).contains(&n) { *x } else { 0.0 })
            .collect();
        let mut audio = Audio::mono(RATE, sum(&hiss_alone, &sound));
        hiss(&mut audio, &WISH, &(0..from));
        let out = &audio.channels[0];
        let fell = rms_db(&hiss_alone[86_000..]) - rms_db(&out[88_000..]);
        assert!((fell - 15.0).abs() < 1.5, "{fell}");
        let held = rms_db(&out[from + 4_000..to - 4_000]) - rms_db(&sound[from + 4_000..to - 4_000]);
        assert!(held.abs() < 0.1, "{held}");
        // What is left beside the tone is lower than the hiss was.
        let rest: Vec<f32> = out[30_000..70_000]
            .iter()
            .zip(&sound[30_000..70_000])
            .map(|(a, b)| a - b)
            .collect();
        assert!(rms_db(&rest) < rms_db(&hiss_alone) - 8.0, "{}", rms_db(&rest));
    }

    /// Warbling is single bins that come and go: the power of what is left, bin by bin, would scatter far more than noise does.
    #[test]
    fn what_is_left_does_not_warble() {
        let mut audio = Audio::mono(RATE, noise(0.01, 3 * RATE as usize, 6));
        hiss(&mut audio, &WISH, &(0..24_000));
        let scatter = |samples: &[f32]| {
            let stft = Stft::new(RATE);
            let frames = stft.forward(samples);
            let powers: Vec<f64> = frames[8..frames.len() - 8]
                .iter()
                .flat_map(|frame| frame[8..1_000].iter().map(|bin| f64::from(bin.norm_sqr())))
                .collect();
            let mean = powers.iter().sum::<f64>() / powers.len() as f64;
            powers.iter().map(|p| (p / mean - 1.0).powi(2)).sum::<f64>() / powers.len() as f64
        };
        // The power of Gaussian noise in a bin is distributed exponentially: its scatter is 1.
        let plain = scatter(&noise(0.01, 3 * RATE as usize, 7));
        let left = scatter(&audio.channels[0]);
        assert!((plain - 1.0).abs() < 0.1, "{plain}");
        assert!(left < 2.0, "{left}");
    }

    #[test]
    fn without_a_silence_the_quietest_moments_serve() {
        let mut audio = Audio::mono(RATE, noise(0.003, 2 * RATE as usize, 8));
        let before = rms_db(&audio.channels[0]);
        hiss(&mut audio, &WISH, &(0..0));
        assert!(before - rms_db(&audio.channels[0]) > 10.0);
    }
}
