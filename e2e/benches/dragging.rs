//! Issue "Shape", bars: a setting that is dragged is heard within 20 ms.
//!
//! From a real move of the mouse, as the page's listener gets it, to the first block of the worklet's output that is at least half the way to where the
//! level goes; the device's own buffer is not in it. Wants what the browser tests want: see `bin/test`.

use anyhow::Context;
use e2e::{Browser, Ladder, say};
use serde_json::json;
use std::time::Duration;
use thirtyfour::By;
use thirtyfour::extensions::cdp::ChromeDevTools;

const MOVES: usize = 60;
/// C6 of the organ: a period is a third of a block.
const KEY: u8 = 84;

/// The time of every move is kept.
const MOVED: &str = "
window.moved = [];
addEventListener('pointermove', () => window.moved.push(performance.now()), true);";

/// Waits for the next move and then until the level has crossed a limit: how long that took, in milliseconds.
const CROSSES: &str = "
const many = window.moved.length, gate = new MessageChannel();
window.took = null;
gate.port1.onmessage = () => {
  const moved = window.moved[many];
  if (moved !== undefined && (window.loudest() < LIMIT) === UNDER) window.took = performance.now() - moved;
  else gate.port2.postMessage(0);
};
gate.port2.postMessage(0);";

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let browser = Browser::open().await?;
    browser.taps_output().await?;
    let tools = ChromeDevTools::new(browser.driver.handle.clone());
    tools
        .execute_cdp_with_params(
            "Page.addScriptToEvaluateOnNewDocument",
            json!({ "source": MOVED }),
        )
        .await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/shape", ladder.address))
        .await?;
    browser.named("h2", "Shape").await?;
    tokio::time::sleep(Duration::from_secs(2)).await;
    let mouse = async |kind: &str, x: f64, y: f64, held: bool| {
        let buttons = u8::from(held);
        let event =
            json!({ "type": kind, "x": x, "y": y, "button": "left", "buttons": buttons, "clickCount": 1 });
        tools
            .execute_cdp_with_params("Input.dispatchMouseEvent", event)
            .await
    };
    // A MIDI keyboard holds the key: the mouse is busy.
    browser.hears_midi().await?;
    browser
        .script(&format!(
            "window.port.onmidimessage({{ data: [0x90, {KEY}, 110] }})"
        ))
        .await?;
    tokio::time::sleep(Duration::from_secs(2)).await;
    let handle = browser.driver.find(By::Css("[data-handle=decay]")).await?;
    let rect = handle.rect().await?;
    let (x, y) = (rect.x + rect.width / 2.0, rect.y + rect.height / 2.0);
    let loud = browser.script("return window.loudest()").await?;
    let loud = loud.as_f64().context("nothing is heard")?;
    anyhow::ensure!(loud > 0.01, "nothing is heard: {loud}");
    mouse("mousePressed", x, y, true).await?;
    let mut all = Vec::new();
    for n in 0..MOVES {
        let down = n % 2 == 0;
        let watch = CROSSES.replace("LIMIT", &(loud / 2.0).to_string());
        browser
            .script(&watch.replace("UNDER", if down { "true" } else { "false" }))
            .await?;
        tokio::time::sleep(Duration::from_millis(100)).await;
        mouse("mouseMoved", x, y + if down { 60.0 } else { 0.0 }, true).await?;
        tokio::time::sleep(Duration::from_millis(400)).await;
        let took = browser.script("return window.took").await?;
        all.push(took.as_f64().context("a move was not heard")?);
    }
    mouse("mouseReleased", x, y, false).await?;
    say("from a move to half of its sound (bar: median 20 ms)", all);
    browser.close().await?;
    ladder.end().await
}
