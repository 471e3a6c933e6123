//! Brightness, pitch and what they follow: made from nothing on the page by choosing, typing, dragging and by keyboard, heard, and undone from another page.

use e2e::{Browser, Ladder, Played, same_samples};
use engine::EventKind;
use formats::Format;
use thirtyfour::prelude::*;

/// How bright some blocks are: the power of what changes from frame to frame over all of it, in dB.
fn brightness(heard: &(Vec<f32>, Vec<f32>), blocks: std::ops::Range<usize>) -> f64 {
    let of = &heard.0[blocks.start * 128..blocks.end * 128];
    let power = |values: &mut dyn Iterator<Item = f64>| values.map(|x| x * x).sum::<f64>();
    let changes = power(&mut of.windows(2).map(|w| f64::from(w[1]) - f64::from(w[0])));
    10.0 * (changes / power(&mut of.iter().map(|x| f64::from(*x)))).log10()
}

fn rms_db(heard: &(Vec<f32>, Vec<f32>), blocks: std::ops::Range<usize>) -> f64 {
    let of = &heard.0[blocks.start * 128..blocks.end * 128];
    10.0 * (of.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>() / of.len() as f64).log10()
}

/// Whether a field shows a text.
fn shows(label: &str, text: &str) -> String {
    format!(
        "const label = [...document.querySelectorAll('label')].find((it) => it.textContent.startsWith('{label}'));
        return label !== undefined && document.getElementById(label.htmlFor).value === '{text}'"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn brightness_and_pitch_follow_hands_time_and_movements() -> anyhow::Result<()> {
    let ladder = Ladder::start_plain_demo().await?;
    let (one, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&one, &other] {
        let address = format!("{}/instruments/1/shape", ladder.address);
        browser.driver.goto(&address).await?;
        browser.named("h2", "Shape").await?;
        // As the demo has it, the rank swells.
        browser.until("expression", &shows("level by", "24.0 dB")).await?;
    }
    let on = EventKind::NoteOn {
        key: 60,
        velocity: 100,
    };
    let controller = |controller, value| EventKind::Controller { controller, value };
    let score = [
        (0, EventKind::Pressure { value: 127 }),
        (0, on),
        (400, controller(1, 127)),
        (700, controller(11, 0)),
    ];
    let before = same_samples(&ladder, &one, 1, &score, 900).await?;
    let swells = rms_db(&before, 600..700) - rms_db(&before, 800..900);
    assert!((swells - 24.0).abs() < 3.0, "{swells}");

    // A filter, its cutoff typed and its resonance raised by arrow keys; the wheel opens it by three octaves.
    one.pick("Filter", "low-pass, 2 poles").await?;
    one.fill("Cutoff", "400 Hz").await?;
    let resonance = one.field("Resonance").await?;
    resonance.send_keys(Key::Up + Key::Up).await?;
    one.click("button", "+ cutoff follows something").await?;
    one.pick("What cutoff follows", "mod wheel (1)").await?;
    one.fill("cutoff by", "3 oct").await?;
    for (label, text) in [
        ("Cutoff", "400 Hz"),
        ("Resonance", "2.0 dB"),
        ("cutoff by", "+3 oct"),
    ] {
        other.until(label, &shows(label, text)).await?;
    }
    let after = same_samples(&ladder, &one, 1, &score, 900).await?;
    let dull = brightness(&before, 200..400) - brightness(&after, 200..400);
    let opened = brightness(&after, 500..700) - brightness(&after, 200..400);
    assert!(dull > 3.0 && opened > 3.0, "{dull} {opened}");

    // A course over time, dragged: it opens and closes by itself.
    one.click("button", "+ cutoff over time").await?;
    let handle = "[data-part=brightness] [data-handle=attack]";
    let handle = one.driver.query(By::Css(handle)).first().await?;
    let chain = one.driver.action_chain();
    chain
        .move_to_element_center(&handle)
        .click_and_hold()
        .move_by_offset(40, 0)
        .move_by_offset(40, 0)
        .release()
        .perform()
        .await?;
    other
        .until(
            "a slow attack",
            "const labels = [...document.querySelectorAll('[data-part=brightness] label')];
            const attack = labels.find((it) => it.textContent === 'Attack');
            if (!attack) return false;
            const [value, unit] = document.getElementById(attack.htmlFor).value.split(' ');
            return unit === 's' || Number(value) > 200",
        )
        .await?;

    // A slow movement sways the pitch.
    one.click("button", "+ a slow movement").await?;
    one.fill("Rate", "6").await?;
    one.click("button", "+ pitch follows something").await?;
    one.pick("What pitch follows", "slow movement 1").await?;
    one.fill("pitch by", "50").await?;
    other.until("it sways", &shows("pitch by", "50.00 ct")).await?;
    other.until("its rate", &shows("Rate", "6 Hz")).await?;
    let swaying = same_samples(&ladder, &one, 1, &score, 900).await?;
    assert!(swaying.0 != after.0);

    // By chance: a held key drifts, each of them on a way of its own.
    one.fill("Drift ±", "12").await?;
    other.until("it drifts", &shows("Drift ±", "12.00 ct")).await?;
    let drifting = same_samples(&ladder, &one, 1, &score, 900).await?;
    assert!(drifting.0 != swaying.0);

    // One tone at a time, which glides: the second key of two takes the first one's place.
    one.pick("Tones", "one at a time").await?;
    one.fill("Glides within", "0.4 s").await?;
    other.until("a glide", &shows("Glides within", "400 ms")).await?;
    let legato = [
        (0, on),
        (
            300,
            EventKind::NoteOn {
                key: 67,
                velocity: 100,
            },
        ),
        (600, EventKind::NoteOff { key: 67 }),
    ];
    let gliding = same_samples(&ladder, &one, 1, &legato, 900).await?;

    // What is written loses the fading in of nothing: the sentence is there for the movement's form.
    one.click("a", "Export").await?;
    one.pick("Format", "SoundFont 2").await?;
    one.until(
        "what is lost",
        "return document.body.innerText.includes('slow movements are triangles')",
    )
    .await?;

    // And heard, by a box or by a key: without the drift and the glide, and again with them.
    one.click("label", "Keys play it so").await?;
    one.named("[data-part=heard-as]", "keys play SoundFont").await?;
    let soundfont = Played {
        instrument: 1,
        format: Some(Format::SoundFont2),
    };
    let held = same_samples(&ladder, &one, soundfont, &legato, 900).await?;
    assert!(held.0 != gliding.0);
    for next in ["keys play the whole", "keys play SFZ"] {
        one.driver
            .query(By::Tag("body"))
            .first()
            .await?
            .send_keys("f")
            .await?;
        one.named("[data-part=heard-as]", next).await?;
    }
    one.click("a", "Shape").await?;
    one.named("h2", "Shape").await?;
    one.click("[data-part=heard-as]", "keys play SFZ").await?;
    one.click("[data-part=heard-as]", "keys play SoundFont").await?;

    // A hand on the screen.
    one.click("button", "Hands").await?;
    let wheel = one
        .driver
        .query(By::Css("input[aria-label='Hand: mod wheel (1)']"))
        .first()
        .await?;
    wheel.send_keys(Key::End + "").await?;
    assert_eq!(wheel.prop("value").await?.as_deref(), Some("127"));
    one.click("button", "Close").await?;

    // The whole of it, kept under a name and used on another strand, on another page.
    one.click("button", "Kept shapes").await?;
    one.click("[role=menuitem]", "Keep this one").await?;
    one.write("Name", "Swaying").await?;
    other.click("button", "Back rank").await?;
    other
        .until(
            "its own shape",
            "return document.querySelector('[data-part=brightness]').innerText.includes('no filter')",
        )
        .await?;
    other.click("button", "Kept shapes").await?;
    other.click("[role=menuitem]", "Use «Swaying»").await?;
    one.click("button", "Back rank").await?;
    for (label, text) in [
        ("Cutoff", "400 Hz"),
        ("pitch by", "50.00 ct"),
        ("Drift ±", "12.00 ct"),
    ] {
        for browser in [&one, &other] {
            browser.until(label, &shows(label, text)).await?;
        }
    }
    same_samples(&ladder, &one, 1, &score, 900).await?;

    // What an earlier Ladder kept in a browser is brought over as its page opens, and kept for all.
    one.script(
        "localStorage.setItem('ladder-shapes', JSON.stringify({ state: { kept: [{ name: 'From before', loudness: {}, filter: null, course: [], movement: [], route: [] }] } })); location.reload();",
    )
    .await?;
    one.until(
        "that it was brought over",
        "return localStorage.getItem('ladder-shapes') === null && document.querySelector('[data-part=loudness]') !== null",
    )
    .await?;
    other.click("button", "Kept shapes").await?;
    other.named("[role=menuitem]", "Use «From before»").await?;
    other.named("[role=menuitem]", "Use «Swaying»").await?;
    other
        .driver
        .query(By::Css("[role=menu]"))
        .first()
        .await?
        .send_keys(Key::Escape + "")
        .await?;
    one.click("button", "Back rank").await?;

    // A course by itself is kept, too, and given to a third strand from the other page.
    one.fill("Attack", "77 ms").await?;
    other.until("another attack", &shows("Attack", "77 ms")).await?;
    one.click("[data-part=loudness] button", "Kept courses").await?;
    one.click("[role=menuitem]", "Keep this one").await?;
    one.write("Name", "Soft start").await?;
    other.click("button", "Felt").await?;
    other.until("its own attack", "const label = [...document.querySelectorAll('label')].find((it) => it.textContent.startsWith('Attack')); return document.getElementById(label.htmlFor).value !== '77 ms'").await?;
    other.click("[data-part=loudness] button", "Kept courses").await?;
    other.click("[role=menuitem]", "Use «Soft start»").await?;
    other.until("the kept attack", &shows("Attack", "77 ms")).await?;
    other.click("button", "Back rank").await?;

    // All of it undone from the other page.
    for _ in 0..20 {
        other.click("button", "Undo").await?;
    }
    for browser in [&one, &other] {
        browser
            .until(
                "no filter",
                "return document.querySelector('[data-part=brightness]').innerText.includes('no filter')",
            )
            .await?;
        browser
            .until(
                "no movement",
                "return document.querySelector('[aria-label=\"slow movement 1\"]') === null",
            )
            .await?;
    }
    let undone = same_samples(&ladder, &one, 1, &score, 900).await?;
    assert!(undone.0 == before.0 && undone.1 == before.1);
    one.close().await?;
    other.close().await
}
