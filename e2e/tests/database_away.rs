//! The database goes away in the midst of everything and comes back: nothing acknowledged is lost, nothing is doubled, all goes on without a hand.

use anyhow::Context;
use e2e::{Database, Ladder, Page, PageEnd, Playing, Sound, Start, rounds};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

fn plan(how: &str, rig: &str, rungs: &[u8]) -> Value {
    json!({ "kind": "struck", "source": { "how": how, "rig": rig, "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 1,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": rungs, "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 400, "tail_ms": 800 }] })
}

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

fn new(ladder: &Ladder, name: &str, plan: &Value) -> anyhow::Result<u64> {
    let made = ladder.post("/api/instruments", &json!({ "name": name, "plan": plan }))?;
    made["id"].as_u64().context("an instrument")
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_goes_on_when_the_database_comes_back() -> anyhow::Result<()> {
    let database = Database::start().await?;
    let ladder = Ladder::start_as(Start {
        database: Some(database.url.clone()),
        ..Start::default()
    })
    .await?;
    let edited = new(
        &ladder,
        "Edited",
        &plan("over_midi", "night-ferry", &[48, 55, 60]),
    )?;
    ladder.post(&format!("/api/instruments/{edited}/run"), &json!({}))?;
    let ready = ladder
        .wait_for(&format!("/api/instruments/{edited}"), |view| {
            takes(view).len() == 3 && takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let ids: Vec<u64> = takes(&ready)
        .iter()
        .filter_map(|take| take["id"].as_u64())
        .collect();
    for round in 0..rounds(4) {
        let killed = round % 2 == 1;
        let rungs: Vec<u8> = (20..120).collect();
        let run = new(&ladder, "Run", &plan("over_midi", "night-ferry", &rungs))?;
        ladder.post(
            &format!("/api/instruments/{run}/run"),
            &json!({ "real_time": false }),
        )?;
        let long = new(&ladder, "Long take", &plan("long_take", "page", &[60]))?;
        ladder.post(&format!("/api/instruments/{long}/run"), &json!({ "channels": 1 }))?;
        let mut page = Page::new(long, Sound::Numbered);
        page.open(&ladder.address)?;
        assert_eq!(page.play(3.0, 2.0), Playing::GoesOn);
        let sound = (0..960_000).map(|n| (n as f32 * 0.05).sin() * 0.3).collect();
        let name = format!("file {round}.wav");
        let path = format!("/api/instruments/{edited}/long-takes?name=file%20{round}.wav");
        ladder.send(
            &path,
            &formats::wav_bytes(&signal::Audio::mono(48_000, sound), 24, None),
        )?;
        let export = ladder.post(
            &format!("/api/instruments/{edited}/exports"),
            &json!({ "format": "sfz", "bits": 24 }),
        )?;
        let export = export["id"].as_u64().context("a job")?;
        database.stop(killed)?;
        let gone = Instant::now();
        // An edit is refused with a sentence, or kept.
        let over = AtomicBool::new(false);
        let (acked, sentences) = std::thread::scope(|scope| -> anyhow::Result<_> {
            let editing = scope.spawn(|| {
                let (mut acked, mut sentences) = (None, Vec::new());
                for n in 0.. {
                    if over.load(Ordering::Relaxed) {
                        break;
                    }
                    let value = (round * 1_000 + n) as f64 * 0.001;
                    let wish = json!({ "label": "gain", "wishes": [{ "target": { "take": ids[0] }, "fact": "gain_db", "after": { "value": value } }] });
                    match ureq::post(&format!("{}/api/instruments/{edited}/changes", ladder.address)).send_json(wish) {
                        Ok(_) => acked = Some(value),
                        Err(ureq::Error::Status(status, answer)) => {
                            let problem: Value = answer.into_json().unwrap_or_default();
                            sentences.push((status, problem["detail"].as_str().unwrap_or_default().to_owned()));
                        }
                        Err(_) => sentences.push((0, "no answer".into())),
                    }
                    std::thread::sleep(Duration::from_millis(200));
                }
                (acked, sentences)
            });
            // The page plays on, and stops its long take while the database is away.
            assert_eq!(page.play(2.0, 60.0), Playing::GoesOn);
            page.say(&json!({ "order": { "order": "stop" } }));
            std::thread::sleep(Duration::from_secs(20).saturating_sub(gone.elapsed()));
            database.start_again()?;
            std::thread::sleep(Duration::from_secs(2));
            over.store(true, Ordering::Relaxed);
            editing
                .join()
                .map_err(|_| anyhow::anyhow!("the editor broke down"))
        })?;
        assert!(acked.is_some(), "edits go on: {sentences:?}");
        assert!(
            sentences
                .iter()
                .all(|(status, said)| *status == 503 && said.starts_with("The database does not answer")),
            "{sentences:?}"
        );
        let frames = page.frame;
        assert_eq!(page.stop()?, PageEnd::Finished);
        let kept = ladder
            .wait_for(&format!("/api/instruments/{long}"), |view| {
                view["long_takes"][0]["frames"].is_u64() && view["run"].is_null()
            })
            .await?;
        assert_eq!(
            kept["long_takes"][0]["frames"].as_u64(),
            Some(frames),
            "not a frame of the long take is lost"
        );
        let done = ladder
            .wait_for(&format!("/api/instruments/{run}"), |view| {
                takes(view).len() >= 100 && view["run"].is_null()
            })
            .await?;
        assert_eq!(takes(&done).len(), 100, "every cell once");
        ladder
            .wait_for(&format!("/api/jobs/{export}"), |job| job["state"] == "done")
            .await?;
        let view = ladder
            .wait_for(&format!("/api/instruments/{edited}"), |view| {
                view["long_takes"]
                    .as_array()
                    .is_some_and(|all| all.iter().any(|take| take["name"] == name.as_str()))
            })
            .await?;
        let now = takes(&view)
            .iter()
            .find(|take| take["id"] == ids[0])
            .context("a take")?;
        assert!(now["correction"]["gain_db"].as_f64() >= acked, "an edit is lost");
        let twice = view["long_takes"]
            .as_array()
            .context("long takes")?
            .iter()
            .filter(|take| take["name"] == name.as_str())
            .count();
        assert_eq!(twice, 1);
    }
    ladder.end().await
}
