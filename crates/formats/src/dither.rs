//! From more bits to 16.

use signal::Audio;

/// A step of 16 bits.
const STEPS: f64 = 32_768.0;

/// The same on the steps of 16 bits. What lies there already is left as it is; all else gets triangular noise of two steps' width before it is rounded, so that what
/// rounding leaves is noise that does not follow the sound (Lipshitz, Wannamaker and Vanderkooy, "Quantization and Dither: A Theoretical Survey", JAES 40 (5), 1992,
/// from memory). The noise is drawn from the place of each frame: the same sound gives the same bytes.
pub fn to_16_bits(audio: &Audio) -> Audio {
    let on_steps = |x: &f32| (f64::from(*x) * STEPS).fract() == 0.0 && x.abs() <= 1.0;
    if audio.channels.iter().flatten().all(on_steps) {
        return audio.clone();
    }
    let channels = (0u64..).zip(&audio.channels).map(|(side, frames)| {
        let mut noise = Noise(side.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0x5DEE_CE66);
        let rounded = frames.iter().map(|x| {
            let value = (f64::from(*x) * STEPS + noise.next() + noise.next() - 1.0).round();
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
        assert_eq!(to_16_bits(&exact), exact);
        let between = Audio::mono(48_000, vec![0.000_01; 64]);
        assert_eq!(to_16_bits(&between), to_16_bits(&between));
        assert_ne!(to_16_bits(&between), between);
    }

    /// Of a sine a third of a step high, rounding leaves nothing at all; with the noise its mean is there, and what is left has the same power wherever the
    /// sine stands: of triangular noise and rounding a quarter of a step squared.
    #[test]
    fn what_is_lost_is_noise_that_does_not_follow_the_sound() {
        let frames = 480_000;
        let sine: Vec<f64> = (0..frames).map(|n| (f64::from(n) * 0.01).sin() / 3.0).collect();
        let audio = Audio::mono(48_000, sine.iter().map(|x| (x / STEPS) as f32).collect());
        let heard = to_16_bits(&audio);
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
