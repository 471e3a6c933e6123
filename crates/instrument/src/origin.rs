//! Where a take came from, and what was said of it when it was made.

use crate::names::MiddleC;
use crate::{Inside, Treatment, key_name};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something wrong with a take, heard at once.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", tag = "what")]
pub enum Finding {
    /// Another note than the cell's.
    WrongNote {
        /// What was heard.
        heard: u8,
        /// The cell's.
        wanted: u8,
    },
    /// The right note in another octave.
    WrongOctave {
        /// What was heard.
        heard: u8,
        /// The cell's.
        wanted: u8,
    },
    /// No note was heard where one was wanted.
    NoNote,
    /// Samples at the converter's end.
    Clipped {
        /// How many.
        frames: u64,
    },
    /// Under the layer's window.
    TooQuiet {
        /// By so much.
        by_db: f64,
    },
    /// Over the layer's window.
    TooLoud {
        /// By so much.
        by_db: f64,
    },
    /// Little over the noise.
    Noisy {
        /// Peak over the noise floor.
        over_floor_db: f64,
    },
    /// Something else sounded while it died away.
    AnotherSound {
        /// So long after the strike.
        after_ms: f64,
    },
    /// Begun before it was asked for.
    TooEarly,
    /// Over before it was long enough to be of use.
    TooShort {
        /// So long it was.
        ms: f64,
    },
    /// Frames did not arrive.
    LostFrames {
        /// How many.
        frames: u64,
    },
    /// The recording ended in its middle.
    CutShort,
    /// Its recording ended before its sound did: a page was closed, or Ladder ended.
    BrokenOff,
}

impl Finding {
    /// As a player is told.
    pub fn sentence(&self) -> String {
        let name = |key: u8| key_name(key, MiddleC::C4);
        match self {
            Self::WrongNote { heard, wanted } => {
                format!("This is {}, the cell is {}.", name(*heard), name(*wanted))
            }
            Self::WrongOctave { heard, wanted } => format!(
                "This is {}, the right note in another octave: the cell is {}.",
                name(*heard),
                name(*wanted)
            ),
            Self::NoNote => "No note is heard in it.".to_owned(),
            Self::Clipped { frames } => format!("It is clipped ({frames} frames): less gain, or softer."),
            Self::TooQuiet { by_db } => format!("{by_db:.0} dB too soft for this layer."),
            Self::TooLoud { by_db } => format!("{by_db:.0} dB too loud for this layer."),
            Self::Noisy { over_floor_db } => {
                format!("It is only {over_floor_db:.0} dB over the noise.")
            }
            Self::AnotherSound { after_ms } => {
                format!("Something else sounds {:.1} s into it.", after_ms / 1000.0)
            }
            Self::TooEarly => "It came before it was asked for.".to_owned(),
            Self::TooShort { ms } => format!("It lasts only {ms:.0} ms."),
            Self::LostFrames { frames } => format!("{frames} frames of it were lost on the way."),
            Self::CutShort => "It was cut short.".to_owned(),
            Self::BrokenOff => "Its recording broke off: what had arrived is kept.".to_owned(),
        }
    }
}

/// What was heard in a take the moment it ended.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Verdict {
    /// What is wrong; empty for a good take.
    pub findings: Vec<Finding>,
    /// Sentences for them.
    pub sentences: Vec<String>,
    /// The note that was heard.
    pub key: Option<u8>,
    /// Cents above it.
    pub cents: Option<f64>,
    /// Highest sample.
    pub peak_dbfs: f64,
}

impl Verdict {
    /// With its sentences.
    pub fn of(findings: Vec<Finding>, pitch: Option<(u8, f64)>, peak_dbfs: f64) -> Self {
        Self {
            sentences: findings.iter().map(Finding::sentence).collect(),
            findings,
            key: pitch.map(|(key, _)| key),
            cents: pitch.map(|(_, cents)| cents),
            peak_dbfs,
        }
    }

    /// Whether nothing is wrong.
    pub fn is_good(&self) -> bool {
        self.findings.is_empty()
    }
}

/// What was measured of a rig before its first note.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SoundCheck {
    /// RMS of silence.
    pub noise_floor_dbfs: f64,
    /// RMS of the hum in it; `None` where none stands out.
    pub hum_dbfs: Option<f64>,
    /// 50 or 60 Hz.
    pub hum_hz: Option<f64>,
    /// From a message leaving to its sound; `None` where nothing was sent or heard.
    pub delay_ms: Option<f64>,
    /// Highest sample of the loudest note; `None` where none was played.
    pub peak_dbfs: Option<f64>,
    /// The noise of the silence by bands, see [`signal::noise_bands`]: for takes that have no silence of their own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub noise_bands: Vec<f32>,
    /// Sentences: what is good, and what to do.
    pub advice: Vec<String>,
}

/// Where the loudest note should reach: common practice.
const WANTED_PEAK_DBFS: (f64, f64) = (-18.0, -6.0);
/// A floor under this is quiet enough for any use, one over the second is heard beside soft notes: common practice.
const QUIET_FLOOR_DBFS: f64 = -72.0;
const NOISY_FLOOR_DBFS: f64 = -54.0;

impl SoundCheck {
    /// Judges what was measured.
    pub fn judged(mut self) -> Self {
        let mut advice = Vec::new();
        // With a real minus sign, as everywhere on the page.
        let whole = |db: f64| format!("{db:.0} dB").replace('-', "−");
        let quiet = self.noise_floor_dbfs;
        let floor = whole(quiet);
        advice.push(if quiet <= QUIET_FLOOR_DBFS {
            format!("The room is quiet ({floor}).")
        } else if quiet <= NOISY_FLOOR_DBFS {
            format!("The noise floor is {floor}: good enough for loud notes, heard beside soft ones.")
        } else {
            format!("The noise floor is {floor}, which is much: look for fans, open lines and too much gain.")
        });
        if let (Some(hum), Some(hz)) = (self.hum_dbfs.filter(|hum| *hum > QUIET_FLOOR_DBFS), self.hum_hz) {
            advice.push(format!(
                "It hums at {hz:.0} Hz ({}): look for a ground loop or a lamp.",
                whole(hum)
            ));
        }
        if let Some(peak) = self.peak_dbfs {
            let (low, high) = WANTED_PEAK_DBFS;
            advice.push(if peak > -0.1 {
                "The loudest note is clipped: take at least 6 dB of gain away.".to_owned()
            } else if peak > high {
                format!(
                    "The loudest note reaches {}: take {:.0} dB of gain away.",
                    whole(peak),
                    peak - high
                )
            } else if peak < low {
                format!(
                    "The loudest note reaches only {}: give {:.0} dB more gain.",
                    whole(peak),
                    low - peak
                )
            } else {
                format!("The loudest note reaches {}: the gain is right.", whole(peak))
            });
        }
        self.advice = advice;
        self
    }
}

/// Where a take came from. What is not known is left out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Origin {
    /// What was measured of the rig before its run.
    #[serde(default)]
    pub sound_check: Option<SoundCheck>,
    /// What was heard in it at once.
    #[serde(default)]
    pub verdict: Option<Verdict>,
    /// The take it was made from.
    #[serde(default)]
    pub from_take: Option<u64>,
    /// How it was made from that: "through a box", "edited outside".
    #[serde(default)]
    pub made_by: Option<String>,
    /// The file it was read from.
    #[serde(default)]
    pub file: Option<String>,
    /// Root and loop that stood inside the file.
    #[serde(default)]
    pub inside: Option<Inside>,
    /// What whoever gave the instrument away had done to it: it is suggested in place of what is measured.
    #[serde(default)]
    pub as_made: Option<Treatment>,
}

impl Origin {
    /// Whether the take is left out unless somebody chooses it.
    pub fn is_refused(&self) -> bool {
        self.verdict.as_ref().is_some_and(|verdict| !verdict.is_good())
    }

    /// Whether the take sounds only where somebody says so: it is refused, or made from another.
    pub fn only_by_word(&self) -> bool {
        self.is_refused() || self.made_by.is_some()
    }
}

/// What is written inside a take's file that goes out to be edited elsewhere.
pub fn mark_of_take(take: u64) -> String {
    format!("Ladder take {take}")
}

/// The take whose mark stands in a file.
pub fn take_of_mark(mark: &str) -> Option<u64> {
    mark.strip_prefix("Ladder take ")?.parse().ok()
}

/// The take that a file's name names, `… [take 12].wav`.
pub fn take_of_name(name: &str) -> Option<u64> {
    let (_, rest) = name.rsplit_once("[take ")?;
    rest.split_once(']')?.0.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_take_is_known_by_its_mark_or_its_name() {
        assert_eq!(take_of_mark(&mark_of_take(12)), Some(12));
        assert_eq!(take_of_name("Keys C4 soft [take 7] edited.wav"), Some(7));
        assert_eq!((take_of_mark("hello"), take_of_name("C4.wav")), (None, None));
    }

    #[test]
    fn a_wrong_note_is_named() {
        let wrong = Finding::WrongNote {
            heard: 58,
            wanted: 57,
        };
        assert_eq!(wrong.sentence(), "This is A♯3, the cell is A3.");
        let verdict = Verdict::of(vec![wrong], Some((58, 3.0)), -12.0);
        assert!(!verdict.is_good() && verdict.sentences.len() == 1);
    }

    #[test]
    fn the_gain_is_judged_in_words() {
        let check = |peak_dbfs| {
            SoundCheck {
                noise_floor_dbfs: -76.0,
                peak_dbfs: Some(peak_dbfs),
                ..SoundCheck::default()
            }
            .judged()
            .advice
        };
        assert!(check(-0.01)[1].contains("clipped"));
        assert!(check(-2.0)[1].contains("take 4 dB"));
        assert!(check(-30.0)[1].contains("12 dB more"));
        assert!(check(-10.0)[1].contains("right"));
        assert!(check(-10.0)[0].contains("quiet"));
    }
}
