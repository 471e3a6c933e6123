//! What an instrument is: passes, rungs, cells, takes, treatments; commands and their undo; makes the program.
//!
//! Nothing here does I/O. Three kinds of fact meet here: what was measured ([`signal::Measurement`]), what follows from
//! it ([`Suggestion`]), and what the user said ([`Correction`], sparse). A [`Treatment`] is the second with the third laid over it.

mod change;
mod cost;
mod mapping;
mod names;
mod plan;
mod treatment;

pub use change::{Applied, Change, ChangeError, Fact, Facts, FieldChange, Said, Target};
pub use cost::{Cost, cost_of};
pub use mapping::{MapSettings, PlacedTake, make_program, velocity_thresholds};
pub use names::{MiddleC, key_name};
pub use plan::{Cell, Kind, Layer, Pass, Plan, PlanError, Source};
pub use treatment::{Correction, Suggestion, TakeLoop, Treatment, suggest, treat};
