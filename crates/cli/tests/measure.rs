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

#[test]
fn good_files_are_measured_and_bad_ones_are_named() {
    let folder = tempfile::TempDir::new().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::write(path("a4.wav"), formats::write_wav(&sine(69, 2, 44_100), 24, None)).unwrap();
    std::fs::write(
        path("c3 mono.wav"),
        formats::write_wav(&sine(48, 1, 96_000), 16, None),
    )
    .unwrap();
    std::fs::write(
        path("silent.wav"),
        formats::write_wav(&Audio::mono(48_000, vec![0.0; 4_800]), 32, None),
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
    let output = Command::new(env!("CARGO_BIN_EXE_ladder"))
        .arg("measure")
        .arg("--json")
        .args(names.map(path))
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(1));
    let lines: Vec<serde_json::Value> = String::from_utf8(output.stdout)
        .unwrap()
        .lines()
        .map(|line| serde_json::from_str(line).unwrap())
        .collect();
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
