//! A page that plays: exported, served as plain files, opened in a fresh browser, played by keys and by its panel, compared with the offline render, and offline.

use e2e::{Browser, Ladder, PlainServer, files_of, follows_rules_of_access, same_as_page};
use engine::EventKind;
use program::ControlId;
use serde_json::Value;
use std::path::Path;
use thirtyfour::prelude::*;

/// More than this is not silence, on the page's meter.
const HEARD: &str = "Number(document.querySelector('[data-part=\"level meter\"]').dataset.left) > 0.003";

/// What was exported lies in a folder as it came out of its zip.
fn unpacked(zip: Vec<u8>, folder: &Path) -> anyhow::Result<()> {
    for (path, bytes) in files_of(zip)? {
        let to = folder.join(path);
        std::fs::create_dir_all(to.parent().unwrap_or(folder))?;
        std::fs::write(to, bytes)?;
    }
    Ok(())
}

/// The mouse goes down on a key of the page, and stays there.
async fn press(page: &Browser, key: &str) -> anyhow::Result<()> {
    let key = format!("header ~ main > div:last-child [data-key{key}]");
    let key = page.driver.query(By::Css(key)).first().await?;
    let hand = page.driver.action_chain().move_to_element_center(&key);
    Ok(hand.click_and_hold().perform().await?)
}

/// A key of the page is held by the mouse until something is heard; and then nothing is.
async fn heard_by_mouse(page: &Browser, key: u8, when: &str) -> anyhow::Result<()> {
    press(page, &format!("='{key}'")).await?;
    page.until(&format!("the key sounds {when}"), &format!("return {HEARD}"))
        .await?;
    page.driver.action_chain().release().perform().await?;
    page.until("it falls silent", &format!("return !({HEARD})")).await
}

fn control(ladder: &Ladder, name: &str) -> anyhow::Result<ControlId> {
    let view = ladder.get("/api/instruments/1")?;
    let parts = view["panel"]["parts"].as_array().cloned().unwrap_or_default();
    let id = parts
        .iter()
        .find(|part| part["name"] == name)
        .and_then(|part| part["id"].as_u64());
    Ok(ControlId(id.ok_or_else(|| anyhow::anyhow!("no control {name}"))?))
}

#[tokio::test(flavor = "multi_thread")]
async fn an_instrument_becomes_a_page_that_plays_anywhere() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let maker = Browser::open().await?;
    maker
        .driver
        .goto(&format!("{}/instruments/1/export", ladder.address))
        .await?;
    maker
        .write_under("Licence", "Play it, and say where it comes from")
        .await?;
    maker.pick("Format", "Page that plays").await?;
    maker.named("p", "Nothing: fades and the loops' crossfades are rendered into the audio, and all else is played as here").await?;
    maker.click("button", "Export").await?;
    maker.click("a", "Download").await?;
    let folder = tempfile::tempdir()?;
    unpacked(maker.downloaded(".zip").await?, folder.path())?;
    maker.close().await?;

    let server = PlainServer::start(folder.path())?;
    let page = Browser::open().await?;
    page.driver.goto(&server.address).await?;
    page.named("h1", "Parlour reed organ").await?;
    page.named("header button", "Room").await?;
    heard_by_mouse(&page, 60, "at first").await?;
    // By letters too: Q is C4.
    let body = page.driver.query(By::Tag("body")).first().await?;
    body.click().await?;
    page.driver.action_chain().key_down('q').perform().await?;
    page.until("the letter sounds", &format!("return {HEARD}"))
        .await?;
    page.driver.action_chain().key_up('q').perform().await?;
    page.until("it falls silent", &format!("return !({HEARD})"))
        .await?;
    // A control by keyboard: all the way to its end, and read.
    let balance = page
        .driver
        .query(By::Css("[role=slider][aria-label=Balance]"))
        .first()
        .await?;
    balance.send_keys(Key::End + "").await?;
    page.until(
        "at its end",
        "return document.querySelector('[aria-label=\"Balance, value\"]').value === '100 %'",
    )
    .await?;
    heard_by_mouse(&page, 60, "with Balance at its end").await?;
    follows_rules_of_access(&page, "the page that plays").await?;
    page.picture("page-that-plays").await?;

    // From its own files it renders what the instrument here renders offline, with controls where they stand at first and moved.
    let on = |key| EventKind::NoteOn { key, velocity: 100 };
    let balance = control(&ladder, "Balance")?;
    let room = control(&ladder, "Room")?;
    let score = [
        (0, on(60)),
        (
            150,
            EventKind::Control {
                id: balance,
                value: 0.9,
            },
        ),
        (200, EventKind::Control { id: room, value: 0.7 }),
        (300, on(43)),
        (500, EventKind::NoteOff { key: 60 }),
        (600, EventKind::NoteOff { key: 43 }),
    ];
    same_as_page(&ladder, &page, 1, &score, 900).await?;

    // Who made it, and all of it kept: then it plays where nobody answers.
    page.click("button", "About").await?;
    page.named("[role=dialog] p", "Play it, and say where it comes from")
        .await?;
    page.named("[data-part=kept] button", "Keep all, ")
        .await?
        .click()
        .await?;
    page.named("[data-part=kept] p", "All of it is kept in this browser")
        .await?;
    page.until(
        "its page is kept",
        "return navigator.serviceWorker.controller !== null",
    )
    .await?;
    server.stop();
    page.driver.refresh().await?;
    page.named("h1", "Parlour reed organ").await?;
    heard_by_mouse(&page, 72, "offline").await?;
    page.close().await?;
    ladder.end().await
}

/// A page of somebody else's, with ours in it.
const AROUND: &str = "<!doctype html><title>Around</title><iframe src='/two/?embed#2' width='1000' height='500' allow='autoplay; midi'></iframe>";

#[tokio::test(flavor = "multi_thread")]
async fn several_stand_on_one_page_and_within_another() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let maker = Browser::open().await?;
    maker.driver.goto(&format!("{}/together", ladder.address)).await?;
    for name in ["Parlour reed organ", "Slate chimes"] {
        let tick = format!("//*[@data-instrument][contains(., '{name}')]//input[@type='checkbox']");
        maker.driver.query(By::XPath(tick)).first().await?.click().await?;
    }
    maker.pick("Format", "Page that plays").await?;
    maker.click("main button", "Export").await?;
    maker.click("a", "Download").await?;
    let folder = tempfile::tempdir()?;
    unpacked(maker.downloaded(".zip").await?, &folder.path().join("two"))?;
    std::fs::write(folder.path().join("around.html"), AROUND)?;
    maker.close().await?;

    // By the program's own server.
    let port = e2e::free_port()?;
    let mut serving = std::process::Command::new(std::env::var("LADDER_PROGRAM")?)
        .arg("serve")
        .arg(folder.path().join("two"))
        .args(["--address", &format!("127.0.0.1:{port}")])
        .spawn()?;
    let page = Browser::open().await?;
    page.taps_output().await?;
    let address = format!("http://127.0.0.1:{port}/");
    for _ in 0..100 {
        if page.driver.goto(&address).await.is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    page.pick("Instrument", "Slate chimes").await?;
    page.until("the chimes", "return document.title === 'Slate chimes'")
        .await?;
    page.named("main", "Damper").await?;
    // A program change brings the first one back.
    page.script(
        "window.port = { id: 'a', name: 'keys' };
        navigator.requestMIDIAccess = async () => ({ inputs: new Map([['a', window.port]]), outputs: new Map(), onstatechange: null });",
    )
    .await?;
    page.click("button", "MIDI").await?;
    page.until("MIDI is heard", "return window.port.onmidimessage !== undefined")
        .await?;
    page.script("window.port.onmidimessage({ data: [0xc0, 0] })")
        .await?;
    page.until("the organ", "return document.title === 'Parlour reed organ'")
        .await?;
    serving.kill()?;
    serving.wait()?;

    let server = PlainServer::start(folder.path())?;
    page.driver
        .goto(&format!("{}/around.html", server.address))
        .await?;
    let frame = page.driver.query(By::Tag("iframe")).first().await?;
    frame.enter_frame().await?;
    page.named("header [role=combobox]", "Slate chimes").await?;
    press(&page, "='60'").await?;
    page.until("what is heard of it", "return window.loudest() > 0.003")
        .await?;
    page.driver.action_chain().release().perform().await?;
    page.close().await?;
    ladder.end().await
}

/// Where a page cannot play, it says so: opened as a file, with no server.
#[tokio::test(flavor = "multi_thread")]
async fn opened_as_a_file_it_says_what_it_wants() -> anyhow::Result<()> {
    let page = Browser::open().await?;
    let built = Path::new(&std::env::var("LADDER_WEB")?).join("play/index.html");
    page.driver.goto(&format!("file://{}", built.display())).await?;
    page.named("#root p", "This page plays from a web server").await?;
    let said = page.script("return document.body.innerText").await?;
    assert!(matches!(said, Value::String(text) if text.contains("ladder serve FOLDER")));
    page.close().await
}
