//! A note or a chord as it was recorded and as it was built, laid beside each other: level over time, pitch, thirds of octaves, attack, tail, width.

use crate::bands::{Bands, heard, in_db, loudest};
use crate::fft::{forward, hann};
use crate::{Audio, amplitude_to_db, find_pitches, frames_of_ms};
use serde::{Deserialize, Serialize};

/// Thirds of octaves from 25 Hz to 16 kHz.
pub const THIRD_OCTAVES: usize = 29;
/// The number of the first: 10·log₁₀ of its exact middle.
const FIRST: usize = 14;
/// A band is heard within so much of the loudest one of its passage, in dB.
const HEARD_DB: f64 = 40.0;
/// …and so many times over the noise of the recording, as a power.
const OVER_NOISE: f64 = 4.0;
/// One moment of a course.
const STEP_MS: f64 = 10.0;
/// A passage begins to be held so long after it began.
const SETTLES_MS: f64 = 200.0;
/// A tail has gone where it is so far under what was held.
const GONE_DB: f64 = 40.0;
/// An attack is over within this of its loudest, in dB, and begins so far under it.
const ATTACK_DB: (f64, f64) = (-20.0, -2.0);
/// An attack lasts no longer.
const LONGEST_ATTACK_MS: f64 = 1_000.0;
const SILENT_DBFS: f64 = -110.0;
const NEAR_CENTS: f64 = 250.0;
/// What moves by less hardly does.
const LEAST_MOVES_DB: f64 = 0.3;
/// Sides further under the middle are none.
const LEAST_SIDE_DB: f64 = -40.0;
/// A source sounds within this of what was played.
const LONGEST_DELAY_S: f64 = 10.0;

/// The exact middle of a third of an octave, in Hz: 10^(n/10) (IEC 61260-1:2014, 5.4, with G = 10^(3/10)).
pub fn third_octave_hz(n: usize) -> f64 {
    10f64.powf((FIRST + n) as f64 / 10.0)
}

/// What is heard of one passage.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PassageSound {
    /// RMS while it is held, of both sides; `None` for silence.
    pub level_dbfs: Option<f64>,
    /// Power of each third of an octave while it is held; `None` where noise or the rest of it hides it.
    pub bands_db: Vec<Option<f64>>,
    /// Level every 10 ms, from its beginning to its end.
    pub course_db: Vec<f64>,
    /// How far it lies above its key; `None` for chords and for what has no pitch.
    pub cents: Option<f64>,
    /// From 20 dB under its first loudest moment to 2 dB under it.
    pub attack_ms: Option<f64>,
    /// From key-up until it is 40 dB softer than it was held; `None` where it is not by its end.
    pub tail_ms: Option<f64>,
    /// How far what differs between the sides lies over what they have in common; −40 for mono.
    pub side_db: f64,
    /// How far its bands move while it is held, in dB: beats, chorus, noise.
    pub moves_db: f64,
    /// How fast they do, in Hz: RMS of how fast levels go over RMS of how far, by 2π; `None` where they hardly move.
    pub moves_hz: Option<f64>,
}

/// How far a source lies over what was built, passage by passage.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PassageApart {
    /// Level; `None` where either is silent.
    pub level_db: Option<f64>,
    /// Each third of an octave that is heard in both, level aside.
    pub bands_db: Vec<Option<f64>>,
    /// The mean of what those lie apart, without sign.
    pub spectrum_db: f64,
    /// RMS of what the courses lie apart, level aside, while either is heard.
    pub course_db: f64,
    /// Pitch.
    pub cents: Option<f64>,
    /// Attack.
    pub attack_ms: Option<f64>,
    /// Tail.
    pub tail_ms: Option<f64>,
    /// Width.
    pub side_db: f64,
    /// Movement.
    pub moves_db: f64,
    /// How much faster that is, in octaves.
    pub moves_octaves: Option<f64>,
}

/// Powers of thirds of octaves of a stretch, the mean of its windows: bins between two middles count for both, by squared cosines that add up to 1.
fn band_powers(samples: &[f32], rate_hz: u32) -> [f64; THIRD_OCTAVES] {
    let mut bands = [0.0; THIRD_OCTAVES];
    let size = (frames_of_ms(rate_hz, 170.0).max(64)).next_power_of_two();
    let (fft, window) = (forward(size), hann(size));
    let mut scratch = fft.make_scratch_vec();
    let (mut input, mut output) = (fft.make_input_vec(), fft.make_output_vec());
    let last = samples.len().saturating_sub(size);
    let places: Vec<usize> = (0..=last).step_by(size / 2).collect();
    // A Hann window keeps 3/8 of the power; both halves of the spectrum count.
    let scale = 2.0 / (0.375 * (size as f64).powi(2)) / places.len() as f64;
    let mut powers = vec![0.0; output.len()];
    for at in places {
        let part = &samples[at..(at + size).min(samples.len())];
        input.fill(0.0);
        for ((slot, x), w) in input.iter_mut().zip(part).zip(window.iter()) {
            *slot = x * w;
        }
        if fft
            .process_with_scratch(&mut input, &mut output, &mut scratch)
            .is_err()
        {
            continue;
        }
        for (sum, value) in powers.iter_mut().zip(&output) {
            *sum += f64::from(value.norm_sqr()) * scale;
        }
    }
    for (bin, power) in powers.iter().enumerate().skip(1) {
        let at = 10.0 * (bin as f64 * f64::from(rate_hz) / size as f64).log10() - FIRST as f64;
        if at <= -1.0 || at >= THIRD_OCTAVES as f64 {
            continue;
        }
        let (below, part) = (at.floor(), at - at.floor());
        let rises = (part * std::f64::consts::FRAC_PI_2).sin().powi(2);
        for (band, share) in [(below, 1.0 - rises), (below + 1.0, rises)] {
            if band >= 0.0 && (band as usize) < THIRD_OCTAVES {
                bands[band as usize] += power * share;
            }
        }
    }
    bands
}

/// The same of the quietest 0.2 s of a recording, over both sides: its noise.
pub fn quiet_bands(audio: &Audio) -> Vec<f64> {
    let stretch = frames_of_ms(audio.rate_hz, 200.0).max(1);
    let power = |at: usize| -> f64 {
        let sides = audio.channels.iter();
        sides
            .flat_map(|side| &side[at..at + stretch])
            .map(|x| f64::from(*x).powi(2))
            .sum()
    };
    let places = (0..(audio.frames() + 1).saturating_sub(stretch)).step_by(stretch / 4 + 1);
    let quietest = places.min_by(|a, b| power(*a).total_cmp(&power(*b)));
    let Some(at) = quietest else {
        return vec![0.0; THIRD_OCTAVES];
    };
    let mut all = vec![0.0; THIRD_OCTAVES];
    for side in &audio.channels {
        for (sum, power) in all
            .iter_mut()
            .zip(band_powers(&side[at..at + stretch], audio.rate_hz))
        {
            *sum += power;
        }
    }
    all
}

fn power_db(power: f64) -> f64 {
    10.0 * power.max(1e-12).log10()
}

/// Level of each moment, both sides together.
fn course(audio: &Audio) -> Vec<f64> {
    let step = frames_of_ms(audio.rate_hz, STEP_MS).max(1);
    let moment = |at: usize| {
        let end = (at + step).min(audio.frames());
        let power: f64 = (audio.channels.iter())
            .flat_map(|side| &side[at..end])
            .map(|x| f64::from(*x).powi(2))
            .sum();
        power_db(power / (end - at) as f64)
    };
    (0..audio.frames()).step_by(step).map(moment).collect()
}

/// How far the bands of one side move around their own straight lines, in dB, and how fast, in Hz.
fn movement(held: &[f32], rate_hz: u32) -> (f64, f64) {
    let mut bands = Bands::fast(rate_hz);
    let hop = bands.hop;
    let powers = bands.over(held, hop);
    if powers.len() < 8 {
        return (0.0, 0.0);
    }
    let levels = in_db(&powers, loudest(&powers));
    let audible = heard(&levels);
    let middle = (levels.len() - 1) as f64 / 2.0;
    let spread: f64 = (0..levels.len()).map(|n| (n as f64 - middle).powi(2)).sum();
    // Squares of how far a band lies off its line, and of how fast it goes, a moment. What goes faster than two moments is noise.
    let of_band = |band: &usize| {
        let values: Vec<f64> = levels
            .windows(3)
            .map(|of| of.iter().map(|of| f64::from(of[*band])).sum::<f64>() / 3.0)
            .collect();
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        let slope = (values.iter().enumerate())
            .map(|(n, x)| (n as f64 - middle) * (x - mean))
            .sum::<f64>()
            / spread;
        let off: Vec<f64> = (values.iter().enumerate())
            .map(|(n, x)| x - mean - slope * (n as f64 - middle + 1.0))
            .collect();
        let far = off.iter().map(|x| x * x).sum::<f64>() / off.len() as f64;
        let fast = off
            .windows(2)
            .map(|pair| (pair[1] - pair[0]).powi(2))
            .sum::<f64>()
            / off.len() as f64;
        (far, fast)
    };
    let (far, fast) = (audible.iter().map(of_band)).fold((0.0, 0.0), |sum, of| (sum.0 + of.0, sum.1 + of.1));
    let a_second = f64::from(rate_hz) / hop as f64;
    let hz = (fast / far.max(1e-9)).sqrt() * a_second / std::f64::consts::TAU;
    ((far / audible.len().max(1) as f64).sqrt(), hz)
}

impl PassageSound {
    /// Hears a passage that lies in a stretch of its own and comes up at a frame of it; `key` is that of a single note. `noise` are powers that its recording has
    /// without it, see [`quiet_bands`].
    pub fn of(audio: &Audio, up: usize, key: Option<u8>, noise: &[f64]) -> Self {
        let rate = audio.rate_hz;
        let up = up.min(audio.frames());
        let ms = |value: f64| frames_of_ms(rate, value);
        let held = Audio {
            rate_hz: rate,
            channels: audio.channels.iter().map(|side| side[..up].to_vec()).collect(),
        };
        let course_db = course(audio);
        let held_steps = (up / ms(STEP_MS).max(1)).min(course_db.len());
        let top = course_db[..held_steps]
            .iter()
            .copied()
            .fold(f64::NEG_INFINITY, f64::max);
        if top < SILENT_DBFS {
            return Self {
                bands_db: vec![None; THIRD_OCTAVES],
                course_db,
                side_db: LEAST_SIDE_DB,
                ..Self::default()
            };
        }
        let mut powers = [0.0; THIRD_OCTAVES];
        for side in &held.channels {
            for (sum, power) in powers.iter_mut().zip(band_powers(side, rate)) {
                *sum += power;
            }
        }
        let strongest = powers.iter().copied().fold(0.0, f64::max);
        let band = |(power, noise): (&f64, &f64)| {
            let is_heard = *power > noise * OVER_NOISE && *power > strongest * 10f64.powf(-HEARD_DB / 10.0);
            is_heard.then(|| power_db(power - noise))
        };
        let silence = [0.0; THIRD_OCTAVES];
        let noise = if noise.len() == THIRD_OCTAVES {
            noise
        } else {
            &silence
        };
        let settled = ms(SETTLES_MS).min(up / 2);
        let moves: Vec<(f64, f64)> = held
            .channels
            .iter()
            .map(|side| movement(&side[settled..], rate))
            .collect();
        let of_sides = |of: fn((f64, f64)) -> f64| {
            moves.iter().map(|one| of(*one)).sum::<f64>() / moves.len().max(1) as f64
        };
        let noise_power: f64 = noise.iter().sum();
        let all: f64 = held
            .channels
            .iter()
            .flatten()
            .map(|x| f64::from(*x).powi(2))
            .sum::<f64>()
            / up.max(1) as f64;
        let level = power_db((all - noise_power).max(all / 100.0));
        let cents = key.and_then(|key| {
            let mono = held.to_mono();
            find_pitches(&mono, rate, 0, mono.len())
                .iter()
                .map(|pitch| (f64::from(pitch.key) - f64::from(key)) * 100.0 + pitch.cents)
                .filter(|cents| cents.abs() < NEAR_CENTS)
                .min_by(|a, b| a.abs().total_cmp(&b.abs()))
        });
        Self {
            level_dbfs: Some(level),
            bands_db: powers.iter().zip(noise).map(band).collect(),
            cents,
            attack_ms: attack_ms(&held),
            tail_ms: tail_ms(&course_db, held_steps),
            side_db: side_db(&held),
            moves_db: of_sides(|(db, _)| db),
            moves_hz: Some(of_sides(|(_, hz)| hz))
                .filter(|hz| *hz > 0.0 && of_sides(|(db, _)| db) > LEAST_MOVES_DB),
            course_db,
        }
    }

    /// How far this one, of the source, lies over one that was built.
    pub fn apart(&self, built: &Self) -> PassageApart {
        let less = |a: Option<f64>, b: Option<f64>| Some(a? - b?);
        let level_db = less(self.level_dbfs, built.level_dbfs);
        let level = level_db.unwrap_or(0.0);
        let bands_db: Vec<Option<f64>> = (self.bands_db.iter())
            .zip(&built.bands_db)
            .map(|(a, b)| less(*a, *b).map(|db| db - level))
            .collect();
        let known: Vec<f64> = bands_db.iter().flatten().map(|db| db.abs()).collect();
        let loudest = |course: &[f64]| course.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let (of_source, of_built) = (loudest(&self.course_db), loudest(&built.course_db) + level);
        let floor = of_source.max(of_built) - GONE_DB;
        let steps: Vec<f64> = (self.course_db.iter())
            .zip(&built.course_db)
            .map(|(a, b)| (*a, b + level))
            .filter(|(a, b)| a.max(*b) > floor)
            .map(|(a, b)| (a.max(floor) - b.max(floor)).powi(2))
            .collect();
        let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len().max(1) as f64;
        PassageApart {
            level_db,
            spectrum_db: mean(&known),
            bands_db,
            course_db: mean(&steps).sqrt(),
            cents: less(self.cents, built.cents),
            attack_ms: less(self.attack_ms, built.attack_ms),
            tail_ms: less(self.tail_ms, built.tail_ms),
            side_db: self.side_db - built.side_db,
            moves_db: self.moves_db - built.moves_db,
            moves_octaves: self.moves_hz.zip(built.moves_hz).map(|(a, b)| (a / b).log2()),
        }
    }
}

fn attack_ms(held: &Audio) -> Option<f64> {
    let step = frames_of_ms(held.rate_hz, 1.0).max(1);
    let mono = held.to_mono();
    // Peaks over 15 ms: waves of low notes are no attack.
    let reach = 15;
    let peaks: Vec<f32> = mono
        .chunks(step)
        .map(|part| part.iter().fold(0.0f32, |top, x| top.max(x.abs())))
        .collect();
    let levels: Vec<f64> = (0..peaks.len())
        .map(|n| {
            let from = n.saturating_sub(reach);
            amplitude_to_db(f64::from(peaks[from..=n].iter().copied().fold(0.0f32, f32::max)).max(1e-6))
        })
        .collect();
    let within = &levels[..levels.len().min(LONGEST_ATTACK_MS as usize)];
    let top = within.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let (from, to) = ATTACK_DB;
    let first = within.iter().position(|db| *db >= top + from)?;
    let last = within.iter().position(|db| *db >= top + to)?;
    Some((last - first) as f64)
}

fn tail_ms(course: &[f64], held_steps: usize) -> Option<f64> {
    let before = &course[held_steps.saturating_sub(5)..held_steps];
    let level = before.iter().sum::<f64>() / before.len().max(1) as f64;
    let gone = course[held_steps..].iter().position(|db| *db < level - GONE_DB)?;
    Some(gone as f64 * STEP_MS)
}

fn side_db(held: &Audio) -> f64 {
    let [left, right, ..] = &held.channels[..] else {
        return LEAST_SIDE_DB;
    };
    let power = |of: fn(f32, f32) -> f32| -> f64 {
        left.iter()
            .zip(right)
            .map(|(l, r)| f64::from(of(*l, *r)).powi(2))
            .sum()
    };
    let (middle, side) = (power(|l, r| l + r), power(|l, r| l - r));
    (power_db(side) - power_db(middle)).max(LEAST_SIDE_DB)
}

/// How many frames later a recording sounds than what was built, by where both become louder; frames of the recording's rate, which both have. `None` where either is
/// silent.
pub fn delay_frames(source: &Audio, built: &Audio) -> Option<i64> {
    let coarse = best_lag(source, built, 5.0, 0, LONGEST_DELAY_S)?;
    best_lag(source, built, 1.0, coarse, 0.02)
}

/// The lag, in frames, near another, within so many seconds, at which both become louder together.
fn best_lag(source: &Audio, built: &Audio, step_ms: f64, near: i64, within_s: f64) -> Option<i64> {
    let step = frames_of_ms(source.rate_hz, step_ms).max(1);
    let [a, b] = [source, built].map(|audio| rises(audio, step));
    let (near, reach) = (near / step as i64, (within_s * 1_000.0 / step_ms) as i64);
    let likeness = |lag: i64| -> f64 {
        let of = |n: usize| {
            let at = n as i64 + lag;
            usize::try_from(at)
                .ok()
                .and_then(|at| a.get(at))
                .copied()
                .unwrap_or(0.0)
        };
        b.iter().enumerate().map(|(n, rise)| rise * of(n)).sum()
    };
    // Of lags that are as good, as an even row of notes has them, the shortest.
    let all = (near - reach..=near + reach).map(|lag| {
        let further = (lag - near).unsigned_abs() as f64 / reach.max(1) as f64;
        (lag, likeness(lag) * (1.0 - SHORTEST * further))
    });
    let (lag, like) = all.max_by(|a, b| a.1.total_cmp(&b.1))?;
    (like > 0.0).then_some(lag * step as i64)
}

/// What is furthest off counts so much less.
const SHORTEST: f64 = 0.02;
/// How much of a rise its neighbours have.
const SMEARED: [f64; 3] = [0.75, 0.5, 0.25];

/// How much louder each moment is than the one before, in dB over what is quiet.
fn rises(audio: &Audio, step: usize) -> Vec<f64> {
    const QUIET_DB: f64 = 45.0;
    let mono = audio.to_mono();
    let levels: Vec<f64> = mono
        .chunks(step)
        .map(|part| power_db(part.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>() / part.len() as f64))
        .collect();
    let top = levels.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    if top < SILENT_DBFS {
        return vec![0.0; levels.len()];
    }
    let floor = top - QUIET_DB;
    let over = |db: &f64| (db - floor).max(0.0);
    // What begins with the first moment becomes louder there.
    let rises: Vec<f64> = std::iter::once(levels.first().map_or(0.0, over))
        .chain(
            levels
                .windows(2)
                .map(|pair| (over(&pair[1]) - over(&pair[0])).max(0.0)),
        )
        .collect();
    // Wherever a rise falls between two moments, as much of it is alike.
    let at = |n: Option<usize>| n.and_then(|n| rises.get(n)).copied().unwrap_or(0.0);
    (0..rises.len())
        .map(|n| {
            rises[n]
                + SMEARED
                    .iter()
                    .enumerate()
                    .map(|(by, share)| share * (at(n.checked_sub(by + 1)) + at(Some(n + by + 1))))
                    .sum::<f64>()
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    const RATE: u32 = 48_000;

    /// So many seconds of something, held for one.
    fn sound(seconds: f64, of: impl Fn(f64) -> f64) -> Audio {
        let frames = (seconds * f64::from(RATE)) as usize;
        Audio::mono(
            RATE,
            (0..frames)
                .map(|n| of(n as f64 / f64::from(RATE)) as f32)
                .collect(),
        )
    }

    fn gate(at: f64) -> f64 {
        if at < 1.0 {
            (at / 0.05).min(1.0)
        } else {
            10f64.powf(-(at - 1.0) / 0.3 * 2.0)
        }
    }

    fn harmonics(hz: f64, fall: f64) -> impl Fn(f64) -> f64 {
        move |at| {
            let sum: f64 = (1..=30)
                .map(|n| (TAU * hz * f64::from(n) * at).sin() / f64::from(n).powf(fall))
                .sum();
            0.1 * sum * gate(at)
        }
    }

    fn heard(audio: &Audio, key: Option<u8>) -> PassageSound {
        PassageSound::of(audio, RATE as usize, key, &[])
    }

    #[test]
    fn thirds_of_octaves_lie_where_the_standard_says() {
        // IEC 61260-1:2014, Annex E: exact middles of base ten.
        for (n, hz) in [
            (0, 25.119),
            (6, 100.0),
            (16, 1_000.0),
            (19, 1_995.26),
            (28, 15_848.9),
        ] {
            assert!((third_octave_hz(n) / hz - 1.0).abs() < 1e-4, "{n}");
        }
        // A sine at a middle lies in its band alone; RMS of 0.1 is −20 dB.
        let tone = sound(2.0, |at| {
            (TAU * 1_000.0 * at).sin() * 0.1 * std::f64::consts::SQRT_2
        });
        let powers = band_powers(&tone.channels[0], RATE);
        assert!(
            (power_db(powers[16]) + 20.0).abs() < 0.1,
            "{}",
            power_db(powers[16])
        );
        assert!(
            power_db(powers[15]) < -45.0 && power_db(powers[17]) < -45.0,
            "{powers:?}"
        );
        // Between two middles, half in each.
        let between = third_octave_hz(16) * 10f64.powf(0.05);
        let powers = band_powers(
            &sound(2.0, |at| (TAU * between * at).sin() * 0.1).channels[0],
            RATE,
        );
        assert!(
            (power_db(powers[16]) - power_db(powers[17])).abs() < 0.5,
            "{powers:?}"
        );
    }

    #[test]
    fn what_is_the_same_lies_nowhere_apart_and_what_differs_does_by_as_much() {
        let one = heard(&sound(2.0, harmonics(220.0, 1.0)), Some(57));
        let same = one.apart(&one);
        assert_eq!(
            (same.level_db, same.spectrum_db, same.course_db),
            (Some(0.0), 0.0, 0.0)
        );
        assert_eq!(
            (same.cents, same.attack_ms, same.tail_ms),
            (Some(0.0), Some(0.0), Some(0.0))
        );
        let louder = heard(&sound(2.0, |at| 2.0 * harmonics(220.0, 1.0)(at)), Some(57));
        let apart = louder.apart(&one);
        assert!((apart.level_db.unwrap() - 6.02).abs() < 0.01);
        assert!(
            apart.spectrum_db < 0.01 && apart.course_db < 0.01,
            "level aside: {apart:?}"
        );
        // Overtones that fall faster: 6 dB an octave.
        let darker = heard(&sound(2.0, harmonics(220.0, 2.0)), Some(57)).apart(&one);
        let at = |hz: f64| {
            (0..THIRD_OCTAVES)
                .min_by_key(|n| ((third_octave_hz(*n) / hz).ln().abs() * 1e6) as u64)
                .unwrap()
        };
        let (low, high) = (
            darker.bands_db[at(440.0)].unwrap(),
            darker.bands_db[at(1_760.0)].unwrap(),
        );
        // Two octaves apart; the upper band has parts of overtones below and above.
        assert!((low - high - 12.04).abs() < 1.2, "{low} {high}");
        // 20 cents sharp.
        let sharp = heard(
            &sound(2.0, harmonics(220.0 * 2f64.powf(20.0 / 1_200.0), 1.0)),
            Some(57),
        )
        .apart(&one);
        assert!((sharp.cents.unwrap() - 20.0).abs() < 1.0, "{sharp:?}");
    }

    #[test]
    fn attack_tail_and_movement_are_heard() {
        let still = heard(
            &sound(2.0, |at| (TAU * 440.0 * at).sin() * 0.3 * gate(at)),
            Some(69),
        );
        // A straight rise of 50 ms is at −20 dB after a tenth of it and at −2 dB after 79 %.
        assert!((still.attack_ms.unwrap() - 34.7).abs() < 4.0, "{still:?}");
        // 20 dB in 0.15 s: 40 dB in 0.3 s.
        assert!((still.tail_ms.unwrap() - 300.0).abs() < 20.0, "{still:?}");
        assert!(still.moves_db < 0.1, "{still:?}");
        let moves = heard(
            &sound(2.0, |at| {
                harmonics(440.0, 0.2)(at) * (1.0 + 0.3 * (TAU * 5.0 * at).sin())
            }),
            Some(69),
        );
        // 20·log₁₀ of 1 + 0.3·sin lies about its mean by an RMS of 1.9 dB; bands that hear little of the overtones move less.
        assert!((1.4..2.2).contains(&moves.moves_db), "{}", moves.moves_db);
        let hz = moves.moves_hz.unwrap();
        assert!((hz - 5.0).abs() < 0.8, "{hz}");
        assert_eq!(still.moves_hz, None);
        let silence = heard(&sound(2.0, |_| 0.0), Some(69));
        assert_eq!((silence.level_dbfs, still.apart(&silence).level_db), (None, None));
    }

    #[test]
    fn sides_that_differ_are_as_wide_as_they_do() {
        let left = sound(2.0, |at| (TAU * 440.0 * at).sin() * 0.3);
        let wide = |share: f64| {
            let right = sound(2.0, |at| {
                0.3 * ((TAU * 440.0 * at).sin() * (1.0 - share) - (TAU * 440.0 * at).cos() * share)
            });
            let both = Audio {
                rate_hz: RATE,
                channels: vec![left.channels[0].clone(), right.channels[0].clone()],
            };
            heard(&both, None).side_db
        };
        assert_eq!(heard(&left, None).side_db, LEAST_SIDE_DB);
        // A quarter of a turn apart, sum and difference are as strong as each other.
        assert!(wide(1.0).abs() < 0.05, "{}", wide(1.0));
        assert!(wide(0.3) < wide(0.6));
    }

    #[test]
    fn a_recording_that_sounds_later_is_found_to_the_millisecond() {
        let notes = |at: f64| {
            let within = at.rem_euclid(0.7);
            let hz = 300.0 + 90.0 * (at / 0.7).floor();
            0.2 * (TAU * hz * within).sin()
                * (-within * 6.0).exp()
                * f64::from(u8::from(at > 0.0 && at < 4.0))
        };
        let built = sound(6.0, notes);
        for late in [0.0, 0.0123, 1.5, -0.2] {
            let noise = |at: f64| 1e-4 * ((at * 91_733.0).sin() * 43_758.5).fract();
            let source = sound(8.0, |at| notes(at - late) + noise(at));
            let found = delay_frames(&source, &built).unwrap() as f64 / f64::from(RATE);
            assert!((found - late).abs() <= 0.0016, "{late}: {found}");
        }
        assert_eq!(delay_frames(&sound(1.0, |_| 0.0), &built), None);
    }

    #[test]
    fn noise_of_the_recording_is_no_band_of_the_sound() {
        let noise = |at: f64| 0.004 * (((at * 91_733.7).sin() * 43_758.5).fract() - 0.5);
        let silent_first = sound(3.0, |at| if at < 0.5 { 0.0 } else { harmonics(220.0, 2.0)(at - 0.5) } + noise(at));
        let noise_bands = quiet_bands(&silent_first);
        let cut = Audio::mono(RATE, silent_first.channels[0][24_000..120_000].to_vec());
        let with = PassageSound::of(&cut, RATE as usize, Some(57), &noise_bands);
        let clean = heard(&sound(2.0, harmonics(220.0, 2.0)), Some(57));
        let apart = with.apart(&clean);
        assert!(apart.spectrum_db < 0.4, "{apart:?}");
        assert!(apart.level_db.unwrap().abs() < 0.1, "{apart:?}");
    }
}
