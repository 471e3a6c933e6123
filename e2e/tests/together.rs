//! A day's work in miniature at two servers and a worker, which share one database and one S3-compatible store.

use anyhow::Context;
use e2e::{Database, Ladder, Objects, Start};
use serde_json::{Value, json};
use std::process::Child;

fn plan(rungs: &[u8]) -> Value {
    json!({ "kind": "sustained", "source": { "how": "over_midi", "rig": "reed-organ", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": rungs, "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 900, "tail_ms": 600 }] })
}

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

/// Ends with it.
struct Worker(Child);

impl Drop for Worker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_servers_and_a_worker_share_a_database_and_an_object_store() -> anyhow::Result<()> {
    let (database, objects) = (Database::start().await?, Objects::start().await?);
    let start = || Start {
        database: Some(database.url.clone()),
        environment: objects.environment(None),
        ..Start::default()
    };
    let mut one = Ladder::start_as(start()).await?;
    let two = Ladder::start_as(start()).await?;
    let _worker = Worker(two.worker()?);

    // Recorded at one, seen and heard at the other.
    let id = one.post(
        "/api/instruments",
        &json!({ "name": "Organ", "plan": plan(&[48, 55, 60, 67]) }),
    )?["id"]
        .as_u64()
        .context("an instrument")?;
    let path = format!("/api/instruments/{id}");
    one.post(&format!("{path}/run"), &json!({}))?;
    let refused = ureq::post(&format!("{}{path}/run", two.address)).send_json(json!({}));
    assert!(
        matches!(refused, Err(ureq::Error::Status(422, _))),
        "a run belongs to one of them"
    );
    let view = two
        .wait_for(&path, |view| {
            takes(view).len() == 4 && takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let ids: Vec<u64> = takes(&view)
        .iter()
        .filter_map(|take| take["id"].as_u64())
        .collect();
    let sound = |ladder: &Ladder| ladder.bytes(&format!("/api/takes/{}/audio?first=0&end=5000", ids[0]));
    assert_eq!(sound(&one)?, sound(&two)?);

    // Jobs that are asked for at both are done once each, by whoever comes first.
    let (mut makes, mut exports) = (Vec::new(), Vec::new());
    for n in 0..6 {
        let at = if n % 2 == 0 { &one } else { &two };
        let made = at.post(
            &format!("{path}/make"),
            &json!({ "takes": ids, "how": "reversed" }),
        )?;
        makes.push(made["id"].as_u64().context("a job")?);
        let format = if n % 2 == 0 { "sfz" } else { "sound_font2" };
        let made = at.post(
            &format!("{path}/exports"),
            &json!({ "format": format, "bits": 16 }),
        )?;
        exports.push(made["id"].as_u64().context("a job")?);
        let wishes: Vec<Value> = ids.iter().map(|take| json!({ "target": { "take": take }, "fact": "remove_dc", "after": { "value": n % 2 == 0 } })).collect();
        at.post(
            &format!("{path}/changes"),
            &json!({ "label": "clean", "wishes": wishes }),
        )?;
    }
    for job in makes.iter().chain(&exports) {
        let ended = two
            .wait_for(&format!("/api/jobs/{job}"), |job| {
                job["state"] != "waiting" && job["state"] != "running"
            })
            .await?;
        assert_eq!(ended["state"], "done", "{ended}");
    }
    let made =
        database.ask("SELECT COUNT(*) FROM takes WHERE JSON_VALUE(origin, '$.made_by') = 'reversed'")?;
    assert_eq!(made[0][0], "24");
    for job in &exports {
        let file = one.bytes(&format!("/api/jobs/{job}/file"))?;
        assert_eq!(file, two.bytes(&format!("/api/jobs/{job}/file"))?);
        assert!(
            file.starts_with(b"RIFF")
                || zip::ZipArchive::new(std::io::Cursor::new(file)).is_ok_and(|zip| zip.len() == 5)
        );
    }
    let holders = database.ask("SELECT COUNT(DISTINCT holder) FROM jobs")?;
    assert_ne!(holders[0][0], "1", "they share the work");

    // Edits at both are told at both.
    for (n, at) in [&one, &two].into_iter().enumerate() {
        at.post(&format!("{path}/changes"), &json!({ "label": "name", "wishes": [{ "target": "instrument", "fact": "name", "after": { "value": format!("Organ {n}") } }] }))?;
        for other in [&one, &two] {
            assert_eq!(other.get(&path)?["name"], format!("Organ {n}"));
        }
    }

    // A long run: the server that leads it is killed, and the other goes on with it once the lease has lapsed; started again, the first leaves it alone.
    let rungs: Vec<u8> = (30..90).collect();
    let run = one.post(
        "/api/instruments",
        &json!({ "name": "Long run", "plan": plan(&rungs) }),
    )?["id"]
        .as_u64()
        .context("an instrument")?;
    let run = format!("/api/instruments/{run}");
    one.post(&format!("{run}/run"), &json!({ "real_time": true }))?;
    one.wait_for(&run, |view| takes(view).len() >= 2).await?;
    one.kill()?;
    database.ask("UPDATE runs SET settings = JSON_SET(settings, '$.real_time', false)")?;
    two.wait_for(&run, |view| !view["run"].is_null()).await?;
    one.restart()?;
    let done = two
        .wait_for(&run, |view| takes(view).len() >= 60 && view["run"].is_null())
        .await?;
    let mut cells: Vec<String> = takes(&done).iter().map(|take| take["cell"].to_string()).collect();
    cells.sort();
    cells.dedup();
    assert_eq!((cells.len(), takes(&done).len()), (60, 60), "every cell once");
    let names = objects.names()?;
    assert!(
        names.iter().any(|name| name.starts_with("audio/recordings/"))
            && names.iter().any(|name| name.starts_with("audio/cleaned/"))
    );
    assert!(
        !one.folder().join("audio").exists(),
        "nothing lies on the local disk"
    );
    one.end().await?;
    two.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_secret_is_told_and_nothing_is_lost() -> anyhow::Result<()> {
    let objects = Objects::start().await?;
    let mut ladder = Ladder::start_as(Start {
        environment: objects.environment(Some("not it")),
        ..Start::default()
    })
    .await?;
    ladder.post(
        "/api/instruments",
        &json!({ "name": "Organ", "plan": plan(&[60]) }),
    )?;
    let sound = formats::wav_bytes(&signal::Audio::mono(48_000, vec![0.1; 4_800]), 24, None);
    let refused =
        ureq::post(&format!("{}/api/instruments/1/files?name=a.wav", ladder.address)).send_bytes(&sound);
    let Err(ureq::Error::Status(502, answer)) = refused else {
        anyhow::bail!("{refused:?}");
    };
    let said = answer.into_json::<Value>()?["detail"].to_string();
    assert!(said.contains("does not let Ladder in"), "{said}");
    ladder.set_environment(objects.environment(None));
    ladder.kill()?;
    ladder.restart()?;
    ladder.send("/api/instruments/1/files?name=a.wav", &sound)?;
    assert_eq!(
        ladder.get("/api/instruments/1/files")?["files"]
            .as_array()
            .map(Vec::len),
        Some(1)
    );
    ladder.end().await
}
