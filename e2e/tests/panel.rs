//! A panel built from nothing, by dragging and by keyboard; its Balance heard as one rank leaves and the other comes; a controller learnt; values kept
//! and recalled; what is shown when; a picture; and all of it undone.

use anyhow::Context;
use e2e::{Browser, Ladder, same_samples};
use engine::EventKind;
use program::ControlId;
use serde_json::{Value, json};
use std::io::Write;
use thirtyfour::prelude::*;

/// Removes the parts that the demo's organ has, as one act.
async fn cleared(page: &Browser) -> anyhow::Result<()> {
    page.click("button", "Arrange").await?;
    for name in ["Room", "Ranks"] {
        page.click("main button", name).await?;
        page.driver
            .query(By::Css("[data-part='panel page'] button[aria-pressed]"))
            .first()
            .await?
            .send_keys(Key::Control + "a")
            .await?;
        page.click("[data-part=beside] button", "Remove").await?;
        page.until(
            "an empty page",
            "return document.querySelectorAll('[data-part=\"panel page\"] [data-control]').length === 0",
        )
        .await?;
    }
    Ok(())
}

/// Adds a part, chosen from then on, and calls it so.
async fn add(page: &Browser, kind: &str, name: &str) -> anyhow::Result<()> {
    page.click("button", "+ part").await?;
    page.click("[role=menuitem]", kind).await?;
    page.named("[data-part=beside] p", &format!("a {kind}")).await?;
    page.write_under("Label", name).await?;
    page.named("[data-part=beside] h3", name).await?;
    Ok(())
}

/// Lets the chosen control drive something.
async fn drives(page: &Browser, what: &str) -> anyhow::Result<()> {
    page.click("[data-part=beside] button", "+ a").await?;
    page.click("[role=menuitem]", what).await?;
    page.driver
        .query(By::Css(format!(
            "[data-part=beside] [role=group][aria-label='{what}']"
        )))
        .first()
        .await?;
    Ok(())
}

/// Sets from where to where the chosen control drives something.
async fn range(page: &Browser, what: &str, (from, to): (&str, &str)) -> anyhow::Result<()> {
    for (label, text) in [("from", from), ("to", to)] {
        let of =
            format!("//*[@data-part='beside']//*[@aria-label='{what}']//label[normalize-space(.)='{label}']");
        let id = page
            .driver
            .query(By::XPath(of))
            .first()
            .await?
            .attr("for")
            .await?
            .context("a field")?;
        let field = page.driver.query(By::Id(&id)).first().await?;
        field.send_keys(Key::Control + "a").await?;
        field.send_keys(text).await?;
        field.send_keys(Key::Enter + "").await?;
    }
    Ok(())
}

/// The place of a part, in columns and rows, as the server has it.
fn place(ladder: &Ladder, name: &str) -> anyhow::Result<(u64, u64, u64, u64)> {
    let part = part(ladder, name)?;
    let of = |field: &str| part["place"][field].as_u64().unwrap_or_default();
    Ok((of("x"), of("y"), of("wide"), of("high")))
}

fn part(ladder: &Ladder, name: &str) -> anyhow::Result<Value> {
    let view = ladder.get("/api/instruments/1")?;
    let parts = view["panel"]["parts"].as_array().cloned().unwrap_or_default();
    parts
        .into_iter()
        .find(|part| part["name"] == name)
        .with_context(|| format!("no part {name}"))
}

/// The button that lies over a part while it is arranged.
async fn over(page: &Browser, name: &str) -> anyhow::Result<WebElement> {
    let of = format!("[data-name='{name}'] button[aria-pressed]");
    Ok(page.driver.query(By::Css(of)).first().await?)
}

/// RMS over blocks, in dB.
fn level_db(side: &[f32], blocks: std::ops::Range<usize>) -> f64 {
    let of = &side[blocks.start * 128..blocks.end * 128];
    let power: f64 = of.iter().map(|x| f64::from(*x).powi(2)).sum();
    10.0 * (power / of.len() as f64).max(1e-14).log10()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_panel_is_built_from_nothing_played_and_undone() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/panel", ladder.address))
        .await?;
    page.named("h2", "Panel").await?;
    page.picture("panel").await?;
    cleared(&page).await?;

    // Two sliders: what is new lands under what one works on.
    add(&page, "slider", "Balance").await?;
    drives(&page, "Front rank · level").await?;
    range(&page, "Front rank · level", ("0", "−∞")).await?;
    drives(&page, "Back rank · level").await?;
    page.named("[data-name='Balance'] p", "Front rank out, Back rank in")
        .await?;
    add(&page, "slider", "Release").await?;
    drives(&page, "release of all strands").await.ok();
    let (balance, release) = (place(&ladder, "Balance")?, place(&ladder, "Release")?);
    assert_eq!((release.0, release.1), (balance.0, balance.1 + balance.3 + 1));

    // Dragged, it snaps; moved and sized by keys, one change for all presses of a hand.
    let release = over(&page, "Release").await?;
    page.driver
        .action_chain()
        .move_to_element_center(&release)
        .click_and_hold()
        .move_by_offset(150, -40)
        .move_by_offset(143, -59)
        .release()
        .perform()
        .await?;
    page.until(
        "it is moved",
        "return document.querySelector('[data-part=toast]') === null",
    )
    .await?;
    let dragged = ladder.wait_for("/api/instruments/1", |view| {
        let parts = view["panel"]["parts"].as_array().cloned().unwrap_or_default();
        parts
            .iter()
            .any(|part| part["name"] == "Release" && part["place"]["x"] == 13)
    });
    dragged.await?;
    assert_eq!(place(&ladder, "Release")?.1, balance.1);
    let release = over(&page, "Release").await?;
    release.send_keys(Key::Down + Key::Down).await?;
    release.send_keys(Key::Shift + Key::Right).await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            let parts = view["panel"]["parts"].as_array().cloned().unwrap_or_default();
            parts
                .iter()
                .any(|part| part["place"] == json!({"x": 13, "y": balance.1 + 2, "wide": 11, "high": 3}))
        })
        .await?;

    // A controller that moves is learnt; Balance is heard by it, and on the page.
    page.driver
        .query(By::Css("[data-name='Balance'] button[aria-pressed]"))
        .first()
        .await?
        .click()
        .await?;
    page.click("[data-part=beside] button", "Learn").await?;
    page.hears_midi().await.ok();
    page.script("window.port.onmidimessage({ data: [0xb0, 22, 0] })")
        .await?;
    page.script("window.port.onmidimessage({ data: [0xb0, 22, 1] })")
        .await?;
    page.named("[data-part=beside] p", "a slider · controller 22")
        .await?;
    let id = part(&ladder, "Balance")?["id"].as_u64().context("an id")?;
    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    let at = |value: f64| {
        let control = EventKind::Control {
            id: ControlId(id),
            value,
        };
        [(0, control), (1, on)]
    };
    let (front, back) = (
        same_samples(&ladder, &page, 1, &at(0.0), 400).await?,
        same_samples(&ladder, &page, 1, &at(1.0), 400).await?,
    );
    let by_controller = EventKind::Controller {
        controller: 22,
        value: 127,
    };
    let learnt = same_samples(&ladder, &page, 1, &[(0, by_controller), (1, on)], 400).await?;
    assert!(learnt.0.iter().zip(&back.0).all(|(a, b)| (a - b).abs() < 1e-6));
    // Each is heard, and neither is the other.
    let apart: Vec<f32> = front.0.iter().zip(&back.0).map(|(a, b)| a - b).collect();
    for side in [&front.0, &back.0] {
        assert!(level_db(side, 200..400) > -50.0);
        assert!(level_db(&apart, 200..400) > level_db(side, 200..400) - 3.0);
    }
    page.click("main button", "Play").await?;
    let thumb = page
        .driver
        .query(By::Css("[data-name='Balance'] [role=slider]"))
        .first()
        .await?;
    thumb.send_keys(Key::End + "").await?;
    page.until(
        "all the way",
        "return document.querySelector('[aria-label=\"Balance, value\"]').value === '0.0 dB' || document.querySelector('[aria-label=\"Balance, value\"]').value === '−∞ dB'",
    )
    .await?;
    // As the hand on the keyboard has it, the meter tells.
    page.script("window.port.onmidimessage({ data: [0x90, 60, 100] })")
        .await?;
    page.until(
        "it sounds",
        "return Number(document.querySelector('footer [data-part=meter]').dataset.peak) > 0.003",
    )
    .await?;
    page.script("window.port.onmidimessage({ data: [0x80, 60, 0] })")
        .await?;

    // Values are kept under a name, and come back by a program change.
    page.click("[data-part=beside] button", "Keep what stands now")
        .await?;
    page.write("Name", "Back alone").await?;
    page.named("[data-part=beside] [role=group] button", "Back alone")
        .await?;
    let field = page
        .driver
        .query(By::XPath(
            "//*[@data-part='beside']//*[@aria-label='Back alone']//input",
        ))
        .first()
        .await?;
    field.send_keys(Key::Control + "a").await?;
    field.send_keys("5").await?;
    field.send_keys(Key::Enter + "").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["panel"]["presets"][0]["program"] == 5
        })
        .await?;
    thumb.send_keys(Key::Home + "").await?;
    page.until(
        "back at its least",
        "return document.querySelector('[data-name=\"Balance\"] [role=slider]').ariaValueNow === '0'",
    )
    .await?;
    page.script("window.port.onmidimessage({ data: [0xc0, 4] })")
        .await?;
    page.until(
        "recalled",
        "return document.querySelector('[data-name=\"Balance\"] [role=slider]').ariaValueNow === '1'",
    )
    .await?;

    // They go out as a preset beside.
    page.click("nav a", "Export").await?;
    page.pick("Format", "SoundFont 2").await?;
    page.named("[data-part=preview] p", "One file").await?;
    page.click("label", "Kept values as presets beside").await?;
    page.until(
        "two presets",
        "return document.querySelector('[data-part=preview]').innerText.includes('2 presets')",
    )
    .await?;
    page.click("nav a", "Panel").await?;

    // A switch shows another part while it is on; a picture is one, and no page is harmed by what stands in it.
    page.click("main button", "Arrange").await?;
    add(&page, "switch", "More").await?;
    over(&page, "Release").await?.click().await?;
    page.pick("Shown when", "More is on").await?;
    let mut file = tempfile::Builder::new().suffix(".svg").tempfile()?;
    file.write_all(br#"<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 3"><script>document.title = 'broken in'</script><rect width="4" height="3" fill="teal"/></svg>"#)?;
    add(&page, "picture", "Reed").await?;
    page.driver
        .query(By::Css("[data-part=beside] input[type=file]"))
        .first()
        .await?
        .send_keys(file.path().to_string_lossy().as_ref())
        .await?;
    page.until(
        "the picture",
        "const it = document.querySelector('[data-name=\"Reed\"] img'); return it !== null && it.complete && it.naturalWidth > 0 && document.title !== 'broken in'",
    )
    .await?;
    page.click("main button", "Play").await?;
    page.until(
        "Release is away",
        "return document.querySelector('[data-name=\"Release\"]') === null",
    )
    .await?;
    page.driver
        .query(By::Css("[data-name='More'] [role=switch]"))
        .first()
        .await?
        .click()
        .await?;
    page.until(
        "Release is there",
        "return document.querySelector('[data-name=\"Release\"]') !== null",
    )
    .await?;

    // The window of whoever plays: the same panel, and keys.
    page.click("main a", "Full window").await?;
    page.named("h1", "Parlour reed organ").await?;
    page.until(
        "parts and keys",
        "return document.querySelector('[data-name=\"Balance\"]') !== null && document.querySelectorAll('[data-key]').length > 24",
    )
    .await?;
    page.click("a", "Arrange").await?;

    // What somebody else removes is gone here, and one undo brings it back with all that it drives.
    page.click("main button", "Arrange").await?;
    over(&page, "Balance").await?.send_keys(Key::Delete + "").await?;
    page.until(
        "Balance is gone",
        "return document.querySelector('[data-name=\"Balance\"]') === null",
    )
    .await?;
    let routes = |view: &Value| view["program"]["routes"].as_array().map_or(0, Vec::len);
    // The page shows it before it is kept.
    ladder
        .wait_for("/api/instruments/1", |view| routes(view) == 0)
        .await?;
    page.click("button", "Undo").await?;
    page.until(
        "Balance is back",
        "return document.querySelector('[data-name=\"Balance\"]') !== null",
    )
    .await?;
    ladder
        .wait_for("/api/instruments/1", |view| routes(view) == 2)
        .await?;
    page.close().await?;
    ladder.end().await
}

/// Three words: nothing, by the wheel, by the pressure; and the course of loudness as the engine runs it.
#[tokio::test(flavor = "multi_thread")]
async fn the_words_of_a_choice_say_where_a_route_comes_from() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/panel", ladder.address))
        .await?;
    page.named("h2", "Panel").await?;
    add(&page, "choice", "Raised by").await?;
    page.write_under("Its words, from least to most", "nothing, the wheel, pressure")
        .await?;
    let word = |name: &str| format!("[data-part=beside] [role=group][aria-label='{name}'] button");
    for name in ["the wheel", "pressure"] {
        page.click(&word(name), "+ a route").await?;
        page.click("[role=menuitem]", "to pitch of Front rank").await?;
        let of = format!("{name}: pitch of Front rank");
        page.driver
            .query(By::Css(format!("[role=group][aria-label='{of}']")))
            .first()
            .await?;
    }
    let source = "//*[@aria-label='pressure: pitch of Front rank']//*[@role='combobox']";
    page.driver
        .query(By::XPath(source))
        .first()
        .await?
        .click()
        .await?;
    page.click("[role=option]", "pressure").await?;
    let path = "/api/instruments/1";
    let routes = |view: &Value| -> Vec<(Value, u64)> {
        let curves = view["program"]["curves"].as_array().cloned().unwrap_or_default();
        let shapes = view["program"]["shapes"].as_array().cloned().unwrap_or_default();
        let all = shapes
            .iter()
            .filter_map(|shape| shape["routes"].as_array())
            .flatten();
        all.filter(|route| !route["times"].is_null())
            .map(|route| {
                let curve = curves.iter().find(|curve| curve["id"] == route["curve"]);
                let points = curve
                    .and_then(|curve| curve["points"].as_array())
                    .map_or(0, Vec::len);
                (route["times"].clone(), points as u64)
            })
            .collect()
    };
    ladder
        .wait_for(path, |view| routes(view).contains(&(json!("pressure"), 2)))
        .await?;
    let id = part(&ladder, "Raised by")?["id"].as_u64().context("an id")?;
    // A word comes between: each route stays with its own.
    page.write_under(
        "Its words, from least to most",
        "nothing, the bend, the wheel, pressure",
    )
    .await?;
    ladder
        .wait_for(path, |view| {
            let all = routes(view);
            all.contains(&(json!({"controller": 1}), 3)) && all.contains(&(json!("pressure"), 2))
        })
        .await?;
    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    let at = async |value: f64, hand: EventKind| {
        let control = EventKind::Control {
            id: ControlId(id),
            value,
        };
        same_samples(&ladder, &page, 1, &[(0, control), (0, hand), (1, on)], 400).await
    };
    let wheel = EventKind::Controller {
        controller: 1,
        value: 127,
    };
    let pressed = EventKind::Pressure { value: 127 };
    // At the first word nothing is raised, whatever else the organ does with the wheel and the pressure.
    for (value, hand, raises) in [
        (2.0 / 3.0, wheel, true),
        (2.0 / 3.0, pressed, false),
        (1.0, wheel, false),
        (1.0, pressed, true),
    ] {
        let (plain, chosen) = (at(0.0, hand).await?, at(value, hand).await?);
        let left = plain.0.iter().zip(&chosen.0);
        let apart = left.map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert_eq!(apart > 1e-3, raises, "{value} {hand:?}: {apart}");
    }

    // A page is shown while a word is chosen, to whoever plays; who arranges sees all.
    page.click("main button", "Room").await?;
    page.pick("Shown when", "Raised by is pressure").await?;
    page.named("main button", "Room").await?;
    page.click("main button", "Play").await?;
    let shown =
        "return [...document.querySelectorAll('main button')].some((it) => it.textContent === 'Room')";
    page.until("Room is away", &shown.replace("return ", "return !"))
        .await?;
    page.click("[data-name='Raised by'] button", "pressure").await?;
    page.until("Room is there", shown).await?;
    page.click("main button", "Arrange").await?;
    page.click("main button", "Ranks").await?;

    // The course that the engine tells follows the control that drives the attack.
    add(&page, "course of loudness", "How it runs").await?;
    let tells = "return document.querySelector('[data-name=\"How it runs\"] [role=img]')?.getAttribute('aria-label') ?? ''";
    page.until(
        "a course",
        &format!(
            "{}.includes('full after 0 ms')",
            tells.replace("return ", "return (") + ")"
        ),
    )
    .await?;
    page.click("main button", "Play").await?;
    let thumb = page
        .driver
        .query(By::Css("[data-name='Attack'] [role=slider]"))
        .first()
        .await?;
    thumb.send_keys(Key::End + "").await?;
    page.until(
        "a longer attack",
        &format!("const ms = {}.match(/full after ([0-9.]+) (ms|s)/); return ms !== null && Number(ms[1]) * (ms[2] === 's' ? 1000 : 1) >= 100", tells.replace("return ", "(") + ")"),
    )
    .await?;
    page.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_panel_is_laid_out_that_changes_nothing() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/panel", ladder.address))
        .await?;
    page.named("h2", "Panel").await?;
    cleared(&page).await?;
    for name in ["Room", "Ranks"] {
        page.click("main button", name).await?;
        page.click("[data-part=beside] button", "Remove page").await?;
        page.until(
            "the page is gone",
            &format!("return ![...document.querySelectorAll('main button')].some((it) => it.textContent === '{name}')"),
        )
        .await?;
    }
    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    let score = [(0, on), (200, EventKind::NoteOff { key: 60 })];
    let before = same_samples(&ladder, &page, 1, &score, 400).await?;
    page.click("button", "Lay out a first panel").await?;
    page.named("[data-name='Balance'] p", "Front rank out, Back rank in")
        .await?;
    for name in ["Brightness", "Attack", "Release", "Felt", "Room", "Level"] {
        page.driver
            .query(By::Css(format!("[data-name='{name}']")))
            .first()
            .await?;
    }
    let after = same_samples(&ladder, &page, 1, &score, 400).await?;
    let apart: Vec<f32> = before.0.iter().zip(&after.0).map(|(a, b)| a - b).collect();
    // An open filter at 20 kHz and an attack of 2 ms are all that is new.
    assert!(level_db(&apart, 10..400) < level_db(&before.0, 10..400) - 40.0);
    page.close().await?;
    ladder.end().await
}
