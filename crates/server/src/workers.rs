//! Those who do the jobs.

use crate::problem::sentence_of;
use anyhow::Context;
use formats::Place;
use instrument::{Fact, Said, Target};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use shown::{lay_beside_of, listen_to, seen};
use std::sync::Arc;
use std::time::Duration;
use store::{Ended, Job, Store, StoreLibrary};
use work::{
    Draw, Export, ExportSettings, Freeze, Import, IntoFolder, JobKind, Make, Measure, MeasureAgain, Outcome,
    Render, Seek, Sought, Watch,
};

const LOOK_EVERY: Duration = Duration::from_millis(100);
const RENEW_EVERY: Duration = Duration::from_secs(8);
/// Jobs that a page shows tell so often how far they are.
const TELL_EVERY: Duration = Duration::from_millis(400);
/// While the database is away it is asked so often.
const ASK_AGAIN: Duration = Duration::from_millis(500);

/// What a job that makes takes is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Makings {
    /// A take each, and what is made of it.
    pub(crate) of: Vec<(u64, instrument::Making)>,
    /// Name of the takes as they were when it was asked for.
    pub(crate) snapshot: String,
    /// What is said with them, in the same change.
    #[serde(default)]
    pub(crate) wishes: Vec<(Target, Fact, Said)>,
}

/// What a job that looks for loops is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Seeking {
    /// What is looked for.
    #[serde(flatten)]
    pub(crate) sought: Sought,
    /// Whether the takes are evened over their loops.
    #[serde(default)]
    pub(crate) evened: bool,
    /// For "Undo …".
    pub(crate) label: String,
    /// Name of the takes as they were when it was asked for.
    pub(crate) snapshot: String,
}

/// What a job that measures again is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Again {
    /// Numbers of the takes.
    pub(crate) takes: Vec<u64>,
    /// For "Undo …".
    pub(crate) label: String,
}

/// What an export is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Exporting {
    /// What to write.
    #[serde(flatten)]
    pub(crate) settings: ExportSettings,
    /// Name of the program and its takes as they were when it was asked for.
    pub(crate) snapshot: String,
    /// Names of what is written with it.
    #[serde(default)]
    pub(crate) snapshots: Vec<String>,
    /// Where it stands, and then the others.
    #[serde(default)]
    pub(crate) places: Vec<Place>,
    /// Whether levels are made even.
    #[serde(default)]
    pub(crate) even: bool,
    /// As all of them together are called.
    #[serde(default)]
    pub(crate) title: Option<String>,
    /// The folder that it is given into, in place of a file.
    #[serde(default)]
    pub(crate) into: Option<GivenTo>,
    /// The shell of a page that plays, by its hash.
    #[serde(default)]
    pub(crate) shell: Option<String>,
}

/// A folder that something is given into.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct GivenTo {
    /// Its name among those that are given into.
    pub(crate) folder: String,
    /// Whether files that another hand changed are replaced.
    pub(crate) replace: bool,
    /// Whether texts are written alone, beside audio that is there.
    pub(crate) texts_alone: bool,
}

/// What an edition is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Freezing {
    /// What its maker says of it.
    pub(crate) notes: String,
    /// As what each of the snapshots is written.
    pub(crate) settings: Vec<ExportSettings>,
    /// The shell of a page that plays, by its hash.
    #[serde(default)]
    pub(crate) shell: Option<String>,
    /// Names of what was asked for: what the instrument is, then each program with its takes.
    pub(crate) snapshots: Vec<String>,
}

/// What an import is given.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Importing {
    /// Where the file lies.
    pub(crate) file: String,
    /// As its owner named it.
    pub(crate) name: String,
}

/// Does jobs for ever, under a name that no other worker has.
pub async fn work_forever(store: Store, name: String) {
    let mut away = false;
    loop {
        match store.claim(&name).await {
            Ok(Some(job)) => work_on(&store, &name, &job).await,
            Ok(None) => {
                away = false;
                tokio::time::sleep(LOOK_EVERY).await;
            }
            Err(error) => {
                if !away {
                    tracing::warn!("jobs: {error:#}");
                }
                away = true;
                tokio::time::sleep(ASK_AGAIN).await;
            }
        }
    }
}

/// Does one job and says how it ended: the one who holds it when the database hears of it is the one who did it.
async fn work_on(store: &Store, name: &str, job: &Job) {
    let outcome = done(store, name, job).await;
    loop {
        let told = match &outcome {
            Ok(outcome) => store.finish(job, name, outcome).await,
            Err(error) => store.give_up(job, name, &ended(error)).await,
        };
        match told {
            Ok(_) => return,
            Err(error) if store::is_unreachable(&error) => tokio::time::sleep(ASK_AGAIN).await,
            // What it would write does not fit any more: that is how it ended.
            Err(error) => {
                tracing::warn!(job = job.id, "{error:#}");
                if let Err(error) = store.give_up(job, name, &ended(&error)).await {
                    // Its lease runs out, and somebody does it again.
                    tracing::error!(job = job.id, "{error:#}");
                }
                return;
            }
        }
    }
}

fn ended(error: &anyhow::Error) -> Ended {
    if let Some(work::Refusal(sentence)) = error.downcast_ref() {
        return Ended::Refused(sentence.clone());
    }
    if store::is_unreachable(error) {
        return Ended::Unreachable;
    }
    tracing::warn!("{error:#}");
    match sentence_of(error) {
        Some((_, sentence)) => Ended::Failed(sentence),
        None => Ended::Failed(format!("{error:#}")),
    }
}

type Work = Box<dyn FnOnce(&StoreLibrary, &Watch) -> anyhow::Result<Outcome> + Send>;

/// Does it on a thread of its own, renewing its lease meanwhile. A job that panics has failed as any other.
async fn done(store: &Store, name: &str, job: &Job) -> anyhow::Result<Outcome> {
    let work = prepared(store, job).await?;
    let watch = Arc::new(Watch::default());
    let mut working = {
        let (library, watch) = (store.library(), watch.clone());
        tokio::task::spawn_blocking(move || work(&library, &watch))
    };
    let every = if job.kind == JobKind::Measure {
        RENEW_EVERY
    } else {
        TELL_EVERY
    };
    loop {
        tokio::select! {
            ended = &mut working => {
                return ended.unwrap_or_else(|error| Err(anyhow::anyhow!("It broke down: {error}")));
            }
            () = tokio::time::sleep(every) => {
                // Where the database is away, the job goes on: perhaps its lease will do.
                if !store.renew(job, name, watch.share()).await.unwrap_or(true) {
                    watch.stop();
                }
            }
        }
    }
}

fn input<T: serde::de::DeserializeOwned>(job: &Job) -> anyhow::Result<T> {
    serde_json::from_value(job.input.clone()).context("what this job was given cannot be read")
}

fn number(input: &Value, name: &str) -> u64 {
    input[name].as_u64().unwrap_or(0)
}

/// Reads what a job needs of the database.
async fn prepared(store: &Store, job: &Job) -> anyhow::Result<Work> {
    Ok(match job.kind {
        JobKind::Measure => {
            let Some(take) = store.untreated(number(&job.input, "take")).await? else {
                return Ok(nothing());
            };
            let recording = store.recording(&take.part.recording).await?;
            let recording = recording.context("its recording is not known")?;
            let measure = Measure { take, recording };
            Box::new(move |library, watch| measure.run(library, watch))
        }
        JobKind::MeasureAgain => {
            let Again {
                takes: numbers,
                label,
            } = input(job)?;
            let mut takes = Vec::with_capacity(numbers.len());
            for number in numbers {
                takes.extend(store.untreated(number).await?);
            }
            let again = MeasureAgain { label, takes };
            Box::new(move |library, watch| again.run(library, watch))
        }
        JobKind::Overview => {
            let Some(row) = store.long_take(number(&job.input, "long_take")).await? else {
                return Ok(nothing());
            };
            let recording = store.recording(&row.recording).await?;
            let draw = Draw {
                recording: recording.context("its recording is not known")?,
            };
            Box::new(move |library, watch| draw.run(library, watch))
        }
        JobKind::Import => {
            let Importing { file, name } = input(job)?;
            let import = Import { file, name };
            Box::new(move |library, watch| import.run(library, watch))
        }
        JobKind::Make => {
            let Makings { of, snapshot, wishes } = input(job)?;
            let snapshot = store.snapshot(&snapshot).await?;
            let make = Make { of, snapshot, wishes };
            Box::new(move |library, watch| make.run(library, watch))
        }
        JobKind::Loops => {
            let Seeking {
                sought,
                evened,
                label,
                snapshot,
            } = input(job)?;
            let snapshot = store.snapshot(&snapshot).await?;
            let seek = Seek {
                sought,
                evened,
                label,
                snapshot,
            };
            Box::new(move |library, watch| seek.run(library, watch))
        }
        JobKind::Render => {
            // What it makes is named by all that went in: it works on what is wanted when it begins.
            let Some(seen) = seen(store, job.instrument_id).await? else {
                return Ok(nothing());
            };
            let lacking = |take: &shown::TakeView| {
                take.chosen && (crate::api::lacks_levels(take) || crate::api::lacks_judgement(take))
            };
            let takes = seen.view.takes.iter().filter(|take| lacking(take));
            let render = Render {
                unknown: takes.map(|take| take.id).collect(),
                snapshot: seen.snapshot(|take| take.cleaned.is_some() || lacking(take)),
            };
            Box::new(move |library, watch| render.run(library, watch))
        }
        JobKind::Listen => match listen_to(store, job.instrument_id).await? {
            Some(listen) => Box::new(move |library, watch| listen.run(library, watch)),
            None => nothing(),
        },
        JobKind::Beside => {
            let of = number(&job.input, "long_take");
            match lay_beside_of(store, job.instrument_id, of).await? {
                Some(lay) => Box::new(move |library, watch| lay.run(library, watch)),
                None => nothing(),
            }
        }
        JobKind::Export => {
            let Exporting {
                settings,
                snapshot,
                snapshots: others,
                places,
                even,
                title,
                into,
                shell,
            } = input(job)?;
            let mut snapshots = Vec::with_capacity(1 + others.len());
            for (n, name) in std::iter::once(&snapshot).chain(&others).enumerate() {
                let place = places.get(n).copied().unwrap_or_default();
                snapshots.push((store.snapshot(name).await?, place));
            }
            let export = Export {
                settings,
                snapshots,
                even,
                title,
                name: snapshot,
                shell,
                into: into.map(|into| IntoFolder {
                    folder: store.given_folder(&into.folder),
                    replace: into.replace,
                    texts_alone: into.texts_alone,
                }),
            };
            Box::new(move |library, watch| export.run(library, watch))
        }
        JobKind::Freeze => {
            let Freezing {
                notes,
                settings,
                shell,
                snapshots,
            } = input(job)?;
            let (first, rest) = snapshots.split_first().context("an edition of nothing")?;
            let frozen: instrument::Frozen = store.snapshot(first).await?;
            let mut wanted = Vec::with_capacity(rest.len());
            for (settings, name) in settings.into_iter().zip(rest) {
                wanted.push((settings, store.snapshot(name).await?));
            }
            let freeze = Freeze {
                notes,
                frozen: serde_json::to_string(&frozen)?,
                wanted,
                shell,
            };
            Box::new(move |library, watch| freeze.run(library, watch))
        }
    })
}

fn nothing() -> Work {
    Box::new(|_: &StoreLibrary, _| Ok(Outcome::default()))
}
