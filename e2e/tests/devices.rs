//! The browser's real input path: Chromium's fake capture plays a file of ours, and what arrives is what the file holds.

use anyhow::Context;
use e2e::{Browser, Ladder};
use serde_json::json;
use signal::Audio;
use std::time::Duration;

const RATE_HZ: u32 = 44_100;
/// Strikes of dying tones, one every 1.5 s, over 9 s; then the file begins again.
const STRIKES: usize = 6;
const SPACING: usize = 66_150;
const RUNGS: [u8; 6] = [57, 61, 65, 69, 73, 77];

fn plan(how: &str, rungs: &[u8]) -> serde_json::Value {
    json!({
        "kind": "struck", "source": { "how": how, "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": RATE_HZ, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": rungs,
            "layers": [{ "name": "all", "strike_velocity": 100 }], "round_robins": 1, "hold_ms": 700, "tail_ms": 500 }]
    })
}

fn file() -> Audio {
    strikes(SPACING, 12.0)
}

/// So many frames apart, dying so fast: e-folds a second.
fn strikes(spacing: usize, fall: f64) -> Audio {
    let samples = (0..STRIKES * spacing)
        .map(|n| {
            let (strike, since) = (n / spacing, n % spacing);
            let t = since as f64 / f64::from(RATE_HZ) - 0.2;
            if t < 0.0 {
                return 0.0;
            }
            let hz = 220.0 * 2f64.powf(strike as f64 * 4.0 / 12.0);
            ((t * hz * std::f64::consts::TAU).cos() * 0.5 * (-t * fall).exp()) as f32
        })
        .collect();
    Audio::mono(RATE_HZ, samples)
}

/// How alike two stretches are, 0 to 1 (normalised product).
fn likeness(a: &[f32], b: impl Iterator<Item = f32>) -> f64 {
    let (mut product, mut mine, mut theirs) = (0.0, 0.0, 0.0);
    for (x, y) in a.iter().zip(b) {
        let (x, y) = (f64::from(*x), f64::from(y));
        product += x * y;
        mine += x * x;
        theirs += y * y;
    }
    product / (mine * theirs).sqrt()
}

/// Frames at which strikes begin that come out of silence.
fn onsets(arrived: &[f32]) -> Vec<usize> {
    let mut found: Vec<usize> = Vec::new();
    for n in 4_000..arrived.len() {
        let next = found.last().is_none_or(|last| n > last + SPACING / 2);
        if next && arrived[n].abs() > 0.2 && arrived[n - 4_000..n - 200].iter().all(|x| x.abs() < 0.01) {
            found.push(n);
        }
    }
    found
}

/// Which frame of the file the given one that arrived is, and how alike the stretch from there on is.
fn place_of(arrived: &[f32], from: usize, whole: &[f32]) -> (usize, f64) {
    let part = &arrived[from..(from + 8_000).min(arrived.len())];
    let at = |place: usize| (0..part.len()).map(move |n| whole[(place + n) % whole.len()]);
    (0..STRIKES)
        .flat_map(|strike| (0..1_000).map(move |n| strike * SPACING + 8_500 + n))
        .map(|place| (place, likeness(part, at(place))))
        .max_by(|a, b| a.1.total_cmp(&b.1))
        .unwrap_or((0, 0.0))
}

/// One capture at a time: two browsers and two servers on two cores starve the fake device.
static ONE_AT_A_TIME: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

/// A socket that can be broken: while `window.broken` is set every line to the server fails.
const BREAKABLE: &str = r"
    const Real = window.WebSocket;
    window.lines = [];
    window.sent = {};
    window.WebSocket = class extends Real {
        constructor(url) {
            super(window.broken ? url.replace('/line', '/no-line') : url);
            if (url.includes('/line')) window.lines.push(this);
        }
        send(data) {
            // What the audio thread gave, block by block: number and energy.
            if (data instanceof ArrayBuffer) {
                const first = Number(new DataView(data).getBigUint64(0, true));
                window.sent[first] = new Float32Array(data, 8).reduce((sum, x) => sum + x * x, 0);
            }
            super.send(data);
        }
    };
";
/// Frames of a block, as the page's worklet cuts them.
const BLOCK: usize = 1_024;

#[tokio::test(flavor = "multi_thread")]
async fn what_arrives_is_what_the_input_gave_through_a_broken_line_too() -> anyhow::Result<()> {
    let _turn = ONE_AT_A_TIME.lock().await;
    // On a busy machine the audio thread itself leaves some of its calls out, before anything of ours: what holds otherwise holds then too, but that
    // not one frame is lost is asked of a run that was left alone.
    for _ in 0..6 {
        if frames_lost_through_a_broken_line().await? == 0 {
            return Ok(());
        }
    }
    anyhow::bail!("frames were lost in each of six runs")
}

/// Frames that the audio thread left out, once all that it gave was found in its place.
async fn frames_lost_through_a_broken_line() -> anyhow::Result<u64> {
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join("strikes.wav");
    let played = file();
    std::fs::write(&path, formats::wav_bytes(&played, 16, None))?;
    let ladder = Ladder::start(false).await?;
    ladder.post(
        "/api/instruments",
        &json!({ "name": "Real input", "plan": plan("long_take", &RUNGS) }),
    )?;
    let browser = Browser::open_hearing(&path).await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser.script(BREAKABLE).await?;
    browser.pick("Channels", "mono").await?;
    browser.click("button", "Look for devices").await?;
    browser.click("button", "Record one long take").await?;
    browser
        .until(
            "an open line",
            "return document.querySelector('[data-part=line]')?.dataset.connected === 'true'",
        )
        .await?;
    tokio::time::sleep(Duration::from_secs(4)).await;
    browser
        .script("window.broken = true; window.lines.forEach((line) => line.close())")
        .await?;
    // As long as the architecture page promises to survive.
    tokio::time::sleep(Duration::from_secs(30)).await;
    browser
        .until(
            "sound kept by the page",
            "return document.querySelector('[data-part=line]').textContent.includes('line broken')",
        )
        .await?;
    browser.script("window.broken = false").await?;
    browser
        .until(
            "the line again",
            "return document.querySelector('[data-part=line]').dataset.connected === 'true'",
        )
        .await?;
    tokio::time::sleep(Duration::from_secs(5)).await;
    let lost = browser
        .script("return document.querySelector('[data-part=line]').dataset.lost")
        .await?;
    // In calls of 128 frames each: counted, and silence in their place.
    let lost: u64 = lost.as_str().context("lost frames")?.parse()?;
    println!("{lost} frames left out by the audio thread");
    assert!(lost.is_multiple_of(128) && lost < u64::from(RATE_HZ), "{lost}");
    browser.click("button", "Stop and keep it").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            view["long_takes"][0]["frames"].is_u64()
        })
        .await?;
    let frames = view["long_takes"][0]["frames"].as_u64().context("frames")?;
    assert!(frames > u64::from(RATE_HZ) * 12, "{frames}");
    let mut arrived: Vec<f32> = Vec::new();
    // Long stretches are served in parts.
    while (arrived.len() as u64) < frames {
        let first = arrived.len() as u64;
        let end = frames.min(first + 500_000);
        let bytes = ladder.bytes(&format!("/api/long-takes/1/audio?first={first}&end={end}"))?;
        arrived.extend(
            bytes
                .chunks_exact(4)
                .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]])),
        );
    }

    // Every block that the audio thread gave is there, once and in its place, those of the break too.
    let sent: std::collections::BTreeMap<usize, f64> =
        serde_json::from_value(browser.script("return window.sent").await?)?;
    assert!(sent.keys().enumerate().all(|(n, first)| *first == n * BLOCK));
    let energy = |block: &[f32]| block.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>();
    let blocks: Vec<f64> = arrived.chunks_exact(BLOCK).map(energy).collect();
    // The last ones were under way when it was stopped.
    assert!(
        blocks.len() <= sent.len() && blocks.len() + 40 > sent.len(),
        "{} of {}",
        blocks.len(),
        sent.len()
    );
    for (block, sent) in blocks.iter().zip(sent.values()) {
        assert!((block - sent).abs() < 1e-4, "{block} for {sent}");
    }

    // And it is what the file holds, its sounds starting where they stand there, within 1 ms. The fake device itself puts in ten
    // milliseconds of silence where the machine is busy: strikes that this cuts in two are passed over.
    let whole = &played.channels[0];
    let (mut alike, mut strikes) = (0, 0);
    let audio = Audio::mono(RATE_HZ, arrived.clone());
    for onset in onsets(&arrived) {
        strikes += 1;
        let (place, like) = place_of(&arrived, onset, whole);
        if like < 0.9999 {
            continue;
        }
        alike += 1;
        let from = onset - 4_000;
        let found = signal::sound_bounds(&audio.slice(from, from + 30_000)).context("a sound")?;
        // In the file a strike begins 0.2 s into its place.
        let begins = onset as f64 - (place % SPACING) as f64 + 0.2 * f64::from(RATE_HZ);
        let off_ms = (found.start_frame as f64 + from as f64 - begins) / f64::from(RATE_HZ) * 1_000.0;
        assert!(off_ms.abs() <= 1.0, "{off_ms:.2} ms");
    }
    println!("{alike} of {strikes} strikes alike, {} blocks", blocks.len());
    assert!(strikes >= 6 && alike >= 3, "{alike} of {strikes}");
    browser.close().await?;
    ladder.end().await?;
    Ok(lost)
}

/// By hand on the real input: wrong notes are refused by name, the right one is kept, and a page that is closed in the middle of a take
/// leaves what had arrived, marked.
#[tokio::test(flavor = "multi_thread")]
async fn a_closed_page_keeps_what_arrived_and_the_run_goes_on_later() -> anyhow::Result<()> {
    let _turn = ONE_AT_A_TIME.lock().await;
    let folder = tempfile::TempDir::new()?;
    let path = folder.path().join("strikes.wav");
    std::fs::write(&path, formats::wav_bytes(&strikes(2 * SPACING, 5.0), 16, None))?;
    let ladder = Ladder::start(false).await?;
    // Each rings for two seconds: time enough to close the page in the middle of one.
    let mut long = plan("by_hand", &RUNGS[..4]);
    long["passes"][0]["tail_ms"] = json!(4_000);
    ladder.post("/api/instruments", &json!({ "name": "By hand", "plan": long }))?;
    let browser = Browser::open_hearing(&path).await?;
    let record = format!("{}/instruments/1/record", ladder.address);
    browser.driver.goto(&record).await?;
    browser.click("button", "Begin").await?;
    let chosen = |view: &serde_json::Value| -> usize {
        let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
        takes.iter().filter(|take| take["chosen"] == true).count()
    };
    ladder
        .wait_for("/api/instruments/1", |view| chosen(view) >= 1)
        .await?;
    browser
        .until(
            "a note asked for",
            "return document.querySelector('[data-part=prompt]').dataset.state === 'waiting'",
        )
        .await?;
    // The page leaves by itself in the middle of a take, however late this test would be to say so.
    browser
        .script(
            "const looking = setInterval(() => {
                 if (document.querySelector('[data-part=prompt]')?.dataset.state !== 'recording') return;
                 clearInterval(looking);
                 location.href = '/';
             }, 20);",
        )
        .await?;
    browser
        .until("a closed page", "return location.pathname === '/'")
        .await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| view["run"].is_null())
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    let marked = |what: &str| {
        takes
            .iter()
            .filter(|take| {
                let findings = take["origin"]["verdict"]["findings"].as_array();
                findings.is_some_and(|all| all.iter().any(|finding| finding["kind"] == what))
            })
            .count()
    };
    assert_eq!(marked("broken_off"), 1, "{view}");
    for take in takes.iter().filter(|take| take["chosen"] == true) {
        assert_eq!(take["origin"]["verdict"]["key"], take["cell"]["key"]);
    }
    // Later, from another page: only what is missing.
    browser.driver.goto(&record).await?;
    browser.click("button", "Go on with the").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            chosen(view) == 4 && view["run"].is_null()
        })
        .await?;
    let refused = view["takes"].as_array().context("takes")?.len() - 4;
    assert!(
        refused >= 1,
        "a file of six notes in turn never gives only the right ones"
    );
    browser.close().await?;
    ladder.end().await
}

/// Ports and a synthesiser of ours in place of the browser's: what is sent to the port at a time sounds at that time in the input. The synthesiser
/// plays inside the page's own audio context, where its input would be: nothing lies between them that could fall behind.
const FAKE_SYNTH: &str = r"
    window.sent = [];
    // How far the clock moved since the first note, in ms.
    window.slipped = 0;
    const voices = new Map();
    const silent = new AudioContext().createMediaStreamDestination().stream;
    let context, out, stood, clock = [];
    // Where the context's clock stands against the page's: the middle of the last second's readings.
    const read = () => {
        const { performanceTime, contextTime } = context.getOutputTimestamp();
        clock = [...clock.slice(-99), performanceTime - contextTime * 1000];
        // One reading alone may be off by some milliseconds.
        if (stood !== undefined) window.slipped = Math.max(window.slipped, Math.abs([...clock.slice(-9)].sort((a, b) => a - b)[4] - stood));
    };
    const contextTimeAt = (time) => (time - [...clock].sort((a, b) => a - b)[clock.length >> 1]) / 1000;
    window.MediaStreamAudioSourceNode = function (opened) {
        context = opened;
        [clock, stood] = [[], undefined];
        out = new GainNode(context);
        // A room is never silent.
        const room = new AudioBuffer({ length: 48000, sampleRate: context.sampleRate });
        room.getChannelData(0).forEach((_, n, all) => { all[n] = (Math.random() - 0.5) * 0.0006; });
        const noise = new AudioBufferSourceNode(context, { buffer: room, loop: true });
        noise.connect(out);
        noise.start();
        setInterval(read, 10);
        return out;
    };
    window.strike = (key, velocity, at) => {
        const [tone, level] = [new OscillatorNode(context, { frequency: 440 * 2 ** ((key - 69) / 12), type: 'triangle' }), new GainNode(context, { gain: 0 })];
        level.gain.setValueAtTime(0, at);
        level.gain.linearRampToValueAtTime(velocity / 127 * 0.6, at + 0.001);
        level.gain.setTargetAtTime(0, at + 0.001, 0.4);
        tone.connect(level).connect(out);
        tone.start(at);
        tone.stop(at + 4);
        voices.set(key, level);
    };
    const port = {
        id: 'fake-out', name: 'Fernhollow cable', send: (bytes, time) => {
            window.sent.push([...bytes]);
            // A synthesiser answers a little later, always by as much: what was rendered already cannot sound any more.
            const at = Math.max(context.currentTime, contextTimeAt(time ?? performance.now()) + 0.05);
            if ((bytes[0] & 0xf0) === 0x90) {
                stood ??= -contextTimeAt(0) * 1000;
                window.strike(bytes[1], bytes[2], at);
            }
            if ((bytes[0] & 0xf0) === 0x80) voices.get(bytes[1])?.gain.setTargetAtTime(0, at, 0.02);
        },
    };
    window.foot = { id: 'fake-in', name: 'Fernhollow pedal' };
    navigator.requestMIDIAccess = async () => ({ outputs: new Map([['fake-out', port]]), inputs: new Map([['fake-in', window.foot]]) });
    navigator.mediaDevices.getUserMedia = async () => silent.clone();
    window.strikeNow = (key) => window.strike(key, 100, context.currentTime + 0.05);
    window.press = (bytes) => window.foot.onmidimessage({ data: new Uint8Array(bytes) });
";

/// A page at Record, with those stand-ins in it, that has looked for devices.
async fn page_with_synth(ladder: &Ladder) -> anyhow::Result<Browser> {
    let browser = Browser::open_hearing(std::path::Path::new("/dev/null")).await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser.script(FAKE_SYNTH).await?;
    browser.pick("Channels", "mono").await?;
    browser.click("button", "Look for devices").await?;
    Ok(browser)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_synth_is_recorded_through_midi_and_audio_of_the_page() -> anyhow::Result<()> {
    let _turn = ONE_AT_A_TIME.lock().await;
    // On a busy machine the browser's audio clock itself slips by buffers and its readings scatter by some milliseconds: a run that was left alone
    // tells of the page's timing.
    for _ in 0..8 {
        if synth_recorded().await? {
            return Ok(());
        }
    }
    anyhow::bail!("in eight runs there was none with every start within 1 ms of where it was wished")
}

/// Whether every take was good and its start within 1 ms of where it was wished.
async fn synth_recorded() -> anyhow::Result<bool> {
    let ladder = Ladder::start(false).await?;
    let mut plan = plan("over_midi", &RUNGS[..4]);
    plan["source"]["channel"] = json!(3);
    plan["source"]["bank"] = json!(300);
    plan["source"]["program"] = json!(7);
    plan["rate_hz"] = json!(48_000);
    ladder.post("/api/instruments", &json!({ "name": "Real synth", "plan": plan }))?;
    let browser = page_with_synth(&ladder).await?;
    browser.pick("MIDI output", "Fernhollow cable").await?;
    browser.click("button", "Start recording").await?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes.len() == 4 && takes.iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    let mut starts = Vec::new();
    // 110 ms of room stand before each, once the delay is taken out.
    for take in takes {
        starts.push(take["facts"]["start_frame"].as_f64().context("start")? / 48.0);
    }
    let slipped = browser.script("return window.slipped").await?;
    let slipped = slipped.as_f64().context("the clock")?;
    println!("starts in ms: {starts:.2?}, the clock slipped by {slipped:.2} ms");
    let good = takes
        .iter()
        .all(|take| take["facts"]["pitch"]["key"] == take["cell"]["key"] && take["chosen"] == true);
    let in_time = starts.iter().all(|start| (start - 110.0).abs() <= 1.0);
    let sent: Vec<Vec<u8>> = serde_json::from_value(browser.script("return window.sent").await?)?;
    // Bank select (300 = 2 × 128 + 44), then the program, on channel 3, before the first note; and every note ends.
    assert_eq!(sent.concat()[..8], [0xB2, 0, 2, 0xB2, 32, 44, 0xC2, 6]);
    for key in &RUNGS[..4] {
        let of = |status: u8| sent.iter().filter(|m| m[0] == status && m[1] == *key).count();
        assert!(of(0x92) >= 1 && of(0x92) == of(0x82), "{sent:?}");
    }
    browser.close().await?;
    ladder.end().await?;
    Ok(good && in_time)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foot_switch_is_learnt_and_keeps_a_take() -> anyhow::Result<()> {
    let _turn = ONE_AT_A_TIME.lock().await;
    let ladder = Ladder::start(false).await?;
    ladder.post(
        "/api/instruments",
        &json!({ "name": "By foot", "plan": plan("by_hand", &[69]) }),
    )?;
    let browser = page_with_synth(&ladder).await?;
    let state = |wanted: &str| {
        format!("return document.querySelector('[data-part=prompt]').dataset.state === '{wanted}'")
    };
    for (act, controller) in [("keep", 64), ("again", 66)] {
        browser.click("button", act).await?;
        browser.named("button", &format!("{act}: press it now")).await?;
        browser
            .script(&format!("window.press([0xb0, {controller}, 127])"))
            .await?;
        browser
            .named("button", &format!("{act}: controller {controller}"))
            .await?;
    }
    // The player decides, by foot.
    browser.click("button", "Hands-free").await?;
    browser.click("button", "Begin").await?;
    for pedal in [66, 64] {
        browser.until("asked", &state("waiting")).await?;
        browser.script("window.strikeNow(69)").await?;
        browser.until("to be decided", &state("deciding")).await?;
        browser
            .script(&format!(
                "window.press([0xb0, {pedal}, 127]); window.press([0xb0, {pedal}, 0])"
            ))
            .await?;
    }
    let view = ladder
        .wait_for("/api/instruments/1", |view| view["run"].is_null())
        .await?;
    let takes = view["takes"].as_array().context("takes")?;
    // One was played again, and the second kept.
    assert_eq!(takes.len(), 2, "{view}");
    assert_eq!(takes[1]["chosen"], true);
    browser.close().await?;
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_refused_missing_or_lost_is_said_plainly() -> anyhow::Result<()> {
    let _turn = ONE_AT_A_TIME.lock().await;
    let ladder = Ladder::start(false).await?;
    let mut plan = plan("over_midi", &[69]);
    plan["passes"][0]["tail_ms"] = json!(60_000);
    ladder.post("/api/instruments", &json!({ "name": "No devices", "plan": plan }))?;
    let browser = Browser::open_hearing(std::path::Path::new("/dev/null")).await?;
    browser
        .driver
        .goto(&format!("{}/instruments/1/record", ladder.address))
        .await?;
    browser
        .script(
            "window.asked = navigator.mediaDevices.getUserMedia;
             navigator.mediaDevices.getUserMedia = async () => { throw new DOMException('no', 'NotAllowedError'); };
             Object.defineProperty(navigator, 'requestMIDIAccess', { value: async () => { throw new DOMException('no', 'SecurityError'); }, configurable: true, writable: true });",
        )
        .await?;
    browser.click("button", "Look for devices").await?;
    browser
        .named("[role=alert]", "The browser was not allowed to use the input")
        .await?;
    browser
        .named("[role=alert]", "The browser was not allowed to use MIDI")
        .await?;
    // A run that cannot begin says so, and the server holds nothing open.
    browser.click("button", "Start recording").await?;
    browser
        .named(
            "[data-part=toast]",
            "The browser was not allowed to use the input",
        )
        .await?;
    assert!(ladder.get("/api/instruments/1")?["run"].is_null());

    // An input that goes away in the middle: the run waits.
    browser.script(FAKE_SYNTH).await?;
    browser
        .script("const ask = navigator.mediaDevices.getUserMedia; navigator.mediaDevices.getUserMedia = async (w) => { window.input = await ask(w); return window.input; };")
        .await?;
    browser.click("button", "Look for devices again").await?;
    browser.pick("MIDI output", "Fernhollow cable").await?;
    browser.click("button", "Start recording").await?;
    browser
        .until(
            "an open line",
            "return document.querySelector('[data-part=line]')?.dataset.connected === 'true'",
        )
        .await?;
    browser
        .script("window.input.getAudioTracks()[0].dispatchEvent(new Event('ended'))")
        .await?;
    browser
        .named("[role=alert]", "The input device has gone.")
        .await?;
    assert!(!ladder.get("/api/instruments/1")?["run"].is_null());
    browser.click("button", "Stop").await?;
    ladder
        .wait_for("/api/instruments/1", |view| view["run"].is_null())
        .await?;
    browser.close().await?;
    ladder.end().await
}
