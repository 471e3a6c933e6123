//! Files that were damaged by chance: a sentence or an instrument, never a panic. 2,000 of each kind, 100,000 with `LADDER_LONG`; the seed is printed.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use formats::sfz::{Document, FileFacts, read_sfz};
use formats::{
    Format, FormatError, Placed, bake, lower, read_phrase, sf2, write_phrase, write_sf2, write_sfz,
};
use program::{Loop, LoopRuns, Program, Region, Sample, SampleId};
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64;
use signal::Audio;
use std::io::Cursor;

fn program() -> Program {
    let sample = |n: u64| Sample {
        id: SampleId(n),
        name: format!("tone {n}"),
        source: n.to_string(),
        rate_hz: 44_100,
        first_channel: 0,
        source_channels: 1 + n as u16,
        channels: 1 + n as u16,
        frames: 300,
    };
    let region = |n: usize| Region {
        looped: Some(Loop::plain(100, 200, LoopRuns::ThroughRelease)),
        ..Region::whole(n, 60 + n as u8, 300).on_keys(50, 70)
    };
    Program::plain("damaged", vec![sample(0), sample(1)], vec![region(0), region(1)])
}

/// Some bytes are others, some are gone, some stand twice, or it is cut.
fn damaged(whole: &[u8], random: &mut Pcg64) -> Vec<u8> {
    let mut bytes = whole.to_vec();
    for _ in 0..random.random_range(1..8) {
        let at = random.random_range(0..bytes.len().max(1));
        match random.random_range(0..5) {
            0 => bytes.truncate(at),
            1 => {
                let end = (at + random.random_range(1..40)).min(bytes.len());
                bytes.drain(at.min(end)..end);
            }
            2 => {
                let end = (at + random.random_range(1..40)).min(bytes.len());
                let twice = bytes[at.min(end)..end].to_vec();
                bytes.splice(at.min(end)..at.min(end), twice);
            }
            3 => {
                for byte in bytes.iter_mut().skip(at).take(4) {
                    *byte = 0xFF;
                }
            }
            _ => {
                if let Some(byte) = bytes.get_mut(at) {
                    *byte = random.random();
                }
            }
        }
    }
    bytes
}

/// Each damaged file is read; how many were understood all the same.
fn all_are_read(what: &str, whole: &[u8], read: impl Fn(Vec<u8>) -> bool) {
    let count = if std::env::var("LADDER_LONG").is_ok() {
        100_000
    } else {
        2_000
    };
    let seed: u64 = std::env::var("LADDER_SEED").map_or(20_261_130, |seed| seed.parse().unwrap());
    println!("{what}: LADDER_SEED={seed}");
    let mut random = Pcg64::seed_from_u64(seed);
    assert!(read(whole.to_vec()), "{what} is not read as it is");
    let understood = (0..count).filter(|_| read(damaged(whole, &mut random))).count();
    println!("{what}: {understood} of {count} were understood");
    assert!(understood < count);
}

#[test]
fn damaged_soundfonts_are_told_or_read() {
    let program = program();
    let lowered = lower(&program, Format::SoundFont2);
    let mut out = Cursor::new(Vec::new());
    write_sf2(&mut out, &[Placed::alone(lowered.program.clone())], 24, |n| {
        let audio = Audio {
            rate_hz: 44_100,
            channels: vec![vec![0.1; 300]; n + 1],
        };
        Ok::<_, FormatError>(bake(&audio, &lowered.bakes[n]))
    })
    .unwrap();
    all_are_read("SoundFont", &out.into_inner(), |bytes| {
        let Ok(mut file) = sf2::File::read(Cursor::new(bytes)) else {
            return false;
        };
        for sample in 0..file.samples.len() {
            let _ = file.audio(sample);
        }
        let read: Vec<_> = (0..file.presets.len())
            .map(|preset| file.program(preset))
            .collect();
        for read in read.iter().flatten() {
            for region in &read.program.regions {
                let frames = read.program.samples[region.sample].frames;
                assert!(region.start_frame <= region.end_frame && region.end_frame <= frames);
                assert!(region.looped.is_none_or(|looped| looped.fits(frames)));
            }
            let _ = lower(&read.program, Format::Sfz);
        }
        read.iter().any(Result::is_ok)
    });
}

#[test]
fn damaged_sfz_are_told_or_read() {
    let mut program = program();
    program.strands[0].voices.most = Some(4);
    let text = write_sfz(&lower(&program, Format::Sfz).program);
    let heard = |path: &str| {
        path.ends_with(".wav").then_some(FileFacts {
            rate_hz: 44_100,
            channels: 1,
            frames: 300,
            looped: None,
        })
    };
    all_are_read("SFZ", text.as_bytes(), |bytes| {
        let read = Document::new(bytes).and_then(|document| read_sfz(&document, "", &heard));
        if let Ok(read) = &read {
            for region in &read.program.regions {
                assert!(region.end_frame <= 300 && region.looped.is_none_or(|looped| looped.fits(300)));
            }
            let _ = write_sfz(&lower(&read.program, Format::Sfz).program);
        }
        read.is_ok()
    });
}

#[test]
fn damaged_audio_files_are_told_or_read() {
    let side: Vec<f32> = (0..400).map(|n| (n as f32 * 0.1).sin()).collect();
    let wav = formats::wav_bytes(&Audio::mono(44_100, side), 24, None);
    all_are_read("WAV", &wav, |bytes| {
        let _ = formats::read_sampler(&bytes);
        let _ = formats::small_chunks(&mut Cursor::new(&bytes));
        formats::decode(bytes, Some("wav")).is_ok()
    });
}

#[test]
fn damaged_flac_and_aiff_files_are_told_or_read() {
    let side: Vec<f32> = (0..400).map(|n| (n as f32 * 0.1).sin()).collect();
    let audio = Audio::mono(44_100, side);
    let mut flac = Vec::new();
    formats::write_flac(&mut flac, &audio, 16, &formats::Remarks::default()).unwrap();
    all_are_read("FLAC", &flac, |bytes| {
        formats::decode(bytes, Some("flac")).is_ok()
    });
    all_are_read("AIFF", &aiff(&audio.channels[0]), |bytes| {
        let _ = formats::read_aiff_sampler(&bytes);
        let _ = formats::small_chunks(&mut Cursor::new(&bytes));
        formats::decode(bytes, Some("aiff")).is_ok()
    });
}

/// AIFF-1.3 (Apple, 1989): `COMM`, with the rate as an 80-bit float, and `SSND`, 16 bits, big-endian.
fn aiff(side: &[f32]) -> Vec<u8> {
    // 44,100 Hz.
    const RATE: [u8; 10] = [0x40, 0x0E, 0xAC, 0x44, 0, 0, 0, 0, 0, 0];
    let chunk = |id: &[u8; 4], body: Vec<u8>| [&id[..], &(body.len() as u32).to_be_bytes(), &body].concat();
    let mut about = 1u16.to_be_bytes().to_vec();
    about.extend((side.len() as u32).to_be_bytes());
    about.extend(16u16.to_be_bytes());
    about.extend(RATE);
    let mut sound = vec![0; 8];
    for value in side {
        sound.extend(((value * 32_000.0) as i16).to_be_bytes());
    }
    let body = [b"AIFF".to_vec(), chunk(b"COMM", about), chunk(b"SSND", sound)].concat();
    chunk(b"FORM", body)
}

#[test]
fn damaged_midi_files_are_told_or_read() {
    let on = formats::PhraseEvent {
        at_ms: 0.0,
        bytes: [0x90, 60, 100],
    };
    let off = formats::PhraseEvent {
        at_ms: 300.0,
        bytes: [0x80, 60, 64],
    };
    let phrase = formats::Phrase {
        name: "x".into(),
        quarters_a_minute: 120.0,
        length_ms: 500.0,
        events: vec![on, off],
    };
    all_are_read("MIDI", &write_phrase(&phrase), |bytes| {
        read_phrase(&bytes).is_ok()
    });
}
