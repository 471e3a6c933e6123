//! What an instrument is and what is wrong with it, on one page: as text, as JSON, and as HTML that is kept or printed.

mod page;
mod plot;

use crate::{Expected, Heard, expected};
use instrument::{Finding, FindingKind, MiddleC, Resolved, Step, Target, Unit, key_name};
use serde::Serialize;
use signal::KeySound;
use std::collections::BTreeSet;
use std::fmt::Write;

/// Something that it is, in words and figures.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Figure {
    /// What.
    pub what: &'static str,
    /// How much of it.
    pub is: String,
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Reported {
    /// What.
    pub kind: FindingKind,
    /// As that is called.
    pub title: &'static str,
    /// Where.
    pub place: String,
    /// In a sentence.
    pub says: String,
    /// How much, in its unit.
    pub how_much: Option<f64>,
    /// From where on it is found.
    pub limit: Option<f64>,
    /// In what both are measured.
    pub unit: Unit,
    /// Where it is mended.
    pub step: Step,
    /// Whether it is wrong; else it is to be looked at.
    pub wrong: bool,
    /// Whether it can be mended by itself.
    pub mendable: bool,
    /// Why it is accepted, where it is.
    pub accepted: Option<String>,
}

/// All of it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Report {
    /// As the instrument is called.
    pub name: String,
    /// What it is.
    pub kind: &'static str,
    /// Whether it was listened to: else nothing is found in it.
    pub listened: bool,
    /// Its figures.
    pub figures: Vec<Figure>,
    /// What was found, worst first, what is accepted last.
    pub findings: Vec<Reported>,
    /// What was mended, as those changes are called.
    pub mended: Vec<String>,
    /// Keys as they sound.
    pub keys: Vec<KeySound>,
    #[serde(skip)]
    expected: Vec<Expected>,
}

/// Where something was found, in words: a cell by note, layer and turn, keys, a strand where there are several.
pub fn place_of(resolved: &Resolved, finding: &Finding) -> String {
    let name = |key| key_name(key, MiddleC::C4);
    let mut words: Vec<String> = Vec::new();
    if let Some(cell) = finding.cell {
        words.push(name(cell.key));
        let pass = resolved.plan.pass(cell.pass);
        let layer = pass.and_then(|pass| pass.layer(cell.layer));
        words.extend(layer.map(|layer| layer.name.clone()));
        let turns = pass.zip(layer).map(|(pass, layer)| pass.round_robins_of(layer));
        words.extend(
            turns
                .filter(|turns| *turns > 1)
                .map(|_| (cell.round_robin + 1).to_string()),
        );
        if resolved.plan.passes.len() > 1 {
            words.extend(pass.map(|pass| format!("· {}", pass.name)));
        }
    } else if let Some([low, high]) = finding.keys {
        words.push(if low == high {
            name(low)
        } else {
            format!("{}–{}", name(low), name(high))
        });
    }
    let strand = match finding.about {
        Target::Strand(strand) | Target::Region(strand, _) => Some(strand),
        _ => None,
    };
    if resolved.program.strands.len() > 1 && finding.cell.is_none() {
        let of = resolved.program.strands.iter().find(|of| Some(of.id) == strand);
        words.extend(of.map(|of| format!("{}{}", if words.is_empty() { "" } else { "· " }, of.name)));
    }
    words.join(" ")
}

impl Report {
    /// Of an instrument, what was heard of it, what was found in it and what was mended.
    pub fn of(resolved: &Resolved, heard: &Heard, found: &[Finding], mended: Vec<String>) -> Self {
        let reported = |finding: &Finding| Reported {
            kind: finding.kind,
            title: finding.kind.title(),
            place: place_of(resolved, finding),
            says: finding.says.clone(),
            how_much: finding.how_much,
            limit: finding.limit,
            unit: finding.kind.unit(),
            step: finding.kind.step(),
            wrong: finding.is_wrong(),
            mendable: finding.mend.is_some(),
            accepted: finding.accepted.clone(),
        };
        Self {
            name: resolved.name.clone(),
            kind: resolved.plan.kind.name(),
            listened: !(heard.keys.is_empty() && heard.takes.is_empty()),
            figures: figures(resolved, heard),
            findings: found.iter().map(reported).collect(),
            mended,
            expected: expected(&heard.keys, &resolved.program),
            keys: heard.keys.clone(),
        }
    }

    /// What is left: nobody accepted it.
    pub fn open(&self) -> impl Iterator<Item = &Reported> {
        self.findings.iter().filter(|finding| finding.accepted.is_none())
    }

    /// What is accepted, each with its reason.
    fn accepted(&self) -> impl Iterator<Item = (&Reported, &str)> {
        self.findings
            .iter()
            .filter_map(|finding| Some((finding, finding.accepted.as_deref()?)))
    }

    /// How it stands, in a sentence.
    pub fn sum(&self) -> String {
        let left = self.open().count();
        let wrong = self.open().filter(|finding| finding.wrong).count();
        let accepted = self.accepted().count();
        let mut sum = match left {
            0 if !self.listened => "It was not listened to".to_owned(),
            0 => "Nothing is left to look at".to_owned(),
            _ => format!("{wrong} wrong, {} to look at", left - wrong),
        };
        if accepted > 0 {
            let _ = write!(sum, ", {accepted} accepted");
        }
        sum + "."
    }

    /// As lines of text.
    pub fn text(&self) -> String {
        let mut text = format!("«{}»: {}\n", self.name, self.sum());
        for finding in self.open() {
            let mark = if finding.wrong { "wrong" } else { "look" };
            let _ = writeln!(text, "{mark:5}  {}: {}", titled(finding), finding.says);
        }
        for (finding, reason) in self.accepted() {
            let _ = writeln!(text, "accepted  {}: {reason}", titled(finding));
        }
        for what in &self.mended {
            let _ = writeln!(text, "mended  {what}");
        }
        text
    }

    /// As a page of HTML that needs nothing else; `more` stands at its end, as HTML.
    pub fn html(&self, more: &str) -> String {
        page::html(self, more)
    }
}

fn titled(finding: &Reported) -> String {
    format!("{} {}", finding.title, finding.place)
        .trim_end()
        .to_owned()
}

fn figures(resolved: &Resolved, heard: &Heard) -> Vec<Figure> {
    let mut all = Vec::new();
    let mut add = |what, is: String| all.push(Figure { what, is });
    let chosen = resolved.takes.iter().filter(|take| take.chosen).count();
    let cells = resolved.plan.cells().len();
    add(
        "takes",
        format!(
            "{} recorded, {chosen} of {cells} cells filled",
            resolved.takes.len()
        ),
    );
    let lengths = resolved.takes.iter().filter(|take| take.chosen).map(|take| {
        let rate = f64::from(take.recorded.rate_hz.max(1));
        take.treatment.as_ref().map_or(0.0, |treatment| {
            (treatment.end_frame - treatment.start_frame) as f64 / rate
        })
    });
    add(
        "length",
        format!("{:.1} s are played of them", lengths.sum::<f64>()),
    );
    let program = &resolved.program;
    add(
        "regions",
        format!(
            "{} in {}",
            program.regions.len(),
            counted(program.strands.len(), "strand")
        ),
    );
    let looped = program
        .regions
        .iter()
        .filter(|region| region.looped.is_some())
        .count();
    add("looped", format!("{looped} of {} regions", program.regions.len()));
    let keys: BTreeSet<u8> = heard.keys.iter().map(|sound| sound.key).collect();
    if let (Some(low), Some(high)) = (keys.first(), keys.last()) {
        let name = |key: &u8| key_name(*key, MiddleC::C4);
        add("keys", format!("{}, {} to {}", keys.len(), name(low), name(high)));
    }
    let strikes: BTreeSet<u8> = heard.keys.iter().map(|sound| sound.strike).collect();
    for strike in strikes {
        let levels = heard.keys.iter().filter(|sound| sound.strike == strike);
        let levels: Vec<f64> = levels.filter_map(|sound| sound.level_dbfs).collect();
        let low = levels.iter().copied().fold(f64::INFINITY, f64::min);
        let high = levels.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        if low.is_finite() {
            let what = if strike < 64 {
                "struck softly"
            } else {
                "struck hard"
            };
            add(
                what,
                format!("{} to {} dBFS (velocity {strike})", real(low), real(high)),
            );
        }
    }
    if let Some(together) = &heard.together {
        let peak = (together.peak_dbtp).map_or("silent".to_owned(), |peak| format!("{} dBTP", real(peak)));
        let is = format!("{peak}, {} of {} voices", together.voices, together.voices_wanted);
        add("chord of ten", is);
        if let Some(lufs) = together.loudness_lufs {
            add("middle key struck 100", format!("{} LUFS", real(lufs)));
        }
    }
    all
}

fn real(value: f64) -> String {
    crate::mends::tenth(value)
}

fn counted(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::empty;
    use instrument::{Cell, LayerId, PassId};

    fn report() -> Report {
        let cell = Cell {
            pass: PassId(0),
            key: 52,
            layer: LayerId(1),
            round_robin: 0,
        };
        let mut found = vec![
            Finding::so(FindingKind::WrongOctave, "Heard an <octave> higher.").on(cell),
            Finding {
                keys: Some([48, 50]),
                ..Finding::measured(FindingKind::Gap, 3.0, "Nothing answers.")
            },
        ];
        found[1].accepted = Some("there are no bars & no keys".to_owned());
        let sound = |key: u8, strike: u8| KeySound {
            key,
            strike,
            level_dbfs: Some(if strike < 64 { -30.0 } else { -12.5 }),
            cents: Some(f64::from(key) - 50.0),
            ..KeySound::default()
        };
        let heard = Heard {
            keys: (48..=56)
                .flat_map(|key| [sound(key, 32), sound(key, 112)])
                .collect(),
            ..Heard::default()
        };
        Report::of(&empty(), &heard, &found, vec!["hum (3)".to_owned()])
    }

    #[test]
    fn the_text_has_a_line_for_each_of_what_is_open_accepted_and_mended() {
        let report = report();
        assert_eq!(report.sum(), "1 wrong, 0 to look at, 1 accepted.");
        assert_eq!(
            report.text(),
            "«An organ of reeds with a long name»: 1 wrong, 0 to look at, 1 accepted.\n\
             wrong  Wrong octave E3 loud: Heard an <octave> higher.\n\
             accepted  Keys without a sound C3–D3: there are no bars & no keys\n\
             mended  hum (3)\n"
        );
        let figure = |what| {
            report
                .figures
                .iter()
                .find(|figure| figure.what == what)
                .map(|of| of.is.as_str())
        };
        assert_eq!(figure("keys"), Some("9, C3 to G♯3"));
        assert_eq!(figure("struck softly"), Some("−30.0 to −30.0 dBFS (velocity 32)"));
    }

    #[test]
    fn the_page_holds_all_of_it_as_text_and_nothing_from_elsewhere() {
        let html = report().html("");
        for what in [
            "Heard an &lt;octave&gt; higher.",
            "there are no bars &amp; no keys",
            "hum (3)",
            "E3 loud",
        ] {
            assert!(html.contains(what), "{what}");
        }
        assert_eq!(html.matches("<svg").count(), 2, "nothing was heard of brightness");
        assert!(!html.contains("http"));
        assert!(!html.contains("<script"));
        let longer = report().html("<p>more</p>");
        assert!(longer.ends_with("<p>more</p></main></body></html>\n"));
    }
}
