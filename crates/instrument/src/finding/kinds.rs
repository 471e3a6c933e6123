//! What can be wrong with an instrument: one table. From it follow what a finding is called, at which step it is mended, in which unit it is measured, from
//! which limit on it is one, where that limit comes from, and how bad it is.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A step of the job, as far as something is mended there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// What is recorded.
    Plan,
    /// Recording.
    Record,
    /// Start, end, level, cleaning.
    Trim,
    /// Root and cents.
    Tune,
    /// Loops.
    Loop,
    /// Keys and strikes.
    Map,
    /// How it plays.
    Shape,
    /// What whoever plays it moves.
    Panel,
    /// What is given away.
    Export,
}

/// In what something is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// Nothing is measured: it is so or not.
    None,
    /// dB between two.
    Db,
    /// dB under full scale, or under a take's own peak.
    Level,
    /// Cents.
    Cents,
    /// Semitones.
    Semitones,
    /// Milliseconds.
    Ms,
    /// Frames.
    Frames,
    /// Keys.
    Keys,
    /// Likeness, −1 to 1.
    Likeness,
    /// Voices, regions, names.
    Count,
}

/// How many times its limit something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Times {
    /// It is so or not.
    So,
    /// How much, by the limit.
    Over,
    /// Amplitude by that of the limit: both in dB.
    Level,
    /// The limit by how much: less is worse. Amplitudes where both are in dB.
    Under,
    /// By how much of the way from 1 down to the limit it is further.
    Likeness,
}

pub(super) struct Row {
    pub(super) kind: FindingKind,
    pub(super) name: &'static str,
    pub(super) title: &'static str,
    pub(super) step: Step,
    pub(super) unit: Unit,
    pub(super) times: Times,
    pub(super) limit: f64,
    /// How bad it is at its limit, 1 to 3.
    pub(super) weight: f64,
    /// Where the limit comes from.
    pub(super) because: &'static str,
}

macro_rules! kinds {
    ($( $(#[$says:meta])* $kind:ident $name:literal $title:literal at $step:ident: $unit:ident $times:ident $limit:literal, weight $weight:literal, $because:expr; )*) => {
        /// Something that can be wrong.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
        #[serde(rename_all = "snake_case")]
        pub enum FindingKind {
            $( $(#[$says])* $kind, )*
        }

        pub(super) const ROWS: &[Row] = &[
            $( Row {
                kind: FindingKind::$kind,
                name: $name,
                title: $title,
                step: Step::$step,
                unit: Unit::$unit,
                times: Times::$times,
                limit: $limit,
                weight: $weight,
                because: $because,
            }, )*
        ];
    };
}

const SO: &str = "It is so or not.";

kinds! {
    // What is recorded.
    /// A cell of the plan without a take.
    NotRecorded "not_recorded" "Not recorded" at Record: None So 0.0, weight 1.5, SO;
    /// Every sample of it is 0.
    Silent "silent" "Silent" at Record: None So 0.0, weight 3.0, SO;
    /// The first takes tell that the plan does not fit what is recorded.
    PlanDiffers "plan_differs" "The plan does not fit" at Plan: None So 0.0, weight 1.0, SO;
    /// No pitch was heard where one is wanted.
    NoNote "no_note" "No note is heard" at Tune: None So 0.0, weight 2.0, SO;
    /// Another note than the cell's.
    WrongNote "wrong_note" "Another note" at Tune: Cents Over 60.0, weight 3.0, "Half a semitone and a little, since a bar may be out of tune: common practice.";
    /// The right note in another octave.
    WrongOctave "wrong_octave" "Wrong octave" at Tune: None So 0.0, weight 3.0, SO;
    /// Samples at the converter's end.
    Clipped "clipped" "Clipped" at Record: Frames Over 2.0, weight 2.0, "Three equal samples in a row at full scale are clipped: common practice.";
    /// Tops that are flat, under full scale.
    FlatTopped "flat_topped" "Flat-topped" at Record: Frames Over 8.0, weight 2.0, "Runs of equal samples at the highest level, as an overdriven input leaves them: common practice.";
    /// Under its layer's window.
    TooSoft "too_soft" "Too soft for its layer" at Record: Db So 0.0, weight 1.0, "The window of its layer, from the strikes before.";
    /// Over its layer's window.
    TooLoud "too_loud" "Too loud for its layer" at Record: Db So 0.0, weight 1.0, "The window of its layer, from the strikes before.";
    /// Little over the noise.
    Noisy "noisy" "Little over the noise" at Record: Level Under 20.0, weight 2.0, "A take should stand 20 dB out of the noise: common practice.";
    /// A door, a chair, a voice.
    AnotherSound "another_sound" "Another sound in it" at Record: Db Over 9.0, weight 2.0, "What rises by 9 dB out of a sound that fades is another one: common practice.";
    /// Begun before it was asked for.
    TooEarly "too_early" "Begun too early" at Record: None So 0.0, weight 2.0, SO;
    /// Too short to be of use.
    TooShort "too_short" "Too short" at Record: Ms So 0.0, weight 2.0, SO;
    /// Frames did not arrive.
    LostFrames "lost_frames" "Frames are missing" at Record: Frames So 0.0, weight 3.0, SO;
    /// Its recording ended in its middle.
    CutShort "cut_short" "Cut short" at Record: None So 0.0, weight 2.0, SO;
    /// Its recording ended before its sound did: a page was closed, or Ladder ended.
    BrokenOff "broken_off" "Broken off" at Record: None So 0.0, weight 2.0, SO;
    /// It ends while it still sounds, and has no loop.
    TailCut "tail_cut" "Tail cut short" at Record: Level Level -48.0, weight 1.5, "What is 48 dB under the loudest when it ends is not missed: common practice.";
    /// Another note still sounds as it begins.
    NoteBefore "note_before" "Another note rings into it" at Record: Level Level -40.0, weight 1.5, "What is 40 dB under a note is hidden by it (masking, common practice).";
    /// Two takes of one cell are the same recording.
    SameRecording "same_recording" "The same recording twice" at Record: None So 0.0, weight 2.0, SO;
    /// Round robins differ more than layers do.
    UnlikeTurns "unlike_turns" "Round robins differ" at Record: Db Over 3.0, weight 1.0, "Turns that are 3 dB apart sound like two strengths: common practice.";

    // Trim.
    /// It is heard late.
    SilenceFirst "silence_first" "Silence before the sound" at Trim: Ms Over 10.0, weight 1.5, "A player feels a delay of 10 ms: common practice.";
    /// Its first moments are left out.
    AttackCut "attack_cut" "Attack cut" at Trim: Level Level -30.0, weight 3.0, "What is left out within 30 dB of what follows is missed.";
    /// Its first frame is a step.
    PopAtStart "pop_at_start" "Pop at its start" at Trim: Level Level -40.0, weight 2.0, "A step of a hundredth of the loudest is heard as a click: common practice.";
    /// Its last frame is a step.
    PopAtEnd "pop_at_end" "Pop at its end" at Trim: Level Level -50.0, weight 2.0, "A step into silence is heard sooner than one into a sound: common practice.";
    /// Its mean is not 0.
    Dc "dc" "DC" at Trim: Level Level -46.0, weight 1.0, "Half a hundredth of full scale clicks at either end of a note: common practice.";
    /// Mains hum.
    Hum "hum" "Hum" at Trim: Level Level -54.0, weight 1.5, "Under a take's loudest; heard in every tail, and once more with each voice of a chord: common practice.";
    /// Broadband noise.
    Hiss "hiss" "Hiss" at Trim: Level Level -48.0, weight 1.0, "Under a take's loudest; ten voices add 10 dB: common practice.";
    /// Under what it can have itself.
    Rumble "rumble" "Rumble" at Trim: Level Level -40.0, weight 1.0, "Under a take's loudest, below its lowest partial: common practice.";
    /// One side is louder, where its neighbours' are not.
    Leans "leans" "Leans to one side" at Trim: Db Over 3.0, weight 1.0, "A source is heard to move from about 3 dB between the sides on: common practice.";
    /// One side is silent.
    DeadSide "dead_side" "One side is silent" at Trim: None So 0.0, weight 3.0, SO;
    /// The sides cancel each other.
    SidesAgainst "sides_against" "Sides against each other" at Trim: Likeness Likeness -0.3, weight 2.0, "Under −0.3 most is lost where both sides are summed: common practice. Two mics far apart do that on all keys: what its neighbours do too is none.";
    /// Louder or softer than its neighbours.
    LevelStep "level_step" "Level steps" at Trim: Db Over 3.0, weight 1.5, "From its layer's own curve along the ladder; 1 dB is the least that is heard, 3 dB is heard by all: common practice.";
    /// Brighter or duller than its neighbours.
    BrightnessStep "brightness_step" "Brightness steps" at Trim: Semitones Over 7.0, weight 1.0, "The middle of its spectrum, beside its layer's own curve: a fifth.";

    // Tune.
    /// Off the ladder's curve, as it plays.
    OffPitch "off_pitch" "Out of tune" at Tune: Cents Over 5.0, weight 1.5, "About the least difference of pitch that is heard: handbooks of acoustics, from memory.";
    /// Its root says another key than its pitch.
    RootDiffers "root_differs" "Root and pitch contradict" at Tune: Cents Over 60.0, weight 3.0, "Half a semitone and a little.";

    // Loop.
    /// It wants a loop and has none.
    NoLoop "no_loop" "No loop" at Loop: None So 0.0, weight 2.0, SO;
    /// Its seams stand out.
    SeamStandsOut "seam_stands_out" "Loop is heard" at Loop: Db Over 0.5, weight 1.5, "By more than it changes by itself (see the guide, «stands out»).";
    /// Its level moves as it goes round.
    LoopPumps "loop_pumps" "Loop pumps" at Loop: Db Over 3.0, weight 1.0, "Over what its neighbours do; loops made by hand move by 2.3 to 3.7 dB in all.";
    /// Its level drifts from its start to its end.
    LoopDrifts "loop_drifts" "Loop drifts" at Loop: Db Over 3.0, weight 1.0, "A level that falls back by 3 dB each round is heard: common practice.";
    /// So short that it buzzes.
    LoopBuzzes "loop_buzzes" "Loop buzzes" at Loop: Ms Under 30.0, weight 1.5, "A loop of under 30 ms freezes every beat and is a tone of its own at the top of its range: common practice.";
    /// A pad stands still in it.
    LoopStandsStill "loop_stands_still" "Loop stands still" at Loop: None So 0.0, weight 1.0, "A pad moves: a loop of a second and more is wanted.";

    // Layers.
    /// A louder layer is softer than the one under it.
    NotLouder "not_louder" "A louder layer is not louder" at Trim: Db Over 1.0, weight 2.0, "1 dB is the least difference that is heard.";
    /// A louder layer is duller than the one under it.
    NotBrighter "not_brighter" "A louder layer is not brighter" at Trim: Semitones Over 4.0, weight 1.0, "Harder strikes sound brighter: common practice.";

    // Map.
    /// Keys within a strand that nothing answers.
    Gap "gap" "Keys without a sound" at Map: Keys So 0.0, weight 2.0, SO;
    /// Keys that two regions of a strand answer.
    Overlap "overlap" "Two sounds on the same keys" at Map: Keys So 0.0, weight 1.5, SO;
    /// A region that is stretched far.
    Stretched "stretched" "Stretched far" at Map: Keys Over 4.0, weight 1.0, "Neighbours three to four keys apart are not told from each other, a fifth is: common practice.";
    /// A strand that nothing can sound.
    NeverHeard "never_heard" "Never heard" at Map: None So 0.0, weight 2.0, SO;

    // As it sounds.
    /// A key that has regions is silent.
    SilentKey "silent_key" "Silent key" at Map: None So 0.0, weight 3.0, SO;
    /// A key is louder or softer than its neighbours.
    KeyLevelSteps "key_level_steps" "Level steps along the keys" at Trim: Db Over 4.0, weight 1.5, "As played, from the curve of all keys at that strike; 3 dB are heard by all, and a stretched neighbour has its own: common practice.";
    /// A harder strike is softer.
    StrikeLevelSteps "strike_level_steps" "A harder strike is softer" at Shape: Db Over 1.0, weight 2.0, "1 dB is the least difference that is heard.";
    /// A key is off its pitch.
    KeyOffPitch "key_off_pitch" "Key out of tune" at Tune: Cents Over 10.0, weight 1.5, "As played, from its neighbours; two neighbours within 5 cents each are 10 apart at most.";
    /// A key is brighter or duller than its neighbours.
    KeyBrightnessSteps "key_brightness_steps" "Brightness steps along the keys" at Map: Semitones Over 9.0, weight 1.0, "As played, from the curve of all keys at that strike; a recording that serves its neighbours takes its spectrum along, four keys up or down: common practice.";
    /// A harder strike is duller.
    StrikeBrightnessSteps "strike_brightness_steps" "A harder strike is duller" at Shape: Semitones Over 4.0, weight 1.0, "Harder strikes sound brighter: common practice.";
    /// A key begins with a click.
    ClickAtKeyDown "click_at_key_down" "Click as the key goes down" at Shape: Level Level -40.0, weight 2.0, "A step of a hundredth of the loudest is heard as a click: common practice.";
    /// A key ends with a click.
    ClickAtKeyUp "click_at_key_up" "Click as the key comes up" at Shape: Level Level -50.0, weight 2.0, "A step into silence is heard sooner than one into a sound: common practice.";
    /// A note that another cuts off, or whose voice another takes, ends with a click.
    ClickAsCut "click_as_cut" "Click as it is cut off" at Shape: Level Level -50.0, weight 2.0, "A step into silence is heard sooner than one into a sound: common practice.";
    /// A note goes on though its key came up.
    Hangs "hangs" "Note hangs" at Shape: Ms Over 10_000.0, weight 2.0, "Ten seconds after its key came up nothing is waited for: common practice.";
    /// What sounds on key-up is louder than the note was.
    KeyUpLoud "key_up_loud" "Key-up sound is loud" at Shape: Db Over 6.0, weight 1.0, "Over the level at which the note was let go: common practice.";
    /// Somebody heard something, and marked its key.
    Marked "marked" "Marked by ear" at Map: None So 0.0, weight 1.0, "Whoever walked along the keys said so.";
    /// Voices are taken from a chord.
    TooFewVoices "too_few_voices" "Too few voices for a chord" at Shape: Count So 0.0, weight 2.0, "Ten keys, as many as hands have fingers, each with all that sounds on it.";
    /// A chord goes over full scale.
    NoHeadroom "no_headroom" "No headroom" at Shape: Db Over 1.0, weight 1.5, "Ten keys struck hard, over full scale: common practice.";
    /// Louder or softer than the instruments of the shelf are meant to be.
    OffShelf "off_shelf" "Far from the shelf's loudness" at Shape: Db Over 6.0, weight 1.0, "One key struck 100, beside the loudness that the settings have for the shelf; from one instrument to the next nobody should have to reach for a fader: common practice.";

    // What is written.
    /// A format cannot hold it.
    FormatLoss "format_loss" "Cannot be written" at Export: Count So 0.0, weight 1.0, "What the format's own text says it holds.";
    /// A name that a format cuts.
    NameCut "name_cut" "Name is cut" at Export: Count Over 19.0, weight 1.0, "SoundFont 2.04 has 20 bytes for a name, and there are readers that want the last to be zero.";
    /// Two that are called the same.
    SameName "same_name" "The same name twice" at Export: Count So 0.0, weight 1.0, SO;
    /// Larger, or of more parts, than a format counts.
    OverFormat "over_format" "More than a format holds" at Export: None So 0.0, weight 3.0, "The widths of a format's own numbers.";
    /// A loop that is shorter than a format allows.
    LoopTooShort "loop_too_short" "Loop is too short for a format" at Export: Frames Under 32.0, weight 1.5, "SoundFont 2.04, section 7.10: at least 32 frames.";
}

impl FindingKind {
    pub(super) fn row(self) -> &'static Row {
        // Rows stand in the order of their kinds.
        &ROWS[self as usize]
    }

    /// All of them.
    pub fn all() -> impl Iterator<Item = Self> {
        ROWS.iter().map(|row| row.kind)
    }

    /// As it is kept and sent.
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// The kind of that name.
    pub fn of(name: &str) -> Option<Self> {
        Some(ROWS.iter().find(|row| row.name == name)?.kind)
    }

    /// As it is called.
    pub fn title(self) -> &'static str {
        self.row().title
    }

    /// Where it is mended.
    pub fn step(self) -> Step {
        self.row().step
    }

    /// In what it is measured.
    pub fn unit(self) -> Unit {
        self.row().unit
    }

    /// From where on it is one, by itself; 0 for what is so or not.
    pub fn limit(self) -> f64 {
        self.row().limit
    }

    /// Whether it has a limit that can be set.
    pub fn has_limit(self) -> bool {
        self.row().times != Times::So
    }

    /// Where its limit comes from: a sentence.
    pub fn because(self) -> &'static str {
        self.row().because
    }

    /// How bad it is at its limit, 1 to 3.
    pub fn weight(self) -> f64 {
        self.row().weight
    }

    /// How many times its limit so much of it is: 1 at the limit, above that it is a finding.
    pub fn times(self, how_much: f64, limit: f64) -> f64 {
        match self.row().times {
            Times::So => 1.0,
            Times::Over => how_much.abs() / limit.max(1e-9),
            Times::Level => 10f64.powf((how_much - limit) / 20.0),
            Times::Under if self.unit() == Unit::Level => 10f64.powf((limit - how_much) / 20.0),
            Times::Under => limit / how_much.max(1e-9),
            Times::Likeness => (1.0 - how_much) / (1.0 - limit).max(1e-9),
        }
    }

    /// How much of it is so many times a limit: what [`Self::times`] takes back.
    pub fn how_much(self, times: f64, limit: f64) -> f64 {
        match self.row().times {
            Times::So => 0.0,
            Times::Over => limit * times,
            Times::Level => limit + 20.0 * times.log10(),
            Times::Under if self.unit() == Unit::Level => limit - 20.0 * times.log10(),
            Times::Under => limit / times,
            Times::Likeness => 1.0 - (1.0 - limit) * times,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_stand_in_the_order_of_their_kinds_and_names_are_theirs_alone() {
        for (place, row) in ROWS.iter().enumerate() {
            assert_eq!(row.kind as usize, place);
            assert_eq!(FindingKind::of(row.name), Some(row.kind));
            let sent = serde_json::to_value(row.kind).unwrap();
            assert_eq!(sent, row.name, "kept and sent alike");
            assert!(row.title.len() > 1 && !row.because.is_empty());
            assert!((1.0..=3.0).contains(&row.weight));
        }
    }

    #[test]
    fn how_much_is_so_many_times_its_limit_and_back() {
        for kind in FindingKind::all().filter(|kind| kind.has_limit()) {
            let limit = kind.limit();
            assert!((kind.times(limit, limit) - 1.0).abs() < 1e-9, "{kind:?}");
            for times in [1.2, 2.0, 4.0] {
                let back = kind.times(kind.how_much(times, limit), limit);
                assert!((back - times).abs() < 1e-9, "{kind:?} {times}: {back}");
            }
        }
        // Twice the amplitude is 6.02 dB.
        let hum = FindingKind::Hum;
        assert!((hum.how_much(2.0, -54.0) + 47.98).abs() < 0.01);
        assert!(
            (FindingKind::LevelStep.times(-6.0, 3.0) - 2.0).abs() < 1e-9,
            "either way"
        );
    }
}
