//! What an earlier version of Ladder measured stays until it is measured again; what failed is tried again: on the page.

use e2e::{Browser, Ladder};

/// A field's digits.
fn digits(label: &str) -> String {
    format!(
        "(() => {{ const l = [...document.querySelectorAll('label')].find((x) => x.textContent === '{label}'); return l && document.getElementById(l.htmlFor).value.replace(/\\D/g, ''); }})()"
    )
}

async fn with_the_demo() -> anyhow::Result<Ladder> {
    let ladder = Ladder::start_measured_demo().await?;
    Ok(ladder)
}

#[tokio::test(flavor = "multi_thread")]
async fn takes_of_an_earlier_version_are_measured_again_by_one_act_and_one_undo() -> anyhow::Result<()> {
    let ladder = with_the_demo().await?;
    // As if an earlier version had measured the organ, and had suggested another start.
    for statement in [
        "UPDATE measurements JOIN takes ON takes.id = take_id SET version = 5 WHERE instrument_id = 1",
        "UPDATE suggestions JOIN takes ON takes.id = take_id SET version = 5, suggestion = JSON_SET(suggestion, '$.start_frame', 4000) WHERE instrument_id = 1",
    ] {
        ladder.ask(statement)?;
    }
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/trim", ladder.address))
        .await?;
    let start = digits("Start");
    let starts_at_4000 = format!("return {start} === '4000'");
    let starts_elsewhere = format!("return /\\d/.test({start} ?? '') && {start} !== '4000'");
    page.until("what was suggested then", &starts_at_4000).await?;
    page.named("[data-part=outdated]", "57 measured by an earlier Ladder")
        .await?;
    page.click("button", "Measure the 1 chosen again").await?;
    page.named("[data-part=outdated]", "56 measured by an earlier Ladder")
        .await?;
    page.until("what is suggested now", &starts_elsewhere).await?;
    page.click("button", "Choose").await?;
    page.click("[role=menuitem]", "all cells").await?;
    page.click("button", "Measure the 25 chosen again").await?;
    // Those of the other passes are left.
    page.named("[data-part=outdated]", "31 measured by an earlier Ladder")
        .await?;
    page.click("button", "Undo").await?;
    page.named("[data-part=outdated]", "56 measured by an earlier Ladder")
        .await?;
    page.click("button", "Undo").await?;
    page.named("[data-part=outdated]", "57 measured by an earlier Ladder")
        .await?;
    page.until("what was suggested then", &starts_at_4000).await?;
    page.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_failed_says_why_and_is_tried_again() -> anyhow::Result<()> {
    let ladder = with_the_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/1/loop", ladder.address))
        .await?;
    page.named("h2", "C4").await?;
    // Its recordings are gone, as where a disk is not there for a while.
    let (there, away) = (
        ladder.folder().join("audio/recordings"),
        ladder.folder().join("away"),
    );
    std::fs::rename(&there, &away)?;
    page.click("button", "Use the best").await?;
    page.named("[data-part=failed] button", "Try again").await?;
    let told = page.named("[data-part=failed]", "").await?.text().await?;
    anyhow::ensure!(
        told.trim().len() > "Try again".len(),
        "it does not say why: {told}"
    );
    std::fs::rename(&away, &there)?;
    page.click("[data-part=failed] button", "Try again").await?;
    ladder
        .wait_for("/api/instruments/1", |view| {
            view["undo"].as_str().is_some_and(|it| it.starts_with("loops"))
        })
        .await?;
    page.until(
        "nothing that failed",
        "return !document.querySelector('[data-part=failed]')",
    )
    .await?;
    page.close().await?;
    ladder.end().await
}
