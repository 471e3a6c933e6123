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

/// An `RF64` file of a WAV file's sound, which says its length in `ds64` (EBU Tech 3306), and one that a program wrote into a pipe.
fn sizes_elsewhere(wav: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let data = wav
        .windows(4)
        .position(|four| four == b"data")
        .expect("its sound");
    let mut piped = wav.to_vec();
    for at in [4, data + 4] {
        piped[at..at + 4].copy_from_slice(&u32::MAX.to_le_bytes());
    }
    let long = (wav.len() - data - 8) as u64;
    let mut rf64 = b"RF64".to_vec();
    rf64.extend(u32::MAX.to_le_bytes());
    rf64.extend(b"WAVEds64");
    rf64.extend(28u32.to_le_bytes());
    rf64.extend((wav.len() as u64 + 28).to_le_bytes());
    rf64.extend(long.to_le_bytes());
    rf64.extend([0; 12]);
    rf64.extend(&piped[12..]);
    (rf64, piped)
}

/// One channel at 44,100 Hz, as Apple's draft of AIFF-C (1991) has it, in a code of so many bits.
fn aifc(code: &[u8; 4], bits: u16, sound: &[u8]) -> Vec<u8> {
    let mut common = 1u16.to_be_bytes().to_vec();
    common.extend((sound.len() as u32 / u32::from(bits / 8)).to_be_bytes());
    common.extend(bits.to_be_bytes());
    // 44,100 as an IEEE 754 extended.
    common.extend([0x40, 0x0e, 0xac, 0x44, 0, 0, 0, 0, 0, 0]);
    common.extend(code);
    common.extend([0, 0]);
    let mut file = b"FORM".to_vec();
    file.extend((4 + 8 + common.len() as u32 + 16 + sound.len() as u32).to_be_bytes());
    file.extend(b"AIFCCOMM");
    file.extend((common.len() as u32).to_be_bytes());
    file.extend(common);
    file.extend(b"SSND");
    file.extend((8 + sound.len() as u32).to_be_bytes());
    file.extend([0; 8]);
    file.extend(sound);
    file
}

/// Files that are rare, or odd, and right: written by `sox`, or byte by byte as their standards have them.
#[test]
fn rare_files_are_read_and_what_is_not_read_is_named() {
    let folder = tempfile::TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    let wav = formats::wav_bytes(&sine(69, 2, 44_100), 24, None);
    std::fs::write(path("a4.wav"), &wav).unwrap();
    let (rf64, piped) = sizes_elsewhere(&wav);
    std::fs::write(path("long.wav"), rf64).unwrap();
    std::fs::write(path("piped.wav"), piped).unwrap();
    for (name, how) in [
        ("doubles.wav", &["-e", "floating-point", "-b", "64"][..]),
        ("extensible.wav", &["-b", "24", "-t", "wavpcm"]),
        ("slow.wav", &["-r", "11025"]),
        ("fast.wav", &["-r", "192000"]),
        ("one.ogg", &[]),
        ("one side.wav", &["remix", "1", "0"]),
        ("off.wav", &["dcshift", "0.3"]),
    ] {
        let mut convert = Command::new("sox");
        convert.arg(path("a4.wav"));
        let (before, after): (&[&str], &[&str]) = if how.first().is_some_and(|first| !first.starts_with('-'))
        {
            (&[], how)
        } else {
            (how, &[])
        };
        let status = convert.args(before).arg(path(name)).args(after).status().unwrap();
        assert!(status.success(), "{name} could not be written");
    }
    // Two streams one after another in one file (RFC 3533).
    let one = std::fs::read(path("one.ogg")).unwrap();
    std::fs::write(path("two.ogg"), [&one[..], &one[..]].concat()).unwrap();
    let floats = sine(69, 1, 44_100).channels.remove(0);
    let big: Vec<u8> = floats.iter().flat_map(|x| x.to_be_bytes()).collect();
    let little: Vec<u8> = floats
        .iter()
        .flat_map(|x| ((x * 32_767.0) as i16).to_le_bytes())
        .collect();
    std::fs::write(path("floats.aif"), aifc(b"FL32", 32, &big)).unwrap();
    std::fs::write(path("little.aifc"), aifc(b"sowt", 16, &little)).unwrap();
    let names = [
        "long.wav",
        "piped.wav",
        "doubles.wav",
        "extensible.wav",
        "little.aifc",
        "slow.wav",
        "fast.wav",
        "two.ogg",
        "one side.wav",
        "off.wav",
        "floats.aif",
    ];
    let (code, lines) = measured(&names.map(path)).unwrap();
    assert_eq!(code, Some(0), "{lines:?}");
    for (name, facts) in names.iter().zip(&lines) {
        assert_eq!(facts["key"], 69, "{name}: {facts}");
        let rate = facts["rate_hz"].as_u64().unwrap() as f64;
        let start = facts["start_frame"].as_u64().unwrap() as f64 / rate;
        let most = if name.ends_with("ogg") { 0.01 } else { 0.002 };
        assert!((start - 0.2).abs() <= most, "{name} starts at {start} s");
        let seconds = facts["frames"].as_u64().unwrap() as f64 / rate;
        let expected = if *name == "two.ogg" { 4.0 } else { 2.0 };
        assert!((seconds - expected).abs() < 0.01, "{name} has {seconds} s");
    }
    // RFC 3533 and 7845: one page, the first and the last, with one segment of 19 bytes.
    let page = |what: &[u8]| [b"OggS\0\x06", &[0u8; 20][..], b"\x01\x13", what, &[0; 11]].concat();
    for (name, bytes, says) in [
        ("a.opus", page(b"OpusHead"), "Ogg Opus"),
        ("a.wv", [b"wvpk", &[0u8; 400][..]].concat(), "WavPack"),
        (
            "a.m4a",
            [&[0, 0, 0, 32][..], b"ftypM4A ", &[0; 400]].concat(),
            "MPEG-4",
        ),
    ] {
        std::fs::write(path(name), bytes).unwrap();
        let (code, lines) = measured(&[path(name)]).unwrap();
        let told = lines[0]["error"].as_str().unwrap_or_default();
        assert!(code == Some(1) && told.contains(says), "{name}: {told}");
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
