//! From more bits to 16.

use serde::{Deserialize, Serialize};
use signal::Audio;

/// A step of 16 bits.
const STEPS: f64 = 32_768.0;

/// How noise that stands for what rounding leaves lies in the band.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Dither {
    /// Alike everywhere.
    #[default]
    Flat,
    /// Less where the ear is sharpest, around 3 kHz, and more above 12 kHz; at 44.1 and 48 kHz, alike everywhere at other rates.
    Shaped,
}

/// What comes back of the errors before (Lipshitz, Vanderkooy and Wannamaker, "Minimally Audible Noise Shaping", JAES 39 (11), 1991: five taps, for 44.1 kHz; from memory).
const FED_BACK: [f64; 5] = [2.033, -2.165, 1.959, -1.590, 0.6149];

/// The same on the steps of 16 bits. What lies there already is left as it is; all else gets triangular noise of two steps' width before it is rounded, so that what
/// rounding leaves is noise that does not follow the sound (Lipshitz, Wannamaker and Vanderkooy, "Quantization and Dither: A Theoretical Survey", JAES 40 (5), 1992,
/// from memory). The noise is drawn from the place of each frame: the same sound gives the same bytes.
pub fn to_16_bits(audio: &Audio, dither: Dither) -> Audio {
    let is_shaped = dither == Dither::Shaped && [44_100, 48_000].contains(&audio.rate_hz);
    let on_steps = |x: &f32| (f64::from(*x) * STEPS).fract() == 0.0 && x.abs() <= 1.0;
    if audio.channels.iter().flatten().all(on_steps) {
        return audio.clone();
    }
    let channels = (0u64..).zip(&audio.channels).map(|(side, frames)| {
        let mut noise = Noise(side.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0x5DEE_CE66);
        let mut errors = [0.0; FED_BACK.len()];
        let rounded = frames.iter().map(|x| {
            let fed_back: f64 = FED_BACK.iter().zip(&errors).map(|(tap, error)| tap * error).sum();
            let wanted = f64::from(*x) * STEPS - fed_back;
            let value = (wanted + noise.next() + noise.next() - 1.0).round();
            if is_shaped {
                errors.rotate_right(1);
                errors[0] = value - wanted;
            }
            (value.clamp(-STEPS, STEPS - 1.0) / STEPS) as f32
        });
        rounded.collect()
    });
    Audio {
        rate_hz: audio.rate_hz,
        channels: channels.collect(),
    }
}

/// Numbers from 0 to 1 (SplitMix64: Steele, Lea and Flood, *Fast Splittable Pseudorandom Number Generators*, 2014).
struct Noise(u64);

impl Noise {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_16_bits_keeps_them_and_all_else_is_the_same_each_time() {
        let exact = Audio::mono(48_000, vec![0.0, 1.0 / 32_768.0, -1.0, 0.5]);
        assert_eq!(to_16_bits(&exact, Dither::Flat), exact);
        assert_eq!(to_16_bits(&exact, Dither::Shaped), exact);
        let between = Audio::mono(48_000, vec![0.000_01; 64]);
        for dither in [Dither::Flat, Dither::Shaped] {
            assert_eq!(to_16_bits(&between, dither), to_16_bits(&between, dither));
            assert_ne!(to_16_bits(&between, dither), between);
        }
    }

    /// The error around 3 kHz is 20 dB less, and follows the curve of the five taps within a decibel.
    #[test]
    fn shaped_noise_lies_where_it_is_not_heard() {
        let silence = Audio::mono(48_000, vec![0.3 / 32_768.0; 1 << 16]);
        let power_at = |dither, hz: f64| {
            let heard = to_16_bits(&silence, dither);
            let errors: Vec<f64> = heard.channels[0]
                .iter()
                .map(|y| f64::from(*y) * STEPS - 0.3)
                .collect();
            let pieces: Vec<f64> = errors
                .chunks(1_024)
                .map(|piece| {
                    let (mut re, mut im) = (0.0, 0.0);
                    for (n, x) in piece.iter().enumerate() {
                        let at = std::f64::consts::TAU * hz * n as f64 / 48_000.0;
                        let window = (std::f64::consts::PI * n as f64 / 1_024.0).sin().powi(2);
                        (re, im) = (re + x * window * at.cos(), im + x * window * at.sin());
                    }
                    re * re + im * im
                })
                .collect();
            10.0 * (pieces.iter().sum::<f64>() / pieces.len() as f64).log10()
        };
        for hz in [1_500.0, 3_000.0, 4_500.0, 9_000.0, 15_000.0, 20_250.0] {
            let at = std::f64::consts::TAU * hz / 48_000.0;
            let (mut re, mut im) = (1.0, 0.0);
            for (n, tap) in (1..).zip(FED_BACK) {
                let angle = at * f64::from(n);
                (re, im) = (re - tap * angle.cos(), im + tap * angle.sin());
            }
            let expected = 10.0 * (re * re + im * im).log10();
            let measured = power_at(Dither::Shaped, hz) - power_at(Dither::Flat, hz);
            assert!(
                (measured - expected).abs() < 2.5,
                "{hz}: {measured:.1} for {expected:.1}"
            );
        }
        assert!(power_at(Dither::Shaped, 3_500.0) < power_at(Dither::Flat, 3_500.0) - 15.0);
    }

    /// Of a sine a third of a step high, rounding leaves nothing at all; with the noise its mean is there, and what is left has the same power wherever the
    /// sine stands: of triangular noise and rounding a quarter of a step squared.
    #[test]
    fn what_is_lost_is_noise_that_does_not_follow_the_sound() {
        let frames = 480_000;
        let sine: Vec<f64> = (0..frames).map(|n| (f64::from(n) * 0.01).sin() / 3.0).collect();
        let audio = Audio::mono(48_000, sine.iter().map(|x| (x / STEPS) as f32).collect());
        let heard = to_16_bits(&audio, Dither::Flat);
        let errors: Vec<f64> = (sine.iter().zip(&heard.channels[0]))
            .map(|(x, y)| f64::from(*y) * STEPS - x)
            .collect();
        let follows: f64 = errors.iter().zip(&sine).map(|(e, x)| e * x).sum::<f64>() / f64::from(frames);
        assert!(follows.abs() < 0.001, "{follows}");
        for above in [true, false] {
            let of = errors
                .iter()
                .zip(&sine)
                .filter(|(_, x)| (x.abs() > 0.25) == above);
            let squares: Vec<f64> = of.map(|(e, _)| e * e).collect();
            let power = squares.iter().sum::<f64>() / squares.len() as f64;
            assert!((power - 0.25).abs() < 0.01, "{power}");
        }
    }
}
