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
    let ladder = Ladder::start_measured_demo().await?;
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
    let release = one.field("Release").await?;
    release.send_keys(Key::Control + "a").await?;
    release.send_keys(Key::Delete + Key::Enter).await?;
    other
        .until("given back", &shows("Release", &is("500 ms")))
        .await?;

    // All of it undone from the other page.
    for _ in 0..5 {
        other.click("button", "Undo").await?;
    }
    for browser in [&one, &other] {
        for (label, text) in [
            ("Attack", "2 ms"),
            ("Held at", "0.0 dB"),
            ("Release", "500 ms"),
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
