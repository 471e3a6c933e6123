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

    // How loud the shelf is meant to be is a setting for all: what is found follows from it. The reed in its middle is too loud.
    page.until("the whole is too loud", &listed("off_shelf", true))
        .await?;
    page.click("header button", "Settings").await?;
    page.fill("Loudness of the shelf", "-13 LUFS").await?;
    page.until("it is as loud as that", &listed("off_shelf", false))
        .await?;
    page.fill("Loudness of the shelf", "-23 LUFS").await?;
    page.until("it is too loud again", &listed("off_shelf", true))
        .await?;
    page.click("button", "Close").await?;
    page.click("[data-kind=off_shelf] button", "Level it with the shelf")
        .await?;
    page.until(
        "all of it was heard again, and is as loud as the shelf",
        "return !document.querySelector('[data-kind=off_shelf]') && document.querySelector('[data-part=listened]')?.textContent.startsWith('every key was')",
    )
    .await?;
    page.click("header button", "Undo").await?;
    page.until("it is too loud as before", &listed("off_shelf", true))
        .await?;

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

/// Space goes, what stands out stops it, Enter marks: a mark is a finding until it is taken away. The report has it all on one page, the shelf's card how
/// much there is to look at, and a limit of all instruments holds in the next one.
#[tokio::test(flavor = "multi_thread")]
async fn a_walk_stops_at_what_stands_out_and_its_marks_are_findings() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let takes = takes(&ladder.get(ORGAN)?);
    let (loud, key) = takes[3];
    say(&ladder, loud, "gain_db", &json!(9.0))?;
    let page = Browser::open().await?;
    page.driver
        .goto(format!("{}/instruments/1/check", ladder.address))
        .await?;
    page.named("[data-part=listened]", "every key was played soft and hard")
        .await?;
    page.until("the loud key is found", &listed("key_level_steps", true))
        .await?;

    page.click("[role=tab]", "Walk").await?;
    page.pick("Pace", "quick").await?;
    page.driver.action_chain().send_keys(" ").perform().await?;
    page.until(
        "it is heard",
        "return Number(document.querySelector('[data-part=meter]').dataset.voices) > 0",
    )
    .await?;
    page.until(
        "it stops by itself",
        "return document.querySelector('[data-part=\"stands out\"]')?.textContent.includes('Level steps along the keys') === true",
    )
    .await?;
    page.named("[data-part=walk] button", "Go on").await?;
    let walked = "return document.querySelector('[data-part=walked]').textContent";
    let stopped = page.script(walked).await?;
    let found = ladder.get(&format!("{ORGAN}/findings"))?;
    let steps = found["findings"].as_array().cloned().unwrap_or_default();
    let here = steps
        .iter()
        .find(|one| one["kind"] == "key_level_steps")
        .expect("a step");
    assert!(
        here["keys"][0].as_u64().is_some_and(|at| at.abs_diff(key) <= 6),
        "{here}"
    );
    page.picture("walk").await?;
    // By hand, and without effects: the next key, and the one before.
    page.driver.action_chain().send_keys("\u{e014}").perform().await?;
    page.until("one key on", &format!("{walked} !== {stopped}"))
        .await?;
    page.click("[data-part=walk] label", "Without effects").await?;
    page.driver.action_chain().send_keys("\u{e012}").perform().await?;
    page.until("and back", &format!("{walked} === {stopped}")).await?;
    page.driver.action_chain().send_keys("\u{e007}").perform().await?;
    page.until(
        "the mark stands out here",
        "return document.querySelector('[data-part=\"stands out\"]').textContent.includes('Marked by ear')",
    )
    .await?;
    page.click("[role=tab]", "Findings").await?;
    page.click("[data-kind=marked] button", "Take the mark away")
        .await?;
    page.until("it is away", &listed("marked", false)).await?;
    page.named("[data-part=gone] summary", "1 finding of the last look no more")
        .await?;
    page.click("header button", "Undo").await?;
    page.until("it is back", &listed("marked", true)).await?;

    // Of all instruments: the chimes are found wanting by it, too.
    page.click("button", "Limits").await?;
    page.click("[role=radio]", "Of all instruments").await?;
    page.fill("Note hangs", "9000 ms").await?;
    page.until(
        "it is kept",
        "return [...document.querySelectorAll('li')].some((one) => one.title.startsWith('Ten seconds') && one.querySelector('input').value.startsWith('9'))",
    )
    .await?;
    let of_chimes = ladder.get("/api/instruments/2/findings")?;
    let limits = of_chimes["limits"].as_array().cloned().unwrap_or_default();
    let hangs = limits
        .iter()
        .find(|limit| limit["kind"] == "hangs")
        .expect("the limit");
    assert_eq!(
        (&hangs["limit"], &hangs["by_itself"]),
        (&json!(9_000.0), &json!(10_000.0))
    );

    page.driver
        .goto(format!("{}/api/instruments/1/report", ladder.address))
        .await?;
    page.named("td", "Level steps along the keys").await?;
    page.named("td", "Marked by ear.").await?;
    assert_eq!(
        page.script("return document.querySelectorAll('svg').length")
            .await?,
        3
    );
    page.picture("report").await?;
    page.driver.goto(&ladder.address).await?;
    page.until(
        "the card tells",
        "return [...document.querySelectorAll('li')].some((one) => /\\d+ (wrong|to look at)/.test(one.textContent))",
    )
    .await?;
    page.close().await?;
    ladder.end().await
}
