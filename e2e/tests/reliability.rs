//! What a killed server and a foreign page find.

use anyhow::Context;
use e2e::Ladder;
use serde_json::{Value, json};
use std::time::Instant;

fn plan() -> Value {
    json!({
        "kind": "sustained",
        "source": { "rig": "night-ferry", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{
            "name": "Keys", "sounds_on": "key_down", "rungs": [36, 42, 48, 54, 60, 66, 72, 78, 84],
            "layers": [{ "name": "soft", "strike_velocity": 50 }, { "name": "loud", "strike_velocity": 110 }],
            "round_robins": 1, "hold_ms": 2_000, "tail_ms": 2_000
        }]
    })
}

fn takes(view: &Value) -> Vec<Value> {
    view["takes"].as_array().cloned().unwrap_or_default()
}

/// Bars: SIGKILL in the middle of a run loses nothing that was kept, leaves nothing half, and the run goes on.
#[tokio::test(flavor = "multi_thread")]
async fn a_killed_server_goes_on_with_its_run() -> anyhow::Result<()> {
    let mut ladder = Ladder::start(false).await?;
    let id = ladder.post("/api/instruments", &json!({ "name": "x", "plan": plan() }))?["id"]
        .as_u64()
        .context("id")?;
    let path = format!("/api/instruments/{id}");
    ladder.post(&format!("{path}/run"), &json!({}))?;
    let before = takes(&ladder.wait_for(&path, |view| takes(view).len() >= 4).await?);
    ladder.kill()?;
    ladder.restart()?;
    let view = ladder
        .wait_for(&path, |view| {
            takes(view).len() >= 18
                && takes(view).iter().all(|take| !take["facts"].is_null())
                && view["run"].is_null()
        })
        .await?;
    let after = takes(&view);
    assert_eq!(after.len(), 18, "every cell once");
    for take in &before {
        assert!(
            after
                .iter()
                .any(|other| other["id"] == take["id"] && other["frames"] == take["frames"]),
            "{take} is lost"
        );
    }
    for take in &after {
        let frames = take["frames"].as_u64().context("frames")?;
        let bytes = ladder.bytes(&format!("/api/takes/{}/audio?first=0&end={frames}", take["id"]))?;
        assert_eq!(bytes.len() as u64, frames * 8, "half a take");
    }
    assert_eq!(std::fs::read_dir(ladder.folder().join("spool"))?.count(), 0);
    ladder.end().await
}

/// The aim is ten seconds; tests do not time, so this only prints what it took, beside that it is whole.
#[tokio::test(flavor = "multi_thread")]
async fn nine_rungs_of_two_layers_are_recorded_whole() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    ladder.post("/api/instruments", &json!({ "name": "x", "plan": plan() }))?;
    let began = Instant::now();
    ladder.post("/api/instruments/1/run", &json!({}))?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 18 && view["run"].is_null()
        })
        .await?;
    println!(
        "18 takes of 2 s recorded in {:.1} s",
        began.elapsed().as_secs_f64()
    );
    let mut cells: Vec<String> = takes(&view).iter().map(|take| take["cell"].to_string()).collect();
    cells.sort();
    cells.dedup();
    assert_eq!(cells.len(), 18);
    ladder.end().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foreign_page_and_bad_requests_are_refused_with_a_sentence() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    let url = format!("{}/api/instruments", ladder.address);
    for (header, value) in [("Host", "ladder.example"), ("Origin", "http://elsewhere.example")] {
        match ureq::get(&url).set(header, value).call() {
            Err(ureq::Error::Status(403, answer)) => {
                assert_eq!(answer.content_type(), "application/problem+json")
            }
            other => anyhow::bail!("{header}: {other:?}"),
        }
    }
    let mut bad = plan();
    bad["passes"][0]["layers"][1]["strike_velocity"] = json!(10);
    match ureq::post(&url).send_json(json!({ "name": "x", "plan": bad })) {
        Err(ureq::Error::Status(422, answer)) => {
            let problem: Value = answer.into_json()?;
            assert!(
                problem["detail"]
                    .as_str()
                    .is_some_and(|detail| detail.contains("rise from soft to loud")),
                "{problem}"
            );
        }
        other => anyhow::bail!("{other:?}"),
    }
    for path in [
        "/api/instruments/99",
        "/api/takes/99/audio?first=0&end=9",
        "/api/jobs/7",
        "/api/nowhere",
    ] {
        match ureq::get(&format!("{}{path}", ladder.address)).call() {
            Err(ureq::Error::Status(404, _)) => {}
            other => anyhow::bail!("{path}: {other:?}"),
        }
    }
    ladder.end().await
}

/// Blocks that vanish, arrive in the wrong order or not for a while: every take is whole and of its key all the same.
#[tokio::test(flavor = "multi_thread")]
async fn a_bad_line_spoils_no_take() -> anyhow::Result<()> {
    let ladder = Ladder::start_on_line(false, "0.05,0.1,0.003").await?;
    ladder.post("/api/instruments", &json!({ "name": "x", "plan": plan() }))?;
    ladder.post("/api/instruments/1/run", &json!({}))?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() == 18 && takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    for take in takes(&view) {
        assert_eq!(take["facts"]["pitch"]["key"], take["cell"]["key"], "{take}");
        let treated = &take["treatment"];
        let frames = treated["end_frame"].as_u64().context("end")?
            - treated["start_frame"].as_u64().context("start")?;
        assert!((96_000..150_000).contains(&frames), "held for {frames} frames");
        // A lost or doubled block breaks the phase: the pitch would not be this sure.
        assert!(
            take["facts"]["pitch"]["confidence"]
                .as_f64()
                .is_some_and(|sure| sure > 0.8),
            "{}",
            take["facts"]
        );
    }
    ladder.end().await
}
