//! Effects: added, put in order by hand and by keyboard, switched, set, driven, shared among strands, heard as offline, told before an export, and undone.

use e2e::{Browser, Ladder, same_samples};
use engine::EventKind;
use thirtyfour::prelude::*;

/// The effects that are shown, in their order.
fn in_order(names: &[&str]) -> String {
    format!(
        "return [...document.querySelectorAll('[data-part=\"effect row\"] [role=group]')].map((it) => it.getAttribute('aria-label'))
            .filter((name) => !name.includes('follows')).join() === '{}'",
        names.join(",")
    )
}

/// Whether a field of an effect shows a text.
fn shows(effect: &str, label: &str, text: &str) -> String {
    format!(
        "const label = [...document.querySelectorAll('[aria-label=\"{effect}\"] label')].find((it) => it.textContent === '{label}');
        return label !== undefined && document.getElementById(label.htmlFor).value === '{text}'"
    )
}

/// Types into a field of an effect.
async fn set(page: &Browser, effect: &str, label: &str, text: &str) -> anyhow::Result<()> {
    let of = format!("//*[@aria-label='{effect}']//label[normalize-space(.)='{label}']");
    let label = page.driver.query(By::XPath(of)).first().await?;
    let id = label.attr("for").await?.unwrap_or_default();
    let field = page.driver.query(By::Id(&id)).first().await?;
    field.send_keys(Key::Control + "a").await?;
    field.send_keys(text).await?;
    field.send_keys(Key::Enter + "").await?;
    Ok(())
}

async fn add(page: &Browser, to: &str, effect: &str) -> anyhow::Result<()> {
    page.click("button", &format!("+ an effect on {to}")).await?;
    page.click("[role=menuitem]", effect).await
}

/// RMS over blocks, in dB.
fn level_db(side: &[f32], blocks: std::ops::Range<usize>) -> f64 {
    let of = &side[blocks.start * 128..blocks.end * 128];
    let power: f64 = of.iter().map(|x| f64::from(*x).powi(2)).sum();
    10.0 * (power / of.len() as f64).max(1e-14).log10()
}

#[tokio::test(flavor = "multi_thread")]
async fn effects_are_put_in_order_set_driven_and_heard() -> anyhow::Result<()> {
    let ladder = Ladder::start_plain_demo().await?;
    let (page, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&page, &other] {
        let address = format!("{}/instruments/1/shape", ladder.address);
        browser.driver.goto(&address).await?;
        browser.named("h3", "Effects").await?;
    }
    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    // A second held, and a second after it.
    let score = [(0, on), (375, EventKind::NoteOff { key: 60 })];
    let dry = same_samples(&ladder, &page, 1, &score, 900).await?;

    // An echo of half a second, and nothing but it; another page sees it.
    add(&page, "Front rank", "Delay").await?;
    set(&page, "Delay", "Time", "500").await?;
    set(&page, "Delay", "Again", "0").await?;
    set(&page, "Delay", "Mix", "100 %").await?;
    other
        .until("the echo elsewhere", &shows("Delay", "Mix", "100 %"))
        .await?;
    let echo = same_samples(&ladder, &page, 1, &score, 900).await?;
    // The back rank is heard as it was; the front one half a second later, when that has long fallen silent.
    let (before, after) = (level_db(&dry.0, 440..540), level_db(&echo.0, 440..540));
    assert!(after > before + 20.0, "{before} dB, {after} dB");

    // What does not fit is told, and nothing is changed.
    set(&page, "Delay", "Time", "soon").await?;
    page.named("[data-part=toast]", "«soon» is not understood as time")
        .await?;
    page.until("as it was", &shows("Delay", "Time", "500 ms")).await?;

    // Two more: dragged into order, and moved by keyboard.
    add(&page, "Front rank", "Tilt").await?;
    add(&page, "Front rank", "Chorus").await?;
    page.until("three", &in_order(&["Delay", "Tilt", "Chorus"]))
        .await?;
    let handle = page
        .driver
        .query(By::Css("[aria-label='Move chorus']"))
        .first()
        .await?;
    let first = page
        .driver
        .query(By::Css("[aria-label='Move delay']"))
        .first()
        .await?;
    handle.scroll_into_view().await?;
    page.driver
        .action_chain()
        .move_to_element_center(&handle)
        .click_and_hold()
        .move_by_offset(0, -20)
        .move_to_element_center(&first)
        .move_by_offset(0, -14)
        .release()
        .perform()
        .await?;
    other
        .until("dragged to the front", &in_order(&["Chorus", "Delay", "Tilt"]))
        .await?;
    let tilt = page
        .driver
        .query(By::Css("[aria-label='Move tilt']"))
        .first()
        .await?;
    tilt.send_keys(Key::Alt + Key::Up).await?;
    other
        .until("moved by keyboard", &in_order(&["Chorus", "Tilt", "Delay"]))
        .await?;
    page.picture("effects").await?;

    // Switched off it is as if it were not there.
    for effect in ["Chorus", "Delay", "Tilt"] {
        let of = format!("//*[@aria-label='{effect}']//input[@type='checkbox']");
        page.driver.query(By::XPath(of)).first().await?.click().await?;
    }
    other
        .until(
            "all off",
            "return [...document.querySelectorAll('[data-part=\"effect row\"] input[type=checkbox]')].every((it) => !it.checked)",
        )
        .await?;
    let off = same_samples(&ladder, &page, 1, &score, 900).await?;
    assert!(off.0.iter().zip(&dry.0).all(|(a, b)| (a - b).abs() < 1e-6));

    // Printed into the recordings it is heard with nothing on; one undo brings back what was.
    let of = "//*[@aria-label='Delay']//input[@type='checkbox']";
    page.driver.query(By::XPath(of)).first().await?.click().await?;
    set(&page, "Delay", "Mix", "50 %").await?;
    other.until("half of it", &shows("Delay", "Mix", "50 %")).await?;
    let live = same_samples(&ladder, &page, 1, &score, 900).await?;
    page.click("button", "Print into the recordings").await?;
    let printed = |view: &serde_json::Value| -> Vec<serde_json::Value> {
        let takes = view["takes"].as_array().cloned().unwrap_or_default();
        takes
            .into_iter()
            .filter(|take| take["origin"]["made_by"] == "effects printed")
            .collect()
    };
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            let made = printed(view);
            !made.is_empty() && made.iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    // Each of the rank's recordings once.
    let pass = &view["plan"]["passes"][0];
    let count = |of: &serde_json::Value| of.as_array().map_or(0, Vec::len);
    assert_eq!(
        printed(&view).len(),
        count(&pass["rungs"]) * count(&pass["layers"])
    );
    assert!(
        printed(&view)
            .iter()
            .all(|take| take["chosen"] == true && !take["treatment"]["loop"].is_null())
    );
    other.until(
        "the row is off",
        "return [...document.querySelectorAll('[data-part=\"effect row\"] input[type=checkbox]')].every((it) => !it.checked)",
    )
    .await?;
    let inside = same_samples(&ladder, &page, 1, &score, 900).await?;
    let (live, inside) = (level_db(&live.0, 220..370), level_db(&inside.0, 220..370));
    // A loop that was found anew beats a little otherwise; without its echo it would be 6 dB softer than it was.
    assert!((live - inside).abs() < 2.0, "{live} dB live, {inside} dB printed");
    page.click("button", "Undo").await?;
    other.until(
        "the echo is on",
        "return [...document.querySelectorAll('[data-part=\"effect row\"] input[type=checkbox]')].filter((it) => it.checked).length === 1",
    )
    .await?;
    page.driver.query(By::XPath(of)).first().await?.click().await?;
    other.until(
        "all off again",
        "return [...document.querySelectorAll('[data-part=\"effect row\"] input[type=checkbox]')].every((it) => !it.checked)",
    )
    .await?;
    let back = same_samples(&ladder, &page, 1, &score, 900).await?;
    assert!(back.0 == off.0);

    // A room that both ranks are sent to, of which only what comes of them is heard.
    page.click("button", "+ a row that strands share").await?;
    add(&page, "Room", "Reverb").await?;
    page.until("wet alone", &shows("Reverb", "Mix", "100 %")).await?;
    page.fill("from Front rank", "0 dB").await?;
    set(&page, "Reverb", "Time", "4 s").await?;
    other.click("[data-part=effects] button", "Room").await?;
    other
        .until("its time elsewhere", &shows("Reverb", "Time", "4 s"))
        .await?;
    let room = same_samples(&ladder, &page, 1, &score, 900).await?;
    assert!(level_db(&room.0, 700..900) > level_db(&dry.0, 700..900) + 20.0);

    // Its time follows a controller, from where it is; read as a sentence.
    let follow = "//*[@aria-label='Reverb']//button[@aria-label='Let time follow something']";
    let follow = page.driver.query(By::XPath(follow)).first().await?;
    page.driver
        .action_chain()
        .move_to_element_center(&follow)
        .perform()
        .await?;
    follow.click().await?;
    page.fill("time by", "× 0.1").await?;
    other.until(
        "it is driven",
        "return [...document.querySelectorAll('[aria-label^=\"time follows\"] input')].some((it) => it.value === '× 0.1')",
    )
    .await?;
    let wheel = EventKind::Controller {
        controller: 1,
        value: 127,
    };
    let driven = same_samples(&ladder, &page, 1, &[(0, wheel), score[0], score[1]], 900).await?;
    assert!(level_db(&driven.0, 700..900) < level_db(&room.0, 700..900) - 6.0);

    // Formats that have none say so before anything is written.
    page.click("a", "Export").await?;
    page.named("[data-part=losses] li, li, p", "SFZ has no effects of its own")
        .await?;
    page.click("a", "Shape").await?;

    // Back to where it began, act by act, from the other page.
    for _ in 0..30 {
        let nothing = "return document.querySelectorAll('[data-part=effects] .num').length === 0";
        if other.script(nothing).await? == serde_json::Value::Bool(true) {
            break;
        }
        // One step at a time: a second press while the first is on its way would undo what the demo did before.
        let before = ladder.get("/api/instruments/1")?;
        other.click("button", "Undo").await?;
        ladder
            .wait_for("/api/instruments/1", |view| *view != before)
            .await?;
        let seen = ladder.get("/api/instruments/1")?["undo"].clone();
        let shown = format!(
            "return [...document.querySelectorAll('button')].find((it) => it.innerText === 'Undo').title === {}",
            serde_json::json!(format!("Undo: {}", seen.as_str().unwrap_or_default()))
        );
        other.until("the step before", &shown).await?;
    }
    page.named("[data-part=effects] p", "No effect: it is heard as it is.")
        .await?;
    let undone = same_samples(&ladder, &page, 1, &score, 900).await?;
    assert!(undone.0 == dry.0);
    page.close().await?;
    other.close().await?;
    ladder.end().await
}
