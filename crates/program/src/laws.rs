//! The formulas that engine and formats must agree on.

use crate::{Program, Region};

/// Frames of the sample per frame of output at `key`: `2^(cents/1200)` times the ratio of the rates.
pub fn playback_ratio(program: &Program, region: &Region, key: u8, output_rate_hz: f64) -> f64 {
    let cents =
        100.0 * (f64::from(key) - f64::from(region.root_key)) - region.recording_cents + region.tune_cents;
    let rate = program
        .samples
        .get(region.sample)
        .map_or(output_rate_hz, |sample| f64::from(sample.rate_hz));
    2f64.powf(cents / 1200.0) * rate / output_rate_hz
}

/// Level of a velocity: 40·log₁₀(v/127), times how strongly velocity counts. At 1 this is the SoundFont's default
/// concave curve over 96 dB and SFZ's `amp_veltrack=100`.
pub fn velocity_gain_db(velocity: u8, velocity_to_level: f64) -> f64 {
    40.0 * (f64::from(velocity.clamp(1, 127)) / 127.0).log10() * velocity_to_level
}

/// Equal-power gains of left and right, 0 dB each at the centre and +3 dB at a side, so that a centred sound is unchanged.
pub fn pan_gains(pan: f64) -> (f64, f64) {
    let angle = (pan.clamp(-1.0, 1.0) + 1.0) * std::f64::consts::FRAC_PI_4;
    (
        angle.cos() * std::f64::consts::SQRT_2,
        angle.sin() * std::f64::consts::SQRT_2,
    )
}

/// Share of what lies before the loop's start, at `frame` of a loop's last `crossfade` frames: 0 to 1, linear, for ends that
/// are alike. The engine plays by it and the formats bake it.
pub fn crossfade_gain(frame: u64, crossfade: u64) -> f64 {
    if crossfade == 0 {
        0.0
    } else {
        (frame as f64 + 1.0) / (crossfade as f64 + 1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn velocity_follows_the_concave_curve_of_soundfont_2_04() {
        // Section 9.5.1 as common practice reads it: attenuation = 400·log₁₀(127/v) centibels.
        assert!((velocity_gain_db(64, 1.0) + 11.905).abs() < 1e-3);
        assert_eq!(velocity_gain_db(127, 1.0), 0.0);
        assert_eq!(velocity_gain_db(1, 0.0), 0.0);
    }

    #[test]
    fn panning_keeps_the_power() {
        for pan in [-1.0, -0.3, 0.0, 0.7, 1.0] {
            let (left, right) = pan_gains(pan);
            assert!((left * left + right * right - 2.0).abs() < 1e-12);
        }
    }
}
