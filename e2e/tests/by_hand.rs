//! The Slate chimes, recorded hands-free from the first click to the last.

use anyhow::Context;
use e2e::{Browser, Ladder};

#[tokio::test(flavor = "multi_thread")]
async fn the_chimes_are_recorded_hands_free() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "By hand").await?;
    browser.pick("What it is", "Struck").await?;
    // What is offered says why.
    browser.named("legend", "How finely and how often").await?;
    browser
        .until(
            "a reason",
            "return document.body.textContent.includes('four an octave are the usual compromise')",
        )
        .await?;
    browser.pick("Distance between", "6 keys").await?;
    browser.picture("plan").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser.click("button", "Sound check").await?;
    browser
        .until(
            "a sound check",
            "return document.querySelector('[data-part=check]')?.textContent.includes('quiet') ?? false",
        )
        .await?;

    // At 1× for a look, then as fast as the machine can.
    browser.pick("Speed of the simulated rig", "1×").await?;
    browser.click("button", "Begin").await?;
    browser
        .until(
            "a first verdict",
            "return document.querySelector('[data-part=verdict]').textContent.length > 3",
        )
        .await?;
    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
    browser.picture("by-hand").await?;
    // Before the next one the bar is tuned: it is struck, the needle moves, and nothing is kept.
    let needle = "document.querySelector('[data-part=needle]')";
    browser.click("button", "Tune it first").await?;
    browser
        .until(
            "a needle that moves",
            &format!("return {needle}.dataset.sounds === 'true' && / ct$/.test({needle}.querySelector('[role=meter]').getAttribute('aria-valuetext'))"),
        )
        .await?;
    let kept = ladder.get("/api/instruments/1")?["takes"]
        .as_array()
        .map_or(0, Vec::len);
    browser.picture("needle").await?;
    tokio::time::sleep(std::time::Duration::from_secs(4)).await;
    let now = ladder.get("/api/instruments/1")?["takes"]
        .as_array()
        .map_or(0, Vec::len);
    assert_eq!(now, kept);
    browser.click("button", "Record it").await?;
    browser
        .until(
            "another take",
            "return ['recording', 'deciding'].includes(document.querySelector('[data-part=prompt]').dataset.state)",
        )
        .await?;
    browser.click("button", "Stop").await?;
    browser.pick("Speed of the simulated rig", "as fast").await?;
    browser.click("button", "Go on with the").await?;
    browser
        .until(
            "the end",
            "return document.querySelector('[data-part=prompt]').textContent.includes('Every cell has a good take')",
        )
        .await?;

    let view = ladder.get("/api/instruments/1")?;
    let takes = view["takes"].as_array().context("takes")?;
    let chosen: Vec<_> = takes.iter().filter(|take| take["chosen"] == true).collect();
    // Seven rungs, two strengths, two round robins.
    assert_eq!(chosen.len(), 28);
    for take in &chosen {
        let verdict = &take["origin"]["verdict"];
        assert_eq!(verdict["findings"], serde_json::json!([]), "{take}");
        assert_eq!(verdict["key"], take["cell"]["key"], "{take}");
        assert!(
            take["origin"]["sound_check"]["noise_floor_dbfs"].is_number(),
            "{take}"
        );
    }
    // What the player got wrong stays on its cell, left out, with the reason.
    for take in takes.iter().filter(|take| take["chosen"] == false) {
        let sentences = take["origin"]["verdict"]["sentences"]
            .as_array()
            .context("sentences")?;
        assert!(!sentences.is_empty(), "{take}");
    }
    browser.close().await?;
    ladder.end().await
}
