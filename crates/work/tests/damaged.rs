//! Packed files, and folders of files, that were damaged by chance: told or taken in, never a panic, nothing outside of the folder. 2,000 of them, 100,000 with
//! `LADDER_LONG`; the seed is printed.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use rand::{Rng, SeedableRng};
use rand_pcg::Pcg64;
use std::fs::{self, File};
use std::io::{Cursor, Write};

/// An SFZ with one recording, in a zip whose entries are packed.
fn whole() -> Vec<u8> {
    let side: Vec<f32> = (0..400).map(|n| (n as f32 * 0.1).sin()).collect();
    let wav = formats::wav_bytes(&signal::Audio::mono(44_100, side), 16, None);
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let packed =
        zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
    let text = b"<region> sample=in/tone.wav key=60".to_vec();
    for (name, bytes) in [("tone.sfz", text), ("in/tone.wav", wav)] {
        zip.start_file(name, packed).unwrap();
        zip.write_all(&bytes).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

#[test]
fn damaged_zips_are_told_or_taken_in() {
    let count = if std::env::var("LADDER_LONG").is_ok() {
        100_000
    } else {
        2_000
    };
    let seed: u64 = std::env::var("LADDER_SEED").map_or(20_261_130, |seed| seed.parse().unwrap());
    println!("zip: LADDER_SEED={seed}");
    let mut random = Pcg64::seed_from_u64(seed);
    let whole = whole();
    let around = tempfile::TempDir::new().unwrap();
    let (into, path) = (around.path().join("in"), around.path().join("a.zip"));
    let read = |bytes: &[u8]| -> bool {
        let _ = fs::remove_dir_all(&into);
        fs::create_dir(&into).unwrap();
        fs::write(&path, bytes).unwrap();
        // What was unpacked before it broke is looked through as well.
        let unpacked = work::unpack(File::open(&path).unwrap(), &into).is_ok();
        let found = work::look_through(&into).unwrap();
        assert_eq!(fs::read_dir(around.path()).unwrap().count(), 2);
        unpacked && found.instruments.iter().any(|of| of.refused.is_none())
    };
    assert!(read(&whole));
    let mut understood = 0;
    for _ in 0..count {
        let mut bytes = whole.clone();
        for _ in 0..random.random_range(1..6) {
            let at = random.random_range(0..bytes.len());
            match random.random_range(0..3) {
                0 if at > 0 => bytes.truncate(at),
                1 => bytes[at] = random.random(),
                _ => bytes[at] ^= 1 << random.random_range(0..8),
            }
        }
        understood += usize::from(read(&bytes));
    }
    println!("zip: {understood} of {count} were understood");
    assert!(understood < count);
}
