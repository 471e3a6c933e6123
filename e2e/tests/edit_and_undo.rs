//! A loop is dragged, the page reloaded, and the edit undone from another page.

use anyhow::Context;
use e2e::{Browser, Ladder};
use std::time::Duration;
use thirtyfour::prelude::*;

const LOOP_START: &str = "(() => { const l = [...document.querySelectorAll('label')].find((x) => x.textContent === 'Loop start'); return l && document.getElementById(l.htmlFor).value; })()";

#[tokio::test(flavor = "multi_thread")]
async fn a_dragged_loop_is_kept_and_undone_from_another_page() -> anyhow::Result<()> {
    let mut ladder = Ladder::start_measured_demo().await?;
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for (instrument, step, heading, name) in [
        (2, "trim", "F♯4", "trim-chimes"),
        (2, "tune", "F♯4", "tune-chimes"),
        (3, "loop", "C4", "loop-ferry"),
        (1, "trim", "C4", "trim"),
        (1, "tune", "C4", "tune"),
        (1, "map", "Strands", "map"),
        (1, "loop", "C4", "loop"),
    ] {
        one.driver
            .goto(&format!("{}/instruments/{instrument}/{step}", ladder.address))
            .await?;
        one.named("h2", heading).await?;
        one.picture(name).await?;
        if step == "loop" {
            // How far the seam stands out is told for the root, and for both ends of what it serves.
            let told = "return / at [A-G].* at [A-G]/.test(document.querySelector('[data-part=seam-level]').textContent)";
            one.until("both ends", told).await?;
        }
        if name == "loop-ferry" {
            // Its lowest note comes round after its hold is over, so its loop stands out: the worst of the board, and it stays as it is where evening does
            // not help.
            one.driver.action_chain().send_keys("w").perform().await?;
            one.named("h2", "C2").await?;
            one.named("span", "the seam stands out by").await?;
            one.click("button", "Even and loop").await?;
            one.named("span", "Evened too there is no place worth looping")
                .await?;
            one.named("span", "the seam stands out by").await?;
        }
        if name == "trim" {
            let passes = |is: bool| {
                format!(
                    "return [...document.querySelectorAll('[role=switch]')].find((s) => s.textContent === 'High-pass').getAttribute('aria-checked') === '{is}'"
                )
            };
            one.click("[role=tab]", "Clean").await?;
            one.click("[role=switch]", "High-pass").await?;
            one.until("a high-pass", &passes(true)).await?;
            one.picture("clean").await?;
            one.click("button", "Undo").await?;
            one.until("none again", &passes(false)).await?;
            one.click("[role=tab]", "Trim and level").await?;
        }
    }
    other
        .driver
        .goto(&format!("{}/instruments/1/loop", ladder.address))
        .await?;
    let read = |browser: &Browser| {
        let driver = browser.driver.clone();
        async move {
            anyhow::Ok(
                driver
                    .execute(&format!("return {LOOP_START}"), vec![])
                    .await?
                    .json()
                    .as_str()
                    .map(str::to_owned),
            )
        }
    };
    one.until(
        "the loop's field",
        &format!("return /\\d/.test({LOOP_START} ?? '')"),
    )
    .await?;
    let before = read(&one).await?.context("no loop start")?;

    // The mark stands where its frame is in the picture.
    let wave = one.driver.query(By::Css("[data-part=waveform]")).first().await?;
    let frames: f64 = wave.attr("data-end").await?.context("end")?.parse()?;
    let start: f64 = before.replace(' ', "").parse()?;
    let rect = wave.rect().await?;
    let x = (rect.width * (start / frames - 0.5)).round() as i64;
    let reach = (rect.width * 0.04).round() as i64;
    one.driver
        .action_chain()
        .move_to_element_with_offset(&wave, x, 0)
        .click_and_hold()
        .move_by_offset(reach / 2, 0)
        .move_by_offset(reach - reach / 2, 0)
        .release()
        .perform()
        .await?;
    one.until("the loop moved", &format!("return {LOOP_START} !== '{before}'"))
        .await?;
    let after = read(&one).await?.context("no loop start")?;
    let moved: f64 = after.replace(' ', "").parse::<f64>()? - start;
    assert!(
        (moved / frames - 0.04).abs() < 0.01,
        "moved by {moved} of {frames}"
    );

    // Typing, with a unit.
    one.fill("Crossfade", "20 ms").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["undo"] == "change the crossfade"
        })
        .await?;

    ladder.kill()?;
    ladder.restart()?;
    for browser in [&one, &other] {
        browser
            .driver
            .goto(&format!("{}/instruments/1/loop", ladder.address))
            .await?;
        browser
            .until(
                "the edit after a restart",
                &format!("return {LOOP_START} === '{after}'"),
            )
            .await?;
    }
    // One rule for many takes is one change.
    one.driver
        .goto(&format!("{}/instruments/1/trim", ladder.address))
        .await?;
    one.click("button", "Choose").await?;
    one.click("[role=menuitem]", "all cells").await?;
    one.click("button", "Even 26 takes").await?;
    let evened = ladder
        .wait_for("/api/instruments/1", |view| {
            view["undo"] == "even the level of 26 takes"
        })
        .await?;
    let takes = evened["takes"].as_array().context("takes")?;
    let of_front = takes.iter().filter(|take| take["cell"]["pass"] == 0);
    assert!(
        of_front
            .clone()
            .all(|take| take["correction"]["gain_db"].is_number())
    );
    assert_eq!(of_front.count(), 26);
    one.driver
        .goto(&format!("{}/instruments/1/loop", ladder.address))
        .await?;
    other.click("button", "Undo").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["undo"] == "change the crossfade"
        })
        .await?;
    tokio::time::sleep(Duration::from_millis(300)).await;
    other.click("button", "Undo").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["undo"] == "move the loop's start"
        })
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    assert!(
        takes.iter().all(|take| take["correction"]["gain_db"].is_null()),
        "one undo takes all back"
    );
    tokio::time::sleep(Duration::from_millis(300)).await;
    other.click("button", "Undo").await?;
    one.until(
        "the undo in the first page",
        &format!("return {LOOP_START} === '{before}'"),
    )
    .await?;
    one.click("button", "Redo").await?;
    other
        .until(
            "the redo in the other page",
            &format!("return {LOOP_START} === '{after}'"),
        )
        .await?;

    // What is not understood is said, and nothing is lost.
    one.fill("Loop start", "soon").await?;
    one.named("[data-part=toast]", "«soon» is not understood").await?;
    assert_eq!(read(&one).await?.as_deref(), Some(after.as_str()));
    one.close().await?;
    other.close().await?;
    ladder.end().await
}
