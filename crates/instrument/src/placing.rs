//! Where files go, by their names and by what is heard in them.

use crate::{
    HeardInFile, NameGuess, OctaveHabit, Settled, Spelling, Strength, layers_of, octave_habit, rung_of,
    settle,
};
use std::collections::{BTreeMap, BTreeSet};

/// No cell has more round robins by names.
const MOST_ROUND_ROBINS: u32 = 64;

/// One file, or two that are the sides of one recording.
#[derive(Debug, Clone, PartialEq)]
pub struct Placing {
    /// Its place among the names.
    pub file: usize,
    /// That of its right side, where it holds the left one alone.
    pub right: Option<usize>,
    /// Its rung; `None` where neither its name nor its sound tells one.
    pub key: Option<u8>,
    /// Its layer, from soft.
    pub layer: u16,
    /// Its turn, from 0.
    pub round_robin: u16,
    /// What its name tells.
    pub guess: NameGuess,
}

/// All of them.
#[derive(Debug, Clone, PartialEq)]
pub struct Placings {
    /// In the order of the names.
    pub files: Vec<Placing>,
    /// Names of the layers, soft to loud; none where names tell no strength.
    pub layers: Vec<String>,
    /// How the names write octaves; `None` where what is heard does not tell.
    pub octave: Option<OctaveHabit>,
}

impl Strength {
    /// As a layer of that strength is called.
    pub fn layer_name(&self) -> String {
        match self {
            Self::Number(n) => format!("v{n}"),
            Self::Word(_, word) => word.clone(),
        }
    }
}

/// Places files by all their names together and by what is heard in each. `shift_keys` says how octaves are written, where somebody knows.
pub fn place_files(
    names: &[String],
    heard: &[HeardInFile],
    spelling: Spelling,
    shift_keys: Option<i16>,
) -> Placings {
    let Settled { guesses, pairs } = settle(names, spelling);
    let named_and_heard: Vec<(u8, u8)> = (guesses.iter().zip(heard))
        .filter(|(_, heard)| heard.sure_key().is_some())
        .filter_map(|(guess, heard)| Some((guess.key?, heard.key?)))
        .collect();
    let octave = octave_habit(&named_and_heard);
    let shift = shift_keys.or(octave.map(|o| o.shift_keys)).unwrap_or(0);
    let strengths = layers_of(&guesses);
    let rights: BTreeMap<usize, usize> = pairs.iter().copied().collect();
    let right_ones: BTreeSet<usize> = rights.values().copied().collect();
    let layer_of = |guess: &NameGuess| {
        let strength = guess.strength.as_ref()?;
        strengths.iter().position(|known| known == strength)
    };
    let turn_of = |guess: &NameGuess| {
        let turn = guess.round_robin.map_or(0, |turn| turn.saturating_sub(1));
        turn.min(MOST_ROUND_ROBINS - 1) as u16
    };
    let files = guesses.into_iter().zip(heard).enumerate();
    let files = files
        .filter(|(n, _)| !right_ones.contains(n))
        .map(|(file, (guess, heard))| Placing {
            file,
            right: rights.get(&file).copied(),
            key: rung_of(&guess, heard, shift),
            layer: layer_of(&guess).unwrap_or(0) as u16,
            round_robin: turn_of(&guess),
            guess,
        });
    Placings {
        files: files.collect(),
        layers: strengths.iter().map(Strength::layer_name).collect(),
        octave,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_sound_together_place_files() {
        let names = [
            "Reed C3 soft.wav",
            "Reed C3 loud.wav",
            "Reed E3 soft L.wav",
            "Reed E3 soft R.wav",
            "Reed E3 loud 2.wav",
            "Reed E3 loud 1.wav",
            "noise.wav",
        ];
        let names = names.map(str::to_owned);
        // They are heard an octave higher than most write them: middle C is C3 here.
        let heard: Vec<HeardInFile> = [60, 60, 64, 64, 64, 64, 0]
            .map(|key| HeardInFile {
                key: (key > 0).then_some(key),
                confidence: 0.9,
                ..HeardInFile::default()
            })
            .to_vec();
        let placed = place_files(&names, &heard, Spelling::default(), None);
        assert_eq!(placed.octave.map(|octave| octave.shift_keys), Some(12));
        assert_eq!(placed.layers, ["soft", "loud"]);
        let seen = placed
            .files
            .iter()
            .map(|of| (of.file, of.right, of.key, of.layer, of.round_robin));
        assert_eq!(
            seen.collect::<Vec<_>>(),
            [
                (0, None, Some(60), 0, 0),
                (1, None, Some(60), 1, 0),
                (2, Some(3), Some(64), 0, 0),
                (4, None, Some(64), 1, 1),
                (5, None, Some(64), 1, 0),
                (6, None, None, 0, 0),
            ]
        );
        let as_written = place_files(&names, &heard, Spelling::default(), Some(0));
        assert_eq!(as_written.files[0].key, Some(48));
    }
}
