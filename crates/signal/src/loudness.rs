//! Loudness by ITU-R BS.1770-4, of the loudest 400 ms.

use crate::Audio;
use ebur128::{EbuR128, Mode};

const WINDOW_MS: usize = 400;
/// Windows begin so far apart: the loudest is missed by 5 ms at most, a twentieth of a decibel.
const BLOCK_MS: usize = 10;

/// K-weighted level of the loudest 400 ms, ungated, in LUFS; of the whole where it is shorter.
/// `None` for silence, for no audio, and for rates the filter cannot be made for.
pub fn loudness_lufs(audio: &Audio) -> Option<f64> {
    loudness_lufs_of(audio, 0, audio.frames())
}

/// The same, of frames `first..end`.
pub fn loudness_lufs_of(audio: &Audio, from: usize, to: usize) -> Option<f64> {
    let to = to.min(audio.frames());
    let from = from.min(to);
    let frames = to - from;
    let mut meter = EbuR128::new(audio.channels.len() as u32, audio.rate_hz, Mode::M).ok()?;
    let block = (audio.rate_hz as usize * BLOCK_MS / 1000).max(1);
    // The power of each block, from which those of all windows are added up.
    let mut powers = Vec::with_capacity(frames / block + 1);
    for first in (0..frames).step_by(block) {
        let end = (first + block).min(frames);
        let part: Vec<&[f32]> = audio
            .channels
            .iter()
            .map(|channel| &channel[from + first..from + end])
            .collect();
        meter.add_frames_planar_f32(&part).ok()?;
        if end < first + block {
            // The meter reads whole blocks only: the rest is silence.
            let silence = vec![0.0f32; first + block - end];
            let part: Vec<&[f32]> = audio.channels.iter().map(|_| silence.as_slice()).collect();
            meter.add_frames_planar_f32(&part).ok()?;
        }
        powers.push(10f64.powf(meter.loudness_window(BLOCK_MS as u32).ok()? / 10.0));
    }
    let window = (WINDOW_MS / BLOCK_MS).min(powers.len()).max(1);
    let loudest = powers
        .windows(window)
        .map(|of| of.iter().sum::<f64>())
        .fold(0.0, f64::max);
    let lasts = (window as f64).min(frames as f64 / block as f64);
    (loudest > 0.0).then(|| 10.0 * (loudest / lasts).log10())
}

/// The highest true peak of all channels, in dBTP (ITU-R BS.1770-4, Annex 2: four times the rate); `None` for silence.
pub fn true_peak_dbtp(audio: &Audio) -> Option<f64> {
    let channels = audio.channels.len() as u32;
    let mut meter = EbuR128::new(channels, audio.rate_hz, Mode::TRUE_PEAK).ok()?;
    let all: Vec<&[f32]> = audio.channels.iter().map(Vec::as_slice).collect();
    meter.add_frames_planar_f32(&all).ok()?;
    let peak = (0..channels)
        .filter_map(|n| meter.true_peak(n).ok())
        .fold(0.0, f64::max);
    (peak > 0.0).then(|| 20.0 * peak.log10())
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

    /// EBU Tech 3341 (2016), table 1, case 13 (from memory): twenty files of a stereo sine of 1 kHz at −23 dBFS, 0.4 s long, after so many times
    /// 20 ms of silence and before one second of it, read −23 ±0.1 LUFS at the most.
    #[test]
    fn the_momentary_cases_of_ebu_tech_3341_read_as_published() {
        for n in 0..20usize {
            let mut audio = stereo_sine(-23.0, 0.4);
            for channel in &mut audio.channels {
                let mut whole = vec![0.0; n * 960];
                whole.append(channel);
                whole.resize(whole.len() + 48_000, 0.0);
                *channel = whole;
            }
            let lufs = loudness_lufs(&audio).unwrap();
            assert!((lufs + 23.0).abs() <= 0.1, "after {} ms: {lufs}", n * 20);
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
