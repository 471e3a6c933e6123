//! What silence tells of a rig: its floor, and the hum in it.

use instrument::SoundCheck;
use signal::{Audio, amplitude_to_db, noise_bands};
use std::f64::consts::TAU;

/// A hum is named where it holds this much of the silence's power: −6 dB.
const STANDS_OUT: f64 = 0.25;
/// Partials of the mains that are looked for.
const PARTIALS: u32 = 5;

/// Power of one frequency in a stretch, by correlation with a cosine and a sine (Goertzel's sum, unwindowed).
fn power_at(mono: &[f32], rate_hz: u32, hz: f64) -> f64 {
    let (mut re, mut im) = (0.0, 0.0);
    for (n, &x) in mono.iter().enumerate() {
        let (sin, cos) = (TAU * hz * n as f64 / f64::from(rate_hz)).sin_cos();
        re += f64::from(x) * cos;
        im += f64::from(x) * sin;
    }
    let amplitude = 2.0 * (re * re + im * im).sqrt() / mono.len().max(1) as f64;
    amplitude * amplitude / 2.0
}

/// Floor and hum of a silence of 200 ms or more. Its length is cut to whole periods of 10 Hz, of which both 50 and 60 Hz are multiples.
pub fn check_silence(audio: &Audio) -> SoundCheck {
    let (mono, rate_hz) = (audio.to_mono(), audio.rate_hz);
    let block = (rate_hz / 10).max(1) as usize;
    let mono = &mono[..mono.len() / block * block];
    let power = mono.iter().map(|&x| f64::from(x) * f64::from(x)).sum::<f64>() / mono.len().max(1) as f64;
    let of = |mains: f64| -> f64 {
        (1..=PARTIALS)
            .map(|n| power_at(mono, rate_hz, mains * f64::from(n)))
            .sum()
    };
    let (hz, hum) = [50.0, 60.0]
        .map(|mains| (mains, of(mains)))
        .into_iter()
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .unwrap_or((50.0, 0.0));
    let stands_out = power > 0.0 && hum / power > STANDS_OUT;
    SoundCheck {
        noise_floor_dbfs: amplitude_to_db(power.sqrt().max(1e-6)),
        hum_dbfs: stands_out.then(|| amplitude_to_db(hum.sqrt())),
        hum_hz: stands_out.then_some(hz),
        noise_bands: noise_bands(audio),
        ..SoundCheck::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rig::{Model, Rig, RigSettings};

    fn silence(hum_dbfs: f64) -> SoundCheck {
        let settings = RigSettings {
            hum_dbfs,
            noise_dbfs: -70.0,
            ..RigSettings::default()
        };
        let stereo = Rig::new(Model::NightFerry, 48_000, settings)
            .render(24_000)
            .samples;
        let mono: Vec<f32> = stereo.chunks_exact(2).map(|f| f[0]).collect();
        check_silence(&Audio::mono(48_000, mono))
    }

    #[test]
    fn hum_is_told_from_noise() {
        let humming = silence(-50.0);
        assert_eq!(humming.hum_hz, Some(50.0));
        assert!((humming.hum_dbfs.unwrap() + 50.0).abs() < 1.5, "{humming:?}");
        let quiet = silence(-100.0);
        assert_eq!(quiet.hum_hz, None);
        assert!((quiet.noise_floor_dbfs + 70.0).abs() < 0.5, "{quiet:?}");
    }
}
