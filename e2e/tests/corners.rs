//! Corners of Plan and Record that the other tests pass by: clicked as a user clicks them.

use anyhow::Context;
use e2e::{Browser, Ladder};
use serde_json::{Value, json};
use signal::Audio;
use std::f64::consts::TAU;
use thirtyfour::prelude::*;

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

fn all_measured(view: &Value) -> bool {
    takes(view).iter().all(|take| !take["facts"].is_null())
}

#[tokio::test(flavor = "multi_thread")]
async fn rungs_thresholds_turns_mics_controllers_and_programs_are_planned_on_the_page() -> anyhow::Result<()>
{
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.pick("What it is", "Plucked").await?;
    browser.named("legend", "How far up and down").await?;
    browser.fill("Lowest rung", "C3").await?;
    browser.fill("Highest rung", "C4").await?;
    browser.pick("Distance between", "an octave").await?;
    browser.click("button", "Pick on the ladder").await?;
    // One more, and one that is taken away again.
    browser.click_key(55).await?;
    browser.named("label", "Rungs (3)").await?;
    browser.click_key(60).await?;
    browser.named("label", "Rungs (2)").await?;
    browser.click("button", "Picking on the ladder").await?;
    browser.fill("Held for", "0.4 s").await?;
    browser.fill("Held, highest rung", "0.2 s").await?;
    browser.fill("Longest tail", "1 s").await?;
    browser.fill("Strengths", "3").await?;
    browser.fill("Round robins", "1").await?;
    browser.write("Threshold of medium", "50").await?;
    browser.write("Round robins of loud", "2").await?;
    browser.pick("Add a pass", "With a controller held").await?;
    browser
        .driver
        .query(By::Css("input[placeholder='0 32 64 127']"))
        .first()
        .await?
        .send_keys("0 127\n")
        .await?;
    browser.named("[role=tab]", "Wheel at 127").await?;
    let second = browser
        .driver
        .query(By::XPath("//label[input[@type='checkbox']][1]/input"))
        .first()
        .await?;
    second.scroll_into_view().await?;
    second.click().await?;
    browser.click("button", "Make it and go on to Record").await?;
    // Both programs are recorded in one run, without another click.
    let cards = ladder
        .wait_for("/api/instruments", |cards| {
            cards.as_array().is_some_and(|cards| {
                cards.len() == 2 && cards.iter().all(|card| card["measured"] == card["cells"])
            })
        })
        .await?;
    for card in cards.as_array().context("cards")? {
        let view = ladder.get(&format!("/api/instruments/{}", card["id"]))?;
        let passes = view["plan"]["passes"].as_array().context("passes")?;
        assert_eq!(passes.len(), 3);
        for (pass, controller) in passes.iter().zip([Value::Null, json!(0), json!(127)]) {
            assert_eq!(pass["rungs"], json!([48, 55]));
            assert_eq!(pass["layers"][1]["low_velocity"], 50);
            assert_eq!(pass["layers"][2]["round_robins"], 2);
            assert_eq!(
                (&pass["hold_ms"], &pass["hold_high_ms"]),
                (&json!(400), &json!(200))
            );
            assert_eq!(pass["controller"]["value"], controller);
        }
        assert_eq!(view["figures"][0]["holds_ms"], json!([400, 200]));
        assert_eq!(view["figures"][0]["low_velocities"][1], 50);
        // Two rungs, four cells each, in three passes.
        assert_eq!(takes(&view).len(), 24);
    }
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_chord_is_written_or_played_in_and_struck_at_every_rung() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.fill("Lowest rung", "C3").await?;
    browser.fill("Highest rung", "C4").await?;
    browser.pick("Distance between", "an octave").await?;
    browser.fill("Held for", "1 s").await?;
    browser.fill("Strengths", "1").await?;
    browser.fill("Round robins", "1").await?;
    let write = async |text: &str| -> anyhow::Result<()> {
        let field = browser
            .driver
            .query(By::Css("[data-part=chord] input"))
            .first()
            .await?;
        field.send_keys(Key::Control + "a").await?;
        field.send_keys(text).await?;
        Ok(field.send_keys(Key::Enter + "").await?)
    };
    let shows = |text: &str| {
        format!("return document.querySelector('[data-part=chord]').textContent.includes('{text}')")
    };
    write("C E loud").await?;
    browser
        .until(
            "a sentence",
            "return document.querySelector('[data-part=toast]')?.textContent.includes('is no chord that is known here') ?? false",
        )
        .await?;
    write("C E G").await?;
    browser.until("a major chord", &shows("C3 E3 G3")).await?;
    // Played in on the letter keys: A, C, E and G.
    browser.click("button", "Play it in").await?;
    let keys = browser.driver.action_chain();
    keys.key_down('n')
        .key_down('q')
        .key_down('e')
        .key_down('t')
        .key_up('n')
        .key_up('q')
        .key_up('e')
        .key_up('t')
        .perform()
        .await?;
    browser.until("a seventh chord", &shows("C3 D♯3 G3 A♯3")).await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser.pick("Speed of the simulated rig", "as fast").await?;
    browser.click("button", "Start recording").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 2 && all_measured(view)
        })
        .await?;
    assert_eq!(view["plan"]["passes"][0]["chord"], json!([3, 7, 10]));
    for take in takes(&view) {
        assert_eq!(take["treatment"]["root_key"], take["cell"]["key"], "{take}");
        assert_eq!(take["treatment"]["recording_cents"], 0.0, "{take}");
    }
    browser.click("nav a", "Tune").await?;
    browser.named("button[disabled]", "No pitch of its own").await?;
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_shelf_is_sifted_by_kind_tag_and_words() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    for (name, kind, tags) in [
        ("Old bell", "struck", json!(["bronze", "tower"])),
        ("New bell", "struck", json!(["bronze"])),
        ("Pipe", "sustained", json!(["tower"])),
    ] {
        let plan = json!({ "kind": kind, "source": { "how": "files", "rig": "page", "channel": 1, "program": 1 },
            "rate_hz": 48_000, "bits": 24, "channels": 1,
            "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [60], "layers": [{ "name": "all", "strike_velocity": 100 }],
                "round_robins": 1, "hold_ms": 700, "tail_ms": 500 }] });
        let id = ladder.post("/api/instruments", &json!({ "name": name, "plan": plan }))?["id"].clone();
        let wish = json!({ "label": "tags", "wishes": [{ "target": "instrument", "fact": "tags", "after": { "value": tags } }] });
        ladder.post(&format!("/api/instruments/{id}/changes"), &wish)?;
    }
    let browser = Browser::open().await?;
    browser.driver.goto(&ladder.address).await?;
    let names =
        "return [...document.querySelectorAll('main li p.font-semibold')].map((p) => p.textContent).join()";
    let shown = |what: &str| format!("{names} === '{what}'");
    browser.pick("Sorted by", "name").await?;
    browser
        .until("all by name", &shown("New bell,Old bell,Pipe"))
        .await?;
    browser.pick("Tag", "tower").await?;
    browser.until("a tag", &shown("Old bell,Pipe")).await?;
    browser.pick("Kind", "Struck").await?;
    browser.until("a kind", &shown("Old bell")).await?;
    let words = browser.driver.query(By::Css("main label input")).first().await?;
    words.send_keys("pipe").await?;
    browser.click("button", "Show all").await?;
    browser
        .until("all again", &shown("New bell,Old bell,Pipe"))
        .await?;

    // As wholes: renamed, made twice, set aside and put back, removed for good.
    let act = async |of: &str, what: &str| -> anyhow::Result<()> {
        let menu = format!("button[aria-label='What to do with {of}']");
        browser
            .driver
            .query(By::Css(&menu))
            .first()
            .await?
            .click()
            .await?;
        browser.click("[role=menuitem]", what).await
    };
    act("Pipe", "Rename").await?;
    let name = browser
        .driver
        .query(By::Css("[role=dialog] input"))
        .first()
        .await?;
    name.send_keys("Flue pipe\n").await?;
    browser
        .until("renamed", &shown("Flue pipe,New bell,Old bell"))
        .await?;
    act("Old bell", "Duplicate").await?;
    browser
        .until("twice", &shown("Flue pipe,New bell,Old bell,Old bell again"))
        .await?;
    for name in ["Old bell", "New bell"] {
        act(name, "Set aside").await?;
        browser
            .named("[data-part=toast]", &format!("«{name}» is set aside"))
            .await?;
    }
    browser
        .until("set aside", &shown("Flue pipe,Old bell again"))
        .await?;
    browser.click("button", "Set aside (2)").await?;
    browser
        .until("what is aside", &shown("New bell,Old bell"))
        .await?;
    act("New bell", "Put back").await?;
    browser.until("one is back", &shown("Old bell")).await?;
    act("Old bell", "Remove for good").await?;
    browser.named("[role=dialog] p", "Its 0 takes go").await?;
    browser.click("[role=dialog] button", "Remove for good").await?;
    browser
        .until("gone", &shown("Flue pipe,New bell,Old bell again"))
        .await?;
    // Setting aside is undone like everything else.
    let card = |name: &str| format!("//li[.//p[text()='{name}']]//a");
    act("New bell", "Set aside").await?;
    browser
        .until("aside again", &shown("Flue pipe,Old bell again"))
        .await?;
    browser.click("button", "Set aside (1)").await?;
    browser
        .driver
        .query(By::XPath(card("New bell")))
        .first()
        .await?
        .click()
        .await?;
    browser.click("header button", "Undo").await?;
    browser
        .named("[data-part=toast]", "Undone: set the instrument aside")
        .await?;
    browser.driver.goto(&ladder.address).await?;
    browser.pick("Sorted by", "name").await?;
    browser
        .until("undone", &shown("Flue pipe,New bell,Old bell again"))
        .await?;
    // A step is undone by itself, from the list of what was done.
    browser
        .driver
        .query(By::XPath(card("Flue pipe")))
        .first()
        .await?
        .click()
        .await?;
    browser.named("header button", "Flue pipe").await?;
    let done = browser
        .driver
        .query(By::Css("button[aria-label='What was done']"))
        .first()
        .await?;
    done.click().await?;
    browser
        .named("[data-part=done] li", "rename the instrument")
        .await?;
    browser.click("[data-part=done] button", "Undo").await?;
    browser.named("header button", "Pipe").await?;
    browser.named("[data-part=done] span", "undone").await?;
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tone_is_given_and_beats_are_counted_before_a_note_by_hand() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "struck", "source": { "how": "by_hand", "rig": "slate-chimes", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [60], "layers": [{ "name": "all", "strike_velocity": 90 }],
            "round_robins": 1, "hold_ms": 1_000, "tail_ms": 4_000 }] });
    ladder.post("/api/instruments", &json!({ "name": "Chimes", "plan": plan }))?;
    let browser = Browser::open().await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser.pick("Before each note", "a plain tone").await?;
    browser.pick("Count-in", "2 beats").await?;
    browser.fill("Beats a minute", "90").await?;
    browser.pick("Speed of the simulated rig", "1×").await?;
    browser
        .script(
            "window.prompts = new Set(); new MutationObserver(() => window.prompts.add(document.querySelector('[data-part=prompt] p').textContent)).observe(document.querySelector('[data-part=prompt]'), { subtree: true, childList: true, characterData: true })",
        )
        .await?;
    browser.click("button", "Begin").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["run"].is_null() && takes(view).iter().any(|take| take["chosen"] == true)
        })
        .await?;
    let prompts = browser.script("return [...window.prompts]").await?;
    for said in ["Listen, then play", "1", "2"] {
        assert!(
            prompts.as_array().context("prompts")?.contains(&json!(said)),
            "{said} in {prompts}"
        );
    }
    assert!(!takes(&view).is_empty());
    browser.close().await?;
    ladder.end().await
}

/// A line of notes bound together, with only a bend between one and the next; nothing in it is silent.
fn phrase() -> Vec<u8> {
    const RATE: f64 = 44_100.0;
    let notes = [57.0, 60.0, 64.0, 62.0];
    let mut phase = 0.0;
    let samples = (0..(RATE * 1.2) as usize * notes.len())
        .map(|n| {
            let t = n as f64 / RATE;
            let (at, within) = ((t / 1.2) as usize, t % 1.2);
            let next = notes[(at + 1).min(notes.len() - 1)];
            // The last tenth of a second glides.
            let key = notes[at] + (next - notes[at]) * ((within - 1.1) / 0.1).max(0.0);
            phase += signal::hz_of_key(key) / RATE;
            let partials: f64 = (1..6)
                .map(|k| (phase * TAU * f64::from(k)).sin() / f64::from(k))
                .sum();
            (partials * 0.3) as f32
        })
        .collect();
    formats::wav_bytes(&Audio::mono(RATE as u32, samples), 16, None)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_note_is_taken_out_of_a_phrase_without_silences() -> anyhow::Result<()> {
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join("line.wav");
    std::fs::write(&path, phrase())?;
    let ladder = Ladder::start(false).await?;
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "One long take").await?;
    browser.pick("What it is", "Sustained").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser
        .driver
        .query(By::Css("input[type=file]"))
        .first()
        .await?
        .send_keys(path.display().to_string())
        .await?;
    browser.click("button", "Notes in this phrase").await?;
    browser.click("button", "A3").await?;
    browser
        .until(
            "four notes",
            "return ['A3', 'C4', 'E4', 'D4'].every((name) => [...document.querySelectorAll(\"[aria-label='Notes in the phrase'] button\")].some((b) => b.textContent.startsWith(name)))",
        )
        .await?;
    browser
        .click("[aria-label='Notes in the phrase'] button", "Add")
        .await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["slicing"]["slices"][0]["key"].is_u64()
        })
        .await?;
    let slice = &view["long_takes"][0]["slicing"]["slices"][0];
    let length =
        slice["end_frame"].as_f64().context("end")? - slice["first_frame"].as_f64().context("first")?;
    assert!((0.5..1.2).contains(&(length / 44_100.0)), "{slice}");
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn takes_go_out_and_come_back_and_through_a_box_from_the_page() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "plucked", "source": { "how": "over_midi", "rig": "night-ferry", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [55], "layers": [{ "name": "all", "strike_velocity": 90 }],
            "round_robins": 1, "hold_ms": 500, "tail_ms": 1_500 }] });
    ladder.post("/api/instruments", &json!({ "name": "Ferry", "plan": plan }))?;
    ladder.post("/api/instruments/1/run", &json!({}))?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 1 && all_measured(view) && view["run"].is_null()
        })
        .await?;
    let browser = Browser::open().await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser.click("a", "As files, raw").await?;
    let bytes = browser.downloaded("takes.zip").await?;
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes))?;
    let mut entry = zip.by_index(0)?;
    assert!(entry.name().contains("[take 1]"), "{}", entry.name());
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join(entry.name());
    std::io::copy(&mut entry, &mut std::fs::File::create(&path)?)?;
    browser
        .driver
        .query(By::Css("[aria-label='Out and back'] input[type=file]"))
        .first()
        .await?
        .send_keys(path.display().to_string())
        .await?;
    browser.named("[data-part=toast]", "1 file is back").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view)
                .iter()
                .any(|take| take["origin"]["from_take"] == 1 && take["chosen"] == true)
                && all_measured(view)
        })
        .await?;
    browser.click("button", "Play through the box").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 3 && all_measured(view) && view["run"].is_null()
        })
        .await?;
    let boxed = takes(&view)
        .iter()
        .find(|take| take["origin"]["made_by"] == "through a box")
        .context("boxed")?;
    assert_eq!(boxed["origin"]["from_take"], 2);
    assert_eq!(boxed["chosen"], true);
    browser.close().await?;
    ladder.end().await
}
