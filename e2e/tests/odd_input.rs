//! Some thousand odd requests over every route of the API's own description, and files that are not what they say: each is answered, none with
//! a server's error, every refusal as a problem with a sentence, and nothing else is harmed.

use anyhow::Context;
use e2e::{Ladder, rounds, seeded};
use rand::Rng;
use rand::seq::{IndexedRandom, IteratorRandom};
use rand_pcg::Pcg64;
use serde_json::{Value, json};
use std::collections::BTreeMap;

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

/// What is wrong with an answer; `None` for a good one.
fn wrong(answer: Result<ureq::Response, ureq::Error>) -> (u16, Option<String>) {
    match answer {
        Ok(answer) => (answer.status(), None),
        Err(ureq::Error::Status(status, answer)) => {
            let kind = answer.content_type().to_owned();
            let text = answer.into_string().unwrap_or_default();
            let sentence = serde_json::from_str::<Value>(&text)
                .ok()
                .and_then(|problem| problem["detail"].as_str().map(str::len));
            let fault = if status == 500 {
                Some(format!("500: {text}"))
            } else if kind != "application/problem+json" || sentence.is_none_or(|length| length < 10) {
                Some(format!(
                    "{status} as {kind}: {}",
                    text.chars().take(100).collect::<String>()
                ))
            } else {
                None
            };
            (status, fault)
        }
        Err(error) => (0, Some(format!("no answer: {error}"))),
    }
}

const NUMBERS: [&str; 12] = [
    "-1",
    "0",
    "1e3",
    "18446744073709551615",
    "18446744073709551616",
    "9007199254740993",
    "NaN",
    "",
    "%00",
    "%ff",
    "..%2f..%2fx",
    "1.5",
];

fn odd(random: &mut Pcg64) -> Value {
    let all = [
        Value::Null,
        json!(true),
        json!(""),
        json!("x"),
        json!("\u{202e}evil\u{0}\u{7}"),
        json!("../../etc/passwd"),
        json!([[[[]]]]),
        json!({}),
        json!(-1),
        json!(0),
        json!(0.5),
        json!(u64::MAX),
        json!(1u64 << 53),
        json!(1e308),
        json!(-1e308),
        json!(1e-308),
        json!("a".repeat(5_000)),
        json!({ "start_frame": u64::MAX, "end_frame": u64::MAX }),
        json!({ "start_frame": 100, "end_frame": 50, "crossfade_frames": u64::MAX }),
    ];
    all.choose(random).cloned().unwrap_or(Value::Null)
}

/// A value that a schema allows.
fn good(schema: &Value, all: &Value, depth: usize, random: &mut Pcg64) -> Value {
    if depth > 8 {
        return Value::Null;
    }
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next()) {
        return good(&all[name], all, depth + 1, random);
    }
    for of in ["oneOf", "anyOf", "allOf"] {
        if let Some(choices) = schema[of].as_array() {
            let choice = choices
                .iter()
                .filter(|choice| choice["type"] != "null")
                .choose(random);
            return choice.map_or(Value::Null, |choice| good(choice, all, depth + 1, random));
        }
    }
    if let Some(choices) = schema["enum"].as_array() {
        return choices.choose(random).cloned().unwrap_or(Value::Null);
    }
    let kind = match &schema["type"] {
        Value::Array(kinds) => kinds
            .iter()
            .find(|kind| *kind != "null")
            .cloned()
            .unwrap_or_default(),
        kind => kind.clone(),
    };
    match kind.as_str() {
        Some("object") => {
            let fields = schema["properties"].as_object().into_iter().flatten();
            fields
                .map(|(name, of)| (name.clone(), good(of, all, depth + 1, random)))
                .collect::<serde_json::Map<_, _>>()
                .into()
        }
        Some("array") => json!([good(&schema["items"], all, depth + 1, random)]),
        Some("integer") => json!(1),
        Some("number") => json!(1.0),
        Some("boolean") => json!(true),
        _ => json!("a"),
    }
}

/// Puts a value at a random place inside another.
fn put(into: &mut Value, value: &Value, random: &mut Pcg64) {
    let inner = match into {
        Value::Object(fields) if !fields.is_empty() && random.random_bool(0.85) => {
            fields.values_mut().choose(random)
        }
        Value::Array(items) if !items.is_empty() && random.random_bool(0.85) => {
            items.iter_mut().choose(random)
        }
        _ => None,
    };
    match inner {
        Some(inner) => put(inner, value, random),
        None => *into = value.clone(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_odd_request_breaks_anything() -> anyhow::Result<()> {
    let mut random = seeded();
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "sustained", "source": { "how": "over_midi", "rig": "reed-organ", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [50, 60, 70], "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 2_000, "tail_ms": 600 }] });
    ladder.post("/api/instruments", &json!({ "name": "Odd", "plan": plan }))?;
    ladder.post("/api/instruments/1/run", &json!({}))?;
    let sound = (0..1_440_000)
        .map(|n| {
            if n % 96_000 < 40_000 {
                (n as f32 * 0.05).sin() * 0.3
            } else {
                0.0
            }
        })
        .collect();
    ladder.send(
        "/api/instruments/1/long-takes?name=l.wav",
        &formats::wav_bytes(&signal::Audio::mono(48_000, sound), 24, None),
    )?;
    let ready = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 3
                && takes(view).iter().all(|take| !take["facts"].is_null())
                && view["long_takes"][0]["frames"].is_u64()
        })
        .await?;
    let (take, long) = (
        takes(&ready)[0]["id"].as_u64().context("take")?,
        ready["long_takes"][0]["id"].as_u64().context("long take")?,
    );
    let document = ladder.get("/api/openapi.json")?;
    let schemas = &document["components"]["schemas"];
    let (mut counts, mut faults) = (BTreeMap::<u16, usize>::new(), Vec::new());
    let mut ask = |method: &str, path: &str, body: Option<(&str, Vec<u8>)>| {
        let url = format!("{}{path}", ladder.address);
        let request = ureq::request(method, &url).timeout(std::time::Duration::from_secs(60));
        let answer = match &body {
            Some((kind, bytes)) => request.set("content-type", kind).send_bytes(bytes),
            None => request.call(),
        };
        let (status, fault) = wrong(answer);
        *counts.entry(status).or_default() += 1;
        if let Some(fault) = fault {
            let sent =
                body.map(|(_, bytes)| String::from_utf8_lossy(&bytes[..bytes.len().min(300)]).into_owned());
            faults.push(format!(
                "{method} {} {sent:?}: {fault}",
                path.chars().take(160).collect::<String>()
            ));
        }
        status
    };
    const JSON: &str = "application/json";
    for _ in 0..2 * rounds(3) {
        for (path, methods) in document["paths"].as_object().context("paths")? {
            for (method, of) in methods.as_object().context("methods")? {
                let method = method.to_uppercase();
                let real = match path.split('/').nth(2) {
                    Some("takes") => take,
                    Some("long-takes") => long,
                    _ => 1,
                };
                let fill = |id: &str| {
                    path.replacen("{id}", id, 1)
                        .replace("{order}", "stop")
                        .replace("{format}", "sfz")
                        .replace("{pass}", "0")
                };
                let queries: Vec<&Value> = of["parameters"]
                    .as_array()
                    .into_iter()
                    .flatten()
                    .filter(|parameter| parameter["in"] == "query")
                    .collect();
                let text = |value: Value| match value {
                    Value::String(text) => text,
                    other => other.to_string(),
                };
                let query = |random: &mut Pcg64, odd: Option<(&Value, &str)>| -> String {
                    let needed = queries.iter().filter(|parameter| {
                        parameter["required"] == true
                            && odd.is_none_or(|(of, _)| of["name"] != parameter["name"])
                    });
                    let mut all: Vec<String> = needed
                        .map(|parameter| {
                            format!(
                                "{}={}",
                                text(parameter["name"].clone()),
                                text(good(&parameter["schema"], schemas, 0, random))
                            )
                        })
                        .collect();
                    all.extend(odd.map(|(of, value)| format!("{}={value}", text(of["name"].clone()))));
                    format!("?{}", all.join("&"))
                };
                let content = &of["requestBody"]["content"];
                let schema = content.get(JSON).map(|content| &content["schema"]);
                let sample = |random: &mut Pcg64| match schema {
                    Some(schema) => Some((JSON, good(schema, schemas, 0, random).to_string().into_bytes())),
                    None if content.is_object() => Some(("application/octet-stream", b"x".to_vec())),
                    None => None,
                };
                for id in NUMBERS.iter().choose_multiple(&mut random, 5) {
                    let (asked, body) = (query(&mut random, None), sample(&mut random));
                    ask(&method, &format!("{}{asked}", fill(id)), body);
                }
                for parameter in &queries {
                    for value in NUMBERS.iter().choose_multiple(&mut random, 5) {
                        let (asked, body) =
                            (query(&mut random, Some((parameter, value))), sample(&mut random));
                        ask(&method, &format!("{}{asked}", fill(&real.to_string())), body);
                    }
                }
                if let Some(schema) = schema {
                    // Runs that are begun by odd settings are stopped below.
                    for _ in 0..20 {
                        let mut body = good(schema, schemas, 0, &mut random);
                        put(&mut body, &odd(&mut random), &mut random);
                        let asked = query(&mut random, None);
                        ask(
                            &method,
                            &format!("{}{asked}", fill(&real.to_string())),
                            Some((JSON, body.to_string().into_bytes())),
                        );
                    }
                    for raw in [&b""[..], b"{", b"\xff\xfe{}", b"null", &b"[".repeat(50_000)] {
                        ask(&method, &fill(&real.to_string()), Some((JSON, raw.to_vec())));
                    }
                    ask(
                        &method,
                        &fill(&real.to_string()),
                        Some(("text/plain", b"{}".to_vec())),
                    );
                }
                ask("POST", "/api/instruments/1/run/stop", None);
            }
        }
        // By reading: numbers at the ends of what they can be.
        const MOST: u64 = u64::MAX;
        for path in [
            format!("/api/long-takes/{long}/audio?first={MOST}&end={MOST}"),
            format!("/api/long-takes/{long}/audio?first={}&end={MOST}", MOST - 5),
            format!("/api/long-takes/{long}/phrase?first={}&end={MOST}", MOST - 100),
            format!("/api/long-takes/{long}/phrase?first=5&end=2"),
            format!("/api/long-takes/{long}/phrase?first=99999999&end=99999999"),
            format!("/api/long-takes/{long}/peaks?first=0&end={MOST}&columns={MOST}"),
            format!("/api/takes/{take}/audio?first={MOST}&end={MOST}"),
            format!("/api/takes/{take}/audio?first=0&end=10&first_channel={MOST}"),
            format!("/api/takes/{take}/audio?first=0&end=10&channels=0&version=cleaned"),
            format!("/api/takes/{take}/peaks?first=0&end={MOST}&columns=10&channel={MOST}&version=cleaned"),
            "/api/jobs/1/file".to_owned(),
            format!("/{}", "a".repeat(7_000)),
            format!("/api/{}", "b".repeat(3_000)),
        ] {
            ask("GET", &path, None);
        }
        for (first, end) in [
            (0, 0),
            (10, 5),
            (MOST, MOST),
            (MOST - 10, MOST),
            (1 << 40, (1 << 40) + 5),
            (0, MOST),
        ] {
            let slice = json!({ "first_frame": first, "end_frame": end, "key": null, "cents": null, "in_tail": false, "left_out": false });
            ask(
                "POST",
                &format!("/api/long-takes/{long}/hear"),
                Some((JSON, json!([slice]).to_string().into_bytes())),
            );
            let wish = json!({ "label": "s", "wishes": [{ "target": { "long_take": long }, "fact": "slices", "after": { "value": { "slices": [slice] } } }] });
            if ask(
                "POST",
                "/api/instruments/1/changes",
                Some((JSON, wish.to_string().into_bytes())),
            ) == 204
            {
                for how in ["in_order", "repeats", "by_pitch", "midi_file"] {
                    ask(
                        "POST",
                        &format!("/api/long-takes/{long}/deal"),
                        Some((JSON, json!({ "how": how }).to_string().into_bytes())),
                    );
                }
                let dealt =
                    json!([{ "slice": 0, "cell": { "pass": 0, "key": 50, "layer": 0, "round_robin": 0 } }]);
                ask(
                    "POST",
                    &format!("/api/long-takes/{long}/takes"),
                    Some((JSON, dealt.to_string().into_bytes())),
                );
            }
        }
        for first_ms in [0.0, -1e300, 1e300] {
            for spacing_ms in [0.0, -1.0, 1e-9, 500.0, 1e300] {
                let grid = json!({ "cut": { "grid": { "first_ms": first_ms, "spacing_ms": spacing_ms, "lag_ms": -first_ms, "room_before_ms": first_ms } } });
                ask(
                    "POST",
                    &format!("/api/long-takes/{long}/cut"),
                    Some((JSON, grid.to_string().into_bytes())),
                );
                let silence = json!({ "cut": { "silence": { "over_floor_db": first_ms, "shortest_ms": spacing_ms, "shortest_silence_ms": spacing_ms, "room_before_ms": first_ms, "room_after_ms": 1e300 } } });
                ask(
                    "POST",
                    &format!("/api/long-takes/{long}/cut"),
                    Some((JSON, silence.to_string().into_bytes())),
                );
            }
        }
        for key in [0, 127] {
            let make = json!({ "takes": [take], "how": { "at_key": { "key": key } } });
            ask(
                "POST",
                "/api/instruments/1/make",
                Some((JSON, make.to_string().into_bytes())),
            );
        }
    }
    let asked: usize = counts.values().sum();
    println!("{asked} requests: {counts:?}");
    assert!(
        faults.is_empty(),
        "{} faults, such as:\n{}",
        faults.len(),
        faults[..faults.len().min(12)].join("\n")
    );
    // What was there is there, and works.
    ladder.post("/api/instruments/1/run/stop", &json!({})).ok();
    let view = ladder.get("/api/instruments/1")?;
    assert!(takes(&view).len() >= 3);
    let panics = ladder
        .ask("SELECT id, kind, error FROM jobs WHERE state = 'failed' AND error LIKE '%broke down%'")?;
    assert!(panics.is_empty(), "{panics:?}");
    ladder.end().await
}

/// Written after Multimedia Programming Interface and Data Specifications 1.0.
fn wav(tag: u16, channels: u16, rate: u32, bits: u16, data: u32, body: &[u8]) -> Vec<u8> {
    let block = channels.wrapping_mul(bits / 8);
    let mut file = b"RIFF".to_vec();
    file.extend((data.wrapping_add(36)).to_le_bytes());
    file.extend(b"WAVEfmt ");
    file.extend(16u32.to_le_bytes());
    file.extend(tag.to_le_bytes());
    file.extend(channels.to_le_bytes());
    file.extend(rate.to_le_bytes());
    file.extend(rate.wrapping_mul(u32::from(block)).to_le_bytes());
    file.extend(block.to_le_bytes());
    file.extend(bits.to_le_bytes());
    file.extend(b"data");
    file.extend(data.to_le_bytes());
    file.extend(body);
    file
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_not_what_they_say_are_refused_or_told() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "struck", "source": { "how": "files", "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [60], "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 1_000, "tail_ms": 1_000 }] });
    ladder.post("/api/instruments", &json!({ "name": "Files", "plan": plan }))?;
    let tone: Vec<f32> = (0..48_000).map(|n| (n as f32 * 0.05).sin() * 0.4).collect();
    let whole = formats::wav_bytes(
        &signal::Audio {
            rate_hz: 48_000,
            channels: vec![tone.clone(), tone.clone()],
        },
        16,
        None,
    );
    let zeros = vec![0; 4_000];
    let float = |x: f32| formats::wav_bytes(&signal::Audio::mono(48_000, vec![x; 4_800]), 32, None);
    let refused: Vec<(&str, Vec<u8>)> = vec![
        ("empty.wav", Vec::new()),
        ("text.wav", b"hello".to_vec()),
        ("header.wav", whole[..44].to_vec()),
        ("cut.wav", whole[..whole.len() / 3].to_vec()),
        ("one byte less.wav", whole[..whole.len() - 1].to_vec()),
        ("4 GB.wav", wav(1, 2, 48_000, 16, 0xffff_fff0, &zeros)),
        ("0 channels.wav", wav(1, 0, 48_000, 16, 4_000, &zeros)),
        ("65535 channels.wav", wav(1, 65_535, 48_000, 16, 4_000, &zeros)),
        ("0 Hz.wav", wav(1, 2, 0, 16, 4_000, &zeros)),
        ("4 GHz.wav", wav(1, 2, u32::MAX, 16, 4_000, &zeros)),
        ("768 kHz.wav", wav(1, 2, 768_000, 16, 4_000, &zeros)),
        ("0 bits.wav", wav(1, 2, 48_000, 0, 4_000, &zeros)),
        ("unknown.wav", wav(0x1234, 2, 48_000, 16, 4_000, &zeros)),
        ("nan.wav", float(f32::NAN)),
        ("inf.wav", float(f32::INFINITY)),
        (
            "noise.mp3",
            (0..50_000u32)
                .map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8)
                .collect(),
        ),
    ];
    for (name, bytes) in &refused {
        for way in ["files", "long-takes"] {
            let url = format!(
                "{}/api/instruments/1/{way}?name={}",
                ladder.address,
                name.replace(' ', "%20")
            );
            match (way, ureq::post(&url).send_bytes(bytes)) {
                (_, Err(ureq::Error::Status(422, answer))) => {
                    let problem: Value = answer.into_json()?;
                    let sentence = problem["detail"].as_str().unwrap_or_default();
                    assert!(sentence.contains(name), "{name}: {sentence}");
                }
                // What comes as a long take is read by a job, which says the same.
                ("long-takes", Ok(answer)) => {
                    let job: Value = answer.into_json()?;
                    let path = format!("/api/jobs/{}", job["id"]);
                    let ended = ladder
                        .wait_for(&path, |job| {
                            !["waiting", "running"].contains(&job["state"].as_str().unwrap_or_default())
                        })
                        .await?;
                    assert_eq!(ended["state"], "failed", "{name} is taken: {ended}");
                    assert!(
                        ended["error"]
                            .as_str()
                            .is_some_and(|said| said.starts_with("This is not audio")),
                        "{name}: {ended}"
                    );
                }
                (_, other) => anyhow::bail!("{name} as {way}: {other:?}"),
            }
        }
    }
    // Names that lead elsewhere are names; what is silent is told.
    let silent = formats::wav_bytes(&signal::Audio::mono(48_000, vec![0.0; 4_800]), 24, None);
    for (name, bytes) in [
        ("..%2f..%2f..%2ftmp%2fescaped.wav", &whole),
        ("a%00b%1b%5b31m.wav", &whole),
        ("silent.wav", &silent),
    ] {
        ladder.send(&format!("/api/instruments/1/files?name={name}"), bytes)?;
    }
    let listed = ladder.get("/api/instruments/1/files")?;
    let files = listed["files"].as_array().context("files")?;
    assert_eq!(files.len(), 3);
    let told = files
        .iter()
        .find(|file| file["name"] == "silent.wav")
        .context("the silent one")?;
    assert!(told["says"].to_string().contains("silent"), "{told}");
    assert!(!std::path::Path::new("/tmp/escaped.wav").exists());
    assert!(
        ladder.get("/api/instruments/1")?["long_takes"]
            .as_array()
            .is_some_and(Vec::is_empty)
    );
    ladder.end().await
}

/// Long and wide sounds are measured in little memory.
#[tokio::test(flavor = "multi_thread")]
async fn a_long_wide_take_is_measured_in_little_memory() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let plan = json!({ "kind": "sustained", "source": { "how": "files", "rig": "page", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": [60], "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 1_000, "tail_ms": 1_000 }] });
    let mut worst = 0;
    for (name, rate, channels, seconds) in [
        ("long", 48_000u32, 2u16, 299u32),
        ("wide", 48_000, 8, 290),
        ("high", 192_000, 2, 240),
    ]
    .into_iter()
    .take(if rounds(3) > 1 { 3 } else { 1 })
    {
        let made = ladder.post("/api/instruments", &json!({ "name": name, "plan": plan }))?;
        let id = made["id"].as_u64().context("an instrument")?;
        let idle = ladder.memory_mb()?.0;
        let one: Vec<u8> = (0..rate)
            .flat_map(|n| {
                let t = f64::from(n) / f64::from(rate);
                let x = ((t * 220.0 * std::f64::consts::TAU).sin() * 12_000.0) as i16;
                std::iter::repeat_n(x.to_le_bytes(), usize::from(channels)).flatten()
            })
            .collect();
        let data = one.len() as u32 * seconds;
        let mut file = wav(1, channels, rate, 16, data, &[]);
        for _ in 0..seconds {
            file.extend(&one);
        }
        ladder.send(
            &format!("/api/instruments/{id}/files?name={name}%20A3.wav"),
            &file,
        )?;
        let listed = ladder.get(&format!("/api/instruments/{id}/files"))?;
        let taken = json!([{ "files": [{ "file": listed["files"][0]["id"], "key": 57, "layer": 0, "round_robin": 0, "key_up": false, "mic": null }] }]);
        ladder.post(&format!("/api/instruments/{id}/files/take-in"), &taken)?;
        ladder
            .wait_for(&format!("/api/instruments/{id}"), |view| {
                takes(view).first().is_some_and(|take| !take["facts"].is_null())
            })
            .await?;
        let over = ladder.memory_mb()?.1.saturating_sub(idle);
        println!("{name}: {seconds} s of {channels} channels at {rate} Hz measured in {over} MB over idle");
        worst = worst.max(over);
    }
    assert!(worst <= 200, "{worst} MB");
    ladder.end().await
}
