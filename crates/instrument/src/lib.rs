//! What an instrument is: passes, rungs, cells, takes, treatments; commands and their undo; makes the program.
//!
//! Nothing here does I/O. Three kinds of fact meet here: what was measured ([`signal::Measurement`]), what follows from
//! it ([`Suggestion`]), and what the user said ([`Correction`], sparse). A [`Treatment`] is the second with the third laid over it.

mod at_once;
mod brought;
mod by_hand;
mod change;
mod chord;
mod cost;
mod coverage;
mod driven;
mod driving;
mod edition;
mod effect_settings;
mod effects;
mod evenness;
mod facts;
mod file_names;
mod finding;
mod fitting;
mod giving;
mod ids;
mod inside;
mod kit;
mod limits;
mod making;
mod mapping;
mod missing;
mod names;
mod naming;
mod offer;
mod origin;
mod panel;
mod parts;
mod pattern;
mod placing;
mod plan;
mod plan_file;
mod resolve;
mod score;
mod shaping;
mod slicing;
mod splitting;
mod spread;
mod stages;
mod strands;
mod taking_in;
mod target;
mod treatment;

pub use at_once::{AtOnce, set_at_once};
pub use brought::{Brought, PlannedOfBrought, plan_of_brought};
pub use by_hand::{RegionSaid, lay_by_hand, said_of_regions};
pub use change::{Applied, Change, ChangeError, FieldChange, Wish, lay_over};
pub use chord::read_chord;
pub use cost::{Cost, PassFigures, cost_of, figures_of};
pub use coverage::{Coverage, Covered, STRETCH_KEYS, coverage};
pub use driving::{FilterForm, RouteSaid};
pub use edition::{Changed, Frozen, PlayedTake};
pub use effect_settings::EFFECT_SETTINGS;
pub use evenness::{
    Curve, LevelOf, LevelRule, Proposed, TuningOf, TuningRule, even_levels, even_normalised, is_normalised,
    tune,
};
pub use facts::{Fact, Facts, Said, said_about, said_of};
pub use file_names::{
    NameGuess, OctaveHabit, Settled, Side, Spelling, Strength, layers_of, octave_habit, read_name, settle,
};
pub use finding::{
    Accepted, Finding, FindingKind, Limits, Mend, Step, Unit, accepting, name_below_2_53, settle_findings,
};
pub use giving::{Giving, LayerOfPass};
pub use ids::{LayerId, NAMES_END, PassId};
pub use inside::{Inside, InsideLoop};
pub use kit::{KitKeys, kit_keys};
pub use limits::{ByController, ByKey};
pub use making::{FillRule, MadeFrom, Making, Printing};
pub use mapping::{Fill, MapSettings, PlacedTake, TurnOrder, make_program, velocity_thresholds};
pub use missing::{Missing, missing};
pub use names::{MiddleC, key_name};
pub use naming::{NAME_WORDS, Named, name_by_rule};
pub use offer::{Advice, Offer, Reason, Ring, advice, even_layers, even_rungs, first_plan, layers_again};
pub use origin::{Origin, SoundCheck, Verdict, file_of_take, mark_of_take, take_of_mark, take_of_name};
pub use panel::{
    Colour, MOST_PARTS, MOST_ROWS, PAGE_COLUMNS, Panel, PanelPage, PanelPart, PartBox, PartKind, Preset,
    PresetValue, ShownAs, ShownWhen, offered_panel,
};
pub use parts::{check_plan, map_of, map_wishes, plan_of, plan_wishes};
pub use pattern::{Fit, Held, Pattern, Share, Under};
pub use placing::{Placing, Placings, place_files};
pub use plan::{Cell, Controller, How, Kind, Layer, PAGE_RIG, Pass, Plan, PlanError, Source};
pub use plan_file::{PlanFile, RecordingFile};
pub use resolve::{
    ByTreatment, Counted, Extent, Followed, Known, Outline, OutlinedTake, RecordedTake, Resolved,
    ResolvedTake, Suggested, follow, outline, resolve, source_of, take_name,
};
pub use score::{LONGEST_SCORE_MS, MOST_SCORE_NOTES, Passage, Score, ScoreNote};
pub use shaping::{KeyLevels, LayerStep, key_levels, layer_steps};
pub use slicing::{Deal, Dealt, Slice, Slicing, deal, deal_by_times};
pub use splitting::{CutAt, split};
pub use spread::{Part, Spread, SpreadTake, spread};
pub use strands::{
    Copies, Over, StrandSaid, choose_by_keys, copies, lay_strands, said_of_strands, share_out,
};
pub use taking_in::{
    HeardInFile, MOST_TAKE_S, PlacedFile, contradicts, kind_of_file, kind_of_files, kind_offered,
    map_of_files, mics_of, plan_with, rung_of, says_of,
};
pub use target::{About, Target, mark_number};
pub use treatment::{
    ANOTHER_NOTE_CENTS, Correction, Suggestion, TakeLoop, Treatment, best_loop, heard_for, is_cut_off,
    stands_still, suggest, treat, wants_a_loop,
};
