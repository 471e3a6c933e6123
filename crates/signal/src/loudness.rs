//! Loudness by ITU-R BS.1770-4, of the loudest 400 ms.

use crate::Audio;
use ebur128::{EbuR128, Mode};

const WINDOW_MS: u32 = 400;
const HOP_MS: usize = 50;

/// K-weighted level of the loudest 400 ms, ungated, in LUFS; of the whole where it is shorter.
/// `None` for silence, for no audio, and for rates the filter cannot be made for.
pub fn loudness_lufs(audio: &Audio) -> Option<f64> {
    let frames = audio.frames();
    if frames == 0 {
        return None;
    }
    let window = audio.rate_hz as usize * WINDOW_MS as usize / 1000;
    let mut meter = EbuR128::new(audio.channels.len() as u32, audio.rate_hz, Mode::M).ok()?;
    let hop = (audio.rate_hz as usize * HOP_MS / 1000).max(1);
    let mut loudest = f64::NEG_INFINITY;
    for first in (0..frames).step_by(hop) {
        let end = (first + hop).min(frames);
        let block: Vec<&[f32]> = audio
            .channels
            .iter()
            .map(|channel| &channel[first..end])
            .collect();
        meter.add_frames_planar_f32(&block).ok()?;
        if end >= window {
            loudest = loudest.max(meter.loudness_momentary().ok()?);
        }
    }
    if frames < window {
        // The meter knows whole windows only: fill up with silence and take the dilution out again.
        let silence = vec![0.0f32; window - frames];
        let block: Vec<&[f32]> = audio.channels.iter().map(|_| silence.as_slice()).collect();
        meter.add_frames_planar_f32(&block).ok()?;
        loudest = meter.loudness_momentary().ok()? + 10.0 * (window as f64 / frames as f64).log10();
    }
    loudest.is_finite().then_some(loudest)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stereo_sine(level_dbfs: f32, seconds: f32) -> Audio {
        let gain = 10f32.powf(level_dbfs / 20.0);
        let tone: Vec<f32> = (0..(48_000.0 * seconds) as usize)
            .map(|n| (n as f32 * 1000.0 / 48_000.0 * std::f32::consts::TAU).sin() * gain)
            .collect();
        Audio {
            rate_hz: 48_000,
            channels: vec![tone.clone(), tone],
        }
    }

    /// EBU Tech 3341 (2016), table 1, cases 1 and 2: a stereo sine of 1 kHz at −23 and −33 dBFS reads
    /// −23 ±0.1 and −33 ±0.1 LUFS.
    #[test]
    fn the_tone_cases_of_ebu_tech_3341_read_as_published() {
        for level in [-23.0, -33.0] {
            let lufs = loudness_lufs(&stereo_sine(level, 2.0)).unwrap();
            assert!((lufs - f64::from(level)).abs() <= 0.1, "{lufs}");
        }
    }

    #[test]
    fn a_take_shorter_than_the_window_reads_as_loud_as_a_long_one() {
        let short = loudness_lufs(&stereo_sine(-20.0, 0.2)).unwrap();
        let long = loudness_lufs(&stereo_sine(-20.0, 2.0)).unwrap();
        assert!((short - long).abs() < 0.1, "{short} {long}");
    }

    #[test]
    fn silence_has_no_loudness() {
        assert_eq!(loudness_lufs(&Audio::mono(48_000, vec![0.0; 48_000])), None);
    }
}
