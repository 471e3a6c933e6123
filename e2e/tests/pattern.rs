//! An instrument is kept as a pattern, laid under other recordings with what fits nothing listed, undone, and begun with.

use e2e::{Browser, Ladder};
use serde_json::Value;

const CHIMES: u64 = 2;

fn controls(view: &Value) -> Vec<String> {
    let all = view["program"]["controls"]
        .as_array()
        .cloned()
        .unwrap_or_default();
    all.iter()
        .map(|control| control["name"].as_str().unwrap_or_default().to_owned())
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pattern_is_kept_laid_under_other_recordings_undone_and_begun_with() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    let open = async |instrument: u64| {
        let address = format!("{}/instruments/{instrument}/plan", ladder.address);
        page.driver.goto(address).await?;
        page.named("h2", "Pattern").await
    };
    open(1).await?;
    page.write_under("Name of the pattern", "Two ranks").await?;
    page.click("button", "Keep as a pattern").await?;
    page.named("div.field-label", "Lay a pattern under these recordings")
        .await?;
    let organ = controls(&ladder.get("/api/instruments/1")?);
    assert!(organ.contains(&"Balance".to_owned()));

    // Under the chimes: they have one strand that keys strike, and no felt.
    open(CHIMES).await?;
    let path = format!("/api/instruments/{CHIMES}");
    let before = ladder.get(&path)?;
    page.pick("Lay a pattern under these recordings", "Two ranks")
        .await?;
    page.named(
        "[data-part=laying] li",
        "“Back rank” has no strand here to go with.",
    )
    .await?;
    page.named("[data-part=laying] li", "“Felt” has no strand here to go with.")
        .await?;
    page.named("[data-part=laying] p", "Nothing is laid under Damper")
        .await?;
    // Without its panel less would change, and the chimes keep theirs.
    page.click("[data-part=laying] label", "Panel").await?;
    page.until(
        "less would change",
        "const it = document.querySelector('[data-part=laying]').innerText.match(/([0-9]+) settings? would change/); return it !== null && Number(it[1]) < 60",
    )
    .await?;
    page.click("[data-part=laying] label", "Panel").await?;
    page.until(
        "more would change",
        "const it = document.querySelector('[data-part=laying]').innerText.match(/([0-9]+) settings? would change/); return it !== null && Number(it[1]) > 60",
    )
    .await?;
    page.click("[data-part=laying] button", "Lay it under").await?;
    page.named("[data-part=laying] p", "Nothing would change.")
        .await?;
    let laid = ladder.get(&path)?;
    assert_eq!(controls(&laid), organ);
    // Its recordings and its name are its own.
    assert_eq!(
        (&laid["name"], &laid["takes"]),
        (&before["name"], &before["takes"])
    );
    page.click("nav a", "Panel").await?;
    page.until(
        "the organ's panel",
        "return document.querySelector('[data-name=\"Balance\"]') !== null",
    )
    .await?;
    page.click("button", "Undo").await?;
    ladder
        .wait_for(&path, |view| {
            view["program"] == before["program"] && view["panel"] == before["panel"]
        })
        .await?;

    // What begins with it is played as the organ is, once it is recorded.
    page.driver.goto(format!("{}/new", ladder.address)).await?;
    page.named("h1", "New instrument").await?;
    page.pick("Begin with a pattern", "Two ranks").await?;
    page.write_under("Name", "A second organ").await?;
    page.click("button", "Make it and go on to Record").await?;
    page.click("nav a", "Panel").await?;
    page.named("[data-name='Balance'] p", "Front rank out, Back rank in")
        .await?;

    // It is forgotten, and what it was laid under stays.
    open(1).await?;
    page.pick("Lay a pattern under these recordings", "Two ranks")
        .await?;
    page.named("[data-part=laying] p", "Nothing would change.")
        .await?;
    page.click("button", "Forget it").await?;
    page.until(
        "it is gone",
        "return !document.body.innerText.includes('Lay a pattern under these recordings')",
    )
    .await?;
    page.close().await?;
    ladder.end().await
}
