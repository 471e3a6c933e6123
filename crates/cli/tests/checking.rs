//! `ladder check`, run as a user runs it: what is wrong is said, of a folder, an SFZ and a SoundFont, and the end tells whether anything is.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

mod ran;

use ran::{done, ladder, refused};
use serde_json::Value;
use signal::Audio;
use std::fs;
use std::path::Path;

const RATE: u32 = 44_100;

/// A held tone with three partials after a while of silence.
fn tone(key: u8, level: f64) -> Audio {
    let hz = signal::hz_of_key(f64::from(key));
    let at = |n: u32| {
        let t = f64::from(n) / f64::from(RATE) - 0.2;
        let rises = (t / 0.02).clamp(0.0, 1.0);
        let w = t * hz * std::f64::consts::TAU;
        ((w.sin() + 0.5 * (2.0 * w).sin() + 0.2 * (3.0 * w).sin()) * level * rises) as f32
    };
    Audio::mono(RATE, (0..2 * RATE).map(at).collect())
}

/// Seven notes of one strength; one of them, D♯4, at another level.
fn recordings(folder: &Path, level_of_one: f64) {
    let inside = folder.join("Rank");
    fs::create_dir_all(&inside).unwrap();
    for (n, name) in ["C4", "C#4", "D4", "D#4", "E4", "F4", "F#4"].iter().enumerate() {
        let level = if n == 3 { level_of_one } else { 0.05 };
        let audio = tone(60 + n as u8, level);
        fs::write(
            inside.join(format!("Rank {name}.wav")),
            formats::wav_bytes(&audio, 24, None),
        )
        .unwrap();
    }
}

/// How it ended, and what it found: kind and place.
fn checked(folder: &Path, words: &[&str]) -> (i32, Vec<(String, String)>) {
    // The lowest rung reaches five keys down by itself, which is over a limit of four.
    let more = ["--json", "--limit", "stretched=5"];
    let all: Vec<&str> = ["check"].iter().chain(words).chain(&more).copied().collect();
    let output = ladder(folder, &all);
    let report: Value = serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{words:?}: {}", String::from_utf8_lossy(&output.stderr)));
    let text = |finding: &Value, what: &str| finding[what].as_str().unwrap().to_owned();
    let found = report["findings"].as_array().unwrap().iter();
    let found = found.map(|finding| (text(finding, "kind"), text(finding, "place")));
    (output.status.code().unwrap(), found.collect())
}

#[test]
fn what_is_even_ends_with_0_and_what_steps_out_with_1_wherever_it_lies() {
    let folder = tempfile::TempDir::new().unwrap();
    let at = folder.path();
    recordings(at, 0.05);
    let (code, found) = checked(at, &["Rank", "--kind", "sustained"]);
    assert_eq!((code, found), (0, Vec::new()));
    let text = done(
        at,
        &["check", "Rank", "--kind", "sustained", "--limit", "stretched=5"],
    );
    assert_eq!(text, "«Rank»: Nothing is left to look at.\n");

    // 0.2 over 0.05 is 12 dB.
    recordings(at, 0.2);
    let said = done(
        at,
        &[
            "build",
            "Rank",
            "--out",
            "Out",
            "--kind",
            "sustained",
            "--formats",
            "sfz,sf2",
        ],
    );
    assert!(said.contains("Level steps D♯4"), "{said}");
    let report: Value = serde_json::from_slice(&fs::read(at.join("Out/report.json")).unwrap()).unwrap();
    assert_eq!(report["check"]["findings"][0]["kind"], "level_step");
    let page = fs::read_to_string(at.join("Out/report.html")).unwrap();
    assert!(page.contains("Level steps") && page.contains("Rank D#4.wav"));
    for what in ["Rank", "Out/Rank.sfz", "Out/Rank.sf2"] {
        let kind: &[&str] = if what == "Rank" {
            &["--kind", "sustained"]
        } else {
            &[]
        };
        let words = |more: &[&'static str]| [&[what], kind, more].concat();
        let (code, found) = checked(at, &words(&[]));
        assert_eq!(code, 1, "{what}");
        assert!(
            found
                .iter()
                .any(|(kind, place)| kind == "level_step" && place.starts_with("D♯4")),
            "{what}: {found:?}"
        );
        assert!(
            found.iter().all(|(_, place)| place.starts_with("D♯4")),
            "{what}: {found:?}"
        );
        // Where so much is allowed, nothing is wrong.
        let (code, found) = checked(
            at,
            &words(&["--limit", "level_step=20", "--limit", "key_level_steps=20"]),
        );
        assert_eq!((code, found), (0, Vec::new()), "{what}");
    }
    let output = ladder(
        at,
        &["check", "Rank", "--kind", "sustained", "--html", "Rank.html"],
    );
    assert_eq!(output.status.code(), Some(1));
    let page = fs::read_to_string(at.join("Rank.html")).unwrap();
    assert!(
        page.starts_with("<!DOCTYPE html>") && page.contains("over its layer&#39;s own curve")
            || page.contains("over its layer's own curve"),
        "{page}"
    );
}

#[test]
fn what_cannot_be_checked_is_told_in_a_sentence() {
    let folder = tempfile::TempDir::new().unwrap();
    let at = folder.path();
    fs::write(at.join("none.sfz"), "<region> sample=gone.wav key=60").unwrap();
    fs::create_dir(at.join("empty")).unwrap();
    for (words, says) in [
        (["check", "nowhere.sfz"], "cannot be read"),
        (["check", "empty"], "There are no audio files"),
        (["check", "notes.txt"], "neither an SFZ nor a SoundFont"),
    ] {
        let error = refused(at, &words);
        assert!(error.contains(says), "{words:?}: {error}");
    }
    // What is no wish ends with 2.
    for (words, says) in [
        (
            ["check", "none.sfz", "--limit", "hmu=3"],
            "there is no limit of «hmu»",
        ),
        (
            ["check", "none.sfz", "--formats", "mp3"],
            "it is sfz, sf2 or page",
        ),
    ] {
        let output = ladder(at, &words);
        assert_eq!(output.status.code(), Some(2), "{words:?}");
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(error.contains(says), "{words:?}: {error}");
    }
}
