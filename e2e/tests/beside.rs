//! An instrument is laid beside its source: the same is played on both, what brings them nearer is taken with one act and undone with one, and both are heard in the same
//! place.

use e2e::{Browser, Ladder};

const FERRY: &str = "/api/instruments/3";

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
#[ignore = "it plays some hundred ways, for four minutes: `bin/test --long` runs it"]
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
    // Some hundred ways are played before.
    for share in [0.25, 0.5, 0.75] {
        let far = format!(
            "const bar = document.querySelector('[data-part=beside] progress'); \
             return document.querySelector('[data-part=proposal]') !== null || (bar !== null && bar.value > {share})"
        );
        page.until("it goes on", &far).await?;
    }
    page.until(
        "something brings both nearer",
        "return document.querySelector('[data-part=proposal]') !== null && !document.querySelector('[data-part=beside] progress')",
    )
    .await?;
    let said = page
        .script("return document.querySelector('[data-part=match]').innerText")
        .await?;
    let [now, matched] = row(&page, "thirds of octaves").await?;
    let (now, matched) = (
        now.expect("they are compared"),
        matched.expect("a match is proposed"),
    );
    assert!(matched < now, "{said}");
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

    let before = ladder.get(FERRY)?;
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
        &format!(
            "const row = [...document.querySelectorAll('[data-part=match] tr')].find((row) => row.textContent.startsWith('thirds')); \
             return parseFloat(row.querySelectorAll('td')[1].textContent) < {now}"
        ),
    )
    .await?;
    assert_ne!(ladder.get(FERRY)?["program"], before["program"]);
    page.click("button", "Undo").await?;
    ladder
        .wait_for(FERRY, |view| view["program"] == before["program"])
        .await?;
    page.close().await?;
    Ok(())
}
