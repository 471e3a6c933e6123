//! The store against a real MariaDB, each test in a database of its own.

use anyhow::Context;
use instrument::{Cell, Fact, Held, How, Kind, Origin, Pattern, Plan, Said, Target, first_plan};
use serde_json::json;
use std::time::Duration;
use store::{
    Ended, JobState, NewLongTake, NewTake, RENDERS_KEPT_BYTES, Recording, RecordingForm, Spool, Store,
    TestDatabase,
};
use work::{Effect, JobKind, MeasuredTake, Outcome};

fn plan() -> Plan {
    first_plan(Kind::Sustained, How::OverMidi, "night-ferry").plan
}

const CELL: Cell = Cell {
    pass: instrument::PassId(0),
    key: 60,
    layer: instrument::LayerId(0),
    round_robin: 0,
};

async fn opened() -> anyhow::Result<(TestDatabase, tempfile::TempDir, Store)> {
    let (database, folder) = (TestDatabase::create().await?, tempfile::TempDir::new()?);
    let store = Store::open(&database.url, folder.path()).await?;
    Ok((database, folder, store))
}

const FORM: RecordingForm = RecordingForm {
    rate_hz: 48_000,
    channels: 1,
    bits: 24,
};

/// A recording of these samples, kept.
async fn recorded(store: &Store, samples: &[f32]) -> anyhow::Result<Recording> {
    let mut spool = Spool::begin(store.scratch().path(), "t", FORM)?;
    spool.write(samples)?;
    store.put_recording(&mut spool).await
}

/// A take of a cell, whole, of these samples.
async fn taken(store: &Store, id: u64, samples: &[f32]) -> anyhow::Result<(u64, NewTake)> {
    let new = NewTake::whole(CELL, recorded(store, samples).await?, Origin::default());
    Ok((store.add_takes(id, std::slice::from_ref(&new)).await?[0], new))
}

/// Of steps: their labels, whether they were undone, and whether they may be.
fn told(steps: &[store::Step]) -> Vec<(&str, bool, bool)> {
    steps
        .iter()
        .map(|step| (step.label.as_str(), step.undone, step.may_undo))
        .collect()
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
    // A step in the middle is undone by itself, unless something after it says the same.
    let tags = vec![(Target::Instrument, Fact::Tags, Said::Value(json!(["slate"])))];
    store.change(id, "tag it", tags).await??;
    let steps = store.steps(id).await?;
    assert_eq!(
        told(&steps),
        [
            ("tag it", false, true),
            ("name it again", false, true),
            ("name it", false, false)
        ]
    );
    let refused = store.undo_step(id, steps[2].id).await.unwrap_err().to_string();
    assert!(refused.contains("undo that first"), "{refused}");
    assert_eq!(
        store.undo_step(id, steps[1].id).await?.as_deref(),
        Some("name it again")
    );
    let facts = store.facts(id).await?;
    assert_eq!(facts[&(Target::Instrument, Fact::Name)], json!("Slate chimes"));
    assert_eq!(facts[&(Target::Instrument, Fact::Tags)], json!(["slate"]));
    assert!(store.undo_step(id, steps[1].id).await.is_err());
    assert!(store.steps(id).await?[1].undone && store.steps(id).await?[2].may_undo);
    assert_eq!(store.undo_step(id + 1, steps[0].id).await?, None);
    store.step_back(id, true).await?.context("redo")?;
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
        let form = RecordingForm { bits, ..FORM };
        let mut spool = Spool::begin(store.scratch().path(), "t", form)?;
        spool.write(&samples[..4_000])?;
        spool.sync()?;
        spool.write(&samples[4_000..])?;
        let recording = store.put_recording(&mut spool).await?;
        let hash = recording.hash.clone();
        let new = NewTake::whole(CELL, recording, Origin::default());
        let take = store.add_takes(id, &[new]).await?[0];
        let path = spool.path().to_owned();
        drop(spool);
        assert!(!path.exists(), "the spool is gone");
        let row = store.take(take).await?.context("take")?;
        assert_eq!((row.frames, row.cell, row.form), (10_000, CELL, form));
        let part = store.take_audio(&row, 4_321..4_421, 0..1).await?;
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
        assert_eq!(read, store.take_audio(&row, 0..10_000, 0..1).await?);
    }
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn long_takes_patterns_and_their_undo_are_kept() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let new = NewLongTake {
        name: "an evening".into(),
        recording: recorded(&store, &[0.25; 9_600]).await?,
        spool: Some("one spool".into()),
        broken_off: true,
    };
    let long = store.add_long_take(id, &new).await?;
    assert_eq!(
        store.add_long_take(id, &new).await?,
        long,
        "one spool is one long take"
    );
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

    let kept = Pattern {
        plan: plan(),
        held: Held::default(),
    };
    let pattern = store.keep_pattern("chimes", &kept).await?;
    assert_eq!(store.patterns().await?[0].pattern, kept);
    assert_eq!(
        store.pattern(pattern).await?.map(|row| row.name),
        Some("chimes".to_owned())
    );
    store.forget_pattern(pattern).await?;
    assert_eq!(store.pattern(pattern).await?, None);
    assert!(store.patterns().await?.is_empty());
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn two_workers_never_hold_or_finish_the_same_job() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    for n in 0..12 {
        store.enqueue(id, JobKind::Export, &json!({ "n": n })).await?;
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
    let outcome = Outcome::default();
    assert!(!store.finish(job, "somebody else", &outcome).await?);
    let cancelled = store.cancel(job.id).await?.context("a job")?;
    assert_eq!(cancelled.state, JobState::Cancelled);
    let holder = if one.is_empty() { "two" } else { "one" };
    assert!(
        !store.finish(job, holder, &outcome).await?,
        "cancelled jobs stay so"
    );
    database.remove().await
}

/// A worker that is killed between its work and its end: the lease lapses, another does the job, and the first comes too late.
#[tokio::test(flavor = "multi_thread")]
async fn a_job_whose_holder_has_gone_is_done_once_by_another() -> anyhow::Result<()> {
    let (database, folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    store.enqueue(id, JobKind::Import, &json!({})).await?;
    let first = store.claim("folder/one").await?.context("a job")?;
    assert!(store.claim("other").await?.is_none(), "it is held");
    assert_eq!(store.free_jobs("another folder").await?, 0);
    assert_eq!(store.free_jobs("folder").await?, 1);
    let second = store.claim("folder/two").await?.context("the job again")?;
    assert_eq!((second.id, second.tries), (first.id, 2));
    let outcome = Outcome {
        effect: Effect::LongTake {
            name: "a file".into(),
            recording: recorded(&store, &[0.5; 100]).await?,
        },
        result: json!({}),
    };
    assert!(store.finish(&second, "folder/two", &outcome).await?);
    assert!(!store.finish(&first, "folder/one", &outcome).await?);
    assert_eq!(store.long_takes(id).await?.len(), 1);
    let done = store.job(first.id).await?.context("the job")?;
    assert_eq!(
        (done.state, done.result.context("a result")?["long_take"].is_u64()),
        (JobState::Done, true)
    );
    drop(folder);
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_tried_three_times_and_then_fails_with_a_sentence() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let job = store.enqueue(id, JobKind::Measure, &json!({ "take": 1 })).await?;
    let failed = Ended::Failed("The disk is not well.".into());
    // What is away does not count.
    let held = store.claim("w").await?.context("a job")?;
    store.give_up(&held, "w", &Ended::Unreachable).await?;
    for tries in 1..=3 {
        let held = loop {
            if let Some(held) = store.claim("w").await? {
                break held;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        assert_eq!(held.tries, tries);
        store.give_up(&held, "w", &failed).await?;
        if tries < 3 {
            assert!(store.claim("w").await?.is_none(), "it waits before the next try");
        }
    }
    let ended = store.job(job).await?.context("the job")?;
    assert_eq!(
        (ended.state, ended.error.as_deref()),
        (JobState::Failed, Some("The disk is not well."))
    );
    assert_eq!(store.unmeasured(id).await?.len(), 1);
    store.try_again(job).await?;
    // One that ends its worker each time is not begun for ever.
    for tries in 1..=3 {
        let held = store.claim("folder/w").await?.context("the job again")?;
        assert_eq!(held.tries, tries);
        store.free_jobs("folder").await?;
    }
    assert!(store.claim("folder/w").await?.is_none());
    let ended = store.job(job).await?.context("the job")?;
    assert_eq!(ended.state, JobState::Failed);
    database.remove().await
}

/// Takes that are added and edits stand in nobody's way: what the database breaks off is tried again.
#[tokio::test(flavor = "multi_thread")]
async fn edits_and_takes_that_are_added_at_once_all_succeed() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let (take, new) = taken(&store, id, &[0.5; 100]).await?;
    let mut all = tokio::task::JoinSet::new();
    for n in 0..6u64 {
        let (store, new) = (store.clone(), new.clone());
        all.spawn(async move {
            for k in 0..20u64 {
                match n % 3 {
                    0 => {
                        store.add_takes(id, &[new.clone(), new.clone()]).await?;
                    }
                    1 => {
                        let gain = Said::Value(json!((n * 100 + k) as f64 / 100.0));
                        let wish = (Target::Take(take), Fact::GainDb, gain);
                        store.change(id, "louder", vec![wish]).await??;
                    }
                    _ => {
                        store.step_back(id, k % 2 == 1).await?;
                    }
                }
            }
            anyhow::Ok(())
        });
    }
    while let Some(done) = all.join_next().await {
        done??;
    }
    // Every event is told once, in an order without gaps.
    let mut ids = Vec::new();
    loop {
        let more = store.events_after(ids.last().copied().unwrap_or(0)).await?;
        if more.is_empty() {
            break;
        }
        ids.extend(more.into_iter().map(|event| event.id));
    }
    assert!(ids.windows(2).all(|pair| pair[1] == pair[0] + 1), "{ids:?}");
    assert_eq!(store.whole(id).await?.context("whole")?.takes.len(), 81);
    database.remove().await
}

/// Whoever stops waiting in the middle of a question leaves no answer behind for the next.
#[tokio::test(flavor = "multi_thread")]
async fn who_leaves_in_the_middle_spoils_no_connection() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let names = ["Slate", "Organ", "Ferry"];
    let mut ids = Vec::new();
    for name in names {
        ids.push(store.create_instrument(name, &plan()).await?);
    }
    for n in 0..600u64 {
        let (id, name) = (ids[n as usize % 3], names[n as usize % 3]);
        let leaving = tokio::time::timeout(Duration::from_micros(n * 7 % 900), store.whole(id)).await;
        if let Ok(whole) = leaving {
            assert_eq!(whole?.context("whole")?.row.name, name);
        }
        if n % 5 == 0 {
            assert_eq!(store.whole(id).await?.context("whole")?.row.name, name);
            assert_eq!(store.newest_event().await?, 3);
        }
    }
    database.remove().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sweep_takes_what_nobody_refers_to_and_nothing_else() -> anyhow::Result<()> {
    let (database, folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let mut kept = Vec::new();
    for n in 0..4u8 {
        kept.push(recorded(&store, &[f32::from(n) / 8.0; 100]).await?);
    }
    store
        .add_takes(id, &[NewTake::whole(CELL, kept[0].clone(), Origin::default())])
        .await?;
    store.add_waiting(id, "a file", &kept[1], &json!({})).await?;
    for name in [
        "uploads/waits",
        "uploads/nobody",
        "exports/old.zip",
        "cleaned/in use",
        "cleaned/not",
    ] {
        store.put_bytes(name, vec![1; 10]).await?;
    }
    store
        .enqueue(
            id,
            JobKind::Import,
            &json!({ "file": "uploads/waits", "name": "a" }),
        )
        .await?;
    let audio = folder.path().join("audio");
    std::fs::write(audio.join("recordings/half#1"), b"half")?;
    let nameless = audio
        .join("recordings/ab")
        .join(format!("{}.wav", "ab".repeat(32)));
    std::fs::create_dir_all(nameless.parent().context("a folder")?)?;
    std::fs::write(&nameless, b"of an earlier version")?;
    let in_use = std::collections::HashSet::from(["cleaned/in use".to_owned()]);
    // What was touched just now stays.
    let swept = store.sweep(Duration::from_secs(3_600), &in_use, 0).await?;
    assert_eq!(swept, store::Swept::default());
    tokio::time::sleep(Duration::from_millis(1_100)).await;
    let swept = store.sweep(Duration::from_secs(0), &in_use, 0).await?;
    assert_eq!(
        (swept.recordings, swept.files, swept.renders),
        (3, 3, 1),
        "{swept:?}"
    );
    for (n, kept) in kept.iter().enumerate() {
        assert_eq!(store.recording(&kept.hash).await?.is_some(), n < 2);
        let read = store.read_recording(&kept.hash, FORM, 0..100, 0..1).await;
        assert_eq!(read.is_ok(), n < 2);
    }
    assert!(store.bytes_of("uploads/waits", 0..1).await?.is_some());
    assert!(store.bytes_of("cleaned/in use", 0..1).await?.is_some());
    assert!(!nameless.exists());
    let again = store
        .sweep(Duration::from_secs(0), &in_use, RENDERS_KEPT_BYTES)
        .await?;
    assert_eq!(again, store::Swept::default());
    database.remove().await
}

/// A take that an earlier version measured keeps what was suggested then, whatever would be suggested now; measured again it follows the new
/// measurement, and Undo brings the earlier one back.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_suggested_stays_until_it_is_measured_again() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let samples: Vec<f32> = (0..24_000).map(|n| (n as f32 * 0.034).sin() * 0.4).collect();
    let (take, _) = taken(&store, id, &samples).await?;
    let end = async |effect: Effect| -> anyhow::Result<()> {
        let held = store.claim("w").await?.context("a job")?;
        let outcome = Outcome {
            effect,
            result: json!({}),
        };
        anyhow::ensure!(store.finish(&held, "w", &outcome).await?);
        Ok(())
    };
    let untreated = store.untreated(take).await?.context("the take")?;
    let measured = |version: u32, start_frame: u64| {
        let facts = signal::Measurement {
            version,
            ..signal::measure(&signal::Audio::mono(48_000, samples.clone()))
        };
        let mut suggested = untreated.suggested(&facts);
        suggested.suggestion.start_frame = start_frame;
        MeasuredTake {
            take,
            facts,
            suggested,
            thumbnail: Vec::new(),
            judged: None,
        }
    };
    let start = async || -> anyhow::Result<(u32, u64)> {
        let treated = store.treated(take).await?.context("it is measured")?;
        let whole = store.whole(id).await?.context("the instrument")?;
        let counted = &whole.measurements[&take];
        let kept = counted
            .suggested(Kind::Sustained, CELL.key)
            .context("a suggestion")?;
        assert_eq!(treated.treatment.start_frame, kept.start_frame);
        assert_eq!(counted.suggested(Kind::Struck, CELL.key), None);
        Ok((treated.facts.version, kept.start_frame))
    };
    end(Effect::Measured(Box::new(measured(5, 77)))).await?;
    assert_eq!(start().await?, (5, 77));
    // What followed first is what follows.
    let later = measured(5, 99).suggested;
    store.put_suggestions(&[(take, 5, later)]).await?;
    assert_eq!(start().await?, (5, 77));
    let all = vec![measured(signal::MEASURE_VERSION, 123)];
    store.enqueue(id, JobKind::MeasureAgain, &json!({})).await?;
    end(Effect::MeasuredAgain {
        label: "measure a take again".into(),
        all,
    })
    .await?;
    assert_eq!(start().await?, (signal::MEASURE_VERSION, 123));
    store.step_back(id, false).await?.context("undo")?;
    assert_eq!(start().await?, (5, 77));
    store.step_back(id, true).await?.context("redo")?;
    assert_eq!(start().await?, (signal::MEASURE_VERSION, 123));
    database.remove().await
}

/// What stands of an instrument, by the places and origins of its takes: ids are its own.
async fn standing(store: &Store, id: u64) -> anyhow::Result<(instrument::Resolved, Vec<u64>)> {
    let mut whole = store.whole(id).await?.context("the instrument")?;
    let resolved = instrument::resolve(whole.known());
    let ids = whole.takes.iter().map(|take| take.id).collect();
    Ok((resolved, ids))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_stands_by_itself_and_what_is_removed_for_good_frees_its_own() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let wave = |hz: f32| -> Vec<f32> { (0..24_000).map(|n| (n as f32 * hz).sin() * 0.4).collect() };
    let (first, new) = taken(&store, id, &wave(0.034)).await?;
    let made = NewTake {
        origin: Origin {
            from_take: Some(first),
            made_by: Some("a test".into()),
            ..Origin::default()
        },
        ..new
    };
    let second = store.add_takes(id, &[made]).await?[0];
    let long = NewLongTake {
        name: "An evening".into(),
        recording: recorded(&store, &wave(0.05)).await?,
        spool: None,
        broken_off: false,
    };
    let long = store.add_long_take(id, &long).await?;
    let of_take = |take| Target::Take(take);
    let said = vec![
        (of_take(first), Fact::GainDb, Said::Value(json!(-3.0))),
        (of_take(second), Fact::Chosen, Said::Value(json!(true))),
        (Target::Instrument, Fact::Tags, Said::Value(json!(["stone"]))),
        (
            Target::LongTake(long),
            Fact::Slices,
            Said::Value(json!({ "slices": [] })),
        ),
    ];
    store.change(id, "all of it", said).await??;

    let copy = store.duplicate(id, "Slate again").await?.context("a copy")?;
    assert_eq!(store.duplicate(999, "Nothing").await?, None);
    let ((was, _), (is, ids)) = (standing(&store, id).await?, standing(&store, copy).await?);
    assert_eq!((is.name.as_str(), &is.tags), ("Slate again", &was.tags));
    assert_eq!(is.takes.len(), 2);
    assert!(ids.iter().all(|take| *take != first && *take != second));
    assert_eq!(is.takes[0].correction, was.takes[0].correction);
    assert_eq!((is.takes[0].chosen, is.takes[1].chosen), (false, true));
    assert_eq!(is.takes[1].recorded.origin.from_take, Some(ids[0]));
    let whole = store.whole(copy).await?.context("the copy")?;
    let slices = (Target::LongTake(whole.long_takes[0].id), Fact::Slices);
    assert!(whole.long_takes[0].id != long && whole.facts.contains_key(&slices));
    // Nothing that was done to the one is undone in the other.
    assert_eq!(whole.history.undo, None);
    let aside = || vec![(Target::Instrument, Fact::SetAside, Said::Value(json!(true)))];
    store.change(copy, "set it aside", aside()).await??;

    // Both are parts of the same recordings: removing one frees none.
    let refused = store.remove_for_good(id).await.unwrap_err().to_string();
    assert!(refused.contains("set aside"), "{refused}");
    let frees = store.frees(copy).await?.context("the copy")?;
    assert_eq!((frees.takes, frees.recordings, frees.bytes), (2, 0, 0));
    assert!(store.remove_for_good(copy).await?);
    assert!(!store.remove_for_good(copy).await?);
    assert!(store.whole(copy).await?.is_none() && store.frees(copy).await?.is_none());
    assert_eq!(standing(&store, id).await?.0.takes.len(), 2);
    let nothing = std::collections::HashSet::new();
    let swept = store.sweep(Duration::ZERO, &nothing, RENDERS_KEPT_BYTES).await?;
    assert_eq!(swept.recordings, 0);
    // Both takes are of one recording, and the long take has its own: 24 bits each.
    let frees = store.frees(id).await?.context("the instrument")?;
    assert_eq!(
        (frees.takes, frees.recordings, frees.bytes),
        (2, 2, 2 * 24_000 * 3)
    );
    store.change(id, "set it aside", aside()).await??;
    assert!(store.remove_for_good(id).await?);
    tokio::time::sleep(Duration::from_millis(20)).await;
    let swept = store.sweep(Duration::ZERO, &nothing, RENDERS_KEPT_BYTES).await?;
    assert_eq!(swept.recordings, 2);
    database.remove().await
}

/// A database of an earlier Ladder, with a plan and a map that were said as wholes, is brought up with nothing lost; broken off anywhere on the way, it goes
/// on; and one of a later Ladder is refused.
#[tokio::test(flavor = "multi_thread")]
async fn a_database_of_an_earlier_ladder_is_brought_up() -> anyhow::Result<()> {
    const DUMP: &str = include_str!("dumps/2026-11-25.sql");
    const STEP: &str = include_str!("../migrations/2026-11-28-100000_names/up.sql");
    let statements: Vec<&str> = STEP.split(";\n").filter(|of| !of.trim().is_empty()).collect();
    // Broken off after each statement of the step.
    for done in 0..=statements.len() {
        let (database, folder) = (TestDatabase::create().await?, tempfile::TempDir::new()?);
        database
            .run(&format!("SET FOREIGN_KEY_CHECKS = 0; {DUMP}"))
            .await?;
        for statement in &statements[..done] {
            database.run(statement).await?;
        }
        let store = Store::open(&database.url, folder.path()).await?;
        let whole = store.whole(1).await?.context("the instrument")?;
        let facts = store.facts(1).await?;
        let plan = instrument::plan_of(&whole.row.plan, &facts);
        // What was said of the plan holds, and takes are where they were: on layers that are named by their places.
        assert_eq!((plan.passes[0].tail_ms, plan.check()), (9_000, Ok(())), "{done}");
        let cells = plan.cells();
        let of_takes: Vec<Cell> = whole.takes.iter().map(|take| take.cell).collect();
        assert_eq!(of_takes, cells[..2]);
        let map = instrument::map_of(&facts);
        assert_eq!(
            (map.furthest_stretch_keys, map.below_keys, map.above_keys),
            (24, 7, 9)
        );
        assert_eq!(facts[&(Target::Take(1), Fact::GainDb)], json!(-3.5));
        assert_eq!(facts[&(Target::Take(2), Fact::Chosen)], json!(true));
        assert!(facts.contains_key(&(Target::LongTake(1), Fact::Slices)));
        assert_eq!(facts[&(Target::Instrument, Fact::Name)], json!("Chimes of slate"));
        // What was done to what is kept otherwise now is listed and not undone; the rest is undone as ever.
        let steps = store.steps(1).await?;
        assert_eq!(
            told(&steps),
            [
                ("plan it at last", true, false),
                ("plan it otherwise", true, false),
                ("set the level", false, true),
                ("change the keys below", false, false),
                ("change the plan", false, false)
            ]
        );
        assert_eq!(
            store.step_back(1, false).await?.context("undo")?.label,
            "set the level"
        );
        assert_eq!(store.step_back(1, false).await?, None);
        assert_eq!(
            store.step_back(1, true).await?.context("redo")?.label,
            "set the level"
        );
        assert_eq!(store.step_back(1, true).await?, None);
        // An export that waited for its turn is to be asked for again.
        let exports = store.jobs(1, &[JobKind::Export]).await?;
        assert_eq!(exports[0].state, JobState::Failed);
        assert!(
            exports[0]
                .error
                .as_deref()
                .is_some_and(|error| error.contains("ask for it again"))
        );
        // The next start finds nothing to do.
        drop(Store::open(&database.url, folder.path()).await?);
        if done == statements.len() {
            database
                .run("INSERT INTO __diesel_schema_migrations (version) VALUES ('99991231000000')")
                .await?;
            let refused = Store::open(&database.url, folder.path())
                .await
                .err()
                .context("a newer one")?;
            assert!(refused.to_string().contains("a newer Ladder"), "{refused}");
        }
        drop(store);
        database.remove().await?;
    }
    Ok(())
}

/// An export that waited while programs came to be said otherwise works on one of before: it is to be asked for again, and the step is the same done twice.
#[tokio::test(flavor = "multi_thread")]
async fn an_export_that_waited_over_a_change_of_programs_is_asked_for_again() -> anyhow::Result<()> {
    let (database, folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    store.enqueue(id, JobKind::Export, &json!({})).await?;
    store.enqueue(id, JobKind::Loops, &json!({})).await?;
    database
        .run("DELETE FROM __diesel_schema_migrations WHERE version = '20261128200000'")
        .await?;
    let store = Store::open(&database.url, folder.path()).await?;
    let states = |jobs: Vec<store::Job>| jobs.iter().map(|job| job.state).collect::<Vec<_>>();
    assert_eq!(
        states(store.jobs(id, &[JobKind::Export]).await?),
        [JobState::Failed]
    );
    assert_eq!(
        states(store.jobs(id, &[JobKind::Loops]).await?),
        [JobState::Waiting]
    );
    database.remove().await
}

/// Two pages that edit the plan at once: what each of them said holds, and what would leave a plan that cannot be recorded is refused, by undo too.
#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_edited_part_by_part() -> anyhow::Result<()> {
    let (database, _folder, store) = opened().await?;
    let id = store.create_instrument("Slate", &plan()).await?;
    let with = |edit: &dyn Fn(&mut Plan)| {
        let mut plan = plan();
        edit(&mut plan);
        plan
    };
    let longer = with(&|plan| plan.passes[0].tail_ms = 9_000);
    let named = with(&|plan| plan.passes[0].name = "Both ranks".into());
    store.change_plan(id, "a longer tail", &plan(), &longer).await??;
    store.change_plan(id, "name the pass", &plan(), &named).await??;
    let now = instrument::plan_of(&plan(), &store.facts(id).await?);
    assert_eq!(
        (now.passes[0].tail_ms, now.passes[0].name.as_str()),
        (9_000, "Both ranks")
    );
    let shorter = with(&|plan| plan.passes[0].tail_ms = 500);
    assert!(
        store
            .change_plan(id, "a shorter tail", &plan(), &shorter)
            .await?
            .is_err()
    );
    // Strikes have to rise: undone out of order, they would not.
    let strikes = |first, second| {
        let mut plan = now.clone();
        plan.passes[0].layers[0].strike_velocity = first;
        plan.passes[0].layers[1].strike_velocity = second;
        plan
    };
    let (low, high) = (strikes(20, 30), strikes(40, 50));
    store.change_plan(id, "strike softly", &now, &low).await??;
    let up = strikes(20, 50);
    store.change_plan(id, "strike harder", &low, &up).await??;
    store.change_plan(id, "strike all harder", &up, &high).await??;
    let steps = store.steps(id).await?;
    let harder = steps
        .iter()
        .find(|step| step.label == "strike harder")
        .context("the step")?;
    let refused = store.undo_step(id, harder.id).await.unwrap_err().to_string();
    assert!(refused.contains("rise from soft to loud"), "{refused}");
    database.remove().await
}
