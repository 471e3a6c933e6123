//! What a careful engineer would hear in one take as it is played: at its ends, in its silence, beneath it and between its sides.

use crate::spectrum::magnitudes;
use crate::{
    AnotherSound, Audio, PlayedLoop, amplitude_to_db, find_another_sound, find_hum, frames_of_ms, partials,
    pumps_db,
};
use serde::{Deserialize, Serialize};

/// Grows where anything here hears otherwise: what was heard before is heard again.
pub const LISTEN_VERSION: u32 = 1;

/// How a take is played. Frames count from the take's first.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Played {
    /// First frame heard.
    pub start_frame: usize,
    /// First frame not heard.
    pub end_frame: usize,
    /// Length of the fade-in.
    pub fade_in_frames: usize,
    /// Length of the fade-out.
    pub fade_out_frames: usize,
    /// First frame of the sound, as it was measured.
    pub sound_start: usize,
    /// First frame after it.
    pub sound_end: usize,
    /// Its pitch, where it has one.
    pub pitch_hz: Option<f64>,
    /// Its loop.
    pub looped: Option<PlayedLoop>,
    /// Whether it dies away by itself.
    pub dies_away: bool,
    /// RMS of the noise, where it is known.
    pub noise_floor_dbfs: Option<f64>,
}

/// What is heard of it. Levels are dBFS before its gain; what is `None` cannot be told.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct TakeSound {
    /// By which version.
    pub version: u32,
    /// Its highest sample.
    pub peak_dbfs: Option<f64>,
    /// What is left out at its start, or is there in its first frame, under its first 50 ms, in dB.
    pub cut_db: Option<f64>,
    /// How long it is silent before its sound.
    pub silence_ms: f64,
    /// The step of its first frame under its first 50 ms, in dB.
    pub first_step_db: Option<f64>,
    /// The step of its last frame, or the highest pop in its last tenth of a second, under its loudest, in dB.
    pub last_step_db: Option<f64>,
    /// RMS of its last 20 ms before its fade, under its loudest 20 ms, in dB; `None` where it is looped.
    pub tail_db: Option<f64>,
    /// The mean of the channel that is furthest off.
    pub dc_dbfs: Option<f64>,
    /// The mains, and the amplitude of the hum with its partials.
    pub hum: Option<(f64, f64)>,
    /// RMS of its silence above 1.5 kHz.
    pub hiss_dbfs: Option<f64>,
    /// RMS of what lies under anything that it can have itself.
    pub rumble_dbfs: Option<f64>,
    /// Amplitude of tones that sound before it begins.
    pub before_dbfs: Option<f64>,
    /// What sounds in it though it dies away.
    pub another_sound: Option<AnotherSound>,
    /// Frames in tops that are flat.
    pub flat_frames: u64,
    /// Whether one of two sides is silent.
    pub dead_side: bool,
    /// Where the middle of its spectrum lies over its first 0.3 s, as a MIDI key.
    pub brightness_key: Option<f64>,
    /// See [`pumps_db`].
    pub pumps_db: Option<f64>,
}

/// Over the first so many milliseconds its beginning is compared.
const BEGINNING_MS: f64 = 50.0;
/// What lies so long before its start was a part of it.
const LEFT_OUT_MS: f64 = 20.0;
/// The first frames of a file that begins in the midst of its sound: a tenth of a millisecond.
const FIRST_MS: f64 = 0.1;
/// A fade of fewer frames is a step.
const LEAST_FADE: usize = 8;
/// The end in which pops are looked for.
const ENDING_MS: f64 = 100.0;
/// A pop is so many times what the sound moves by itself from frame to frame around it.
const POP_TIMES: f32 = 12.0;
/// Less silence tells nothing of hum and hiss, nor of rumble.
const LEAST_SILENCE_MS: f64 = 200.0;
const LEAST_RUMBLE_MS: f64 = 400.0;
const HISS_FROM_HZ: f64 = 1_500.0;
/// Rumble lies under this, and well under the sound's own pitch.
const RUMBLE_HZ: f64 = 30.0;
const UNDER_PITCH: f64 = 0.55;
/// A side is dead so far under the other.
const DEAD_DB: f64 = 50.0;

/// Hears a take as it is played: of all its channels.
pub fn listen(audio: &Audio, played: &Played) -> TakeSound {
    let frames = audio.frames();
    let rate = audio.rate_hz;
    let (start, end) = (played.start_frame.min(frames), played.end_frame.min(frames));
    if start >= end {
        return TakeSound {
            version: LISTEN_VERSION,
            ..TakeSound::default()
        };
    }
    let mono = audio.to_mono();
    let heard = audio.slice(start, end);
    let ms = |value: f64| frames_of_ms(rate, value).max(1);
    let peak = peak_of(audio, start, end);
    let beginning = peak_of(audio, start, start + ms(BEGINNING_MS));
    let under = |value: f32, of: f32| (of > 0.0 && value > 0.0).then(|| db(value / of));
    let left_out = if played.sound_start < start {
        let first = played.sound_start.max(start.saturating_sub(ms(LEFT_OUT_MS)));
        peak_of(audio, first, start)
    } else {
        0.0
    };
    // Where it begins with next to nothing, nothing is cut.
    let begins_loud = beginning > peak * 0.03;
    let in_the_midst = if start <= ms(1.0) && begins_loud {
        peak_of(audio, 0, ms(FIRST_MS))
    } else {
        0.0
    };
    let first_step = if played.fade_in_frames < LEAST_FADE {
        peak_of(audio, start, start + 1)
    } else {
        0.0
    };
    // Where there is no silence, what lies beneath is heard where it is quietest.
    let silence = silences(audio, played).filter(|quiet| quiet.len() >= ms(LEAST_SILENCE_MS));
    let is_silence = silence.is_some();
    let quiet = silence.unwrap_or_else(|| mono[end.saturating_sub(ms(1_000.0)).max(start)..end].to_vec());
    TakeSound {
        version: LISTEN_VERSION,
        peak_dbfs: (peak > 0.0).then(|| db(peak)),
        cut_db: under(left_out.max(in_the_midst), beginning),
        silence_ms: played.sound_start.saturating_sub(start) as f64 * 1_000.0 / f64::from(rate),
        first_step_db: under(first_step, beginning),
        last_step_db: under(last_step(audio, played, end), peak),
        tail_db: tail_db(&heard, played),
        dc_dbfs: dc_dbfs(&heard),
        hum: hum_in(&quiet, rate, is_silence, played.pitch_hz),
        hiss_dbfs: is_silence.then(|| band_dbfs(&quiet, rate, HISS_FROM_HZ, f64::from(rate) * 0.45)),
        rumble_dbfs: (quiet.len() >= ms(LEAST_RUMBLE_MS)).then(|| {
            let top = played
                .pitch_hz
                .map_or(RUMBLE_HZ, |hz| RUMBLE_HZ.min(hz * UNDER_PITCH));
            band_dbfs(&quiet, rate, 3.0, top)
        }),
        before_dbfs: before_dbfs(&mono, rate, played),
        another_sound: if played.dies_away {
            let floor = played.noise_floor_dbfs.unwrap_or(-96.0);
            find_another_sound(
                &mono[..played.sound_end.min(frames)],
                rate,
                played.sound_start,
                floor,
            )
        } else {
            None
        },
        flat_frames: flat_frames(&heard),
        dead_side: dead_side(&heard),
        brightness_key: brightness_key(&mono[start..end.min(start + ms(300.0))], rate),
        pumps_db: played.looped.and_then(|looped| pumps_db(&mono, rate, looped)),
    }
}

fn db(amplitude: f32) -> f64 {
    (amplitude_to_db(f64::from(amplitude)) * 100.0).round() / 100.0
}

fn peak_of(audio: &Audio, first: usize, end: usize) -> f32 {
    let end = end.min(audio.frames());
    let first = first.min(end);
    let all = audio.channels.iter().flat_map(|channel| &channel[first..end]);
    all.fold(0.0f32, |top, x| top.max(x.abs()))
}

fn rms(samples: &[f32]) -> f64 {
    let power: f64 = samples.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
    (power / samples.len().max(1) as f64).sqrt()
}

/// All that lies outside of the sound, the longer side of it; `None` where nothing does.
fn silences(audio: &Audio, played: &Played) -> Option<Vec<f32>> {
    let frames = audio.frames();
    let room = frames_of_ms(audio.rate_hz, 20.0);
    let before = 0..played.sound_start.min(frames).saturating_sub(room);
    let after = (played.sound_end + room).min(frames)..frames;
    let longer = if before.len() >= after.len() {
        before
    } else {
        after
    };
    (!longer.is_empty()).then(|| audio.slice(longer.start, longer.end).to_mono())
}

/// The step with which it ends where it is not faded, or a pop near its end: a second difference far over those around it.
fn last_step(audio: &Audio, played: &Played, end: usize) -> f32 {
    if played.looped.is_some() {
        return 0.0;
    }
    let step = if played.fade_out_frames < LEAST_FADE {
        peak_of(audio, end - 1, end)
    } else {
        0.0
    };
    let first = end
        .saturating_sub(frames_of_ms(audio.rate_hz, ENDING_MS))
        .max(played.start_frame);
    let pop = |channel: &Vec<f32>| {
        let part = &channel[first..end];
        let moves: Vec<f32> = part
            .windows(3)
            .map(|w| (w[0] - 2.0 * w[1] + w[2]).abs())
            .collect();
        let mut sorted = moves.clone();
        if sorted.len() < 64 {
            return 0.0;
        }
        // What nine of ten do not reach by far.
        let at = sorted.len() * 9 / 10;
        let usual = *sorted.select_nth_unstable_by(at, f32::total_cmp).1;
        let top = moves.iter().fold(0.0f32, |top, &x| top.max(x));
        if top > usual * POP_TIMES { top / 2.0 } else { 0.0 }
    };
    audio.channels.iter().map(pop).fold(step, f32::max)
}

fn tail_db(heard: &Audio, played: &Played) -> Option<f64> {
    if played.looped.is_some() {
        return None;
    }
    let mono = heard.to_mono();
    let window = frames_of_ms(heard.rate_hz, 20.0).max(1);
    let loudest = mono.chunks(window).map(rms).fold(0.0, f64::max);
    let before_fade = mono.len().saturating_sub(played.fade_out_frames);
    let last = rms(&mono[before_fade.saturating_sub(window)..before_fade]);
    (loudest > 0.0 && last > 0.0).then(|| (amplitude_to_db(last / loudest) * 100.0).round() / 100.0)
}

/// The mean under a Hann window, so that a wave that is cut off in its midst has none.
fn dc_dbfs(heard: &Audio) -> Option<f64> {
    let mean = |channel: &Vec<f32>| {
        let len = channel.len() as f64;
        let weighted = channel.iter().enumerate().map(|(n, &x)| {
            let weight = 1.0 - (std::f64::consts::TAU * n as f64 / len).cos();
            f64::from(x) * weight
        });
        (weighted.sum::<f64>() / len).abs()
    };
    let most = heard.channels.iter().map(mean).fold(0.0, f64::max);
    (most > 1e-7).then(|| (amplitude_to_db(most) * 100.0).round() / 100.0)
}

/// Mains, and the amplitude of all its partials. In a sound, what lies over its pitch may be its own.
fn hum_in(quiet: &[f32], rate_hz: u32, is_silence: bool, pitch_hz: Option<f64>) -> Option<(f64, f64)> {
    let found = find_hum(quiet, rate_hz, None);
    // Only what lies well under its pitch cannot be its own, and only a line is hum: a sound that ends has skirts.
    let is_line = |hz: f64| {
        let beside = [-9.0, -7.0, -5.0, 5.0, 7.0, 9.0].map(|off| amplitude_at(quiet, rate_hz, hz + off));
        amplitude_at(quiet, rate_hz, hz) > 4.0 * beside.into_iter().fold(0.0, f64::max)
    };
    let own = |hz: f64| !is_silence && (pitch_hz.is_none_or(|pitch| hz > pitch * 0.8) || !is_line(hz));
    let partials: Vec<f64> = found.into_iter().filter(|hz| !own(*hz)).collect();
    let lowest = *partials.first()?;
    let power: f64 = partials
        .iter()
        .map(|hz| amplitude_at(quiet, rate_hz, *hz).powi(2))
        .sum();
    let mains = if (lowest / 60.0 - (lowest / 60.0).round()).abs()
        < (lowest / 50.0 - (lowest / 50.0).round()).abs()
    {
        60.0
    } else {
        50.0
    };
    (power > 0.0).then(|| (mains, (amplitude_to_db(power.sqrt()) * 100.0).round() / 100.0))
}

/// Amplitude of one frequency under a Hann window (Goertzel's sum, written out).
fn amplitude_at(samples: &[f32], rate_hz: u32, hz: f64) -> f64 {
    let turn = std::f64::consts::TAU * hz / f64::from(rate_hz);
    let len = samples.len() as f64;
    let (re, im) = samples.iter().enumerate().fold((0.0, 0.0), |(re, im), (n, &x)| {
        let weight = 1.0 - (std::f64::consts::TAU * n as f64 / len).cos();
        let (sin, cos) = (turn * n as f64).sin_cos();
        let x = f64::from(x) * weight;
        (re + x * cos, im + x * sin)
    });
    2.0 * (re * re + im * im).sqrt() / len
}

/// RMS of what lies between two frequencies: powers of Hann-windowed spectra, meaned over the stretch.
fn band_dbfs(samples: &[f32], rate_hz: u32, low_hz: f64, high_hz: f64) -> f64 {
    let window = crate::fft::fast_len(samples.len().min(rate_hz as usize));
    let hop = (window / 2).max(1);
    let (mut power, mut count) = (0.0, 0usize);
    let mut first = 0;
    while first + window <= samples.len() {
        let bins = magnitudes(&samples[first..first + window]);
        let bin = |hz: f64| (hz * window as f64 / f64::from(rate_hz)) as usize;
        let (low, high) = (bin(low_hz).max(1), bin(high_hz).min(bins.len()));
        // A sinusoid's amplitude A reads A in its bin and A/2 on both sides of it: 1.5·A² in all, where its power is A²/2.
        power += bins
            .get(low..high.max(low))
            .unwrap_or(&[])
            .iter()
            .map(|x| x * x)
            .sum::<f64>()
            / 3.0;
        count += 1;
        first += hop;
    }
    let rms = (power / count.max(1) as f64).sqrt();
    (amplitude_to_db(rms.max(1e-7)) * 100.0).round() / 100.0
}

/// Tones before the sound: partials that are none of the mains.
fn before_dbfs(mono: &[f32], rate_hz: u32, played: &Played) -> Option<f64> {
    let ms = |value: f64| frames_of_ms(rate_hz, value);
    let onset = onset(mono, rate_hz, played)?;
    let end = onset.saturating_sub(ms(5.0));
    let first = end.saturating_sub(ms(400.0));
    if end - first < ms(40.0) {
        return None;
    }
    let part = &mono[first..end];
    let of_mains = |hz: f64| {
        let near = |mains: f64| (hz - (hz / mains).round() * mains).abs() < 3.0;
        hz < 450.0 && (near(50.0) || near(60.0))
    };
    let power: f64 = partials(part, rate_hz)
        .into_iter()
        .filter(|partial| partial.hz > 70.0 && !of_mains(partial.hz))
        .map(|partial| partial.amplitude.powi(2))
        .sum();
    (power > 0.0).then(|| (amplitude_to_db(power.sqrt()) * 100.0).round() / 100.0)
}

/// Where its own sound begins: as it was measured, or where the level leaps by 12 dB later than that, over another sound.
fn onset(mono: &[f32], rate_hz: u32, played: &Played) -> Option<usize> {
    const LEAP: f64 = 4.0;
    let window = frames_of_ms(rate_hz, 10.0).max(1);
    let levels: Vec<f64> = mono.chunks_exact(window).map(rms).collect();
    let top = levels.iter().copied().fold(0.0, f64::max);
    let within = (
        played.sound_start / window,
        (played.sound_start + rate_hz as usize) / window,
    );
    // An attack takes a few windows.
    let leap = (within.0 + 6..within.1.min(levels.len().saturating_sub(3))).find(|&n| {
        // Nothing before it was nearly as loud: else it is another sound that falls into this one.
        let before = levels[..=n].iter().copied().fold(1e-6, f64::max);
        levels[n + 3] > top * 0.25 && levels[n + 3] > LEAP * before
    });
    let started = played.sound_start.min(mono.len());
    Some(leap.map_or(started, |n| n * window)).filter(|at| *at > 0)
}

/// Frames in runs of equal samples at the highest level, whose edges are steeper than a wave's own crest would leave them: flat tops under full scale.
fn flat_frames(heard: &Audio) -> u64 {
    /// What is softer has flat tops for want of bits.
    const LEAST_PEAK: f32 = 0.02;
    const RUN: usize = 3;
    /// A crest that is flat for want of bits ends in a step of one of them.
    const EDGE: f32 = 1.5e-4;
    const FINE: f32 = 1e-6;
    let coarse = |channel: &Vec<f32>| {
        let steps = channel
            .iter()
            .filter(|x| **x != 0.0)
            .take(4_096)
            .map(|x| x * 32_768.0);
        steps.into_iter().all(|x| (x - x.round()).abs() < 1e-3)
    };
    let of = |channel: &Vec<f32>| -> u64 {
        let top = channel.iter().fold(0.0f32, |top, x| top.max(x.abs()));
        if top < LEAST_PEAK {
            return 0;
        }
        let least_edge = if coarse(channel) {
            EDGE.max(top * 1e-3)
        } else {
            FINE
        };
        let (mut flat, mut n) = (0u64, 0);
        while n < channel.len() {
            let held = channel[n];
            if held.abs() < top * 0.995 {
                n += 1;
                continue;
            }
            let run = channel[n..].iter().take_while(|x| **x == held).count();
            let edge = |at: Option<&f32>| at.is_none_or(|x| (held - x).abs() > least_edge);
            let before = n.checked_sub(1).and_then(|at| channel.get(at));
            if run >= RUN && edge(before) && edge(channel.get(n + run)) {
                flat += run as u64;
            }
            n += run.max(1);
        }
        flat
    };
    heard.channels.iter().map(of).max().unwrap_or(0)
}

fn dead_side(heard: &Audio) -> bool {
    let [left, right, ..] = heard.channels.as_slice() else {
        return false;
    };
    let (left, right) = (rms(left), rms(right));
    let (less, more) = (left.min(right), left.max(right));
    more > 0.0 && amplitude_to_db(less.max(1e-9) / more) < -DEAD_DB
}

/// Mean of the logarithm of frequency, by amplitude, of what lies within 40 dB of the loudest bin, from 40 Hz to 16 kHz; as a MIDI key.
pub fn brightness_key(samples: &[f32], rate_hz: u32) -> Option<f64> {
    let window = crate::fft::fast_len(samples.len().min(8_192));
    if window < 512 {
        return None;
    }
    let mut sum = vec![0.0f64; window / 2 + 1];
    for first in (0..=samples.len() - window).step_by((window / 2).max(1)) {
        for (sum, bin) in sum.iter_mut().zip(magnitudes(&samples[first..first + window])) {
            *sum += bin * bin;
        }
    }
    let hz = |bin: usize| bin as f64 * f64::from(rate_hz) / window as f64;
    let heard = (1..sum.len()).filter(|&bin| (40.0..16_000.0).contains(&hz(bin)));
    let top = heard.clone().map(|bin| sum[bin]).fold(0.0, f64::max);
    let kept = heard.filter(|&bin| sum[bin] > top * 1e-4);
    let (weights, keys) = kept.fold((0.0, 0.0), |(weights, keys), bin| {
        let (amplitude, key) = (sum[bin].sqrt(), 69.0 + 12.0 * (hz(bin) / 440.0).log2());
        (weights + amplitude, keys + amplitude * key)
    });
    (weights > 0.0).then(|| (keys / weights * 100.0).round() / 100.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};

    const RATE: u32 = 48_000;

    /// Half a second of silence, a tone of 1.5 s that fades, half a second of silence.
    fn struck() -> Vec<f32> {
        (0..120_000)
            .map(|n| {
                let t = (n as f32 - 24_000.0) / 48_000.0;
                if !(0.0..1.5).contains(&t) {
                    return 0.0;
                }
                (t * 440.0 * std::f32::consts::TAU).sin() * 0.5 * (-5.0 * t).exp()
            })
            .collect()
    }

    fn played() -> Played {
        Played {
            start_frame: 23_904,
            end_frame: 96_000,
            fade_in_frames: 48,
            fade_out_frames: 960,
            sound_start: 24_000,
            sound_end: 96_000,
            pitch_hz: Some(440.0),
            looped: None,
            dies_away: true,
            noise_floor_dbfs: None,
        }
    }

    fn heard(samples: Vec<f32>) -> TakeSound {
        listen(&Audio::mono(RATE, samples), &played())
    }

    /// A sinusoid over all of it, of an amplitude in dBFS.
    fn with_tone(mut samples: Vec<f32>, hz: f32, dbfs: f32) -> Vec<f32> {
        let amplitude = 10f32.powf(dbfs / 20.0);
        for (n, x) in samples.iter_mut().enumerate() {
            *x += (n as f32 * hz / 48_000.0 * std::f32::consts::TAU).sin() * amplitude;
        }
        samples
    }

    #[test]
    fn a_good_take_has_nothing_to_hear_beside_its_sound() {
        let heard = heard(struck());
        assert_eq!(
            (heard.hum, heard.another_sound, heard.flat_frames, heard.dead_side),
            (None, None, 0, false)
        );
        assert_eq!((heard.cut_db, heard.first_step_db), (None, None));
        assert!((heard.silence_ms - 2.0).abs() < 0.1, "{heard:?}");
        assert!(heard.hiss_dbfs.unwrap() < -100.0 && heard.rumble_dbfs.unwrap() < -100.0);
        assert!(heard.tail_db.unwrap() < -60.0, "{heard:?}");
        assert!((heard.brightness_key.unwrap() - 69.0).abs() < 2.0, "{heard:?}");
    }

    #[test]
    fn what_lies_beneath_is_as_loud_as_it_was_put_there() {
        let hum = heard(with_tone(with_tone(struck(), 50.0, -50.0), 150.0, -56.0));
        let (mains, dbfs) = hum.hum.expect("hum");
        // Both together: 10·log10(10^−5 + 10^−5.6) = −49.03 dB.
        assert!(mains == 50.0 && (dbfs + 49.03).abs() < 0.3, "{hum:?}");
        let rumble = heard(with_tone(struck(), 12.0, -40.0)).rumble_dbfs.unwrap();
        assert!((rumble + 43.01).abs() < 1.0, "RMS of a sinusoid: {rumble}");
        let dc = heard(struck().into_iter().map(|x| x + 0.01).collect())
            .dc_dbfs
            .unwrap();
        assert!((dc + 40.0).abs() < 0.1, "{dc}");
        let mut random = rand_pcg::Pcg32::seed_from_u64(3);
        // Even noise of ±a has an RMS of a/√3, of which 15/16 of its band lie over 1.5 kHz, and 0.9 under 0.45 of the rate.
        let noisy = struck()
            .into_iter()
            .map(|x| x + random.random_range(-0.01f32..0.01))
            .collect();
        let hiss = heard(noisy).hiss_dbfs.unwrap();
        assert!((hiss - (-40.0 - 4.77 - 0.75)).abs() < 0.5, "{hiss}");
    }

    #[test]
    fn ends_that_are_cut_are_heard() {
        let sound = Audio::mono(RATE, struck());
        let late = listen(
            &sound,
            &Played {
                start_frame: 24_480,
                fade_in_frames: 0,
                ..played()
            },
        );
        assert!(
            late.cut_db.unwrap() > -1.0 && late.first_step_db.is_some(),
            "{late:?}"
        );
        let cut = listen(
            &sound,
            &Played {
                end_frame: 48_013,
                fade_out_frames: 0,
                ..played()
            },
        );
        // After half a second it has fallen by e^−2.5, 21.7 dB, from the mean of its first 20 ms by 0.5 dB less.
        assert!((cut.tail_db.unwrap() + 21.0).abs() < 1.0, "{cut:?}");
        assert!(cut.last_step_db.unwrap() > -40.0, "{cut:?}");
        let mut popped = struck();
        popped[95_000] += 0.02;
        assert!(
            (heard(popped).last_step_db.unwrap() + 28.0).abs() < 1.0,
            "0.02 of 0.5"
        );
    }

    #[test]
    fn flat_tops_are_counted_and_crests_are_not() {
        let sine = |bits: f32| -> Vec<f32> {
            let steps = 2f32.powf(bits - 1.0);
            (0..96_000)
                .map(|n| ((n as f32 * 0.002 * std::f32::consts::TAU).sin() * 0.4 * steps).round() / steps)
                .collect()
        };
        assert_eq!(
            flat_frames(&Audio::mono(RATE, sine(16.0))),
            0,
            "a slow crest in 16 bits"
        );
        let clipped: Vec<f32> = sine(16.0).into_iter().map(|x| x.clamp(-0.35, 0.35)).collect();
        assert!(flat_frames(&Audio::mono(RATE, clipped)) > 1_000);
    }

    #[test]
    fn another_note_that_rings_into_it_is_as_loud_as_it_is() {
        let mut samples = with_tone(struck(), 310.0, -40.0);
        samples.truncate(96_000);
        let before = heard(samples).before_dbfs.expect("another note");
        assert!((before + 40.0).abs() < 1.0, "{before}");
        assert_eq!(heard(struck()).before_dbfs, None);
    }
}
