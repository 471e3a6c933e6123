//! The long jobs: measuring, rendering, making, seeking, bringing and exporting, one type each. Audio comes through a [`Library`].

mod bringing;
mod brought;
mod building;
mod edition;
mod export;
mod export_settings;
mod freezing;
mod heard;
mod job;
mod library;
mod looped;
mod making;
mod measured;
mod measuring;
mod midi;
mod opened;
mod overview;
mod playing;
mod read_back;
mod recording;
mod rendering;
mod report;
mod seeking;
mod treated;

pub use bringing::{Import, inside_of, read_file};
pub use brought::{
    Found, MOST_BROUGHT_FILES, Offered, TakenOfBrought, look_through, path_inside, take_in, unpack,
};
pub use building::{Built, FileBuilt, build};
pub use edition::{EDITIONS, EditionFile, FrozenEdition, edition_path};
pub use export::{
    Beside, EXPORTS, Export, Exported, Foreseen, Samples, export, export_beside, foresee, spare, write_whole,
};
pub use export_settings::ExportSettings;
pub use freezing::Freeze;
pub use heard::{Heard, StrandHeard, heard};
pub use job::{Effect, JobKind, MadeTake, MeasuredTake, Outcome, in_place_of};
pub use library::{Library, Refusal, Sink, Watch, keep, refusal};
pub use looped::{AroundSeam, HeardLoop, around_seam, hear_loop, short_loop};
pub use making::Make;
pub use measured::measure_part;
pub use measuring::{DRAWN_FROM_FRAMES, Draw, Measure, MeasureAgain, THUMBNAIL_COLUMNS, Untreated};
pub use midi::{PlanNote, plan_as_midi, plan_notes};
pub use opened::Opened;
pub use overview::{
    OVERVIEW_FRAMES, Overview, OverviewMaker, OverviewPart, envelope_of, levels_path, peaks_path,
};
pub use playing::{Figures, play};
pub use recording::{NewTake, Part, Recording, RecordingForm};
pub use rendering::Render;
pub use report::{FileReport, LoopReport, Measured};
pub use seeking::{SearchedFrom, Seek, Sought, loops_of};
pub use treated::{RENDERS, Snapshot, TreatedTake, as_bytes, raw, take_of_source};
