//! A long take cut on the page, and files read by their names there.

use anyhow::Context;
use e2e::{Browser, Ladder};
use signal::Audio;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_long_take_is_cut_mended_and_dealt_out_on_the_page() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "One long take").await?;
    browser.pick("What it is", "Struck").await?;
    browser.pick("Distance between", "6 keys").await?;
    browser.fill("Strengths", "1").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser.click("button", "Record one long take").await?;
    // Seven rungs, two round robins, and a false start in the middle that is found too.
    let kept = "document.querySelector('[data-part=slices]')?.dataset";
    browser
        .until("slices found", &format!("return Number({kept}?.used ?? 0) >= 14"))
        .await?;
    browser.click("button", "Keep these").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["slicing"]["slices"]
                .as_array()
                .is_some_and(|slices| slices.len() >= 14)
        })
        .await?;
    let slices = view["long_takes"][0]["slicing"]["slices"]
        .as_array()
        .context("slices")?;
    let used = slices.iter().filter(|slice| slice["left_out"] == false).count();
    assert!((14..=15).contains(&used), "{used}");
    browser
        .until(
            "slices on the page",
            &format!("return Number({kept}?.used) === {used}"),
        )
        .await?;
    browser
        .pick("Deal the slices out", "by the plan's MIDI file")
        .await?;
    browser.click("button", "Show where they go").await?;
    browser.named("[data-part=dealt]", "14 of").await?;
    browser.picture("slices").await?;
    browser.click("button", "Make 14 takes").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes.len() == 14
                && takes
                    .iter()
                    .all(|take| take["facts"]["pitch"]["key"] == take["cell"]["key"])
        })
        .await?;
    // A cut by hand is one command, and is undone.
    let wave = browser
        .driver
        .query(By::Css("[data-part=waveform]"))
        .first()
        .await?;
    wave.click().await?;
    browser.click("button", "Undo").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["slicing"]["slices"] == serde_json::json!([])
        })
        .await?;
    browser.close().await?;
    ladder.end().await
}

fn bell(key: u8, peak: f32) -> Vec<u8> {
    let hz = signal::hz_of_key(f64::from(key)) as f32;
    let samples = (0..66_150)
        .map(|n| {
            let t = (n as f32 / 44_100.0 - 0.05).max(0.0);
            (t * hz * std::f32::consts::TAU).sin() * peak * (-t * 3.0).exp()
        })
        .collect();
    formats::wav_bytes(&Audio::mono(44_100, samples), 16, None)
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_shown_as_a_table_mended_and_taken_in() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let mut paths = Vec::new();
    // Written with middle C as C3; one name is wrong, and one is no audio.
    for (name, key, peak) in [
        ("slate_C3_soft_rr1.wav", 60, 0.15),
        ("slate_C3_soft_rr2.wav", 60, 0.16),
        ("slate_C3_loud_rr1.wav", 60, 0.6),
        ("slate_Eb3_soft_rr1.wav", 63, 0.15),
        ("slate_Eb3_loud_rr1.wav", 63, 0.6),
        ("slate_G3_soft_rr1.wav", 67, 0.15),
        ("slate_A3_loud_rr1.wav", 67, 0.6),
    ] {
        let path = folder.path().join(name);
        std::fs::write(&path, bell(key, peak))?;
        paths.push(path.display().to_string());
    }
    let letter = folder.path().join("letter.wav");
    std::fs::write(&letter, b"this is a letter")?;
    paths.push(letter.display().to_string());

    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "Files").await?;
    browser.pick("What it is", "Struck").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser
        .driver
        .query(By::Css("input[data-part=files]"))
        .first()
        .await?
        .send_keys(paths.join("\n"))
        .await?;
    browser.named("button", "Take 7 files in").await?;
    browser
        .named("[data-part=octave]", "Middle C is written C3 in these names")
        .await?;
    browser
        .named("[role=alert]", "«letter.wav» was left aside")
        .await?;
    browser
        .named(
            "[data-file='slate_A3_loud_rr1.wav'] .text-mark",
            "Named A4, heard G4.",
        )
        .await?;
    browser.picture("files").await?;
    let rung = browser
        .driver
        .query(By::Css("[aria-label='Rung of slate_A3_loud_rr1.wav']"))
        .first()
        .await?;
    rung.clear().await?;
    rung.send_keys("G4").await?;
    browser.click("button", "Take 7 files in").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes.len() == 7 && takes.iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    assert_eq!(
        view["plan"]["passes"][0]["rungs"],
        serde_json::json!([60, 63, 67])
    );
    for take in view["takes"].as_array().context("takes")? {
        assert_eq!(take["facts"]["pitch"]["key"], take["cell"]["key"], "{take}");
        assert!(
            take["treatment"]["loop"].is_null(),
            "struck things are not looped"
        );
    }
    browser.close().await?;
    ladder.end().await
}
