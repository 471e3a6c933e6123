//! A disk that is full: told in a sentence, nothing lost, and all goes on once there is room. Needs a file system of its own; where none may be
//! mounted (not root), that is said and nothing is tried.

use anyhow::Context;
use e2e::{Ladder, Start};
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

/// A file system in memory. Goes with it.
struct Small(tempfile::TempDir);

impl Small {
    fn mount(megabytes: u32) -> anyhow::Result<Option<Self>> {
        let folder = tempfile::TempDir::new()?;
        let size = format!("size={megabytes}m");
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &size, "tmpfs"])
            .arg(folder.path())
            .output();
        Ok(mounted
            .is_ok_and(|output| output.status.success())
            .then_some(Self(folder)))
    }

    fn grow(&self, megabytes: u32) -> anyhow::Result<()> {
        let size = format!("remount,size={megabytes}m");
        let status = Command::new("mount")
            .args(["-o", &size])
            .arg(self.0.path())
            .status()?;
        anyhow::ensure!(status.success());
        Ok(())
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(self.0.path()).status();
    }
}

fn takes(view: &Value) -> &[Value] {
    view["takes"].as_array().map_or(&[], Vec::as_slice)
}

fn refused(address: &str, path: &str, bytes: &[u8]) -> anyhow::Result<String> {
    match ureq::post(&format!("{address}{path}")).send_bytes(bytes) {
        Err(ureq::Error::Status(507, answer)) => {
            let problem: Value = answer.into_json()?;
            Ok(problem["detail"].as_str().unwrap_or_default().to_owned())
        }
        other => anyhow::bail!("{path}: {other:?}"),
    }
}

fn whole(ladder: &Ladder, folder: &Path) -> anyhow::Result<()> {
    for row in ladder.ask("SELECT t.recording, r.frames * r.channels * (r.bits / 8) FROM takes t JOIN recordings r ON r.hash = t.recording")? {
        let file = folder.join(format!("audio/recordings/{}/{}.wav", &row[0][..2], row[0]));
        let bytes = row[1].parse::<f64>()? as u64;
        anyhow::ensure!(std::fs::metadata(&file)?.len() >= bytes + 44, "{} is not whole", file.display());
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_told_loses_nothing_and_is_got_over() -> anyhow::Result<()> {
    let Some(disk) = Small::mount(24)? else {
        println!("no file system may be mounted here: the full disk is not tried");
        return Ok(());
    };
    let folder = disk.0.path().join("data");
    let mut ladder = Ladder::start_as(Start {
        folder: Some(folder.clone()),
        ..Start::default()
    })
    .await?;
    let plan = json!({ "kind": "struck", "source": { "how": "over_midi", "rig": "night-ferry", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": (20..120).collect::<Vec<u8>>(), "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 1_000, "tail_ms": 1_000 }] });
    ladder.post("/api/instruments", &json!({ "name": "Full", "plan": plan }))?;
    ladder.post("/api/instruments/1/run", &json!({}))?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| view["run"].is_null())
        .await?;
    let kept = takes(&view).len();
    println!("{kept} takes until the disk was full");
    assert!((5..100).contains(&kept));
    whole(&ladder, &folder)?;
    // What comes now is refused, and says why.
    let sound = formats::wav_bytes(&signal::Audio::mono(48_000, vec![0.1; 2_000_000]), 24, None);
    for way in ["files", "long-takes"] {
        let sentence = refused(
            &ladder.address,
            &format!("/api/instruments/1/{way}?name=a.wav"),
            &sound,
        )?;
        assert!(sentence.contains("disk is full"), "{way}: {sentence}");
    }
    let job = ladder.post(
        "/api/instruments/1/exports",
        &json!({ "format": "sfz", "bits": 24 }),
    );
    if let Ok(job) = job {
        let ended = ladder
            .wait_for(&format!("/api/jobs/{}", job["id"]), |job| {
                job["state"] == "failed"
            })
            .await?;
        assert!(
            ended["error"]
                .as_str()
                .is_some_and(|said| said.contains("disk is full")),
            "{ended}"
        );
    }
    // With room it goes on at the next start, and what was half written is no more.
    disk.grow(200)?;
    ladder.kill()?;
    ladder.restart()?;
    let done = ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).len() >= 100 && view["run"].is_null()
        })
        .await?;
    assert_eq!(takes(&done).len(), 100, "every cell once");
    whole(&ladder, &folder)?;
    let failed = ladder.ask("SELECT id FROM jobs WHERE state = 'failed' AND kind <> 'export'")?;
    for row in failed {
        ladder.post(&format!("/api/jobs/{}/again", row[0]), &json!({}))?;
    }
    ladder
        .wait_for("/api/instruments/1", |view| {
            takes(view).iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let job = ladder.post(
        "/api/instruments/1/exports",
        &json!({ "format": "sfz", "bits": 16 }),
    )?;
    let path = format!("/api/jobs/{}", job["id"].as_u64().context("a job")?);
    ladder.wait_for(&path, |job| job["state"] == "done").await?;
    tokio::time::sleep(Duration::from_millis(100)).await;
    ladder.end().await
}
