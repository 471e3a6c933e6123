//! `ladder build`, run as a user runs it: a folder becomes an instrument, and what it plays is what was recorded.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

mod ran;

use formats::{Phrase, PhraseEvent};
use ran::{done, ladder, refused};
use signal::Audio;
use std::fs;
use std::path::Path;
use std::process::Command;

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

    // Elsewhere, on one processor, under another clock: the same bytes. `taskset` is one of Debian's own (util-linux).
    let elsewhere = tempfile::TempDir::new().unwrap();
    let there = elsewhere.path();
    copy(&at.join("Rank"), &there.join("Rank"));
    let alone = Command::new("taskset")
        .args(["-c", "0", env!("CARGO_BIN_EXE_ladder")])
        .args(build)
        .env("TZ", "Pacific/Kiritimati")
        .current_dir(there)
        .output()
        .unwrap();
    assert!(
        alone.status.success(),
        "{}",
        String::from_utf8_lossy(&alone.stderr)
    );
    let samples = fs::read_dir(at.join("Out/samples")).unwrap();
    let samples = samples.map(|entry| format!("samples/{}", entry.unwrap().file_name().to_string_lossy()));
    let texts = ["Rank.sfz", "Rank.sf2", "report.json", "report.html"].map(str::to_owned);
    for file in samples.chain(texts) {
        let both = [at, there].map(|folder| fs::read(folder.join("Out").join(&file)).unwrap());
        assert!(both[0] == both[1], "{file}");
    }

    // Again into the same folder: the same bytes, and nothing doubled.
    let before = fs::read(at.join("Out/Rank.sf2")).unwrap();
    let count = || fs::read_dir(at.join("Out/samples")).unwrap().count();
    let samples = count();
    done(at, &build);
    assert_eq!(before, fs::read(at.join("Out/Rank.sf2")).unwrap());
    assert_eq!(samples, count());
}

/// A folder with all that is in it.
fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let path = entry.unwrap().path();
        let name = to.join(path.file_name().unwrap());
        if path.is_dir() {
            copy(&path, &name);
        } else {
            fs::copy(&path, name).unwrap();
        }
    }
}

/// What is said in a plan holds, what is not follows from the names; and the form of the audio is as it is asked for.
#[test]
fn a_plan_says_what_is_not_by_itself() {
    let folder = recordings();
    let at = folder.path();
    let plan = "version = 1\nname = \"Fernhollow rank\"\n[[said]]\nof = \"instrument\"\nfact = \"licence\"\nvalue = \"As you like\"\n";
    fs::write(at.join("said.toml"), plan).unwrap();
    let words = "build Rank --out Out --plan said.toml --kind sustained --rate 48000 --mono --flac --formats sfz,sf2 --beside turns --bits 16";
    let build: Vec<&str> = words.split(' ').collect();
    let said = done(at, &build);
    assert!(said.contains("became «Fernhollow rank»"), "{said}");
    assert!(said.contains("the others are presets beside"), "{said}");
    let text = fs::read_to_string(at.join("Out/Fernhollow rank.sfz")).unwrap();
    assert!(text.contains("As you like"), "{text}");
    let file = fs::read(at.join("Out/Fernhollow rank.sf2")).unwrap();
    let read = formats::sf2::File::read(std::io::Cursor::new(file)).unwrap();
    assert_eq!(read.presets.len(), 2);
    for sample in read.program(0).unwrap().program.samples {
        assert_eq!((sample.rate_hz, sample.channels), (48_000, 1), "{}", sample.name);
    }
    for entry in fs::read_dir(at.join("Out/samples")).unwrap() {
        let path = entry.unwrap().path();
        let heard = formats::decode(fs::read(&path).unwrap(), Some("flac")).unwrap();
        assert_eq!(
            (heard.rate_hz, heard.channels.len()),
            (48_000, 1),
            "{}",
            path.display()
        );
    }

    // Another place than the name tells, a level, and a file that is not there.
    let named = "version = 1\n\
        [plan]\nkind = \"sustained\"\n";
    fs::write(at.join("half.toml"), named).unwrap();
    let half = refused(at, &["build", "Rank", "--out", "Out", "--plan", "half.toml"]);
    assert!(
        half.contains("The plan cannot be read") && half.contains("missing field"),
        "{half}"
    );
    let of_take = "version = 1\n[[said]]\nof = { take = 1 }\nfact = \"gain_db\"\nvalue = -2\n";
    fs::write(at.join("take.toml"), of_take).unwrap();
    let unnamed = refused(at, &["build", "Rank", "--out", "Out", "--plan", "take.toml"]);
    assert!(unnamed.contains("[[recording]] is missing"), "{unnamed}");
    let gone = refused(at, &["build", "Rank", "--out", "Out", "--plan", "gone.toml"]);
    assert!(gone.contains("gone.toml"), "{gone}");
}

/// What a shell and `man` are given is what they read.
#[test]
fn words_are_completed_and_there_is_a_manual() {
    let folder = tempfile::TempDir::new().unwrap();
    let manual = done(folder.path(), &["manual"]);
    for word in [".TH ladder", "\\-\\-plan", "\\-\\-rate", "Example: ladder build"] {
        assert!(manual.contains(word), "{word}");
    }
    let bash = done(folder.path(), &["completions", "bash"]);
    fs::write(folder.path().join("ladder.bash"), &bash).unwrap();
    let asked = Command::new("bash")
        .args(["-c", "source ladder.bash; COMP_WORDS=(ladder bui); COMP_CWORD=1; _ladder ladder bui ladder; echo ${COMPREPLY[@]}"])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&asked.stdout).trim(), "build");
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

/// With the built page in a folder.
fn of_page(web: &str) -> Vec<&str> {
    let words = "build Rank --out Out --kind sustained --formats page --web";
    words.split(' ').chain([web]).collect()
}

/// A built page that is as small as can be; without one there is nothing to make a page of.
#[test]
fn a_page_that_plays_lies_in_a_folder_of_its_own_and_is_written_again_over_itself() {
    let folder = recordings();
    let at = folder.path();
    let said = refused(at, &of_page("nowhere"));
    assert!(said.contains("The page that plays is not built here"), "{said}");
    fs::create_dir_all(at.join("web/play/assets")).unwrap();
    fs::write(at.join("web/play/index.html"), "<p>").unwrap();
    fs::write(at.join("web/play/assets/main.js"), "1").unwrap();
    let listed = || {
        done(at, &of_page("web"));
        let read = |path: &str| fs::read(at.join("Out/page").join(path)).unwrap();
        let contents: serde_json::Value = serde_json::from_slice(&read("instruments.json")).unwrap();
        let face: serde_json::Value = serde_json::from_slice(&read("instruments/1.json")).unwrap();
        assert_eq!(
            (
                contents["instruments"][0]["name"].as_str(),
                read("assets/main.js")
            ),
            (Some("Rank"), b"1".to_vec())
        );
        let samples = face["samples"].as_array().unwrap();
        assert_eq!(samples.len(), 6);
        for sample in samples {
            let audio = formats::decode(
                read(&format!("{}-0.flac", sample["audio"].as_str().unwrap())),
                Some("flac"),
            );
            assert!(audio.unwrap().frames() > 1_000);
        }
        let mut files: Vec<_> = (fs::read_dir(at.join("Out/page/audio")).unwrap())
            .map(|entry| entry.unwrap().file_name())
            .collect();
        files.sort();
        files
    };
    // Nothing of an earlier one is left, nothing has two names.
    assert_eq!(listed(), listed());
    let before = listed().len();
    fs::remove_file(at.join("Rank/more/Rank E4 loud.wav")).unwrap();
    done(at, &of_page("web"));
    assert!(fs::read_dir(at.join("Out/page/audio")).unwrap().count() < before);
}
