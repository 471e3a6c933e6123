//! What can be said of what: one table. From it follow how a fact is called and kept, which values it takes, and whether it alters samples.

use crate::driving::{is_course, is_filter_form, is_movement, is_route};
use crate::fitting::{
    are_slices, are_tags, is, is_by_key, is_controller, is_glide, is_key, is_loop, is_name_or_gone,
    is_or_none, is_place, is_score_or_none, is_send, is_stretch, is_voices, is_width,
};
use crate::panel::{
    are_preset_values, is_own_controller, is_part_box, is_picture, is_program, is_shown_as, is_shown_when,
};
use crate::{About, Accepted, Colour, Controller, Fill, How, Kind, PartKind, Target, TurnOrder};
use program::{EffectKind, FadeCurve, GoesFirst, On, SameKey, SoundsOn};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// What was said of a field, or nothing.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    /// The automatic value holds.
    #[default]
    Automatic,
    /// This holds.
    Value(Value),
}

impl Said {
    /// Whether both say the same: a number is the same however it is written.
    pub(crate) fn agrees_with(&self, other: &Self) -> bool {
        let number = |said: &Self| match said {
            Self::Value(value) => value.as_f64(),
            Self::Automatic => None,
        };
        match (number(self), number(other)) {
            (Some(one), Some(other)) => one == other,
            _ => self == other,
        }
    }
}

/// Which values a fact takes.
#[derive(Clone, Copy)]
pub(crate) enum Takes {
    /// Letters, so many at most, and one at least.
    Text(usize),
    /// A whole number between two, both included, and how a sentence about it begins.
    Whole(&'static str, u64, u64),
    /// The same of any number, and what it counts.
    Number(&'static str, f64, f64, &'static str),
    /// Yes or no.
    Switch,
    /// What a test lets pass; else the sentence that says why not.
    Fitting(fn(&Value) -> bool, &'static str),
    /// A stage of [`signal::Cleaning`], which the field of that name holds.
    Stage,
}

/// What is known of a fact.
pub(crate) struct Row {
    pub(crate) fact: Fact,
    pub(crate) name: &'static str,
    pub(crate) about: About,
    /// Of what else it may be said.
    pub(crate) also: Option<About>,
    pub(crate) takes: Takes,
    /// Whether saying it may alter samples.
    pub(crate) rendered: bool,
}

macro_rules! facts {
    ($( $(#[$says:meta])* $fact:ident $name:literal of $about:ident $(or $also:ident)?: $takes:expr $(, $rendered:ident)?; )*) => {
        /// A field that can be said.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
        #[serde(rename_all = "snake_case")]
        pub enum Fact {
            $( $(#[$says])* $fact, )*
        }

        const ROWS: &[Row] = &[
            $( Row { fact: Fact::$fact, name: $name, about: About::$about, also: facts!(or $($also)?), takes: $takes, rendered: facts!(@ $($rendered)?) }, )*
        ];
    };
    (@ rendered) => { true };
    (@) => { false };
    (or $also:ident) => { Some(About::$also) };
    (or) => { None };
}

/// A place in the file: any frame.
const FRAME: Takes = Takes::Whole("A frame", 0, u64::MAX);
const MOST_MS: f64 = 600_000.0;
/// Longest attack, decay or release that both formats hold (SFZ 100 s; SoundFont 2.04, 8,000 timecents).
const PART_MS: f64 = 100_000.0;
/// Longest delay or hold that they do (SoundFont 2.04, 5,000 timecents).
const SHORT_PART_MS: f64 = 17_900.0;
/// Of a part of a course.
const BEND: Takes = Takes::Number("How a part bends", -1.0, 1.0, "from early to late");
/// A setting of an effect: where it may lie says its kind.
const SETTING: Takes = Takes::Number("A setting", -1e6, 1e6, "");
const CONTROLLER_SAYS: &str = "Controllers run from 0 to 119, their values from 0 to 127.";

facts! {
    /// Its name.
    Name "name" of Instrument: Takes::Text(120);
    /// Words to find it by on the shelf.
    Tags "tags" of Instrument: Takes::Fitting(are_tags, "At most 20 tags, of 40 letters each.");
    /// Who made it, and with whose help.
    Credits "credits" of Instrument: Takes::Text(2_000);
    /// What may be done with it.
    Licence "licence" of Instrument: Takes::Text(2_000);
    /// Whether it is set aside from the shelf.
    SetAside "set_aside" of Instrument: Takes::Switch;
    /// Plan: what the thing is.
    Kind "kind" of Instrument: Takes::Fitting(is::<Kind>, "There is no such kind.");
    /// Plan: how the recordings come to be.
    How "how" of Instrument: Takes::Fitting(is::<How>, "There is no such way of recording.");
    /// Plan: the rig it is recorded from.
    Rig "rig" of Instrument: Takes::Text(120);
    /// Plan: MIDI channel.
    MidiChannel "midi_channel" of Instrument: Takes::Whole("A MIDI channel", 1, 16);
    /// Plan: MIDI bank; `null` sends none.
    MidiBank "midi_bank" of Instrument: Takes::Fitting(is_or_none::<16_383>, "MIDI banks run from 0 to 16,383.");
    /// Plan: MIDI program.
    MidiProgram "midi_program" of Instrument: Takes::Whole("A MIDI program", 1, 128);
    /// Plan: frames per second.
    RateHz "rate_hz" of Instrument: Takes::Number("The rate", 8_000.0, 192_000.0, "Hz");
    /// Plan: width kept.
    Bits "bits" of Instrument: Takes::Fitting(is_width, "Recordings are kept as 24 or 32 bits.");
    /// Plan: channels of each mic.
    Sides "sides" of Instrument: Takes::Whole("The number of channels", 1, 2);
    /// Plan: names of the mics that are recorded at once.
    Mics "mics" of Instrument: Takes::Fitting(is::<Vec<String>>, "Mics are a list of names.");
    /// Map: who takes the keys between two rungs.
    Fill "fill" of Instrument: Takes::Fitting(is::<Fill>, "There is no such way of filling gaps.");
    /// Map: steps of velocity over which layers fade into one another; 0 for none.
    StrikeCrossfade "strike_crossfade" of Instrument: Takes::Whole("A crossfade of strikes", 0, 126);
    /// Map: how round robins take turns.
    TurnOrder "turn_order" of Instrument: Takes::Fitting(is::<TurnOrder>, "There is no such way of taking turns.");
    /// Map: a gap between rungs is filled so far, in semitones.
    FurthestStretchKeys "furthest_stretch_keys" of Instrument: Takes::Whole("A stretch in keys", 0, 127);
    /// Map: keys below the lowest rung.
    BelowKeys "below_keys" of Instrument: Takes::Whole("The number of keys below", 0, 127);
    /// Map: keys above the highest rung.
    AboveKeys "above_keys" of Instrument: Takes::Whole("The number of keys above", 0, 127);
    /// Map: whether regions are those that were brought, where others made it.
    AsBrought "as_brought" of Instrument: Takes::Switch;
    /// Most voices of all strands at once; `null` for as many as there are.
    MostVoices "most_voices" of Instrument: Takes::Fitting(is_voices, "An instrument has between 1 and 128 voices.");

    /// Its place among the passes, rising; `null` where it is not there.
    PassPlace "pass_place" of Pass: Takes::Fitting(is_place, "A place is a number.");
    /// Its name.
    PassName "pass_name" of Pass: Takes::Text(120);
    /// What makes the sound.
    SoundsOn "sounds_on" of Pass: Takes::Fitting(is::<SoundsOn>, "A pass sounds when keys go down or up.");
    /// Its rungs, as keys, rising.
    Rungs "rungs" of Pass: Takes::Fitting(is::<Vec<u8>>, "Rungs are keys from 0 to 127.");
    /// How often each is recorded.
    RoundRobins "round_robins" of Pass: Takes::Whole("The number of round robins", 1, 64);
    /// How long a key is held.
    HoldMs "hold_ms" of Pass: Takes::Number("A hold", 50.0, MOST_MS, "ms");
    /// How long the highest rung is held; `null` as long as the others.
    HoldHighMs "hold_high_ms" of Pass: Takes::Fitting(is_or_none::<600_000>, "A hold is between 50 ms and 10 minutes.");
    /// Longest wait for the tail after key-up.
    TailMs "tail_ms" of Pass: Takes::Number("A tail", 50.0, MOST_MS, "ms");
    /// A controller that is held; `null` for none.
    Controller "controller" of Pass: Takes::Fitting(is::<Option<Controller>>, "Controllers run from 0 to 119, their values from 0 to 127.");
    /// Struck together with each rung, in semitones from it.
    Chord "chord" of Pass: Takes::Fitting(is::<Vec<i8>>, "A chord is a list of semitones.");

    /// Its place among the layers, from soft to loud; `null` where it is not there.
    LayerPlace "layer_place" of Layer: Takes::Fitting(is_place, "A place is a number.");
    /// Its name.
    LayerName "layer_name" of Layer: Takes::Text(120);
    /// The velocity it is struck with.
    StrikeVelocity "strike_velocity" of Layer: Takes::Whole("A strike velocity", 1, 127);
    /// How often it is recorded, where that is not as often as its pass; `null` where it is.
    LayerRoundRobins "layer_round_robins" of Layer: Takes::Fitting(is_or_none::<64>, "Round robins must be between 1 and 64.");
    /// The lowest velocity that plays it; `null` is suggested.
    LowVelocity "low_velocity" of Layer: Takes::Fitting(is_or_none::<127>, "Thresholds lie within 1 to 127.");
    /// Steps of velocity over which the layer under it fades into it; `null` as many as the map says.
    LayerCrossfade "layer_crossfade" of Layer: Takes::Fitting(is_or_none::<126>, "A crossfade of strikes is a whole number from 0 to 126.");

    /// Lowest key.
    RegionLowKey "region_low_key" of Region: Takes::Whole("A key", 0, 127);
    /// Highest key.
    RegionHighKey "region_high_key" of Region: Takes::Whole("A key", 0, 127);
    /// Lowest strike.
    RegionLowStrike "region_low_strike" of Region: Takes::Whole("A strike", 1, 127);
    /// Highest strike.
    RegionHighStrike "region_high_strike" of Region: Takes::Whole("A strike", 1, 127);
    /// Level beside that of its take.
    RegionGainDb "region_gain_db" of Region: Takes::Number("A level", -96.0, 48.0, "dB");
    /// Cents added on playing, beside those of its take.
    RegionTuneCents "region_tune_cents" of Region: Takes::Number("Tuning", -4_800.0, 4_800.0, "cents");
    /// How far its pitch follows the key: 1 fully, 0 not at all.
    KeyFollow "key_follow" of Region: Takes::Number("How far the pitch follows the key", -2.0, 2.0, "semitones a key");

    /// Its place beside that of its take, −1 to 1.
    RegionPan "region_pan" of Region: Takes::Number("The place", -1.0, 1.0, "from left to right");
    /// Frames into its take at which it begins, beside where that does.
    RegionOffsetFrames "region_offset_frames" of Region: FRAME;
    /// Whether it is played to its end though the key comes up.
    RegionToEnd "region_to_end" of Region: Takes::Switch;
    /// The controller that has to stand somewhere for it to be heard; `null` for none.
    RegionController "region_controller" of Region: Takes::Fitting(is_controller, CONTROLLER_SAYS);

    /// The region of its strand that it is a part of, which it is there for; `null` where it is gone.
    RegionCopyOf "region_copy_of" of Region: Takes::Fitting(is::<Option<u64>>, "A part is one of a region.");

    /// The strand that it is a copy of, which it is there for; `null` where it is gone.
    StrandCopyOf "strand_copy_of" of Strand: Takes::Fitting(is::<Option<u64>>, "A copy is one of a strand.");
    /// Its place among the strands, rising.
    StrandPlace "strand_place" of Strand: Takes::Fitting(is_place, "A place is a number.");
    /// Its name.
    StrandName "strand_name" of Strand: Takes::Text(120);
    /// What starts it.
    StrandOn "strand_on" of Strand: Takes::Fitting(is::<On>, "A strand sounds when a key goes down or up, or when a pedal does.");
    /// Whether it is silent, here and in what is given away.
    StrandMuted "strand_muted" of Strand: Takes::Switch;
    /// Its level.
    StrandGainDb "strand_gain_db" of Strand: Takes::Number("A level", -96.0, 48.0, "dB");
    /// Its place, added to that of each region.
    StrandPan "strand_pan" of Strand: Takes::Number("The place", -1.0, 1.0, "from left to right");
    /// Keys up that all of it sounds.
    StrandTransposeKeys "strand_transpose_keys" of Strand: Takes::Number("A transposition", -48.0, 48.0, "keys");
    /// Cents beside that.
    StrandTuneCents "strand_tune_cents" of Strand: Takes::Number("Tuning", -1_200.0, 1_200.0, "cents");
    /// Its lowest key.
    StrandLowKey "strand_low_key" of Strand: Takes::Whole("A key", 0, 127);
    /// Its highest key.
    StrandHighKey "strand_high_key" of Strand: Takes::Whole("A key", 0, 127);
    /// Keys over which it comes and goes there.
    StrandKeysFade "strand_keys_fade" of Strand: Takes::Whole("A crossfade of keys", 0, 126);
    /// Its softest strike.
    StrandLowStrike "strand_low_strike" of Strand: Takes::Whole("A strike", 1, 127);
    /// Its hardest strike.
    StrandHighStrike "strand_high_strike" of Strand: Takes::Whole("A strike", 1, 127);
    /// Strikes over which it comes and goes there.
    StrandStrikesFade "strand_strikes_fade" of Strand: Takes::Whole("A crossfade of strikes", 0, 126);
    /// The controller that has to stand somewhere for it to be heard; `null` for none.
    StrandController "strand_controller" of Strand: Takes::Fitting(is_controller, CONTROLLER_SAYS);
    /// The key that chooses it; `null` for none.
    StrandByKey "strand_by_key" of Strand: Takes::Fitting(is_by_key, "What chooses is a key from 0 to 127.");
    /// Whether it takes turns with the others of which that was said.
    StrandTakesTurns "strand_takes_turns" of Strand: Takes::Switch;
    /// The strand that cuts it off; `null` for none.
    StrandCutBy "strand_cut_by" of Strand: Takes::Fitting(is::<Option<u64>>, "What cuts off is a strand.");
    /// How long it fades then.
    StrandCutFadeMs "strand_cut_fade_ms" of Strand: Takes::Number("A fade", 0.0, 20_000.0, "ms");

    /// Keys that the bend reaches where it is pushed up.
    StrandBendUp "strand_bend_up" of Strand: Takes::Whole("What the bend reaches", 0, 48);
    /// The same where it is pulled down.
    StrandBendDown "strand_bend_down" of Strand: Takes::Whole("What the bend reaches", 0, 48);
    /// Most voices of it at once; `null` for as many as there are.
    StrandMostVoices "strand_most_voices" of Strand: Takes::Fitting(is_voices, "A strand has between 1 and 128 voices.");
    /// Which goes first where there are more.
    StrandGoesFirst "strand_goes_first" of Strand: Takes::Fitting(is::<GoesFirst>, "The oldest, the softest, the highest or the lowest goes first.");
    /// What the same key again does.
    StrandSameKey "strand_same_key" of Strand: Takes::Fitting(is::<SameKey>, "The same key again lets it ring, cuts it off or goes on in its voice.");
    /// One tone at a time, and how it glides to the next; `null` for as many tones as there are keys.
    StrandGlide "strand_glide" of Strand: Takes::Fitting(is_glide, "A glide takes between 0 and 10 s.");
    /// Its name; `null` where it is gone.
    BusName "bus_name" of Bus: Takes::Fitting(is_name_or_gone, "A row has a name of 1 to 60 letters.");
    /// Level of what comes out of it.
    BusGainDb "bus_gain_db" of Bus: Takes::Number("A level", -96.0, 24.0, "dB");
    /// How loud a strand is in a row that it sends to; `null` not at all.
    SendDb "send_db" of Send: Takes::Fitting(is_send, "What is sent lies between −96 and 24 dB.");
    /// What it does, which it is there for; `null` where it is gone.
    EffectKind "effect_kind" of Effect: Takes::Fitting(is::<Option<EffectKind>>, "There is no such effect.");
    /// Its place in its row, rising.
    EffectPlace "effect_place" of Effect: Takes::Fitting(is_place, "A place is a number.");
    /// Whether it is on.
    EffectOn "effect_on" of Effect: Takes::Switch;
    /// How loud it is while it is on, to compare by.
    EffectLevelDb "effect_level_db" of Effect: Takes::Number("A level", -48.0, 24.0, "dB");
    /// Its first setting, see [`program::EffectKind::settings`].
    EffectSetting1 "effect_setting1" of Effect: SETTING;
    /// Its second setting, see [`program::EffectKind::settings`].
    EffectSetting2 "effect_setting2" of Effect: SETTING;
    /// Its third setting, see [`program::EffectKind::settings`].
    EffectSetting3 "effect_setting3" of Effect: SETTING;
    /// Its fourth setting, see [`program::EffectKind::settings`].
    EffectSetting4 "effect_setting4" of Effect: SETTING;
    /// Its fifth setting, see [`program::EffectKind::settings`].
    EffectSetting5 "effect_setting5" of Effect: SETTING;
    /// Its sixth setting, see [`program::EffectKind::settings`].
    EffectSetting6 "effect_setting6" of Effect: SETTING;
    /// Its seventh setting, see [`program::EffectKind::settings`].
    EffectSetting7 "effect_setting7" of Effect: SETTING;
    /// Its eighth setting, see [`program::EffectKind::settings`].
    EffectSetting8 "effect_setting8" of Effect: SETTING;

    /// Its name, which it is there for; `null` where it is gone.
    PageName "page_name" of Page: Takes::Fitting(is_name_or_gone, "A page has a name of 1 to 60 letters.");
    /// Its place among the pages, rising.
    PagePlace "page_place" of Page: Takes::Fitting(is_place, "A place is a number.");
    /// Its colour; `null` for none.
    PageColour "page_colour" of Page: Takes::Fitting(is::<Option<Colour>>, "There is no such colour.");
    /// The picture beneath its parts, by its hash; `null` for none.
    PagePicture "page_picture" of Page: Takes::Fitting(is_picture, "There is no such picture.");
    /// When it is shown; `null` always.
    PageShownWhen "page_shown_when" of Page: Takes::Fitting(is_shown_when, "A page is shown while a control stands between two values.");
    /// What it is, which it is there for; `null` where it is gone.
    PartKind "part_kind" of Part: Takes::Fitting(is::<Option<PartKind>>, "There is no such part of a panel.");
    /// Its name.
    PartName "part_name" of Part: Takes::Text(60);
    /// Its page; `null` stands on every page.
    PartPage "part_page" of Part: Takes::Fitting(is::<Option<u64>>, "There is no such page.");
    /// Where it stands there.
    PartPlace "part_place" of Part: Takes::Fitting(is_part_box, "A part lies within its page, two columns wide at least.");
    /// Its place in the list of parts, rising.
    PartOrder "part_order" of Part: Takes::Fitting(is_place, "A place is a number.");
    /// How its value is read.
    PartShownAs "part_shown_as" of Part: Takes::Fitting(is_shown_as, "A value is shown between two numbers, with a unit of 12 letters, or as 2 to 16 words.");
    /// Where its value stands at first.
    PartAtFirst "part_at_first" of Part: Takes::Number("A value at first", 0.0, 1.0, "of its way");
    /// The MIDI controller that moves it too; `null` for none.
    PartController "part_controller" of Part: Takes::Fitting(is_own_controller, "Controllers run from 0 to 119.");
    /// When it is shown; `null` always.
    PartShownWhen "part_shown_when" of Part: Takes::Fitting(is_shown_when, "A part is shown while a control stands between two values.");
    /// Its colour; `null` for none.
    PartColour "part_colour" of Part: Takes::Fitting(is::<Option<Colour>>, "There is no such colour.");
    /// What a text says, or what a picture shows.
    PartText "part_text" of Part: Takes::Text(2_000);
    /// Its picture, by its hash; `null` for none.
    PartPicture "part_picture" of Part: Takes::Fitting(is_picture, "There is no such picture.");
    /// The strand whose course is drawn; `null` for the first.
    PartStrand "part_strand" of Part: Takes::Fitting(is::<Option<u64>>, "There is no such strand.");
    /// The group that it is listed and chosen with; `null` for none.
    PartGroup "part_group" of Part: Takes::Fitting(is_name_or_gone, "A group has a name of 1 to 60 letters.");
    /// Its name, which it is there for; `null` where it is gone.
    PresetName "preset_name" of Preset: Takes::Fitting(is_name_or_gone, "A set of values has a name of 1 to 60 letters.");
    /// The MIDI program change that recalls it; `null` for none.
    PresetProgram "preset_program" of Preset: Takes::Fitting(is_program, "MIDI programs run from 1 to 128.");
    /// Where each control stands.
    PresetValues "preset_values" of Preset: Takes::Fitting(are_preset_values, "A value of a control lies between 0 and 1.");

    /// Why something that was found is accepted, and what that was.
    Accepted "accepted" of Finding: Takes::Fitting(is::<Accepted>, "What is accepted has a reason.");
    /// From where on something is found.
    FindingLimit "finding_limit" of FindingKind: Takes::Number("A limit", -120.0, 1e6, "");
    /// What is heard on a key that was marked.
    Mark "mark" of Mark: Takes::Text(200);

    /// Silence before it begins.
    ShapeDelayMs "shape_delay_ms" of Strand or Region: Takes::Number("A delay", 0.0, SHORT_PART_MS, "ms");
    /// From silence to full.
    ShapeAttackMs "shape_attack_ms" of Strand or Region: Takes::Number("An attack", 0.0, PART_MS, "ms");
    /// How long it stays full.
    ShapeHoldMs "shape_hold_ms" of Strand or Region: Takes::Number("A hold", 0.0, SHORT_PART_MS, "ms");
    /// How long it takes to fall by 100 dB, down to where it is held.
    ShapeDecayMs "shape_decay_ms" of Strand or Region: Takes::Number("A decay", 0.0, PART_MS, "ms");
    /// Where it is held.
    ShapeSustainDb "shape_sustain_db" of Strand or Region: Takes::Number("What it is held at", -96.0, 0.0, "dB");
    /// How long it takes to fall by 100 dB after its key came up.
    ShapeReleaseMs "shape_release_ms" of Strand or Region: Takes::Number("A release", 0.0, PART_MS, "ms");
    /// How strongly the strike drives its level: 1 by the whole of 40·log₁₀(v/127) dB.
    ShapeStrikeToLevel "shape_strike_to_level" of Strand or Region: Takes::Number("How strongly the strike drives level", 0.0, 1.0, "of it all");
    /// How its attack bends: 0 straight, −1 early, 1 late.
    ShapeAttackBend "shape_attack_bend" of Strand or Region: BEND;
    /// How its decay does.
    ShapeDecayBend "shape_decay_bend" of Strand or Region: BEND;
    /// How its release does.
    ShapeReleaseBend "shape_release_bend" of Strand or Region: BEND;

    /// What its filter lets pass and how steeply; `null` for none.
    FilterForm "filter_form" of Strand or Region: Takes::Fitting(is_filter_form, "A filter is a low- or high-pass of 1, 2 or 4 poles, or a band-pass or notch of 2 or 4.");
    /// Where it is 3 dB down.
    FilterCutoffHz "filter_cutoff_hz" of Strand or Region: Takes::Number("A cutoff", 20.0, 20_000.0, "Hz");
    /// How far that follows the key: 1 fully.
    FilterKeyFollow "filter_key_follow" of Strand or Region: Takes::Number("How far the cutoff follows the key", -2.0, 2.0, "semitones a key");
    /// How far it is raised at the cutoff.
    FilterResonanceDb "filter_resonance_db" of Strand or Region: Takes::Number("A resonance", 0.0, 40.0, "dB");
    /// Whether what it takes away is made up.
    FilterMakesUp "filter_makes_up" of Strand or Region: Takes::Switch;

    /// What drives what; `null` where it is gone.
    Route "route" of Route: Takes::Fitting(is_route, "A route goes from a source that moves to a number of the sound, no further than that goes.");
    /// A slow movement; `null` where it is gone.
    Movement "movement" of Movement: Takes::Fitting(is_movement, "A slow movement makes between 0.01 and 40 rounds a second, and fades in within 20 s.");
    /// A course; `null` where it is gone.
    Course "course" of Course: Takes::Fitting(is_course, "The parts of a course last between 0 and 100 s, its level lies between nothing and all.");

    /// Where it is cut, and for what.
    Slices "slices" of LongTake: Takes::Fitting(are_slices, "Slices must end after they start, and follow one another.");
    /// What was played while it was recorded; `null` where nobody knows.
    PlayedBy "played_by" of LongTake: Takes::Fitting(is_score_or_none, "What was played is up to 2,000 notes within ten minutes, each with an end.");

    /// First frame heard.
    StartFrame "start_frame" of Take: FRAME;
    /// First frame not heard.
    EndFrame "end_frame" of Take: FRAME;
    /// Length of the fade-in.
    FadeInFrames "fade_in_frames" of Take: FRAME;
    /// Length of the fade-out.
    FadeOutFrames "fade_out_frames" of Take: FRAME;
    /// The course of its fades.
    FadeCurve "fade_curve" of Take: Takes::Fitting(is::<FadeCurve>, "There is no such course of a fade.");
    /// Its place between left and right, −1 to 1.
    Pan "pan" of Take: Takes::Number("The place", -1.0, 1.0, "from left to right");
    /// What is done to its sides.
    Channels "channels" of Take: Takes::Stage, rendered;
    /// Whether its mean is taken out.
    RemoveDc "remove_dc" of Take: Takes::Stage, rendered;
    /// Its high-pass.
    HighPass "high_pass" of Take: Takes::Stage, rendered;
    /// Hum notched.
    Hum "hum" of Take: Takes::Stage, rendered;
    /// Hiss taken out.
    Hiss "hiss" of Take: Takes::Stage, rendered;
    /// The expander under its tail.
    Expander "expander" of Take: Takes::Stage, rendered;
    /// Its compressor.
    Compressor "compressor" of Take: Takes::Stage, rendered;
    /// Its loop evened.
    Evening "evening" of Take: Takes::Stage, rendered;
    /// Its limiter.
    Limiter "limiter" of Take: Takes::Stage, rendered;
    /// Level.
    GainDb "gain_db" of Take: Takes::Number("A level", -96.0, 48.0, "dB");
    /// Root key.
    RootKey "root_key" of Take: Takes::Fitting(is_key, "A root is a key from 0 to 127.");
    /// Cents above the root.
    RecordingCents "recording_cents" of Take: Takes::Number("How far a recording lies above its root", -1_200.0, 1_200.0, "cents");
    /// The stretch whose pitch counts, as its first frame and the first after it.
    PitchStretch "pitch_stretch" of Take: Takes::Fitting(is_stretch, "A stretch must end after it starts.");
    /// Whether it has no pitch of its own: a chord, a noise.
    NoPitch "no_pitch" of Take: Takes::Switch;
    /// Cents added on playing, beyond what corrects the recording.
    TuneCents "tune_cents" of Take: Takes::Number("Tuning", -1_200.0, 1_200.0, "cents");
    /// Its loop, which may be evened; `null` is none.
    Loop "loop" of Take: Takes::Fitting(is_loop, "A loop must end after it starts."), rendered;
    /// The version of measuring whose measurement counts; the first that measured it does, where none is said.
    MeasuredBy "measured_by" of Take: Takes::Whole("A version", 0, signal::MEASURE_VERSION as u64);
    /// Whether it is the chosen one of its cell; the newest is, where none is said to be.
    Chosen "chosen" of Take: Takes::Switch;
}

impl Fact {
    fn row(self) -> &'static Row {
        // Rows stand in the order of the facts: they are written together.
        &ROWS[self as usize]
    }

    /// As it is kept.
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// Of what it is said.
    pub fn about(self) -> About {
        self.row().about
    }

    /// By its name; `None` where there is none of that name.
    pub fn named(name: &str) -> Option<Self> {
        ROWS.iter().find(|row| row.name == name).map(|row| row.fact)
    }

    /// Whether it can be said of a kind of target.
    pub fn is_of(self, about: About) -> bool {
        let Row { about: of, also, .. } = self.row();
        *of == about || *also == Some(about)
    }

    /// All facts of a kind of target.
    pub fn of(about: About) -> impl Iterator<Item = Self> {
        ROWS.iter()
            .map(|row| row.fact)
            .filter(move |fact| fact.is_of(about))
    }

    /// Whether it is a stage of [`signal::Cleaning`]: the field of its name.
    pub fn is_stage(self) -> bool {
        matches!(self.row().takes, Takes::Stage)
    }

    /// Whether saying it may alter samples: a stage of cleaning, or the loop that is evened.
    pub fn is_rendered(self) -> bool {
        self.row().rendered
    }

    /// Why a value does not fit, as a sentence.
    pub(crate) fn refuses(self, value: &Value) -> Option<String> {
        match self.row().takes {
            Takes::Text(most) => {
                let fits = |text: &str| !text.trim().is_empty() && text.chars().count() <= most;
                (!value.as_str().is_some_and(fits)).then(|| format!("A name has 1 to {most} letters."))
            }
            Takes::Whole(of, low, high) => (!value.as_u64().is_some_and(|x| (low..=high).contains(&x)))
                .then(|| format!("{of} is a whole number from {low} to {high}.")),
            Takes::Number(of, low, high, unit) => {
                let fits = value.as_f64().is_some_and(|x| (low..=high).contains(&x));
                (!fits).then(|| format!("{of} lies between {} and {} {unit}.", signed(low), signed(high)))
            }
            Takes::Switch => (!value.is_boolean()).then(|| format!("{} is yes or no.", self.name())),
            Takes::Fitting(fits, sentence) => (!fits(value)).then(|| sentence.to_owned()),
            Takes::Stage => (!crate::stages::stage_fits(self.name(), value))
                .then(|| format!("{value} does not fit {}.", self.name())),
        }
    }
}

/// With a minus that is one.
fn signed(x: f64) -> String {
    x.to_string().replace('-', "−")
}

/// Everything said of an instrument, by target and field.
pub type Facts = BTreeMap<(Target, Fact), Value>;

/// What was said of the instrument itself; `None` where nothing was, and where it cannot be read.
pub fn said_of<T: DeserializeOwned>(facts: &Facts, fact: Fact) -> Option<T> {
    said_about(facts, Target::Instrument, fact)
}

/// The same of any target.
pub fn said_about<T: DeserializeOwned>(facts: &Facts, target: Target, fact: Fact) -> Option<T> {
    serde_json::from_value(facts.get(&(target, fact))?.clone()).ok()
}

/// What stands in a field.
pub(crate) fn standing(facts: &Facts, target: Target, fact: Fact) -> Said {
    facts
        .get(&(target, fact))
        .cloned()
        .map_or(Said::Automatic, Said::Value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn every_fact_has_its_row_and_a_name_of_its_own() {
        for (n, row) in ROWS.iter().enumerate() {
            assert_eq!(row.fact as usize, n);
            assert_eq!(Fact::named(row.name), Some(row.fact));
            assert_eq!(json!(row.fact), json!(row.name));
        }
    }

    #[test]
    fn what_does_not_fit_is_refused_with_a_sentence() {
        for (fact, value, says) in [
            (Fact::GainDb, json!(60.0), "A level lies between −96 and 48 dB."),
            (
                Fact::RoundRobins,
                json!(0),
                "The number of round robins is a whole number from 1 to 64.",
            ),
            (Fact::Name, json!("  "), "A name has 1 to 120 letters."),
            (
                Fact::Loop,
                json!({"start_frame": 9, "end_frame": 3, "crossfade_frames": 0}),
                "A loop must end after it starts.",
            ),
            (Fact::SetAside, json!(1), "set_aside is yes or no."),
            (
                Fact::StrandController,
                json!({"controller": 130, "low": 0, "high": 127, "fade": 0}),
                CONTROLLER_SAYS,
            ),
            (
                Fact::StrandByKey,
                json!({"key": 200, "held": false}),
                "What chooses is a key from 0 to 127.",
            ),
        ] {
            assert_eq!(fact.refuses(&value).as_deref(), Some(says));
        }
        assert_eq!(Fact::GainDb.refuses(&json!(-3)), None);
        assert_eq!(Fact::HoldHighMs.refuses(&Value::Null), None);
    }
}
