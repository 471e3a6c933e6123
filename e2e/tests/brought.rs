//! Instruments that others made: brought on the shelf, gone through, taken in as they play, and given away again byte for byte.

use anyhow::Context;
use e2e::{Browser, Ladder, files_of};
use serde_json::{Value, json};
use std::path::Path;
use thirtyfour::prelude::*;

/// What an export of an instrument is, waited for.
async fn exported(ladder: &Ladder, id: u64, format: &str) -> anyhow::Result<Vec<u8>> {
    let job = ladder.post(
        &format!("/api/instruments/{id}/exports"),
        &json!({ "format": format, "bits": 24 }),
    )?;
    let path = format!("/api/jobs/{}", job["id"]);
    ladder.wait_for(&path, |job| job["state"] == "done").await?;
    ladder.bytes(&format!("{path}/file"))
}

/// Chooses a file of this machine on the shelf.
async fn bring(page: &Browser, path: &Path) -> anyhow::Result<()> {
    let input = page.driver.query(By::Css("[data-part=files]")).first().await?;
    Ok(input.send_keys(path.display().to_string()).await?)
}

async fn says(page: &Browser, words: &str) -> anyhow::Result<()> {
    let script = format!("return document.body.innerText.includes({})", json!(words));
    page.until(words, &script).await
}

/// The instrument that the page shows.
async fn shown(page: &Browser) -> anyhow::Result<u64> {
    let id = page
        .script("return Number(location.pathname.split('/')[2])")
        .await?;
    id.as_u64().context("an instrument")
}

#[tokio::test(flavor = "multi_thread")]
async fn an_sfz_with_its_folder_is_taken_in_played_laid_out_otherwise_and_given_away_as_it_was()
-> anyhow::Result<()> {
    const CHIMES: u64 = 2;
    let ladder = Ladder::start_measured_demo().await?;
    let given = files_of(exported(&ladder, CHIMES, "sfz").await?)?;
    let folder = tempfile::tempdir()?;
    let brought = folder.path().join("From afar");
    for (name, bytes) in &given {
        let path = brought.join(name);
        std::fs::create_dir_all(path.parent().context("a folder")?)?;
        std::fs::write(path, bytes)?;
    }
    let page = Browser::open().await?;
    page.driver.goto(&ladder.address).await?;
    page.named("h1", "Shelf").await?;

    // Its text alone plays nothing, and says so.
    let text = given
        .keys()
        .find(|name| name.ends_with(".sfz"))
        .context("a text")?;
    bring(&page, &brought.join(text)).await?;
    page.named("[data-part=offered]", "Slate chimes.sfz").await?;
    says(&page, "is not there").await?;
    page.click("button", "Put these files aside").await?;
    page.named("h1", "Shelf").await?;

    page.drop_on("main", &[&brought]).await?;
    page.named("h1", "What is in these files").await?;
    page.named("[data-part=offered] td", "Slate chimes").await?;
    page.picture("bring").await?;
    page.click("button", "Take it in").await?;
    page.named("h2", "Strands").await?;
    page.click("[role=tab]", "By rule").await?;
    page.named("[data-part=brought]", "Brought from «Slate chimes.sfz»")
        .await?;
    let id = shown(&page).await?;
    let path = format!("/api/instruments/{id}");
    let regions = |view: &Value| view["program"]["regions"].as_array().map_or(0, Vec::len);
    let of_chimes = regions(&ladder.get(&format!("/api/instruments/{CHIMES}"))?);
    assert_eq!(regions(&ladder.get(&path)?), of_chimes);

    // It sounds at once, whether it is measured or not.
    page.sounds().await?;

    // What is said of one of its takes holds, and is given back; so are its regions, once they followed the rule.
    page.pick("Regions", "by rule, from the recordings").await?;
    page.named("div.field-label", "Keys between two rungs").await?;
    ladder
        .wait_for(&path, |view| view["brought"]["as_brought"] == false)
        .await?;
    page.click("button", "Undo").await?;
    page.until(
        "the rule is gone",
        "return !document.body.innerText.includes('Keys between two rungs')",
    )
    .await?;
    page.click("nav a", "Tune").await?;
    let take = ladder.get(&path)?["takes"][0].clone();
    let louder = json!({ "label": "louder", "wishes": [{ "target": { "take": take["id"] }, "fact": "gain_db", "after": { "value": -6.0 } }] });
    ladder.post(&format!("{path}/changes"), &louder)?;
    let gain = |view: &Value| view["program"]["regions"][0]["gain_db"].as_f64();
    let before = gain(&ladder.get(&path)?);
    page.click("button", "Undo").await?;
    ladder.wait_for(&path, |view| gain(view) != before).await?;

    page.click("nav a", "Export").await?;
    page.click("button", "Export").await?;
    page.click("a", "Download").await?;
    let again = files_of(page.downloaded(".zip").await?)?;
    for (name, bytes) in &given {
        assert!(again.get(name) == Some(bytes), "{name} is another");
    }
    assert_eq!(again.len(), given.len());
    // Otherwise called, packed, and with what may be done with it.
    page.pick("Format", "SFZ with FLAC files").await?;
    page.write_under("Licence", "As you like, if you say whose bars they are")
        .await?;
    page.write_under("Names of the files", "{pitch}").await?;
    says(&page, "There is nothing called «pitch»").await?;
    page.write_under("Names of the files", "{instrument} {note} {layer} {rr}")
        .await?;
    says(&page, "Slate chimes C3 soft 1.flac").await?;
    page.click("button", "Export").await?;
    page.until(
        "a second file",
        "return document.querySelectorAll('[data-job] a').length === 2",
    )
    .await?;
    let second = page
        .script("return document.querySelector('[data-job] a').getAttribute('href')")
        .await?;
    let packed = files_of(ladder.bytes(second.as_str().context("an address")?)?)?;
    let said = packed
        .get("Credits and licence.txt")
        .context("what may be done with it")?;
    assert!(String::from_utf8_lossy(said).contains("whose bars they are"));
    let flac = packed
        .get("samples/Slate chimes C3 soft 1.flac")
        .context("a file of that name")?;
    let heard = formats::decode(flac.clone(), Some("flac"))?;
    // Not a bit of it is another, whatever it is called.
    let lies = given.values().filter(|bytes| bytes.starts_with(b"RIFF"));
    assert!(
        lies.flat_map(|bytes| formats::decode(bytes.clone(), Some("wav")))
            .any(|wav| wav == heard)
    );

    // The file that it came from is kept byte for byte.
    assert_eq!(ladder.bytes(&format!("{path}/source"))?, given[text]);

    // A copy is the same; what is set aside and removed for good leaves it alone.
    let copy = ladder.post(&format!("{path}/copy"), &json!({ "name": "Once more" }))?;
    let same = ladder.get(&format!("/api/instruments/{}", copy["id"]))?;
    assert_eq!(regions(&same), of_chimes);
    page.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn presets_of_a_soundfont_are_chosen_and_broken_files_are_told() -> anyhow::Result<()> {
    const FERRY: u64 = 3;
    let font = std::env::var("LADDER_SOUNDFONT").context("a General MIDI SoundFont of Debian's, as data")?;
    let ladder = Ladder::start_measured_demo().await?;
    let folder = tempfile::tempdir()?;
    let ferry = folder.path().join("Night ferry.sf2");
    let given = exported(&ladder, FERRY, "sound_font2").await?;
    std::fs::write(&ferry, &given)?;
    let cut = folder.path().join("Cut.sf2");
    std::fs::write(&cut, &given[..given.len() / 2])?;
    let page = Browser::open().await?;
    page.driver.goto(&ladder.address).await?;
    page.named("h1", "Shelf").await?;

    bring(&page, &cut).await?;
    page.named("[data-part=offered]", "Cut.sf2").await?;
    says(&page, "cut short").await?;
    page.click("button", "Put these files aside").await?;
    page.named("h1", "Shelf").await?;

    // One of ours: what sounds in it, and what drives it, is given away again byte for byte.
    bring(&page, &ferry).await?;
    page.named("[data-part=offered] td", "Night ferry").await?;
    page.click("button", "Take it in").await?;
    page.named("h2", "Strands").await?;
    let id = shown(&page).await?;
    assert!(
        exported(&ladder, id, "sound_font2").await? == given,
        "another SoundFont"
    );
    page.driver.goto(&ladder.address).await?;
    page.named("h1", "Shelf").await?;

    // One of many: two are wanted.
    bring(&page, Path::new(&font)).await?;
    says(&page, "136 instruments").await?;
    page.write_under("Words", "org").await?;
    page.until(
        "few are left",
        "const rows = document.querySelectorAll('[data-part=offered]').length; return rows > 1 && rows < 20",
    )
    .await?;
    for n in 0..2 {
        let boxes = page.driver.find_all(By::Css("[data-part=offered] input")).await?;
        boxes[n].click().await?;
    }
    page.click("button", "Take 2 instruments in").await?;
    page.named("h1", "Shelf").await?;
    ladder
        .wait_for("/api/instruments", |all| {
            all.as_array()
                .is_some_and(|all| all.len() == 6 && all.iter().all(|one| one["measured"] == one["cells"]))
        })
        .await?;
    page.close().await?;
    ladder.end().await
}
