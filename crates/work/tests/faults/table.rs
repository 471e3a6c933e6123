//! A hundred faults: twenty kinds, five places each. Written down before any of the detectors, and not fitted to them since. Each is put in at 4, 2 and 1.2 times
//! the limit of its kind; every second one is kept back, and run once where a detector is said to be done (`LADDER_FAULTS=all`).

use instrument::FindingKind::{self, *};

/// How strong a fault is, in times of the limit of its kind.
pub const STRONG: f64 = 4.0;
/// See [`STRONG`].
pub const MIDDLING: f64 = 2.0;
/// See [`STRONG`].
pub const FAINT: f64 = 1.2;

/// An instrument that faults are put into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Made {
    /// Struck stone bars: three layers, two round robins, no loop.
    Chimes,
    /// A reed organ: one layer, looped.
    Organ,
    /// A synthesiser: two layers, looped, in stereo.
    Ferry,
    /// Bowed strings of the set of Debian's `timgm6mb-soundfont`: looped by their makers.
    Strings,
    /// Brass of the same set.
    Brass,
    /// A piano that others recorded: see `bin/test`.
    Piano,
}

/// One of them.
#[derive(Debug, Clone, Copy)]
pub struct Fault {
    /// What it is.
    pub kind: FindingKind,
    /// Where it is put.
    pub into: Made,
    /// Which take it is put into, and what else is by chance.
    pub seed: u64,
}

use Made::{Brass, Chimes, Ferry, Organ, Piano, Strings};

/// Each kind with its five places: what is looped is put into what loops, what has layers into what has layers.
const PLACES: [(FindingKind, [Made; 5]); 20] = [
    (SilenceFirst, [Chimes, Organ, Ferry, Strings, Piano]),
    (AttackCut, [Chimes, Organ, Ferry, Chimes, Piano]),
    (FlatTopped, [Chimes, Organ, Ferry, Strings, Piano]),
    (PopAtStart, [Chimes, Organ, Ferry, Brass, Piano]),
    (PopAtEnd, [Chimes, Chimes, Piano, Chimes, Piano]),
    (Dc, [Chimes, Organ, Ferry, Strings, Piano]),
    (Hum, [Chimes, Organ, Ferry, Chimes, Piano]),
    (Hiss, [Chimes, Organ, Ferry, Chimes, Organ]),
    (Rumble, [Chimes, Organ, Ferry, Strings, Piano]),
    (NoteBefore, [Chimes, Organ, Ferry, Chimes, Organ]),
    (AnotherSound, [Chimes, Piano, Chimes, Piano, Chimes]),
    (OffPitch, [Chimes, Organ, Ferry, Strings, Piano]),
    (WrongOctave, [Chimes, Organ, Ferry, Brass, Piano]),
    (RootDiffers, [Chimes, Organ, Ferry, Strings, Piano]),
    (SeamStandsOut, [Organ, Ferry, Strings, Brass, Organ]),
    (LoopPumps, [Organ, Ferry, Strings, Brass, Ferry]),
    (LevelStep, [Chimes, Organ, Ferry, Strings, Piano]),
    (BrightnessStep, [Chimes, Organ, Ferry, Brass, Piano]),
    (Leans, [Ferry, Ferry, Piano, Ferry, Piano]),
    (NotLouder, [Chimes, Ferry, Chimes, Ferry, Piano]),
];

/// All hundred; `kept_back` tells those that are run at the end.
pub fn faults() -> impl Iterator<Item = Fault> {
    PLACES.iter().enumerate().flat_map(|(row, (kind, places))| {
        places.iter().enumerate().map(move |(place, into)| Fault {
            kind: *kind,
            into: *into,
            seed: (row * 5 + place) as u64,
        })
    })
}

impl Fault {
    /// Whether it is run only at the end: every second one.
    pub fn is_kept_back(&self) -> bool {
        self.seed % 2 == 1
    }
}
