//! What jobs there are, and what comes of them.

use crate::{FrozenEdition, NewTake, Recording};
use instrument::{Fact, Said, Suggested, TakeLoop, Target};
use serde_json::Value;
use signal::{LoopFacts, Measurement};

/// What a job does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum JobKind {
    /// Measures a take.
    Measure,
    /// Measures takes again that an earlier version measured.
    MeasureAgain,
    /// Draws a long take from afar.
    Overview,
    /// Reads a file as a long take.
    Import,
    /// Makes new takes from old.
    Make,
    /// Looks for loops.
    Loops,
    /// Renders cleaned takes and judges loops set by hand.
    Render,
    /// Listens to an instrument as it is.
    Listen,
    /// Lays an instrument beside its source.
    Beside,
    /// Writes an instrument out.
    Export,
    /// Makes an edition.
    Freeze,
}

impl JobKind {
    /// All of them.
    pub const ALL: [Self; 11] = [
        Self::Measure,
        Self::MeasureAgain,
        Self::Overview,
        Self::Import,
        Self::Make,
        Self::Loops,
        Self::Render,
        Self::Listen,
        Self::Beside,
        Self::Export,
        Self::Freeze,
    ];

    /// As it is kept and sent.
    pub fn name(self) -> &'static str {
        match self {
            Self::Measure => "measure",
            Self::MeasureAgain => "measure_again",
            Self::Overview => "overview",
            Self::Import => "import",
            Self::Make => "make",
            Self::Loops => "loops",
            Self::Render => "render",
            Self::Listen => "listen",
            Self::Beside => "beside",
            Self::Export => "export",
            Self::Freeze => "freeze",
        }
    }

    /// The kind of that name.
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// What is to be written where a job ends: all of it in the one transaction that ends it, so that it is there once however often the job
/// was begun.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Effect {
    /// What it made lies under a name of its inputs.
    #[default]
    Nothing,
    /// A take was measured.
    Measured(Box<MeasuredTake>),
    /// Takes were measured again, and count as they were measured now, by one change.
    MeasuredAgain {
        /// For "Undo …".
        label: String,
        /// All of them.
        all: Vec<MeasuredTake>,
    },
    /// A long take is there.
    LongTake {
        /// Its file's name.
        name: String,
        /// Its recording.
        recording: Recording,
    },
    /// Takes were made, and are used from now on by one change.
    Takes {
        /// For "Undo …".
        label: String,
        /// All of them.
        made: Vec<MadeTake>,
        /// What is said with them.
        wishes: Vec<(Target, Fact, Said)>,
    },
    /// An edition is there.
    Edition(FrozenEdition),
    /// Something was said of takes.
    Change {
        /// For "Undo …".
        label: String,
        /// What.
        wishes: Vec<(Target, Fact, Said)>,
    },
}

/// A take that was measured.
#[derive(Debug, Clone, PartialEq)]
pub struct MeasuredTake {
    /// Which.
    pub take: u64,
    /// What was measured.
    pub facts: Measurement,
    /// What follows from it.
    pub suggested: Suggested,
    /// Its small picture.
    pub thumbnail: Vec<u8>,
    /// What its loop is worth, by its name, where measuring did not find it.
    pub judged: Option<(String, LoopFacts)>,
}

/// A take that was made from another.
#[derive(Debug, Clone, PartialEq)]
pub struct MadeTake {
    /// The new one.
    pub take: NewTake,
    /// The one whose place it takes.
    pub in_place_of: Option<u64>,
    /// Its loop, where that is known.
    pub looped: Option<TakeLoop>,
    /// What holds of it as of the one that it was made from.
    pub said: Vec<(Fact, Value)>,
}

/// How a job ended well.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Outcome {
    /// What is written.
    pub effect: Effect,
    /// What its page is told.
    pub result: Value,
}

/// What is said of takes that are chosen, each in place of the one that it came from, if any: what is made is used only where somebody says
/// so, and one undo brings the earlier ones back.
pub fn in_place_of(pairs: impl IntoIterator<Item = (Option<u64>, u64)>) -> Vec<(Target, Fact, Said)> {
    pairs
        .into_iter()
        .flat_map(|(from, new)| {
            let earlier = from.map(|from| (Target::Take(from), Fact::Chosen, Said::Automatic));
            let chosen = (Target::Take(new), Fact::Chosen, Said::Value(true.into()));
            std::iter::once(chosen).chain(earlier)
        })
        .collect()
}
