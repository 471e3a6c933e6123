//! Runs: a session, led over numbered frames, its takes kept as they end.
//!
//! The simulated rig stands where a page with real devices will stand: it gets scheduled messages and sends numbered blocks through
//! a line that may be bad, keeping what was not acknowledged.

use crate::live::{Live, Message};
use rig::{Block, Faults, Link, Model, Rig, RigSettings};
use session::{Action, CellJob, Intake, Outbox, Progress, Session, SessionSettings};
use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Mutex;
use std::time::{Duration, Instant};
use store::{RecordingForm, Spool, Store};
use tokio::sync::mpsc;

const BLOCK_FRAMES: usize = 1_024;
/// Blocks between two syncs, after which everything so far is acknowledged: a third of a second.
const BLOCKS_PER_SYNC: u32 = 16;
/// A sender that has so many unacknowledged blocks stops and sends them again: more than one sync, less than the lead of a message.
const MOST_UNACKNOWLEDGED: usize = 48;
const CHANNELS: usize = 2;
const REPORT_EVERY: Duration = Duration::from_millis(80);

/// What a user may tell a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Order {
    Pause,
    Resume,
    Skip,
    Stop,
}

struct Running {
    orders: mpsc::UnboundedSender<Order>,
    progress: Progress,
}

/// All runs of this server.
pub(crate) struct Recorder {
    store: Store,
    live: Live,
    running: Mutex<HashMap<u64, Running>>,
}

impl Recorder {
    pub(crate) fn new(store: Store, live: Live) -> Self {
        Self {
            store,
            live,
            running: Mutex::default(),
        }
    }

    /// Where an instrument's run stands, if one is going.
    pub(crate) fn progress(&self, instrument: u64) -> Option<Progress> {
        self.lock().get(&instrument).map(|run| run.progress)
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<u64, Running>> {
        self.running
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Tells a run what to do; false where none is going.
    pub(crate) fn order(&self, instrument: u64, order: Order) -> bool {
        self.lock()
            .get(&instrument)
            .is_some_and(|run| run.orders.send(order).is_ok())
    }

    /// Begins a run over the cells that have no take. `speed` is `real` or `full`. The inner error is a sentence.
    pub(crate) async fn begin(
        self: &std::sync::Arc<Self>,
        instrument: u64,
        speed: &str,
    ) -> anyhow::Result<Result<(), String>> {
        let Some(view) = crate::view::plan_of(&self.store, instrument).await? else {
            return Ok(Err("There is no such instrument.".into()));
        };
        let Some(model) = Model::of_id(&view.source.rig) else {
            return Ok(Err(format!(
                "The rig «{}» is not here: choose another in the plan.",
                view.source.rig
            )));
        };
        let taken: HashSet<_> = self
            .store
            .takes(Some(instrument))
            .await?
            .iter()
            .map(|take| take.cell)
            .collect();
        let jobs: Vec<CellJob> = view
            .cells()
            .into_iter()
            .filter(|cell| !taken.contains(cell))
            .filter_map(|cell| {
                let pass = view.passes.get(usize::from(cell.pass))?;
                let layer = pass.layers.get(usize::from(cell.layer))?;
                Some(CellJob {
                    cell,
                    velocity: layer.strike_velocity,
                    hold_ms: pass.hold_ms,
                    tail_ms: pass.tail_ms,
                })
            })
            .collect();
        if jobs.is_empty() {
            self.store.set_run(instrument, None).await?;
            return Ok(Err("Every cell of the plan has a take already.".into()));
        }
        let settings = SessionSettings {
            rate_hz: view.rate_hz,
            channels: CHANNELS,
            midi_channel: view.source.channel - 1,
            midi_program: view.source.program - 1,
        };
        let mut session = Session::new(settings, jobs);
        let (sender, orders) = mpsc::unbounded_channel();
        {
            let mut running = self.lock();
            if running.contains_key(&instrument) {
                return Ok(Err("A run is going already.".into()));
            }
            running.insert(
                instrument,
                Running {
                    orders: sender,
                    progress: session.progress(),
                },
            );
        }
        self.store.set_run(instrument, Some(speed)).await?;
        let seed = RigSettings {
            seed: 1 + u64::from(view.source.program),
            ..RigSettings::default()
        };
        let run = Run {
            recorder: self.clone(),
            instrument,
            session,
            rig: Rig::new(model, view.rate_hz, seed),
            link: Link::new(faults_from_environment(), 5),
            outbox: Outbox::default(),
            intake: Intake::new(CHANNELS),
            form: RecordingForm {
                rate_hz: view.rate_hz,
                channels: view.channels,
                bits: view.bits,
            },
            spool: None,
            recent: VecDeque::new(),
            heard: 0,
        };
        let real_time = speed == "real";
        tokio::spawn(async move {
            let recorder = run.recorder.clone();
            let outcome = run.lead(orders, real_time).await;
            recorder.lock().remove(&instrument);
            if let Err(error) = outcome {
                // The row in `runs` stays: the run goes on at the next start.
                tracing::error!(instrument, "run: {error:#}");
                return;
            }
            if let Err(error) = recorder.store.set_run(instrument, None).await {
                tracing::error!(instrument, "run: {error:#}");
            }
        });
        Ok(Ok(()))
    }
}

/// For trying out what a bad line does: `LADDER_LINK_FAULTS=drop,reorder,disconnect`, each a share of the blocks.
fn faults_from_environment() -> Faults {
    let text = std::env::var("LADDER_LINK_FAULTS").unwrap_or_default();
    let mut shares = text
        .split(',')
        .map(|share| share.trim().parse().unwrap_or(0.0f64).clamp(0.0, 0.9));
    let mut next = || shares.next().unwrap_or(0.0);
    Faults {
        drop: next(),
        reorder: next(),
        disconnect: next(),
    }
}

/// A take that is arriving.
struct Arriving {
    cell: instrument::Cell,
    first_frame: u64,
    spool: Spool,
}

struct Run {
    recorder: std::sync::Arc<Recorder>,
    instrument: u64,
    session: Session,
    rig: Rig,
    link: Link,
    outbox: Outbox,
    intake: Intake,
    form: RecordingForm,
    spool: Option<Arriving>,
    /// What was heard lately, interleaved, in case a take begins a little before now.
    recent: VecDeque<f32>,
    heard: u64,
}

impl Run {
    async fn lead(
        mut self,
        mut orders: mpsc::UnboundedReceiver<Order>,
        real_time: bool,
    ) -> anyhow::Result<()> {
        let (began, mut reported, mut since_sync) = (Instant::now(), Instant::now(), 0);
        loop {
            if real_time {
                let due = Duration::from_secs_f64(self.rig.frame() as f64 / f64::from(self.form.rate_hz));
                tokio::time::sleep(due.saturating_sub(began.elapsed())).await;
            }
            let mut actions = Vec::new();
            while let Ok(order) = orders.try_recv() {
                match order {
                    Order::Pause => self.session.pause(),
                    Order::Resume => actions.extend(self.session.resume()),
                    Order::Skip => actions.extend(self.session.skip()),
                    Order::Stop => actions.extend(self.session.stop()),
                }
            }
            let block = self.rig.render(BLOCK_FRAMES);
            self.outbox.keep(block.first_frame, block.samples.clone());
            let mut arrived = self.link.send(block);
            if self.outbox.len() >= MOST_UNACKNOWLEDGED {
                for (first_frame, samples) in self.outbox.unacknowledged().cloned().collect::<Vec<_>>() {
                    arrived.extend(self.link.send(Block { first_frame, samples }));
                }
            }
            for block in arrived {
                let samples = self.intake.push(block.first_frame, block.samples);
                self.hear(&samples)?;
                actions.extend(self.session.audio(&samples));
            }
            since_sync += 1;
            if since_sync >= BLOCKS_PER_SYNC {
                since_sync = 0;
                if let Some(arriving) = &mut self.spool {
                    arriving.spool.sync()?;
                }
                self.outbox.acknowledged(self.intake.next_frame(), CHANNELS);
                tokio::task::yield_now().await;
            }
            let finished = actions.contains(&Action::Finished);
            // A key that went down late comes up late: what was scheduled together moves together.
            let mut late = 0;
            for action in actions {
                match action {
                    Action::Midi { at_frame, bytes } => {
                        let left_at = self.rig.schedule(at_frame + late, &bytes);
                        if bytes.first().is_some_and(|status| status & 0xF0 == 0x90) {
                            late = left_at - at_frame;
                            self.session.left_late(late);
                        }
                    }
                    other => self.act(other).await?,
                }
            }
            if finished || reported.elapsed() >= REPORT_EVERY {
                reported = Instant::now();
                self.report();
                tokio::task::yield_now().await;
            }
            if finished {
                return Ok(());
            }
        }
    }

    fn report(&mut self) {
        let progress = self.session.progress();
        if let Some(run) = self.recorder.lock().get_mut(&self.instrument) {
            run.progress = progress;
        }
        self.recorder.live.send(Message::Progress {
            instrument: self.instrument,
            progress,
        });
    }

    /// Contiguous frames: to the spool, from the take's first frame on.
    fn hear(&mut self, samples: &[f32]) -> anyhow::Result<()> {
        let first = self.heard;
        self.heard += (samples.len() / CHANNELS) as u64;
        if let Some(arriving) = &mut self.spool {
            let skip = (arriving.first_frame.saturating_sub(first) as usize * CHANNELS).min(samples.len());
            arriving
                .spool
                .write(&in_channels(&samples[skip..], self.form.channels))?;
        }
        self.recent.extend(samples);
        let most = self.form.rate_hz as usize * CHANNELS;
        self.recent.drain(..self.recent.len().saturating_sub(most));
        Ok(())
    }

    async fn act(&mut self, action: Action) -> anyhow::Result<()> {
        match action {
            Action::Begin { cell, first_frame } => {
                let name = format!(
                    "{}-{}-{}-{}-{}",
                    self.instrument, cell.pass, cell.key, cell.layer, cell.round_robin
                );
                let folder = self.recorder.store.spool_folder();
                let mut spool = Spool::begin(folder, &name, self.form)?;
                let back =
                    (self.heard.saturating_sub(first_frame) as usize * CHANNELS).min(self.recent.len());
                let past: Vec<f32> = self.recent.range(self.recent.len() - back..).copied().collect();
                spool.write(&in_channels(&past, self.form.channels))?;
                self.spool = Some(Arriving {
                    cell,
                    first_frame,
                    spool,
                });
            }
            Action::End { cell, .. } => {
                if let Some(arriving) = self.spool.take().filter(|arriving| arriving.cell == cell) {
                    self.keep(arriving).await?;
                }
            }
            Action::Abandon { .. } => self.spool = None,
            Action::Midi { .. } | Action::Finished => {}
        }
        Ok(())
    }

    /// The take's audio goes under its hash; then a row follows, and the take is there.
    async fn keep(&mut self, mut arriving: Arriving) -> anyhow::Result<()> {
        let hash = self.recorder.store.put_recording(&mut arriving.spool).await?;
        let frames = arriving.spool.frames();
        self.recorder
            .store
            .add_take(self.instrument, arriving.cell, &hash, self.form, frames)
            .await?;
        Ok(())
    }
}

/// Stereo frames as the plan wants them.
fn in_channels(stereo: &[f32], channels: u16) -> Vec<f32> {
    if channels == 1 {
        stereo.chunks_exact(2).map(|f| (f[0] + f[1]) / 2.0).collect()
    } else {
        stereo.to_vec()
    }
}
