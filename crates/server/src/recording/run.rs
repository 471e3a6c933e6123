//! One recording that is going: a session, led over the frames of a line, its takes kept as they end.

use super::line::{Heard, Line, ToPage};
use super::{Ended, Recorder};
use crate::live::Message;
use instrument::{Cell, Fact, Finding, Origin, Said, SoundCheck, Target, Verdict};
use session::{Action, Intake, Lead, Order};
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};
use store::{NewTake, RecordingForm, Spool};
use tokio::sync::mpsc;

/// Frames between two syncs, after which everything so far is acknowledged: a third of a second.
const FRAMES_PER_SYNC: u64 = 16_384;
const REPORT_EVERY: Duration = Duration::from_millis(80);

/// What becomes of takes that end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Keep {
    /// Takes of cells.
    Takes,
    /// One long take, under a name.
    LongTake(String),
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
    cell: Cell,
    first_frame: u64,
    spool: Spool,
    /// Frames that were lost while it arrived.
    lost: u64,
}

pub(super) struct Run {
    recorder: Arc<Recorder>,
    instrument: u64,
    lead: Box<dyn Lead>,
    line: Line,
    intake: Intake,
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
    pub(super) fn new(
        recorder: Arc<Recorder>,
        instrument: u64,
        lead: Box<dyn Lead>,
        line: Line,
        form: RecordingForm,
        mics: usize,
        keep: Keep,
    ) -> Self {
        Self {
            recorder,
            instrument,
            lead,
            intake: Intake::new(line.channels()),
            line,
            form,
            mics,
            keep,
            arriving: None,
            recent: VecDeque::new(),
            heard: 0,
            synced: 0,
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
                        let samples = self.intake.push(block.first_frame, block.samples);
                        self.hear(&samples)?;
                        actions.extend(self.lead.audio(&samples));
                    }
                }
                Heard::Late(frames) => self.lead.left_late(frames),
                Heard::Lost(frames) => {
                    if let Some(arriving) = &mut self.arriving {
                        arriving.lost += frames;
                    }
                }
                Heard::Order(order) => actions.extend(self.lead.order(order)),
                Heard::Nothing(why) => self.waits_for = why,
                Heard::Gone => {
                    self.cut_short().await?;
                    self.use_returned().await?;
                    self.report();
                    return Ok(Ended::PageGone);
                }
            }
            if self.intake.next_frame() >= self.synced + FRAMES_PER_SYNC {
                self.synced = self.intake.next_frame();
                // A simulated rig can play again what a power cut takes: its takes are synced once, when they end.
                if let (Some(arriving), Line::Page(_)) = (&mut self.arriving, &self.line) {
                    arriving.spool.sync()?;
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
                        let left_at = self.line.schedule(at_frame + late, &bytes);
                        if bytes.first().is_some_and(|status| status & 0xF0 == 0x90) {
                            late = left_at - at_frame;
                            self.lead.left_late(late);
                        }
                    }
                    Action::Play { at_frame, take } => self.play(at_frame, take).await?,
                    Action::PlayPulse { at_frame } => {
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
        if self.line.wants_sound()
            && let Some(row) = self.recorder.store.take(take).await?
        {
            let audio = self.recorder.store.take_audio(&row, first, end).await?;
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
            progress: Box::new(progress),
        });
    }

    /// Contiguous frames: to the spool, from the take's first frame on.
    fn hear(&mut self, samples: &[f32]) -> anyhow::Result<()> {
        let channels = self.line.channels();
        let first = self.heard;
        self.heard += (samples.len() / channels) as u64;
        if let Some(arriving) = &mut self.arriving {
            let skip = (arriving.first_frame.saturating_sub(first) as usize * channels).min(samples.len());
            arriving.spool.write(&of_mics(
                &samples[skip..],
                channels,
                self.form.channels,
                self.mics,
            ))?;
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
                let name = format!(
                    "{}-{}-{}-{}-{}",
                    self.instrument, cell.pass, cell.key, cell.layer, cell.round_robin
                );
                let folder = self.recorder.store.spool_folder();
                let mut spool = Spool::begin(folder, &name, self.form)?;
                let channels = self.line.channels();
                let back =
                    (self.heard.saturating_sub(first_frame) as usize * channels).min(self.recent.len());
                let past: Vec<f32> = self.recent.range(self.recent.len() - back..).copied().collect();
                spool.write(&of_mics(&past, channels, self.form.channels, self.mics))?;
                self.arriving = Some(Arriving {
                    cell,
                    first_frame,
                    spool,
                    lost: 0,
                });
            }
            Action::End { cell, verdict, .. } => {
                // Reports are seldom beside a rig that runs as fast as it can.
                self.check = self.lead.progress().check;
                if let Some(arriving) = self.arriving.take().filter(|arriving| arriving.cell == cell) {
                    self.keep(arriving, verdict.map(|verdict| *verdict)).await?;
                }
            }
            Action::Choose { cell } => {
                if let Some(take) = self.newest.get(&cell) {
                    let wish = (Target::Take(*take), Fact::Chosen, Said::Value(true.into()));
                    self.recorder
                        .store
                        .change(self.instrument, "keep this take", vec![wish])
                        .await?
                        .map_err(|error| anyhow::anyhow!(error))?;
                }
            }
            Action::Abandon { .. } => self.arriving = None,
            Action::Begin { .. }
            | Action::Midi { .. }
            | Action::Play { .. }
            | Action::PlayPulse { .. }
            | Action::Finished => {}
        }
        Ok(())
    }

    /// What came back through a box is used from now on; one undo brings back what went out.
    async fn use_returned(&mut self) -> anyhow::Result<()> {
        let returned = std::mem::take(&mut self.returned).into_iter();
        if returned.len() == 0 {
            return Ok(());
        }
        let label = "use what came back through the box";
        crate::making::choose_in_place_of(&self.recorder.store, self.instrument, label, returned).await
    }

    /// The page has gone in the middle of a take: what arrived is kept, marked.
    async fn cut_short(&mut self) -> anyhow::Result<()> {
        let Some(arriving) = self.arriving.take() else {
            return Ok(());
        };
        let verdict = Verdict::of(vec![Finding::CutShort], None, 0.0);
        self.keep(arriving, Some(verdict)).await
    }

    /// The take's audio goes under its hash; then a row follows, and the take is there.
    async fn keep(&mut self, mut arriving: Arriving, mut verdict: Option<Verdict>) -> anyhow::Result<()> {
        let store = &self.recorder.store;
        let recording = store.put_recording(&mut arriving.spool).await?;
        let frames = arriving.spool.frames();
        if frames == 0 {
            return Ok(());
        }
        if let Keep::LongTake(name) = &self.keep {
            store
                .add_long_take(self.instrument, name, &recording, self.form, frames)
                .await?;
            return Ok(());
        }
        if arriving.lost > 0 {
            let known = verdict.unwrap_or_default();
            let mut findings = known.findings;
            findings.push(Finding::LostFrames {
                frames: arriving.lost,
            });
            verdict = Some(Verdict::of(findings, known.key.zip(known.cents), known.peak_dbfs));
        }
        let from_take = self.played_out.take();
        let take = NewTake {
            cell: arriving.cell,
            recording,
            form: self.form,
            recording_frames: frames,
            first_frame: 0,
            frames,
            origin: Origin {
                sound_check: self.check.clone(),
                verdict,
                from_take,
                made_by: from_take.map(|_| "through a box".to_owned()),
                ..Origin::default()
            },
        };
        let ids = store.add_takes(self.instrument, vec![take]).await?;
        self.returned.extend(from_take.zip(ids.first().copied()));
        self.newest.extend(ids.first().map(|id| (arriving.cell, *id)));
        Ok(())
    }
}

/// Frames of several mics, each mic's channels as the plan wants them.
fn of_mics(samples: &[f32], from: usize, to: u16, mics: usize) -> Vec<f32> {
    let mics_fit = mics > 1 && from.is_multiple_of(mics) && usize::from(to).is_multiple_of(mics);
    if from == usize::from(to) || !mics_fit {
        return in_channels(samples, from, to);
    }
    let (from, to) = (from / mics, to / mics as u16);
    samples
        .chunks_exact(from)
        .flat_map(|mic| in_channels(mic, from, to))
        .collect()
}

/// Frames of one number of channels as the plan wants them: mono is the mean, and a missing side is the other.
fn in_channels(samples: &[f32], from: usize, to: u16) -> Vec<f32> {
    let to = usize::from(to);
    if from == to || from == 0 {
        return samples.to_vec();
    }
    samples
        .chunks_exact(from)
        .flat_map(|frame| {
            let mean = frame.iter().sum::<f32>() / from as f32;
            (0..to).map(move |n| {
                if to == 1 || from == 1 {
                    mean
                } else {
                    frame.get(n).copied().unwrap_or(0.0)
                }
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mono_plan_hears_every_mic() {
        assert_eq!(of_mics(&[1.0, 0.0, 0.5, 0.5], 4, 2, 2), [0.5, 0.5]);
        assert_eq!(of_mics(&[1.0, 0.0, 0.2, 0.6], 4, 2, 2), [0.5, 0.4]);
        assert_eq!(of_mics(&[1.0, 0.0], 2, 1, 1), [0.5]);
    }

    #[test]
    fn channels_are_meaned_doubled_or_picked() {
        assert_eq!(in_channels(&[1.0, 0.0, 0.5, 0.5], 2, 1), [0.5, 0.5]);
        assert_eq!(in_channels(&[0.25, 0.5], 1, 2), [0.25, 0.25, 0.5, 0.5]);
        assert_eq!(in_channels(&[1.0, 2.0, 3.0, 4.0], 4, 2), [1.0, 2.0]);
    }
}
