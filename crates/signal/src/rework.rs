//! New takes from old: reversed, joined to a swell, resampled to another pitch, flattened in pitch.

use crate::{Audio, PitchPoint, frames_of_ms};
use rubato::{Resampler, SincFixedIn, SincInterpolationParameters, SincInterpolationType, WindowFunction};

/// The last frame first.
pub fn reversed(audio: &Audio) -> Audio {
    let mut out = audio.clone();
    for channel in &mut out.channels {
        channel.reverse();
    }
    out
}

/// A sound that grows out of itself: the take backwards, its beginning crossfaded into the beginning of the take forwards. Both ends of the
/// crossfade are the same sound mirrored, alike only at the turn, so that the fades keep the power (equal power).
pub fn swell(audio: &Audio, crossfade_ms: f64) -> Audio {
    let frames = audio.frames();
    let over = frames_of_ms(audio.rate_hz, crossfade_ms).clamp(1, frames.max(1));
    let mut out = audio.clone();
    for (channel, forward) in out.channels.iter_mut().zip(&audio.channels) {
        let mut joined: Vec<f32> = forward.iter().rev().copied().collect();
        joined.resize(2 * frames - over.min(frames), 0.0);
        for (n, &x) in forward.iter().enumerate() {
            let at = frames - over.min(frames) + n;
            if n < over {
                let angle = (n as f32 + 0.5) / over as f32 * std::f32::consts::FRAC_PI_2;
                joined[at] = joined[at] * angle.cos() + x * angle.sin();
            } else {
                joined[at] = x;
            }
        }
        *channel = joined;
    }
    out
}

/// Length of the sinc on either side, and steps between two frames: aliases and images lie under −100 dB (see the test).
const SINC_LEN: usize = 512;
/// What lies further from a frame than this many of the frames before does not reach what it is resampled to.
pub const RESAMPLING_REACH: usize = SINC_LEN / 2;
const OVERSAMPLING: usize = 256;
/// Share of the lower Nyquist frequency that passes unaltered, and a little more.
const CUTOFF: f32 = 0.95;
/// A pitch that moves is followed so often: 187 times a second at 48 kHz.
const MOVING_PIECE: usize = 256;

/// The sound at `ratio` times as many frames: an octave up is 0.5. The rate written beside it stays.
///
/// By the crate `rubato`: a windowed sinc, cubically interpolated between its tabled points. All of it comes early by [`resampling_lead`].
pub fn resampled(audio: &Audio, ratio: f64) -> Audio {
    warped(audio, ratio, 1_024, |_| ratio)
}

/// What [`resampled`] gives at a frame `n` is the recording at `n / ratio` and so many of its frames: always less than a frame of what is made. It is how the crate
/// counts, measured on a sine: its first frame is the end of its first step, less one of the recording's and a step of its table more.
pub fn resampling_lead(ratio: f64) -> f64 {
    1.0 / ratio - 1.0 + 1.0 / OVERSAMPLING as f64
}

/// The same sound at another rate.
pub fn at_rate(audio: &Audio, rate_hz: u32) -> Audio {
    let out = resampled(audio, f64::from(rate_hz) / f64::from(audio.rate_hz.max(1)));
    Audio { rate_hz, ..out }
}

/// Resampling by a ratio that follows the frame of the recording, piece by piece of so many frames; inside a piece it goes in a straight
/// line. No ratio lies further than an octave from `middle`.
fn warped(audio: &Audio, middle: f64, piece_frames: usize, ratio_at: impl Fn(usize) -> f64) -> Audio {
    let (frames, sides) = (audio.frames(), audio.channels.len());
    if frames == 0 || sides == 0 || !(middle.is_finite() && middle > 0.0) {
        return audio.clone();
    }
    let parameters = SincInterpolationParameters {
        sinc_len: SINC_LEN,
        f_cutoff: CUTOFF,
        oversampling_factor: OVERSAMPLING,
        interpolation: SincInterpolationType::Cubic,
        window: WindowFunction::BlackmanHarris2,
    };
    const REACH: f64 = 2.0;
    let Ok(mut resampler) = SincFixedIn::<f32>::new(middle, REACH, parameters, piece_frames, sides) else {
        return audio.clone();
    };
    let mut out: Vec<Vec<f32>> = vec![Vec::new(); sides];
    let (mut wanted, mut before) = (0.0, middle);
    let mut first = 0;
    // The last pieces are silence, which brings out what is still inside.
    while first < frames || (out[0].len() as f64) < wanted {
        let ratio = ratio_at(first.min(frames - 1)).clamp(middle / REACH, middle * REACH);
        if first < frames {
            wanted += (frames - first).min(piece_frames) as f64 * (before + ratio) / 2.0;
        }
        before = ratio;
        let piece: Vec<Vec<f32>> = audio
            .channels
            .iter()
            .map(|channel| {
                (first..first + piece_frames)
                    .map(|at| channel.get(at).copied().unwrap_or(0.0))
                    .collect()
            })
            .collect();
        if resampler.set_resample_ratio(ratio, true).is_err() {
            break;
        }
        match resampler.process(&piece, None) {
            Ok(made) => out
                .iter_mut()
                .zip(made)
                .for_each(|(side, more)| side.extend(more)),
            Err(_) => break,
        }
        first += piece_frames;
    }
    let length = wanted.round() as usize;
    Audio {
        rate_hz: audio.rate_hz,
        channels: out
            .into_iter()
            .map(|mut side| {
                // The crate begins with the first frame under the middle of its sinc: there is no delay to take out.
                side.resize(length, 0.0);
                side
            })
            .collect(),
    }
}

/// The sound with a share of its movement in pitch taken out: each moment is played faster or slower by what its pitch lies over `cents`, cents
/// above `key`. 1 takes all of a glide or vibrato, 0 nothing. Where no pitch is heard, the nearest one counts.
pub fn flattened(audio: &Audio, curve: &[PitchPoint], key: u8, cents: f64, share: f64) -> Audio {
    let target = f64::from(key) * 100.0 + cents;
    let points: Vec<(f64, f64)> = curve
        .iter()
        .map(|point| {
            (
                point.frame as f64,
                (69.0 + 12.0 * (point.hz / 440.0).log2()) * 100.0 - target,
            )
        })
        .filter(|(_, over)| over.abs() < 600.0)
        .collect();
    if points.is_empty() {
        return audio.clone();
    }
    warped(audio, 1.0, MOVING_PIECE, |frame| {
        let over = between(&points, frame as f64 + MOVING_PIECE as f64);
        (over * share.clamp(0.0, 1.0) / 1200.0).exp2()
    })
}

/// The value of a rising list of points at `x`, in straight lines; before and after them as at their ends.
fn between(points: &[(f64, f64)], x: f64) -> f64 {
    let after = points.partition_point(|(at, _)| *at <= x);
    match (after.checked_sub(1).map(|n| points[n]), points.get(after)) {
        (Some((x0, y0)), Some((x1, y1))) => y0 + (y1 - y0) * (x - x0) / (x1 - x0),
        (Some((_, y)), None) | (None, Some(&(_, y))) => y,
        (None, None) => 0.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    const RATE: u32 = 48_000;

    fn sine(hz: f64, frames: usize) -> Audio {
        let samples = (0..frames)
            .map(|n| ((n as f64 * hz / f64::from(RATE) * TAU).sin() * 0.5) as f32)
            .collect();
        Audio::mono(RATE, samples)
    }

    /// Level of one frequency and of all the rest, in dB, from the middle of a sound, under a Blackman–Harris window.
    fn levels(samples: &[f32], rate_hz: f64, hz: f64) -> (f64, f64) {
        let middle = &samples[samples.len() / 4..samples.len() * 3 / 4];
        let count = middle.len();
        let windowed: Vec<f64> = middle
            .iter()
            .enumerate()
            .map(|(n, x)| {
                let at = TAU * n as f64 / count as f64;
                // The four-term window of F. J. Harris (Proc. IEEE 66, 1978): side lobes at −92 dB.
                let window =
                    0.35875 - 0.48829 * at.cos() + 0.14128 * (2.0 * at).cos() - 0.01168 * (3.0 * at).cos();
                f64::from(*x) * window
            })
            .collect();
        let weight = 0.35875 * count as f64 / 2.0;
        let (mut re, mut im) = (0.0, 0.0);
        for (n, x) in windowed.iter().enumerate() {
            let (sin, cos) = (TAU * hz * n as f64 / rate_hz).sin_cos();
            re += x * cos;
            im += x * sin;
        }
        let tone = (re * re + im * im).sqrt() / weight;
        // What is left once the tone is taken out by least squares.
        let (a, b) = fit(middle, rate_hz, hz);
        let rest = middle
            .iter()
            .enumerate()
            .map(|(n, x)| {
                let (sin, cos) = (TAU * hz * n as f64 / rate_hz).sin_cos();
                (f64::from(*x) - a * cos - b * sin).powi(2)
            })
            .sum::<f64>()
            / count as f64;
        (20.0 * tone.log10(), 10.0 * rest.max(1e-20).log10())
    }

    /// Least squares of a cosine and a sine.
    fn fit(samples: &[f32], rate_hz: f64, hz: f64) -> (f64, f64) {
        let (mut cc, mut ss, mut cs, mut xc, mut xs) = (0.0, 0.0, 0.0, 0.0, 0.0);
        for (n, x) in samples.iter().enumerate() {
            let (sin, cos) = (TAU * hz * n as f64 / rate_hz).sin_cos();
            let x = f64::from(*x);
            (cc, ss, cs) = (cc + cos * cos, ss + sin * sin, cs + sin * cos);
            (xc, xs) = (xc + x * cos, xs + x * sin);
        }
        let det = cc * ss - cs * cs;
        ((xc * ss - xs * cs) / det, (xs * cc - xc * cs) / det)
    }

    /// Bars page, "resampling": ripple ≤ 0.05 dB to 0.9 of the lower Nyquist, images and aliases ≤ −100 dB, by sines across the band.
    #[test]
    fn resampling_keeps_the_band_and_adds_nothing() {
        for ratio in [0.5, 44_100.0 / 48_000.0, 1.0595, 2.0] {
            let lower = f64::from(RATE) / 2.0 * f64::min(ratio, 1.0);
            let (mut worst_ripple, mut worst_rest) = (0.0f64, f64::MIN);
            for step in 1..=18 {
                let hz = lower * 0.9 * f64::from(step) / 18.0;
                let out = resampled(&sine(hz, 32_000), ratio);
                let (tone, rest) = levels(&out.channels[0], f64::from(RATE) * ratio, hz);
                worst_ripple = worst_ripple.max((tone + 6.0206).abs());
                worst_rest = worst_rest.max(rest - tone);
            }
            println!("ratio {ratio:.4}: ripple {worst_ripple:.4} dB, images {worst_rest:.1} dB");
            assert!(worst_ripple <= 0.05, "{ratio}: {worst_ripple}");
            assert!(worst_rest <= -100.0, "{ratio}: {worst_rest}");
        }
        // What lies over the new half rate must not come back.
        for hz in [13_300.0, 16_000.0, 20_000.0, 23_000.0] {
            let out = resampled(&sine(hz, 32_000), 0.5);
            let level = crate::rms_dbfs(&out.slice(2_000, 14_000));
            assert!(level <= -100.0, "{hz}: {level}");
        }
    }

    #[test]
    fn resampling_keeps_length_and_place() {
        let mut impulse = Audio::mono(RATE, vec![0.0; 20_000]);
        impulse.channels[0][9_000] = 1.0;
        for ratio in [0.75, 1.0, 1.5] {
            let out = resampled(&impulse, ratio);
            assert_eq!(out.frames(), (20_000.0 * ratio) as usize);
            let top = (0..out.frames()).max_by(|a, b| out.channels[0][*a].total_cmp(&out.channels[0][*b]));
            let expected = (9_000.0 * ratio) as usize;
            assert!(
                top.unwrap().abs_diff(expected) <= 1,
                "{ratio}: {top:?} for {expected}"
            );
        }
        assert_eq!(at_rate(&impulse, 44_100).frames(), 18_375);
        let empty = Audio::mono(RATE, Vec::new());
        assert_eq!(resampled(&empty, 2.0), empty);
    }

    #[test]
    fn a_glide_is_flattened_wholly_or_by_half() {
        // From 60 cents above 440 Hz, dying away to it, as a struck string's.
        let cents = |t: f64| 60.0 * (-t * 2.0).exp();
        let mut phase = 0.0;
        let samples = (0..2 * RATE)
            .map(|n| {
                let t = f64::from(n) / f64::from(RATE);
                phase += 440.0 * (cents(t) / 1200.0).exp2() / f64::from(RATE);
                ((phase * TAU).sin() * 0.5) as f32
            })
            .collect();
        let audio = Audio::mono(RATE, samples);
        let range = |audio: &Audio| {
            let curve = crate::pitch_curve(&audio.channels[0], RATE, 0, audio.frames(), 445.0, 960);
            let cents: Vec<f64> = curve.iter().map(|p| 1200.0 * (p.hz / 440.0).log2()).collect();
            let inside = &cents[4..cents.len() - 4];
            inside.iter().copied().fold(f64::MIN, f64::max) - inside.iter().copied().fold(f64::MAX, f64::min)
        };
        let curve = crate::pitch_curve(&audio.channels[0], RATE, 0, audio.frames(), 445.0, 480);
        let before = range(&audio);
        let whole = range(&flattened(&audio, &curve, 69, 0.0, 1.0));
        let half = range(&flattened(&audio, &curve, 69, 0.0, 0.5));
        println!("glide {before:.1} ct, flattened {whole:.2}, by half {half:.1}");
        assert!(before > 40.0 && whole < 3.0, "{before} {whole}");
        assert!((half / before - 0.5).abs() < 0.1, "{half} of {before}");
    }

    #[test]
    fn a_swell_grows_and_turns_without_a_dip() {
        let audio = Audio::mono(
            RATE,
            (0..24_000)
                .map(|n| (f64::from(n) * 0.05).sin() as f32 * (-(n as f32) / 8_000.0).exp())
                .collect(),
        );
        let out = swell(&audio, 20.0);
        assert_eq!(out.frames(), 48_000 - 960);
        let level = |from: usize, to: usize| crate::rms_dbfs(&out.slice(from, to));
        assert!(level(0, 4_000) < level(19_000, 23_000) - 12.0);
        assert!(level(44_000, 47_000) < level(24_000, 28_000) - 12.0);
        assert!((level(23_040, 24_000) - level(22_000, 23_000)).abs() < 3.0);
        assert_eq!(reversed(&reversed(&audio)), audio);
    }
}
