//! Where frames come from: the simulated rig, or a page with real devices. Both speak of numbered frames and scheduled messages.

use rig::{Block, EchoBox, Faults, Link, Rig};
use serde::{Deserialize, Serialize};
use session::{Order, Outbox};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::mpsc;
use utoipa::ToSchema;

const BLOCK_FRAMES: usize = 1_024;
/// A sender that has so many unacknowledged blocks stops and sends them again: more than one sync, less than the lead of a message.
const MOST_UNACKNOWLEDGED: usize = 48;
/// A page that says nothing for so many seconds has gone: what arrived is kept, and the run ends.
const PAGE_GONE_S: u64 = 90;
/// After so much silence of the line the user is told.
const PAGE_LATE: Duration = Duration::from_millis(1_500);
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// What a page sends beside its frames.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FromPage {
    /// A message or sound left at this input frame.
    Left {
        /// Which: see [`ToPage`].
        number: u64,
        /// As it was scheduled.
        at_frame: u64,
        /// As it left.
        left_frame: u64,
    },
    /// So many frames never reached the page: its device dropped them.
    Lost {
        /// How many.
        frames: u64,
    },
    /// After a break: the oldest frame that the page still has. What was wanted before it is gone.
    Oldest {
        /// Its number.
        frame: u64,
    },
    /// What its user says, after all frames that were heard before it was said.
    Order {
        /// What.
        order: Order,
    },
    /// The page is being closed: nothing more will come from it.
    Closed,
    /// The device has gone, or come back.
    Device {
        /// Its name, where it is there.
        name: Option<String>,
    },
}

/// What a page is sent.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ToPage {
    /// The line is open. What left before on another run's word leaves again: numbers of messages are each run's own.
    Opened {
        /// Which run it is, a name that no other has.
        run: String,
        /// The next frame wanted; `null` where the page begins with the oldest that it has.
        frame: Option<u64>,
    },
    /// Nothing waits for this page (any more): its line need not be opened again.
    Refused {
        /// Why, and what of its sound is kept.
        sentence: String,
    },
    /// Frames before this one are safe: they need not be kept.
    Acknowledged {
        /// The next frame wanted.
        frame: u64,
    },
    /// Bytes to leave at an input frame. What is numbered is sent again after a break until it has left, and leaves once.
    Midi {
        /// Which.
        number: u64,
        /// When.
        at_frame: u64,
        /// What.
        bytes: Vec<u8>,
    },
    /// A stretch of a take to be played out at an input frame.
    Play {
        /// Which.
        number: u64,
        /// When.
        at_frame: u64,
        /// Its number.
        take: u64,
        /// From this frame of it.
        first: u64,
        /// Up to this one.
        end: u64,
    },
    /// A pulse to be played out at an input frame.
    PlayPulse {
        /// Which.
        number: u64,
        /// When.
        at_frame: u64,
    },
    /// The recording is over.
    Finished,
}

/// What came over a line.
pub(super) enum Heard {
    Blocks(Vec<Block>),
    /// Messages left so many frames late.
    Late(u64),
    /// Frames that are gone for ever.
    Lost(u64),
    /// Nothing before this frame will come any more.
    From(u64),
    /// The user said something at the devices.
    Order(Order),
    /// Nothing for now; the sentence says why, where it has been long.
    Nothing(Option<String>),
    /// Nothing more will come.
    Gone,
}

pub(super) enum Line {
    Simulated(Box<Simulated>),
    Page(PageLine),
}

/// The simulated rig behind a line that may be bad, keeping what was not acknowledged as a page does.
pub(super) struct Simulated {
    device: Device,
    link: Link,
    outbox: Outbox,
    began: Instant,
    real_time: bool,
    rate_hz: u32,
    channels: usize,
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

/// For trying out what a page that does not come back does: `LADDER_PAGE_GONE_S`.
fn page_gone_from_environment() -> Duration {
    let seconds = std::env::var("LADDER_PAGE_GONE_S").ok();
    Duration::from_secs(seconds.and_then(|text| text.parse().ok()).unwrap_or(PAGE_GONE_S))
}

/// What stands at the simulated end.
pub(super) enum Device {
    Rig(Box<Rig>),
    Echo(EchoBox),
}

impl Device {
    fn frame(&self) -> u64 {
        match self {
            Self::Rig(rig) => rig.frame(),
            Self::Echo(echo) => echo.frame(),
        }
    }

    fn render(&mut self, frames: usize) -> Block {
        match self {
            Self::Rig(rig) => rig.render(frames),
            Self::Echo(echo) => echo.render(frames),
        }
    }
}

impl Simulated {
    pub(super) fn new(device: Device, rate_hz: u32, real_time: bool, channels: usize) -> Self {
        Self {
            device,
            link: Link::new(faults_from_environment(), 5),
            outbox: Outbox::default(),
            began: Instant::now(),
            real_time,
            rate_hz,
            channels,
        }
    }
}

/// The server's end of a page's WebSocket, which may break and come back.
#[derive(Clone)]
pub(crate) struct PageEnd {
    pub(crate) blocks: mpsc::UnboundedSender<Result<Block, FromPage>>,
    pub(crate) page: Arc<Mutex<Option<mpsc::UnboundedSender<ToPage>>>>,
    /// How many channels its frames have.
    pub(crate) channels: usize,
    /// The next frame wanted, for a page that comes back; `None` where it begins with what it has.
    pub(crate) wanted: Arc<Mutex<Option<u64>>>,
    /// Which run it belongs to.
    pub(crate) run: String,
    /// What was sent to the page and has not left yet, for a page that comes back.
    pub(crate) unsent: Arc<Mutex<BTreeMap<u64, ToPage>>>,
}

pub(super) struct PageLine {
    blocks: mpsc::UnboundedReceiver<Result<Block, FromPage>>,
    end: PageEnd,
    heard_at: Instant,
    gone_after: Duration,
    device_gone: bool,
    number: u64,
}

impl PageLine {
    /// A line of so many channels, on which a frame is wanted next.
    pub(super) fn new(channels: usize, wanted: Option<u64>) -> (Self, PageEnd) {
        let (sender, blocks) = mpsc::unbounded_channel();
        let end = PageEnd {
            blocks: sender,
            page: Arc::default(),
            channels,
            wanted: Arc::new(Mutex::new(wanted)),
            run: uuid::Uuid::new_v4().to_string(),
            unsent: Arc::default(),
        };
        let line = Self {
            blocks,
            end: end.clone(),
            heard_at: Instant::now(),
            gone_after: page_gone_from_environment(),
            device_gone: false,
            number: 0,
        };
        (line, end)
    }

    /// Sends what must not get lost: kept until the page says that it left.
    fn tell_surely(&mut self, make: impl FnOnce(u64) -> ToPage) {
        self.number += 1;
        let message = make(self.number);
        self.end
            .unsent
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .insert(self.number, message.clone());
        self.tell(message);
    }

    fn has_left(&self, number: u64) {
        self.end
            .unsent
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .remove(&number);
    }

    fn tell(&self, message: ToPage) {
        let page = self
            .end
            .page
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(page) = page.as_ref() {
            // A page that has just gone asks for what it missed when it comes back.
            let _ = page.send(message);
        }
    }
}

impl Line {
    /// Frames have so many channels.
    pub(super) fn channels(&self) -> usize {
        match self {
            Self::Simulated(line) => line.channels,
            Self::Page(line) => line.end.channels,
        }
    }

    pub(super) async fn next(&mut self) -> Heard {
        match self {
            Self::Simulated(line) => {
                if line.real_time {
                    let due = Duration::from_secs_f64(line.device.frame() as f64 / f64::from(line.rate_hz));
                    tokio::time::sleep(due.saturating_sub(line.began.elapsed())).await;
                }
                let block = line.device.render(BLOCK_FRAMES);
                line.outbox.keep(block.first_frame, block.samples.clone());
                let mut arrived = line.link.send(block);
                if line.outbox.len() >= MOST_UNACKNOWLEDGED {
                    for (first_frame, samples) in line.outbox.unacknowledged().cloned().collect::<Vec<_>>() {
                        arrived.extend(line.link.send(Block { first_frame, samples }));
                    }
                }
                Heard::Blocks(arrived)
            }
            Self::Page(line) => match tokio::time::timeout(LOOK_EVERY, line.blocks.recv()).await {
                Ok(Some(Ok(block))) => {
                    line.heard_at = Instant::now();
                    line.device_gone = false;
                    Heard::Blocks(vec![block])
                }
                Ok(Some(Err(FromPage::Left {
                    number,
                    at_frame,
                    left_frame,
                }))) => {
                    line.has_left(number);
                    Heard::Late(left_frame.saturating_sub(at_frame))
                }
                Ok(Some(Err(FromPage::Lost { frames }))) => Heard::Lost(frames),
                Ok(Some(Err(FromPage::Oldest { frame }))) => Heard::From(frame),
                Ok(Some(Err(FromPage::Order { order }))) => Heard::Order(order),
                Ok(Some(Err(FromPage::Closed))) => Heard::Gone,
                Ok(Some(Err(FromPage::Device { name }))) => {
                    line.device_gone = name.is_none();
                    line.heard_at = Instant::now();
                    Heard::Nothing(None)
                }
                Ok(None) => Heard::Gone,
                Err(_) if line.heard_at.elapsed() > line.gone_after => Heard::Gone,
                Err(_) if line.device_gone => Heard::Nothing(Some(
                    "The input device has gone. Plug it in again: the recording waits.".into(),
                )),
                Err(_) if line.heard_at.elapsed() > PAGE_LATE => Heard::Nothing(Some(
                    "Nothing arrives from the page with the devices; it keeps what it hears and sends it when the line is back."
                        .into(),
                )),
                Err(_) => Heard::Nothing(None),
            },
        }
    }

    /// Bytes to leave at an input frame; gives when they left, where that is known at once.
    pub(super) fn schedule(&mut self, at_frame: u64, bytes: &[u8]) -> u64 {
        match self {
            Self::Simulated(line) => match &mut line.device {
                Device::Rig(rig) => rig.schedule(at_frame, bytes),
                Device::Echo(_) => at_frame,
            },
            Self::Page(line) => {
                line.tell_surely(|number| ToPage::Midi {
                    number,
                    at_frame,
                    bytes: bytes.to_vec(),
                });
                at_frame
            }
        }
    }

    /// Asks the simulated player; a real one reads the page.
    pub(super) fn ask(&mut self, key: u8, velocity: u8, after_ms: u32) {
        if let Self::Simulated(line) = self
            && let Device::Rig(rig) = &mut line.device
        {
            rig.ask(key, velocity, after_ms);
        }
    }

    /// Whether what comes over it cannot be made again.
    pub(super) fn is_of_page(&self) -> bool {
        matches!(self, Self::Page(_))
    }

    /// Whether the sound that is played out has to be brought: a page fetches it by itself.
    pub(super) fn wants_sound(&self) -> bool {
        matches!(self, Self::Simulated(_))
    }

    /// Sound to leave at an input frame, stereo; gives when it left.
    pub(super) fn play_sound(&mut self, at_frame: u64, stereo: Vec<f32>) -> u64 {
        match self {
            Self::Simulated(line) => match &mut line.device {
                Device::Echo(echo) => echo.play(at_frame, stereo),
                Device::Rig(_) => at_frame,
            },
            Self::Page(_) => at_frame,
        }
    }

    /// The same, by a page.
    pub(super) fn tell_to_play(&mut self, make: impl FnOnce(u64) -> ToPage) {
        if let Self::Page(line) = self {
            line.tell_surely(make);
        }
    }

    pub(super) fn acknowledge(&mut self, frame: u64) {
        match self {
            Self::Simulated(line) => line.outbox.acknowledged(frame, line.channels),
            Self::Page(line) => {
                *line
                    .end
                    .wanted
                    .lock()
                    .unwrap_or_else(std::sync::PoisonError::into_inner) = Some(frame);
                line.tell(ToPage::Acknowledged { frame });
            }
        }
    }

    pub(super) fn finished(&mut self) {
        if let Self::Page(line) = self {
            line.tell(ToPage::Finished);
        }
    }
}
