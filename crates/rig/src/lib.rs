//! Stand-ins for devices: instruments on a simulated MIDI cable, behind a converter with delay, hum and noise.
//!
//! Seeded: the same messages at the same frames give the same samples. Everything is invented: the *Night ferry*, a
//! synthesiser with programs, the *Parlour reed organ* and the *Slate chimes* with somebody who strikes them, at the Fernhollow workshop.

mod boxes;
mod chimes;
mod ferry;
mod link;
mod midi;
mod organ;
mod oscillator;
mod room;

pub use boxes::EchoBox;
pub use chimes::BAR_RATIOS;
pub use link::{Faults, Link};
pub use midi::{MidiMessage, MidiParser};
pub use room::{Block, PlayedNote, Rig, RigSettings, Slips};

/// What a rig plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Model {
    /// The Night ferry, programs 1 to 3.
    NightFerry,
    /// The Parlour reed organ.
    ReedOrgan,
    /// The Slate chimes, struck by a player when asked.
    SlateChimes,
}

/// What a player does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Gesture {
    /// Strikes; over about 1 the converter clips.
    Strike { key: u8, strength: f32 },
    /// Somewhere a door falls shut.
    Door,
    /// Somebody breathes in.
    Breath,
    /// A hand on the bars.
    Damp,
}

impl Model {
    /// Every model with its id and its name.
    pub const ALL: [(Self, &'static str, &'static str); 3] = [
        (Self::NightFerry, "night-ferry", "Night ferry (simulated)"),
        (Self::ReedOrgan, "reed-organ", "Parlour reed organ (simulated)"),
        (
            Self::SlateChimes,
            "slate-chimes",
            "Slate chimes and a player (simulated)",
        ),
    ];

    /// The model of an id.
    pub fn of_id(id: &str) -> Option<Self> {
        Self::ALL
            .iter()
            .find(|(_, known, _)| *known == id)
            .map(|(model, ..)| *model)
    }

    /// Names of its MIDI programs, from program 1.
    pub fn programs(self) -> &'static [&'static str] {
        match self {
            Self::NightFerry => &["Harbour lamps", "Engine room", "Fog bell"],
            Self::ReedOrgan => &["Both ranks"],
            Self::SlateChimes => &["Bars"],
        }
    }
}

/// Something that takes MIDI and gives sound.
pub(crate) trait Player: Send {
    fn midi(&mut self, message: MidiMessage);
    /// A player's hand.
    fn gesture(&mut self, _: Gesture) {}
    /// Adds the next frames.
    fn render(&mut self, left: &mut [f32], right: &mut [f32]);
}
