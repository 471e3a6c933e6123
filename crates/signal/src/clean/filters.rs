//! DC, rumble and hum: what stands still in frequency.

use super::{HighPass, Hum};
use crate::Audio;
use biquad::{Biquad, Coefficients, DirectForm2Transposed, ToHertz, Type};
use std::f64::consts::{PI, TAU};
use std::ops::Range;

/// Takes the mean of each channel out.
pub(super) fn remove_dc(audio: &mut Audio) {
    for channel in &mut audio.channels {
        let mean = channel.iter().map(|&x| f64::from(x)).sum::<f64>() / channel.len().max(1) as f64;
        for x in channel {
            *x -= mean as f32;
        }
    }
}

/// Sections of second order of a Butterworth filter of order `2·sections`: the poles lie evenly on a half circle, so that
/// Q = 1 / (2·cos θ) with θ = π·(2k + 1)/(4·sections) (S. Butterworth, Wireless Engineer 7, 1930).
pub(super) fn high_pass(audio: &mut Audio, wish: &HighPass) {
    let sections = (wish.db_per_octave / 12).clamp(1, 4);
    let hz = wish.hz.clamp(1.0, f64::from(audio.rate_hz) * 0.45);
    for section in 0..sections {
        let angle = PI * f64::from(2 * section + 1) / f64::from(4 * sections);
        run_all(audio, Type::HighPass, hz, 1.0 / (2.0 * angle.cos()), false);
    }
}

/// Runs one section over every channel, and back again where the phase is to stay.
fn run_all(audio: &mut Audio, kind: Type<f64>, hz: f64, q: f64, and_back: bool) {
    let Ok(coefficients) = Coefficients::<f64>::from_params(kind, f64::from(audio.rate_hz).hz(), hz.hz(), q)
    else {
        return;
    };
    for channel in &mut audio.channels {
        let mut section = DirectForm2Transposed::<f64>::new(coefficients);
        for x in channel.iter_mut() {
            *x = section.run(f64::from(*x)) as f32;
        }
        if and_back {
            section.reset_state();
            for x in channel.iter_mut().rev() {
                *x = section.run(f64::from(*x)) as f32;
            }
        }
    }
}

/// Width of a notch between its −3 dB points.
const NOTCH_HZ: f64 = 2.0;
/// Partials of the mains are looked for up to here.
const HIGHEST_HZ: f64 = 1_200.0;
/// A partial of the hum stands so far over what lies between it and its neighbours, as a power.
const STANDS_OUT: f64 = 20.0;
/// Where that is read, as shares of the distance between partials.
const BESIDE: [f64; 4] = [-0.4, -0.25, 0.25, 0.4];
/// Mains drift by no more than this (common practice).
const DRIFT_HZ: f64 = 0.5;

/// Notches run forth and back, so that they have settled when the sound begins.
pub(super) fn hum(audio: &mut Audio, wish: &Hum, silence: &Range<usize>) {
    let quiet = audio.slice(silence.start, silence.end).to_mono();
    let partials = match wish.hz {
        Some(hz) if quiet.len() < fewest(audio.rate_hz) => (1..=(HIGHEST_HZ / hz.max(20.0)) as u32)
            .map(|k| f64::from(k) * hz)
            .collect(),
        _ => find_hum(&quiet, audio.rate_hz, wish.hz),
    };
    for hz in partials {
        run_all(audio, Type::Notch, hz, hz / NOTCH_HZ, true);
    }
}

fn fewest(rate_hz: u32) -> usize {
    (rate_hz / 10).max(1) as usize
}

/// The frequencies of the hum in a silence of a tenth of a second or more: the mains and those of its partials that stand out.
/// Empty where there is none.
pub fn find_hum(silence: &[f32], rate_hz: u32, known_hz: Option<f64>) -> Vec<f64> {
    // Whole tenths of a second hold whole periods of 50 and 60 Hz and of what lies half-way between their partials.
    let block = fewest(rate_hz);
    let silence = &silence[..silence.len() / block * block];
    if silence.is_empty() {
        return Vec::new();
    }
    // Two seconds tell the frequency to a tenth of a hertz; in less, the nominal one is as good.
    let can_tell = silence.len() >= rate_hz as usize;
    let mains: Vec<f64> = match known_hz {
        Some(hz) => vec![hz],
        None => [50.0, 60.0]
            .into_iter()
            .flat_map(|hz| {
                let steps = if can_tell { 10 } else { 0 };
                (-steps..=steps).map(move |n| hz + f64::from(n) / 10.0 * DRIFT_HZ)
            })
            .collect(),
    };
    let powers = Powers::of(silence, rate_hz);
    let partials_of = |hz: f64| -> Vec<(f64, f64)> {
        (1..=(HIGHEST_HZ / hz) as u32)
            .map(|k| f64::from(k) * hz)
            .filter_map(|at| {
                let power = powers.at(at);
                let beside: f64 = BESIDE.iter().map(|share| powers.at(at + hz * share)).sum();
                (power > beside / BESIDE.len() as f64 * STANDS_OUT).then_some((at, power))
            })
            .collect()
    };
    let found = mains
        .into_iter()
        .map(partials_of)
        .max_by(|a, b| {
            let sum = |of: &[(f64, f64)]| of.iter().map(|(_, power)| power).sum::<f64>();
            sum(a).total_cmp(&sum(b))
        })
        .unwrap_or_default();
    // One lone peak far up is a tone in the room, no hum.
    let is_hum = found.iter().any(|(hz, _)| *hz < 130.0);
    found.into_iter().filter(|_| is_hum).map(|(hz, _)| hz).collect()
}

/// So many times longer than the silence its spectrum is taken, with nothing behind it: bins stand closer than the mains drift.
const PADDED: usize = 8;

/// The power of any frequency in a stretch, under a Hann window.
struct Powers {
    spectrum: Vec<f64>,
    per_hz: f64,
}

impl Powers {
    fn of(samples: &[f32], rate_hz: u32) -> Self {
        let size = (samples.len() * PADDED).next_power_of_two();
        let mut input: Vec<f32> = samples
            .iter()
            .enumerate()
            .map(|(n, x)| x * (0.5 - 0.5 * (TAU * n as f64 / samples.len() as f64).cos()) as f32)
            .collect();
        input.resize(size, 0.0);
        let fft = crate::fft::forward(size);
        let mut output = fft.make_output_vec();
        // Both buffers were made to fit the plan.
        let _ = fft.process(&mut input, &mut output);
        Self {
            spectrum: output.iter().map(|bin| f64::from(bin.norm_sqr())).collect(),
            per_hz: size as f64 / f64::from(rate_hz),
        }
    }

    fn at(&self, hz: f64) -> f64 {
        let bin = (hz * self.per_hz).round().max(0.0) as usize;
        self.spectrum.get(bin).copied().unwrap_or(0.0)
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::{RATE, noise, rms_db, sum, tone};
    use super::*;

    /// Butterworth: 3 dB down at the corner, `db_per_octave` an octave and more below it, flat above.
    #[test]
    fn a_high_pass_falls_as_its_slope_says() {
        for slope in [12, 24, 36, 48] {
            let level = |hz: f64| {
                let mut audio = Audio::mono(RATE, tone(hz, 0.5, 96_000));
                high_pass(
                    &mut audio,
                    &HighPass {
                        hz: 200.0,
                        db_per_octave: slope,
                    },
                );
                rms_db(&audio.channels[0][48_000..]) - rms_db(&tone(hz, 0.5, 48_000))
            };
            assert!((level(200.0) + 3.01).abs() < 0.1, "{slope}: {}", level(200.0));
            assert!(level(2_000.0).abs() < 0.02);
            let octave = level(100.0) - level(50.0);
            assert!((octave - f64::from(slope)).abs() < 0.6, "{slope}: {octave}");
        }
    }

    #[test]
    fn dc_goes_and_nothing_else() {
        let wave = tone(100.0, 0.25, 48_000);
        let mut audio = Audio::mono(RATE, wave.iter().map(|x| x + 0.1).collect());
        remove_dc(&mut audio);
        assert!(
            audio.channels[0]
                .iter()
                .zip(&wave)
                .all(|(a, b)| (a - b).abs() < 1e-4)
        );
    }

    #[test]
    fn hum_is_found_with_its_partials_and_notched_without_harm_to_the_tone() {
        let frames = 3 * RATE as usize;
        let silence = RATE as usize * 6 / 5;
        let mut wave = noise(1e-4, frames, 3);
        for (partial, level) in [(1.0, 0.01), (2.0, 0.003), (3.0, 0.006)] {
            wave = sum(&wave, &tone(49.9 * partial, level, frames));
        }
        let found = find_hum(&wave[..silence], RATE, None);
        assert_eq!(found.len(), 3, "{found:?}");
        assert!((found[0] - 49.9).abs() <= 0.06, "{found:?}");
        let clean_tone: Vec<f32> = tone(220.0, 0.2, frames)
            .iter()
            .enumerate()
            .map(|(n, x)| if n < silence { 0.0 } else { *x })
            .collect();
        let mut audio = Audio::mono(RATE, sum(&wave, &clean_tone));
        hum(&mut audio, &Hum { hz: None }, &(0..silence));
        let out = &audio.channels[0];
        let fell = |from: usize, to: usize| rms_db(&wave[from..to]) - rms_db(&out[from..to]);
        // A notch needs a moment at the very beginning; down to the noise from there.
        assert!(fell(0, silence) > 16.0, "{}", fell(0, silence));
        assert!(
            fell(silence / 3, silence) > 22.0,
            "{}",
            fell(silence / 3, silence)
        );
        assert!((rms_db(&out[silence..]) - rms_db(&clean_tone[silence..])).abs() < 0.05);
    }

    #[test]
    fn noise_alone_has_no_hum() {
        assert!(find_hum(&noise(0.01, 48_000, 4), RATE, None).is_empty());
        assert!(find_hum(&tone(440.0, 0.1, 48_000), RATE, None).is_empty());
        assert!(find_hum(&[], RATE, None).is_empty());
    }
}
