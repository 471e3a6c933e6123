//! The browser's real input path: Chromium's fake capture plays a file of ours, and what arrives is what the file holds.

use anyhow::Context;
use e2e::{Browser, Ladder};
use serde_json::json;
use signal::Audio;
use std::time::Duration;

const RATE_HZ: u32 = 44_100;
/// Strikes of dying tones, one every 1.5 s, over 9 s; then the file begins again.
const STRIKES: usize = 6;
const SPACING: usize = 66_150;
const RUNGS: [u8; 6] = [57, 61, 65, 69, 73, 77];

fn plan(how: &str, rungs: &[u8]) -> serde_json::Value {
    json!({
        "kind": "struck", "source": { "how": how, "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": RATE_HZ, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": rungs,
            "layers": [{ "name": "all", "strike_velocity": 100 }], "round_robins": 1, "hold_ms": 700, "tail_ms": 500 }]
    })
}

fn file() -> Audio {
    let samples = (0..STRIKES * SPACING)
        .map(|n| {
            let (strike, since) = (n / SPACING, n % SPACING);
            let t = since as f64 / f64::from(RATE_HZ) - 0.2;
            if t < 0.0 {
                return 0.0;
            }
            let hz = 220.0 * 2f64.powf(strike as f64 * 4.0 / 12.0);
            ((t * hz * std::f64::consts::TAU).sin() * 0.5 * (-t * 12.0).exp()) as f32
        })
        .collect();
    Audio::mono(RATE_HZ, samples)
}

/// How alike two stretches are, 0 to 1 (normalised product).
fn likeness(a: &[f32], b: impl Iterator<Item = f32>) -> f64 {
    let (mut product, mut mine, mut theirs) = (0.0, 0.0, 0.0);
    for (x, y) in a.iter().zip(b) {
        let (x, y) = (f64::from(*x), f64::from(y));
        product += x * y;
        mine += x * x;
        theirs += y * y;
    }
    product / (mine * theirs).sqrt()
}

/// Which frame of the file (which goes round and round) the first one that arrived is.
fn shift_of(arrived: &[f32], whole: &[f32]) -> usize {
    let loud = (RATE_HZ as usize..arrived.len())
        .find(|n| arrived[*n].abs() > 0.2)
        .unwrap_or(0);
    let part = &arrived[loud..loud + 8_000];
    // That frame is near the start of some strike.
    let candidates = (0..STRIKES).flat_map(|strike| (0..2_000).map(move |n| strike * SPACING + 8_000 + n));
    let at = |from: usize| (0..part.len()).map(move |n| whole[(from + n) % whole.len()]);
    let best = candidates
        .max_by(|a, b| likeness(part, at(*a)).total_cmp(&likeness(part, at(*b))))
        .unwrap_or(0);
    (best + whole.len() * 4 - loud) % whole.len()
}

/// A socket that can be broken: while `window.broken` is set every line to the server fails.
const BREAKABLE: &str = r"
    const Real = window.WebSocket;
    window.lines = [];
    window.WebSocket = class extends Real {
        constructor(url) {
            super(window.broken && url.includes('/line') ? 'ws://127.0.0.1:9/' : url);
            if (url.includes('/line')) window.lines.push(this);
        }
    };
";

#[tokio::test(flavor = "multi_thread")]
async fn what_arrives_is_what_the_input_gave_through_a_broken_line_too() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join("strikes.wav");
    let played = file();
    std::fs::write(&path, formats::wav_bytes(&played, 16, None))?;
    let ladder = Ladder::start(false).await?;
    ladder.post(
        "/api/instruments",
        &json!({ "name": "Real input", "plan": plan("long_take", &RUNGS) }),
    )?;
    let browser = Browser::open_hearing(&path).await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser.script(BREAKABLE).await?;
    browser.pick("Channels", "mono").await?;
    browser.click("button", "Look for devices").await?;
    browser.click("button", "Record one long take").await?;
    browser
        .until(
            "an open line",
            "return document.querySelector('[data-part=line]')?.dataset.connected === 'true'",
        )
        .await?;
    tokio::time::sleep(Duration::from_secs(4)).await;
    browser
        .script("window.broken = true; window.lines.forEach((line) => line.close())")
        .await?;
    tokio::time::sleep(Duration::from_secs(5)).await;
    browser
        .until(
            "sound kept by the page",
            "return document.querySelector('[data-part=line]').textContent.includes('line broken')",
        )
        .await?;
    browser.script("window.broken = false").await?;
    browser
        .until(
            "the line again",
            "return document.querySelector('[data-part=line]').dataset.connected === 'true'",
        )
        .await?;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let lost = browser
        .script("return document.querySelector('[data-part=line]').dataset.lost")
        .await?;
    assert_eq!(lost, "0");
    browser.click("button", "Stop and keep it").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["frames"].is_u64()
        })
        .await?;
    let frames = view["long_takes"][0]["frames"].as_u64().context("frames")?;
    assert!(frames > u64::from(RATE_HZ) * 12, "{frames}");
    let bytes = ladder.bytes(&format!("/api/long-takes/1/audio?first=0&end={frames}"))?;
    let arrived: Vec<f32> = bytes
        .chunks_exact(4)
        .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
        .collect();

    // Every stretch of it is the file's, to 16 bits: before, in and after the break.
    let whole = &played.channels[0];
    let shift = shift_of(&arrived, whole);
    let second = RATE_HZ as usize;
    let part = &arrived[second..arrived.len() - second];
    let like = likeness(
        part,
        (0..part.len()).map(|n| whole[(shift + second + n) % whole.len()]),
    );
    println!(
        "likeness of {:.1} s: {like:.6}",
        frames as f64 / f64::from(RATE_HZ) - 2.0
    );
    assert!(like > 0.9999, "{like}");

    // And its sounds start where they stand in the file: within 1 ms of one another's spacing.
    ladder
        .wait_for("/api/instruments/1", |_| ladder.post("/api/long-takes/1/cut", &json!({ "cut": { "silence": { "over_floor_db": 20.0, "shortest_ms": 100.0, "shortest_silence_ms": 200.0, "room_before_ms": 100.0, "room_after_ms": 50.0 } } })).is_ok())
        .await?;
    let audio = Audio::mono(RATE_HZ, arrived);
    let first_strike = (0..whole.len())
        .find(|n| (shift + n).is_multiple_of(SPACING))
        .context("a strike")?;
    for n in 1..6 {
        let from = first_strike + n * SPACING;
        let found = signal::sound_bounds(&audio.slice(from, from + SPACING)).context("a sound")?;
        let off_ms = (found.start_frame as f64 / f64::from(RATE_HZ) - 0.2) * 1_000.0;
        assert!(off_ms.abs() <= 1.0, "strike {n}: {off_ms:.2} ms");
    }
    browser.close().await?;
    ladder.end().await
}

/// By hand on the real input: wrong notes are refused by name, the right one is kept, and a page that is closed in the middle of a take
/// leaves what had arrived, marked.
#[tokio::test(flavor = "multi_thread")]
async fn a_closed_page_keeps_what_arrived_and_the_run_goes_on_later() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join("strikes.wav");
    std::fs::write(&path, formats::wav_bytes(&file(), 16, None))?;
    let ladder = Ladder::start(false).await?;
    ladder.post(
        "/api/instruments",
        &json!({ "name": "By hand", "plan": plan("by_hand", &RUNGS[..3]) }),
    )?;
    let browser = Browser::open_hearing(&path).await?;
    let record = format!("{}/instruments/1/record", ladder.address);
    browser.driver.goto(&record).await?;
    browser.click("button", "Begin").await?;
    let chosen = |view: &serde_json::Value| -> usize {
        let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
        takes.iter().filter(|take| take["chosen"] == true).count()
    };
    ladder
        .wait_for("/api/instruments/1", |view| chosen(view) >= 1)
        .await?;
    browser
        .until(
            "the middle of a take",
            "return document.querySelector('[data-part=prompt]').dataset.state === 'recording'",
        )
        .await?;
    browser.driver.goto(&ladder.address).await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| view["run"].is_null())
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    let marked = |what: &str| {
        takes
            .iter()
            .filter(|take| {
                let findings = take["origin"]["verdict"]["findings"].as_array();
                findings.is_some_and(|all| all.iter().any(|finding| finding["what"] == what))
            })
            .count()
    };
    assert_eq!(marked("cut_short"), 1, "{view}");
    for take in takes.iter().filter(|take| take["chosen"] == true) {
        assert_eq!(take["origin"]["verdict"]["key"], take["cell"]["key"]);
    }
    // Later, from another page: only what is missing.
    browser.driver.goto(&record).await?;
    browser.click("button", "Go on with the").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            chosen(view) == 3 && view["run"].is_null()
        })
        .await?;
    let refused = view["takes"].as_array().context("takes")?.len() - 3;
    assert!(
        refused >= 1,
        "a file of six notes in turn never gives only the right ones"
    );
    browser.close().await?;
    ladder.end().await
}
