//! The server is killed in the midst of every kind of work, and loses nothing that it had acknowledged: short, once each; long
//! (`bin/test --long`), at five random moments each, from a seed that is printed.

use anyhow::Context;
use e2e::{Ladder, Page, PageEnd, Playing, Sound, Start, rounds, seeded};
use rand::Rng;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

fn plan(how: &str, rig: &str, rungs: &[u8]) -> Value {
    json!({ "kind": "struck", "source": { "how": how, "rig": rig, "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": rungs, "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 400, "tail_ms": 1_200 }] })
}

fn new(ladder: &Ladder, name: &str, plan: &Value) -> anyhow::Result<u64> {
    let made = ladder.post("/api/instruments", &json!({ "name": name, "plan": plan }))?;
    made["id"].as_u64().context("an instrument")
}

fn view(ladder: &Ladder, id: u64) -> anyhow::Result<Value> {
    ladder.get(&format!("/api/instruments/{id}"))
}

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

fn wav(seconds: f32, seed: u32) -> Vec<u8> {
    let sound = (0..(48_000.0 * seconds) as u32)
        .map(|n| (n as f32 * (0.03 + seed as f32 * 0.001)).sin() * 0.4 * (-(n as f32) / 60_000.0).exp())
        .collect();
    formats::wav_bytes(&signal::Audio::mono(48_000, sound), 24, None)
}

/// Kills it after a while and starts it again, while something is done; gives what that gave.
fn killed_after<T: Send>(
    ladder: &mut Ladder,
    after: Duration,
    work: impl FnOnce(&str, &AtomicBool) -> T + Send,
) -> anyhow::Result<T> {
    let over = AtomicBool::new(false);
    let address = ladder.address.clone();
    std::thread::scope(|scope| {
        let working = scope.spawn(|| work(&address, &over));
        std::thread::sleep(after);
        ladder.kill()?;
        over.store(true, Ordering::Relaxed);
        let done = working
            .join()
            .map_err(|_| anyhow::anyhow!("the work broke down"))?;
        ladder.restart()?;
        Ok(done)
    })
}

fn post(address: &str, path: &str, body: &Value) -> Option<Value> {
    let text = ureq::post(&format!("{address}{path}"))
        .send_json(body)
        .ok()?
        .into_string()
        .ok()?;
    Some(serde_json::from_str(&text).unwrap_or(Value::Null))
}

/// Waits until every job has ended; those that a third kill has ended for good are tried again, as a user would.
async fn jobs_ended(ladder: &Ladder) -> anyhow::Result<()> {
    for _ in 0..600 {
        let open = ladder.ask("SELECT COUNT(*) FROM jobs WHERE state IN ('waiting', 'running')")?;
        let failed = ladder
            .ask("SELECT id FROM jobs WHERE state = 'failed' AND error LIKE 'It broke off three times%'")?;
        for row in &failed {
            ladder.post(&format!("/api/jobs/{}/again", row[0]), &json!({}))?;
        }
        if open[0][0] == "0" && failed.is_empty() {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    anyhow::bail!(
        "jobs never end: {:?}",
        ladder.ask("SELECT id, kind, state, tries, error FROM jobs WHERE state <> 'done'")?
    )
}

/// Nothing is there that nobody refers to and nothing is missing that somebody does.
fn all_whole(ladder: &Ladder) -> anyhow::Result<()> {
    let rows = ladder.ask("SELECT r.hash, r.frames, r.channels, r.bits FROM recordings r WHERE EXISTS (SELECT 1 FROM takes t WHERE t.recording = r.hash) \
        OR EXISTS (SELECT 1 FROM long_takes l WHERE l.recording = r.hash) OR EXISTS (SELECT 1 FROM waiting_files w WHERE w.recording = r.hash)")?;
    for row in rows {
        let bytes: u64 = row[1].parse::<u64>()? * row[2].parse::<u64>()? * (row[3].parse::<u64>()? / 8);
        let file = ladder
            .folder()
            .join(format!("audio/recordings/{}/{}.wav", &row[0][..2], row[0]));
        let length = std::fs::metadata(&file)
            .with_context(|| format!("{} is not there", file.display()))?
            .len();
        anyhow::ensure!(
            length >= bytes + 44,
            "{} is not whole: {length} of {bytes}",
            file.display()
        );
    }
    let half = ladder.ask(
        "SELECT COUNT(*) FROM facts f LEFT JOIN instruments i ON i.id = f.instrument_id WHERE i.id IS NULL",
    )?;
    anyhow::ensure!(half[0][0] == "0");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_acknowledged_outlives_a_kill_in_every_kind_of_work() -> anyhow::Result<()> {
    let mut random = seeded();
    let mut ladder = Ladder::start_as(Start::default()).await?;
    // An instrument to edit, to make from, to clean and to export.
    let worked = new(
        &ladder,
        "Worked on",
        &plan("over_midi", "night-ferry", &[48, 52, 56, 60, 64, 67]),
    )?;
    ladder.post(&format!("/api/instruments/{worked}/run"), &json!({}))?;
    let ready = ladder
        .wait_for(&format!("/api/instruments/{worked}"), |view| {
            takes(view).len() == 6
                && takes(view).iter().all(|take| !take["facts"].is_null())
                && view["run"].is_null()
        })
        .await?;
    let ids: Vec<u64> = takes(&ready)
        .iter()
        .filter_map(|take| take["id"].as_u64())
        .collect();
    let (mut edits, mut makes, mut exports, mut imports, mut files) = (
        BTreeMap::<u64, f64>::new(),
        0usize,
        Vec::new(),
        Vec::new(),
        Vec::new(),
    );
    for round in 0..rounds(5) {
        let mut moment = |most_ms: u64| Duration::from_millis(random.random_range(20..most_ms));

        // Edits.
        let from = round as f64;
        let kept = killed_after(&mut ladder, moment(900), |address, over| {
            let mut kept = BTreeMap::new();
            for n in 0.. {
                if over.load(Ordering::Relaxed) {
                    break;
                }
                let (take, value) = (ids[n % ids.len()], from + n as f64 / 1_000.0);
                let wish = json!({ "label": "nudge", "wishes": [{ "target": { "take": take }, "fact": "tune_cents", "after": { "value": value } }] });
                if post(address, &format!("/api/instruments/{worked}/changes"), &wish).is_some() {
                    kept.insert(take, value);
                }
            }
            kept
        })?;
        edits.extend(kept);
        for take in takes(&view(&ladder, worked)?) {
            if let Some(kept) = take["id"].as_u64().and_then(|id| edits.get(&id)) {
                let now = take["correction"]["tune_cents"].as_f64().unwrap_or(f64::MIN);
                assert!(now >= *kept - 1e-9, "an edit is lost: {now} for {kept}");
            }
        }

        // A run of the simulated synthesiser.
        let run = new(
            &ladder,
            "A run",
            &plan("over_midi", "night-ferry", &(36..60).collect::<Vec<u8>>()),
        )?;
        ladder.post(&format!("/api/instruments/{run}/run"), &json!({}))?;
        let seen = killed_after(&mut ladder, moment(1_500), |address, over| {
            let mut seen = Vec::new();
            while !over.load(Ordering::Relaxed) {
                if let Ok(answer) = ureq::get(&format!("{address}/api/instruments/{run}")).call()
                    && let Ok(view) = answer.into_json::<Value>()
                {
                    seen = takes(&view)
                        .iter()
                        .map(|take| (take["id"].clone(), take["frames"].clone()))
                        .collect();
                }
            }
            seen
        })?;
        let done = ladder
            .wait_for(&format!("/api/instruments/{run}"), |view| {
                takes(view).len() >= 24 && view["run"].is_null()
            })
            .await?;
        assert_eq!(takes(&done).len(), 24, "every cell once");
        for (id, frames) in seen {
            assert!(
                takes(&done)
                    .iter()
                    .any(|take| take["id"] == id && take["frames"] == frames),
                "a take is lost"
            );
        }

        // Files that are dropped on the page.
        let sent = killed_after(&mut ladder, moment(900), |address, over| {
            let mut sent = Vec::new();
            for n in 0.. {
                if over.load(Ordering::Relaxed) {
                    break;
                }
                let name = format!("file {round} {n} C4.wav");
                let url = format!(
                    "{address}/api/instruments/{worked}/files?name={}",
                    name.replace(' ', "%20")
                );
                if ureq::post(&url).send_bytes(&wav(0.5, n)).is_ok() {
                    sent.push(name);
                }
            }
            sent
        })?;
        files.extend(sent);
        let listed = ladder.get(&format!("/api/instruments/{worked}/files"))?;
        let names: Vec<&str> = listed["files"]
            .as_array()
            .context("files")?
            .iter()
            .filter_map(|file| file["name"].as_str())
            .collect();
        for file in &files {
            assert_eq!(
                names.iter().filter(|name| **name == file.as_str()).count(),
                1,
                "{file}"
            );
        }

        // A file that is read by a job; takes that are made; cleaning that is rendered; exports.
        let (n, making) = (round, ["reversed", "in_tune"][round % 2]);
        let (imported, made, exported) = killed_after(&mut ladder, moment(900), |address, _| {
            let name = format!("long {n}.wav");
            let url = format!("{address}/api/instruments/{worked}/long-takes?name=long%20{n}.wav");
            let imported = ureq::post(&url).send_bytes(&wav(20.0, 3)).is_ok().then_some(name);
            let body = json!({ "takes": ids, "how": making });
            let made = post(address, &format!("/api/instruments/{worked}/make"), &body).is_some();
            let clean = json!({ "label": "clean", "wishes": ids.iter().map(|take| json!({ "target": { "take": take }, "fact": "remove_dc", "after": { "value": n % 2 == 0 } })).collect::<Vec<_>>() });
            post(address, &format!("/api/instruments/{worked}/changes"), &clean);
            let body = json!({ "format": if n % 2 == 0 { "sfz" } else { "sound_font2" }, "bits": 24 });
            let exported = post(address, &format!("/api/instruments/{worked}/exports"), &body);
            (imported, made, exported.and_then(|job| job["id"].as_u64()))
        })?;
        imports.extend(imported);
        makes += usize::from(made);
        exports.extend(exported);
        jobs_ended(&ladder).await?;
        for name in &imports {
            let there = ladder.ask(&format!("SELECT COUNT(*) FROM long_takes WHERE name = '{name}'"))?;
            assert_eq!(there[0][0], "1", "{name}");
        }
        let done = ladder.ask("SELECT COUNT(*) FROM jobs WHERE kind = 'make' AND state = 'done'")?[0][0]
            .parse::<usize>()?;
        let made = ladder.ask(&format!("SELECT COUNT(*) FROM takes WHERE instrument_id = {worked} AND JSON_VALUE(origin, '$.made_by') IS NOT NULL"))?;
        assert!(done >= makes);
        assert_eq!(
            made[0][0].parse::<usize>()?,
            done * ids.len(),
            "every making has its effect once"
        );
        let now = view(&ladder, worked)?;
        assert!(
            takes(&now)
                .iter()
                .filter(|take| take["chosen"] == true)
                .all(|take| !take["levels"].is_null()),
            "rendered and told"
        );
        for job in &exports {
            let file = ladder.bytes(&format!("/api/jobs/{job}/file"))?;
            match &file[..4] {
                b"RIFF" => assert_eq!(
                    u64::from(u32::from_le_bytes(file[4..8].try_into()?)) + 8,
                    file.len() as u64
                ),
                _ => assert!(zip::ZipArchive::new(std::io::Cursor::new(file))?.len() > 1),
            }
        }

        // A long take of a page: it goes on, and not one frame is missing or twice.
        let id = new(&ladder, "A long take", &plan("long_take", "page", &[60]))?;
        let name = long_take_survives(&mut ladder, id, moment(1_500)).await?;
        println!("{name}");
        // A page's run by hand and over MIDI: the note that was broken off is kept, and asked for again.
        for (how, sound) in [("by_hand", Sound::Struck(60)), ("over_midi", Sound::Played)] {
            let id = new(&ladder, how, &plan(how, "page", &[60]))?;
            run_of_page_survives(&mut ladder, id, sound, moment(1_200))
                .await
                .context(how)?;
        }
        all_whole(&ladder)?;
        assert_eq!(
            std::fs::read_dir(ladder.folder().join("spool"))?.count(),
            0,
            "the spool is empty"
        );
    }
    ladder.end().await
}

/// Gives what the long take is called.
async fn long_take_survives(ladder: &mut Ladder, id: u64, after: Duration) -> anyhow::Result<String> {
    ladder.post(&format!("/api/instruments/{id}/run"), &json!({ "channels": 1 }))?;
    let mut page = Page::new(id, Sound::Numbered);
    assert_eq!(page.open(&ladder.address)?, Playing::GoesOn);
    let mut page = killed_after(ladder, after, move |_, over| {
        while !over.load(Ordering::Relaxed) && page.play(0.5, 3.0) == Playing::GoesOn {}
        page
    })?;
    let acknowledged = page.acknowledged;
    assert_eq!(
        page.open(&ladder.address)?,
        Playing::GoesOn,
        "the recording waits for its page"
    );
    if acknowledged > 0 {
        let wanted = page.opened_at.context("it is known where it goes on")?;
        assert!(
            wanted >= acknowledged,
            "{wanted} of {acknowledged} acknowledged are left"
        );
    }
    assert_eq!(page.play(2.0, 3.0), Playing::GoesOn);
    let frames = page.frame;
    assert_eq!(page.stop()?, PageEnd::Finished);
    let now = ladder
        .wait_for(&format!("/api/instruments/{id}"), |view| {
            view["long_takes"][0]["frames"].is_u64() && view["run"].is_null()
        })
        .await?;
    assert_eq!(now["long_takes"].as_array().map(Vec::len), Some(1));
    let kept = &now["long_takes"][0];
    assert_eq!(
        (kept["frames"].as_u64(), &kept["broken_off"]),
        (Some(frames), &json!(false))
    );
    let take = kept["id"].as_u64().context("a long take")?;
    for first in (0..frames).step_by(400_000) {
        let end = frames.min(first + 400_000);
        let bytes = ladder.bytes(&format!("/api/long-takes/{take}/audio?first={first}&end={end}"))?;
        for (n, sample) in bytes.chunks_exact(4).enumerate() {
            let frame = first + n as u64;
            let heard = f32::from_le_bytes(sample.try_into()?);
            let sent = ((frame.wrapping_mul(7_919) % 16_000) as f32 - 8_000.0) / 16_384.0;
            assert!((heard - sent).abs() < 1e-6, "frame {frame}: {heard} for {sent}");
        }
    }
    Ok(kept["name"].to_string())
}

async fn run_of_page_survives(
    ladder: &mut Ladder,
    id: u64,
    sound: Sound,
    after: Duration,
) -> anyhow::Result<()> {
    ladder.post(
        &format!("/api/instruments/{id}/run"),
        &json!({ "channels": 1, "hands_free": true }),
    )?;
    let mut page = Page::new(id, sound);
    assert_eq!(page.open(&ladder.address)?, Playing::GoesOn);
    let mut page = killed_after(ladder, after, move |_, over| {
        while !over.load(Ordering::Relaxed) && page.play(0.1, 0.5) == Playing::GoesOn {}
        page
    })?;
    let now = view(ladder, id)?;
    let broken: Vec<u64> = takes(&now)
        .iter()
        .filter(|take| take["origin"]["verdict"]["findings"][0]["kind"] == "broken_off")
        .filter_map(|take| take["frames"].as_u64())
        .collect();
    let acknowledged = page.acknowledged;
    let wanted = match page.open(&ladder.address)? {
        Playing::GoesOn => page.opened_at,
        // It had been through before it was killed.
        Playing::Ended(PageEnd::Refused(_)) => {
            assert!(takes(&now).iter().any(|take| take["chosen"] == true), "{now}");
            return Ok(());
        }
        other => anyhow::bail!("{other:?}"),
    };
    if let Some(wanted) = wanted {
        // What was acknowledged of the note that was recorded is in the take that was kept of it.
        assert!(wanted >= acknowledged, "{wanted} of {acknowledged}");
        assert_eq!(broken.len(), 1, "{now}");
    }
    for _ in 0..600 {
        if page.play(0.2, 0.5) != Playing::GoesOn {
            break;
        }
    }
    let done = ladder
        .wait_for(&format!("/api/instruments/{id}"), |view| {
            view["run"].is_null() && takes(view).iter().any(|take| take["chosen"] == true)
        })
        .await?;
    let chosen: Vec<&Value> = takes(&done)
        .iter()
        .filter(|take| take["chosen"] == true)
        .collect();
    assert_eq!(chosen.len(), 1);
    assert_eq!(
        chosen[0]["origin"]["verdict"]["findings"]
            .as_array()
            .map_or(0, Vec::len),
        0,
        "{done}"
    );
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_does_not_come_back_leaves_a_take_that_broke_off() -> anyhow::Result<()> {
    let mut ladder = Ladder::start_as(Start {
        environment: vec![("LADDER_PAGE_GONE_S".into(), "2".into())],
        ..Start::default()
    })
    .await?;
    let id = new(&ladder, "Left alone", &plan("long_take", "page", &[60]))?;
    ladder.post(&format!("/api/instruments/{id}/run"), &json!({ "channels": 1 }))?;
    let mut page = Page::new(id, Sound::Numbered);
    page.open(&ladder.address)?;
    assert_eq!(page.play(5.0, 2.0), Playing::GoesOn);
    let acknowledged = page.acknowledged;
    assert!(acknowledged > 48_000);
    ladder.kill()?;
    ladder.restart()?;
    let now = ladder
        .wait_for(&format!("/api/instruments/{id}"), |view| {
            view["long_takes"][0]["frames"].is_u64() && view["run"].is_null()
        })
        .await?;
    let kept = &now["long_takes"][0];
    assert_eq!(kept["broken_off"], true);
    assert!(kept["frames"].as_u64() >= Some(acknowledged), "{kept}");
    // A page that comes too late is told what became of its sound.
    let Playing::Ended(PageEnd::Refused(sentence)) = page.open(&ladder.address)? else {
        anyhow::bail!("it is let in");
    };
    assert!(sentence.contains("are kept as the long take"), "{sentence}");
    // Killed again, nothing is kept twice.
    ladder.kill()?;
    ladder.restart()?;
    assert_eq!(view(&ladder, id)?["long_takes"].as_array().map(Vec::len), Some(1));
    ladder.end().await
}

/// A second start on the same folder, and one at an address that is taken or refused, touch nothing of the first.
#[tokio::test(flavor = "multi_thread")]
async fn a_second_start_is_refused_before_it_touches_anything() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let id = new(&ladder, "A long take", &plan("long_take", "page", &[60]))?;
    ladder.post(&format!("/api/instruments/{id}/run"), &json!({ "channels": 1 }))?;
    let mut page = Page::new(id, Sound::Numbered);
    page.open(&ladder.address)?;
    assert_eq!(page.play(2.0, 1.0), Playing::GoesOn);
    let taken = ladder.address.trim_start_matches("http://").to_owned();
    for (address, says) in [
        ("127.0.0.1:0", "Another Ladder serves the folder"),
        (taken.as_str(), "is a Ladder running there already?"),
        ("0.0.0.0:0", "loopback only"),
    ] {
        let output = ladder.second_start(address)?;
        assert!(!output.status.success());
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(said.contains(says), "{said}");
    }
    assert_eq!(page.play(2.0, 1.0), Playing::GoesOn);
    let frames = page.frame;
    page.stop()?;
    let now = ladder
        .wait_for(&format!("/api/instruments/{id}"), |view| {
            view["long_takes"][0]["frames"].is_u64()
        })
        .await?;
    assert_eq!(now["long_takes"][0]["frames"].as_u64(), Some(frames));
    ladder.end().await
}
