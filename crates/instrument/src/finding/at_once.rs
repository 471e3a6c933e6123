//! What is told of a take the moment it ends.

use super::{Finding, FindingKind};
use crate::key_name;
use crate::names::MiddleC;

impl Finding {
    /// Another note than the cell's, or the right one in another octave: by its keys, and how many cents lie between.
    pub fn another_note(heard: u8, wanted: u8, off_cents: f64) -> Self {
        let (found, cell) = (key_name(heard, MiddleC::C4), key_name(wanted, MiddleC::C4));
        let octaves = (off_cents / 1_200.0).round();
        let beside = (off_cents - octaves * 1_200.0).abs();
        if octaves != 0.0 && beside <= FindingKind::WrongNote.limit() {
            let says = format!("This is {found}, the right note in another octave: the cell is {cell}.");
            Self::so(FindingKind::WrongOctave, says)
        } else {
            let says = format!("This is {found}, the cell is {cell}.");
            Self::measured(FindingKind::WrongNote, off_cents, says)
        }
    }

    /// No note where one was wanted.
    pub fn no_note() -> Self {
        Self::so(FindingKind::NoNote, "No note is heard in it.")
    }

    /// So many frames at the converter's end.
    pub fn clipped(frames: u64) -> Self {
        let says = format!("It is clipped ({frames} frames): less gain, or softer.");
        Self::measured(FindingKind::Clipped, frames as f64, says)
    }

    /// Under its layer's window.
    pub fn too_soft(by_db: f64) -> Self {
        let says = format!("{by_db:.0} dB too soft for this layer.");
        Self::measured(FindingKind::TooSoft, by_db, says)
    }

    /// Over it.
    pub fn too_loud(by_db: f64) -> Self {
        let says = format!("{by_db:.0} dB too loud for this layer.");
        Self::measured(FindingKind::TooLoud, by_db, says)
    }

    /// Its peak lies so little over the noise.
    pub fn noisy(over_floor_db: f64) -> Self {
        let says = format!("It is only {over_floor_db:.0} dB over the noise.");
        Self::measured(FindingKind::Noisy, over_floor_db, says)
    }

    /// Something else, so long after its start, that rises by so much.
    pub fn another_sound(after_s: f64, by_db: f64) -> Self {
        let says = format!("Something else sounds {after_s:.1} s into it.");
        Self::measured(FindingKind::AnotherSound, by_db, says)
    }

    /// Begun before it was asked for.
    pub fn too_early() -> Self {
        Self::so(FindingKind::TooEarly, "It came before it was asked for.")
    }

    /// Over before it was long enough to be of use.
    pub fn too_short(ms: f64) -> Self {
        Self::measured(FindingKind::TooShort, ms, format!("It lasts only {ms:.0} ms."))
    }

    /// Frames that did not arrive.
    pub fn lost_frames(frames: u64) -> Self {
        let says = format!("{frames} frames of it were lost on the way.");
        Self::measured(FindingKind::LostFrames, frames as f64, says)
    }

    /// A page was closed, or Ladder ended.
    pub fn broken_off() -> Self {
        Self::so(
            FindingKind::BrokenOff,
            "Its recording broke off: what had arrived is kept.",
        )
    }
}
