//! `ladder measure`, run as a user runs it.

use signal::Audio;
use std::process::Command;

fn sine(key: u8, channels: usize, rate_hz: u32) -> Audio {
    let hz = signal::hz_of_key(f64::from(key));
    let side: Vec<f32> = (0..rate_hz as usize * 2)
        .map(|n| {
            let t = n as f64 / f64::from(rate_hz);
            if (0.2..1.8).contains(&t) {
                ((t * hz * std::f64::consts::TAU).sin() * 0.5) as f32
            } else {
                0.0
            }
        })
        .collect();
    Audio {
        rate_hz,
        channels: vec![side; channels],
    }
}

/// Runs `ladder measure --json`; gives its exit code and one object a file.
fn measured(files: &[std::path::PathBuf]) -> std::io::Result<(Option<i32>, Vec<serde_json::Value>)> {
    let output = Command::new(env!("CARGO_BIN_EXE_ladder"))
        .args(["measure", "--json"])
        .args(files)
        .output()?;
    let lines = String::from_utf8_lossy(&output.stdout)
        .lines()
        .map(serde_json::from_str)
        .collect::<Result<_, _>>()?;
    Ok((output.status.code(), lines))
}

/// Files as `sox` and `lame` (Debian's packages) write them.
#[test]
fn every_format_gives_the_same_facts() {
    let folder = tempfile::TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    let wav = path("a4.wav");
    std::fs::write(&wav, formats::wav_bytes(&sine(69, 2, 44_100), 24, None)).unwrap();
    let names = [
        "a4.aiff",
        "a4 mono.aif",
        "a4.flac",
        "a4.ogg",
        "a4.mp3",
        "a4 8 bit.wav",
        "a4 32.wav",
    ];
    for name in names {
        // `lame` notes how many frames it put before the first, and `sox` does not.
        let mut convert = Command::new(if name == "a4.mp3" { "lame" } else { "sox" });
        convert.arg(&wav);
        match name {
            "a4.mp3" => convert.arg("--quiet"),
            "a4 mono.aif" => convert.args(["-b", "16", "-c", "1"]),
            "a4 8 bit.wav" => convert.args(["-b", "8"]),
            "a4 32.wav" => convert.args(["-b", "32"]),
            _ => &mut convert,
        };
        let status = convert.arg(path(name)).status().unwrap();
        assert!(status.success(), "{name} could not be written");
    }
    let of_wav = measured(&[wav]).unwrap().1[0]["loudness_lufs"].as_f64().unwrap();
    let (code, lines) = measured(&names.map(path)).unwrap();
    assert_eq!(code, Some(0), "{lines:?}");
    for (name, facts) in names.iter().zip(&lines) {
        assert_eq!(facts["key"], 69, "{name}");
        assert!(facts["cents"].as_f64().unwrap().abs() < 0.5, "{name}: {facts}");
        assert_eq!(facts["rate_hz"], 44_100, "{name}");
        // Eight bits have a floor of their own, and what is packed with loss rings before a sudden start: 10 ms, else 1.
        let lossy = ["mp3", "ogg", "8 bit"].iter().any(|kind| name.contains(kind));
        let most = if lossy { 441 } else { 44 };
        let start = facts["start_frame"].as_u64().unwrap();
        assert!(start.abs_diff(8_820) <= most, "{name} starts at {start}");
        let loudness = facts["loudness_lufs"].as_f64().unwrap();
        // Two channels of the same are 3 LU over one (ITU-R BS.1770-4).
        let expected = of_wav + 10.0 * (facts["channels"].as_f64().unwrap() / 2.0).log10();
        let most = if lossy { 0.5 } else { 0.05 };
        assert!(
            (loudness - expected).abs() < most,
            "{name}: {loudness} for {expected}"
        );
        if !name.contains("mp3") {
            assert_eq!(facts["frames"], 88_200, "{name}");
        }
    }
}

#[test]
fn good_files_are_measured_and_bad_ones_are_named() {
    let folder = tempfile::TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::write(path("a4.wav"), formats::wav_bytes(&sine(69, 2, 44_100), 24, None)).unwrap();
    std::fs::write(
        path("c3 mono.wav"),
        formats::wav_bytes(&sine(48, 1, 96_000), 16, None),
    )
    .unwrap();
    std::fs::write(
        path("silent.wav"),
        formats::wav_bytes(&Audio::mono(48_000, vec![0.0; 4_800]), 32, None),
    )
    .unwrap();
    std::fs::write(path("no sound.flac"), b"this is a letter to the workshop").unwrap();
    std::fs::write(path("empty.wav"), b"").unwrap();
    let names = [
        "a4.wav",
        "empty.wav",
        "c3 mono.wav",
        "no sound.flac",
        "silent.wav",
        "not there.wav",
    ];
    let (code, lines) = measured(&names.map(path)).unwrap();
    assert_eq!(code, Some(1));
    assert_eq!(lines.len(), names.len());
    assert_eq!(
        (&lines[0]["key"], &lines[0]["channels"], &lines[0]["rate_hz"]),
        (&69.into(), &2.into(), &44_100.into())
    );
    assert!(lines[0]["cents"].as_f64().unwrap().abs() < 0.5);
    assert!((lines[0]["balance_db"].as_f64().unwrap()).abs() < 1e-6);
    assert_eq!(lines[0]["frames"], 88_200);
    assert!(lines[0]["start_frame"].as_u64().unwrap().abs_diff(8_820) < 44);
    assert!(lines[0]["loop"]["end_frame"].as_u64() > lines[0]["loop"]["start_frame"].as_u64());
    assert!(lines[1]["error"].is_string() && lines[3]["error"].is_string() && lines[5]["error"].is_string());
    assert_eq!(lines[2]["key"], 48);
    assert!(lines[2]["balance_db"].is_null() && lines[4]["key"].is_null() && lines[4]["loop"].is_null());
}

/// What is struck is not looped, what is held is; names say the note in whichever octave they are written.
#[test]
fn kind_and_names_are_heeded() {
    let folder = tempfile::TempDir::new().unwrap();
    let files = [("reed C3.wav", 60u8), ("reed E3.wav", 64)].map(|(name, key)| {
        let file = folder.path().join(name);
        std::fs::write(&file, formats::wav_bytes(&sine(key, 1, 44_100), 24, None)).unwrap();
        file
    });
    let of = |words: &[&str]| {
        let mut all: Vec<std::path::PathBuf> = words.iter().map(std::path::PathBuf::from).collect();
        all.extend(files.clone());
        measured(&all).unwrap()
    };
    let (code, held) = of(&["--kind", "sustained", "--keys-from-names"]);
    assert_eq!((code, held.len()), (Some(0), 2));
    for (line, key) in held.iter().zip([60, 64]) {
        let found = &line["loop"];
        assert_eq!(line["key"], key);
        assert!(
            found["audible_db"].as_f64().unwrap() < 0.1 && found["way"] == "forward",
            "{found}"
        );
        assert!(found["likeness_percent"].as_u64().unwrap() > 90, "{found}");
    }
    let (_, struck) = of(&["--kind", "struck"]);
    assert!(struck.iter().all(|line| line["loop"].is_null()));
    assert_eq!(of(&["--kind", "loud"]).0, Some(2), "it is refused");
}
