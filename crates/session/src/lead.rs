//! What every kind of recording has in common: audio in, actions out.

use instrument::{Cell, Controller, SoundCheck, Verdict};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One cell to record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CellJob {
    /// Which.
    pub cell: Cell,
    /// The keys that go down, over MIDI: the cell's, or those of a chord.
    pub keys: Vec<u8>,
    /// Strike.
    pub velocity: u8,
    /// How long the key is down.
    pub hold_ms: u32,
    /// Longest wait after key-up.
    pub tail_ms: u32,
    /// What makes the sound.
    pub on: SoundsOn,
    /// Held at its value meanwhile.
    pub controller: Option<Controller>,
}

/// What a recording wants done.
#[derive(Debug, Clone, PartialEq)]
pub enum Action {
    /// Bytes that should leave at an input frame.
    Midi {
        /// When.
        at_frame: u64,
        /// What.
        bytes: Vec<u8>,
    },
    /// A take is played out, through a box.
    Play {
        /// When.
        at_frame: u64,
        /// Its number.
        take: u64,
    },
    /// [`crate::pulse`] is played out, to measure the delay.
    PlayPulse {
        /// When.
        at_frame: u64,
    },
    /// A player is asked for a cell.
    Ask {
        /// Which.
        cell: Cell,
        /// How strong, 1 to 127.
        velocity: u8,
        /// How long the reference tone and the count-in go on before it is wanted.
        after_ms: u32,
    },
    /// From this frame on, keep what comes for a take of this cell.
    Begin {
        /// Which.
        cell: Cell,
        /// The take's first frame.
        first_frame: u64,
    },
    /// The take ends, and is kept.
    End {
        /// Which.
        cell: Cell,
        /// The first frame after the take.
        end_frame: u64,
        /// What was heard in it; `None` where nobody judged.
        verdict: Option<Box<Verdict>>,
    },
    /// The take is thrown away (skipped, or stopped in its middle).
    Abandon {
        /// Which.
        cell: Cell,
    },
    /// The user keeps the newest take of this cell, whatever was heard in it.
    Choose {
        /// Which.
        cell: Cell,
    },
    /// Nothing more will come.
    Finished,
}

/// What a user tells a recording.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Order {
    /// Stand still after this cell.
    Pause,
    /// Go on.
    Resume,
    /// Leave this cell out.
    Skip,
    /// End.
    Stop,
    /// By hand: this take is good, go on.
    Keep,
    /// By hand: ask for this cell again.
    Again,
    /// By hand: back to the cell before.
    Back,
    /// By hand: keep good takes and go on without being told.
    HandsFree,
    /// By hand: wait to be told.
    HandsOn,
    /// By hand: what is struck from now on is heard and shown, and no take, so that the instrument can be retuned.
    Tune,
    /// By hand: what is struck is a take again.
    Record,
}

/// What a recording is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum RunState {
    /// Measuring the noise floor.
    Listening,
    /// Measuring the delay.
    Pulse,
    /// By hand: waiting for what still sounds to die away, before the note is asked for.
    Settling,
    /// By hand: waiting for the strike.
    Waiting,
    /// By hand: listening to what is struck, without a take of it.
    Tuning,
    /// Recording a cell, or a long take.
    Recording,
    /// By hand: a take ended, and the user decides.
    Deciding,
    /// Waiting for the user.
    Paused,
    /// All done.
    Finished,
    /// Ended by the user.
    Stopped,
}

/// A note that sounds, or the last one that did.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Needle {
    /// The key nearest to it.
    pub key: u8,
    /// How far it lies above the key that is asked for.
    pub cents: f64,
    /// Whether it sounds now.
    pub sounds: bool,
}

/// How far a recording is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Progress {
    /// What it is doing.
    pub state: RunState,
    /// The cell being recorded or asked for.
    pub cell: Option<Cell>,
    /// 0 to 1 of that cell's longest time.
    pub cell_share: f64,
    /// Cells done in this run.
    pub done: usize,
    /// Cells of this run.
    pub total: usize,
    /// At 1× speed, at the pace so far.
    pub seconds_left: f64,
    /// What was measured of the rig, once it was.
    pub check: Option<SoundCheck>,
    /// Highest sample since the last report.
    pub peak_dbfs: f64,
    /// By hand: what was heard in the last take.
    pub verdict: Option<Verdict>,
    /// By hand: what is struck, against what is asked for.
    pub needle: Option<Needle>,
    /// By hand: whether good takes go on by themselves.
    pub hands_free: bool,
    /// By hand: how often a note was asked for so far.
    pub asked: u64,
    /// Frames so far.
    pub frames: u64,
    /// Why nothing arrives, while nothing does: said by who leads, not by the recording.
    pub waits_for: Option<String>,
}

/// What is softer counts as this, in dBFS.
const SILENT_DBFS: f64 = -120.0;

impl Progress {
    /// Of one that is doing something, before anything else is known.
    pub(crate) fn of(state: RunState) -> Self {
        Self {
            state,
            cell: None,
            cell_share: 0.0,
            done: 0,
            total: 0,
            seconds_left: 0.0,
            check: None,
            peak_dbfs: SILENT_DBFS,
            verdict: None,
            needle: None,
            hands_free: true,
            asked: 0,
            frames: 0,
            waits_for: None,
        }
    }
}

/// The highest sample since the last report, in dBFS; from now on it is looked for anew.
pub(crate) fn take_peak_dbfs(peak: &mut f32) -> f64 {
    signal::amplitude_to_db(f64::from(std::mem::take(peak))).max(SILENT_DBFS)
}

/// A recording as a pure state machine. Time is input frames.
pub trait Lead: Send {
    /// The next frames, interleaved, contiguous with the last.
    fn audio(&mut self, samples: &[f32]) -> Vec<Action>;
    /// What the user wants.
    fn order(&mut self, order: Order) -> Vec<Action>;
    /// The messages of the current cell or pulse left so many frames later than they were scheduled (a broken line): all that
    /// follows from them moves.
    fn left_late(&mut self, by_frames: u64);
    /// So many frames never came: what stands in their place is silence. Who judges takes, judges by it.
    fn lost(&mut self, _frames: u64) {}
    /// Where it stands. Reading it starts the peak anew.
    fn progress(&mut self) -> Progress;
}
