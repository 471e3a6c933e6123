//! Editions: made in the browser, the same bytes for ever, compared, heard and taken back.

use anyhow::Context;
use e2e::{Browser, Ladder};
use serde_json::{Value, json};

const CHIMES: &str = "/api/instruments/2";

async fn made(ladder: &Ladder, count: usize) -> anyhow::Result<Value> {
    let path = format!("{CHIMES}/editions");
    let there = |all: &Value| all["editions"].as_array().is_some_and(|all| all.len() == count);
    ladder.wait_for(&path, there).await
}

/// The bytes of all files of an edition.
fn files(ladder: &Ladder, edition: &Value) -> anyhow::Result<Vec<Vec<u8>>> {
    let count = edition["files"].as_array().context("files")?.len();
    (0..count)
        .map(|place| ladder.bytes(&format!("/api/editions/{}/files/{place}", edition["id"])))
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_never_changes_is_compared_heard_and_taken_back() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(&format!("{}/instruments/2/export", ladder.address))
        .await?;
    page.named("h3", "Editions").await?;
    page.write_under("What is new in it", "The first").await?;
    page.click("label", "SFZ with FLAC files").await?;
    page.click("label", "Page that plays").await?;
    page.click("button", "Make edition 1").await?;
    page.named("[data-edition]", "Edition 1").await?;
    let first = made(&ladder, 1).await?["editions"][0].clone();
    let bytes = files(&ladder, &first)?;
    assert_eq!((bytes.len(), &first["notes"]), (4, &json!("The first")));
    for (bytes, file) in bytes.iter().zip(first["files"].as_array().context("files")?) {
        assert_eq!(bytes.len() as u64, file["bytes"]);
    }
    let program = |view: &Value| view["program"].clone();
    let before = program(&ladder.get(CHIMES)?);

    // The instrument goes on: a map by another rule, a take that is lowered.
    let take = ladder.get(CHIMES)?["takes"][0]["id"].clone();
    let wishes = json!({ "label": "go on", "wishes": [
        { "target": "instrument", "fact": "below_keys", "after": { "value": 1 } },
        { "target": { "take": take }, "fact": "gain_db", "after": { "value": -9.0 } },
    ] });
    ladder.post(&format!("{CHIMES}/changes"), &wishes)?;
    page.write_under("What is new in it", "Softer").await?;
    page.click("button", "Make edition 2").await?;
    page.named("[data-edition]", "Edition 2").await?;
    let second = made(&ladder, 2).await?["editions"][0].clone();
    assert_ne!(files(&ladder, &second)?, bytes);
    // What was given away is what it was, byte for byte.
    assert!(files(&ladder, &first)? == bytes);

    // What changed is read, region by region.
    page.click("[data-edition='2'] button", "What changed").await?;
    page.named("[data-part=changed] h4", "Regions").await?;
    page.until(
        "what changed",
        "const text = document.querySelector('[data-part=changed]').innerText;
        return text.includes('level by -9.0 dB') && text.includes('below keys: by itself → 1') && text.includes('treated otherwise')",
    )
    .await?;
    page.script("document.querySelector('[data-part=editions]').scrollIntoView()")
        .await?;
    page.picture("editions").await?;

    // It is heard, and the other too.
    page.click("[data-edition='1'] label", "Keys play it").await?;
    page.named("[data-part=heard-as]", "keys play edition 1").await?;
    page.sounds().await?;
    page.click("[data-part=heard-as]", "keys play").await?;
    page.named("[data-part=heard-as]", "keys play the whole").await?;

    // Taken back, all is as it was then, as one change; and the same state gives the same bytes.
    page.click("[data-edition='1'] button", "Take it back").await?;
    ladder.wait_for(CHIMES, |view| program(view) == before).await?;
    page.click("button", "Make edition 3").await?;
    let third = made(&ladder, 3).await?["editions"][0].clone();
    let hashes = |edition: &Value| -> Vec<Value> {
        let files = edition["files"].as_array().cloned().unwrap_or_default();
        files.iter().map(|file| file["hash"].clone()).collect()
    };
    assert_eq!(hashes(&third), hashes(&first));
    page.click("button", "Undo").await?;
    ladder.wait_for(CHIMES, |view| program(view) != before).await?;

    // A number that is none, a file that is none, an edition of nothing.
    assert!(ladder.get("/api/editions/99/changed").is_err());
    assert!(
        ladder
            .bytes(&format!("/api/editions/{}/files/9", first["id"]))
            .is_err()
    );
    assert!(
        ladder
            .post(&format!("{CHIMES}/editions"), &json!({ "files": [] }))
            .is_err()
    );
    page.close().await?;
    ladder.end().await
}
