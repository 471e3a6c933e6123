//! An instrument is laid beside its source: the same is played on both, what brings them nearer is taken with one act and undone with one, and both are heard in the same
//! place.

use e2e::{Browser, Ladder};

const FERRY: &str = "/api/instruments/3";
/// Bars of the issue "Check", on notes and chords that a match was not found by.
const SPECTRUM_DB: f64 = 1.5;
const LEVEL_DB: f64 = 0.5;

/// What stands in a row of the table of what both are apart: now, and matched.
async fn row(page: &Browser, what: &str) -> anyhow::Result<[Option<f64>; 2]> {
    let code = format!(
        "const row = [...document.querySelectorAll('[data-part=match] tr')].find((row) => row.textContent.startsWith('{what}')); \
         return [...row.querySelectorAll('td')].slice(1).map((cell) => parseFloat(cell.textContent));"
    );
    let cells = page.script(&code).await?;
    Ok([cells[0].as_f64(), cells[1].as_f64()])
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ferry_with_its_chorus_is_matched_heard_and_undone() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.taps_output().await?;
    page.driver
        .goto(format!("{}/instruments/3/check", ladder.address))
        .await?;
    page.click("[role=tab]", "Beside the source").await?;
    // Its notes were recorded without the chorus that it is played with now.
    page.click("button", "Set on the source").await?;
    page.click("button", "Set it first").await?;
    page.named("button", "Controller 93 at 127").await?;
    page.click("button", "Play it on the source").await?;
    // What both are apart is told before what brings them nearer was tried.
    page.named("[data-part=match] th", "apart").await?;
    page.until(
        "a chorus is proposed",
        "return [...document.querySelectorAll('[data-part=proposal]')].some((one) => one.textContent.includes('A chorus of'))",
    )
    .await?;
    let [now, matched] = row(&page, "width").await?;
    assert!(
        matched.zip(now).is_some_and(|(matched, now)| matched < now / 2.0),
        "{now:?} {matched:?}"
    );
    for (what, bar) in [("thirds of octaves", SPECTRUM_DB), ("level", LEVEL_DB)] {
        let [_, matched] = row(&page, what).await?;
        assert!(matched.is_some_and(|db| db <= bar), "{what}: {matched:?}");
    }
    page.picture("beside").await?;

    // Both are heard in the same place, one by one key; blind, nobody is told which.
    page.click("[aria-label=Passages] button", "").await?;
    page.click("button", "Hear both").await?;
    page.until("something sounds", "return window.loudest() > 0.001")
        .await?;
    let heard =
        "return document.querySelector('[aria-label=\"What is heard\"] [aria-pressed=true]').textContent";
    assert_eq!(page.script(heard).await?, "Source");
    page.script("document.activeElement.blur()").await?;
    page.script("window.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }))")
        .await?;
    page.until("the other is heard", &format!("{heard} === 'Built'"))
        .await?;
    page.click("label", "Blind").await?;
    page.named("[aria-label='What is heard'] button", "The other")
        .await?;
    page.click("button", "Which is which?").await?;
    page.click("button", "Stop").await?;

    // All of it with one act: then both are nearer, and one undo takes it back.
    let several = page
        .script("return document.querySelectorAll('[data-part=proposal]').length > 1")
        .await?;
    let take = if several == true {
        "Take the match"
    } else {
        "Take it"
    };
    page.click("[data-part=match] button", take).await?;
    page.until(
        "both are compared anew",
        "return document.querySelector('[data-part=proposal]')?.textContent.includes('chorus') !== true && !document.querySelector('[data-part=beside] progress')",
    )
    .await?;
    let [after, _] = row(&page, "width").await?;
    assert!(
        after.zip(now).is_some_and(|(after, now)| after < now / 2.0),
        "{after:?}"
    );
    let effects = |view: &serde_json::Value| view["program"]["buses"].to_string();
    assert!(effects(&ladder.get(FERRY)?).contains("chorus"));
    page.click("button", "Undo").await?;
    ladder
        .wait_for(FERRY, |view| !effects(view).contains("chorus"))
        .await?;
    page.close().await?;
    Ok(())
}
