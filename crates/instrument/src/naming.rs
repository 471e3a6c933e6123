//! How files are called that are given away: by a rule in which what stands in braces is filled in.

use crate::names::MiddleC;
use crate::{Cell, Plan, key_name};

/// What can be filled in, with what it says.
pub const NAME_WORDS: [(&str, &str); 8] = [
    ("instrument", "its name"),
    ("name", "as the recording is called here"),
    ("strand", "the pass"),
    ("note", "the note"),
    ("key", "the note as a number"),
    ("layer", "the layer"),
    ("strike", "the strike of the layer"),
    ("rr", "the turn, where there are several"),
];
/// No name is longer.
const LONGEST: usize = 100;

/// A recording that gets a name.
#[derive(Debug, Clone, Copy)]
pub struct Named<'a> {
    /// As it is called where nothing else is said.
    pub name: &'a str,
    /// Its place.
    pub cell: Cell,
}

/// The name of a recording by a rule. Spaces that were left by what is empty are closed.
///
/// # Errors
/// A sentence, where the rule has a word that there is none of, or nothing of it is filled in.
pub fn name_by_rule(
    rule: &str,
    instrument: &str,
    plan: &Plan,
    middle_c: MiddleC,
    of: Named,
) -> Result<String, String> {
    let pass = plan.pass(of.cell.pass);
    let layer = pass.and_then(|pass| pass.layer(of.cell.layer));
    let turns = pass
        .zip(layer)
        .map_or(1, |(pass, layer)| pass.round_robins_of(layer));
    let filled = |word: &str| -> Option<String> {
        Some(match word {
            "instrument" => instrument.to_owned(),
            "name" => of.name.to_owned(),
            "strand" => pass.map_or_else(String::new, |pass| pass.name.clone()),
            "note" => key_name(of.cell.key, middle_c),
            "key" => format!("{:03}", of.cell.key),
            "layer" => layer.map_or_else(String::new, |layer| layer.name.clone()),
            "strike" => layer.map_or_else(String::new, |layer| layer.strike_velocity.to_string()),
            "rr" if turns > 1 => (of.cell.round_robin + 1).to_string(),
            "rr" => String::new(),
            _ => return None,
        })
    };
    let (mut name, mut rest, mut any) = (String::new(), rule, false);
    while let Some((before, after)) = rest.split_once('{') {
        let (word, after) = after
            .split_once('}')
            .ok_or_else(|| format!("A brace is open in «{rule}»."))?;
        name.push_str(before);
        name.push_str(&filled(word.trim()).ok_or_else(|| {
            let all: Vec<&str> = NAME_WORDS.iter().map(|(word, _)| *word).collect();
            format!("There is nothing called «{word}»; there is {}.", all.join(", "))
        })?);
        (rest, any) = (after, true);
    }
    name.push_str(rest);
    if !any {
        return Err("All files would have one name: put {note} into it, or {name}.".to_owned());
    }
    let name = name.split_whitespace().collect::<Vec<_>>().join(" ");
    Ok(name.chars().take(LONGEST).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;

    #[test]
    fn a_rule_is_filled_in_and_what_it_does_not_know_is_told() {
        let plan = plan(&[60, 64], &[40, 110], 2);
        let cell = plan.cells()[0];
        let of = Named {
            name: "Keys C4 soft",
            cell,
        };
        let by = |rule: &str, middle_c| name_by_rule(rule, "Slate", &plan, middle_c, of);
        let note = key_name(cell.key, MiddleC::C4);
        assert_eq!(by("{note} {rr}", MiddleC::C4), Ok(format!("{note} 1")));
        assert_eq!(
            by("{instrument} {note}", MiddleC::C4),
            Ok(format!("Slate {note}"))
        );
        let other = key_name(cell.key, MiddleC::C3);
        assert_eq!(by("{note}", MiddleC::C3), Ok(other));
        assert_eq!(by("a {name}  b", MiddleC::C4), Ok("a Keys C4 soft b".to_owned()));
        assert_eq!(by("{key}", MiddleC::C4), Ok(format!("{:03}", cell.key)));
        for (rule, says) in [
            ("{pitch}", "There is nothing called «pitch»"),
            ("{note", "A brace is open"),
            ("tone", "All files would have one name"),
        ] {
            let why = by(rule, MiddleC::C4).unwrap_err();
            assert!(why.starts_with(says), "{why}");
        }
    }
}
