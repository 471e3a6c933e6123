//! What the API does to many takes at once, against a real store and its jobs.

use anyhow::Context;
use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::http::{Request, StatusCode};
use instrument::{Cell, How, Kind, Origin, first_plan};
use serde_json::{Value, json};
use server::App;
use signal::Audio;
use std::f64::consts::TAU;
use std::path::Path;
use std::time::Duration;
use store::{Folder, NewTake, RecordingForm, Spool, Store, TestDatabase};
use tower::ServiceExt;

const RATE: u32 = 48_000;

/// A server without a socket, its store, and somebody who does its jobs.
struct Site {
    app: App,
    router: Router,
    store: Store,
    worker: tokio::task::JoinHandle<()>,
    database: TestDatabase,
    _folder: tempfile::TempDir,
}

impl Site {
    async fn open() -> anyhow::Result<Self> {
        let (database, folder) = (TestDatabase::create().await?, tempfile::TempDir::new()?);
        let store = Store::open(&database.url, folder.path()).await?;
        let held = Folder::hold(folder.path())?;
        let app = App::start(store.clone(), held).await?;
        let router = app.clone().router(Path::new("."), None);
        let worker = tokio::spawn(server::work_forever(store.clone(), "test".into()));
        Ok(Self {
            app,
            router,
            store,
            worker,
            database,
            _folder: folder,
        })
    }

    async fn close(self) -> anyhow::Result<()> {
        self.worker.abort();
        self.database.remove().await
    }

    async fn ask(&self, method: &str, path: &str, body: Body) -> anyhow::Result<(StatusCode, Bytes)> {
        let request = Request::builder()
            .method(method)
            .uri(path)
            .header("host", "127.0.0.1")
            .header("content-type", "application/json")
            .body(body)?;
        let response = self.router.clone().oneshot(request).await?;
        let status = response.status();
        Ok((status, to_bytes(response.into_body(), usize::MAX).await?))
    }

    async fn get(&self, path: &str) -> anyhow::Result<Value> {
        let (status, bytes) = self.ask("GET", path, Body::empty()).await?;
        anyhow::ensure!(status.is_success(), "{path}: {}", String::from_utf8_lossy(&bytes));
        Ok(serde_json::from_slice(&bytes)?)
    }

    /// What was answered, or the sentence of a refusal.
    async fn post(&self, path: &str, body: Value) -> anyhow::Result<Result<Value, String>> {
        let (status, bytes) = self.ask("POST", path, Body::from(body.to_string())).await?;
        let value: Value = if bytes.is_empty() {
            Value::Null
        } else {
            serde_json::from_slice(&bytes)?
        };
        if status.is_success() {
            return Ok(Ok(value));
        }
        Ok(Err(value["detail"].as_str().unwrap_or_default().to_owned()))
    }

    /// An instrument of sustained sounds with a take on each of some keys, all of them measured.
    async fn with_takes(&self, takes: Vec<(u8, Audio)>) -> anyhow::Result<(u64, Vec<u64>)> {
        self.with_takes_of(Kind::Sustained, takes).await
    }

    async fn with_takes_of(&self, kind: Kind, takes: Vec<(u8, Audio)>) -> anyhow::Result<(u64, Vec<u64>)> {
        let plan = first_plan(kind, How::OverMidi, "night-ferry").plan;
        let id = self.store.create_instrument("Parlour reed organ", &plan).await?;
        let mut new = Vec::new();
        for (key, audio) in takes {
            let library = self.store.library();
            let recording = tokio::task::spawn_blocking(move || work::keep(&library, &audio, 32)).await??;
            let cell = Cell {
                pass: instrument::PassId(0),
                key,
                layer: instrument::LayerId(0),
                round_robin: 0,
            };
            new.push(NewTake::whole(cell, recording, Origin::default()));
        }
        let ids = self.store.add_takes(id, &new).await?;
        self.until(id, |view| every_take(view, |take| !take["facts"].is_null()))
            .await?;
        Ok((id, ids))
    }

    /// The instrument, once it is as wished.
    async fn until(&self, id: u64, wished: impl Fn(&Value) -> bool) -> anyhow::Result<Value> {
        for _ in 0..400 {
            let view = self.get(&format!("/api/instruments/{id}")).await?;
            if wished(&view) {
                return Ok(view);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        anyhow::bail!("it never came to be so")
    }

    /// One undo brings back the treatment of every take.
    async fn undo_brings_back(&self, id: u64, before: &Value) -> anyhow::Result<()> {
        self.post(&format!("/api/instruments/{id}/undo"), Value::Null)
            .await?
            .map_err(anyhow::Error::msg)?;
        let undone = self.get(&format!("/api/instruments/{id}")).await?;
        let treatments = |view: &Value| -> Vec<Value> {
            let takes = view["takes"].as_array().map(Vec::as_slice).unwrap_or_default();
            takes.iter().map(|take| take["treatment"].clone()).collect()
        };
        assert_eq!(treatments(&undone), treatments(before));
        Ok(())
    }

    /// Says one thing of some takes.
    async fn say(&self, id: u64, takes: &[u64], fact: &str, value: Value) -> anyhow::Result<()> {
        let wishes: Vec<Value> = takes
            .iter()
            .map(|take| json!({"target": {"take": take}, "fact": fact, "after": {"value": value}}))
            .collect();
        let path = format!("/api/instruments/{id}/changes");
        self.post(&path, json!({"label": fact, "wishes": wishes}))
            .await?
            .map_err(anyhow::Error::msg)?;
        Ok(())
    }
}

fn every_take(view: &Value, test: impl Fn(&Value) -> bool) -> bool {
    view["takes"]
        .as_array()
        .is_some_and(|takes| takes.iter().all(test))
}

fn take(view: &Value, id: u64) -> &Value {
    let takes = view["takes"].as_array().map(Vec::as_slice).unwrap_or_default();
    takes.iter().find(|take| take["id"] == id).unwrap_or(&Value::Null)
}

/// A quarter of a second of silence, two seconds of a bright tone of a key, and silence.
fn tone(key: u8, level: f64) -> Audio {
    let hz = signal::hz_of_key(f64::from(key));
    let samples = (0..3 * RATE)
        .map(|n| {
            let sounds = (RATE / 4..RATE * 9 / 4).contains(&n);
            let t = f64::from(n) / f64::from(RATE);
            let partials: f64 = (1..=5)
                .map(|k| (t * hz * f64::from(k) * TAU).sin() / f64::from(k))
                .sum();
            if sounds { (partials * level) as f32 } else { 0.0 }
        })
        .collect();
    Audio::mono(RATE, samples)
}

#[tokio::test(flavor = "multi_thread")]
async fn levels_are_those_of_the_cleaned_take() -> anyhow::Result<()> {
    let site = Site::open().await?;
    // In stereo, out of step: their mean is 6 dB lower than either side.
    let mut wide = tone(57, 0.3);
    wide.channels.push(vec![0.0; wide.frames()]);
    let (id, takes) = site.with_takes(vec![(57, wide), (60, tone(60, 0.3))]).await?;
    let before = site.get(&format!("/api/instruments/{id}")).await?;
    let peak = |view: &Value, n: usize| {
        take(view, takes[n])["levels"]["peak_dbfs"]
            .as_f64()
            .unwrap_or(f64::NAN)
    };
    assert_eq!(
        take(&before, takes[0])["facts"]["peak_dbfs"],
        take(&before, takes[0])["levels"]["peak_dbfs"]
    );
    site.say(id, &takes[..1], "channels", json!({"sides": "sum", "width": 1.0}))
        .await?;
    let after = site
        .until(id, |view| every_take(view, |take| !take["levels"].is_null()))
        .await?;
    let fell = peak(&before, 0) - peak(&after, 0);
    assert!((fell - 6.02).abs() < 0.01, "{fell}");
    // To one peak: the gain is what the cleaned take wants.
    let even =
        json!({"even": {"levels": {"rule": {"peak": {"dbfs": -10.0}}, "layers_kept": 0.0}}, "takes": takes});
    let proposed = site
        .post(&format!("/api/instruments/{id}/even"), even)
        .await?
        .map_err(anyhow::Error::msg)?;
    for n in 0..2 {
        let gain = proposed[n]["value"].as_f64().context("a gain")?;
        assert!((peak(&after, n) + gain + 10.0).abs() < 0.02, "{proposed}");
    }
    // Another take of the same sound, cleaned alike: its render is there already, its levels are not.
    let twin = take(&after, takes[0])["id"].as_u64().context("a take")?;
    let row = site.store.take(twin).await?.context("a take")?;
    let recording = site
        .store
        .recording(&row.recording)
        .await?
        .context("a recording")?;
    let cell = Cell { key: 64, ..row.cell };
    let again = NewTake::whole(cell, recording, Origin::default());
    let other = site.store.add_takes(id, &[again]).await?;
    site.until(id, |view| every_take(view, |take| !take["facts"].is_null()))
        .await?;
    site.say(id, &other, "channels", json!({"sides": "sum", "width": 1.0}))
        .await?;
    let both = site
        .until(id, |view| every_take(view, |take| !take["levels"].is_null()))
        .await?;
    assert_eq!(take(&both, other[0])["levels"], take(&both, twin)["levels"]);
    site.post(&format!("/api/instruments/{id}/undo"), Value::Null)
        .await?
        .map_err(anyhow::Error::msg)?;
    // Undone, they are as recorded at once.
    site.post(&format!("/api/instruments/{id}/undo"), Value::Null)
        .await?
        .map_err(anyhow::Error::msg)?;
    let undone = site.get(&format!("/api/instruments/{id}")).await?;
    assert_eq!(peak(&undone, 0), peak(&before, 0));
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_of_one_take_is_put_on_others_as_one_change() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let keys = [57, 60, 63];
    let (id, takes) = site
        .with_takes(keys.map(|key| (key, tone(key, 0.2))).to_vec())
        .await?;
    let path = format!("/api/instruments/{id}/spread");
    let wish = |how: &str| json!({"from": takes[0], "onto": takes, "part": "trim", "how": how});
    let nothing = site.post(&path, wish("offsets")).await?;
    assert_eq!(
        nothing.unwrap_err(),
        "Nothing was set by hand here that fits the other takes."
    );
    let before = site.get(&format!("/api/instruments/{id}")).await?;
    let automatic = |n: usize| take(&before, takes[n])["suggestion"]["start_frame"].as_u64();
    let moved = automatic(0).context("a start")? - 480;
    site.say(id, &takes[..1], "start_frame", json!(moved)).await?;
    let done = site
        .post(&path, wish("offsets"))
        .await?
        .map_err(anyhow::Error::msg)?;
    assert_eq!(done, json!({"changed": 2, "left_alone": 0}));
    let view = site.get(&format!("/api/instruments/{id}")).await?;
    for (n, id) in takes.iter().enumerate() {
        let start = take(&view, *id)["treatment"]["start_frame"].as_u64();
        assert_eq!(start, automatic(n).map(|at| at - 480), "{n}");
    }
    site.post(&path, wish("values"))
        .await?
        .map_err(anyhow::Error::msg)?;
    let view = site.get(&format!("/api/instruments/{id}")).await?;
    assert!(every_take(&view, |take| take["treatment"]["start_frame"] == moved));
    assert_eq!(view["undo"], "same trim on 2 takes");
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn loops_of_a_length_are_looked_for_in_all_takes_and_undone_at_once() -> anyhow::Result<()> {
    // What is asked for is done, also where it would not be done by itself: a pad in a short loop, a struck thing looped.
    for kind in [Kind::Sustained, Kind::Pad, Kind::Struck] {
        short_loops_and_undo(kind).await?;
    }
    Ok(())
}

async fn short_loops_and_undo(kind: Kind) -> anyhow::Result<()> {
    let site = Site::open().await?;
    let keys = [57, 60, 63];
    let (id, takes) = site
        .with_takes_of(kind, keys.map(|key| (key, tone(key, 0.2))).to_vec())
        .await?;
    let before = site.get(&format!("/api/instruments/{id}")).await?;
    let lengths = json!({"shortest_s": 0.1, "longest_s": 0.3, "from_share": 0.5});
    let wish = json!({"takes": takes, "lengths": lengths, "label": "short loops"});
    site.post(&format!("/api/instruments/{id}/loops"), wish)
        .await?
        .map_err(anyhow::Error::msg)?;
    let length = |take: &Value| {
        let of = |end: &str| take["treatment"]["loop"][end].as_f64().unwrap_or(f64::NAN);
        (of("end_frame") - of("start_frame")) / f64::from(RATE)
    };
    // From half way on: it sounds from a quarter of a second on, for two.
    let late = |take: &Value| {
        take["treatment"]["loop"]["start_frame"].as_u64() >= Some(u64::from(RATE) * 5 / 4 - 500)
    };
    let short = |view: &Value| every_take(view, |take| (0.09..=0.31).contains(&length(take)) && late(take));
    assert!(!short(&before));
    site.until(id, |view| view["undo"] == "short loops" && short(view))
        .await?;
    // Each of them is judged, and so stands on the board.
    site.until(id, |view| {
        every_take(view, |take| take["seam"]["seam_db"].is_f64())
    })
    .await?;
    site.undo_brings_back(id, &before).await?;
    let none = site
        .post(
            &format!("/api/instruments/{id}/loops"),
            json!({"takes": [999_999], "label": "x"}),
        )
        .await?;
    assert_eq!(
        none.err().as_deref(),
        Some("Choose takes that are measured: there is nothing to look through.")
    );
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_dies_is_looped_where_it_hardly_moves_and_evened_by_whole_periods() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let dying = |key| {
        let mut audio = tone(key, 0.2);
        for (n, x) in audio.channels[0].iter_mut().enumerate() {
            *x *= (-4.0 * n as f32 / RATE as f32).exp();
        }
        (key, audio)
    };
    let (id, takes) = site.with_takes([57, 60].map(dying).to_vec()).await?;
    let before = site.get(&format!("/api/instruments/{id}")).await?;
    // By itself a short loop, in which its level hardly moves.
    assert!(every_take(&before, |take| {
        let best = &take["facts"]["loops"][0];
        take["missing"] == json!([]) && best["pumps_db"].as_f64().is_some_and(|db| db < 2.0)
    }));
    let wish = json!({"takes": takes, "evened": true, "label": "even and loop"});
    site.post(&format!("/api/instruments/{id}/loops"), wish)
        .await?
        .map_err(anyhow::Error::msg)?;
    let after = site
        .until(id, |view| {
            every_take(view, |take| {
                take["seam"]["seam_db"].is_f64() && take["treatment"]["cleaning"]["evening"].is_object()
            })
        })
        .await?;
    for id in &takes {
        let take = take(&after, *id);
        assert_eq!(take["missing"], json!([]));
        assert_eq!(take["treatment"]["cleaning"]["evening"]["share"], 1.0);
        let of = |name: &str| take["seam"][name].as_f64().unwrap_or(f64::NAN);
        assert!(
            of("seam_db") <= -20.0 && of("drift_db") <= 1.0,
            "{}",
            take["seam"]
        );
    }
    site.undo_brings_back(id, &before).await?;
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_partials_of_a_tone_are_told() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let (_, takes) = site.with_takes(vec![(57, tone(57, 0.2))]).await?;
    let path = format!("/api/takes/{}/pitch?first=0&end={}", takes[0], 3 * RATE);
    let heard = site.get(&path).await?;
    let partials = heard["partials"].as_array().context("partials")?;
    let mut loudest: Vec<(f64, f64)> = partials
        .iter()
        .filter_map(|partial| Some((partial["db"].as_f64()?, partial["hz"].as_f64()?)))
        .collect();
    loudest.sort_by(|a, b| b.0.total_cmp(&a.0));
    // Five, each as loud as the first divided by its number.
    for (number, (db, hz)) in (1..=5).zip(loudest) {
        let number = f64::from(number);
        assert!((hz / (220.0 * number) - 1.0).abs() < 0.002, "{number}: {hz} Hz");
        assert!(
            (db - 20.0 * (0.2 / number).log10()).abs() < 0.3,
            "{number}: {db} dB"
        );
    }
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_take_of_half_a_minute_is_drawn_from_afar_and_side_by_side() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let mut long = tone(57, 0.2);
    long.channels[0].resize(30 * RATE as usize, 0.0);
    let mut right = vec![0.0; long.frames()];
    right[1_000_000] = 0.75;
    long.channels.push(right);
    let (_, takes) = site.with_takes(vec![(57, long)]).await?;
    let path = format!("/api/takes/{}/peaks?first=0&end=1440000&columns=100", takes[0]);
    let highs = |view: &Value| -> Vec<f64> {
        let of = view["high"].as_array().map(Vec::as_slice).unwrap_or_default();
        of.iter().filter_map(Value::as_f64).collect()
    };
    let drawn = async |path: String| -> anyhow::Result<Value> {
        for _ in 0..100 {
            match site.get(&path).await {
                Ok(view) => return Ok(view),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
        site.get(&path).await
    };
    let (both, left, right) = (
        highs(&drawn(path.clone()).await?),
        highs(&drawn(format!("{path}&channel=0")).await?),
        highs(&drawn(format!("{path}&channel=1")).await?),
    );
    // Column 69 holds frame 1,000,000 of 1,440,000.
    assert!(
        (both[69] - 0.75).abs() < 1e-3 && (right[69] - 0.75).abs() < 1e-3,
        "{both:?}"
    );
    assert_eq!((left[69], right[3]), (0.0, 0.0));
    assert!(left[3] > 0.2);
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_more_than_five_minutes_is_no_take() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let (id, _) = site.with_takes(Vec::new()).await?;
    let form = RecordingForm {
        rate_hz: 8_000,
        channels: 1,
        bits: 24,
    };
    let folder = tempfile::TempDir::new()?;
    let mut spool = Spool::begin(folder.path(), "long", form)?;
    spool.write(&vec![0.1; 8_000 * 301])?;
    spool.finish()?;
    let body = Body::from(std::fs::read(spool.path())?);
    let path = format!("/api/instruments/{id}/files?name=long.wav");
    let (status, bytes) = site.ask("POST", &path, body).await?;
    let said: Value = serde_json::from_slice(&bytes)?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(
        said["detail"],
        "«long.wav» was left aside. It lasts over 5 minutes. Bring it as a long take, and cut it."
    );
    site.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_loop_set_by_hand_is_judged_as_it_is_and_as_it_is_cleaned() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let (id, takes) = site.with_takes(vec![(57, tone(57, 0.2))]).await?;
    let before = site.get(&format!("/api/instruments/{id}")).await?;
    let seam = |view: &Value| take(view, takes[0])["seam"]["seam_db"].as_f64();
    assert!(seam(&before).context("a measured loop")? < -60.0);
    // Half a period of 220 Hz too long: 109 frames of 218.
    let hand = json!({"start_frame": 30_000, "end_frame": 30_000 + 21_818 + 109, "crossfade_frames": 0});
    site.say(id, &takes, "loop", hand).await?;
    let judged = site
        .until(id, |view| seam(view).is_some_and(|db| db > -60.0))
        .await?;
    assert!(
        seam(&judged).context("a judged loop")? > 0.0,
        "{:?}",
        seam(&judged)
    );
    // Cleaned, the same loop is judged anew: a high-pass leaves the upper partials, of which the even ones fit.
    let high = json!({"hz": 1_500.0, "db_per_octave": 48});
    site.say(id, &takes, "high_pass", high).await?;
    let before = seam(&judged);
    site.until(id, |view| seam(view).is_some() && seam(view) != before)
        .await?;
    let turned =
        json!({"start_frame": 30_000, "end_frame": 50_000, "crossfade_frames": 0, "way": "back_and_forth"});
    site.say(id, &takes, "loop", turned).await?;
    let view = site.get(&format!("/api/instruments/{id}")).await?;
    assert!(take(&view, takes[0])["seam"].is_null());
    site.close().await
}

/// A name that was rebound to this machine is not its own (DNS rebinding); the address that is listened on is, where it is a loopback one.
#[tokio::test(flavor = "multi_thread")]
async fn only_names_of_this_machine_are_answered() -> anyhow::Result<()> {
    let site = Site::open().await?;
    let answered = async |host: &str, listening: Option<&str>| -> anyhow::Result<bool> {
        let listening = listening.map(str::parse).transpose()?;
        let request = Request::builder()
            .uri("/api/rigs")
            .header("host", host)
            .body(Body::empty())?;
        let router = site.app.clone().router(Path::new("."), listening);
        let status = router.oneshot(request).await?.status();
        anyhow::ensure!(
            matches!(status, StatusCode::OK | StatusCode::FORBIDDEN),
            "{status}"
        );
        Ok(status == StatusCode::OK)
    };
    for name in ["localhost:4000", "127.0.0.1", "[::1]:80", "localhost"] {
        assert!(answered(name, None).await?, "{name}");
    }
    for name in [
        "example.org",
        "localhost.example.org:80",
        "192.168.0.2:80",
        "evil",
        "127.0.0.1.example.org",
        "127.0.0.2",
        "?",
    ] {
        assert!(!answered(name, None).await?, "{name}");
    }
    assert!(answered("127.0.0.2:4360", Some("127.0.0.2")).await?);
    assert!(answered("localhost", Some("127.0.0.2")).await?);
    assert!(!answered("127.0.0.3:4360", Some("127.0.0.2")).await?);
    assert!(!answered("10.0.0.1", Some("10.0.0.1")).await?);
    site.close().await
}
