//! Where a take came from, and what was said of it when it was made.

use crate::{Cell, Finding, FindingKind, Inside, Plan, Treatment, take_name};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What was heard in a take the moment it ended.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(from = "KeptVerdict")]
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
            sentences: findings.iter().map(|found| found.says.clone()).collect(),
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

/// A verdict as it is kept: up to December 2026 what was found had a form of its own, each kind with its fields.
#[derive(Deserialize)]
struct KeptVerdict {
    findings: Vec<KeptFinding>,
    sentences: Vec<String>,
    key: Option<u8>,
    cents: Option<f64>,
    peak_dbfs: f64,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum KeptFinding {
    Now(Finding),
    Before {
        what: String,
        #[serde(alias = "by_db", alias = "frames", alias = "over_floor_db", alias = "ms")]
        much: Option<f64>,
    },
}

impl From<KeptVerdict> for Verdict {
    fn from(kept: KeptVerdict) -> Self {
        let sentences = kept.sentences;
        let finding = |(place, finding): (usize, KeptFinding)| match finding {
            KeptFinding::Now(finding) => Some(finding),
            KeptFinding::Before { what, much } => {
                let kind = FindingKind::of(if what == "too_quiet" { "too_soft" } else { &what })?;
                let says = sentences.get(place).cloned().unwrap_or_default();
                Some(Finding {
                    how_much: much,
                    ..Finding::so(kind, says)
                })
            }
        };
        Self {
            findings: kept
                .findings
                .into_iter()
                .enumerate()
                .filter_map(finding)
                .collect(),
            sentences,
            key: kept.key,
            cents: kept.cents,
            peak_dbfs: kept.peak_dbfs,
        }
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

/// As the file of a take is called that goes out.
pub fn file_of_take(plan: &Plan, cell: Cell, take: u64) -> String {
    let name = format!("{} [take {take}].wav", take_name(plan, cell));
    name.replace('♯', "#").replace(['/', '\\'], "_")
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
        let wrong = Finding::another_note(58, 57, 100.0);
        assert_eq!(wrong.says, "This is A♯3, the cell is A3.");
        let verdict = Verdict::of(vec![wrong], Some((58, 3.0)), -12.0);
        assert!(!verdict.is_good() && verdict.sentences.len() == 1);
    }

    #[test]
    fn a_verdict_is_read_as_it_was_kept_before_findings_were_of_one_kind() {
        let kept = r#"{"findings":[{"what":"wrong_octave","heard":81,"wanted":69},{"what":"too_quiet","by_db":4.5},{"what":"broken_off"}],
            "sentences":["One.","Two.","Three."],"key":81,"cents":3.0,"peak_dbfs":-12.0}"#;
        let verdict: Verdict = serde_json::from_str(kept).unwrap();
        let told: Vec<_> = (verdict.findings.iter())
            .map(|found| (found.kind, found.how_much, found.says.as_str()))
            .collect();
        assert_eq!(
            told,
            [
                (FindingKind::WrongOctave, None, "One."),
                (FindingKind::TooSoft, Some(4.5), "Two."),
                (FindingKind::BrokenOff, None, "Three."),
            ]
        );
        let again = serde_json::to_string(&verdict).unwrap();
        assert_eq!(serde_json::from_str::<Verdict>(&again).unwrap(), verdict);
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
