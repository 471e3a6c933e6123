//! Peak, clipping, and how left and right compare.

use crate::{Audio, amplitude_to_db};

/// The shortest run of equal samples that counts as clipped (bars page, "Definitions").
const CLIPPED_RUN: usize = 3;

/// Highest absolute sample of all channels, in dBFS; `-inf` for silence.
pub fn peak_dbfs(audio: &Audio) -> f64 {
    amplitude_to_db(f64::from(peak(audio)))
}

fn peak(audio: &Audio) -> f32 {
    audio
        .channels
        .iter()
        .flatten()
        .fold(0.0f32, |top, x| top.max(x.abs()))
}

/// RMS over all channels, in dBFS.
pub fn rms_dbfs(audio: &Audio) -> f64 {
    let count = audio.frames() * audio.channels.len();
    let power: f64 = audio
        .channels
        .iter()
        .flatten()
        .map(|&x| f64::from(x) * f64::from(x))
        .sum();
    amplitude_to_db((power / count.max(1) as f64).sqrt())
}

/// Frames in runs of 3 or more equal samples at the take's plateau, within 0.1 dB of full scale.
pub fn clipped_frames(audio: &Audio) -> u64 {
    let plateau = peak(audio);
    if plateau < 10f32.powf(-0.1 / 20.0) {
        return 0;
    }
    let mut clipped = vec![false; audio.frames()];
    for channel in &audio.channels {
        let mut run = 0;
        for frame in 0..=channel.len() {
            let held = frame < channel.len()
                && channel[frame].abs() >= plateau * 0.9999
                && (run == 0 || channel[frame] == channel[frame - 1]);
            if held {
                run += 1;
                continue;
            }
            if run >= CLIPPED_RUN {
                clipped[frame - run..frame].fill(true);
            }
            run = usize::from(frame < channel.len() && channel[frame].abs() >= plateau * 0.9999);
        }
    }
    clipped.iter().filter(|&&hit| hit).count() as u64
}

fn sums(audio: &Audio) -> Option<(f64, f64, f64)> {
    let [left, right, ..] = audio.channels.as_slice() else {
        return None;
    };
    let mut totals = (0.0, 0.0, 0.0);
    for (&l, &r) in left.iter().zip(right) {
        let (l, r) = (f64::from(l), f64::from(r));
        totals = (totals.0 + l * l, totals.1 + r * r, totals.2 + l * r);
    }
    Some(totals)
}

/// RMS of left over right in dB; `None` in mono or where a side is silent.
pub fn balance_db(audio: &Audio) -> Option<f64> {
    let (left, right, _) = sums(audio)?;
    (left > 0.0 && right > 0.0).then(|| 10.0 * (left / right).log10())
}

/// Likeness of left and right, −1 to 1 (normalised cross product); `None` in mono or where a side is silent.
pub fn correlation(audio: &Audio) -> Option<f64> {
    let (left, right, cross) = sums(audio)?;
    (left > 0.0 && right > 0.0).then(|| cross / (left * right).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clipped_sine_is_counted_and_a_full_scale_one_is_not() {
        let sine = |gain: f32| -> Vec<f32> {
            (0..4800)
                .map(|n| (n as f32 * 0.0131).sin() * gain)
                .map(|x| x.clamp(-1.0, 1.0))
                .collect()
        };
        assert_eq!(clipped_frames(&Audio::mono(48_000, sine(0.9))), 0);
        let clipped = sine(2.0);
        let plateau = clipped.iter().filter(|x| x.abs() == 1.0).count() as u64;
        let counted = clipped_frames(&Audio::mono(48_000, clipped));
        assert!(
            plateau > 1000 && counted.abs_diff(plateau) <= 4,
            "{counted} of {plateau}"
        );
    }

    #[test]
    fn a_side_six_decibels_down_leans_by_six_decibels() {
        let left: Vec<f32> = (0..1000).map(|n| (n as f32 * 0.1).sin()).collect();
        let right = left.iter().map(|x| x * 0.5).collect();
        let audio = Audio {
            rate_hz: 48_000,
            channels: vec![left, right],
        };
        assert!((balance_db(&audio).unwrap() - 6.0206).abs() < 1e-3);
        assert!((correlation(&audio).unwrap() - 1.0).abs() < 1e-6);
    }
}
