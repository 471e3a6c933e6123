//! The level of the whole: measured as it is heard, strands brought together, room made for ten keys, undone from another page.

use e2e::{Browser, Ladder};

/// The first number after some words on the card, in dB.
async fn number(page: &Browser, after: &str) -> anyhow::Result<f64> {
    let text = page
        .script("return document.querySelector('[data-part=levels]').innerText")
        .await?;
    let text = text.as_str().unwrap_or_default().replace('−', "-");
    let rest = text
        .split_once(after)
        .map(|(_, rest)| rest.trim())
        .unwrap_or_default();
    let end = rest.find(' ').unwrap_or(rest.len());
    rest[..end]
        .parse()
        .map_err(|_| anyhow::anyhow!("no number after «{after}» in {text}"))
}

async fn measure(page: &Browser) -> anyhow::Result<()> {
    page.click("[data-part=levels] button", "Measure").await?;
    page.until(
        "what was heard",
        "const card = document.querySelector('[data-part=levels]');
        return card.innerText.includes('keys struck hard') && !card.innerText.includes('Listening') && !card.innerText.includes('measure again before')",
    )
    .await
}

/// Waits until the page knows that the instrument is another than was measured.
async fn changed(page: &Browser) -> anyhow::Result<()> {
    page.until(
        "that it was changed",
        "return document.querySelector('[data-part=levels]').innerText.includes('measure again before')",
    )
    .await
}

/// The level of a strand, as the program has it.
fn gain(ladder: &Ladder, strand: usize) -> anyhow::Result<f64> {
    let view = ladder.get("/api/instruments/1")?;
    Ok(view["program"]["strands"][strand]["gain_db"]
        .as_f64()
        .unwrap_or(f64::NAN))
}

#[tokio::test(flavor = "multi_thread")]
async fn strands_come_together_and_ten_keys_get_room() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let (page, other) = (Browser::open().await?, Browser::open().await?);
    for browser in [&page, &other] {
        browser
            .driver
            .goto(&format!("{}/instruments/1/shape", ladder.address))
            .await?;
        browser.named("h2", "Shape").await?;
    }
    let undo = other.named("button", "Undo").await?.attr("title").await?;
    measure(&page).await?;
    let (front, back) = (
        number(&page, "Front rank").await?,
        number(&page, "Back rank").await?,
    );
    assert!((front - back).abs() > 1.0, "{front} {back}");
    page.click("[data-part=levels] button", "Bring the strands together")
        .await?;
    changed(&page).await?;
    let middle = (front + back) / 2.0;
    assert!((gain(&ladder, 0)? - (middle - front)).abs() < 0.1);
    measure(&page).await?;
    let (front, back) = (
        number(&page, "Front rank").await?,
        number(&page, "Back rank").await?,
    );
    assert!((front - back).abs() < 0.15, "{front} {back}");

    // Louder than there is room for, by the shelf; then as loud as ten keys may be.
    let peak = number(&page, "keys struck hard").await?;
    for strand in ["Front rank", "Back rank"] {
        page.click("button", strand).await?;
    }
    page.click("a", "Map").await?;
    page.fill("Level", "30 dB").await?;
    page.click("a", "Shape").await?;
    measure(&page).await?;
    let loud = number(&page, "keys struck hard").await?;
    assert!(loud > peak + 6.0 && loud > -1.0, "{peak} {loud}");
    page.click("[data-part=levels] button", "Lower all by").await?;
    changed(&page).await?;
    measure(&page).await?;
    let room = number(&page, "keys struck hard").await?;
    assert!((room + 1.0).abs() < 0.11, "{room}");

    // The layers of each rank go over into one another without a step, and none is left to be closed.
    page.click("[data-part=levels] button", "Bring the layers together")
        .await?;
    changed(&page).await?;
    measure(&page).await?;
    page.until(
        "no step is left",
        "const rows = [...document.querySelectorAll('[data-part=levels] tr')].filter((row) => row.innerText.includes('up to strike'));
        return rows.length === 2 && rows.every((row) => row.innerText.includes('as the layer over it'))",
    )
    .await?;

    // The shelf's loudness is one for all pages: said on the other, it is what this one is brought to.
    other.click("button", "Settings").await?;
    other.fill("Loudness of the shelf", "-31 LUFS").await?;
    other.click("button", "Close").await?;
    page.until(
        "the shelf's loudness",
        "return document.querySelector('[data-part=levels]').innerText.includes('−31.0 LUFS')",
    )
    .await?;
    page.click("[data-part=levels] button", "Bring it to the shelf's")
        .await?;
    changed(&page).await?;
    measure(&page).await?;
    let loudness = number(&page, "at strike 100").await?;
    assert!((loudness + 31.0).abs() < 0.11, "{loudness}");

    // One undo each, from the other page.
    for _ in 0..5 {
        other.click("button", "Undo").await?;
    }
    other
        .until(
            "as it was",
            &format!(
                "return [...document.querySelectorAll('button')].find((it) => it.innerText === 'Undo').title === {}",
                serde_json::json!(undo.unwrap_or_default())
            ),
        )
        .await?;
    assert_eq!((gain(&ladder, 0)?, gain(&ladder, 1)?), (0.0, 0.0));
    page.close().await?;
    other.close().await?;
    ladder.end().await
}
