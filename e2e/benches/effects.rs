//! Bars of issue "Panel": the engine with all effects and 64 voices in a Worker: 99 % of blocks in ≤ 1.5 ms. A block of 128 frames lasts 2.667 ms.
//!
//! The engine as it ships, in a Worker of headless Chromium, from a plain server of files; its clock has steps of 0.1 ms, so that ten blocks are timed together,
//! and each alone. Wants what the browser tests want: see `bin/test`.

use anyhow::Context;
use e2e::{Browser, PlainServer, say};
use program::{Bus, BusId, Effect, EffectId, EffectKind, Loop, LoopRuns, Program, Region, Sample, SampleId};
use std::path::PathBuf;

const FRAMES: u64 = 96_000;
const VOICES: usize = 64;

const WORKER: &str = "
onmessage = async () => {
  const bytes = async (name) => (await fetch(name)).arrayBuffer();
  const { instance } = await WebAssembly.instantiate(await bytes('engine.wasm'), {});
  const engine = instance.exports, put = (data) => new Uint8Array(engine.memory.buffer).set(data, engine.exchange());
  engine.start(48000, VOICES, 2 ** 27);
  const program = new Uint8Array(await bytes('program'));
  engine.expect_program(program.length);
  for (let at = 0; at < program.length; at += 65536) {
    const piece = program.subarray(at, at + 65536);
    put(piece);
    if (engine.take_program(piece.length)) throw new Error('no program');
  }
  engine.finish_program();
  const slab = engine.slab_frames(), margin = engine.margin_frames();
  for (let first = 0, n = 0; first < FRAMES; first += slab, n++) {
    const frames = Math.min(FRAMES - first, slab + margin), audio = new Float32Array(2 * frames);
    for (let i = 0; i < audio.length; i++) audio[i] = (((first + (i >> 1)) * 7919 % 1009) / 1009 - 0.5) * 0.1;
    put(new Uint8Array(audio.buffer));
    engine.take_audio(0, 2, n, 1, frames, 1);
  }
  for (let n = 0; n < VOICES; n++) engine.note_on(60 + n % 14, 100);
  for (let n = 0; n < 500; n++) engine.render();
  const alone = [], tens = [];
  for (let n = 0; n < 6000; n++) {
    const began = performance.now();
    engine.render();
    alone.push(performance.now() - began);
  }
  for (let n = 0; n < 600; n++) {
    const began = performance.now();
    for (let k = 0; k < 10; k++) engine.render();
    tens.push((performance.now() - began) / 10);
  }
  const left = new Float32Array(engine.memory.buffer, engine.left(), 128);
  postMessage({ alone, tens, voices: engine.voices(), peak: Math.max(...left.map(Math.abs)) });
};";

fn with_all_effects() -> Program {
    let mut program = Program::plain(
        "bench",
        vec![Sample {
            id: SampleId(0),
            name: "a".into(),
            source: "a".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames: FRAMES,
        }],
        vec![Region {
            looped: Some(Loop::plain(40_000, 80_000, LoopRuns::ThroughRelease)),
            ..Region::whole(0, 72, FRAMES)
        }],
    );
    let effects = (1..).zip(EffectKind::ALL);
    program.buses = vec![Bus {
        id: BusId::WHOLE,
        name: "All".into(),
        gain_db: 0.0,
        effects: effects.map(|(n, kind)| Effect::new(EffectId(n), *kind)).collect(),
    }];
    program
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    let web = PathBuf::from(std::env::var("LADDER_WEB").context("LADDER_WEB: the site, as it is built")?);
    std::fs::copy(web.join("engine.wasm"), folder.path().join("engine.wasm"))?;
    std::fs::write(
        folder.path().join("program"),
        program::to_pieces(&with_all_effects())?,
    )?;
    let worker = WORKER
        .replace("VOICES", &VOICES.to_string())
        .replace("FRAMES", &FRAMES.to_string());
    std::fs::write(folder.path().join("worker.js"), worker)?;
    let page = "<!doctype html><script>const worker = new Worker('worker.js');
      worker.onmessage = ({ data }) => (window.told = data); worker.onerror = ({ message }) => (window.told = { message }); worker.postMessage(0);</script>";
    std::fs::write(folder.path().join("index.html"), page)?;
    let server = PlainServer::start(folder.path())?;
    let browser = Browser::open().await?;
    browser
        .driver
        .goto(&format!("{}/index.html", server.address))
        .await?;
    browser
        .until("it is measured", "return window.told !== undefined")
        .await?;
    let told = browser.script("return window.told").await?;
    anyhow::ensure!(told["voices"] == VOICES, "{told}");
    anyhow::ensure!(
        told["peak"].as_f64().is_some_and(|peak| peak > 1e-4),
        "nothing is heard"
    );
    let times = |name: &str| -> Vec<f64> {
        let all = told[name].as_array().cloned().unwrap_or_default();
        all.iter().filter_map(serde_json::Value::as_f64).collect()
    };
    say("a block, each timed alone (bar: 99 % in 1.5 ms)", times("alone"));
    say("a block, ten timed together", times("tens"));
    browser.close().await
}
