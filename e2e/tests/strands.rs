//! Strands and regions in numbers: copies, splits, a balance by controller, a table that is typed into, what cuts off, a kit; heard, and undone from another page.

use anyhow::Context;
use e2e::{Browser, Ladder, same_samples};
use engine::EventKind;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// Whether the table of strands has a row with these words, in this order.
fn strands_say(rows: &[&str]) -> String {
    format!(
        "const rows = [...document.querySelectorAll('[data-part=strands] tbody tr')].map((row) => row.innerText.replace(/\\s+/g, ' ').trim());
        const wanted = {};
        return rows.length === wanted.length && wanted.every((words, n) => rows[n].startsWith(words))",
        serde_json::json!(rows)
    )
}

/// The organ of the demo as it was recorded.
const AS_RECORDED: [&str; 3] = ["Front rank key down 26", "Back rank key down 26", "Felt key up 5"];

/// Two pages that look at the map of one instrument.
async fn two_on_map(ladder: &Ladder, instrument: u64) -> anyhow::Result<(Browser, Browser)> {
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&one, &other] {
        let address = format!("{}/instruments/{instrument}/map", ladder.address);
        browser.driver.goto(&address).await?;
        let listed = "return document.querySelectorAll('[data-part=strands] tbody tr').length > 0";
        browser.until("strands", listed).await?;
    }
    Ok((one, other))
}

/// So many steps are undone, by one page and the other in turn, until both list these strands; and the pages are closed.
async fn undone(one: Browser, other: Browser, steps: usize, strands: &[&str]) -> anyhow::Result<()> {
    for n in 0..steps {
        let browser = if n % 2 == 0 { &other } else { &one };
        browser.click("button", "Undo").await?;
    }
    for browser in [&one, &other] {
        browser.until("as it was", &strands_say(strands)).await?;
    }
    one.close().await?;
    other.close().await
}

/// Fields of the form that is open, by their labels, and the button that ends it.
async fn filled(browser: &Browser, fields: &[(&str, &str)], button: &str) -> anyhow::Result<()> {
    for (label, text) in fields {
        browser.fill(label, text).await?;
    }
    browser.click("[role=dialog] button", button).await
}

/// Level of each side between two frames, in dB.
fn level((left, right): &(Vec<f32>, Vec<f32>), from: usize, to: usize) -> (f64, f64) {
    let of = |side: &[f32]| {
        let power: f64 = side[from..to].iter().map(|x| f64::from(*x).powi(2)).sum();
        10.0 * (power / (to - from) as f64).max(1e-12).log10()
    };
    (of(left), of(right))
}

#[tokio::test(flavor = "multi_thread")]
async fn strands_are_copied_shared_out_and_heard_and_all_of_it_is_undone_from_another_page()
-> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (one, other) = two_on_map(&ladder, 1).await?;
    // Three that sound together, each 9 cents from the next, from left to right: one act.
    one.click("button", "Copies…").await?;
    filled(&one, &[("Spread over the sides", "100")], "Make 2 copies").await?;
    let copied = [
        "Front rank key down 26 0.0 dB",
        "Front rank 2 key down 26",
        "Front rank 3 key down 26",
        "Back rank key down 26",
        "Felt key up 5",
    ];
    for browser in [&one, &other] {
        browser.until("copies", &strands_say(&copied)).await?;
    }
    let on = |key, velocity| EventKind::NoteOn { key, velocity };
    let held = [(0, on(60, 100)), (400, EventKind::NoteOff { key: 60 })];
    let together = same_samples(&ladder, &one, 1, &held, 300).await?;
    // One to each side, one in the middle: both sides are alike loud, and beat.
    let (left, right) = level(&together, 4_800, 38_400);
    assert!((left - right).abs() < 3.0, "{left} {right}");

    // Heard alone, as the worklet's meter tells, and by all again.
    one.click("[data-strand='Front rank 3'] button", "alone").await?;
    one.click_key(60).await?;
    let voices = |count: u8| {
        format!("return Number(document.querySelector('[data-part=meter]').dataset.voices) === {count}")
    };
    let canvas = one.driver.query(By::Css("[data-part=ladder]")).first().await?;
    one.driver
        .action_chain()
        .move_to_element_center(&canvas)
        .click_and_hold()
        .perform()
        .await?;
    one.until("one voice", &voices(1)).await?;
    one.driver.action_chain().release().perform().await?;
    one.until("silence", &voices(0)).await?;
    one.click("[data-strand='Front rank 3'] button", "alone").await?;
    one.driver
        .action_chain()
        .move_to_element_center(&canvas)
        .click_and_hold()
        .perform()
        .await?;
    one.until("three voices and the back rank's", &voices(4)).await?;
    one.driver.action_chain().release().perform().await?;

    // A split for two hands, and a third between: shared out, and the border moved by keyboard with its neighbour's.
    one.click("button", "Share out…").await?;
    one.click("[role=dialog] label", "Back rank").await?;
    one.click("button", "Share out among 3").await?;
    let ends_at = |key: &str| {
        format!(
            "return document.querySelector('[role=slider][aria-label=\"Front rank ends at\"]')?.getAttribute('aria-valuetext') === '{key}'"
        )
    };
    for browser in [&one, &other] {
        browser.until("a split", &ends_at("C♯3")).await?;
    }
    let split = one
        .driver
        .query(By::Css("[role=slider][aria-label='Front rank ends at']"))
        .first()
        .await?;
    split.send_keys(Key::Up + "").await?;
    other.until("a split that was moved", &ends_at("D3")).await?;
    other.click("[data-strand='Front rank 2'] label", "").await?;
    other
        .until(
            "the neighbour's border",
            "return document.querySelector('[role=slider][aria-label=\"Front rank 2 begins at\"]')?.getAttribute('aria-valuetext') === 'D♯3'",
        )
        .await?;
    // Each key has one of them, and the back rank.
    let view = ladder.get("/api/instruments/1")?;
    let program: program::Program = serde_json::from_value(view["program"].clone())?;
    for key in [40, 50, 51, 60, 70, 80] {
        assert_eq!(
            program::regions_for_key(&program, false, key, 100).count(),
            2,
            "{key}"
        );
    }

    // All of it undone, from either page.
    undone(one, other, 3, &AS_RECORDED).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_balance_by_controller_a_choking_pedal_and_a_table_that_is_typed_into() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (one, other) = two_on_map(&ladder, 2).await?;
    // Two that a controller brings in and out: one an octave lower, so that they are told apart.
    one.click("button", "Copies…").await?;
    let lower = [
        ("Sound together", "2"),
        ("Copies sound", "-12"),
        ("Each from the next", "0"),
        ("Spread over the sides", "0"),
    ];
    filled(&one, &lower, "Make a copy").await?;
    one.until(
        "a copy",
        &strands_say(&["Bars key down 42", "Bars 2 key down 42", "Damper pedal up 1"]),
    )
    .await?;
    one.click("button", "Share out…").await?;
    one.pick("What", "a controller").await?;
    filled(&one, &[("Each fades over", "127")], "Share out among 2").await?;
    one.until(
        "a slider for the controller",
        "return document.querySelector('[aria-label=\"Where mod wheel (1) stands\"]') !== null",
    )
    .await?;
    let on = |key, velocity| EventKind::NoteOn { key, velocity };
    let wheel = |value| EventKind::Controller { controller: 1, value };
    // Crossed over while it sounds: the other began with the key, unheard.
    let score = [
        (0, on(72, 100)),
        (100, wheel(64)),
        (200, wheel(127)),
        (380, EventKind::NoteOff { key: 72 }),
    ];
    let heard = same_samples(&ladder, &one, 2, &score, 400).await?;
    let pitch = |from: usize, to: usize| {
        let side = &heard.0[from..to];
        signal::find_pitch(side, 48_000, 0, side.len()).map(|found| found.key)
    };
    assert_eq!(pitch(2_400, 12_000), Some(72), "the first alone");
    assert_eq!(pitch(27_500, 37_000), Some(60), "the other alone");

    // By itself, too: a slow movement that both get goes from the one to the other, a quarter of a round in a second.
    one.click("button", "Share out…").await?;
    one.pick("What", "a slow movement").await?;
    filled(&one, &[("Each fades over", "127")], "Share out among 2").await?;
    for browser in [&one, &other] {
        browser
            .until(
                "what it is heard by",
                "return [...document.querySelectorAll('[role=combobox]')].some((it) => it.innerText.includes('slow movement 1'))",
            )
            .await?;
    }
    let swayed = same_samples(&ladder, &one, 2, &[(0, on(72, 100))], 420).await?;
    let side = &swayed.0[44_800..51_200];
    let found = signal::find_pitch(side, 48_000, 0, side.len()).map(|found| found.key);
    assert_eq!(found, Some(60), "the other, by itself");

    // A number typed in the table goes to all that are chosen: every region of a layer, seen on the other page.
    one.click("[role=tab]", "Table").await?;
    one.driver
        .query(By::Css("[aria-label='Only regions with']"))
        .first()
        .await?
        .send_keys("loud")
        .await?;
    one.until(
        "fourteen",
        "return document.querySelector('[data-part=table]').innerText.includes('14 of 42')",
    )
    .await?;
    let cell = one.driver.query(By::Css("[data-at='0/4']")).first().await?;
    cell.click().await?;
    one.driver
        .action_chain()
        .key_down(Key::Control)
        .send_keys("a")
        .key_up(Key::Control)
        .send_keys("-4.5")
        .send_keys(Key::Enter)
        .perform()
        .await?;
    other.click("[role=tab]", "Table").await?;
    other
        .until(
            "a level on each of them",
            "const rows = [...document.querySelectorAll('[data-part=table] [role=row][data-row]')].filter((row) => row.innerText.includes('loud'));
            return rows.length > 3 && rows.every((row) => row.innerText.includes('−4.5 dB'))",
        )
        .await?;
    let view = ladder.get("/api/instruments/2")?;
    let set = view["regions"].as_array().context("regions")?;
    let by_hand = set
        .iter()
        .filter(|region| region["by_hand"].to_string().contains("region_gain_db"));
    assert_eq!(by_hand.count(), 14);
    assert!(view["undo"].as_str().context("undo")?.contains("14 regions"));
    one.picture("table").await?;

    // The bars are damped by a pedal that comes up: a strand of its own, which cuts them off.
    one.click("[role=tab]", "Strand").await?;
    one.click("[data-strand='Bars 2'] label", "").await?;
    one.pick("Heard by", "always").await?;
    one.pick("Sounds on", "pedal up").await?;
    one.until(
        "on the pedal",
        &strands_say(&["Bars key down", "Bars 2 pedal up", "Damper pedal up"]),
    )
    .await?;
    one.click("[data-strand='Bars'] label", "").await?;
    one.pick("Heard by", "always").await?;
    one.pick("Cut off by", "Bars 2").await?;
    one.fill("Fading within", "40").await?;
    ladder
        .wait_for("/api/instruments/2", |view| {
            let strand = &view["program"]["strands"][0]["cut"];
            strand["fade_ms"] == 40 && !strand["by"].is_null()
        })
        .await?;

    // Both pages undo: the newest first, whoever did it.
    undone(one, other, 9, &["Bars key down 42 0.0 dB", "Damper pedal up 1"]).await
}

/// Bars in two layers that cross, one of their round robins at random; a copy an octave lower that a wheel brings in; a third that a key chooses; a
/// damper by the pedal; and every key and pedal that is there.
#[tokio::test(flavor = "multi_thread")]
async fn one_score_that_uses_everything_is_the_same_here_and_there() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (browser, instrument) = (Browser::open().await?, 2);
    browser.driver.goto(&ladder.address).await?;
    let (bars, lower, chosen) = (
        json!({"strand": 0}),
        json!({"strand": 9_001}),
        json!({"strand": 9_002}),
    );
    let said = |target: &Value, fact: &str, value: Value| json!({ "target": target, "fact": fact, "after": { "value": value } });
    let wheel = |low: u8, high: u8| json!({ "controller": 1, "low": low, "high": high, "fade": 100 });
    let wishes = json!([
        said(&json!("instrument"), "strike_crossfade", json!(30)),
        said(&bars, "strand_controller", wheel(0, 120)),
        said(&lower, "strand_copy_of", json!(0)),
        said(&lower, "strand_transpose_keys", json!(-12)),
        said(&lower, "strand_pan", json!(-0.5)),
        said(&lower, "strand_controller", wheel(7, 127)),
        said(&lower, "strand_keys_fade", json!(12)),
        said(&lower, "strand_low_key", json!(60)),
        said(&lower, "strand_takes_turns", json!(true)),
        said(&chosen, "strand_copy_of", json!(0)),
        said(&chosen, "strand_tune_cents", json!(702)),
        said(&chosen, "strand_by_key", json!({ "key": 20, "held": true })),
        said(&chosen, "strand_takes_turns", json!(true)),
    ]);
    ladder.post(
        &format!("/api/instruments/{instrument}/changes"),
        &json!({ "label": "everything", "wishes": wishes }),
    )?;
    let on = |key, velocity| EventKind::NoteOn { key, velocity };
    let off = |key| EventKind::NoteOff { key };
    let moved = |controller, value| EventKind::Controller { controller, value };
    let score = [
        (0, moved(1, 40)),
        (0, on(72, 60)),
        (20, on(60, 110)),
        (30, moved(66, 127)),
        (40, off(72)),
        (41, moved(1, 80)),
        (60, moved(67, 127)),
        (61, on(79, 100)),
        (90, moved(67, 0)),
        (100, on(20, 1)),
        (101, on(64, 90)),
        (110, EventKind::Bend { value: 16_383 }),
        (130, off(20)),
        (131, on(64, 90)),
        (150, moved(64, 127)),
        (151, off(64)),
        (152, on(67, 127)),
        (153, off(67)),
        (200, moved(66, 0)),
        (240, EventKind::Bend { value: 3_000 }),
        (260, moved(64, 0)),
        (270, moved(121, 0)),
        (300, on(55, 20)),
        (360, moved(123, 0)),
        (380, on(84, 127)),
        (430, moved(120, 0)),
    ];
    let heard = same_samples(&ladder, &browser, instrument, &score, 450).await?;
    let (rings, _) = level(&heard, 20_000, 33_000);
    let (over, _) = level(&heard, 57_400, 57_600);
    assert!(rings > -40.0 && over < -80.0, "{rings} {over}");
    browser.close().await
}

/// Two ranks whose layers cross, felt that falls as a key comes up, a number of all regions at once, and all of them cut in two.
#[tokio::test(flavor = "multi_thread")]
async fn layers_cross_felt_falls_and_regions_are_set_and_cut_together() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (one, other) = two_on_map(&ladder, 1).await?;
    // All layers cross over forty strikes, but those of the back rank.
    one.click("[role=tab]", "By rule").await?;
    one.fill("Layers cross over", "40").await?;
    let path = "/api/instruments/1";
    let fades = |view: &serde_json::Value| -> Vec<bool> {
        let regions = view["program"]["regions"]
            .as_array()
            .map_or(&[][..], Vec::as_slice);
        regions
            .iter()
            .map(|region| !region["when"]["strikes"]["fade_in"].is_null())
            .collect()
    };
    ladder
        .wait_for(path, |view| {
            fades(view).iter().filter(|fades| **fades).count() == 26
        })
        .await?;
    let last = "document.querySelectorAll('[data-part=thresholds]')[1].querySelectorAll('label')[1]";
    let field = one.script(&format!("return {last}.getAttribute('for')")).await?;
    let field = one
        .driver
        .query(By::Id(field.as_str().context("a field")?))
        .first()
        .await?;
    field.send_keys(Key::Control + "a").await?;
    field.send_keys("0" + Key::Enter).await?;
    ladder
        .wait_for(path, |view| {
            fades(view).iter().filter(|fades| **fades).count() == 13
        })
        .await?;
    // In the middle of the crossing both layers of the front rank sound, of the back rank one; and felt as the key comes up.
    let score = [
        (
            0,
            EventKind::NoteOn {
                key: 60,
                velocity: 80,
            },
        ),
        (100, EventKind::NoteOff { key: 60 }),
    ];
    same_samples(&ladder, &one, 1, &score, 200).await?;
    // The most voices at once that the worklet's meter told: felt is short.
    one.hears_midi().await?;
    one.script("window.most = 0").await?;
    one.click("[data-strand='Felt'] button", "alone").await?;
    let keys = one.driver.query(By::Css("[data-part=ladder]")).first().await?;
    let hands = || one.driver.action_chain();
    hands()
        .move_to_element_center(&keys)
        .click_and_hold()
        .perform()
        .await?;
    tokio::time::sleep(std::time::Duration::from_millis(300)).await;
    assert_eq!(
        one.script("return window.most").await?,
        0,
        "nothing while it is down"
    );
    hands().release().perform().await?;
    one.until("felt", "return window.most === 1").await?;
    one.click("[data-strand='Felt'] button", "alone").await?;

    // Rung by rung to either side, all at once; then cut in two at a strike.
    one.click("[data-strand='Front rank'] label", "").await?;
    one.click("[role=tab]", "Region").await?;
    one.click("button", "Choose").await?;
    one.click("[role=menuitem]", "all cells").await?;
    one.click("button", "Set 26 at once").await?;
    filled(&one, &[("By", "40 %")], "Set").await?;
    let placed = |view: &serde_json::Value| -> Vec<f64> {
        let regions = view["program"]["regions"]
            .as_array()
            .map_or(&[][..], Vec::as_slice);
        regions
            .iter()
            .filter_map(|region| region["pan"].as_f64())
            .collect()
    };
    ladder
        .wait_for(path, |view| {
            let of = placed(view);
            let count = |pan: f64| of.iter().filter(|other| (**other - pan).abs() < 1e-9).count();
            (count(-0.4), count(0.4)) == (14, 12)
        })
        .await?;
    one.click("button", "Cut in two").await?;
    filled(&one, &[("The harder begins at", "100")], "Cut the strikes").await?;
    let cut = ["Front rank key down 39", "Back rank key down 26", "Felt key up 5"];
    other
        .until("those that are struck hard, in two", &strands_say(&cut))
        .await?;
    undone(one, other, 4, &AS_RECORDED).await
}

/// A folder of sounds without notes in their names becomes a kit in one act; each sounds on its own key, to its end.
#[tokio::test(flavor = "multi_thread")]
async fn a_folder_becomes_a_kit() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let place = tempfile::tempdir()?;
    let folder = place.path().join("Workshop knocks");
    std::fs::create_dir(&folder)?;
    let names = ["anvil", "bolt", "crate", "door", "engine"];
    for (n, name) in names.iter().enumerate() {
        // A knock each: noise that dies away, of a length of its own.
        let frames = 9_600 + 2_400 * n;
        let mut state = 7 + n as u32;
        let knock = (0..frames)
            .map(|at| {
                // Numerical Recipes' generator, 32 bits.
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                let noise = (state >> 8) as f32 / (1 << 23) as f32 - 1.0;
                noise * 0.5 * (-(at as f32) / 2_400.0).exp()
            })
            .collect();
        let bytes = formats::wav_bytes(&signal::Audio::mono(48_000, knock), 24, None);
        std::fs::write(folder.join(format!("{name}.wav")), bytes)?;
    }
    let browser = Browser::open().await?;
    browser.driver.goto(&format!("{}/new", ladder.address)).await?;
    browser.click("[role=radio]", "Files").await?;
    browser.click("button", "Make it and go on to Record").await?;
    browser.drop_on("[data-part=drop]", &[&folder]).await?;
    browser.until("five files", "return document.body.innerText.includes('anvil.wav') && document.body.innerText.includes('engine.wav')").await?;
    browser.click("button", "As a kit…").await?;
    browser.click("button", "On white keys").await?;
    browser.click("button", "Take 5 files in").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            let takes = view["takes"].as_array().map_or(0, Vec::len);
            takes == 5
                && view["takes"]
                    .as_array()
                    .is_some_and(|takes| takes.iter().all(|take| !take["facts"].is_null()))
        })
        .await?;
    browser.click("nav a", "Map").await?;
    browser
        .until(
            "a key each, by their names",
            "const said = [...document.querySelectorAll('[data-region]')].map((r) => r.textContent);
            return said.length === 5 && said[0].startsWith('anvil: keys C2 to C2') && said[3].startsWith('door: keys F2 to F2')",
        )
        .await?;
    browser.picture("kit").await?;
    // Let go at once, it rings to its end.
    let score = [
        (
            0,
            EventKind::NoteOn {
                key: 36,
                velocity: 127,
            },
        ),
        (1, EventKind::NoteOff { key: 36 }),
    ];
    let heard = same_samples(&ladder, &browser, 1, &score, 100).await?;
    let (early, late) = (level(&heard, 600, 1_200).0, level(&heard, 6_000, 6_600).0);
    assert!(late > early - 30.0 && late > -70.0, "{early} {late}");
    browser.close().await?;
    ladder.end().await
}
