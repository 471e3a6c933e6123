//! Files that exist already, dropped on the page: on the shelf, one or many, and gone through row by row.

use anyhow::Context;
use e2e::{Browser, Ladder};
use serde_json::{Value, json};
use signal::Audio;
use std::f64::consts::TAU;
use std::path::Path;
use thirtyfour::prelude::*;

fn tone(key: u8, looped: bool) -> Vec<u8> {
    let hz = signal::hz_of_key(f64::from(key));
    let samples = (0..44_100)
        .map(|n| {
            let t = f64::from(n) / 44_100.0;
            let level = if looped { 0.4 } else { 0.6 * (-t * 5.0).exp() };
            ((t * hz * TAU).sin() * level) as f32
        })
        .collect();
    let inside = formats::Sampler {
        root_key: key,
        recording_cents: 0.0,
        looped: Some(program::Loop {
            start_frame: 10_000,
            end_frame: 30_000,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: program::LoopWay::Forward,
            runs: program::LoopRuns::WhileHeld,
        }),
        remarks: formats::Remarks::default(),
    };
    formats::wav_bytes(&Audio::mono(44_100, samples), 16, looped.then_some(&inside))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dropped_folder_of_several_things_becomes_an_instrument_from_each() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let inside = folder.path().join("attic");
    std::fs::create_dir(&inside)?;
    for key in [60, 64] {
        let name = ["C4", "", "", "", "E4"][usize::from(key - 60)];
        std::fs::write(inside.join(format!("harmonium_{name}.wav")), tone(key, true))?;
        std::fs::write(inside.join(format!("plate_{name}.wav")), tone(key, false))?;
    }
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "Files").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser.drop_on("[data-part=drop]", &[&inside]).await?;
    browser
        .click("button", "One instrument from each of 2 names")
        .await?;
    browser.click("button", "Make 2 instruments").await?;
    let cards = ladder
        .wait_for("/api/instruments", |cards| {
            cards.as_array().is_some_and(|cards| {
                cards.len() == 3 && cards.iter().filter(|card| card["measured"] == 2).count() == 2
            })
        })
        .await?;
    let kind = |name: &str| {
        let found = cards.as_array().and_then(|cards| {
            cards
                .iter()
                .find(|card| card["name"].as_str().is_some_and(|n| n.contains(name)))
        });
        found.map(|card| card["kind"].clone())
    };
    assert_eq!(kind("harmonium"), Some(json!("sustained")), "{cards}");
    assert_eq!(kind("plate"), Some(json!("struck")), "{cards}");
    browser.close().await?;
    ladder.end().await
}

/// An empty shelf, a file or folder of this machine dropped on it.
async fn dropped_on_the_shelf(path: &Path) -> anyhow::Result<(Ladder, Browser)> {
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&ladder.address).await?;
    browser
        .named("p", "This is where your instruments will stand")
        .await?;
    browser.drop_on("main", &[path]).await?;
    Ok((ladder, browser))
}

/// What the meter at the foot shows.
const METER: &str = "document.querySelector('[data-part=meter]').dataset";

#[tokio::test(flavor = "multi_thread")]
async fn one_file_on_the_shelf_plays_on_all_keys() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let file = folder.path().join("Kettle hum.wav");
    std::fs::write(&file, tone(57, true))?;
    let (ladder, browser) = dropped_on_the_shelf(&file).await?;
    browser
        .until("its map", "return location.pathname.endsWith('/map')")
        .await?;
    browser
        .named("header b, header p, header span, header button", "Kettle hum")
        .await?;
    browser
        .until(
            "a region on all keys",
            "return document.querySelector('[data-region]')?.textContent.includes('keys C-1 to G9') === true",
        )
        .await?;
    // A key in the middle of the ladder, held.
    let ladder_canvas = browser.driver.find(By::Css("[data-part=ladder]")).await?;
    let held = browser.driver.action_chain();
    held.move_to_element_center(&ladder_canvas)
        .click_and_hold()
        .perform()
        .await?;
    browser
        .until(
            "it sounds",
            &format!("return Number({METER}.voices) === 1 && Number({METER}.peak) > 0.005"),
        )
        .await?;
    browser.driver.action_chain().release().perform().await?;
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn pairs_octaves_and_names_that_lie_are_gone_through_row_by_row() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let inside = folder.path().join("Boathouse");
    std::fs::create_dir(&inside)?;
    // Two octaves under what sounds; one is another note, two have none in their names.
    for (name, key) in [
        ("wire C2 L", 60),
        ("wire C2 R", 60),
        ("wire D2", 62),
        ("wire E2", 64),
        ("wire F2", 69),
        ("spare", 71),
        ("spare too", 72),
    ] {
        std::fs::write(inside.join(format!("{name}.wav")), tone(key, false))?;
    }
    let (ladder, browser) = dropped_on_the_shelf(&inside).await?;
    browser
        .named(
            "[data-part=octave]",
            "Middle C is written C2 in these names: 4 of 5",
        )
        .await?;
    browser
        .named(
            "[data-file='Boathouse/wire C2 L.wav'] span",
            "left side; right side: wire C2 R.wav",
        )
        .await?;
    browser
        .named("[data-file='Boathouse/wire F2.wav'] span", "Named F4, heard A4")
        .await?;
    browser
        .named("[data-part=against]", "1 name contradicts what is heard")
        .await?;
    browser.click("button", "Use what is heard").await?;
    let row = |name: &str| format!("[data-file='Boathouse/{name}.wav'] td:first-child");
    // A row sounds by Space.
    browser.click(&row("wire C2 L"), "").await?;
    browser.driver.action_chain().send_keys(" ").perform().await?;
    browser
        .until("both sides of the row are heard", "return performance.getEntriesByType('resource').some((one) => /files\\/\\d+\\/audio\\?right=/.test(one.name))")
        .await?;
    // Two are dealt from a key on.
    browser.click(&row("spare"), "").await?;
    let next = browser.named(&row("spare too"), "").await?;
    let keys = browser.driver.action_chain().key_down(Key::Shift);
    keys.click_element(&next).key_up(Key::Shift).perform().await?;
    browser.named("[data-part=together]", "2 chosen").await?;
    browser.write("First key", "C6").await?;
    browser.write("Step in semitones", "2").await?;
    browser.click("button", "Deal").await?;
    browser.click("button", "Take 6 files in").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            let all = view["takes"].as_array();
            view["name"] == "Boathouse"
                && all.is_some_and(|all| all.len() == 6 && all.iter().all(|take| !take["facts"].is_null()))
        })
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    let mut placed: Vec<(u64, u64)> = takes
        .iter()
        .filter_map(|take| Some((take["cell"]["key"].as_u64()?, take["channels"].as_u64()?)))
        .collect();
    placed.sort_unstable();
    assert_eq!(placed, [(60, 2), (62, 1), (64, 1), (69, 1), (84, 1), (86, 1)]);
    // All of one peak: evened along the ladder, which is told, and one act has them as they came.
    let toast = browser
        .named("[data-part=toast]", "6 files were taken in")
        .await?;
    assert!(toast.text().await?.contains("they were normalised"));
    let evened = |view: &Value| {
        let all = view["takes"].as_array().cloned().unwrap_or_default();
        all.iter()
            .filter(|take| take["correction"]["gain_db"].is_number())
            .count()
    };
    assert_eq!(evened(&view), 6);
    browser.click("button", "Undo").await?;
    browser.click("button", "Undo").await?;
    ladder
        .wait_for("/api/instruments/1", |view| evened(view) == 0)
        .await?;
    // They die away by themselves: struck, as they were offered; and no key between them is silent.
    assert_eq!(view["plan"]["kind"], json!("struck"));
    let regions: &Vec<Value> = view["program"]["strands"][0]["regions"]
        .as_array()
        .or(view["program"]["regions"].as_array())
        .context("regions")?;
    for key in 60..=86 {
        let sounds = |region: &Value| {
            let keys = &region["when"]["keys"];
            keys["low"].as_u64() <= Some(key) && keys["high"].as_u64() >= Some(key)
        };
        assert!(regions.iter().any(sounds), "key {key} is silent");
    }
    browser.close().await?;
    ladder.end().await
}
