//! Recordings that are going, one an instrument.
//!
//! A session leads; its frames come over a line from the simulated rig or from a page with real devices.

mod going_on;
mod keeping;
mod leads;
mod line;
mod run;

pub(crate) use line::PageEnd;
pub use line::{FromPage, ToPage};

use crate::live::{Live, Message};
use futures::FutureExt;
use futures::future::BoxFuture;
use instrument::{Cell, Finding, How, Origin, PAGE_RIG, Plan, Score, Verdict};
use keeping::{keep_spool, kept_sentence};
use leads::{jobs_of, lead_of, perform};
use line::{Device, Line, PageLine, Simulated};
use rig::{EchoBox, Model, Rig, RigSettings};
use run::{Keep, Played, Run, Setup};
use serde::{Deserialize, Serialize};
use session::{Lead, LongSession, Order, PlayJob, Progress, ThroughSession};
use shown::view_of;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use store::{Arrived, Belongs, Folder, GoesOn, RecordingForm, Store};
use tokio::sync::mpsc;
use utoipa::ToSchema;

/// What to record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum What {
    /// As the plan says: the cells without a take, or one long take.
    #[default]
    Planned,
    /// Only the sound check.
    Check,
    /// What was built is played on the source, to be laid beside it.
    Source,
}

/// How to record.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RunSettings {
    /// What to record.
    #[serde(default)]
    pub what: What,
    /// Simulated rigs only: as a device would, not as fast as the machine can.
    #[serde(default)]
    pub real_time: bool,
    /// These cells, whether they have a take or not; none for all that are missing.
    #[serde(default)]
    pub cells: Vec<Cell>,
    /// By hand: good takes are kept, and it goes on by itself.
    #[serde(default)]
    pub hands_free: bool,
    /// By hand: a reference tone of so many milliseconds before each note.
    #[serde(default)]
    pub reference_ms: u32,
    /// By hand: a count-in of so many milliseconds.
    #[serde(default)]
    pub count_in_ms: u32,
    /// Channels that the page sends.
    #[serde(default)]
    pub channels: Option<u16>,
    /// Instruments to record after this one, in turn.
    #[serde(default)]
    pub then: Vec<u64>,
    /// What is played on the source, where that is what to record; with no note, what tells most of it in a short time.
    #[serde(default)]
    pub score: Option<Score>,
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Ended {
    Done,
    PageGone,
}

struct Running {
    orders: mpsc::UnboundedSender<Order>,
    progress: Progress,
    page: Option<PageEnd>,
}

/// All recordings of this server.
pub(crate) struct Recorder {
    store: Store,
    live: Live,
    /// Who holds recordings here: the folder's name, and one of this start.
    holder: String,
    running: Mutex<HashMap<u64, Running>>,
    /// What pages that come too late are told of what arrived of their recordings.
    kept: Mutex<HashMap<u64, String>>,
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// How often leases are renewed and those of others are looked at.
const TEND_EVERY: Duration = Duration::from_secs(4);
const NOBODY_WAITS: &str = "No recording waits for this page.";

/// What makes a recording, but for who leads it.
struct Making {
    line: Line,
    page: Option<PageEnd>,
    keep: Keep,
    then: Vec<u64>,
    origin: Option<u64>,
    arrived: Option<Arrived>,
}

impl Recorder {
    pub(crate) fn new(store: Store, live: Live, holder: String) -> Self {
        Self {
            store,
            live,
            holder,
            running: Mutex::default(),
            kept: Mutex::default(),
        }
    }

    fn note_kept(&self, instrument: u64, sentence: String) {
        tracing::info!(instrument, "{sentence}");
        locked(&self.kept).insert(instrument, sentence);
    }

    /// What a page is told whose line nothing waits for.
    pub(crate) fn why_not(&self, instrument: u64) -> String {
        let kept = locked(&self.kept).get(&instrument).cloned();
        kept.unwrap_or_else(|| NOBODY_WAITS.to_owned())
    }

    /// Where an instrument's recording stands, if one is going.
    pub(crate) fn progress(&self, instrument: u64) -> Option<Progress> {
        locked(&self.running)
            .get(&instrument)
            .map(|run| run.progress.clone())
    }

    fn note(&self, instrument: u64, progress: Progress) {
        let new_check = progress.check.clone().filter(|check| {
            let running = locked(&self.running);
            let before = running
                .get(&instrument)
                .and_then(|run| run.progress.check.as_ref());
            before != Some(check)
        });
        if let Some(check) = new_check {
            let store = self.store.clone();
            tokio::spawn(async move {
                // It is measured again before the next run.
                if let Err(error) = store.put_sound_check(instrument, &check).await {
                    tracing::warn!(instrument, "a sound check: {error:#}");
                }
            });
        }
        if let Some(run) = locked(&self.running).get_mut(&instrument) {
            run.progress = progress;
        }
    }

    /// Tells a recording what to do; false where none is going.
    pub(crate) fn order(&self, instrument: u64, order: Order) -> bool {
        locked(&self.running)
            .get(&instrument)
            .is_some_and(|run| run.orders.send(order).is_ok())
    }

    /// Where a page's frames go; `None` where no recording waits for a page.
    pub(crate) fn page_end(&self, instrument: u64) -> Option<PageEnd> {
        locked(&self.running).get(&instrument)?.page.clone()
    }

    /// Begins a recording. The inner error is a sentence.
    pub(crate) async fn begin(
        self: &Arc<Self>,
        instrument: u64,
        settings: RunSettings,
    ) -> anyhow::Result<Result<(), String>> {
        if locked(&self.running).contains_key(&instrument) {
            return Ok(Err("A recording is going already.".into()));
        }
        locked(&self.kept).remove(&instrument);
        self.begin_from(instrument, settings, Some(0), None).await
    }

    /// Begins one whose line goes on with a frame, and of which something may have arrived.
    async fn begin_from(
        self: &Arc<Self>,
        instrument: u64,
        settings: RunSettings,
        origin: Option<u64>,
        arrived: Option<Arrived>,
    ) -> anyhow::Result<Result<(), String>> {
        let Some(view) = view_of(&self.store, instrument).await? else {
            return Ok(Err("There is no such instrument.".into()));
        };
        let plan = &view.plan;
        let from_page = plan.source.rig == PAGE_RIG;
        let model = Model::of_id(&plan.source.rig);
        if !from_page && model.is_none() {
            return Ok(Err(format!(
                "The rig «{}» is not here: choose another.",
                plan.source.rig
            )));
        }
        if plan.source.how == How::Files && settings.what == What::Planned {
            return Ok(Err(
                "This instrument is made from files: drop them on the page, or choose another source in the plan."
                    .into(),
            ));
        }
        let jobs = jobs_of(&view, &settings);
        let cells_wanted = plan.source.how != How::LongTake && settings.what == What::Planned;
        if cells_wanted && jobs.is_empty() {
            self.store.end_run(instrument, &self.holder).await?;
            return Ok(Err("Every cell of the plan has a take already.".into()));
        }
        // A check or a choice of cells is not worth going on with after a break; what a page records goes on where it arrived.
        let goes_on = match settings.what {
            What::Planned if !settings.cells.is_empty() => GoesOn::Nowhere,
            What::Planned if from_page => GoesOn::Here,
            What::Planned if cells_wanted => GoesOn::Anywhere,
            _ => GoesOn::Nowhere,
        };
        let text = serde_json::to_string(&settings)?;
        if !self
            .store
            .hold_run(instrument, &self.holder, &text, goes_on)
            .await?
        {
            return Ok(Err(
                "This instrument is being recorded at another Ladder just now.".into(),
            ));
        }
        let (line, page, origin) = match model {
            Some(model) if !from_page => {
                let rig = RigSettings {
                    seed: 1 + u64::from(plan.source.program),
                    mics: plan.mics.len().max(1),
                    ..RigSettings::default()
                };
                let mut rig = Rig::new(model, plan.rate_hz, rig);
                if plan.source.how == How::LongTake && settings.what == What::Planned {
                    perform(&mut rig, plan);
                }
                let device = Device::Rig(Box::new(rig));
                let mics = plan.mics.len().max(1);
                let line = Simulated::new(device, plan.rate_hz, settings.real_time, 2 * mics);
                (Line::Simulated(Box::new(line)), None, Some(0))
            }
            _ => {
                let channels = settings
                    .channels
                    .unwrap_or(plan.recording_channels())
                    .clamp(1, 32);
                let (line, end) = PageLine::new(usize::from(channels), origin);
                (Line::Page(line), Some(end), origin)
            }
        };
        let (mut lead, keep) = match lead_of(&view, &settings, jobs, line.channels()) {
            Ok(led) => led,
            Err(sentence) => {
                self.store.end_run(instrument, &self.holder).await?;
                return Ok(Err(sentence));
            }
        };
        if let Some(arrived) = &arrived {
            lead = Box::new(LongSession::resumed(line.channels(), arrived.spool.frames()));
        }
        let making = Making {
            line,
            page,
            keep,
            then: settings.then,
            origin,
            arrived,
        };
        Ok(self.start(instrument, plan, lead, making))
    }

    /// Begins to play takes through a box and to record what comes back. `channels` are those that a page sends; `None` takes the
    /// simulated box. The inner error is a sentence.
    pub(crate) async fn begin_through(
        self: &Arc<Self>,
        instrument: u64,
        takes: &[u64],
        channels: Option<u16>,
    ) -> anyhow::Result<Result<(), String>> {
        let Some(view) = view_of(&self.store, instrument).await? else {
            return Ok(Err("There is no such instrument.".into()));
        };
        let mut played = Vec::new();
        let mut jobs = Vec::new();
        for take in view.takes.iter().filter(|take| takes.contains(&take.id)) {
            let Some(treatment) = &take.treatment else {
                continue;
            };
            if take.rate_hz != view.plan.rate_hz {
                return Ok(Err(format!(
                    "A take of {} Hz cannot be played at {} Hz: choose takes of one rate.",
                    take.rate_hz, view.plan.rate_hz
                )));
            }
            let stretch = Played {
                take: take.id,
                first: treatment.start_frame,
                end: treatment.end_frame,
            };
            played.push(stretch);
            jobs.push(PlayJob {
                cell: take.cell,
                take: take.id,
                frames: stretch.end - stretch.first,
            });
        }
        if jobs.is_empty() {
            return Ok(Err("Choose takes first: there is nothing to play out.".into()));
        }
        if locked(&self.running).contains_key(&instrument)
            || !self
                .store
                .hold_run(instrument, &self.holder, "{}", GoesOn::Nowhere)
                .await?
        {
            return Ok(Err("A recording is going already.".into()));
        }
        let rate_hz = view.plan.rate_hz;
        let (line, page) = match channels {
            Some(channels) => {
                let (line, end) = PageLine::new(usize::from(channels.clamp(1, 32)), Some(0));
                (Line::Page(line), Some(end))
            }
            None => {
                let device = Device::Echo(EchoBox::new(rate_hz, 12.0, 3));
                let line = Simulated::new(device, rate_hz, false, 2);
                (Line::Simulated(Box::new(line)), None)
            }
        };
        let lead = Box::new(ThroughSession::new(rate_hz, line.channels(), jobs));
        let making = Making {
            line,
            page,
            keep: Keep::Returned(played),
            then: Vec::new(),
            origin: Some(0),
            arrived: None,
        };
        Ok(self.start(instrument, &view.plan, lead, making))
    }

    fn start(
        self: &Arc<Self>,
        instrument: u64,
        plan: &Plan,
        mut lead: Box<dyn Lead>,
        making: Making,
    ) -> Result<(), String> {
        let (sender, orders) = mpsc::unbounded_channel();
        {
            let mut running = locked(&self.running);
            if running.contains_key(&instrument) {
                return Err("A recording is going already.".into());
            }
            let entry = Running {
                orders: sender,
                progress: lead.progress(),
                page: making.page,
            };
            running.insert(instrument, entry);
        }
        let form = RecordingForm {
            rate_hz: plan.rate_hz,
            channels: plan.recording_channels(),
            bits: plan.bits,
        };
        let setup = Setup {
            instrument,
            lead,
            line: making.line,
            // What goes on keeps the form that it began in.
            form: making.arrived.as_ref().map_or(form, |arrived| arrived.about.form),
            mics: plan.mics.len().max(1),
            keep: making.keep,
            origin: making.origin,
            arrived: making.arrived,
        };
        let (run, recorder, then) = (Run::new(self.clone(), setup), self.clone(), making.then);
        tokio::spawn(async move {
            let outcome = run.lead(orders).await;
            recorder.end(instrument, outcome, then).await;
        });
        Ok(())
    }

    /// Boxed, since what ends may begin the next.
    fn end(
        self: Arc<Self>,
        instrument: u64,
        outcome: anyhow::Result<Ended>,
        then: Vec<u64>,
    ) -> BoxFuture<'static, ()> {
        async move { self.ended(instrument, outcome, then).await }.boxed()
    }

    async fn ended(self: &Arc<Self>, instrument: u64, outcome: anyhow::Result<Ended>, then: Vec<u64>) {
        let failed = outcome.is_err();
        let (store, holder) = (&self.store, &self.holder);
        // Whoever holds the row until the database has heard of the end keeps others away.
        loop {
            let told = match failed {
                // What a full disk stopped goes on at the next start of this folder.
                true => store.put_run_aside(instrument, holder).await,
                false => store.end_run(instrument, holder).await,
            };
            match told {
                Err(error) if store::is_unreachable(&error) => tokio::time::sleep(TEND_EVERY / 8).await,
                Err(error) => {
                    tracing::error!(instrument, "recording: {error:#}");
                    break;
                }
                Ok(()) => break,
            }
        }
        let ended = locked(&self.running).remove(&instrument);
        match outcome {
            Err(error) => {
                tracing::error!(instrument, "recording: {error:#}");
                let why = crate::problem::sentence_of(&error)
                    .map_or_else(|| format!("{error:#}."), |(_, sentence)| sentence);
                let progress = ended.map(|run| {
                    Box::new(Progress {
                        state: session::RunState::Stopped,
                        waits_for: Some(format!(
                            "The recording stopped. {why} Every take that had ended is kept; begin again when that is mended."
                        )),
                        ..run.progress
                    })
                });
                self.live.send(Message::Progress { instrument, progress });
                return;
            }
            Ok(Ended::PageGone) => tracing::info!(instrument, "the page has gone; what arrived is kept"),
            Ok(Ended::Done) => {}
        }
        self.live.send(Message::Progress {
            instrument,
            progress: ended.map(|run| Box::new(run.progress)),
        });
        let [next, rest @ ..] = &then[..] else { return };
        let settings = RunSettings {
            then: rest.to_vec(),
            ..RunSettings::default()
        };
        match self.begin(*next, settings).await {
            Ok(Ok(())) => {}
            Ok(Err(sentence)) => tracing::warn!(instrument = next, "{sentence}"),
            Err(error) => tracing::error!(instrument = next, "recording: {error:#}"),
        }
    }
}
