//! Regions are laid out by rule and by hand, on two pages at once, and both undo.

use anyhow::Context;
use e2e::{Browser, Ladder};
use std::time::Duration;
use thirtyfour::prelude::*;

/// Whether the region of that sample says so.
fn says(sample: &str, what: &str) -> String {
    format!(
        "return [...document.querySelectorAll('[data-region]')].some((r) => r.textContent.startsWith('{sample}:') && r.textContent.includes('{what}'))"
    )
}

/// Where the lower border of a key lies on the map, in pixels from its middle.
async fn border_under(browser: &Browser, map: &WebElement, key: f64) -> anyhow::Result<i64> {
    const HEADER: f64 = 34.0;
    let ladder = browser
        .driver
        .query(By::Css("[data-part=ladder]"))
        .first()
        .await?;
    let number = |text: Option<String>| {
        text.context("the ladder's range")?
            .parse::<f64>()
            .context("a number")
    };
    let (low, keys) = (
        number(ladder.attr("data-low").await?)?,
        number(ladder.attr("data-keys").await?)?,
    );
    let height = map.rect().await?.height;
    let y = HEADER + (low + keys - key) * (height - HEADER) / keys;
    Ok((y - height / 2.0).round() as i64)
}

#[tokio::test(flavor = "multi_thread")]
async fn regions_are_laid_out_by_rule_and_by_hand_on_two_pages() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&one, &other] {
        browser
            .driver
            .goto(&format!("{}/instruments/2/map", ladder.address))
            .await?;
        browser
            .until("the rule's regions", &says("Bars F♯4 soft 1", "keys C♯4 to F♯4"))
            .await?;
    }
    // By rule, on one page, seen on both.
    for browser in [&one, &other] {
        browser.click("[role=tab]", "By rule").await?;
    }
    one.pick("Keys between two rungs", "meet in the middle").await?;
    for browser in [&one, &other] {
        browser
            .until(
                "the middle",
                &says("Bars F♯4 soft 1", "keys D♯4 to G♯4, strikes 1 to 57"),
            )
            .await?;
    }
    // By hand: the border between two rungs, two keys up, broken off by Escape; then kept. Both round robins go, and the neighbour's border.
    let map = one.driver.query(By::Css("[data-part=map]")).first().await?;
    let (y, height) = (border_under(&one, &map, 69.0).await?, map.rect().await?.height);
    let lane = (height - 34.0) / 61.0;
    let x = 40 - (map.rect().await?.width / 2.0) as i64;
    let up = (-2.0 * lane).round() as i64;
    let drag = || {
        one.driver
            .action_chain()
            .move_to_element_with_offset(&map, x, y - 2)
            .click_and_hold()
            .move_by_offset(0, up / 2)
            .move_by_offset(0, up - up / 2)
    };
    // What is dragged is heard where it is: a key that it left is silent, until it is broken off.
    let alone = "A border that is dragged takes its neighbour's along";
    one.click("[role=tab]", "Region").await?;
    one.click("label", alone).await?;
    one.hears_midi().await?;
    let strike = async |key: u8| {
        one.script(&format!(
            "window.most = 0; window.port.onmidimessage({{ data: [0x90, {key}, 30] }}); setTimeout(() => window.port.onmidimessage({{ data: [0x80, {key}, 0] }}), 300)"
        ))
        .await
    };
    let heard = "return window.most > 0";
    strike(69).await?;
    one.until("the key before", heard).await?;
    drag().perform().await?;
    strike(78).await?;
    one.until("a key of another", heard).await?;
    one.until(
        "silence",
        "return Number(document.querySelector('[data-part=meter]').dataset.voices) === 0",
    )
    .await?;
    strike(69).await?;
    tokio::time::sleep(Duration::from_millis(600)).await;
    assert_eq!(one.script("return window.most").await?, 0, "it left that key");
    one.driver
        .action_chain()
        .send_keys(Key::Escape)
        .release()
        .perform()
        .await?;
    strike(69).await?;
    one.until("the key after", heard).await?;
    one.click("label", alone).await?;
    one.click("[role=tab]", "By rule").await?;
    drag().send_keys(Key::Escape).release().perform().await?;
    one.until("nothing was moved", &says("Bars C5 soft 1", "keys A4 to D5"))
        .await?;
    drag().release().perform().await?;
    for browser in [&one, &other] {
        for sample in ["Bars C5 soft 1", "Bars C5 soft 2"] {
            browser
                .until(
                    "the dragged",
                    &says(sample, "keys B4 to D5, strikes 1 to 57, set by hand"),
                )
                .await?;
        }
        browser
            .until("its neighbour", &says("Bars F♯4 soft 2", "keys D♯4 to A♯4"))
            .await?;
    }
    // What was set by hand stays when the rule makes the rest anew.
    other.fill("Layers cross over", "20").await?;
    for browser in [&one, &other] {
        browser
            .until("layers cross", &says("Bars C3 medium 1", "strikes 49 to 105"))
            .await?;
        browser
            .until("the dragged stays", &says("Bars C5 soft 1", "keys B4 to D5"))
            .await?;
    }
    other
        .pick("Round robins sound", "at random, never the same twice")
        .await?;
    one.named("button", "Undo").await?;
    one.picture("map-by-hand").await?;
    // A region without a mouse: chosen in the list, its limit typed.
    one.script(
        "[...document.querySelectorAll('[data-region]')].find((r) => r.textContent.startsWith('Bars C6 loud 2:')).focus(); return true",
    )
    .await?;
    one.driver.action_chain().send_keys(Key::Enter).perform().await?;
    one.click("[role=tab]", "Region").await?;
    one.fill("Highest key", "G6").await?;
    other.until("typed", &says("Bars C6 loud 1", "to G6")).await?;
    // Each page undoes the last step, whoever made it.
    for (browser, what, sample, is) in [
        (&other, "the typed limit", "Bars C6 loud 1", "to D♯6"),
        (&one, "the order", "Bars C6 loud 1", "to D♯6"),
        (&other, "the crossing", "Bars C3 medium 1", "strikes 58 to 95"),
        (&one, "the drag", "Bars C5 soft 1", "keys A4 to D5"),
    ] {
        browser.click("button", "Undo").await?;
        for seen in [&one, &other] {
            seen.until(what, &says(sample, is)).await?;
        }
    }
    ladder
        .wait_for("/api/instruments/2", |view| {
            view["undo"] == "fill the gaps another way"
        })
        .await?;
    // What is struck is what is chosen, and keys are named as their player names them, on one page alone.
    one.click("label", "Choose what I play").await?;
    one.click_key(84).await?;
    one.until(
        "the struck region",
        "return document.querySelector('[data-part=region]').textContent.startsWith('Bars C6')",
    )
    .await?;
    one.click("button", "Settings").await?;
    one.pick("Middle C is called", "C3").await?;
    one.click("button", "Close").await?;
    one.until("named from C3", &says("Bars C4 soft 1", "keys A3 to D4"))
        .await?;
    one.fill("Highest key", "E5").await?;
    other
        .until(
            "the same key",
            "return [...document.querySelectorAll('[data-region]')].some((r) => r.textContent.startsWith('Bars C6') && r.textContent.includes('to E6'))",
        )
        .await?;
    one.close().await?;
    other.close().await?;
    Ok(())
}

/// A file on a key of the ladder has its root there; one on a region takes its place, and the take that was there is kept.
#[tokio::test(flavor = "multi_thread")]
async fn files_dropped_on_the_map_take_a_key_or_a_place() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let browser = Browser::open().await?;
    let address = format!("{}/instruments/2/map", ladder.address);
    browser.driver.goto(&address).await?;
    browser
        .until("the rule's regions", &says("Bars C5 soft 1", "keys"))
        .await?;
    let count = |view: &serde_json::Value| view["takes"].as_array().map_or(0, Vec::len);
    let before = count(&ladder.get("/api/instruments/2")?);
    let tone = |hz: f64| {
        let x = |n: u32| {
            (f64::from(n) / 48_000.0 * hz * std::f64::consts::TAU).sin() * (-f64::from(n) / 20_000.0).exp()
        };
        let samples = (0..96_000).map(|n| (0.4 * x(n)) as f32).collect();
        formats::wav_bytes(&signal::Audio::mono(48_000, samples), 24, None)
    };
    // What a browser tells of a file that is dropped at a place, from the left and from the top.
    let drop = async |part: &str, at: (f64, f64), name: &str, bytes: Vec<u8>| {
        browser
            .script(&format!(
                "const it = document.querySelector('[data-part={part}]'), box = it.getBoundingClientRect();
                const dataTransfer = new DataTransfer();
                dataTransfer.items.add(new File([new Uint8Array({bytes:?})], '{name}'));
                const at = {{ dataTransfer, bubbles: true, cancelable: true, clientX: box.left + {} * box.width, clientY: box.top + {} }};
                for (const kind of ['dragover', 'drop']) it.dispatchEvent(new DragEvent(kind, at));",
                at.0, at.1
            ))
            .await
    };
    let map = browser.driver.query(By::Css("[data-part=map]")).first().await?;
    let middle = map.rect().await?.height / 2.0;
    let of_key = async |key: f64| -> anyhow::Result<f64> {
        Ok(middle + border_under(&browser, &map, key).await? as f64)
    };
    // Half a key above the lower border of A4.
    let lane = (of_key(69.0).await? - of_key(70.0).await?) / 2.0;
    drop(
        "ladder",
        (0.8, of_key(69.0).await? - lane),
        "bell.wav",
        tone(440.0),
    )
    .await?;
    browser
        .named("[data-part=toast]", "«bell.wav» has A4 for a root now")
        .await?;
    let bars = "Bars A4 ";
    browser
        .until(
            "a region of its own",
            &format!("return [...document.querySelectorAll('[data-region]')].some((r) => r.textContent.startsWith('{bars}'))"),
        )
        .await?;
    // On the softest region of C5, which lies at the left.
    drop(
        "map",
        (0.05, of_key(72.0).await? - lane),
        "other.wav",
        tone(523.25),
    )
    .await?;
    browser
        .named("[data-part=toast]", "«other.wav» has taken its place on C5")
        .await?;
    let view = ladder
        .wait_for("/api/instruments/2", |view| {
            let of_c5 = |take: &&serde_json::Value| {
                take["cell"]["key"] == 72
                    && take["cell"]["round_robin"] == 1
                    && take["origin"]["file"] == "other.wav"
            };
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes
                .iter()
                .find(of_c5)
                .is_some_and(|take| take["chosen"] == true)
        })
        .await?;
    assert_eq!(count(&view), before + 2, "none is lost");
    // Undo brings the other take back, Redo the dropped one.
    let sounds = async |dropped: bool| {
        ladder
            .wait_for("/api/instruments/2", |view| {
                let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
                takes
                    .iter()
                    .any(|take| take["origin"]["file"] == "other.wav" && take["chosen"] == dropped)
            })
            .await
    };
    browser.click("button", "Undo").await?;
    sounds(false).await?;
    browser.click("button", "Redo").await?;
    sounds(true).await?;
    // What is no audio is refused in a sentence.
    drop("map", (0.05, of_key(72.0).await?), "notes.txt", b"C5".to_vec()).await?;
    browser
        .named("[data-part=toast]", "None of what was dropped is audio")
        .await?;
    browser.close().await?;
    ladder.end().await
}
