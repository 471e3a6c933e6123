//! `ladder build`, run as a user runs it: a folder becomes an instrument, and what it plays is what was recorded.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

mod ran;

use formats::{Phrase, PhraseEvent};
use ran::{done, ladder, refused};
use signal::Audio;
use std::fs;

const RATE: u32 = 44_100;

/// A held tone after a while of silence, a little out of tune.
fn tone(key: u8, cents: f64, level: f64) -> Audio {
    let hz = signal::hz_of_key(f64::from(key) + cents / 100.0);
    let at = |n: u32| {
        let t = f64::from(n) / f64::from(RATE) - 0.3;
        let rises = (t / 0.02).clamp(0.0, 1.0);
        let w = t * hz * std::f64::consts::TAU;
        ((w.sin() + 0.5 * (2.0 * w).sin() + 0.2 * (3.0 * w).sin()) * level * rises) as f32
    };
    Audio::mono(RATE, (0..3 * RATE).map(at).collect())
}

/// Three notes, soft and loud, one of them in two turns, a pair of sides, and a file that is none.
fn recordings() -> tempfile::TempDir {
    let folder = tempfile::TempDir::new().unwrap();
    let inside = folder.path().join("Rank");
    fs::create_dir_all(inside.join("more")).unwrap();
    let put = |name: &str, audio: &Audio| {
        fs::write(inside.join(name), formats::wav_bytes(audio, 24, None)).unwrap();
    };
    put("Rank C4 soft.wav", &tone(60, 12.0, 0.05));
    put("Rank C4 loud 1.wav", &tone(60, -8.0, 0.2));
    put("Rank C4 loud 2.wav", &tone(60, 5.0, 0.2));
    put("more/Rank E4 soft.wav", &tone(64, 0.0, 0.05));
    put("more/Rank E4 loud.wav", &tone(64, 20.0, 0.2));
    put("more/Rank G4 soft L.wav", &tone(67, 0.0, 0.05));
    put("more/Rank G4 soft R.wav", &tone(67, 0.0, 0.05));
    put("silence C5 soft.wav", &Audio::mono(RATE, vec![0.0; 44_100]));
    fs::write(inside.join("notes.wav"), "not audio at all").unwrap();
    fs::write(inside.join("notes.txt"), "not looked at").unwrap();
    folder
}

#[test]
fn a_folder_becomes_an_instrument_that_plays_in_tune_and_holds() {
    let folder = recordings();
    let at = folder.path();
    let build = [
        "build",
        "Rank",
        "--out",
        "Out",
        "--kind",
        "sustained",
        "--formats",
        "sfz,sf2",
    ];
    let said = done(at, &build);
    assert!(said.contains("6 of 8 files became «Rank»"), "{said}");
    assert!(
        said.contains("silence C5 soft.wav: Every sample of it is 0."),
        "{said}"
    );
    assert!(said.contains("SoundFont has no round robins"), "{said}");
    let report: serde_json::Value =
        serde_json::from_slice(&fs::read(at.join("Out/report.json")).unwrap()).unwrap();
    let files = report["files"].as_array().unwrap();
    assert_eq!(files.len(), 8);
    let of = |name: &str| files.iter().find(|file| file["file"] == name).unwrap();
    assert!((of("more/Rank E4 loud.wav")["cents"].as_f64().unwrap() - 20.0).abs() < 0.5);
    assert!(of("Rank C4 soft.wav")["loop_frames"].is_array());
    let start = of("Rank C4 soft.wav")["sound_frames"][0].as_f64().unwrap() / f64::from(RATE);
    assert!((0.28..0.31).contains(&start), "{start}");
    assert!(of("notes.wav")["take"].is_null());
    let page = fs::read_to_string(at.join("Out/report.html")).unwrap();
    assert!(page.contains("Rank E4 loud") || page.contains("more/Rank E4 loud.wav"));

    // Played over 6 s, longer than was recorded, on rungs and between them.
    let keys = [60u8, 62, 64, 67];
    let events = keys
        .iter()
        .zip([0.0, 6_000.0, 12_000.0, 18_000.0])
        .flat_map(|(&key, at_ms)| {
            [(at_ms, [0x90, key, 120]), (at_ms + 5_500.0, [0x80, key, 64])]
                .map(|(at_ms, bytes)| PhraseEvent { at_ms, bytes })
        });
    let song = Phrase {
        name: String::new(),
        quarters_a_minute: 120.0,
        length_ms: 24_000.0,
        events: events.collect(),
    };
    fs::write(at.join("song.mid"), formats::write_phrase(&song)).unwrap();
    for instrument in ["Out/Rank.sfz", "Out/Rank.sf2"] {
        done(at, &["render", instrument, "song.mid", "--out", "song.wav"]);
        let heard = formats::decode(fs::read(at.join("song.wav")).unwrap(), Some("wav")).unwrap();
        for (n, key) in keys.iter().enumerate() {
            // From the fifth second of each on: the recording has 2.7.
            let from = (n * 6 + 4) * 48_000;
            let side = &heard.channels[0][from..from + 48_000];
            let pitch = signal::find_pitch(side, 48_000, 0, side.len()).unwrap();
            assert_eq!(pitch.key, *key, "{instrument}");
            assert!(
                pitch.cents.abs() < 1.5,
                "{instrument}, key {key}: {}",
                pitch.cents
            );
        }
    }

    // Again into the same folder: the same bytes, and nothing doubled.
    let before = fs::read(at.join("Out/Rank.sf2")).unwrap();
    let count = || fs::read_dir(at.join("Out/samples")).unwrap().count();
    let samples = count();
    done(at, &build);
    assert_eq!(before, fs::read(at.join("Out/Rank.sf2")).unwrap());
    assert_eq!(samples, count());
}

#[test]
fn a_folder_that_cannot_be_built_is_told_in_a_sentence() {
    let folder = tempfile::TempDir::new().unwrap();
    let at = folder.path();
    fs::create_dir(at.join("Empty")).unwrap();
    assert!(refused(at, &["build", "Empty", "--out", "Out"]).contains("no audio files"));
    assert!(refused(at, &["build", "Nowhere", "--out", "Out"]).contains("cannot be read"));
    fs::write(at.join("Empty/x.wav"), "no").unwrap();
    assert!(refused(at, &["build", "Empty", "--out", "Out"]).contains("tells a note"));
    assert!(!at.join("Out").exists());
    // What is built does not lie among what it is built of.
    for out in ["Empty", "Empty/Out", "."] {
        let said = refused(at, &["build", ".", "--out", out]);
        assert!(said.contains("lies among the recordings"), "{out}: {said}");
    }
    assert!(
        refused(
            at,
            &[
                "build",
                "Empty",
                "--out",
                "Out",
                "--formats",
                "sf2",
                "--bits",
                "32"
            ]
        )
        .contains("16 or 24 bits")
    );
    // A wish that is none.
    assert_eq!(
        ladder(at, &["build", "Empty", "--out", "Out", "--formats", "doc"])
            .status
            .code(),
        Some(2)
    );
    assert_eq!(
        ladder(at, &["build", "Empty", "--out", "Out", "--kind", "loud"])
            .status
            .code(),
        Some(2)
    );
}

/// Two that say the same place, and another mic: nobody has to find out by listening.
#[test]
fn what_is_not_played_is_told() {
    let folder = tempfile::TempDir::new().unwrap();
    let at = folder.path();
    for name in ["a/Bell C4 close.wav", "b/Bell C4 close.wav", "a/Bell C4 room.wav"] {
        let path = at.join("Bells").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, formats::wav_bytes(&tone(60, 0.0, 0.2), 24, None)).unwrap();
    }
    let said = done(at, &["build", "Bells", "--out", "Out", "--formats", "wav"]);
    assert!(said.contains("2 of 3 files became «Bells»: 1 region."), "{said}");
    assert!(
        said.contains("a/Bell C4 close.wav: Another file has the same place"),
        "{said}"
    );
    assert!(
        said.contains("a/Bell C4 room.wav: It is of another mic"),
        "{said}"
    );
    assert_eq!(fs::read_dir(at.join("Out/samples")).unwrap().count(), 1);
    assert!(!at.join("Out/Bells.sfz").exists());
}
