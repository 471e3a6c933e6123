//! The stretch before looping, evened: what slowly changes in level and in colour from the loop's start to its end is held at its mean.

use super::Evening;
use crate::Audio;
use crate::stft::{Stft, bins};

/// Bands of a third of an octave from here upward; what lies below is the first of them.
const LOWEST_HZ: f64 = 60.0;
const PER_OCTAVE: f64 = 3.0;
/// What changes faster than this belongs to the sound and stays.
const SLOW_S: f64 = 0.5;
/// No band is moved by more.
const MOST: f32 = 2.0;
/// Bands under the loudest by this much, as a power, are noise: they are moved as the whole is.
const FAINT: f32 = 1e-6;

/// Moves every band so that its slow level inside `start..end` is its mean there. The gains of the loop's ends go on outside it, so that
/// nothing jumps where the loop is entered.
pub(super) fn evening(audio: &mut Audio, wish: &Evening, start: usize, end: usize) {
    let stft = Stft::new(audio.rate_hz);
    let frames = audio.frames();
    let end = end.min(frames);
    if end <= start + 4 * stft.hop() {
        return;
    }
    let spectra: Vec<_> = audio
        .channels
        .iter()
        .map(|channel| stft.forward(channel))
        .collect();
    let middle = |n: usize| stft.span(n).start + stft.size() as i64 / 2;
    let inside: Vec<usize> = (0..spectra.first().map_or(0, Vec::len))
        .filter(|n| (start as i64..end as i64).contains(&middle(*n)))
        .collect();
    let (Some(&first), Some(&last)) = (inside.first(), inside.last()) else {
        return;
    };
    let reach = (SLOW_S / 2.0 * f64::from(audio.rate_hz) / stft.hop() as f64)
        .min((last - first) as f64 / 6.0)
        .max(1.0) as usize;
    let bands = bands(audio.rate_hz, stft.size());
    // All sides of a band together, so that nothing wanders.
    let powers = |band: &std::ops::Range<usize>| -> Vec<f32> {
        inside
            .iter()
            .map(|&n| {
                spectra
                    .iter()
                    .flat_map(|side| &side[n][band.clone()])
                    .map(|bin| bin.norm_sqr())
                    .sum()
            })
            .collect()
    };
    let whole = gains(&powers(&(0..bins(stft.size()))), reach, wish.share);
    let loudest: f32 = bands
        .iter()
        .map(|band| powers(band).iter().sum::<f32>())
        .fold(0.0, f32::max);
    let per_band: Vec<Vec<f32>> = bands
        .iter()
        .map(|band| {
            let powers = powers(band);
            if powers.iter().sum::<f32>() < loudest * FAINT {
                whole.clone()
            } else {
                gains(&powers, reach, wish.share)
            }
        })
        .collect();
    for (channel, mut spectra) in audio.channels.iter_mut().zip(spectra) {
        for (n, spectrum) in spectra.iter_mut().enumerate() {
            let at = n.clamp(first, last) - first;
            for (band, gains) in bands.iter().zip(&per_band) {
                for bin in &mut spectrum[band.clone()] {
                    *bin *= gains[at];
                }
            }
        }
        *channel = stft.back(&spectra, frames);
    }
}

/// Bins of each band.
fn bands(rate_hz: u32, size: usize) -> Vec<std::ops::Range<usize>> {
    let per_bin = f64::from(rate_hz) / size as f64;
    let mut edges = vec![0];
    let mut hz = LOWEST_HZ;
    while hz < f64::from(rate_hz) / 2.0 {
        let bin = (hz / per_bin).round() as usize;
        if edges.last().is_some_and(|last| bin > *last) {
            edges.push(bin);
        }
        hz *= (1.0 / PER_OCTAVE).exp2();
    }
    edges.push(bins(size));
    edges.windows(2).map(|pair| pair[0]..pair[1]).collect()
}

/// What brings a band's slow course to its mean, as amplitudes.
fn gains(powers: &[f32], reach: usize, share: f64) -> Vec<f32> {
    let slow: Vec<f32> = (0..powers.len())
        .map(|n| {
            // As far as there is on both sides: an end is not drawn towards the middle.
            let reach = reach.min(n).min(powers.len() - 1 - n).max(reach / 3);
            let around = &powers[n.saturating_sub(reach)..(n + reach + 1).min(powers.len())];
            around.iter().sum::<f32>() / around.len() as f32
        })
        .collect();
    let mean = slow.iter().sum::<f32>() / slow.len().max(1) as f32;
    slow.iter()
        .map(|power| {
            let exact = (mean / power.max(f32::MIN_POSITIVE))
                .sqrt()
                .clamp(1.0 / MOST, MOST);
            exact.powf(share.clamp(0.0, 1.0) as f32)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::RATE;
    use super::*;
    use crate::{drift_db, seam_db};
    use std::f64::consts::TAU;

    /// A dying tone whose upper partials die faster.
    fn dying() -> Audio {
        let samples = (0..4 * RATE)
            .map(|n| {
                let t = f64::from(n) / f64::from(RATE);
                let partial = |k: f64| (t * 220.0 * k * TAU).sin() / k * (-t * 0.3 * k).exp();
                ((1..6).map(|k| partial(f64::from(k))).sum::<f64>() * 0.3) as f32
            })
            .collect();
        Audio::mono(RATE, samples)
    }

    #[test]
    fn a_dying_tone_loops_once_it_is_evened() {
        let before = dying();
        // 220 periods of 220 Hz: one second.
        let (start, end) = (48_000, 96_000);
        let seam = |audio: &Audio| seam_db(audio, start, end, f64::from(RATE) / 220.0).unwrap();
        let mut after = before.clone();
        evening(&mut after, &Evening { share: 1.0 }, start, end);
        assert!(drift_db(&before, start, end) > 2.0);
        assert!(
            drift_db(&after, start, end) < 0.3,
            "{}",
            drift_db(&after, start, end)
        );
        assert!(
            seam(&before) > -14.0 && seam(&after) < seam(&before) - 12.0,
            "{} {}",
            seam(&before),
            seam(&after)
        );
        // The share of the evening is the share of the drift that goes.
        let mut half = before.clone();
        evening(&mut half, &Evening { share: 0.5 }, start, end);
        let left = drift_db(&half, start, end) / drift_db(&before, start, end);
        assert!((left - 0.5).abs() < 0.12, "{left}");
    }
}
