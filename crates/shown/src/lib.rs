//! What pages are shown: an instrument whole, the shelf, jobs; as plain data that is written as JSON.
//!
//! No rule is here: [`instrument::resolve`] and [`instrument::outline`] have them. It stands apart from the server so that what writes
//! megabytes of JSON is optimised, and the rest of the server quickly built.

mod beside;
mod cards;
mod findings;
mod jobs;
mod view;

pub use beside::{BesideView, MATCHING, ProposalView, beside_of, both_of, lay_beside_of, proposed};
pub use cards::{Card, cards_as_json};
pub use findings::{
    FindingView, FindingsView, HOUSE_LIMITS, LimitView, MENDING, SHELF, findings_of, listen_to, report_of,
};
pub use jobs::{JobResult, JobView, LossView};
pub use view::{InstrumentView, LongTakeView, Seen, TakeView, plan_of, seen, view_of};
