//! How a recording goes: numbered audio and a clock made of it come in, MIDI messages, prompts and takes go out.
//!
//! Pure state machines. [`Intake`] puts numbered blocks in order, [`Outbox`] keeps on the other side what was not acknowledged; a
//! [`Lead`] leads through the cells: [`Session`] over MIDI, [`HandSession`] with a player, [`LongSession`] in one long take, [`ThroughSession`] through a box; [`ScoreSession`] plays a
//! score on a source. Time is
//! input frames.

mod channels;
mod hand;
mod intake;
mod lead;
mod long;
mod needle;
mod run;
mod score;
mod silence;
mod through;
mod verdict;
mod windows;

pub use channels::{in_channels, of_mics};
pub use hand::{HandSession, HandSettings};
pub use intake::{Intake, Outbox};
pub use lead::{Action, CellJob, Lead, Needle, Order, Progress, RunState};
pub use long::{LongSession, NO_CELL};
pub use run::{Session, SessionSettings};
pub use score::ScoreSession;
pub use silence::check_silence;
pub use through::{PlayJob, ThroughSession, pulse};
pub use verdict::{Wanted, judge};
