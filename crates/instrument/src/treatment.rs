//! What is done to a take without altering it: suggested by measurement, corrected by hand.

use crate::{Cell, Inside, Kind, Plan};
use program::{FadeCurve, Loop, LoopRuns, LoopWay};
use serde::{Deserialize, Serialize};
use signal::{
    Cleaning, LIVELY_S, LoopCandidate, LoopFacts, Measurement, PLAINLY_HEARD_DB, Pitch, Places, PlayedLoop,
};
use utoipa::ToSchema;

/// Room before the sound: "a hair" (a few ms, common practice).
const ROOM_MS: f64 = 2.0;
/// "Short fades at both ends, a couple of ms at least" (common practice).
const FADE_IN_MS: f64 = 1.0;
const FADE_OUT_MS: f64 = 20.0;
/// What is cut off in its sound is not faded as if it had died away: no longer than a click needs.
const CUT_OFF_FADE_MS: f64 = 2.0;
/// Measured from this version on; an end that is less sure lies within 33 dB of the loudest.
const CUT_OFF_SINCE: u32 = 6;
const CUT_OFF_SURE: f64 = 0.5;
/// A pitch is believed from here on, where it is the planned one a little sooner: that both agree is evidence.
const SURE: f64 = 0.5;
const SURE_AS_PLANNED: f64 = 0.4;
/// A pitch further from its cell's key than this is another note: the root follows the pitch.
pub const ANOTHER_NOTE_CENTS: f64 = 60.0;

/// A loop as the maker sets it. Frames count from the take's first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TakeLoop {
    /// First frame of the loop.
    pub start_frame: u64,
    /// First frame after the loop.
    pub end_frame: u64,
    /// Crossfade before the end.
    pub crossfade_frames: u64,
    /// How alike what is crossfaded is, 0 to 100; see [`program::crossfade_gains`].
    #[serde(default = "alike")]
    pub likeness_percent: u8,
    /// Which way it is gone.
    #[serde(default)]
    pub way: LoopWay,
    /// When it is left.
    #[serde(default = "through_release")]
    pub runs: LoopRuns,
}

fn alike() -> u8 {
    100
}

fn through_release() -> LoopRuns {
    LoopRuns::ThroughRelease
}

impl TakeLoop {
    /// A forward loop of ends that are alike.
    pub fn plain(start_frame: u64, end_frame: u64, crossfade_frames: u64) -> Self {
        Self {
            start_frame,
            end_frame,
            crossfade_frames,
            likeness_percent: alike(),
            way: LoopWay::Forward,
            runs: through_release(),
        }
    }

    /// As it is judged.
    pub fn played(&self) -> PlayedLoop {
        PlayedLoop {
            start_frame: self.start_frame as usize,
            end_frame: self.end_frame as usize,
            crossfade_frames: self.crossfade_frames as usize,
            likeness_percent: self.likeness_percent,
        }
    }

    /// A loop that was found, crossfaded as its ends want it.
    pub fn found(candidate: &LoopCandidate) -> Self {
        Self {
            likeness_percent: candidate.likeness_percent,
            ..Self::plain(
                candidate.start_frame as u64,
                candidate.end_frame as u64,
                candidate.crossfade_frames as u64,
            )
        }
    }
}

/// What follows from the measurement of a take.
pub type Suggestion = Treatment;

/// Everything done to a take. Frames count from the take's first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Treatment {
    /// First frame heard.
    pub start_frame: u64,
    /// First frame not heard.
    pub end_frame: u64,
    /// Length of the fade-in.
    pub fade_in_frames: u64,
    /// Length of the fade-out.
    pub fade_out_frames: u64,
    /// The course of both.
    #[serde(default)]
    pub fade_curve: FadeCurve,
    /// −1 left to 1 right.
    #[serde(default)]
    pub pan: f64,
    /// What alters its samples: it is rendered, the recording stays.
    #[serde(default)]
    pub cleaning: Cleaning,
    /// Level.
    pub gain_db: f64,
    /// The key at which it sounds as recorded.
    pub root_key: u8,
    /// How far the recording lies above its root.
    pub recording_cents: f64,
    /// Added on playing, beyond what corrects the recording: 0 is equal temperament.
    #[serde(default)]
    pub tune_cents: f64,
    /// `None` plays to its end.
    #[serde(rename = "loop")]
    pub looped: Option<TakeLoop>,
}

/// What the user said of a take; what is `None` stays automatic. `looped: Some(None)` says "no loop".
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Correction {
    /// See [`Treatment`].
    pub start_frame: Option<u64>,
    /// See [`Treatment`].
    pub end_frame: Option<u64>,
    /// See [`Treatment`].
    #[serde(default)]
    pub fade_in_frames: Option<u64>,
    /// See [`Treatment`].
    #[serde(default)]
    pub fade_out_frames: Option<u64>,
    /// See [`Treatment`].
    #[serde(default)]
    pub fade_curve: Option<FadeCurve>,
    /// See [`Treatment`].
    #[serde(default)]
    pub pan: Option<f64>,
    /// See [`Treatment`]: what is off was not said.
    #[serde(default)]
    pub cleaning: Cleaning,
    /// See [`Treatment`].
    #[serde(default)]
    pub tune_cents: Option<f64>,
    /// See [`Treatment`].
    pub gain_db: Option<f64>,
    /// See [`Treatment`].
    pub root_key: Option<u8>,
    /// See [`Treatment`].
    pub recording_cents: Option<f64>,
    /// The stretch whose pitch was taken, where it was chosen.
    #[serde(default)]
    pub pitch_stretch: Option<[u64; 2]>,
    /// Whether it has no pitch of its own: its root is what its maker says, else its cell's key.
    #[serde(default)]
    pub no_pitch: bool,
    /// See [`Treatment`].
    #[serde(
        rename = "loop",
        default,
        with = "double_option",
        skip_serializing_if = "Option::is_none"
    )]
    #[schema(value_type = Option<TakeLoop>)]
    pub looped: Option<Option<TakeLoop>>,
}

impl Correction {
    /// The same, of a take that was made for a cell of a plan: a chord has no pitch of its own.
    pub fn made_for(self, plan: &Plan, cell: Cell) -> Self {
        Self {
            no_pitch: self.no_pitch || plan.strikes_chord(cell),
            ..self
        }
    }
}

/// `null` is "no loop", an absent field is "automatic".
mod double_option {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub fn serialize<T: Serialize, S: Serializer>(
        value: &Option<Option<T>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        value.as_ref().and_then(Option::as_ref).serialize(serializer)
    }

    pub fn deserialize<'de, T: Deserialize<'de>, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Option<T>>, D::Error> {
        Option::<T>::deserialize(deserializer).map(Some)
    }
}

/// What was measured of a take, heard for its cell's `key`: see [`Measurement::hinted`].
pub fn heard_for(key: u8, measured: Measurement) -> Measurement {
    measured.hinted(key, ANOTHER_NOTE_CENTS)
}

fn name_of(all: &impl Serialize) -> String {
    let all = serde_json::to_vec(all).unwrap_or_default();
    blake3::hash(&all).to_hex()[..16].to_owned()
}

/// Suggests a treatment for a take of a cell's `key`, from what was [`heard_for`] it. Where the pitch heard is sure and another note, the root
/// follows what was heard: a root is the truth about the recording. What stood inside the take's file goes before what was measured.
pub fn suggest(
    kind: Kind,
    key: u8,
    rate_hz: u32,
    frames: u64,
    facts: &Measurement,
    inside: Option<&Inside>,
) -> Suggestion {
    let ms = |value: f64| signal::frames_of_ms(rate_hz, value) as u64;
    let start_frame = (facts.start_frame as u64).saturating_sub(ms(ROOM_MS));
    let end_frame = (facts.end_frame as u64 + ms(FADE_OUT_MS))
        .min(frames)
        .max(start_frame + 1);
    // Cents count from the cell's key where the pitch is the planned one, else from the key heard.
    let over_key = |pitch: &Pitch| (f64::from(pitch.key) - f64::from(key)) * 100.0 + pitch.cents;
    let (root_key, recording_cents) = match facts.pitch {
        Some(pitch)
            if over_key(&pitch).abs() <= ANOTHER_NOTE_CENTS && pitch.confidence >= SURE_AS_PLANNED =>
        {
            (key, over_key(&pitch))
        }
        Some(pitch) if pitch.confidence >= SURE => (pitch.key, pitch.cents),
        _ => (key, 0.0),
    };
    let best = best_loop(kind, rate_hz, &facts.loops);
    // What is heard while the key is held is the loop.
    let held_cents = best.and_then(|best| best.held_cents);
    let recording_cents = recording_cents
        + held_cents
            .filter(|cents| cents.abs() < ANOTHER_NOTE_CENTS)
            .unwrap_or(0.0);
    let (root_key, recording_cents) = inside
        .and_then(|inside| Some((inside.root_key?, inside.recording_cents)))
        .unwrap_or((root_key, recording_cents));
    let measured = best.map(TakeLoop::found);
    let looped = inside
        .and_then(|inside| inside.looped)
        .filter(|l| l.start_frame < l.end_frame && l.end_frame <= frames)
        .map(|l| TakeLoop::plain(l.start_frame, l.end_frame, 0))
        .or(measured);
    // A loop from the file may reach beyond where the tail meets the noise.
    let end_frame = looped.map_or(end_frame, |l| end_frame.max(l.end_frame));
    let start_frame = looped.map_or(start_frame, |l| start_frame.min(l.start_frame));
    Treatment {
        start_frame,
        end_frame,
        fade_in_frames: ms(FADE_IN_MS),
        fade_out_frames: ms(if is_cut_off(facts, frames) {
            CUT_OFF_FADE_MS
        } else {
            FADE_OUT_MS
        }),
        fade_curve: FadeCurve::Straight,
        pan: 0.0,
        cleaning: Cleaning::default(),
        gain_db: 0.0,
        root_key,
        recording_cents: (recording_cents * 100.0).round() / 100.0,
        tune_cents: 0.0,
        looped,
    }
}

/// Whether a take ends in the midst of its sound.
pub fn is_cut_off(facts: &Measurement, frames: u64) -> bool {
    let sure = facts.end_sure.unwrap_or(1.0);
    facts.version >= CUT_OFF_SINCE && facts.end_frame as u64 >= frames && sure < CUT_OFF_SURE
}

/// The best place to loop a sound of a kind. A pad in a short loop stands still: one of a second and more is taken where there is one.
pub fn best_loop(kind: Kind, rate_hz: u32, places: &[LoopCandidate]) -> Option<&LoopCandidate> {
    let seconds = |place: &LoopCandidate| (place.end_frame - place.start_frame) as f64 / f64::from(rate_hz);
    let places = places.iter().filter(|_| kind.loops());
    let long_enough = |place: &&LoopCandidate| !stands_still(kind, seconds(place));
    places.clone().find(long_enough).or_else(|| places.clone().next())
}

/// Whether a sound of a kind stands still in a loop of so many seconds, where it should move.
pub fn stands_still(kind: Kind, seconds: f64) -> bool {
    kind == Kind::Pad && seconds < LIVELY_S
}

/// Whether a sound that its kind wants looped has no loop that serves it: none at all, one in which it stands still, or one whose seam is heard plainly.
pub fn wants_a_loop(kind: Kind, rate_hz: u32, facts: &Measurement) -> bool {
    if !kind.loops() || facts.version < CUT_OFF_SINCE {
        return false;
    }
    best_loop(kind, rate_hz, &facts.loops).is_none_or(|best| {
        let seconds = (best.end_frame - best.start_frame) as f64 / f64::from(rate_hz);
        stands_still(kind, seconds) || best.audible_db.is_some_and(|db| db > PLAINLY_HEARD_DB)
    })
}

/// Lays what the user said of a take of a cell's `key` over what was suggested, and keeps the result playable: bounds inside the take, the loop inside its frames.
pub fn treat(key: u8, suggestion: &Suggestion, said: &Correction, frames: u64) -> Treatment {
    let heard = if said.no_pitch {
        (key, 0.0)
    } else {
        (suggestion.root_key, suggestion.recording_cents)
    };
    let start_frame = said
        .start_frame
        .unwrap_or(suggestion.start_frame)
        .min(frames.saturating_sub(1));
    let end_frame = said
        .end_frame
        .unwrap_or(suggestion.end_frame)
        .clamp(start_frame + 1, frames.max(start_frame + 1));
    let looped = said.looped.unwrap_or(suggestion.looped).and_then(|l| {
        let end = l.end_frame.min(end_frame);
        let start = l.start_frame.max(start_frame);
        let turns = l.way == LoopWay::BackAndForth;
        let crossfade = if turns { 0 } else { l.crossfade_frames }
            .min(start.saturating_sub(start_frame))
            .min(end.saturating_sub(start));
        (start + 1 < end).then_some(TakeLoop {
            start_frame: start,
            end_frame: end,
            crossfade_frames: crossfade,
            ..l
        })
    });
    Treatment {
        start_frame,
        end_frame,
        // No fade is longer than the sound.
        fade_in_frames: said
            .fade_in_frames
            .unwrap_or(suggestion.fade_in_frames)
            .min(end_frame - start_frame),
        fade_out_frames: said
            .fade_out_frames
            .unwrap_or(suggestion.fade_out_frames)
            .min(end_frame - start_frame),
        fade_curve: said.fade_curve.unwrap_or(suggestion.fade_curve),
        pan: said.pan.unwrap_or(suggestion.pan),
        cleaning: said.cleaning,
        tune_cents: said.tune_cents.unwrap_or(suggestion.tune_cents),
        gain_db: said.gain_db.unwrap_or(suggestion.gain_db),
        root_key: said.root_key.unwrap_or(heard.0),
        recording_cents: said.recording_cents.unwrap_or(heard.1),
        looped,
    }
}

impl Treatment {
    /// Of a take that nothing is done to, and of which nothing is known.
    pub fn untouched(key: u8) -> Self {
        Self {
            start_frame: 0,
            end_frame: 1,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            pan: 0.0,
            cleaning: Cleaning::default(),
            gain_db: 0.0,
            root_key: key,
            recording_cents: 0.0,
            tune_cents: 0.0,
            looped: None,
        }
    }

    /// The loop as a program has it.
    pub fn program_loop(&self) -> Option<Loop> {
        self.looped.map(|l| Loop {
            start_frame: l.start_frame,
            end_frame: l.end_frame,
            crossfade_frames: l.crossfade_frames,
            likeness_percent: l.likeness_percent,
            way: l.way,
            runs: l.runs,
        })
    }

    /// Where it sounds, for what cleans it.
    pub fn places(&self, facts: &Measurement) -> Places {
        Places {
            start_frame: facts.start_frame,
            end_frame: facts.end_frame,
            looped: self
                .looped
                .map(|l| (l.start_frame as usize, l.end_frame as usize)),
        }
    }

    /// A name for what cleaning makes of a take, the same for the same; `None` where nothing is to be cleaned.
    pub fn cleaned_name(&self, facts: &Measurement) -> Option<String> {
        if self.cleaning.is_empty() {
            return None;
        }
        let mut places = self.places(facts);
        // Only evening looks at the loop: moving it changes nothing else.
        places.looped = places.looped.filter(|_| self.cleaning.evening.is_some());
        Some(name_of(&(signal::CLEAN_VERSION, self.cleaning, places)))
    }

    /// What its loop is worth, as far as measuring the recording found it.
    pub fn measured_loop(&self, facts: &Measurement) -> Option<LoopFacts> {
        let held = self.looped.filter(|_| self.cleaning.is_empty())?;
        let found = facts.loops.iter().find(|found| {
            let found = TakeLoop::found(found);
            (found.start_frame, found.end_frame, found.crossfade_frames)
                == (held.start_frame, held.end_frame, held.crossfade_frames)
        })?;
        Some(found.into())
    }

    /// A name for its loop and what it is a loop of, the same for the same; `None` where there is none, or where it turns in place and so has no seam.
    pub fn loop_name(&self, facts: &Measurement) -> Option<String> {
        let held = self.looped.filter(|l| l.way == LoopWay::Forward)?;
        Some(name_of(&(
            self.cleaned_name(facts),
            held.start_frame,
            held.end_frame,
            held.crossfade_frames,
            held.likeness_percent,
        )))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::InsideLoop;

    pub(crate) fn facts(key: u8, cents: f64) -> Measurement {
        let hz = signal::hz_of_key(f64::from(key) + cents / 100.0);
        let tone: Vec<f32> = (0..96_000)
            .map(|n| {
                if n < 4_800 {
                    0.0
                } else {
                    ((n as f64 * hz / 48_000.0 * std::f64::consts::TAU).sin() * 0.5) as f32
                }
            })
            .collect();
        signal::measure(&signal::Audio::mono(48_000, tone))
    }

    #[test]
    fn a_take_of_another_note_keeps_its_true_root() {
        let flat = suggest(Kind::Sustained, 57, 48_000, 96_000, &facts(57, -18.0), None);
        assert_eq!(flat.root_key, 57);
        assert!((flat.recording_cents + 18.0).abs() < 0.5);
        let wrong = suggest(Kind::Sustained, 57, 48_000, 96_000, &facts(58, 10.0), None);
        assert_eq!(wrong.root_key, 58);
    }

    #[test]
    fn a_pad_gets_a_loop_of_seconds_where_there_is_one() {
        let mut facts = facts(57, 0.0);
        let first = *facts.loops.first().expect("a steady tone has loops");
        let of = |seconds: usize| LoopCandidate {
            end_frame: first.start_frame + seconds * 12_000,
            ..first
        };
        facts.loops = vec![of(1), of(2), of(5), of(6)];
        let length = |kind| {
            let looped = suggest(kind, 57, 48_000, 96_000, &facts, None).looped;
            looped.map(|l| l.end_frame - l.start_frame)
        };
        assert_eq!(length(Kind::Sustained), Some(12_000));
        assert_eq!(length(Kind::Pad), Some(60_000));
        assert_eq!(length(Kind::Struck), None);
        facts.loops.truncate(2);
        let short = suggest(Kind::Pad, 57, 48_000, 96_000, &facts, None);
        assert_eq!(short.looped.map(|l| l.end_frame - l.start_frame), Some(12_000));
        // Which serves a pad badly, and an organ well; and what is struck wants none.
        let wants = |kind, facts: &Measurement| wants_a_loop(kind, 48_000, facts);
        assert!(wants(Kind::Pad, &facts) && !wants(Kind::Sustained, &facts) && !wants(Kind::Struck, &facts));
        facts.loops.clear();
        assert!(wants(Kind::Sustained, &facts) && !wants(Kind::Struck, &facts));
    }

    #[test]
    fn a_doubtful_pitch_is_believed_where_it_is_the_planned_one() {
        let doubtful = |key, cents| {
            let mut facts = facts(key, cents);
            facts.pitch = facts.pitch.map(|pitch| Pitch {
                confidence: 0.45,
                ..pitch
            });
            suggest(Kind::Sustained, 57, 48_000, 96_000, &facts, None)
        };
        assert!((doubtful(57, 20.0).recording_cents - 20.0).abs() < 0.5);
        let other = doubtful(64, 20.0);
        assert_eq!((other.root_key, other.recording_cents), (57, 0.0));
    }

    #[test]
    fn what_stood_inside_a_file_goes_before_what_was_measured() {
        let inside = Inside {
            root_key: Some(60),
            recording_cents: -7.0,
            looped: Some(InsideLoop {
                start_frame: 20_000,
                end_frame: 90_000,
            }),
        };
        let taken = suggest(Kind::Struck, 57, 48_000, 96_000, &facts(57, 0.0), Some(&inside));
        assert_eq!((taken.root_key, taken.recording_cents), (60, -7.0));
        assert_eq!(
            taken.looped.map(|l| (l.start_frame, l.end_frame)),
            Some((20_000, 90_000))
        );
        let beyond = Inside {
            looped: Some(InsideLoop {
                start_frame: 20_000,
                end_frame: 97_000,
            }),
            ..inside
        };
        assert_eq!(
            suggest(Kind::Struck, 57, 48_000, 96_000, &facts(57, 0.0), Some(&beyond)).looped,
            None
        );
    }

    #[test]
    fn what_was_said_stands_over_what_was_suggested() {
        let suggestion = suggest(Kind::Sustained, 57, 48_000, 96_000, &facts(57, 0.0), None);
        assert!(suggestion.looped.is_some());
        let said = Correction {
            looped: Some(None),
            start_frame: Some(500_000),
            ..Correction::default()
        };
        let treated = treat(57, &suggestion, &said, 96_000);
        assert_eq!(treated.looped, None);
        assert_eq!((treated.start_frame, treated.end_frame), (95_999, 96_000));
        assert_eq!(treat(57, &suggestion, &Correction::default(), 96_000), suggestion);
    }

    #[test]
    fn what_was_cleaned_is_named_after_all_that_makes_it() {
        let facts = facts(57, 0.0);
        let plain = suggest(Kind::Sustained, 57, 48_000, 96_000, &facts, None);
        assert_eq!(plain.cleaned_name(&facts), None);
        let with = |cleaning: Cleaning, moved: u64| {
            let said = Correction {
                cleaning,
                looped: Some(Some(TakeLoop::plain(20_000 + moved, 60_000, 0))),
                ..Correction::default()
            };
            treat(57, &plain, &said, 96_000).cleaned_name(&facts)
        };
        let dc = Cleaning {
            remove_dc: true,
            ..Cleaning::default()
        };
        let evened = Cleaning {
            evening: Some(signal::Evening { share: 1.0 }),
            ..Cleaning::default()
        };
        assert!(with(dc, 0).is_some());
        assert_eq!(with(dc, 0), with(dc, 100));
        assert_ne!(with(evened, 0), with(evened, 100));
        assert_ne!(with(dc, 0), with(evened, 0));
    }

    #[test]
    fn a_chord_has_the_root_that_its_maker_says() {
        let heard = suggest(Kind::Sustained, 57, 48_000, 96_000, &facts(64, 10.0), None);
        assert_eq!(heard.root_key, 64);
        let said = Correction {
            no_pitch: true,
            ..Correction::default()
        };
        let own = treat(57, &heard, &said, 96_000);
        assert_eq!((own.root_key, own.recording_cents), (57, 0.0));
        let by_ear = Correction {
            root_key: Some(60),
            ..said
        };
        assert_eq!(treat(57, &heard, &by_ear, 96_000).root_key, 60);
    }

    #[test]
    fn no_loop_and_automatic_are_told_apart_in_json() {
        let none: Correction = serde_json::from_str(r#"{"loop":null}"#).unwrap();
        assert_eq!(none.looped, Some(None));
        let automatic: Correction = serde_json::from_str("{}").unwrap();
        assert_eq!(automatic.looped, None);
        assert!(serde_json::to_string(&none).unwrap().contains("\"loop\":null"));
    }
}
