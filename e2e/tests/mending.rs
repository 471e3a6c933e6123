//! Many takes at once: a wrong start, a wrong octave and a clicking loop are mended, takes are cleaned and made anew, and all of it is
//! undone from another page.

use anyhow::Context;
use e2e::{Browser, Ladder, follows_rules_of_access};
use serde_json::{Value, json};
use signal::Audio;
use std::f64::consts::TAU;

const RATE: u32 = 48_000;
const KEYS: [u8; 4] = [57, 60, 64, 69];

/// A steady tone after a tenth of a second of hiss, over hiss and hum, out of tune by some cents.
fn tone(key: u8) -> Vec<u8> {
    let hz = signal::hz_of_key(f64::from(key) + 0.07);
    let mut state = u32::from(key);
    let samples = (0..RATE * 3)
        .map(|n| {
            let t = f64::from(n) / f64::from(RATE);
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let hiss = (f64::from(state >> 8) / f64::from(1u32 << 24) - 0.5) * 0.004;
            let hum = (t * 50.0 * TAU).sin() * 0.002;
            let level = ((t - 0.5) / 0.01).clamp(0.0, 1.0) * ((2.9 - t) / 0.05).clamp(0.0, 1.0);
            let sound: f64 = (1..6)
                .map(|k| (t * hz * f64::from(k) * TAU).sin() / f64::from(k))
                .sum();
            (sound * level * 0.25 + hiss + hum) as f32
        })
        .collect();
    formats::wav_bytes(&Audio::mono(RATE, samples), 24, None)
}

async fn prepared(ladder: &Ladder) -> anyhow::Result<()> {
    let plan = json!({ "kind": "sustained", "source": { "how": "files", "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": RATE, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": KEYS, "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 2_000, "tail_ms": 500 }] });
    ladder.post(
        "/api/instruments",
        &json!({ "name": "To be mended", "plan": plan }),
    )?;
    let mut files = Vec::new();
    for key in KEYS {
        ladder.send(
            &format!("/api/instruments/1/files?name=pipe_{key}.wav"),
            &tone(key),
        )?;
    }
    for row in ladder.get("/api/instruments/1/files")?["files"]
        .as_array()
        .context("files")?
    {
        files.push(json!({ "file": row["id"], "key": row["key"] }));
    }
    ladder.post(
        "/api/instruments/1/files/take-in",
        &json!([{ "kind": "sustained", "files": files }]),
    )?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == KEYS.len() && takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    // What a careless hand did before: starts half a second late, roots an octave too high, loops that click.
    let mut wishes = Vec::new();
    for take in takes(&view) {
        let number = |path: &str| take.pointer(path).and_then(Value::as_u64).unwrap_or(0);
        for (fact, value) in [
            ("start_frame", json!(number("/treatment/start_frame") + 24_000)),
            ("root_key", json!(number("/treatment/root_key") + 12)),
            (
                "loop",
                json!({ "start_frame": 60_000, "end_frame": 90_011, "crossfade_frames": 0 }),
            ),
        ] {
            wishes
                .push(json!({ "target": { "take": take["id"] }, "fact": fact, "after": { "value": value } }));
        }
    }
    ladder.post(
        "/api/instruments/1/changes",
        &json!({ "label": "a careless hand", "wishes": wishes }),
    )?;
    Ok(())
}

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

fn treatments(view: &Value) -> Vec<Value> {
    takes(view).iter().map(|take| take["treatment"].clone()).collect()
}

async fn choose_all(browser: &Browser) -> anyhow::Result<()> {
    browser.click("footer button", "Choose").await?;
    browser.click("[role=menuitem]", "all cells").await?;
    browser.named("footer span", "4 of 4 cells chosen").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_start_octave_and_loop_are_mended_on_all_and_undone_from_another_page() -> anyhow::Result<()>
{
    let ladder = Ladder::start(false).await?;
    prepared(&ladder).await?;
    // Loops set by hand are judged, too: the board shows that they click.
    let spoilt = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view)
                .iter()
                .all(|take| take["seam"]["seam_db"].as_f64().is_some_and(|db| db > -10.0))
        })
        .await?;
    let browser = Browser::open().await?;
    let page = |step: &str| format!("{}/instruments/1/{step}", ladder.address);
    let every = |view: &Value, test: &dyn Fn(&Value) -> bool| takes(view).iter().all(test);

    // The start: typed on one, its offset put on the others.
    browser.driver.goto(page("trim")).await?;
    choose_all(&browser).await?;
    browser.fill("Start", "0.49 s").await?;
    browser.click("button", "Use on 3 more").await?;
    browser.click("[role=menuitem]", "moved alike").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            every(view, &|take| {
                let start = take["treatment"]["start_frame"].as_f64().unwrap_or(0.0) / f64::from(RATE);
                (0.48..0.5).contains(&start)
            })
        })
        .await?;

    // The octave: on all chosen.
    browser.driver.goto(page("tune")).await?;
    choose_all(&browser).await?;
    browser.click("button", "Octave ↓").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            every(view, &|take| take["treatment"]["root_key"] == take["cell"]["key"])
        })
        .await?;

    // The loop: W goes to the worst of the step that is open now, and from there to the next; then the best for each.
    browser.driver.goto(page("map")).await?;
    browser.click("nav a", "Loop").await?;
    let on_bench = "return document.querySelector('[data-cell][tabindex=\"0\"]').dataset.cell";
    browser.driver.action_chain().send_keys("w").perform().await?;
    let worst = browser.script(on_bench).await?;
    browser.driver.action_chain().send_keys("w").perform().await?;
    browser
        .until("the next worst", &format!("{on_bench} !== {worst}"))
        .await?;
    browser.driver.goto(page("loop")).await?;
    choose_all(&browser).await?;
    browser.click("button", "Use the best for 4").await?;
    let mended = ladder
        .wait_for("/api/instruments/1", |view| {
            every(view, &|take| {
                let held = &take["treatment"]["loop"];
                take["facts"]["loops"].as_array().is_some_and(|loops| {
                    loops.iter().any(|found| {
                        found["start_frame"] == held["start_frame"]
                            && found["end_frame"] == held["end_frame"]
                            && found["seam_db"].as_f64().is_some_and(|db| db < -20.0)
                    })
                })
            })
        })
        .await?;
    assert_ne!(treatments(&mended), treatments(&spoilt));
    browser.pick("Way", "back and forth").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            every(view, &|take| take["treatment"]["loop"]["way"] == "back_and_forth")
        })
        .await?;

    // Another page undoes all that this one did, and finds everything as it was.
    let other = Browser::open().await?;
    other.driver.goto(page("trim")).await?;
    for _ in 0..5 {
        let before = ladder.get("/api/instruments/1")?["undo"].clone();
        other.click("button", "Undo").await?;
        ladder
            .wait_for("/api/instruments/1", |view| view["undo"] != before)
            .await?;
    }
    let view = ladder.get("/api/instruments/1")?;
    assert_eq!(view["undo"], "a careless hand");
    assert_eq!(treatments(&view), treatments(&spoilt));
    browser.close().await?;
    other.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn takes_are_cleaned_together_and_new_ones_made_from_them() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    prepared(&ladder).await?;
    let browser = Browser::open().await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/trim", ladder.address))
        .await?;
    choose_all(&browser).await?;
    browser.click("[role=tab]", "Clean").await?;
    for stage in ["High-pass", "Hum", "Hiss"] {
        browser.click("[role=switch]", stage).await?;
        browser
            .until(
                stage,
                &format!("return [...document.querySelectorAll('[role=switch]')].some((s) => s.textContent === '{stage}' && s.getAttribute('aria-checked') === 'true')"),
            )
            .await?;
    }
    browser.fill("Lowered by", "20 dB").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).iter().all(|take| {
                take["treatment"]["cleaning"]["hiss"]["reduction_db"] == 20.0 && take["cleaned"].is_string()
            })
        })
        .await?;
    // The silence before the sound: as recorded, cleaned, and what went.
    let level = |version: &str| -> anyhow::Result<f64> {
        // One stage alone after a comma.
        let version = version.replace(',', "&stage=");
        let path = format!("/api/takes/1/audio?first=2000&end=20000&version={version}");
        let samples: Vec<f32> = ladder
            .bytes(&path)?
            .chunks_exact(4)
            .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
            .collect();
        Ok(signal::rms_dbfs(&Audio::mono(RATE, samples)))
    };
    let (raw, cleaned, away) = (level("raw")?, level("cleaned")?, level("away")?);
    assert!(cleaned < raw - 12.0, "{raw} {cleaned}");
    assert!((away - raw).abs() < 3.0, "{raw} {away}");
    // Hum of an amplitude of 0.002, of which the high-pass at 40 Hz leaves most; hiss of the same within 4.8 dB: each stage takes its own.
    let (hum, hiss, all_but_hiss) = (level("away,hum")?, level("away,hiss")?, level("cleaned,hiss")?);
    assert!((-62.0..=-55.0).contains(&hum), "{hum}");
    assert!((-62.0..=-56.0).contains(&hiss), "{hiss}");
    assert!(
        all_but_hiss > cleaned + 8.0 && all_but_hiss < raw,
        "{raw} {all_but_hiss} {cleaned}"
    );
    // What is heard and exported is the cleaned one.
    assert!(view["program"]["samples"].as_array().is_some_and(|samples| {
        samples.iter().all(|sample| {
            sample["source"]
                .as_str()
                .is_some_and(|source| source.contains('~'))
        })
    }));
    browser.click("button", "What is taken away").await?;
    browser
        .click("[aria-label='Listen to Hum'] button", "What it takes")
        .await?;
    browser
        .until(
            "what hum alone was",
            "return performance.getEntriesByType('resource').some((r) => r.name.includes('version=away&stage=hum'))",
        )
        .await?;

    browser.click("[role=tab]", "New takes").await?;
    browser.click("button", "Bring it in tune").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 8 && takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    for take in takes(&view).iter().skip(4) {
        assert_eq!(take["chosen"], true, "{take}");
        let cents = take["facts"]["pitch"]["cents"].as_f64().context("cents")?;
        assert!(cents.abs() < 0.5, "{cents}");
        assert_eq!(take["origin"]["made_by"], "brought in tune");
    }
    // One undo brings all of the earlier ones back; what was made stays on its cells.
    browser.click("button", "Undo").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            let chosen: Vec<bool> = takes(view).iter().map(|take| take["chosen"] == true).collect();
            chosen == [[true; 4], [false; 4]].concat()
        })
        .await?;
    browser.close().await?;
    ladder.end().await
}

const METER: &str = "document.querySelector('[data-part=meter]').dataset";

/// Level and loop are heard while they are dragged, under a note that is held, before anything is kept.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_dragged_is_heard_at_once() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    prepared(&ladder).await?;
    let browser = Browser::open().await?;
    let driver = &browser.driver;
    driver
        .goto(&format!("{}/instruments/1/trim", ladder.address))
        .await?;
    browser.field("Level").await?;
    driver.action_chain().send_keys(" ").perform().await?;
    browser
        .until(
            "a voice",
            &format!("return Number({METER}.voices) === 1 && Number({METER}.peak) > 0.05"),
        )
        .await?;
    let label = browser.named("label", "Level").await?;
    // A decibel every six pixels: 30 down, drawn in two steps and not let go.
    let hold = driver
        .action_chain()
        .move_to_element_center(&label)
        .click_and_hold();
    hold.move_by_offset(0, 90).move_by_offset(0, 90).perform().await?;
    browser
        .until(
            "a quieter voice",
            &format!("return Number({METER}.voices) === 1 && Number({METER}.peak) < 0.02 && Number({METER}.peak) > 0.0005"),
        )
        .await?;
    let gains = |view: &Value| -> Vec<Value> {
        takes(view)
            .iter()
            .map(|take| take["correction"]["gain_db"].clone())
            .collect()
    };
    let held = ladder.get("/api/instruments/1")?;
    assert!(
        gains(&held).iter().all(Value::is_null),
        "kept already: {:?}",
        gains(&held)
    );
    driver.action_chain().release().perform().await?;
    let kept = ladder
        .wait_for("/api/instruments/1", |view| view["undo"] == "change the level")
        .await?;
    assert!(gains(&kept).contains(&json!(-30.0)), "{:?}", gains(&kept));
    browser.close().await?;
    ladder.end().await
}

/// Steps of an instrument with takes, and what lies around it.
const VIEWS: [&str; 12] = [
    "/",
    "/new",
    "/instruments/1/plan",
    "/instruments/1/record",
    "/instruments/1/trim",
    "/instruments/1/tune",
    "/instruments/1/loop",
    "/instruments/1/map",
    "/instruments/1/panel",
    "/instruments/1/play",
    "/instruments/1/export",
    "/instruments/1/sheet",
];

/// The rules of WCAG 2.2 that a machine can check (axe-core), on every view, light and dark; the theme is chosen in the settings and stays.
#[tokio::test(flavor = "multi_thread")]
async fn no_view_breaks_a_rule_of_access_light_or_dark() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    prepared(&ladder).await?;
    ladder.post("/api/instruments/1/panel", &json!({}))?;
    let browser = Browser::open().await?;
    let driver = &browser.driver;
    for shade in ["light", "dark"] {
        driver.goto(&ladder.address).await?;
        browser.click("button", "Settings").await?;
        browser.pick("Theme", shade).await?;
        for view in VIEWS {
            driver.goto(&format!("{}{view}", ladder.address)).await?;
            browser
                .until(
                    "the view",
                    &format!("return document.querySelector('main') !== null && document.documentElement.dataset.shade === '{shade}'"),
                )
                .await?;
            follows_rules_of_access(&browser, &format!("{view}, {shade}")).await?;
            if view.ends_with("/map") {
                for tab in ["By rule", "Region", "Table", "Strand"] {
                    browser.click("[role=tab]", tab).await?;
                    follows_rules_of_access(&browser, &format!("{view}, {tab}, {shade}")).await?;
                }
            }
        }
    }
    browser.close().await?;
    ladder.end().await
}
