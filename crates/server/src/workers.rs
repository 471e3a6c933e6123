//! Those who do the jobs.

use crate::api::{lacks_judgement, lacks_levels};
use crate::treated::{Treated, take_of_source};
use crate::view::view_of;
use formats::Format;
use futures::StreamExt;
use program::Program;
use serde_json::{Value, json};
use signal::Audio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;
use store::{Job, RecordingForm, Spool, Store};
use work::{ExportSettings, Library};

const LOOK_EVERY: Duration = Duration::from_millis(100);
const RENEW_EVERY: Duration = Duration::from_secs(10);
const TELL_EVERY: Duration = Duration::from_millis(400);

/// Does jobs for ever, under a name that no other worker has.
pub async fn work_forever(store: Store, name: String) {
    loop {
        match store.claim(&name).await {
            Ok(Some(job)) => {
                if let Err(error) = work_on(&store, &name, &job).await {
                    tracing::warn!(job = job.id, "{error:#}");
                }
            }
            Ok(None) => tokio::time::sleep(LOOK_EVERY).await,
            Err(error) => {
                tracing::warn!("jobs: {error:#}");
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        }
    }
}

async fn work_on(store: &Store, name: &str, job: &Job) -> anyhow::Result<()> {
    let (share, wanted) = (Arc::new(AtomicU32::new(0)), Arc::new(AtomicBool::new(true)));
    let renewing = {
        let (store, name, job, share, wanted) = (
            store.clone(),
            name.to_owned(),
            job.clone(),
            share.clone(),
            wanted.clone(),
        );
        let every = if job.kind == "measure" {
            RENEW_EVERY
        } else {
            TELL_EVERY
        };
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(every).await;
                let now = f64::from(share.load(Ordering::Relaxed)) / 1000.0;
                if !store.renew(&job, &name, now).await.unwrap_or(true) {
                    wanted.store(false, Ordering::Relaxed);
                    return;
                }
            }
        })
    };
    let outcome = match job.kind.as_str() {
        "measure" => measure(store, job, share, wanted).await,
        "export" => export(store, job, share, wanted).await,
        "overview" => overview(store, job, share, wanted).await,
        "import" => import(store, job, share, wanted).await,
        "make" => crate::making::make(store, job, share, wanted).await,
        "loops" => crate::seeking::seek(store, job, share, wanted).await,
        "render" => render(store, job, share, wanted).await,
        other => Err(anyhow::anyhow!("Nobody here knows the job «{other}».")),
    };
    renewing.abort();
    store
        .finish(job, name, outcome.map_err(|error| format!("{error:#}")))
        .await?;
    Ok(())
}

async fn measure(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<Value> {
    let id = job.input["take"].as_u64().unwrap_or(0);
    let Some(take) = store.take(id).await? else {
        return Ok(json!({}));
    };
    let audio = store.take_audio(&take, 0, take.frames).await?;
    let (facts, thumbnail) = tokio::task::spawn_blocking(move || work::measure_take(&audio)).await?;
    store.put_measurement(&take, &facts, &thumbnail).await?;
    if let Some(treated) = Treated::of(store, id).await? {
        // A loop that stood inside its file.
        treated.judge_loop(store).await?;
    }
    if take.frames > crate::audio::MOST_FRAMES {
        // Too long to be drawn from its frames each time.
        let whole = Whole {
            recording: &take.recording,
            form: take.form,
            frames: store.recording_frames(&take.recording).await?,
        };
        let peaks = crate::audio::peaks_path(&take.recording);
        if store.bytes_of(&peaks, work::Overview::HEADER).await?.is_none() {
            draw(store, whole, share, wanted).await?;
        }
    }
    Ok(json!({}))
}

/// Frames read at once: 5 s at 48 kHz.
const PIECE_FRAMES: u64 = 240_000;

/// Draws a long take from afar.
async fn overview(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<Value> {
    let id = job.input["long_take"].as_u64().unwrap_or(0);
    let Some(take) = store.long_take(id).await? else {
        return Ok(json!({}));
    };
    let whole = Whole {
        recording: &take.recording,
        form: take.form,
        frames: take.frames,
    };
    draw(store, whole, share, wanted).await?;
    Ok(json!({ "long_take": id }))
}

/// A recording from its first frame to its last.
struct Whole<'a> {
    recording: &'a str,
    form: RecordingForm,
    frames: u64,
}

async fn draw(
    store: &Store,
    whole: Whole<'_>,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<()> {
    let Whole {
        recording,
        form,
        frames,
    } = whole;
    let mut maker = work::OverviewMaker::new(form.rate_hz, usize::from(form.channels));
    let mut first = 0;
    while first < frames {
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        let piece = PIECE_FRAMES.min(frames - first);
        let audio = store.read_recording(recording, form, first, piece).await?;
        maker = tokio::task::spawn_blocking(move || {
            maker.push(&audio.interleaved());
            maker
        })
        .await?;
        first += piece;
        share.store((first * 1000 / frames) as u32, Ordering::Relaxed);
    }
    let (peaks, levels) = maker.finish();
    store
        .put_bytes(&crate::audio::peaks_path(recording), peaks)
        .await?;
    store
        .put_bytes(&crate::audio::levels_path(recording), levels)
        .await?;
    Ok(())
}

/// A file that was sent becomes a long take.
async fn import(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<Value> {
    let text = |name: &str| job.input[name].as_str().unwrap_or_default().to_owned();
    let (file, name) = (text("file"), text("name"));
    let (length, mut stream) = store.read_file(&file).await?;
    let local = tempfile::NamedTempFile::new_in(store.spool_folder())?;
    let mut out = tokio::fs::File::from_std(local.reopen()?);
    while let Some(piece) = stream.next().await {
        tokio::io::AsyncWriteExt::write_all(&mut out, &piece?).await?;
    }
    tokio::io::AsyncWriteExt::flush(&mut out).await?;
    let source = local.reopen()?;
    let (folder, spool_name) = (store.spool_folder().to_owned(), format!("import-{}", job.id));
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_owned());
    let (mut spool, form) = tokio::task::spawn_blocking(move || {
        let mut reader = formats::AudioReader::open(Box::new(source), ending.as_deref())?;
        let form = RecordingForm {
            rate_hz: reader.rate_hz(),
            channels: reader.channels() as u16,
            bits: reader.bits(),
        };
        let mut spool = Spool::begin(&folder, &spool_name, form)?;
        while let Some(piece) = reader.next_piece()? {
            anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
            spool.write(&piece)?;
            // How much of the file was read is not told by the decoder: by the size of what came out.
            let out = spool.frames() * u64::from(form.channels) * u64::from(form.bits / 8);
            share.store((out * 900 / length.max(out)).min(999) as u32, Ordering::Relaxed);
        }
        anyhow::Ok((spool, form))
    })
    .await??;
    anyhow::ensure!(spool.frames() > 0, "There is no sound in this file.");
    let recording = store.put_recording(&mut spool).await?;
    let id = store
        .add_long_take(job.instrument_id, &name, &recording, form, spool.frames())
        .await?;
    store.forget_file(&file).await?;
    Ok(json!({ "long_take": id }))
}

/// Renders what a change of cleaning asks for, so that it is there when it is played, and judges loops that were not found by measuring.
async fn render(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<Value> {
    let Some(view) = view_of(store, job.instrument_id).await? else {
        return Ok(json!({}));
    };
    let library = StoreLibrary {
        store: store.clone(),
        runtime: tokio::runtime::Handle::current(),
    };
    let unknown: Vec<u64> = view
        .takes
        .iter()
        .filter(|take| take.chosen && (lacks_levels(take) || lacks_judgement(take)))
        .map(|take| take.id)
        .collect();
    let cleaned: Vec<_> = view
        .program
        .samples
        .into_iter()
        .filter(|sample| sample.source.contains('~'))
        .collect();
    let all = (cleaned.len() + unknown.len()).max(1);
    let tell = |done: usize| {
        share.store((done * 1000 / all) as u32, Ordering::Relaxed);
        anyhow::ensure!(wanted.load(Ordering::Relaxed), "Cancelled.");
        anyhow::Ok(())
    };
    for (n, sample) in cleaned.iter().enumerate() {
        tell(n)?;
        library.read(sample).await?;
    }
    let known = store.cleaned_levels(job.instrument_id).await?;
    for (n, id) in unknown.into_iter().enumerate() {
        tell(cleaned.len() + n)?;
        if let Some(take) = Treated::of(store, id).await? {
            take.tell_levels(store, &known).await?;
            take.judge_loop(store).await?;
        }
    }
    Ok(json!({}))
}

/// The store as the exports see it: one sample at a time.
struct StoreLibrary {
    store: Store,
    runtime: tokio::runtime::Handle,
}

impl StoreLibrary {
    async fn read(&self, sample: &program::Sample) -> anyhow::Result<Audio> {
        let id = take_of_source(&sample.source)?;
        let take = Treated::of(&self.store, id)
            .await?
            .ok_or_else(|| anyhow::anyhow!("take {id} is not there"))?;
        let of = (
            usize::from(sample.first_channel),
            usize::from(sample.source_channels),
        );
        take.audio(&self.store, of, 0, u64::MAX).await
    }
}

impl Library for StoreLibrary {
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<Audio> {
        self.runtime.block_on(self.read(sample))
    }
}

async fn export(
    store: &Store,
    job: &Job,
    share: Arc<AtomicU32>,
    wanted: Arc<AtomicBool>,
) -> anyhow::Result<Value> {
    let settings: ExportSettings = serde_json::from_value(job.input.clone())?;
    let program: Program = crate::view::program_of(store, job.instrument_id).await?;
    let library = StoreLibrary {
        store: store.clone(),
        runtime: tokio::runtime::Handle::current(),
    };
    let ending = match settings.format {
        Format::Sfz => "zip",
        Format::SoundFont2 => "sf2",
    };
    // Beside the spool: the disk that recordings arrive on has room for them written out.
    let file = tempfile::NamedTempFile::new_in(store.spool_folder())?;
    let mut out = std::io::BufWriter::new(file.reopen()?);
    let exported = tokio::task::spawn_blocking(move || {
        let exported = work::export(&program, settings, &library, &mut out, |done| {
            share.store((done * 1000.0) as u32, Ordering::Relaxed);
            wanted.load(Ordering::Relaxed)
        })?;
        std::io::Write::flush(&mut out)?;
        anyhow::Ok(exported)
    })
    .await??;
    let path = format!("exports/{}.{ending}", job.id);
    let size = file.as_file().metadata()?.len();
    store.put_file(&path, file.path()).await?;
    Ok(json!({ "file": path, "name": exported.name, "bytes": size, "losses": exported.losses }))
}
