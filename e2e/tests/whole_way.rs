//! From New instrument to both downloads, clicking what a user clicks.

use anyhow::Context;
use e2e::{Browser, Ladder, files_of, same_samples};
use engine::EventKind;
use rustysynth::{SoundFont, Synthesizer, SynthesizerSettings};
use std::sync::Arc;
use std::time::Duration;
use thirtyfour::prelude::*;

const METER: &str = "document.querySelector('[data-part=meter]').dataset";

#[tokio::test(flavor = "multi_thread")]
async fn from_new_instrument_to_both_downloads() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let browser = Browser::open().await?;
    let driver = &browser.driver;
    driver.goto(&ladder.address).await?;
    browser.named("li", "Parlour reed organ").await?;
    browser.picture("shelf").await?;

    // Plan: the cost follows what is typed.
    browser.click("a", "New instrument").await?;
    driver
        .query(thirtyfour::By::Css("[data-part=name]"))
        .first()
        .await?
        .send_keys("Harbour at night")
        .await?;
    browser.pick("MIDI program", "2 Engine room").await?;
    browser.fill("Held for", "2 s").await?;
    browser.pick("Distance between", "6 keys").await?;
    browser
        .until(
            "18 notes",
            "return document.querySelector('[data-part=cost]').textContent.startsWith('18 notes')",
        )
        .await?;
    browser.fill("Lowest rung", "C3").await?;
    browser
        .until(
            "14 notes",
            "return document.querySelector('[data-part=cost]').textContent.startsWith('14 notes')",
        )
        .await?;
    browser.fill("Lowest rung", "36").await?;
    browser
        .until(
            "18 notes",
            "return document.querySelector('[data-part=cost]').textContent.startsWith('18 notes')",
        )
        .await?;
    browser.click("button", "Make it and go on to Record").await?;

    // Record: begun at 1×, stopped, gone on with what is missing.
    browser.pick("Speed of the simulated rig", "1×").await?;
    browser.click("button", "Start recording").await?;
    browser
        .until(
            "a first take",
            "return /[1-9]\\d* of 18 in this run/.test(document.body.textContent)",
        )
        .await?;
    tokio::time::sleep(Duration::from_millis(1_200)).await;
    browser.picture("record").await?;
    browser.click("button", "Stop").await?;
    browser
        .click("button", "Record the")
        .await
        .context("going on with what is missing")?;
    browser.click("button", "Stop").await?;
    browser.pick("Speed of the simulated rig", "as fast").await?;
    browser.click("button", "Record the").await?;
    let path = "/api/instruments/4";
    let view = ladder
        .wait_for(path, |view| {
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes.len() == 18 && takes.iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let cells: std::collections::HashSet<String> = view["takes"]
        .as_array()
        .context("takes")?
        .iter()
        .map(|t| t["cell"].to_string())
        .collect();
    assert_eq!(cells.len(), 18, "no cell was recorded twice");

    // Sound is proved by the worklet's own meter: a key held far beyond the take's two seconds goes on sounding, and then stops.
    browser.click("nav a", "Map").await?;
    let ladder_canvas = driver.find(thirtyfour::By::Css("[data-part=ladder]")).await?;
    driver
        .action_chain()
        .move_to_element_center(&ladder_canvas)
        .click_and_hold()
        .perform()
        .await?;
    browser
        .until(
            "a voice",
            &format!("return Number({METER}.voices) === 1 && Number({METER}.peak) > 0.005"),
        )
        .await?;
    for _ in 0..8 {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let peak = browser
            .script(&format!("return Number({METER}.peak)"))
            .await?
            .as_f64()
            .context("peak")?;
        assert!(peak > 0.005, "the loop does not hold: {peak}");
    }
    driver.action_chain().release().perform().await?;
    browser
        .until(
            "silence",
            &format!("return Number({METER}.voices) === 0 && Number({METER}.peak) < 1e-4"),
        )
        .await?;

    // Letter keys, on another step.
    browser.click("nav a", "Trim").await?;
    browser.click("button", "Play keys").await?;
    driver.action_chain().key_down('v').perform().await?;
    browser
        .until(
            "a voice by letter",
            &format!("return Number({METER}.voices) === 1"),
        )
        .await?;
    driver.action_chain().key_up('v').perform().await?;
    browser
        .until("silence again", &format!("return Number({METER}.voices) === 0"))
        .await?;

    // A MIDI keyboard: a port of our own in place of the browser's, which finds none here.
    browser
        .script(
            "window.port = { id: 'a', name: 'keys' }; navigator.requestMIDIAccess = async () => ({ inputs: new Map([['a', window.port]]), outputs: new Map(), onstatechange: null });",
        )
        .await?;
    browser.click("button", "MIDI").await?;
    browser
        .named("[data-part=toast]", "1 MIDI input is heard")
        .await?;
    browser
        .script("window.port.onmidimessage({ data: [0x93, 60, 90] })")
        .await?;
    browser
        .until("a voice by MIDI", &format!("return Number({METER}.voices) === 1"))
        .await?;
    browser
        .script("window.port.onmidimessage({ data: [0x93, 60, 0] })")
        .await?;
    browser
        .until(
            "silence after MIDI",
            &format!("return Number({METER}.voices) === 0"),
        )
        .await?;

    // The engine in the browser gives the samples of the engine here.
    let program: program::Program = serde_json::from_value(ladder.get(path)?["program"].clone())?;
    assert_eq!(program.regions.len(), 18);
    let region = &program.regions[9];
    let (key, velocity) = (region.when.keys.low, region.when.strikes.high);
    let score = [(0, EventKind::NoteOn { key, velocity })];
    same_samples(&ladder, &browser, 4, &score, 1_500).await?;

    browser.click("nav a", "Export").await?;
    browser.click("button", "Export").await?;
    browser.click("a", "Download").await?;
    check_sfz(browser.downloaded(".zip").await?)?;
    browser.pick("Format", "SoundFont 2").await?;
    browser.click("button", "Export").await?;
    browser
        .until(
            "a second file",
            "return document.querySelectorAll('[data-job] a').length === 2",
        )
        .await?;
    browser
        .script("document.querySelector('h2').scrollIntoView()")
        .await?;
    browser.picture("export").await?;
    browser.click("[data-job] a", "Download").await?;
    check_soundfont(browser.downloaded(".sf2").await?)?;
    browser.close().await?;
    ladder.end().await
}

/// The zip holds an SFZ that reads back whole, and a WAV for each region with the loop and root inside too.
fn check_sfz(bytes: Vec<u8>) -> anyhow::Result<()> {
    let mut files = files_of(bytes)?;
    let text = String::from_utf8(files.remove("Harbour at night.sfz").context("no .sfz")?)?;
    assert_eq!(files.len(), 18);
    let probe = |path: &str| {
        let audio = formats::decode(files.get(path)?.clone(), Some("wav")).ok()?;
        Some(formats::sfz::FileFacts {
            rate_hz: audio.rate_hz,
            channels: audio.channels.len() as u16,
            frames: audio.frames() as u64,
            looped: None,
        })
    };
    let document = formats::sfz::Document::new(text)?;
    let program = formats::read_sfz(&document, "", &probe)?.program;
    assert_eq!(program.regions.len(), 18);
    for region in &program.regions {
        let file = &files[&program.samples[region.sample].source];
        let inside = formats::read_sampler(file).context("no smpl")?;
        assert_eq!(inside.root_key, region.root_key);
        assert_eq!(inside.looped, region.looped);
        assert!(region.looped.is_some(), "a sustained sound without a loop");
        let audio = formats::decode(file.clone(), Some("wav"))?;
        let pitch = signal::measure(&audio).pitch.context("no pitch")?;
        let off = f64::from(pitch.key) * 100.0 + pitch.cents
            - f64::from(region.root_key) * 100.0
            - region.recording_cents;
        assert!(off.abs() < 3.0, "{off:.2} cents");
    }
    Ok(())
}

/// An independent parser reads it; an independent renderer plays every key in tune and holds it for 20 s.
fn check_soundfont(bytes: Vec<u8>) -> anyhow::Result<()> {
    let font = Arc::new(SoundFont::new(&mut bytes.as_slice())?);
    let mut settings = SynthesizerSettings::new(48_000);
    settings.enable_reverb_and_chorus = false;
    let rms = |part: &[f32]| (part.iter().map(|x| f64::from(x * x)).sum::<f64>() / part.len() as f64).sqrt();
    for key in 31..=87u8 {
        let mut loud = 0.0;
        for velocity in [127, 40] {
            let mut synthesizer = Synthesizer::new(&font, &settings)?;
            synthesizer.note_on(0, i32::from(key), velocity);
            let seconds = if velocity == 127 { 20 } else { 2 };
            let (mut left, mut right) = (vec![0.0f32; seconds * 48_000], vec![0.0f32; seconds * 48_000]);
            synthesizer.render(&mut left, &mut right);
            let pitch = signal::find_pitch(&left, 48_000, 0, 96_000)
                .with_context(|| format!("key {key} is silent"))?;
            let off = 1200.0 * (pitch.hz / signal::hz_of_key(f64::from(key))).log2();
            assert!(off.abs() <= 3.0, "key {key}, strike {velocity}: {off:.2} cents");
            if velocity == 127 {
                loud = rms(&left[48_000..]);
                for second in 2..20 {
                    let drop = 20.0 * (rms(&left[second * 48_000..(second + 1) * 48_000]) / loud).log10();
                    assert!(drop.abs() < 1.0, "key {key}: {drop:.2} dB in second {second}");
                }
            } else {
                let apart = 20.0 * (loud / rms(&left[48_000..])).log10();
                assert!(apart > 3.0, "key {key}: layers {apart:.1} dB apart");
            }
        }
    }
    Ok(())
}
