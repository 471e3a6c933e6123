//! What the engine renders in a browser, beside what it renders here.

use crate::{Browser, Ladder};
use anyhow::Context;
use engine::{Event, EventKind, render_offline};
use formats::{Format, lower};
use program::{KEY_UP_SPEED, On, Program, Region, Sample};
use serde_json::{Value, json};
use signal::Audio;
use std::collections::BTreeSet;

/// Frames of a block of the browser's audio thread.
const BLOCK: usize = 128;
const RATE_HZ: f64 = 48_000.0;

/// What is played: an instrument, or what a format will hold of it.
#[derive(Debug, Clone, Copy)]
pub struct Played {
    /// Which.
    pub instrument: u64,
    /// `None` for the whole.
    pub format: Option<Format>,
}

impl From<u64> for Played {
    fn from(instrument: u64) -> Self {
        Self {
            instrument,
            format: None,
        }
    }
}

/// Plays a score of blocks and events on an instrument, by the page's engine as WebAssembly and by the one here: left and right, as heard here.
///
/// # Errors
/// Where they differ by more than 10⁻⁵ of full scale (architecture page), where nothing is heard, and where something is not answered.
pub async fn same_samples(
    ladder: &Ladder,
    browser: &Browser,
    played: impl Into<Played>,
    score: &[(usize, EventKind)],
    blocks: usize,
) -> anyhow::Result<(Vec<f32>, Vec<f32>)> {
    let Played { instrument, format } = played.into();
    let mut program: Program =
        serde_json::from_value(ladder.get(&format!("/api/instruments/{instrument}"))?["program"].clone())?;
    if let Some(format) = format {
        program = lower(&program, format).heard(&program);
    }
    let heard_as = match format {
        None => "",
        Some(Format::Sfz) => "?as=sfz",
        Some(Format::SoundFont2) => "?as=sound_font2",
        Some(Format::Page) => "?as=page",
    };
    let ours = native(ladder, &program, score, blocks)?;
    let wanted: Vec<Value> = (needed(&program, score).iter())
        .map(|index| {
            let sample = &program.samples[*index];
            json!({"url": url_of(sample), "id": sample.id.0, "frames": sample.frames, "channels": sample.channels})
        })
        .collect();
    let from = format!(
        "const engine = '/engine.wasm', program = '/api/instruments/{instrument}/program{heard_as}', samples = {};
        const audioOf = (sample) => bytes(sample.url);",
        json!(wanted)
    );
    let theirs = in_page(browser, &from, score, blocks).await?;
    same(&ours, &theirs, 1e-5)?;
    Ok(ours)
}

/// The same on a page that plays, whose first instrument was made of this one: from its own engine, program and files.
///
/// # Errors
/// Where they differ by more than 2·10⁻⁴ of full scale (its audio has 24 bits, and crossfades in it), where nothing is heard, and where something is not answered.
pub async fn same_as_page(
    ladder: &Ladder,
    page: &Browser,
    instrument: u64,
    score: &[(usize, EventKind)],
    blocks: usize,
) -> anyhow::Result<(Vec<f32>, Vec<f32>)> {
    let program: Program =
        serde_json::from_value(ladder.get(&format!("/api/instruments/{instrument}"))?["program"].clone())?;
    let ours = native(ladder, &program, score, blocks)?;
    let from = "const engine = 'engine.wasm', program = 'instruments/1.program';
        const { cut } = JSON.parse(new TextDecoder().decode(await bytes('instruments.json')));
        const { samples } = JSON.parse(new TextDecoder().decode(await bytes('instruments/1.json')));
        const flac = (await WebAssembly.instantiate(await bytes('flac.wasm'), {})).instance.exports;
        const audioOf = async ({ audio, frames, channels }) => {
          const whole = new Float32Array(frames * channels);
          for (let n = 0, at = 0; at < frames; at += n === 0 ? cut.first : cut.next, n++) {
            const file = await bytes(`${audio}-${n}.flac`);
            const room = flac.room(file.byteLength);
            new Uint8Array(flac.memory.buffer).set(new Uint8Array(file), room);
            const has = flac.decode() * flac.channels();
            whole.set(new Float32Array(flac.memory.buffer, flac.samples(), has), at * channels);
          }
          return whole.buffer;
        };";
    let theirs = in_page(page, from, score, blocks).await?;
    same(&ours, &theirs, 2e-4)?;
    Ok(ours)
}

/// Samples that a score may start, by their places.
fn needed(program: &Program, score: &[(usize, EventKind)]) -> BTreeSet<usize> {
    let keys: BTreeSet<u8> = (score.iter())
        .filter_map(|(_, kind)| match kind {
            EventKind::NoteOn { key, .. } => Some(*key),
            _ => None,
        })
        .collect();
    // What a pedal starts is heard at no key.
    let by_pedal = |region: &Region| {
        (program.strand_of(region)).is_some_and(|strand| matches!(strand.on, On::Enters(_)))
    };
    let is_needed =
        |region: &&Region| by_pedal(region) || keys.iter().any(|key| region.when.keys.contains(*key));
    (program.regions.iter())
        .filter(is_needed)
        .map(|region| region.sample)
        .collect()
}

/// Where a sample's audio is asked for.
fn url_of(sample: &Sample) -> String {
    let (take, version) = match sample.source.split_once('~') {
        Some((take, name)) => (take, format!("&version=cleaned&name={name}")),
        None => (sample.source.as_str(), String::new()),
    };
    format!(
        "/api/takes/{take}/audio?first=0&end={}&first_channel={}&channels={}{version}",
        sample.frames, sample.first_channel, sample.source_channels
    )
}

/// Left and right, as a browser's engine renders them. `from` says, as a script, where engine and program lie, which samples there are, and how their audio is read.
async fn in_page(
    browser: &Browser,
    from: &str,
    score: &[(usize, EventKind)],
    blocks: usize,
) -> anyhow::Result<[Vec<f32>; 2]> {
    let events: Vec<Value> = (score.iter())
        .map(|(block, kind)| match *kind {
            EventKind::NoteOn { key, velocity } => json!([block, "note_on", key, velocity]),
            EventKind::NoteOff { key } => json!([block, "key_up", key, KEY_UP_SPEED]),
            EventKind::Controller { controller, value } => json!([block, "controller", controller, value]),
            EventKind::Bend { value } => json!([block, "bend", value, 0]),
            EventKind::Pressure { value } => json!([block, "pressure", value, 0]),
            EventKind::Control { id, value } => json!([block, "control", id.0, value]),
        })
        .collect();
    let code = format!(
        "const done = arguments[arguments.length - 1];
        (async () => {{
          const bytes = (url) => fetch(url).then((answer) => answer.arrayBuffer());
          {from}
          const e = (await WebAssembly.instantiate(await bytes(engine), {{}})).instance.exports;
          e.start(48000, 128, 512 * 2 ** 20);
          const put = (bytes) => new Uint8Array(e.memory.buffer).set(new Uint8Array(bytes), e.exchange());
          const flat = await bytes(program);
          e.expect_program(flat.byteLength);
          for (let at = 0; at < flat.byteLength; at += 65536) {{
            const piece = flat.slice(at, at + 65536);
            put(piece); if (e.take_program(piece.byteLength) !== 0) throw new Error('program');
          }}
          e.finish_program();
          const slab = e.slab_frames(), margin = e.margin_frames();
          for (const s of samples) {{
            const audio = await audioOf(s);
            for (let n = 0; n * slab < s.frames; n++) {{
              const piece = audio.slice(n * slab * s.channels * 4, (n * slab + slab + margin) * s.channels * 4);
              put(piece); e.take_audio(s.id, s.channels, n, 1, piece.byteLength / s.channels / 4, 0);
            }}
          }}
          const events = {events}; const out = [[], []];
          for (let b = 0; b < {blocks}; b++) {{
            for (const [block, act, of, value] of events) if (block === b) e[act](of, value);
            e.render();
            out[0].push(...new Float32Array(e.memory.buffer, e.left(), 128));
            out[1].push(...new Float32Array(e.memory.buffer, e.right(), 128));
          }}
          done(out);
        }})().catch((error) => done(String(error)));",
        events = json!(events),
    );
    let rendered = browser.driver.execute_async(&code, vec![]).await?;
    serde_json::from_value(rendered.json().clone())
        .with_context(|| format!("{:.300}", rendered.json().to_string()))
}

/// Left and right, as the engine here renders them from what was recorded.
fn native(
    ladder: &Ladder,
    program: &Program,
    score: &[(usize, EventKind)],
    blocks: usize,
) -> anyhow::Result<(Vec<f32>, Vec<f32>)> {
    let mut samples = vec![Vec::new(); program.samples.len()];
    for index in needed(program, score) {
        let sample = &program.samples[index];
        let flat: Vec<f32> = (ladder.bytes(&url_of(sample))?.chunks_exact(4))
            .map(|b| f32::from_le_bytes([b[0], b[1], b[2], b[3]]))
            .collect();
        samples[index] = Audio::from_interleaved(48_000, usize::from(sample.channels), &flat).channels;
    }
    let events: Vec<Event> = (score.iter())
        .map(|(block, kind)| Event {
            frame: block * BLOCK,
            kind: *kind,
        })
        .collect();
    Ok(render_offline(program, samples, RATE_HZ, &events, blocks * BLOCK))
}

/// That both are heard, and the same.
fn same(ours: &(Vec<f32>, Vec<f32>), theirs: &[Vec<f32>; 2], most: f32) -> anyhow::Result<()> {
    anyhow::ensure!(ours.0.iter().any(|x| x.abs() > 0.003), "nothing is heard");
    for (ours, theirs) in [(&ours.0, &theirs[0]), (&ours.1, &theirs[1])] {
        let apart = ours.iter().zip(theirs).map(|(a, b)| (a - b).abs());
        let worst = apart.fold(0.0f32, f32::max);
        anyhow::ensure!(
            worst < most && ours.len() == theirs.len(),
            "what is rendered here and in the browser differs by {worst}"
        );
    }
    Ok(())
}
