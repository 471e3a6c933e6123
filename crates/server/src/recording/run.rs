//! One recording that is going: a session, led over the frames of a line, its takes kept as they end.

use super::keeping::{Kept, keep_spool, kept_sentence};
use super::line::{Heard, Line, ToPage};
use super::{Ended, Recorder};
use crate::live::Message;
use instrument::{Cell, Fact, Finding, FindingKind, Origin, Said, Score, SoundCheck, Target, Verdict};
use session::{Action, Intake, Lead, Order, in_channels, of_mics};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};
use store::{About, Arrived, Belongs, RecordingForm, Spool};
use tokio::sync::mpsc;
use tokio::task::block_in_place;

/// Frames between two syncs, after which everything so far is acknowledged: a third of a second.
const FRAMES_PER_SYNC: u64 = 16_384;
const REPORT_EVERY: Duration = Duration::from_millis(80);
/// While the database is away it is asked so often.
const ASK_AGAIN: Duration = Duration::from_millis(300);
const DATABASE_AWAY: &str = "The database does not answer just now. What was recorded is kept on the disk, and the recording goes on when it is back.";

/// For a take's origin: how it was made.
const THROUGH_A_BOX: &str = "through a box";

/// What becomes of takes that end.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Keep {
    /// Takes of cells.
    Takes,
    /// One long take, under a name.
    LongTake(String),
    /// The same, with what was played on its source.
    Source(String, Score),
    /// Takes of the same cells as those played out.
    Returned(Vec<Played>),
    /// Nothing: only listening.
    Nothing,
}

/// A take that is played out: its number, and the stretch of it that sounds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Played {
    pub(super) take: u64,
    pub(super) first: u64,
    pub(super) end: u64,
}

/// A take that is arriving.
struct Arriving {
    about: About,
    /// Its first frame, as the session counts.
    first_frame: u64,
    spool: Spool,
    /// Frames that were lost while it arrived.
    lost: u64,
}

impl Arriving {
    fn cell(&self) -> Cell {
        match &self.about.belongs {
            Belongs::Cell(cell) => *cell,
            Belongs::LongTake(_) => session::NO_CELL,
        }
    }
}

/// What a run begins with.
pub(super) struct Setup {
    pub(super) instrument: u64,
    pub(super) lead: Box<dyn Lead>,
    pub(super) line: Line,
    pub(super) form: RecordingForm,
    pub(super) mics: usize,
    pub(super) keep: Keep,
    /// The frame of the line that is the session's first; `None` where the page begins with what it has.
    pub(super) origin: Option<u64>,
    /// What arrived of it before, to go on with.
    pub(super) arrived: Option<Arrived>,
}

pub(super) struct Run {
    recorder: Arc<Recorder>,
    instrument: u64,
    lead: Box<dyn Lead>,
    line: Line,
    intake: Option<Intake>,
    /// The frame of the line that is the session's first.
    origin: u64,
    form: RecordingForm,
    mics: usize,
    keep: Keep,
    arriving: Option<Arriving>,
    /// What was heard lately, interleaved, in case a take begins a little before now.
    recent: VecDeque<f32>,
    heard: u64,
    synced: u64,
    waits_for: Option<String>,
    check: Option<SoundCheck>,
    /// The newest take of each cell of this run, for [`Action::Choose`].
    newest: HashMap<Cell, u64>,
    /// The take that was played out last, of which the next one that arrives is what came back.
    played_out: Option<u64>,
    /// Takes that were played out, each with what came back of it.
    returned: Vec<(u64, u64)>,
}

impl Run {
    pub(super) fn new(recorder: Arc<Recorder>, setup: Setup) -> Self {
        let channels = setup.line.channels();
        let heard = setup.arrived.as_ref().map_or(0, |arrived| arrived.spool.frames());
        let origin = setup.origin.map(|origin| origin.saturating_sub(heard));
        Self {
            recorder,
            instrument: setup.instrument,
            lead: setup.lead,
            intake: setup.origin.map(|next| Intake::from(channels, next)),
            origin: origin.unwrap_or(0),
            line: setup.line,
            form: setup.form,
            mics: setup.mics,
            keep: setup.keep,
            arriving: setup.arrived.map(|Arrived { about, spool }| Arriving {
                first_frame: 0,
                lost: about.lost_frames,
                about,
                spool,
            }),
            recent: VecDeque::new(),
            heard,
            synced: setup.origin.unwrap_or(0),
            waits_for: None,
            check: None,
            newest: HashMap::new(),
            played_out: None,
            returned: Vec::new(),
        }
    }

    /// Leads to the end; gives how it ended.
    pub(super) async fn lead(mut self, mut orders: mpsc::UnboundedReceiver<Order>) -> anyhow::Result<Ended> {
        let mut reported = Instant::now();
        loop {
            let mut actions = Vec::new();
            while let Ok(order) = orders.try_recv() {
                actions.extend(self.lead.order(order));
            }
            match self.line.next().await {
                Heard::Blocks(blocks) => {
                    self.waits_for = None;
                    for block in blocks {
                        let samples = self
                            .intake_from(block.first_frame)
                            .push(block.first_frame, block.samples);
                        self.hear(&samples)?;
                        actions.extend(self.lead.audio(&samples));
                    }
                }
                Heard::Late(frames) => self.lead.left_late(frames),
                Heard::Lost(frames) => self.lose(frames),
                Heard::From(frame) => {
                    let before = self.intake_from(frame).next_frame();
                    let samples = self.intake_from(frame).give_up_before(frame);
                    self.lose(frame.saturating_sub(before));
                    self.hear(&samples)?;
                    actions.extend(self.lead.audio(&samples));
                }
                Heard::Order(order) => actions.extend(self.lead.order(order)),
                Heard::Nothing(why) => self.waits_for = why,
                Heard::Gone => {
                    self.break_off().await?;
                    self.use_returned().await?;
                    self.report();
                    return Ok(Ended::PageGone);
                }
            }
            let next = self.intake.as_ref().map_or(0, Intake::next_frame);
            if next >= self.synced + FRAMES_PER_SYNC {
                self.synced = next;
                // A simulated rig can play again what a power cut takes: its takes are synced once, when they end.
                if let (Some(arriving), true) = (&mut self.arriving, self.line.is_of_page()) {
                    block_in_place(|| arriving.spool.sync())?;
                }
                self.line.acknowledge(self.synced);
                tokio::task::yield_now().await;
            }
            let finished = actions.contains(&Action::Finished);
            // A key that went down late comes up late: what was scheduled together moves together.
            let mut late = 0;
            for action in actions {
                match action {
                    Action::Midi { at_frame, bytes } => {
                        let at_frame = self.origin + at_frame;
                        let left_at = self.line.schedule(at_frame + late, &bytes);
                        if bytes.first().is_some_and(|status| status & 0xF0 == 0x90) {
                            late = left_at - at_frame;
                            self.lead.left_late(late);
                        }
                    }
                    Action::Play { at_frame, take } => self.play(self.origin + at_frame, take).await?,
                    Action::PlayPulse { at_frame } => {
                        let at_frame = self.origin + at_frame;
                        self.line
                            .tell_to_play(|number| ToPage::PlayPulse { number, at_frame });
                        if self.line.wants_sound() {
                            let pulse = session::pulse(self.form.rate_hz);
                            let left = self.line.play_sound(at_frame, in_channels(&pulse, 1, 2));
                            self.lead.left_late(left - at_frame);
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
                self.use_returned().await?;
                self.line.finished();
                return Ok(Ended::Done);
            }
        }
    }

    /// Frames put in order; where it was open with which a page begins, with this one.
    fn intake_from(&mut self, frame: u64) -> &mut Intake {
        let channels = self.line.channels();
        self.intake.get_or_insert_with(|| {
            self.origin = frame;
            self.synced = frame;
            Intake::from(channels, frame)
        })
    }

    fn lose(&mut self, frames: u64) {
        self.lead.lost(frames);
        if let Some(arriving) = &mut self.arriving {
            arriving.lost = arriving.lost.saturating_add(frames);
        }
    }

    /// A take leaves through the box.
    async fn play(&mut self, at_frame: u64, take: u64) -> anyhow::Result<()> {
        let Keep::Returned(played) = &self.keep else {
            return Ok(());
        };
        let Some(&Played { first, end, .. }) = played.iter().find(|played| played.take == take) else {
            return Ok(());
        };
        self.played_out = Some(take);
        self.line.tell_to_play(|number| ToPage::Play {
            number,
            at_frame,
            take,
            first,
            end,
        });
        if !self.line.wants_sound() {
            return Ok(());
        }
        let store = self.recorder.store.clone();
        let row = loop {
            match store.take(take).await {
                Ok(row) => break row,
                Err(error) => self.wait_out(error).await?,
            }
        };
        if let Some(row) = row {
            let audio = store.take_audio(&row, first..end, 0..usize::MAX).await?;
            let stereo = in_channels(&audio.interleaved(), audio.channels.len(), 2);
            let left = self.line.play_sound(at_frame, stereo);
            self.lead.left_late(left - at_frame);
        }
        Ok(())
    }

    fn report(&mut self) {
        let mut progress = self.lead.progress();
        progress.waits_for.clone_from(&self.waits_for);
        self.recorder.note(self.instrument, progress.clone());
        self.recorder.live.send(Message::Progress {
            instrument: self.instrument,
            progress: Some(Box::new(progress)),
        });
    }

    /// While the database is away a recording waits, and says so: what was asked is to be asked again. Any other error is given back.
    async fn wait_out(&mut self, error: anyhow::Error) -> anyhow::Result<()> {
        if !store::is_unreachable(&error) {
            return Err(error);
        }
        if self.waits_for.as_deref() != Some(DATABASE_AWAY) {
            tracing::warn!(instrument = self.instrument, "a recording waits: {error:#}");
        }
        self.waits_for = Some(DATABASE_AWAY.to_owned());
        self.report();
        tokio::time::sleep(ASK_AGAIN).await;
        self.waits_for = None;
        Ok(())
    }

    /// Contiguous frames: to the spool, from the take's first frame on.
    fn hear(&mut self, samples: &[f32]) -> anyhow::Result<()> {
        let channels = self.line.channels();
        let first = self.heard;
        self.heard += (samples.len() / channels) as u64;
        if let Some(arriving) = &mut self.arriving {
            let skip = (arriving.first_frame.saturating_sub(first) as usize * channels).min(samples.len());
            let frames = of_mics(&samples[skip..], channels, self.form.channels, self.mics);
            block_in_place(|| arriving.spool.write(&frames))?;
        }
        self.recent.extend(samples);
        let most = self.form.rate_hz as usize * channels;
        self.recent.drain(..self.recent.len().saturating_sub(most));
        Ok(())
    }

    async fn act(&mut self, action: Action) -> anyhow::Result<()> {
        match action {
            Action::Ask {
                cell,
                velocity,
                after_ms,
            } => self.line.ask(cell.key, velocity, after_ms),
            Action::Begin { cell, first_frame } if self.keep != Keep::Nothing => {
                self.begin(cell, first_frame)?;
            }
            Action::End { cell, verdict, .. } => {
                // Reports are seldom beside a rig that runs as fast as it can.
                self.check = self.lead.progress().check;
                if let Some(arriving) = self.arriving.take().filter(|arriving| arriving.cell() == cell) {
                    self.keep(arriving, verdict.map(|verdict| *verdict), false)
                        .await?;
                }
            }
            Action::Choose { cell } => {
                if let Some(take) = self.newest.get(&cell).copied() {
                    let wish = (Target::Take(take), Fact::Chosen, Said::Value(true.into()));
                    self.change("keep this take", wish).await?;
                }
            }
            Action::Abandon { .. } => {
                if let Some(arriving) = self.arriving.take() {
                    self.forget(&arriving)?;
                }
            }
            Action::Begin { .. }
            | Action::Midi { .. }
            | Action::Play { .. }
            | Action::PlayPulse { .. }
            | Action::Finished => {}
        }
        Ok(())
    }

    /// A take begins to arrive. A page's is promised from its first acknowledged frame on, and outlives this process; a simulated rig's can be
    /// played again.
    fn begin(&mut self, cell: Cell, first_frame: u64) -> anyhow::Result<()> {
        let channels = self.line.channels();
        self.check = self.lead.progress().check;
        let about = About {
            spool: uuid::Uuid::new_v4().to_string(),
            instrument: self.instrument,
            belongs: match &self.keep {
                Keep::LongTake(name) | Keep::Source(name, _) => Belongs::LongTake(name.clone()),
                _ => Belongs::Cell(cell),
            },
            form: self.form,
            first_frame: self.origin + first_frame,
            line_channels: channels as u16,
            mics: self.mics as u16,
            origin: self.origin_of_take(),
            lost_frames: 0,
        };
        let store = &self.recorder.store;
        let mut spool = if self.line.is_of_page() {
            block_in_place(|| store.arrive(&about))?
        } else {
            Spool::begin(store.scratch().path(), &about.spool, self.form)?
        };
        let back = (self.heard.saturating_sub(first_frame) as usize * channels).min(self.recent.len());
        let past: Vec<f32> = self.recent.range(self.recent.len() - back..).copied().collect();
        spool.write(&of_mics(&past, channels, self.form.channels, self.mics))?;
        self.arriving = Some(Arriving {
            about,
            first_frame,
            spool,
            lost: 0,
        });
        Ok(())
    }

    fn origin_of_take(&self) -> Origin {
        Origin {
            sound_check: self.check.clone(),
            from_take: self.played_out,
            made_by: self.played_out.map(|_| THROUGH_A_BOX.to_owned()),
            ..Origin::default()
        }
    }

    /// What came back through a box is used from now on; one undo brings back what went out.
    async fn use_returned(&mut self) -> anyhow::Result<()> {
        let returned = std::mem::take(&mut self.returned);
        if returned.is_empty() {
            return Ok(());
        }
        let store = self.recorder.store.clone();
        let label = "use what came back through the box";
        loop {
            match store.choose_in_place_of(self.instrument, label, &returned).await {
                Err(error) => self.wait_out(error).await?,
                done => return done,
            }
        }
    }

    /// The page has gone in the middle of a take: what arrived is kept, marked.
    async fn break_off(&mut self) -> anyhow::Result<()> {
        let Some(arriving) = self.arriving.take() else {
            return Ok(());
        };
        let verdict = Verdict::of(vec![Finding::broken_off()], None, 0.0);
        let sentence = kept_sentence(&arriving.about, arriving.spool.frames());
        self.keep(arriving, Some(verdict), true).await?;
        self.recorder.note_kept(self.instrument, sentence);
        Ok(())
    }

    fn forget(&self, arriving: &Arriving) -> anyhow::Result<()> {
        if self.line.is_of_page() {
            self.recorder.store.forget_arrived(&arriving.about.spool)?;
        }
        Ok(())
    }

    /// The take's audio goes under its hash; then a row follows, and the take is there; then its spool goes.
    async fn keep(
        &mut self,
        mut arriving: Arriving,
        mut verdict: Option<Verdict>,
        broken_off: bool,
    ) -> anyhow::Result<()> {
        if arriving.spool.frames() == 0 {
            return self.forget(&arriving);
        }
        let is_told = |verdict: &Verdict| {
            let told = |finding: &Finding| finding.kind == FindingKind::LostFrames;
            verdict.findings.iter().any(told)
        };
        if arriving.lost > 0 && !verdict.as_ref().is_some_and(is_told) {
            let known = verdict.unwrap_or_default();
            let mut findings = known.findings;
            findings.push(Finding::lost_frames(arriving.lost));
            verdict = Some(Verdict::of(findings, known.key.zip(known.cents), known.peak_dbfs));
        }
        let cell = arriving.cell();
        let from_take = self.played_out.take();
        // A take may be played out after what comes back of it has begun to arrive.
        let known = &arriving.about.origin;
        let origin = Origin {
            sound_check: self.check.clone(),
            verdict,
            from_take: from_take.or(known.from_take),
            made_by: from_take
                .map(|_| THROUGH_A_BOX.to_owned())
                .or_else(|| known.made_by.clone()),
            ..known.clone()
        };
        let (store, holder) = (self.recorder.store.clone(), self.recorder.holder.clone());
        let kept = loop {
            let (about, spool) = (&arriving.about, &mut arriving.spool);
            match keep_spool(&store, about, spool, &origin, broken_off, Some(&holder)).await {
                Ok(kept) => break kept,
                Err(error) => self.wait_out(error).await?,
            }
        };
        self.forget(&arriving)?;
        match kept {
            Kept::Take(Some(id)) => {
                self.returned.extend(from_take.map(|from| (from, id)));
                self.newest.insert(cell, id);
            }
            Kept::LongTake(id) if !broken_off => self.say_what_was_played(id).await?,
            Kept::Take(None) | Kept::LongTake(_) => {}
        }
        Ok(())
    }

    /// A recording of the source is known by what was played on it.
    async fn say_what_was_played(&mut self, long_take: u64) -> anyhow::Result<()> {
        let Keep::Source(_, score) = &self.keep else {
            return Ok(());
        };
        let wish = (
            Target::LongTake(long_take),
            Fact::PlayedBy,
            Said::Value(serde_json::to_value(score)?),
        );
        self.change("record the source", wish).await
    }

    async fn change(&mut self, label: &str, wish: (Target, Fact, Said)) -> anyhow::Result<()> {
        let store = self.recorder.store.clone();
        loop {
            match store.change(self.instrument, label, vec![wish.clone()]).await {
                Ok(kept) => break kept.map_err(|error| anyhow::anyhow!(error)).map(drop),
                Err(error) => self.wait_out(error).await?,
            }
        }
    }
}
