//! A library that is larger than the memory for audio: it plays in that memory.

use anyhow::Context;
use e2e::{Browser, Ladder, rounds, seeded};
use rand::Rng;
use serde_json::{Value, json};
use std::time::Duration;

const RATE_HZ: u32 = 48_000;
/// Of each take: 10 s.
const FRAMES: u32 = 10 * RATE_HZ;
const LONG_S: u32 = 300;

/// An instrument of 100 keys, 10 layers and so many round robins: overlapping stretches of long recordings, measured as a take of the demo's organ was;
/// every second one has its loop.
fn make(ladder: &Ladder, round_robins: u32) -> anyhow::Result<u64> {
    let ask = |statement: &str| ladder.ask(statement);
    let number = |rows: Vec<Vec<String>>| -> anyhow::Result<u64> {
        Ok(rows.concat().first().context("a row")?.parse()?)
    };
    for n in 0..4u32 {
        let hash = format!("{:02x}", 0xA0 + n).repeat(32);
        let folder = ladder.folder().join("audio/recordings").join(&hash[..2]);
        std::fs::create_dir_all(&folder)?;
        let second: Vec<Vec<f32>> = [0.0, 0.5]
            .map(|beat| {
                let turn = f64::from(110 * (n + 1)) + beat;
                let x = |frame: u32| {
                    0.2 * (std::f64::consts::TAU * turn * f64::from(frame) / f64::from(RATE_HZ)).sin()
                };
                (0..LONG_S * RATE_HZ).map(|frame| x(frame) as f32).collect()
            })
            .to_vec();
        let audio = signal::Audio {
            rate_hz: RATE_HZ,
            channels: second,
        };
        std::fs::write(
            folder.join(format!("{hash}.wav")),
            formats::wav_bytes(&audio, 24, None),
        )?;
        ask(&format!(
            "INSERT INTO recordings (hash, rate_hz, channels, bits, frames, noted_at) VALUES ('{hash}', {RATE_HZ}, 2, 24, {}, NOW())",
            LONG_S * RATE_HZ
        ))?;
    }
    let mut plan = ladder.get("/api/instruments/1")?["plan"].clone();
    let mut pass = plan["passes"][0].clone();
    let layer = pass["layers"][0].clone();
    pass["rungs"] = json!((14..114).collect::<Vec<u8>>());
    pass["round_robins"] = json!(round_robins);
    pass["layers"] = (0..10)
        .map(|n| {
            let mut layer = layer.clone();
            (layer["id"], layer["name"]) = (json!(n), json!(format!("layer {}", n + 1)));
            layer["strike_velocity"] = json!(12 * (n + 1));
            layer
        })
        .collect::<Vec<Value>>()
        .into();
    plan["passes"] = json!([pass]);
    let instrument = ladder.post(
        "/api/instruments",
        &json!({ "name": "Large library", "plan": plan }),
    )?["id"]
        .as_u64()
        .context("an instrument")?;
    let pass = ladder.get(&format!("/api/instruments/{instrument}"))?["plan"]["passes"][0]["id"]
        .as_u64()
        .context("a pass")?;
    let of = number(ask(
        "SELECT t.id FROM takes t JOIN measurements m ON m.take_id = t.id WHERE t.instrument_id = 1 AND t.frames > 300000 LIMIT 1",
    )?)?;
    ask(&format!(
        "INSERT INTO takes (instrument_id, pass, rung_key, layer, round_robin, recording, first_frame, frames, made_at)
         SELECT {instrument}, {pass}, 14 + seq MOD 100, seq DIV 100 MOD 10, seq DIV 1000, REPEAT(LOWER(HEX(160 + seq MOD 4)), 32),
                seq * 102947 MOD {}, {FRAMES}, NOW() FROM seq_0_to_{}",
        (LONG_S - 10) * RATE_HZ,
        1_000 * round_robins - 1
    ))?;
    ask(&format!(
        "INSERT INTO measurements (take_id, version, facts)
         SELECT t.id, m.version, m.facts FROM takes t JOIN measurements m ON m.take_id = {of} WHERE t.instrument_id = {instrument}"
    ))?;
    ask(&format!(
        "INSERT INTO suggestions (take_id, version, kind, rung_key, suggestion)
         SELECT t.id, m.version, m.kind, t.rung_key, JSON_SET(m.suggestion, '$.root_key', t.rung_key, '$.recording_cents', 0.0, '$.end_frame', {FRAMES},
                '$.loop', IF(t.round_robin MOD 2 = 0, NULL, JSON_EXTRACT(m.suggestion, '$.loop')))
         FROM takes t JOIN suggestions m ON m.take_id = {of} WHERE t.instrument_id = {instrument}"
    ))?;
    Ok(instrument)
}

/// Bars page: at most one voice in 100 fades for want of audio, while ten keys are struck each second at random; the memory is never over its budget.
#[tokio::test(flavor = "multi_thread")]
async fn a_library_larger_than_the_memory_plays_in_it() -> anyhow::Result<()> {
    let ladder = Ladder::start_measured_demo().await?;
    // 2,000 takes of 10 s are 7 GB as the engine has them; the long run has 20,000.
    let long = rounds(2) > 1;
    let instrument = make(&ladder, if long { 20 } else { 2 })?;
    let browser = Browser::open().await?;
    let address = format!("{}/instruments/{instrument}/map", ladder.address);
    browser.driver.goto(&address).await?;
    browser
        .until(
            "strands",
            "return document.querySelectorAll('[data-part=strands] tbody tr').length > 0",
        )
        .await?;
    browser.hears_midi().await?;
    let mut random = seeded();
    let strikes: Vec<Value> = (0..if long { 600 } else { 100 })
        .map(|_| {
            json!([
                random.random_range(14..114),
                random.random_range(1..128),
                random.random_range(200..3_000)
            ])
        })
        .collect();
    let script = format!(
        "window.left = {}; window.fullest = 0;
        const timer = setInterval(() => {{
          const next = window.left.shift();
          window.fullest = Math.max(window.fullest, Number(document.querySelector('[data-part=meter]').dataset.full));
          if (!next) return clearInterval(timer);
          const [key, velocity, ms] = next;
          window.port.onmidimessage({{ data: [0x90, key, velocity] }});
          setTimeout(() => window.port.onmidimessage({{ data: [0x80, key, 0] }}), ms);
        }}, 100);",
        json!(strikes)
    );
    browser.script(&script).await?;
    let over = "return window.left.length === 0 && document.querySelector('[data-part=meter]').dataset.voices === '0'";
    let mut waited = 0;
    while browser.script(over).await? != true {
        tokio::time::sleep(Duration::from_millis(500)).await;
        waited += 1;
        anyhow::ensure!(waited < 600, "it plays on and on");
    }
    let told = "const { ranOut } = document.querySelector('[data-part=meter]').dataset; return [Number(ranOut), window.fullest, window.most]";
    let told: (u32, f64, u32) = serde_json::from_value(browser.script(told).await?)?;
    let (ran_out, fullest, most) = told;
    println!(
        "{} takes, {} strikes: {ran_out} voices ran out of audio, at most {most} at once, the memory at most {:.0} % full",
        if long { 20_000 } else { 2_000 },
        strikes.len(),
        100.0 * fullest
    );
    assert!(most > 3 && fullest > 0.3 && fullest <= 1.0, "{told:?}");
    // The bar is one in 100, held by the long run, which has the machine to itself. A debug server beside other work is slower than the keys,
    // so the short run asks only that most of them sound whole.
    let one_in = if long { 100 } else { 2 };
    assert!(ran_out as usize * one_in <= strikes.len(), "{told:?}");
    browser.close().await?;
    ladder.end().await
}
