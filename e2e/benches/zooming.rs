//! Bars page: zooming a 30-minute recording from the whole to single frames: script and drawing ≤ 8 ms for 95 % of wheel steps.
//!
//! What the page's main thread spends on a real wheel step, and on all that follows within a tenth of a second (tiles that arrive and are drawn
//! among it), as Chromium counts it itself. Wants what the browser tests want: see `bin/test`.

use e2e::{Browser, Ladder, Spent, say};
use serde_json::json;
use signal::Audio;
use std::f64::consts::TAU;
use std::time::Duration;
use thirtyfour::By;
use thirtyfour::extensions::cdp::ChromeDevTools;

const RATE: u32 = 48_000;
const STEPS: usize = 66;

/// Half an hour: a dying note every half minute, left and right a little apart.
fn half_an_hour() -> Vec<u8> {
    let side = |phase: f64| {
        (0..1_800 * RATE)
            .map(|n| {
                let t = f64::from(n % (30 * RATE)) / f64::from(RATE);
                let hz = 110.0 * f64::from(1 + n / (30 * RATE) % 8);
                ((t * hz * TAU + phase).sin() * 0.5 * (-t / 4.0).exp()) as f32
            })
            .collect()
    };
    let audio = Audio {
        rate_hz: RATE,
        channels: vec![side(0.0), side(0.7)],
    };
    formats::wav_bytes(&audio, 16, None)
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "struck", "source": { "how": "long_take", "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": RATE, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [48, 60, 72], "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 700, "tail_ms": 500 }] });
    ladder.post(
        "/api/instruments",
        &json!({ "name": "Half an hour", "plan": plan }),
    )?;
    ladder.send("/api/instruments/1/long-takes?name=half.wav", &half_an_hour())?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["frames"].is_u64()
        })
        .await?;
    let browser = Browser::open().await?;
    let page = format!("{}/instruments/1/record", ladder.address);
    browser.driver.goto(&page).await?;
    // Its picture is there once its overview is drawn.
    for _ in 0..240 {
        if ladder
            .get("/api/long-takes/1/peaks?first=0&end=86400000&columns=10")
            .is_ok()
        {
            break;
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    tokio::time::sleep(Duration::from_secs(3)).await;
    let wave = browser.driver.find(By::Css("[data-part=waveform]")).await?;
    let rect = wave.rect().await?;
    let (x, y) = (rect.x + rect.width * 0.37, rect.y + rect.height / 2.0);
    let tools = ChromeDevTools::new(browser.driver.handle.clone());
    tools.execute_cdp("Performance.enable").await?;
    let (mut all, mut scripts) = (Vec::new(), Vec::new());
    for turn in [-100, 100] {
        for _ in 0..STEPS {
            let before = Spent::now(&tools).await?;
            let wheel = json!({ "type": "mouseWheel", "x": x, "y": y, "deltaX": 0, "deltaY": turn });
            tools
                .execute_cdp_with_params("Input.dispatchMouseEvent", wheel)
                .await?;
            tokio::time::sleep(Duration::from_millis(100)).await;
            let since = Spent::now(&tools).await?.since(before);
            all.push(since.all);
            scripts.push(since.scripts);
        }
        let seen = |end: &'static str| {
            let wave = wave.clone();
            async move { anyhow::Ok(wave.attr(end).await?.unwrap_or_default()) }
        };
        println!(
            "at frames {} to {}",
            seen("data-first").await?,
            seen("data-end").await?
        );
    }
    let mut idle = Vec::new();
    for _ in 0..20 {
        let before = Spent::now(&tools).await?;
        tokio::time::sleep(Duration::from_millis(100)).await;
        idle.push(Spent::now(&tools).await?.since(before).all);
    }
    say(
        "script and drawing calls of a wheel step (bar: 95 % in 8 ms)",
        scripts,
    );
    say(
        "all of the main thread, composing the page without a graphics card among it",
        all,
    );
    say("the same without a wheel step", idle);
    browser.close().await?;
    ladder.end().await
}
