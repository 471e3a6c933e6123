//! How a recording goes: numbered audio and a clock made of it come in, MIDI messages and takes go out.
//!
//! A pure state machine. [`Intake`] puts numbered blocks in order, [`Outbox`] keeps on the other side what was not acknowledged,
//! and [`Session`] leads through the cells. Time is input frames.

mod intake;
mod run;

pub use intake::{Intake, Outbox};
pub use run::{Action, CellJob, Progress, RunState, Session, SessionSettings};
