//! The long jobs: measuring, rendering, making, seeking, bringing and exporting, one type each. Audio comes through a [`Library`].

mod alone;
mod beside_source;
mod beside_take;
mod bringing;
mod brought;
mod building;
mod checking;
mod each;
mod edition;
mod export;
mod export_settings;
mod exporting;
mod files;
mod folder;
mod freezing;
mod heard;
mod job;
mod levels;
mod library;
mod listening;
mod looped;
mod making;
mod measured;
mod measuring;
mod midi;
mod opened;
mod overview;
mod pace;
mod page;
mod playing;
mod printing;
mod read_back;
mod recording;
mod rendering;
mod report;
mod seeking;
mod shell;
mod to_write;
mod treated;

pub use beside_source::{
    LayBeside, ProgramWith, built_audio, is_kept_beside, kept_beside, lay_beside, name_of_beside,
    source_audio,
};
pub use beside_take::{TakeBeside, take_beside};
pub use bringing::{Import, inside_of, read_file};
pub use brought::{
    Found, MOST_BROUGHT_FILES, Offered, TakenOfBrought, look_through, path_inside, place_for, take_in, unpack,
};
pub use building::{Built, FileBuilt, ToBuild, build};
pub use checking::{AtHand, Checked, OpenedInPlace, check_at_hand};
pub use edition::{EDITIONS, EditionFile, FrozenEdition, edition_path};
pub use export::{Beside, Exported, Foreseen, NO_SHELL, export, export_beside, foresee, spare};
pub use export_settings::ExportSettings;
pub use exporting::{EXPORTS, Export};
pub use files::write_whole;
pub use folder::{GivenInto, IntoFolder, give_into};
pub use freezing::Freeze;
pub use heard::{Heard, StrandHeard, heard, sounding_keys};
pub use job::{Effect, JobKind, MadeTake, MeasuredTake, Outcome, in_place_of};
pub use library::{Library, Refusal, Sink, Watch, keep, refusal};
pub use listening::{
    Listen, STRIKES, ToHear, What, hear_keys, heard_by_name, keys_to_hear, name_of_all, take_sound, to_hear,
};
pub use looped::{AroundSeam, HeardLoop, PlayedBy, around_seam, hear_loop, short_loop};
pub use making::Make;
pub use measured::measure_part;
pub use measuring::{DRAWN_FROM_FRAMES, Draw, Measure, MeasureAgain, THUMBNAIL_COLUMNS, Untreated};
pub use midi::{PlanNote, plan_as_midi, plan_notes};
pub use opened::Opened;
pub use overview::{
    OVERVIEW_FRAMES, Overview, OverviewMaker, OverviewPart, envelope_of, levels_path, peaks_path,
};
pub use pace::{Took, seconds_foreseen};
pub use playing::{Figures, play};
pub use recording::{NewTake, Part, Recording, RecordingForm};
pub use rendering::Render;
pub use report::{FileReport, LoopReport, Measured};
pub use seeking::{SearchedFrom, Seek, Sought, loops_of};
pub use shell::{SHELLS, Shell, shell_path};
pub use to_write::{PICTURES, Samples, ToWrite};
pub use treated::{RENDERS, Snapshot, TreatedTake, as_bytes, raw, take_of_source};
