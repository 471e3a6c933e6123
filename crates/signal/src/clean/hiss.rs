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

pub(super) fn hiss(audio: &mut Audio, wish: &Hiss, silence: &Range<usize>, room: &[f32]) {
    let rate_hz = audio.rate_hz;
    let stft = Stft::new(rate_hz);
    let least = crate::db_to_amplitude(-wish.reduction_db.clamp(0.0, 60.0)) as f32;
    for channel in &mut audio.channels {
        let mut frames = stft.forward(channel);
        let floor = fingerprint(&frames, &stft, silence, (room, rate_hz));
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

/// Noise is told in bands of a third of an octave from here up to half the rate.
const BANDS_FROM_HZ: f64 = 31.5;
const PER_OCTAVE: f64 = 3.0;

fn band_of(hz: f64) -> usize {
    ((hz.max(BANDS_FROM_HZ) / BANDS_FROM_HZ).log2() * PER_OCTAVE).floor() as usize
}

/// The power of a silence per hertz, in dB relative to full scale, in bands of a third of an octave from 31.5 Hz, all channels' mean; to the tenth
/// of a decibel. Empty where the silence is shorter than one spectrum (43 ms).
pub fn noise_bands(silence: &Audio) -> Vec<f32> {
    let stft = Stft::new(silence.rate_hz);
    let per_bin = f64::from(silence.rate_hz) / stft.size() as f64;
    let count = band_of(f64::from(silence.rate_hz) / 2.0 - per_bin) + 1;
    let (mut power, mut bins_in) = (vec![0.0f64; count], vec![0.0f64; count]);
    for channel in &silence.channels {
        for (n, frame) in stft.forward(channel).iter().enumerate() {
            let span = stft.span(n);
            if span.start < 0 || span.end > channel.len() as i64 {
                continue;
            }
            for (bin, x) in frame.iter().enumerate().skip(1) {
                let band = band_of(bin as f64 * per_bin).min(count - 1);
                power[band] += f64::from(x.norm_sqr()) / bin_power(&stft, silence.rate_hz);
                bins_in[band] += 1.0;
            }
        }
    }
    if bins_in.iter().all(|bins| *bins == 0.0) {
        return Vec::new();
    }
    power
        .iter()
        .zip(&bins_in)
        .map(|(power, bins)| {
            let db = 10.0 * (power / bins.max(1.0)).max(1e-20).log10();
            ((db * 10.0).round() / 10.0) as f32
        })
        .collect()
}

/// The expected power of a bin for noise of one unit of power per hertz: the rate, times a quarter of the window's length, since the squares of
/// its values add up to half of it and half the rate bears all the power.
fn bin_power(stft: &Stft, rate_hz: u32) -> f64 {
    f64::from(rate_hz) * stft.size() as f64 / 4.0
}

/// Mean power of each bin where nothing sounds: from the take's own silence, else from the room's, else from its quietest moments.
fn fingerprint(
    frames: &[Vec<Complex<f32>>],
    stft: &Stft,
    silence: &Range<usize>,
    (room, rate_hz): (&[f32], u32),
) -> Vec<f32> {
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
            } else if let Some(db) = room_at(room, bin as f64 * f64::from(rate_hz) / stft.size() as f64) {
                (10f64.powf(f64::from(db) / 10.0) * bin_power(stft, rate_hz)) as f32
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

/// The room's noise at a frequency.
fn room_at(room: &[f32], hz: f64) -> Option<f32> {
    room.get(band_of(hz)).or(room.last()).copied()
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
        hiss(&mut audio, &WISH, &(0..from), &[]);
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
        hiss(&mut audio, &WISH, &(0..24_000), &[]);
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
        hiss(&mut audio, &WISH, &(0..0), &[]);
        assert!(before - rms_db(&audio.channels[0]) > 10.0);
    }

    /// White noise of RMS r has the power r² over half the rate: r²/24,000 per hertz at 48 kHz.
    #[test]
    fn the_rooms_noise_is_told_in_bands_and_serves_a_take_without_silence() {
        let room = noise_bands(&Audio::mono(RATE, noise(0.003, 48_000, 9)));
        let expected = 20.0 * 0.003f64.log10() - 10.0 * 24_000f64.log10();
        for db in &room[6..] {
            assert!((f64::from(*db) - expected).abs() < 1.0, "{db} for {expected}");
        }
        assert!(noise_bands(&Audio::mono(RATE, vec![0.0; 100])).is_empty());
        // A tone from the first frame to the last: no silence, and no quiet moments in its own bins.
        let frames = 2 * RATE as usize;
        let sound = tone(440.0, 0.2, frames);
        let mut audio = Audio::mono(RATE, sum(&noise(0.003, frames, 10), &sound));
        hiss(&mut audio, &WISH, &(0..0), &room);
        let out = &audio.channels[0][20_000..80_000];
        let rest: Vec<f32> = out
            .iter()
            .zip(&sound[20_000..80_000])
            .map(|(a, b)| a - b)
            .collect();
        assert!(
            rms_db(&rest) < rms_db(&noise(0.003, frames, 10)) - 8.0,
            "{}",
            rms_db(&rest)
        );
        assert!((rms_db(out) - rms_db(&sound)).abs() < 0.1);
    }
}
