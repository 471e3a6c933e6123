//! What is wrong with an instrument is listed worst first, walked through with one key, mended, accepted with a reason, undone; the rail tells how much is left.

use e2e::{Browser, Ladder};
use serde_json::{Value, json};

const ORGAN: &str = "/api/instruments/1";

/// The chosen takes of its first pass, up the keys: number and key.
fn takes(view: &Value) -> Vec<(u64, u64)> {
    let all = view["takes"].as_array().cloned().unwrap_or_default();
    let pass = &view["plan"]["passes"][0];
    let layer = &pass["layers"][1]["id"];
    let mut of_pass: Vec<(u64, u64)> = all
        .iter()
        .filter(|take| take["chosen"] == true)
        .filter(|take| take["cell"]["pass"] == pass["id"] && take["cell"]["layer"] == *layer)
        .filter_map(|take| Some((take["id"].as_u64()?, take["cell"]["key"].as_u64()?)))
        .collect();
    of_pass.sort_by_key(|(_, key)| *key);
    of_pass
}

fn treatment(view: &Value, id: u64) -> &Value {
    let all = view["takes"].as_array().expect("takes");
    let take = all.iter().find(|take| take["id"] == id).expect("the take");
    &take["treatment"]
}

/// Says something of a take, as another page would.
fn say(ladder: &Ladder, take: u64, fact: &str, value: &Value) -> anyhow::Result<()> {
    ladder.post(
        &format!("{ORGAN}/changes"),
        &json!({
            "label": "a flaw",
            "wishes": [{ "target": { "take": take }, "fact": fact, "after": { "value": value } }],
        }),
    )?;
    Ok(())
}

/// Whether a finding of a kind stands in the list.
fn listed(kind: &str, is: bool) -> String {
    format!("return (document.querySelector('[data-part=finding][data-kind={kind}]') !== null) === {is}")
}

/// Whether something says that anywhere.
fn says(selector: &str, text: &str) -> String {
    format!("return document.querySelector('{selector}')?.textContent.includes('{text}') === true")
}

#[tokio::test(flavor = "multi_thread")]
async fn flaws_are_found_walked_through_mended_accepted_and_undone() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let before = ladder.get(ORGAN)?;
    let takes = takes(&before);
    let (octave, loud, late) = (takes[3].0, takes[6].0, takes[8].0);
    let root = treatment(&before, octave)["root_key"].as_u64().expect("a root");
    let start = treatment(&before, late)["start_frame"].as_u64().expect("a start");
    say(&ladder, octave, "root_key", &json!(root + 12))?;
    say(&ladder, loud, "gain_db", &json!(8.0))?;
    say(&ladder, late, "start_frame", &json!(start.saturating_sub(1_500)))?;

    let page = Browser::open().await?;
    page.driver
        .goto(format!("{}/instruments/1/check", ladder.address))
        .await?;
    page.named("h2", "Check").await?;
    // Without being asked every key is played, and every take listened to.
    page.named("[data-part=listened]", "every key was played soft and hard")
        .await?;
    for kind in ["wrong_octave", "level_step", "silence_first"] {
        page.until(kind, &listed(kind, true)).await?;
    }
    let first = "return document.querySelector('[data-part=finding]').dataset.kind";
    assert_eq!(
        page.script(first).await?,
        "wrong_octave",
        "the worst stands first"
    );
    page.until(
        "what Tune has left",
        &says("nav[aria-label=Steps]", "tune1 left to look at"),
    )
    .await?;
    page.picture("check").await?;

    // W goes from the worst to the next, and the board with it.
    page.driver.action_chain().send_keys("w").perform().await?;
    page.named("[data-part='chosen finding'] h3", "Wrong octave")
        .await?;
    page.named("[data-part='chosen finding'] p", "Its root says")
        .await?;
    let focus = "return document.querySelector('[data-cell][tabindex=\"0\"]').textContent";
    let of_octave = page.script(focus).await?;
    page.driver.action_chain().send_keys("w").perform().await?;
    page.until(
        "the next",
        "return !document.querySelector('[data-part=\"chosen finding\"] h3').textContent.startsWith('Wrong octave')",
    )
    .await?;
    assert_ne!(page.script(focus).await?, of_octave);

    // What mends it says before what it changes; it is one act, and one undo.
    page.click("[data-kind=wrong_octave] button", "Take what is heard")
        .await?;
    page.until("it is mended", &listed("wrong_octave", false)).await?;
    assert_eq!(treatment(&ladder.get(ORGAN)?, octave)["root_key"], root);
    page.click("header button", "Undo").await?;
    page.until("it is back", &listed("wrong_octave", true)).await?;
    page.click("[data-kind=wrong_octave] button", "Take what is heard")
        .await?;
    page.until("it is mended again", &listed("wrong_octave", false))
        .await?;

    // Accepting wants a reason, and holds until what was found changes.
    page.click("[data-kind=level_step] button", "Accept").await?;
    page.write_under("Why it is right as it is", "this reed is loud")
        .await?;
    page.until(
        "it is accepted",
        &says("[data-kind=level_step]", "Accepted: this reed is loud"),
    )
    .await?;
    page.until("that is counted", &says("[data-part=totals]", "1accepted"))
        .await?;
    say(&ladder, loud, "gain_db", &json!(10.5))?;
    page.named("[data-kind=level_step] button", "Even it").await?;
    page.click("[data-kind=level_step] button", "Even it").await?;
    page.until("it is even", &listed("level_step", false)).await?;

    // From another step W goes on from what was looked at last, through the steps.
    page.click("nav a", "Trim").await?;
    page.until(
        "Trim has something left",
        &says("nav[aria-label=Steps]", "trim1 left to look at"),
    )
    .await?;
    page.driver.action_chain().send_keys("w").perform().await?;
    page.named("[data-part=toast]", "Stretched far").await?;
    page.until("Map", "return location.pathname.endsWith('/map')")
        .await?;
    page.click("nav a", "Check").await?;
    page.click("[data-kind=silence_first] button", "Begin at the sound")
        .await?;
    page.until("it begins at the sound", &listed("silence_first", false))
        .await?;

    // A limit is a setting of this instrument.
    page.click("button", "Limits").await?;
    page.fill("No headroom", "0.2 dB").await?;
    page.until("found from there on", &listed("no_headroom", true))
        .await?;
    page.close().await?;
    ladder.end().await
}
