//! Recordings that others made, with their makers' word on pitch and loop: Debian's package `timgm6mb-soundfont`, read as data. Its path is
//! in `LADDER_SOUNDFONT`; without it nothing is tried. Worst cases are printed (`--nocapture`).

mod families;

use formats::sf2;
use instrument::{Kind, best_loop, heard_for};
use signal::{Audio, Measurement, PlayedLoop, audible_db, pumps_db, sound_bounds};
use std::collections::BTreeSet;
use std::fs;
use std::io::BufReader;
use std::sync::OnceLock;

/// One recording, with its maker's word.
struct Real {
    name: String,
    /// The SoundFont's instrument that it is first used in.
    family: String,
    audio: Audio,
    /// In MIDI keys.
    pitch: f64,
    /// First frame of the loop that its maker made by hand, and first after it.
    looped: (usize, usize),
    found: Measurement,
}

/// Recordings that are shorter say little.
const SHORTEST_S: f64 = 0.4;
const PITCHES: std::ops::RangeInclusive<f64> = 28.0..=100.0;

/// The looped, pitched recordings of the SoundFont, each once, measured.
fn recordings() -> &'static [Real] {
    static ALL: OnceLock<Vec<Real>> = OnceLock::new();
    ALL.get_or_init(|| {
        let Ok(path) = std::env::var("LADDER_SOUNDFONT") else {
            return Vec::new();
        };
        let mut all = read(&path);
        let half = all.len() / 2;
        let (some, others) = all.split_at_mut(half);
        std::thread::scope(|scope| {
            for part in [some, others] {
                scope.spawn(|| {
                    for real in part {
                        real.found = signal::measure(&real.audio);
                    }
                });
            }
        });
        all
    })
}

fn read(path: &str) -> Vec<Real> {
    const MONO: u16 = 1;
    const LEFT: u16 = 4;
    let mut file = sf2::File::read(BufReader::new(
        fs::File::open(path).expect("the SoundFont is there"),
    ))
    .expect("a SoundFont");
    let mut seen = BTreeSet::new();
    let zones: Vec<(String, sf2::Zone)> = file
        .instruments
        .iter()
        .flat_map(|of| of.zones.iter().map(|zone| (of.name.clone(), zone.clone())))
        .collect();
    let mut all = Vec::new();
    for (family, zone) in zones {
        let sample = file.samples[zone.sample].clone();
        let Some((first, after)) = zone.looped(&sample) else {
            continue;
        };
        let pitch = zone.pitch(&sample);
        let long_enough = sample.frames as f64 >= SHORTEST_S * f64::from(sample.rate_hz);
        let wanted = matches!(sample.kind, MONO | LEFT) && PITCHES.contains(&pitch) && long_enough;
        if !wanted || !seen.insert(zone.sample) {
            continue;
        }
        let frame = |at: i64| at.clamp(0, sample.frames as i64) as usize;
        all.push(Real {
            audio: file.audio(zone.sample).expect("its audio"),
            name: sample.name.clone(),
            family,
            pitch,
            looped: (frame(first), frame(after)),
            found: signal::measure(&Audio::mono(sample.rate_hz, Vec::new())),
        });
    }
    all
}

impl Real {
    fn samples(&self) -> &[f32] {
        &self.audio.channels[0]
    }

    fn seconds(&self, frames: usize) -> f64 {
        frames as f64 / f64::from(self.audio.rate_hz)
    }

    /// How far the pitch heard lies from its maker's, in keys; far where there is none.
    fn off(&self, facts: &Measurement) -> f64 {
        facts
            .pitch
            .map_or(99.0, |p| f64::from(p.key) + p.cents / 100.0 - self.pitch)
    }

    fn stands_out(&self, seam: PlayedLoop) -> Option<f64> {
        audible_db(self.samples(), self.audio.rate_hz, seam)
    }

    fn pumps(&self, seam: PlayedLoop) -> Option<f64> {
        pumps_db(self.samples(), self.audio.rate_hz, seam)
    }

    fn by_hand(&self) -> PlayedLoop {
        PlayedLoop {
            start_frame: self.looped.0,
            end_frame: self.looped.1,
            crossfade_frames: 0,
            likeness_percent: 100,
        }
    }
}

fn rms_db(samples: &[f32]) -> f64 {
    let power: f64 = samples.iter().map(|x| f64::from(*x).powi(2)).sum();
    20.0 * ((power / samples.len().max(1) as f64).sqrt() + 1e-9).log10()
}

fn median(mut of: Vec<f64>) -> f64 {
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

/// As a percentage.
fn share<T>(of: &[T], is: impl Fn(&T) -> bool) -> f64 {
    100.0 * of.iter().filter(|one| is(one)).count() as f64 / of.len() as f64
}

/// What its maker gave a root that is not what is heard: noises, and harmonics written where the string is stopped.
fn has_no_pitch(real: &Real) -> bool {
    const WORDS: [&str; 13] = [
        "hat",
        "ocean",
        "shore",
        "bell",
        "cymbal",
        "harmonics",
        "wind",
        "breath",
        "applause",
        "helicopter",
        "noise",
        "ride",
        "crash",
    ];
    let name = real.name.to_lowercase();
    WORDS.iter().any(|word| name.contains(word))
}

/// Bars: what is left out lies 30 dB and more under what follows, in 98 % and more.
#[test]
fn the_beginning_of_no_recording_is_cut() {
    let all = recordings();
    if all.is_empty() {
        return;
    }
    let mut left_out: Vec<(f64, &str)> = all
        .iter()
        .filter(|real| real.seconds(real.found.start_frame) > 0.002)
        .map(|real| {
            let (start, samples) = (real.found.start_frame, real.samples());
            let soon = (start + real.audio.rate_hz as usize / 20).min(samples.len());
            (
                rms_db(&samples[..start]) - rms_db(&samples[start..soon]),
                real.name.as_str(),
            )
        })
        .collect();
    left_out.sort_by(|a, b| b.0.total_cmp(&a.0));
    println!(
        "left out, under what follows: {:.1?}",
        &left_out[..left_out.len().min(10)]
    );
    let cut = left_out.iter().filter(|(db, _)| *db > -30.0).count();
    assert!(cut * 50 <= all.len(), "{cut} of {} are cut", all.len());
}

/// Bars: put behind 300 ms of noise 50 dB under it, a recording starts where it was put, within 5 ms, in 95 % and more.
#[test]
fn a_recording_behind_noise_starts_where_it_was_put() {
    let all = recordings();
    if all.is_empty() {
        return;
    }
    let mut late: Vec<(f64, &str)> = all
        .iter()
        .map(|real| (behind_noise(real), real.name.as_str()))
        .collect();
    late.sort_by(|a, b| b.0.abs().total_cmp(&a.0.abs()));
    println!("behind noise, late by ms: {:.1?}", &late[..10]);
    let near = share(&late, |(ms, _)| ms.abs() <= 5.0);
    println!("within 5 ms: {near:.1} %");
    assert!(near >= 95.0);
}

/// How late a recording is found to start, in ms, put behind noise 50 dB under it (RMS against RMS) that goes on under it.
fn behind_noise(real: &Real) -> f64 {
    let rate = f64::from(real.audio.rate_hz);
    let before = (0.3 * rate) as usize;
    let level = 10f64.powf((rms_db(real.samples()) - 50.0) / 20.0);
    let mut random = 1u64;
    let mut noise = || {
        // A linear congruential generator (Knuth's MMIX), uniform, of RMS 1.
        random = random
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        ((random >> 33) as f64 / f64::from(1u32 << 30) - 1.0) * 3f64.sqrt()
    };
    let silence = std::iter::repeat_n(&0.0f32, before);
    let samples = silence
        .chain(real.samples())
        .map(|x| (f64::from(*x) + level * noise()) as f32)
        .collect();
    let found = sound_bounds(&Audio::mono(real.audio.rate_hz, samples)).expect("a sound");
    (found.start_frame as f64 - before as f64) / rate * 1000.0
}

/// Bars: 97 % within 50 cents without a hint, 99 % the right pitch class,
/// 99 % where the name gives the note.
#[test]
fn pitches_are_those_that_their_makers_say() {
    let all: Vec<&Real> = recordings().iter().filter(|real| !has_no_pitch(real)).collect();
    if all.is_empty() {
        return;
    }
    let hinted = |real: &Real| real.off(&heard_for(real.pitch.round() as u8, real.found.clone()));
    let off = |real: &&Real| real.off(&real.found);
    for real in all.iter().filter(|real| off(real).abs() >= 0.5) {
        println!(
            "{}: {:+.2} keys, hinted {:+.2}",
            real.name,
            off(real),
            hinted(real)
        );
    }
    let right = share(&all, |real| off(real).abs() < 0.5);
    let class = share(&all, |real| {
        ((off(real) + 6.0).rem_euclid(12.0) - 6.0).abs() < 0.5 && off(real) < 90.0
    });
    let named = share(&all, |real| hinted(real).abs() < 0.5);
    println!(
        "within 50 cents {right:.1} %, right pitch class {class:.1} %, with the name's note {named:.1} %"
    );
    assert!(right >= 97.0 && class >= 99.0 && named >= 99.0);
}

/// Bars: found 99 %; standing out by 0 dB or less 92 % of all; better than by hand and at least half as long (or half a second) 85 % of all; pumping
/// no more than by hand, at the median.
#[test]
fn loops_are_better_than_those_made_by_hand() {
    let all = recordings();
    if all.is_empty() {
        return;
    }
    struct Judged<'a> {
        real: &'a Real,
        found: Option<PlayedLoop>,
        stands_out: Option<f64>,
        by_hand: Option<f64>,
        won: bool,
    }
    let judged: Vec<Judged> = all
        .iter()
        .map(|real| {
            let best = best_loop(Kind::Sustained, real.audio.rate_hz, &real.found.loops);
            let found = best.map(|best| best.played());
            let stands_out = found.and_then(|seam| real.stands_out(seam));
            if let Some(told) = best.and_then(|best| best.audible_db) {
                // The best is told as it was heard, whole.
                assert!((told - stands_out.unwrap()).abs() < 0.2, "{}", real.name);
            }
            let by_hand = real.stands_out(real.by_hand());
            let length = |seam: PlayedLoop| real.seconds(seam.end_frame - seam.start_frame);
            let lively = found.is_some_and(|seam| length(seam) >= (length(real.by_hand()) / 2.0).min(0.5));
            let won = lively && by_hand.is_none_or(|hand| stands_out.is_none_or(|found| found < hand));
            Judged {
                real,
                found,
                stands_out,
                by_hand,
                won,
            }
        })
        .collect();
    let mut worst: Vec<&Judged> = judged.iter().collect();
    worst.sort_by(|a, b| {
        b.stands_out
            .unwrap_or(-9.0)
            .total_cmp(&a.stands_out.unwrap_or(-9.0))
    });
    for of in worst.iter().take(10) {
        println!(
            "stands out: {} {:+.2} dB ({:?})",
            of.real.name,
            of.stands_out.unwrap(),
            of.found
        );
    }
    for of in judged.iter().filter(|of| !of.won) {
        println!(
            "not better than by hand: {}, {:.2?} dB, by hand {:.2?} dB",
            of.real.name, of.stands_out, of.by_hand
        );
    }
    let found = share(&judged, |of| of.found.is_some());
    let quiet = share(&judged, |of| of.stands_out.is_some_and(|db| db <= 0.0));
    let better = share(&judged, |of| of.won);
    let pumps = median(judged.iter().filter_map(|of| of.real.pumps(of.found?)).collect());
    let by_hand = median(
        judged
            .iter()
            .filter_map(|of| of.real.pumps(of.real.by_hand()))
            .collect(),
    );
    println!(
        "found {found:.1} %, quiet {quiet:.1} %, better {better:.1} %, pumps {pumps:.2} dB (by hand {by_hand:.2})"
    );
    assert!(found >= 99.0 && quiet >= 92.0 && better >= 85.0 && pumps <= by_hand);
}
