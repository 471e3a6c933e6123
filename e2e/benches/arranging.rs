//! Bars of issue "Panel": a hundred controls are arranged: script and drawing ≤ 8 ms for 95 % of moves.
//!
//! All of them are chosen and dragged by one real mouse; what the page's main thread spends on a move and on the frame that follows it, as Chromium counts it
//! itself. Wants what the browser tests want: see `bin/test`.

use anyhow::Context;
use e2e::{Browser, Ladder, Spent, say};
use serde_json::{Value, json};
use std::time::Duration;
use thirtyfour::extensions::cdp::ChromeDevTools;
use thirtyfour::prelude::*;

const FERRY: u64 = 3;
const CONTROLS: u64 = 100;
const MOVES: u32 = 200;

/// What is said of a control: seven in a line, a line every three rows.
fn control(n: u64, page: &Value) -> Vec<Value> {
    let place = json!({ "x": n % 7 * 5, "y": 24 + n / 7 * 3, "wide": 5, "high": 3 });
    let facts = [
        ("part_kind", json!("slider")),
        ("part_name", json!(format!("Control {n}"))),
        ("part_page", page.clone()),
        ("part_place", place),
    ];
    let wish = |(fact, value): (&str, Value)| json!({ "target": { "part": 500 + n }, "fact": fact, "after": { "value": value } });
    facts.into_iter().map(wish).collect()
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let path = format!("/api/instruments/{FERRY}");
    let view = ladder.get(&path)?;
    let page = &view["panel"]["pages"][0]["id"];
    for n in 0..CONTROLS {
        let change = json!({ "label": "more controls", "wishes": control(n, page) });
        ladder.post(&format!("{path}/changes"), &change)?;
    }
    let browser = Browser::open().await?;
    browser
        .driver
        .goto(&format!("{}/instruments/{FERRY}/panel", ladder.address))
        .await?;
    browser.named("h2", "Panel").await?;
    let least = format!("return document.querySelectorAll('[data-control]').length >= {CONTROLS}");
    browser.until("a hundred controls", &least).await?;
    let part = browser
        .driver
        .query(By::Css("[data-name='Control 10'] button[aria-pressed]"))
        .first()
        .await?;
    part.click().await?;
    part.send_keys(Key::Control + "a").await?;
    browser
        .until(
            "all are chosen",
            &format!("return document.querySelectorAll('[data-control] button[aria-pressed=true]').length >= {CONTROLS}"),
        )
        .await?;
    let tools = ChromeDevTools::new(browser.driver.handle.clone());
    tools.execute_cdp("Performance.enable").await?;
    let mouse = async |kind: &str, x: f64, y: f64, held: bool| {
        let buttons = u8::from(held);
        let event =
            json!({ "type": kind, "x": x, "y": y, "button": "left", "buttons": buttons, "clickCount": 1 });
        tools
            .execute_cdp_with_params("Input.dispatchMouseEvent", event)
            .await
    };
    let at = browser
        .script("const { x, y } = document.querySelector('[data-name=\"Control 10\"]').getBoundingClientRect(); return [x + 20, y + 20]")
        .await?;
    let (x, y) = (at[0].as_f64().context("x")?, at[1].as_f64().context("y")?);
    mouse("mousePressed", x, y, true).await?;
    let (mut all, mut drawn) = (Vec::new(), Vec::new());
    for n in 0..MOVES {
        let before = Spent::now(&tools).await?;
        mouse(
            "mouseMoved",
            x + f64::from(n * 7 % 160),
            y + f64::from(n * 5 % 120),
            true,
        )
        .await?;
        // Its frame is shown by then.
        tokio::time::sleep(Duration::from_millis(80)).await;
        let since = Spent::now(&tools).await?.since(before);
        all.push(since.all);
        drawn.push(since.scripts + since.laying_out);
    }
    mouse("mouseReleased", x, y, false).await?;
    let mut idle = Vec::new();
    for _ in 0..40 {
        let before = Spent::now(&tools).await?;
        tokio::time::sleep(Duration::from_millis(80)).await;
        idle.push(Spent::now(&tools).await?.since(before).all);
    }
    say("script, style and layout of a move (bar: 95 % in 8 ms)", drawn);
    say(
        "all of the main thread, painting and composing the page without a graphics card among it",
        all,
    );
    say("the same without a move", idle);
    browser.close().await?;
    ladder.end().await
}
