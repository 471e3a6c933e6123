//! The store against a real MariaDB, each test in a database of its own.

use anyhow::Context;
use instrument::{Cell, Fact, How, Kind, Origin, Plan, Said, Target, first_plan};
use serde_json::json;
use store::{NewTake, RecordingForm, Spool, Store, TestDatabase};

fn plan() -> Plan {
    first_plan(Kind::Sustained, How::OverMidi, "night-ferry").plan
}

const CELL: Cell = Cell {
    pass: 0,
    key: 60,
    layer: 0,
    round_robin: 0,
};

async fn opened() -> anyhow::Result<(TestDatabase, tempfile::TempDir, Store)> {
    let (database, folder) = (TestDatabase::create().await?, tempfile::TempDir::new()?);
    let store = Store::open(&database.url, folder.path()).await?;
    Ok((database, folder, store))
}

#[tokio::test(flavor = "multi_thread")]
async fn edits_are_kept_undone_and_done_again_from_any_connection() -> anyhow::Result<()> {
    let (database, folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let name = |name: &str| vec![(Target::Instrument, Fact::Name, Said::Value(json!(name)))];
    store.change(id, "name it", name("Slate chimes")).await??;
    store
        .change(id, "name it again", name("Chimes of slate"))
        .await??;
    let other = Store::open(&database.url, folder.path()).await?;
    assert_eq!(other.history(id).await?.undo.as_deref(), Some("name it again"));
    assert_eq!(
        other.step_back(id, false).await?.context("undo")?.label,
        "name it again"
    );
    assert_eq!(
        store.facts(id).await?[&(Target::Instrument, Fact::Name)],
        json!("Slate chimes")
    );
    assert_eq!(store.step_back(id, true).await?.context("redo")?.left_alone, 0);
    assert_eq!(
        other.facts(id).await?[&(Target::Instrument, Fact::Name)],
        json!("Chimes of slate")
    );
    // A new change overtakes what was undone.
    store.step_back(id, false).await?;
    store.change(id, "another", name("Bars")).await??;
    assert_eq!(store.step_back(id, true).await?, None);
    assert!(store.change(id, "bad", name("  ")).await?.is_err());
    assert!(!store.events_after(0).await?.is_empty());
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_take_is_there_whole_and_reads_back_to_the_bit() -> anyhow::Result<()> {
    let (database, folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let samples: Vec<f32> = (0..10_000).map(|n| (n as f32 * 0.37).sin()).collect();
    for bits in [24, 32] {
        let form = RecordingForm {
            rate_hz: 48_000,
            channels: 1,
            bits,
        };
        let mut spool = Spool::begin(store.spool_folder(), "t", form)?;
        spool.write(&samples[..4_000])?;
        spool.sync()?;
        spool.write(&samples[4_000..])?;
        let hash = store.put_recording(&mut spool).await?;
        let new = NewTake {
            cell: CELL,
            recording: hash.clone(),
            form,
            recording_frames: spool.frames(),
            first_frame: 0,
            frames: spool.frames(),
            origin: Origin::default(),
        };
        let take = store.add_takes(id, vec![new]).await?[0];
        drop(spool);
        let row = store.take(take).await?.context("take")?;
        assert_eq!((row.frames, row.cell, row.form), (10_000, CELL, form));
        let part = store.take_audio(&row, 4_321, 4_421).await?;
        let worst = part.channels[0]
            .iter()
            .zip(&samples[4_321..4_421])
            .fold(0.0f32, |top, (a, b)| top.max((a - b).abs()));
        // Half a step of 24 bits; a float is kept as it is.
        let most = if bits == 24 {
            0.5 / 8_388_608.0 + f32::EPSILON
        } else {
            0.0
        };
        assert!(worst <= most, "{worst} at {bits} bits");
        // An independent reader finds the same file under the hash.
        let path = folder
            .path()
            .join(format!("audio/recordings/{}/{hash}.wav", &hash[..2]));
        let read = formats::decode(std::fs::read(path)?, Some("wav"))?;
        assert_eq!(read, store.take_audio(&row, 0, 10_000).await?);
    }
    assert_eq!(
        std::fs::read_dir(store.spool_folder())?.count(),
        0,
        "the spool is empty again"
    );
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn long_takes_patterns_and_their_undo_are_kept() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let form = RecordingForm {
        rate_hz: 48_000,
        channels: 1,
        bits: 24,
    };
    let mut spool = Spool::begin(store.spool_folder(), "long", form)?;
    spool.write(&[0.25; 9_600])?;
    let hash = store.put_recording(&mut spool).await?;
    let long = store.add_long_take(id, "an evening", &hash, form, 9_600).await?;
    let rows = store.long_takes(id).await?;
    assert_eq!((rows.len(), rows[0].id, rows[0].frames), (1, long, 9_600));
    assert_eq!(
        store.long_take_audio(&rows[0], 100, 300).await?.channels[0],
        vec![0.25; 200]
    );

    let slices = json!({ "slices": [{ "first_frame": 10, "end_frame": 20 }] });
    let wish = (Target::LongTake(long), Fact::Slices, Said::Value(slices.clone()));
    store.change(id, "slice it", vec![wish]).await??;
    assert_eq!(
        store.facts(id).await?[&(Target::LongTake(long), Fact::Slices)],
        slices
    );
    store.step_back(id, false).await?;
    assert!(store.facts(id).await?.is_empty());

    let pattern = store.keep_pattern("chimes", &plan()).await?;
    assert_eq!(store.patterns().await?[0].plan, plan());
    store.forget_pattern(pattern).await?;
    assert!(store.patterns().await?.is_empty());
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn two_workers_never_hold_or_finish_the_same_job() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    for n in 0..12 {
        store.enqueue(id, "export", &json!({ "n": n })).await?;
    }
    let claim_all = |name: &'static str| {
        let store = store.clone();
        async move {
            let mut held = Vec::new();
            while let Some(job) = store.claim(name).await? {
                held.push(job);
            }
            anyhow::Ok(held)
        }
    };
    let (one, two) = tokio::try_join!(tokio::spawn(claim_all("one")), tokio::spawn(claim_all("two")))?;
    let (one, two) = (one?, two?);
    let mut ids: Vec<u64> = one.iter().chain(&two).map(|job| job.id).collect();
    ids.sort_unstable();
    ids.dedup();
    assert_eq!(ids.len(), 12);
    let job = one.first().or(two.first()).context("a job")?;
    assert!(!store.finish(job, "somebody else", Ok(json!({}))).await?);
    store.cancel(job.id).await?;
    assert!(
        !store
            .finish(job, if one.is_empty() { "two" } else { "one" }, Ok(json!({})))
            .await?,
        "cancelled jobs stay so"
    );
    database.remove().await
}
