//! The long jobs: measuring a take, exporting a program. Audio comes through a [`Library`].

mod export;
mod looped;
mod midi;
mod overview;
mod report;

pub use export::{ExportSettings, Exported, export};
pub use looped::{AroundSeam, HeardLoop, around_seam, hear_loop, short_loop};
pub use midi::{PlanNote, plan_as_midi, plan_notes};
pub use overview::{OVERVIEW_FRAMES, Overview, OverviewMaker, OverviewPart, envelope_of};
pub use report::{FileReport, LoopReport};

use signal::{Audio, Measurement};

/// Columns of a board's thumbnail.
pub const THUMBNAIL_COLUMNS: usize = 64;

/// Where the audio of a program's samples is.
pub trait Library {
    /// The whole of a sample, by its `source`.
    ///
    /// # Errors
    /// Where it is not there or cannot be read.
    fn audio(&self, sample: &program::Sample) -> anyhow::Result<Audio>;
}

/// Measures a take and draws its thumbnail.
pub fn measure_take(audio: &Audio) -> (Measurement, Vec<u8>) {
    (
        signal::measure(audio),
        signal::thumbnail(audio, THUMBNAIL_COLUMNS),
    )
}
