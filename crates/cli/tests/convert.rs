//! `ladder render` and `ladder convert`, run as a user runs them, on good and on bad input.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

mod ran;

use formats::{Phrase, PhraseEvent};
use ran::{done, ladder, refused};
use signal::Audio;
use std::fs;
use std::path::Path;

fn tone(key: u8, seconds: u32) -> Audio {
    let hz = signal::hz_of_key(f64::from(key));
    let at = |n: u32| {
        let t = f64::from(n) / 44_100.0 * hz * std::f64::consts::TAU;
        ((t.sin() + 0.3 * (2.0 * t).sin()) * 0.3) as f32
    };
    Audio::mono(44_100, (0..44_100 * seconds).map(at).collect())
}

/// Two keys in a folder beside, written by hand, with a word that nobody knows; and a song of four notes.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    fs::create_dir(path("Tones")).unwrap();
    for key in [57, 69] {
        let file = formats::wav_bytes(&tone(key, 2), 24, None);
        fs::write(path(&format!("Tones/Low {key}.WAV")), file).unwrap();
    }
    let text = "#define $REL ampeg_release=0.2\n<control> default_path=tones\\\n<global> $REL amp_veltrack=0 loop_mode=loop_continuous loop_start=4410 loop_end=48509\n\
        <group> lokey=48 hikey=60 <region> sample=low 57.wav pitch_keycenter=57 glint=7\n<group> lokey=61 hikey=84 <region> sample=low 69.wav pitch_keycenter=69 volume=-6";
    fs::write(path("Tones.sfz"), text).unwrap();
    let events = [(0.0, 57u8), (500.0, 64), (1_000.0, 76), (1_500.0, 50)];
    let song = Phrase {
        name: String::new(),
        quarters_a_minute: 120.0,
        length_ms: 2_000.0,
        events: events
            .iter()
            .flat_map(|&(at_ms, key)| {
                [(at_ms, [0x90, key, 100]), (at_ms + 400.0, [0x80, key, 64])]
                    .map(|(at_ms, bytes)| PhraseEvent { at_ms, bytes })
            })
            .collect(),
    };
    fs::write(path("song.mid"), formats::write_phrase(&song)).unwrap();
    folder
}

/// Pitch and level of each of the four notes, of the left side.
fn notes(path: &Path) -> Vec<(u8, f64, f64)> {
    let audio = formats::decode(fs::read(path).unwrap(), Some("wav")).unwrap();
    assert_eq!(audio.channels.len(), 2);
    let rate = audio.rate_hz as usize;
    (0..4)
        .map(|n| {
            let (from, to) = (rate * (10 * n + 1) / 20, rate * (10 * n + 7) / 20);
            let side = &audio.channels[0][from..to];
            let pitch = signal::find_pitch(side, audio.rate_hz, 0, side.len()).unwrap();
            let power: f64 = side.iter().map(|x| f64::from(*x).powi(2)).sum();
            (pitch.key, pitch.cents, 10.0 * (power / side.len() as f64).log10())
        })
        .collect()
}

#[test]
fn an_sfz_becomes_a_soundfont_and_an_sfz_again_and_all_of_them_sound_the_same() {
    let folder = folder();
    let at = folder.path();
    let said = done(at, &["convert", "Tones.sfz", "Font.sf2"]);
    assert!(said.contains("glint is not understood (1 region)"), "{said}");
    assert!(said.contains("left out here. (1 region)"), "{said}");
    done(at, &["convert", "Font.sf2", "Back/Tones.sfz", "--bits", "16"]);
    assert_eq!(fs::read_dir(at.join("Back/samples")).unwrap().count(), 2);
    done(at, &["convert", "Tones.sfz", "Tones.zip"]);
    assert!(fs::read(at.join("Tones.zip")).unwrap().starts_with(b"PK"));
    // What is not known is kept where it can be.
    done(at, &["convert", "Tones.sfz", "Again/Tones.sfz"]);
    let text = fs::read_to_string(at.join("Again/Tones.sfz")).unwrap();
    assert!(text.contains("glint=7"));
    let mut heard = Vec::new();
    for instrument in ["Tones.sfz", "Font.sf2", "Back/Tones.sfz", "Again/Tones.sfz"] {
        let said = done(
            at,
            &[
                "render",
                instrument,
                "song.mid",
                "--out",
                "heard.wav",
                "--rate",
                "44100",
                "--figures",
            ],
        );
        assert!(
            said.contains("1 voices at most") || said.contains("2 voices at most"),
            "{said}"
        );
        heard.push(notes(&at.join("heard.wav")));
    }
    let keys: Vec<u8> = heard[0].iter().map(|note| note.0).collect();
    assert_eq!(keys, [57, 64, 76, 50]);
    // The upper sample lies 6 dB lower.
    assert!((heard[0][0].2 - heard[0][1].2 - 6.0).abs() < 0.1, "{heard:?}");
    for other in &heard[1..] {
        for (a, b) in heard[0].iter().zip(other) {
            assert_eq!(a.0, b.0);
            assert!((a.1 - b.1).abs() < 1.0 && (a.2 - b.2).abs() < 0.1, "{a:?} {b:?}");
        }
    }
}

#[test]
fn what_cannot_be_done_is_said_in_a_sentence_and_nothing_is_left_behind() {
    let folder = folder();
    let at = folder.path();
    fs::write(at.join("broken.sf2"), b"RIFF\x10\0\0\0sfbkLIST").unwrap();
    fs::write(at.join("empty.sfz"), "// nothing").unwrap();
    fs::write(at.join("gone.sfz"), "<region> sample=gone.wav key=60").unwrap();
    let inside = at.join("Inside");
    fs::create_dir(&inside).unwrap();
    fs::write(
        inside.join("out.sfz"),
        "<region> sample=../Tones/Low 57.WAV key=57",
    )
    .unwrap();
    std::os::unix::fs::symlink(at.join("Tones"), inside.join("link")).unwrap();
    fs::write(inside.join("link.sfz"), "<region> sample=link/Low 57.WAV key=57").unwrap();
    for (from, says) in [
        ("broken.sf2", "has no table"),
        ("empty.sfz", "No sound is laid out"),
        ("gone.sfz", "«gone.wav» is not there"),
        ("Inside/out.sfz", "is not there"),
        ("Inside/link.sfz", "is not there"),
        ("nowhere.sfz", "cannot be read"),
        ("song.mid", "neither an SFZ nor a SoundFont"),
    ] {
        let said = refused(at, &["convert", from, "out.sf2"]);
        assert!(said.contains(says), "{from}: {said}");
    }
    assert!(refused(at, &["convert", "Tones.sfz", "out.doc"]).contains(".sfz, .zip or .sf2"));
    assert!(
        refused(at, &["render", "Tones.sfz", "Tones.sfz", "--out", "out.wav"]).contains("not a MIDI file")
    );
    assert!(!at.join("out.sf2").exists() && !at.join("out.wav").exists());
    // What is read is never written over.
    let before = fs::read(at.join("Tones/Low 57.WAV")).unwrap();
    let text = fs::read(at.join("Tones.sfz")).unwrap();
    for to in ["Tones.sfz", "./Tones/../Tones.sfz"] {
        assert!(refused(at, &["convert", "Tones.sfz", to]).contains("would be written over"));
    }
    fs::create_dir(at.join("samples")).unwrap();
    fs::copy(at.join("Tones/Low 57.WAV"), at.join("samples/Low 57.wav")).unwrap();
    fs::write(at.join("own.sfz"), "<region> sample=samples/Low 57.wav key=57").unwrap();
    assert!(refused(at, &["convert", "own.sfz", "other.sfz"]).contains("would be written over"));
    assert!(!at.join("other.sfz").exists());
    let out = ["render", "Tones.sfz", "song.mid", "--out", "Tones/Low 57.WAV"];
    assert!(refused(at, &out).contains("would be written over"));
    assert_eq!(fs::read(at.join("Tones/Low 57.WAV")).unwrap(), before);
    assert_eq!(fs::read(at.join("Tones.sfz")).unwrap(), text);
    // With the folder that it may read named, it is read.
    done(at, &["convert", "Inside/out.sfz", "out.sf2", "--within", "."]);
    assert!(at.join("out.sf2").exists());
    // What is no wish at all ends otherwise.
    assert_eq!(ladder(at, &["render"]).status.code(), Some(2));
    let help = done(at, &["convert", "--help"]);
    assert!(help.contains("Example: ladder convert"));
    let left: Vec<String> = fs::read_dir(at)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.starts_with(".tmp"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}
