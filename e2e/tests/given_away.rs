//! What is given away: built again without a screen, at another rate, in one side, of chosen layers, with presets beside, and several as one.

use anyhow::Context;
use e2e::{Browser, Ladder, files_of};
use formats::sf2;
use serde_json::json;
use std::collections::BTreeMap;
use std::io::{Cursor, Write};

/// Ticks what stands beside such words.
async fn tick(page: &Browser, words: &str) -> anyhow::Result<()> {
    let find = format!(
        "[...document.querySelectorAll('label')].find((label) => label.textContent.includes({}))",
        json!(words)
    );
    page.until(words, &format!("return {find} !== undefined")).await?;
    page.script(&format!("{find}.querySelector('input').click()"))
        .await?;
    Ok(())
}

/// The bytes of what was written last.
async fn written(page: &Browser, ladder: &Ladder, count: usize) -> anyhow::Result<Vec<u8>> {
    page.until(
        "it is written",
        &format!("return document.querySelectorAll('[data-job] a').length === {count}"),
    )
    .await?;
    let link = page
        .script("return document.querySelector('[data-job] a').getAttribute('href')")
        .await?;
    ladder.bytes(link.as_str().context("an address")?)
}

/// A SoundFont as an independent reader has it, npm's `soundfont2`: of each preset its name, bank and program, and of each of its zones the lowest and highest key, the root and
/// the rate.
type ReadElsewhere = Vec<(String, u16, u16, Vec<(u8, u8, u8, u32)>)>;

fn read_elsewhere(bytes: &[u8]) -> anyhow::Result<ReadElsewhere> {
    const SCRIPT: &str = r#"
        import soundfont2 from "soundfont2";
        import { readFileSync } from "node:fs";
        const file = soundfont2.SoundFont2.from(new Uint8Array(readFileSync(process.argv[1])));
        const zone = ({ keyRange, generators, sample }) => [keyRange?.lo ?? 0, keyRange?.hi ?? 127, generators[58]?.value ?? sample.header.originalPitch, sample.header.sampleRate];
        const preset = ({ header, zones }) => [header.name, header.bank, header.preset, zones.flatMap(({ instrument }) => instrument.zones.map(zone))];
        console.log(JSON.stringify(file.presets.map(preset)));
    "#;
    let mut file = tempfile::NamedTempFile::new()?;
    file.write_all(bytes)?;
    let ran = std::process::Command::new("node")
        .args(["--input-type=module", "-e", SCRIPT])
        .arg(file.path())
        .current_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../web"))
        .output()?;
    anyhow::ensure!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    Ok(serde_json::from_slice(&ran.stdout)?)
}

/// The same by our own reader, a zone for each side.
fn read_here(bytes: &[u8]) -> anyhow::Result<ReadElsewhere> {
    let file = sf2::File::read(Cursor::new(bytes))?;
    let mut all = Vec::new();
    for (n, preset) in file.presets.iter().enumerate() {
        let read = file.program(n)?.program;
        let zones = read.regions.iter().flat_map(|region| {
            let (sample, keys) = (&read.samples[region.sample], region.when.keys);
            let zone = (keys.low, keys.high, region.root_key, sample.rate_hz);
            std::iter::repeat_n(zone, usize::from(sample.channels))
        });
        all.push((preset.name.clone(), preset.bank, preset.program, zones.collect()));
    }
    Ok(all)
}

/// The recordings and the plan of an instrument, built without a server: the same SFZ and the same audio, byte for byte.
async fn built_again(ladder: &Ladder, id: u64) -> anyhow::Result<()> {
    let job = ladder.post(
        &format!("/api/instruments/{id}/exports"),
        &json!({ "format": "sfz", "bits": 24 }),
    )?;
    let path = format!("/api/jobs/{}", job["id"]);
    ladder.wait_for(&path, |job| job["state"] == "done").await?;
    let there = files_of(ladder.bytes(&format!("{path}/file"))?)?;

    let folder = tempfile::tempdir()?;
    let recordings = folder.path().join("Recordings");
    std::fs::create_dir_all(&recordings)?;
    for (name, bytes) in files_of(ladder.bytes(&format!("/api/instruments/{id}/out"))?)? {
        std::fs::write(recordings.join(name), bytes)?;
    }
    let out = folder.path().join("Out");
    let ran = std::process::Command::new(std::env::var("LADDER_PROGRAM")?)
        .arg("build")
        .arg(&recordings)
        .arg("--plan")
        .arg(recordings.join("plan.toml"))
        .arg("--out")
        .arg(&out)
        .output()?;
    anyhow::ensure!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    for (name, bytes) in &there {
        let built = std::fs::read(out.join(name)).with_context(|| format!("{name} of {id}"))?;
        if name.ends_with(".sfz") {
            assert_eq!(String::from_utf8_lossy(&built), String::from_utf8_lossy(bytes));
        }
        assert!(built == *bytes, "{name} of instrument {id} is another");
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn at_another_rate_with_presets_beside_and_several_as_one() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    let page = Browser::open().await?;
    page.driver
        .goto(format!("{}/instruments/2/export", ladder.address))
        .await?;
    page.named("h2", "Export").await?;

    // Loud bars alone, at 44.1 kHz, in one side, with 16 bits.
    for layer in ["Bars: soft", "Bars: medium", "Damper: all"] {
        tick(&page, layer).await?;
    }
    page.pick("Rate", "44.1 kHz").await?;
    page.pick("Sides", "mono").await?;
    page.pick("Bits", "16 bit, shaped dither").await?;
    page.until(
        "14 files and a text",
        "return document.querySelector('[data-part=preview]').innerText.includes('15 files')",
    )
    .await?;
    // Before anything was made, by what is usual.
    page.until(
        "how long it takes",
        "return /made in (a moment|\\d+ s)/.test(document.querySelector('[data-part=preview]').innerText)",
    )
    .await?;
    page.click("button", "Export").await?;
    let files = files_of(written(&page, &ladder, 1).await?)?;
    assert_eq!(files.len(), 15);
    for (name, bytes) in files.iter().filter(|(name, _)| name.ends_with(".wav")) {
        assert!(name.contains("loud"), "{name}");
        // Format, channels, rate and width as RIFF/WAVE has them in its head (Multimedia Programming Interface and Data Specifications 1.0, 1991).
        assert_eq!(bytes[20..24], [1, 0, 1, 0], "{name}");
        assert_eq!(bytes[24..28], 44_100u32.to_le_bytes());
        assert_eq!(bytes[34..36], [16, 0]);
    }

    // What was chosen is there after a reload; a SoundFont has what it does not hold in presets beside.
    page.driver.refresh().await?;
    page.named("h2", "Export").await?;
    page.pick("Rate", "as recorded").await?;

    // Into a folder on the server, twice; what another hand changed there is told before it is replaced.
    page.pick("Where to", "a folder on the server").await?;
    let given = |count: usize, words: &'static str| {
        format!(
            "const all = document.querySelectorAll('[data-part=given]'); return all.length === {count} && all[0].innerText === '{words}'"
        )
    };
    page.click("button", "Export").await?;
    page.until("all are written", &given(1, "44 written, 0 as they were"))
        .await?;
    page.click("button", "Export").await?;
    page.until("none is written twice", &given(2, "0 written, 44 as they were"))
        .await?;
    let bar = ladder
        .folder()
        .join("given/Slate chimes/samples/Slate chimes Bars C3 soft 1.wav");
    std::fs::write(&bar, "edited elsewhere")?;
    page.click("button", "Export").await?;
    let told = page
        .named("[data-part=failed]", "1 of the files")
        .await?
        .text()
        .await?;
    assert!(told.contains("Slate chimes Bars C3 soft 1.wav"), "{told}");
    assert_eq!(std::fs::read(&bar)?, b"edited elsewhere");
    tick(&page, "Replace others' changes").await?;
    page.click("button", "Export").await?;
    page.until("it is replaced", &given(3, "1 written, 43 as they were"))
        .await?;
    page.pick("Where to", "a file to download").await?;

    // Whole, as they were made: the frames of the recordings themselves.
    page.pick("Format", "WAV files alone, loops inside").await?;
    page.pick("Sides", "as recorded").await?;
    page.pick("Bits", "24 bit").await?;
    tick(&page, "Recordings whole").await?;
    page.click("button", "Export").await?;
    let whole = files_of(written(&page, &ladder, 2).await?)?;
    let raw = files_of(ladder.bytes("/api/instruments/2/out")?)?;
    let frames = |files: &BTreeMap<String, Vec<u8>>, name: &str| {
        let found = files
            .iter()
            .find(|(file, _)| file.contains(name))
            .context("a file")?;
        Ok::<_, anyhow::Error>(formats::decode(found.1.clone(), Some("wav"))?)
    };
    let name = "Bars C3 soft 1";
    assert_eq!(frames(&whole, name)?, frames(&raw, name)?);
    page.pick("Sides", "mono").await?;
    page.pick("Format", "SoundFont 2").await?;
    tick(&page, "Round robins as presets beside").await?;
    page.until(
        "that is said",
        "return document.body.innerText.includes('the others are presets beside')",
    )
    .await?;
    page.click("button", "Export").await?;
    let both = sf2::File::read(Cursor::new(written(&page, &ladder, 3).await?))?;
    let names: Vec<&str> = both.presets.iter().map(|preset| preset.name.as_str()).collect();
    assert_eq!(names, ["Slate chimes", "Slate chimes 2"]);
    let [first, second] = [0, 1].map(|n| both.program(n).map(|read| read.program));
    let (first, second) = (first?, second?);
    assert_eq!(first.regions.len(), second.regions.len());
    assert!(
        first.regions.iter().zip(&second.regions).all(|(one, other)| {
            one.when == other.when && first.samples[one.sample].name != second.samples[other.sample].name
        }),
        "each has its own recordings on the same keys"
    );

    // All of the shelf in one SoundFont, each where it was put.
    page.driver.goto(&ladder.address).await?;
    page.click("a", "Several as one…").await?;
    page.named("h1", "Several as one").await?;
    for name in ["Parlour reed organ", "Night ferry", "Slate chimes"] {
        tick(&page, name).await?;
    }
    page.write("Program of Night ferry", "81").await?;
    page.write_under("Name of all together", "Fernhollow").await?;
    page.picture("together").await?;
    page.click("button", "Export").await?;
    let bytes = written(&page, &ladder, 1).await?;
    assert_eq!(read_here(&bytes)?, read_elsewhere(&bytes)?);
    let all = sf2::File::read(Cursor::new(bytes))?;
    let mut places: Vec<_> = (all.presets.iter())
        .map(|preset| (preset.name.as_str(), preset.bank, preset.program))
        .collect();
    places.sort_unstable();
    let ferry = ("Night ferry", 0, 81);
    assert!(places.contains(&ferry), "{places:?}");
    assert_eq!(
        places.len(),
        4,
        "the chimes' second turns stand beside: {places:?}"
    );
    page.click("a", "Download").await?;
    page.downloaded("Fernhollow.sf2").await?;

    // Two at one place are told, and cannot be written.
    page.write("Program of Parlour reed organ", "81").await?;
    page.until(
        "it is told",
        "return document.querySelector('[data-part=preview]').innerText.includes('bank 0, program 81')",
    )
    .await?;
    page.close().await?;

    for id in 1..=3 {
        built_again(&ladder, id).await?;
    }
    ladder.end().await
}
