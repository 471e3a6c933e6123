//! Where a sound starts and ends.

use crate::energy::Energy;
use crate::{Audio, amplitude_to_db, frames_of_ms, magnitude_spectrum_db};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

mod room;

/// The sound inside a take.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bounds {
    /// First frame of the sound.
    pub start_frame: usize,
    /// First frame after the sound.
    pub end_frame: usize,
    /// RMS of the quietest 100 ms outside the sound; `None` where less than 100 ms lie outside.
    pub noise_floor_dbfs: Option<f64>,
    /// How sure the start is, 0 to 1: by how far level and colour change there; where the take begins in its sound, by how far its first moment lies
    /// under the loudest.
    pub start_sure: f64,
    /// How sure the end is, 0 to 1: by how much of what follows it is as quiet as the floor; where the take ends in its sound, by how far its last moment
    /// lies under the loudest.
    pub end_sure: f64,
    /// Whether another sound (a chair, a word) stands before the start, and is left out.
    pub sound_before: bool,
}

/// How far above the floor counts as sound: 6 dB at the start, 3 dB over the longer windows of a tail.
const START_OVER_FLOOR: f64 = 2.0;
const END_OVER_FLOOR: f64 = 1.41;
/// What is 70 dB under the loudest is no start, and what is 90 dB under it is gone.
const START_UNDER_PEAK: f64 = 3.2e-4;
const END_UNDER_PEAK: f64 = 3.2e-5;

/// Over this share of the loudest, a floor hides too much of the attack to draw a line through it: −36 dB.
const NOISY: f64 = 0.016;

/// Finds the sound in a take; `None` for silence or nothing at all.
///
/// The start is where the level first stays 6 dB over the floor before it; the rise from 30 % to 60 % of
/// the attack is then drawn back to zero as a straight line, since a slow attack is under the floor for a
/// while, and a hair of room (0.2 ms and 3 % of the attack) keeps its first frames. Over a loud floor the likeliest start is taken, by energy after
/// the floor's own spectrum is taken out: energy and spectral change together.
pub fn sound_bounds(audio: &Audio) -> Option<Bounds> {
    let audio = &*without_dc(audio);
    let energy = Energy::of(audio);
    let rate = audio.rate_hz;
    let ms = |value: f64| frames_of_ms(rate, value).max(1);
    let frames = energy.frames();
    let loudest_at = (0..frames.div_ceil(ms(20.0)))
        .map(|n| n * ms(20.0))
        .max_by(|&a, &b| {
            energy
                .rms(a, a + ms(20.0))
                .total_cmp(&energy.rms(b, b + ms(20.0)))
        })?;
    let loudest = energy.rms(loudest_at, loudest_at + ms(20.0));
    if loudest <= 1e-7 {
        return None;
    }
    let rise = Rise::of(audio, &energy, loudest_at, loudest);
    let before = room::Before::of(audio, &energy, rise.quiet_from);
    let start_frame = if before.is_of_the_sound(rise.coarse) {
        before.latest_start(rise.coarse)
    } else {
        rise.drawn_back(audio, &energy)
    };

    let window = ms(50.0);
    let floor_after = energy
        .quietest(loudest_at, frames, window)
        .unwrap_or(0.0)
        .min(loudest * 0.1);
    let gone = (floor_after * END_OVER_FLOOR).max(loudest * END_UNDER_PEAK);
    let mut end_frame = frames;
    while end_frame > loudest_at + window && energy.rms(end_frame - window, end_frame) <= gone {
        end_frame -= ms(5.0).min(end_frame);
    }
    let outside = [
        energy.quietest(0, start_frame, ms(100.0)),
        energy.quietest(end_frame, frames, ms(100.0)),
    ];
    let noise_floor_dbfs = outside
        .into_iter()
        .flatten()
        .filter(|&rms| rms > 0.0)
        .min_by(f64::total_cmp)
        .map(amplitude_to_db);
    Some(Bounds {
        start_frame,
        end_frame: end_frame.max(start_frame + 1).min(frames),
        noise_floor_dbfs,
        start_sure: start_sure(audio, &energy, start_frame, loudest),
        end_sure: end_sure(&energy, end_frame.min(frames), loudest, ms(AFTER_MS)),
        sound_before: rise.quiet_from > 0,
    })
}

/// A mean that lies no further off than this is a sound's own, as a share of the highest sample.
const DC_SHARE: f64 = 0.02;
/// The quietest moment has the same mean, within this share of it: else the sound is one that swings to one side.
const DC_AGREES: f64 = 0.25;

/// What stands still is no sound: a mean that is there in the quietest moment too is taken away.
fn without_dc(audio: &Audio) -> Cow<'_, Audio> {
    let highest = audio
        .channels
        .iter()
        .flatten()
        .fold(0.0f32, |top, x| top.max(x.abs()));
    let moment = frames_of_ms(audio.rate_hz, 20.0).max(1);
    let dc_of = |channel: &Vec<f32>| {
        let (mean, _) = mean_and_variance(channel);
        if mean.abs() <= f64::from(highest) * DC_SHARE {
            return 0.0;
        }
        let moments = channel.chunks_exact(moment).map(mean_and_variance);
        let quietest = moments.min_by(|a, b| a.1.total_cmp(&b.1));
        let agrees = |quiet: &f64| (quiet - mean).abs() <= mean.abs() * DC_AGREES;
        quietest.map(|(mean, _)| mean).filter(agrees).unwrap_or(0.0)
    };
    let offs: Vec<f64> = audio.channels.iter().map(dc_of).collect();
    if offs.iter().all(|off| *off == 0.0) {
        return Cow::Borrowed(audio);
    }
    let channels = audio.channels.iter().zip(&offs);
    Cow::Owned(Audio {
        rate_hz: audio.rate_hz,
        channels: channels
            .map(|(channel, off)| channel.iter().map(|x| x - *off as f32).collect())
            .collect(),
    })
}

fn mean_and_variance(samples: &[f32]) -> (f64, f64) {
    let count = samples.len().max(1) as f64;
    let mean = samples.iter().map(|x| f64::from(*x)).sum::<f64>() / count;
    let variance = samples
        .iter()
        .map(|x| (f64::from(*x) - mean).powi(2))
        .sum::<f64>()
        / count;
    (mean, variance)
}

/// Where the level first stays over the floor.
struct Rise {
    /// Where the quiet before it begins: after another sound, where one stands there.
    quiet_from: usize,
    /// The eighth of a window in which the level rises.
    coarse: usize,
    floor: f64,
    threshold: f64,
    loudest: f64,
}

impl Rise {
    fn of(audio: &Audio, energy: &Energy, loudest_at: usize, loudest: f64) -> Self {
        let ms = |value: f64| frames_of_ms(audio.rate_hz, value).max(1);
        let hop = ms(1.0);
        let floor = energy.quietest(0, loudest_at + ms(20.0), ms(20.0)).unwrap_or(0.0);
        let threshold = (floor * START_OVER_FLOOR).max(loudest * START_UNDER_PEAK);
        // The loudest window may begin before a sudden sound does.
        let rises_after = |from: usize| {
            let coarse = (from..=loudest_at + ms(20.0))
                .step_by(hop)
                .find(|&at| energy.rms(at, at + hop) > threshold && energy.rms(at, at + 10 * hop) > threshold)
                .unwrap_or(from);
            // Where in its window the sound begins.
            (coarse..coarse + hop)
                .step_by((hop / 8).max(1))
                .find(|&at| energy.rms(at, at + (hop / 4).max(1)) > threshold)
                .unwrap_or(coarse)
        };
        let mut rise = Self {
            quiet_from: 0,
            coarse: rises_after(0),
            floor,
            threshold,
            loudest,
        };
        if let Some(quiet_from) = room::after_another_sound(audio, energy, &rise, loudest_at) {
            rise.quiet_from = quiet_from;
            rise.coarse = rises_after(quiet_from);
        }
        rise
    }

    /// The start: what the threshold hides of the attack is drawn back.
    fn drawn_back(&self, audio: &Audio, energy: &Energy) -> usize {
        let rate = audio.rate_hz;
        let coarse = self.coarse;
        if self.floor <= self.loudest * NOISY {
            let quarter = (frames_of_ms(rate, 1.0).max(1) / 4).max(1);
            return drawn_back(audio, coarse, quarter, frames_of_ms(rate, 150.0), self.threshold)
                .max(self.quiet_from);
        }
        // Where the floor has a colour of its own, the change of colour tells what its level hides.
        let likeliest = match without_floor(audio, self.quiet_from, coarse) {
            Some(part) => {
                let energy = Energy::of(&part);
                let floor = energy
                    .quietest(self.quiet_from, coarse, frames_of_ms(rate, 20.0))
                    .unwrap_or(0.0);
                most_likely(&energy, coarse, floor, rate)
            }
            None => most_likely(energy, coarse, self.floor, rate),
        };
        likeliest.min(coarse).max(self.quiet_from)
    }
}

/// Samples from which the next one is predicted.
const ORDER: usize = 32;
/// A floor that is predicted worse than this is white: nothing is gained by taking its colour out. As a power: 10 dB.
const COLOURED: f64 = 10.0;
/// So much before a rough start belongs to the floor for certain, as a share and at most.
const FLOOR_SHARE: f64 = 0.7;
const FLOOR_MS: f64 = 300.0;
const SHORTEST_FLOOR_MS: f64 = 40.0;
/// What is looked at after a rough start.
const RISE_MS: f64 = 200.0;

/// The beginning of a take with what its floor's own spectrum predicts taken out: hum and rumble go, and what is not like them stands out however
/// quiet it is. Linear prediction by the autocorrelation method (J. Makhoul, Proc. IEEE 63, 1975), all channels by one filter. `None` where the
/// floor is too short or has no colour.
fn without_floor(audio: &Audio, from: usize, coarse: usize) -> Option<Audio> {
    let ms = |value: f64| frames_of_ms(audio.rate_hz, value);
    let quiet = (((coarse - from) as f64 * FLOOR_SHARE) as usize).min(ms(FLOOR_MS));
    if quiet < ms(SHORTEST_FLOOR_MS).max(4 * ORDER) {
        return None;
    }
    let correlation: Vec<f64> = (0..=ORDER)
        .map(|lag| {
            audio
                .channels
                .iter()
                .map(|channel| {
                    let floor = &channel[from..from + quiet];
                    let pairs = floor[..quiet - lag].iter().zip(&floor[lag..]);
                    pairs.map(|(a, b)| f64::from(*a) * f64::from(*b)).sum::<f64>()
                })
                .sum()
        })
        .collect();
    let (filter, left) = predictor(&correlation);
    if left <= 0.0 || correlation[0] / left < COLOURED {
        return None;
    }
    let end = (coarse + ms(RISE_MS)).min(audio.frames());
    let channels = audio
        .channels
        .iter()
        .map(|channel| {
            (0..end)
                .map(|n| {
                    let past = channel[n.saturating_sub(ORDER)..n].iter().rev();
                    let predicted: f64 = past.zip(&filter).map(|(x, a)| f64::from(*x) * a).sum();
                    (f64::from(channel[n]) - predicted) as f32
                })
                .collect()
        })
        .collect();
    Some(Audio {
        rate_hz: audio.rate_hz,
        channels,
    })
}

/// Coefficients that predict a sample from those before it, newest first, and the power that they leave (Levinson and Durbin).
fn predictor(correlation: &[f64]) -> (Vec<f64>, f64) {
    let mut filter: Vec<f64> = Vec::new();
    // A little white noise keeps pure hum from being predicted beyond what numbers hold.
    let mut left = correlation[0] * (1.0 + 1e-9);
    for order in 0..correlation.len() - 1 {
        if left <= 0.0 {
            break;
        }
        let so_far: f64 = filter
            .iter()
            .enumerate()
            .map(|(k, a)| a * correlation[order - k])
            .sum();
        let reflection = (correlation[order + 1] - so_far) / left;
        let turned: Vec<f64> = filter.iter().rev().map(|a| reflection * a).collect();
        for (a, t) in filter.iter_mut().zip(turned) {
            *a -= t;
        }
        filter.push(reflection);
        left *= 1.0 - reflection * reflection;
    }
    (filter, left)
}

/// Level and colour are compared over so long on either side of a start.
const BESIDE_MS: f64 = 30.0;
/// A change of level and colour together by so many decibels is beyond doubt.
const BEYOND_DOUBT_DB: f64 = 24.0;
/// Bands of equal ratio from here upward, in which colour is compared.
const BANDS: usize = 16;
const BANDS_FROM_HZ: f64 = 80.0;
/// So much quiet after an end is beyond doubt.
const AFTER_MS: f64 = 100.0;
/// What is so near under the loudest at the edge of a take is cut through for certain, and what is so far under it is as good as silence.
const CUT_THROUGH_DB: f64 = -6.0;
const AS_GOOD_AS_SILENCE_DB: f64 = -60.0;

/// How sure it is that nothing was cut off at the edge of a take, by the level there.
fn edge_sure(level: f64, loudest: f64) -> f64 {
    let under_db = amplitude_to_db(level.max(loudest * 1e-6) / loudest);
    ((under_db - CUT_THROUGH_DB) / (AS_GOOD_AS_SILENCE_DB - CUT_THROUGH_DB)).clamp(0.0, 1.0)
}

/// Energy and spectral change together: the rise in level, and how far the spectrum after lies from that before once that rise is taken out.
fn start_sure(audio: &Audio, energy: &Energy, start: usize, loudest: f64) -> f64 {
    let beside = frames_of_ms(audio.rate_hz, BESIDE_MS).max(64) & !1;
    let after = energy.rms(start, start + beside);
    if start < beside / 2 {
        // Nothing before it to tell: sure where the sound grows out of silence.
        return edge_sure(energy.rms(start, start + beside / 16), loudest);
    }
    let before = energy.rms(start.saturating_sub(beside), start);
    let rise = amplitude_to_db((after.max(1e-7)) / before.max(1e-7));
    let bands = |from: usize| {
        let part = audio.slice(from, from + beside).to_mono();
        magnitude_spectrum_db(&part, audio.rate_hz, BANDS_FROM_HZ, BANDS)
    };
    let apart: Vec<f64> = bands(start.saturating_sub(beside))
        .iter()
        .zip(bands(start))
        .map(|(a, b)| f64::from(b - a))
        .collect();
    let mean = apart.iter().sum::<f64>() / apart.len() as f64;
    let colour = (apart.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / apart.len() as f64).sqrt();
    ((rise.max(0.0) + colour) / BEYOND_DOUBT_DB).clamp(0.0, 1.0)
}

fn end_sure(energy: &Energy, end: usize, loudest: f64, beyond_doubt: usize) -> f64 {
    let after = energy.frames() - end;
    if after == 0 {
        return edge_sure(energy.rms(end.saturating_sub(beyond_doubt / 4), end), loudest);
    }
    (after as f64 / beyond_doubt as f64).min(1.0)
}

/// A start is drawn back no further than this.
const FURTHEST_BACK_S: f64 = 0.004;

/// The attack's line drawn back to silence, before the end of the window (`hop` long) that begins at `coarse`.
fn drawn_back(audio: &Audio, coarse: usize, hop: usize, reach: usize, threshold: f64) -> usize {
    let from = coarse.saturating_sub(8 * hop);
    let to = (coarse + reach).min(audio.frames());
    let level = |frame: usize| {
        audio
            .channels
            .iter()
            .fold(0.0f32, |top, channel| top.max(channel[frame].abs()))
    };
    let top = (from..to).fold(0.0f32, |top, frame| top.max(level(frame)));
    let crossing = |share: f32| {
        (from..to)
            .find(|&frame| level(frame) >= share * top)
            .unwrap_or(coarse) as f64
    };
    let (low, high) = (crossing(0.3), crossing(0.6));
    let attack = (high - low) / 0.3;
    // What the threshold hides of the attack, twice over: its RMS against the highest sample.
    let hidden = 3.0 * attack * threshold / f64::from(top).max(1e-9);
    // A sudden sound may begin anywhere in its window; a slower one has begun before it is over the threshold.
    let latest = (coarse + if attack < hop as f64 { hop } else { 0 }) as f64;
    let margin = f64::from(audio.rate_hz) * 0.0002 + 0.03 * attack;
    // A line through a swell over half a second says little of its first milliseconds.
    let furthest = coarse as f64 - f64::from(audio.rate_hz) * FURTHEST_BACK_S;
    let start = (2.0 * low - high).min(latest).max(coarse as f64 - hidden) - margin;
    start.max(furthest).max(0.0) as usize
}

/// The start that explains the samples best, taken as Gaussian with the floor's variance before it and a level that
/// rises in a straight line after it (maximum likelihood over start and rise time).
fn most_likely(energy: &Energy, coarse: usize, floor: f64, rate: u32) -> usize {
    let block = frames_of_ms(rate, 0.25).max(1);
    let blocks_of = |ms: f64| (ms * 4.0) as usize;
    let first = coarse.saturating_sub(blocks_of(30.0) * block);
    let count = ((coarse - first) / block + blocks_of(120.0)).min((energy.frames() - first) / block);
    let power: Vec<f64> = (0..count)
        .map(|n| energy.rms(first + n * block, first + (n + 1) * block).powi(2))
        .collect();
    let top = (0..count.saturating_sub(40))
        .map(|n| power[n..n + 40].iter().sum::<f64>() / 40.0)
        .fold(0.0f64, f64::max);
    let noise = floor * floor;
    let middle = (coarse - first) / block;
    // Before the start all blocks have the floor's variance: their sum is one number for each start.
    let before: Vec<f64> = std::iter::once(0.0)
        .chain(power.iter().scan(0.0, |sum, p| {
            *sum += noise.ln() + p / noise;
            Some(*sum)
        }))
        .collect();
    let mut best = (f64::INFINITY, middle);
    for rise_ms in [0.1, 0.5, 1.0, 2.0, 4.0, 7.0, 12.0, 20.0, 35.0, 55.0, 80.0] {
        // After it, a variance for every block since.
        let (mut one_over, mut logs) = (Vec::with_capacity(count), vec![0.0; count + 1]);
        for n in 0..count {
            let since = (n as f64 + 0.5) / (rise_ms * 4.0);
            let variance = noise + (top - noise).max(0.0) * since.clamp(0.0, 1.0).powi(2);
            one_over.push(1.0 / variance);
            logs[n + 1] = logs[n] + variance.ln();
        }
        for start in 0..(middle + 4).min(count) {
            let fits: f64 = power[start..]
                .iter()
                .zip(&one_over)
                .map(|(p, over)| p * over)
                .sum();
            let cost = before[start] + logs[count - start] + fits;
            if cost < best.0 {
                best = (cost, start);
            }
        }
    }
    first + best.1 * block
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};

    /// Gaussian-like noise of unit RMS (sum of uniforms).
    fn noise(seed: u64, frames: usize) -> Vec<f64> {
        let mut random = rand_pcg::Pcg64::seed_from_u64(seed);
        (0..frames)
            .map(|_| (0..12).map(|_| random.random::<f64>()).sum::<f64>() - 6.0)
            .collect()
    }

    fn take(attack_ms: f64, floor_db: f64, hz: f64, seed: u64) -> (Audio, usize, f64) {
        // Not on the grid of the windows: each seed begins elsewhere in one.
        let (rate, start) = (48_000.0, 14_400 + (seed as usize * 13) % 48);
        let floor = 10f64.powf(floor_db / 20.0) * std::f64::consts::FRAC_1_SQRT_2 * 0.5;
        let attack = attack_ms / 1000.0 * rate;
        let samples = noise(seed, 48_000)
            .iter()
            .enumerate()
            .map(|(frame, n)| {
                let since = frame as f64 - start as f64;
                let gain = (since / attack).clamp(0.0, 1.0) * 0.5;
                (gain * (since * hz / rate * std::f64::consts::TAU).sin() + n * floor) as f32
            })
            .collect();
        (Audio::mono(48_000, samples), start, floor)
    }

    #[test]
    fn a_start_out_of_silence_is_sure_and_one_in_the_middle_of_a_sound_is_not() {
        let tone = |n: usize, level: f32| (n as f32 * 0.06).sin() * level;
        let from = |silent: usize, floor: f32| {
            let samples = (0..96_000)
                .map(|n| {
                    let noise = ((n * 7_919 % 1_009) as f32 / 1_009.0 - 0.5) * floor;
                    let level = if (silent..80_000).contains(&n) { 0.5 } else { 0.0 };
                    tone(n, level) + noise
                })
                .collect();
            sound_bounds(&Audio::mono(48_000, samples)).unwrap()
        };
        let clear = from(12_000, 1e-4);
        assert!(clear.start_sure > 0.95 && clear.end_sure > 0.95, "{clear:?}");
        // Noise that only grows louder, by 10 dB: of one colour.
        let grown = (0..96_000u32)
            .map(|n| {
                let noise = (n.wrapping_mul(2_654_435_761) >> 8) as f32 / 16_777_216.0 - 0.5;
                noise * if (24_000..80_000).contains(&n) { 0.6 } else { 0.19 }
            })
            .collect();
        let grown = sound_bounds(&Audio::mono(48_000, grown)).unwrap();
        assert!((0.3..0.7).contains(&grown.start_sure), "{grown:?}");
        let cut = from(0, 1e-4);
        assert_eq!(cut.start_sure, 0.0);
        let endless = Audio::mono(48_000, (0..48_000).map(|n| tone(n, 0.5)).collect());
        assert_eq!(sound_bounds(&endless).unwrap().end_sure, 0.0);
    }

    /// Hum of 50 Hz with partials, as loud as a floor that hides half the attack: its colour gives the sound away.
    #[test]
    fn a_start_under_loud_hum_is_found_by_its_colour() {
        for (attack_ms, hz) in [
            (1.0, 220.0),
            (5.0, 440.0),
            (5.0, 1_000.0),
            (5.0, 3_000.0),
            (20.0, 440.0),
        ] {
            let (quiet, start, _) = take(attack_ms, -75.0, hz, 5);
            let samples = quiet.channels[0]
                .iter()
                .enumerate()
                .map(|(n, x)| {
                    let hum: f64 = [(1.0, 1.0), (2.0, 0.4), (3.0, 0.6)]
                        .iter()
                        .map(|(k, level)| {
                            level * (n as f64 * 50.0 * k / 48_000.0 * std::f64::consts::TAU).sin()
                        })
                        .sum();
                    x + (hum * 0.03) as f32
                })
                .collect();
            let found = sound_bounds(&Audio::mono(48_000, samples)).unwrap();
            let error_ms = (found.start_frame as f64 - start as f64) / 48.0;
            println!("{attack_ms} ms attack, {hz} Hz, under hum: {error_ms:.2} ms");
            assert!(
                error_ms.abs() <= (attack_ms / 10.0).max(1.0),
                "{attack_ms} ms, {hz} Hz: {error_ms:.2} ms"
            );
        }
    }

    /// The bars page's grid: attacks of 0.1 to 80 ms over floors of −20 to −60 dB.
    #[test]
    fn the_start_is_within_a_millisecond_or_a_tenth_of_the_attack() {
        let mut worst = (0.0f64, String::new());
        for attack_ms in [0.1, 1.0, 5.0, 20.0, 80.0] {
            for floor_db in [-60.0, -50.0, -40.0, -30.0, -20.0] {
                for (seed, hz) in [(1, 220.0), (2, 440.0), (3, 1000.0), (4, 3000.0)] {
                    let (audio, start, _) = take(attack_ms, floor_db, hz, seed);
                    let found = sound_bounds(&audio).unwrap().start_frame;
                    let error_ms = (found as f64 - start as f64) / 48.0;
                    let bar_ms = if attack_ms <= 5.0 && floor_db <= -40.0 {
                        1.0
                    } else {
                        (attack_ms / 10.0f64).max(1.0)
                    };
                    let passes_floor_ms = attack_ms * (2.0 * 10f64.powf(floor_db / 20.0)).min(1.0);
                    let case = format!("{attack_ms} ms over {floor_db} dB at {hz} Hz: {error_ms:.2} ms");
                    assert!(error_ms.abs() <= bar_ms, "{case}");
                    assert!(error_ms <= passes_floor_ms + 0.1, "late: {case}");
                    if error_ms.abs() / bar_ms > worst.0 {
                        worst = (error_ms.abs() / bar_ms, case);
                    }
                }
            }
        }
        println!("worst start: {}", worst.1);
    }

    #[test]
    fn a_click_is_found_wherever_it_stands() {
        for at in [12_000usize, 12_048, 12_300, 12_950] {
            let mut samples: Vec<f32> = noise(3, 48_000).iter().map(|n| (n * 2e-4) as f32).collect();
            for (n, x) in samples[at..at + 240].iter_mut().enumerate() {
                *x += (n as f32 * 0.13).cos() * 0.7;
            }
            let found = sound_bounds(&Audio::mono(48_000, samples)).unwrap().start_frame;
            assert!(found.abs_diff(at) <= 48, "{found} for {at}");
        }
    }

    #[test]
    fn the_end_is_where_the_tail_meets_the_floor() {
        let floor = 10f64.powf(-60.0 / 20.0);
        let samples: Vec<f32> = noise(7, 96_000)
            .iter()
            .enumerate()
            .map(|(frame, n)| {
                let decay = 0.5 * (-(frame as f64) / 9_600.0).exp();
                (decay * (frame as f64 * 0.05).sin() + n * floor) as f32
            })
            .collect();
        let bounds = sound_bounds(&Audio::mono(48_000, samples)).unwrap();
        // 0.5·e^(−t/9600)/√2 meets 0.001 at t ≈ 56,300.
        assert!((48_000..66_000).contains(&bounds.end_frame), "{bounds:?}");
        let floor_dbfs = bounds.noise_floor_dbfs.unwrap();
        assert!((floor_dbfs + 60.0).abs() < 1.0, "{floor_dbfs}");
    }

    #[test]
    fn what_stands_still_is_no_sound() {
        let (audio, start, _) = take(5.0, -60.0, 440.0, 2);
        let plain = sound_bounds(&audio).unwrap();
        let samples = audio.channels[0].iter().map(|x| x * 0.5 + 0.4).collect();
        let shifted = sound_bounds(&Audio::mono(48_000, samples)).unwrap();
        assert!(
            shifted.start_frame.abs_diff(plain.start_frame) <= 24,
            "{shifted:?}"
        );
        assert!(shifted.start_frame.abs_diff(start) <= 96);
        // What swings to one side alone is a sound all the same, and the silence before it none.
        let pulses = (0..48_000).map(|n| if n >= 24_000 && n % 100 < 50 { 0.5 } else { 0.0 });
        let found = sound_bounds(&Audio::mono(48_000, pulses.collect())).unwrap();
        assert!(found.start_frame.abs_diff(24_000) <= 96, "{found:?}");
    }

    #[test]
    fn silence_and_nothing_have_no_bounds() {
        assert_eq!(sound_bounds(&Audio::mono(48_000, vec![0.0; 48_000])), None);
        assert_eq!(sound_bounds(&Audio::mono(48_000, Vec::new())), None);
    }
}
