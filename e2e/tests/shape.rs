//! How a strand plays: its loudness over time dragged, typed, heard, exported, and undone from another page.

use anyhow::Context;
use e2e::{Browser, Ladder, same_samples};
use engine::EventKind;
use thirtyfour::prelude::*;

/// Whether a field shows a text.
fn shows(label: &str, test: &str) -> String {
    format!(
        "const label = [...document.querySelectorAll('label')].find((it) => it.textContent.startsWith('{label}'));
        return label !== undefined && ({test})(document.getElementById(label.htmlFor).value)"
    )
}

fn is(text: &str) -> String {
    format!("(value) => value === '{text}'")
}

/// Takes hold of one end of the curve and drags it.
async fn drag(browser: &Browser, handle: &str, by: (i64, i64)) -> anyhow::Result<()> {
    let of = format!("[data-handle={handle}]");
    let handle = browser.driver.query(By::Css(of.as_str())).first().await?;
    browser
        .driver
        .action_chain()
        .move_to_element_center(&handle)
        .click_and_hold()
        .move_by_offset(by.0 / 2, by.1 / 2)
        .move_by_offset(by.0 - by.0 / 2, by.1 - by.1 / 2)
        .release()
        .perform()
        .await?;
    Ok(())
}

/// RMS of the left side over blocks, in dB.
fn level(heard: &(Vec<f32>, Vec<f32>), blocks: std::ops::Range<usize>) -> f64 {
    let of = &heard.0[blocks.start * 128..blocks.end * 128];
    let power: f64 = of.iter().map(|x| f64::from(*x).powi(2)).sum();
    10.0 * (power / of.len() as f64).max(1e-12).log10()
}

#[tokio::test(flavor = "multi_thread")]
async fn loudness_is_dragged_typed_heard_and_undone_from_another_page() -> anyhow::Result<()> {
    let ladder = Ladder::start_plain_demo().await?;
    // As the recordings fall silent.
    let shapes = ladder.get("/api/instruments/1")?["program"]["shapes"].clone();
    let release = |n: usize| format!("{} ms", shapes[n]["loudness"]["release_ms"]).replace(".0 ", " ");
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&one, &other] {
        let address = format!("{}/instruments/1/shape", ladder.address);
        browser.driver.goto(&address).await?;
        browser.named("h2", "Shape").await?;
        browser
            .until("a first shape", &shows("Attack", &is("2 ms")))
            .await?;
        // Why it is as it is.
        browser
            .until(
                "a reason",
                "return document.querySelector('[data-part=reasons]').innerText.includes('so that no start clicks')",
            )
            .await?;
    }
    // What sounds where, said to whoever does not see it.
    one.until(
        "levels",
        "const rows = [...document.querySelectorAll('[aria-label=\"Level of each key, softly and hard\"] tr')];
        return rows.length > 50 && rows.every((row) => row.innerText.includes('LUFS'))",
    )
    .await?;
    one.picture("shape").await?;

    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    let score = [(0, on), (700, EventKind::NoteOff { key: 60 })];
    let before = same_samples(&ladder, &one, 1, &score, 900).await?;

    // Both ranks at once; the other page sees the one that it looks at.
    one.click("button", "all strands").await?;
    drag(&one, "attack", (60, 0)).await?;
    let over = "(value) => value.endsWith(' ms') && Number(value.split(' ')[0]) > 200";
    other.until("a slow attack", &shows("Attack", over)).await?;
    drag(&one, "decay", (50, 24)).await?;
    other
        .until(
            "held softer",
            &shows(
                "Held at",
                "(value) => value.startsWith('−1') && value.endsWith(' dB')",
            ),
        )
        .await?;
    one.fill("Release", "8 s").await?;
    other
        .until("a long release", &shows("Release", &is("8 s")))
        .await?;
    other.click("button", "Back rank").await?;
    other
        .until("the other rank too", &shows("Release", &is("8 s")))
        .await?;

    one.fill("Bend up", "12").await?;
    other
        .until("an octave", &shows("Bend up", &is("12 keys")))
        .await?;

    // It comes slowly, sinks, and goes on after its key; native and in the browser alike.
    let after = same_samples(&ladder, &one, 1, &score, 900).await?;
    let rises = level(&before, 8..20) - level(&after, 8..20);
    assert!(rises > 10.0, "{rises}");
    let sinks = level(&before, 650..690) - level(&after, 650..690);
    assert!((8.0..25.0).contains(&sinks), "{sinks}");
    let (gone, rings) = (level(&before, 860..900), level(&after, 860..900));
    assert!(rings > gone + 20.0, "{rings} {gone}");

    // A number that is not one is told, and an emptied field is given back.
    one.fill("Attack", "soon").await?;
    one.until(
        "a sentence",
        "return document.body.innerText.includes('«soon» is not understood as attack')",
    )
    .await?;
    let field = one.field("Release").await?;
    field.send_keys(Key::Control + "a").await?;
    field.send_keys(Key::Delete + Key::Enter).await?;
    other
        .until("given back", &shows("Release", &is(&release(1))))
        .await?;

    // All of it undone from the other page.
    for _ in 0..5 {
        other.click("button", "Undo").await?;
    }
    for (browser, release) in [(&one, release(0)), (&other, release(1))] {
        for (label, text) in [
            ("Attack", "2 ms"),
            ("Held at", "0.0 dB"),
            ("Release", release.as_str()),
            ("Bend up", "2 keys"),
        ] {
            browser.until(label, &shows(label, &is(text))).await?;
        }
    }
    let view = ladder.get("/api/instruments/1")?;
    let strands = view["strands"].as_array().context("strands")?;
    assert!(
        strands
            .iter()
            .all(|said| said["by_hand"] == serde_json::json!([]))
    );
    one.close().await?;
    other.close().await
}

/// The level of the first eighth of a second of a key and of what comes after it, and how long it is heard after it came up.
async fn held(ladder: &Ladder, browser: &Browser, (key, velocity): (u8, u8)) -> anyhow::Result<[f64; 2]> {
    let on = EventKind::NoteOn { key, velocity };
    let score = [(0, on), (300, EventKind::NoteOff { key })];
    let heard = same_samples(ladder, browser, 1, &score, 400).await?;
    Ok([level(&heard, 10..40), level(&heard, 250..300)])
}

#[tokio::test(flavor = "multi_thread")]
async fn a_region_is_shaped_for_itself_and_several_strands_by_a_difference() -> anyhow::Result<()> {
    let ladder = Ladder::start_plain_demo().await?;
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&one, &other] {
        let address = format!("{}/instruments/1/shape", ladder.address);
        browser.driver.goto(&address).await?;
        browser
            .until("a first shape", &shows("Attack", &is("2 ms")))
            .await?;
    }
    let board = one
        .driver
        .query(By::Css("canvas[data-part=shape]"))
        .first()
        .await?;
    let chain = one.driver.action_chain();
    chain
        .move_to_element_with_offset(&board, -80, 0)
        .click()
        .perform()
        .await?;
    one.click("button", "1 region alone").await?;
    one.click("button", "1 region alone").await?;
    one.fill("Attack", "400 ms").await?;
    let differs = "return document.querySelector('[data-part=differing]')?.innerText.startsWith('1 region has a shape of its own') ?? false";
    other.until("it differs from its strand", differs).await?;
    // The strand is as it was.
    other
        .until("the strand's attack", &shows("Attack", &is("2 ms")))
        .await?;
    drag(&one, "attack_bend", (0, 20)).await?;
    let bends = "(value) => Number(value.split(' ')[0]) > 20";
    one.until("a late attack", &shows("Attack bends", bends)).await?;

    // Heard there and nowhere else, natively and in the browser alike.
    let program = ladder.get("/api/instruments/1")?["program"].clone();
    let regions = program["regions"].as_array().context("regions")?;
    let own: Vec<_> = regions
        .iter()
        .filter(|region| !region["shape"].is_null())
        .collect();
    assert_eq!(own.len(), 1);
    let low = |axis: &str| own[0]["when"][axis]["low"].as_u64().unwrap_or_default() as u8;
    let (key, strike) = (low("keys"), low("strikes").max(30));
    one.click("button", "Front rank").await?;
    // The back rank sounds with it.
    let at = held(&ladder, &one, (key, strike)).await?;
    let beside = held(&ladder, &one, (key - 12, strike)).await?;
    assert!(at[1] - at[0] > beside[1] - beside[0] + 1.0, "{at:?} {beside:?}");

    one.click("button", "Give it back to the strand").await?;
    let same = "return document.querySelector('[data-part=differing]') === null";
    other.until("nothing differs", same).await?;
    other.click("button", "Undo").await?;
    one.until("it differs again", differs).await?;
    other.click("button", "Undo").await?;
    other.click("button", "Undo").await?;
    one.until("as at first", same).await?;

    // Strands that differ stay apart by as much, and the release follows a hand, by keyboard.
    one.click("button", "all strands").await?;
    one.fill("Release", "by 100").await?;
    let longer = |before: &serde_json::Value, after: &serde_json::Value| {
        let of = |shapes: &serde_json::Value, n: usize| shapes[n]["loudness"]["release_ms"].as_f64();
        (0..3).all(|n| of(before, n).map(|ms| ms + 100.0) == of(after, n))
    };
    let wished = |view: &serde_json::Value| longer(&program["shapes"], &view["program"]["shapes"]);
    ladder.wait_for("/api/instruments/1", wished).await?;
    one.script("document.querySelector('[data-part=loudness] [aria-label^=\"Let release\"]').focus()")
        .await?;
    one.driver.action_chain().send_keys(Key::Enter).perform().await?;
    other
        .until(
            "a row of its own",
            "return document.querySelector('[role=group][aria-label=\"its release follows mod wheel (1)\"]') !== null",
        )
        .await?;
    for _ in 0..2 {
        other.click("button", "Undo").await?;
    }
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["program"]["shapes"] == program_before_region(&program)
        })
        .await?;
    one.close().await?;
    other.close().await
}

/// The shapes of strands alone.
fn program_before_region(program: &serde_json::Value) -> serde_json::Value {
    let shapes = program["shapes"].as_array().cloned().unwrap_or_default();
    let strands: Vec<_> = (program["strands"].as_array().into_iter().flatten())
        .map(|strand| &strand["shape"])
        .collect();
    let of_strands = shapes.into_iter().filter(|shape| strands.contains(&&shape["id"]));
    of_strands.collect()
}
