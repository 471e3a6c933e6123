//! A plan and all that was said, as a text that a script builds from: TOML 1.0. What is automatic is not in it.

use crate::{Cell, Change, Fact, Facts, Plan, Said, Target, Wish, lay_over};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// As it is written now.
const VERSION: u32 = 1;

/// Which file is the recording of which place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordingFile {
    /// The take's number, by which things are said of it.
    pub take: u64,
    /// Its path from the folder, with `/`.
    pub file: String,
    /// As the recording is called, where that is not by its place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub called: Option<String>,
    /// Its pass.
    pub pass: crate::PassId,
    /// Its rung, as a key.
    pub key: u8,
    /// Its layer.
    pub layer: crate::LayerId,
    /// Its turn, from 0.
    #[serde(default)]
    pub round_robin: u16,
}

impl RecordingFile {
    /// Its place.
    pub fn cell(&self) -> Cell {
        Cell {
            pass: self.pass,
            key: self.key,
            layer: self.layer,
            round_robin: self.round_robin,
        }
    }
}

/// Something that was said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SaidInFile {
    /// Of what.
    of: Target,
    /// A fact, by its name.
    fact: String,
    /// What.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    value: Option<toml::Value>,
    /// The same as JSON, where TOML has no word for it: it has none for nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    json: Option<String>,
}

/// A plan, the files of its places, and what was said.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PlanFile {
    version: u32,
    /// As the instrument is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What is planned; made from the names of the files, where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<Plan>,
    /// The files; placed by their names, where there are none.
    #[serde(default, rename = "recording", skip_serializing_if = "Vec::is_empty")]
    pub recordings: Vec<RecordingFile>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    said: Vec<SaidInFile>,
}

impl PlanFile {
    /// Of an instrument and the files of its recordings; what is said of other takes is left out.
    pub fn of(name: &str, plan: &Plan, said: &Facts, recordings: Vec<RecordingFile>) -> Self {
        let is_written = |target: &Target, fact: Fact| match target {
            Target::Take(id) => recordings.iter().any(|of| of.take == *id),
            Target::LongTake(_) => false,
            // What it is called stands above; where it stands on a shelf is of no account.
            _ => fact != Fact::Name && fact != Fact::SetAside,
        };
        let said = said
            .iter()
            .filter(|((target, fact), _)| is_written(target, *fact))
            .map(|((target, fact), value)| SaidInFile::of(*target, *fact, value));
        Self {
            version: VERSION,
            name: Some(name.to_owned()),
            plan: Some(plan.clone()),
            said: said.collect(),
            recordings,
        }
    }

    /// Reads a text.
    ///
    /// # Errors
    /// A sentence that names the line, where it is none.
    pub fn read(text: &str) -> Result<Self, String> {
        let file: Self = toml::from_str(text).map_err(|error| format!("The plan cannot be read: {error}"))?;
        if file.version > VERSION {
            return Err("The plan was written by a newer Ladder.".to_owned());
        }
        if let Some(plan) = &file.plan {
            plan.check().map_err(|error| error.to_string())?;
        }
        if file.plan.is_none() && !file.recordings.is_empty() {
            return Err("The plan names files and no places for them: [plan] is missing.".to_owned());
        }
        for (n, of) in file.recordings.iter().enumerate() {
            let before = &file.recordings[..n];
            if before.iter().any(|other| other.take == of.take) {
                return Err(format!("Two recordings have the number {}.", of.take));
            }
            if of.key > 127 {
                return Err(format!(
                    "Keys run from 0 to 127, and «{}» stands at {}.",
                    of.file, of.key
                ));
            }
            let pass = file.plan.as_ref().and_then(|plan| plan.pass(of.pass));
            if pass.is_none_or(|pass| pass.layer(of.layer).is_none()) {
                return Err(format!("The plan has no place for «{}».", of.file));
            }
        }
        Ok(file)
    }

    /// Writes it.
    ///
    /// # Errors
    /// A sentence, where TOML cannot hold it: numbers are below 2⁶³.
    pub fn to_toml(&self) -> Result<String, String> {
        toml::to_string(self).map_err(|error| error.to_string())
    }

    /// All that is said.
    ///
    /// # Errors
    /// A sentence, where there is no such fact, or it cannot say that.
    pub fn facts(&self) -> Result<Facts, String> {
        let wishes: Vec<Wish> = self.said.iter().map(SaidInFile::wish).collect::<Result<_, _>>()?;
        let mut facts = Facts::new();
        let change = Change::propose("said in a plan", &facts, wishes).map_err(|error| error.0)?;
        lay_over(&mut facts, &change.fields);
        Ok(facts)
    }
}

impl SaidInFile {
    fn of(of: Target, fact: Fact, value: &Value) -> Self {
        let plain = if has_nothing(value) {
            None
        } else {
            toml::Value::try_from(value).ok()
        };
        Self {
            of,
            fact: fact.name().to_owned(),
            json: plain.is_none().then(|| value.to_string()),
            value: plain,
        }
    }

    fn wish(&self) -> Result<Wish, String> {
        let fact = Fact::named(&self.fact)
            .ok_or_else(|| format!("There is no fact «{}» that could be said.", self.fact))?;
        let value = match (&self.value, &self.json) {
            (Some(value), None) => serde_json::to_value(value).map_err(|error| error.to_string()),
            (None, Some(json)) => serde_json::from_str(json)
                .map_err(|error| format!("What is said as {} is no JSON: {error}", self.fact)),
            _ => Err(format!("Either a value or JSON says {}.", self.fact)),
        };
        Ok(Wish::from((self.of, fact, Said::Value(value?))))
    }
}

/// Whether there is a `null` in it, of which TOML has none.
fn has_nothing(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Array(all) => all.iter().any(has_nothing),
        Value::Object(all) => all.values().any(has_nothing),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;
    use serde_json::json;

    fn file() -> PlanFile {
        let plan = plan(&[60, 64], &[40, 110], 2);
        let recordings = (0..).zip(plan.cells()).map(|(take, cell)| RecordingFile {
            take,
            file: format!("a folder/take {take}.wav"),
            called: (take == 1).then(|| "Another".to_owned()),
            pass: cell.pass,
            key: cell.key,
            layer: cell.layer,
            round_robin: cell.round_robin,
        });
        let recordings: Vec<RecordingFile> = recordings.collect();
        let said = Facts::from([
            ((Target::Take(3), Fact::GainDb), json!(-2.5)),
            ((Target::Take(77), Fact::GainDb), json!(-1.0)),
            ((Target::Instrument, Fact::MidiBank), json!(null)),
            ((Target::Instrument, Fact::Tags), json!(["a \"b\"", "c"])),
            ((Target::Instrument, Fact::Name), json!("elsewhere")),
        ]);
        PlanFile::of("Slate", &plan, &said, recordings)
    }

    #[test]
    fn what_is_written_is_read_again_but_for_what_is_of_other_takes() {
        let file = file();
        let text = file.to_toml().unwrap();
        let read = PlanFile::read(&text).unwrap();
        assert_eq!(read, file, "{text}");
        let facts = read.facts().unwrap();
        assert_eq!(facts.len(), 3, "{facts:?}");
        assert_eq!(facts[&(Target::Take(3), Fact::GainDb)], json!(-2.5));
        assert_eq!(facts[&(Target::Instrument, Fact::MidiBank)], json!(null));
        assert_eq!(read.recordings[1].cell(), read.plan.unwrap().cells()[1]);
    }

    #[test]
    fn what_does_not_fit_is_told() {
        let text = file().to_toml().unwrap();
        for (old, new, says) in [
            ("version = 1", "version = 9", "newer Ladder"),
            (
                "fact = \"gain_db\"",
                "fact = \"loudness\"",
                "There is no fact «loudness»",
            ),
            ("value = -2.5", "value = \"much\"", "A level lies between"),
            ("take = 1\n", "take = 0\n", "Two recordings have the number 0"),
            ("key = 64\n", "key = 164\n", "Keys run from 0 to 127"),
        ] {
            assert!(text.contains(old), "{old} in {text}");
            let other = text.replacen(old, new, 1);
            let why = PlanFile::read(&other).and_then(|file| file.facts()).err();
            let why = why.unwrap_or_default();
            assert!(why.to_lowercase().contains(&says.to_lowercase()), "{says}: {why}");
        }
        assert!(
            PlanFile::read("not a plan")
                .unwrap_err()
                .starts_with("The plan cannot be read")
        );
    }
}
