//! What the names of audio files tell: note, layer, round robin, key-up, mic.
//!
//! Names are read one by one by [`read_name`], and then all together by [`settle`], since a number means nothing by itself. Note
//! names take C4 as middle C here; whether that is the habit of the files is decided by what is heard ([`octave_habit`]).

pub use notes::Spelling;
pub(crate) use notes::pitch_class;
use notes::{key_of, note_at};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use utoipa::ToSchema;

mod notes;

/// How strong, as a name says it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Strength {
    /// `v1`, `vel64`, `layer 2`: rising from soft to loud.
    Number(u32),
    /// `ppp` to `fff`, `soft` to `hard`: from 0, very soft, to 8.
    Word(u32, String),
}

/// A file that holds one side of a stereo recording, the other being in another file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    /// The first channel.
    Left,
    /// The second.
    Right,
}

/// What one name tells. What it does not tell is `None`.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NameGuess {
    /// The key, with C4 as middle C.
    pub key: Option<u8>,
    /// Steps above C, 0 to 11, where the name has a note without an octave.
    pub note: Option<u8>,
    /// The suffix of a chord: the note is that of a chord, and may not be heard as a pitch.
    pub chord: Option<String>,
    /// How strong.
    pub strength: Option<Strength>,
    /// Its turn, from 1.
    pub round_robin: Option<u32>,
    /// It sounds when the key comes up.
    pub key_up: bool,
    /// Where it was heard from.
    pub mic: Option<String>,
    /// The side of a pair that it is; after [`settle`] only where its other side is there.
    pub side: Option<Side>,
    /// What is left: the name of the thing.
    pub stem: String,
}

const WORDS: [(&str, u32); 25] = [
    ("ppp", 0),
    ("pp", 1),
    ("pianissimo", 1),
    ("p", 2),
    ("piano", 2),
    ("soft", 2),
    ("quiet", 2),
    ("gentle", 2),
    ("low", 2),
    ("mp", 3),
    ("medium", 4),
    ("med", 4),
    ("mid", 4),
    ("normal", 4),
    ("mf", 5),
    ("f", 6),
    ("forte", 6),
    ("loud", 6),
    ("hard", 7),
    ("strong", 7),
    ("high", 7),
    ("ff", 7),
    ("fortissimo", 7),
    ("fff", 8),
    ("max", 8),
];
const KEY_UP: [&str; 7] = ["rel", "release", "keyup", "noteoff", "off", "up", "damp"];
const MICS: [&str; 14] = [
    "close", "near", "spot", "room", "far", "amb", "ambient", "hall", "overhead", "oh", "dry", "wet",
    "stage", "line",
];
/// The words and numbers of what is left of a name, with letters and digits apart.
fn tokens(text: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut before: Option<char> = None;
    for c in text.chars() {
        let joins = before.is_some_and(|b: char| {
            (b.is_alphabetic() && c.is_alphabetic() && !(b.is_lowercase() && c.is_uppercase()))
                || (b.is_ascii_digit() && c.is_ascii_digit())
        });
        if c.is_alphanumeric() {
            match all.last_mut().filter(|_| joins) {
                Some(word) => word.push(c),
                None => all.push(c.to_string()),
            }
        }
        before = Some(c);
    }
    all
}

const SIDES: [(&str, Side); 4] = [
    ("l", Side::Left),
    ("left", Side::Left),
    ("r", Side::Right),
    ("right", Side::Right),
];

/// Reads one file's name, its folders and ending left aside. Numbers that nothing explains are left in [`NameGuess::stem`].
pub fn read_name(path: &str, spelling: Spelling) -> NameGuess {
    let file = path.rsplit(['/', '\\']).next().unwrap_or(path);
    let name = match file.rsplit_once('.') {
        Some((name, ending))
            if !name.is_empty() && ending.chars().all(char::is_alphanumeric) && ending.len() <= 5 =>
        {
            name
        }
        _ => file,
    };
    let mut chars: Vec<char> = name.chars().collect();
    let mut guess = NameGuess::default();
    // A note with an octave first, the last one in the name: "B flat pad C3" is a C3.
    let places = || (0..chars.len()).rev();
    let found = places()
        .find_map(|at| {
            note_at(&chars, at, spelling)
                .filter(|n| n.octave.is_some())
                .map(|n| (at, n))
        })
        .or_else(|| {
            places().find_map(|at| {
                note_at(&chars, at, spelling)
                    .filter(|n| n.chord.is_some())
                    .map(|n| (at, n))
            })
        })
        .or_else(|| {
            places().find_map(|at| {
                note_at(&chars, at, spelling)
                    .filter(|n| n.length > 1)
                    .map(|n| (at, n))
            })
        });
    if let Some((at, note)) = found {
        guess.key = note.octave.and_then(|octave| key_of(note.steps, octave));
        guess.note = note.octave.is_none().then(|| note.steps.rem_euclid(12) as u8);
        guess.chord = note.chord;
        chars.splice(at..at + note.length, [' ']);
    }
    let mut words = tokens(&chars.iter().collect::<String>());
    take_marks(&mut words, &mut guess);
    if guess.key.is_none() && guess.note.is_none() {
        take_key_number(&mut words, &mut guess);
    }
    if guess.key.is_none() && guess.note.is_none() {
        // A note without an octave is weak evidence: looked for last, in what the other marks left.
        let text: Vec<char> = name.chars().collect();
        let found = (0..text.len())
            .rev()
            .find_map(|at| note_at(&text, at, spelling).map(|n| (at, n)));
        if let Some((at, note)) = found {
            let written: String = text[at..at + note.length].iter().collect();
            if let Some(n) = words.iter().position(|w| written.starts_with(w.as_str())) {
                words.remove(n);
                guess.note = Some(note.steps.rem_euclid(12) as u8);
            }
        }
    }
    guess.stem = words.join(" ");
    guess
}

/// Takes `v2`, `rr1`, `soft`, `rel`, `close` and their like out of the words.
fn take_marks(words: &mut Vec<String>, guess: &mut NameGuess) {
    let mut left = Vec::new();
    let mut at = 0;
    while at < words.len() {
        let word = words[at].to_lowercase();
        let number = words.get(at + 1).and_then(|next| next.parse::<u32>().ok());
        let is = |marks: &[&str]| marks.contains(&word.as_str());
        at += 1;
        if let Some(number) = number {
            let mut taken = true;
            let has_number = matches!(guess.strength, Some(Strength::Number(_)));
            if is(&["v", "vel", "velocity", "vl", "layer", "lay", "dyn", "l"]) && !has_number {
                // A word that was taken for a strength is part of the name after all.
                if let Some(Strength::Word(_, word)) = guess.strength.replace(Strength::Number(number)) {
                    left.push(word);
                }
            } else if is(&["rr", "r", "robin", "alt", "take", "tk", "rep", "seq", "var"])
                && guess.round_robin.is_none()
            {
                guess.round_robin = Some(number);
            } else if is(&["mic", "m"]) && guess.mic.is_none() {
                guess.mic = Some(format!("mic {number}"));
            } else {
                taken = false;
            }
            if taken {
                at += 1;
                continue;
            }
        }
        let strength = WORDS.iter().find(|(known, _)| *known == word);
        // Instruments are called "piano" too: where it stands first it is the thing's name, and of two strengths the last counts.
        let names_the_thing = word == "piano" && at == 1;
        match strength {
            Some((_, rank)) if !matches!(guess.strength, Some(Strength::Number(_))) && !names_the_thing => {
                if let Some(Strength::Word(_, earlier)) = guess.strength.replace(Strength::Word(*rank, word))
                {
                    left.push(earlier);
                }
            }
            _ if is(&KEY_UP) && !names_the_thing => guess.key_up = true,
            _ if guess.side.is_none() && SIDES.iter().any(|(known, _)| is(&[known])) => {
                guess.side = SIDES
                    .iter()
                    .find(|(known, _)| is(&[known]))
                    .map(|(_, side)| *side);
            }
            _ if is(&MICS) && guess.mic.is_none() && !names_the_thing => guess.mic = Some(word),
            _ => left.push(words[at - 1].clone()),
        }
    }
    *words = left;
}

/// Takes `note 61`, `key061` or a bare number of two or three digits for a key.
fn take_key_number(words: &mut Vec<String>, guess: &mut NameGuess) {
    let key = |word: &String| {
        (word.len() >= 2)
            .then(|| word.parse::<u8>().ok().filter(|key| *key <= 127))
            .flatten()
    };
    let named = words.iter().enumerate().find_map(|(n, word)| {
        let is = ["n", "note", "key", "midi", "k", "nr"].contains(&word.to_lowercase().as_str());
        words
            .get(n + 1)
            .filter(|_| is)
            .and_then(key)
            .map(|key| (n..n + 2, key))
    });
    let bare = || {
        let numbers: Vec<(usize, u8)> = words
            .iter()
            .enumerate()
            .filter_map(|(n, word)| Some((n, key(word)?)))
            .collect();
        let (n, found) = numbers.iter().find(|(_, key)| *key >= 12)?;
        Some((*n..*n + 1, *found))
    };
    if let Some((place, found)) = named.or_else(bare) {
        guess.key = Some(found);
        words.drain(place);
    }
}

/// All names, read together.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settled {
    /// Of each.
    pub guesses: Vec<NameGuess>,
    /// Places of the left and the right side of stereo recordings in two files.
    pub pairs: Vec<(usize, usize)>,
}

/// Pairs of names of one folder that differ in their side alone. Where there is no such pair, the side is a word like others.
fn pair_up(paths: &[String], guesses: &mut [NameGuess]) -> Vec<(usize, usize)> {
    let mut groups: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (n, (path, guess)) in paths.iter().zip(guesses.iter()).enumerate() {
        if guess.side.is_some() {
            let folder = path.rsplit_once(['/', '\\']).map_or("", |(folder, _)| folder);
            let sideless = NameGuess {
                side: None,
                ..guess.clone()
            };
            groups
                .entry(format!("{folder} {sideless:?}"))
                .or_default()
                .push(n);
        }
    }
    let mut pairs = Vec::new();
    for group in groups.into_values() {
        let sides: Vec<Option<Side>> = group.iter().map(|&n| guesses[n].side).collect();
        match (&group[..], &sides[..]) {
            (&[left, right], [Some(Side::Left), Some(Side::Right)])
            | (&[right, left], [Some(Side::Right), Some(Side::Left)]) => pairs.push((left, right)),
            _ => {
                for n in group {
                    let word = if guesses[n].side.take() == Some(Side::Left) {
                        "L"
                    } else {
                        "R"
                    };
                    guesses[n].stem = format!("{} {word}", guesses[n].stem).trim().to_owned();
                }
            }
        }
    }
    pairs
}

/// Reads all names and settles what one name alone cannot tell: two that differ in their side alone are one recording, and a last number that tells
/// files apart which are otherwise the same is their round robin, while one that all share is part of the name.
pub fn settle(paths: &[String], spelling: Spelling) -> Settled {
    let mut guesses: Vec<NameGuess> = paths.iter().map(|path| read_name(path, spelling)).collect();
    let pairs = pair_up(paths, &mut guesses);
    let last_number = |stem: &str| -> Option<(String, u32)> {
        let (rest, last) = stem.rsplit_once(' ').unwrap_or(("", stem));
        Some((rest.to_owned(), last.parse().ok().filter(|n| *n <= 99)?))
    };
    let mut groups: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (n, guess) in guesses.iter().enumerate() {
        if let (None, Some((rest, _))) = (guess.round_robin, last_number(&guess.stem)) {
            let same = format!(
                "{:?} {:?} {:?} {} {:?} {:?} {rest}",
                guess.key, guess.note, guess.strength, guess.key_up, guess.mic, guess.side
            );
            groups.entry(same).or_default().push(n);
        }
    }
    for group in groups.values().filter(|group| group.len() > 1) {
        for &n in group {
            if let Some((rest, number)) = last_number(&guesses[n].stem) {
                guesses[n].round_robin = Some(number);
                guesses[n].stem = rest;
            }
        }
    }
    Settled { guesses, pairs }
}

/// The strengths that occur, from soft to loud, as layers: index by strength.
pub fn layers_of(guesses: &[NameGuess]) -> Vec<Strength> {
    let all: BTreeSet<(u32, Strength)> = guesses
        .iter()
        .filter_map(|guess| guess.strength.clone())
        .map(|strength| match &strength {
            Strength::Number(n) => (*n, strength),
            Strength::Word(rank, _) => (*rank, strength),
        })
        .collect();
    all.into_iter().map(|(_, strength)| strength).collect()
}

/// How far the names' octaves lie from what is heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OctaveHabit {
    /// Added to the keys that the names give, a multiple of 12; 12 where middle C is written C3.
    pub shift_keys: i16,
    /// Files that speak for it.
    pub agree: usize,
    /// Files that were heard.
    pub heard: usize,
}

/// Decides by what is heard whether middle C is written C3, C4 or C5; `None` where too little is heard. `pairs` are a name's key and the
/// key heard.
pub fn octave_habit(pairs: &[(u8, u8)]) -> Option<OctaveHabit> {
    let mut votes: HashMap<i16, usize> = HashMap::new();
    for &(named, heard) in pairs {
        let off = i16::from(heard) - i16::from(named);
        let octaves = (f64::from(off) / 12.0).round() as i16;
        // A semitone off is a note out of tune; more is another note, and no evidence. Octaves may be any.
        if (off - octaves * 12).abs() <= 1 {
            *votes.entry(octaves * 12).or_default() += 1;
        }
    }
    // Among equals the names are taken by their word.
    let (shift, agree) = votes
        .into_iter()
        .max_by_key(|(shift, agree)| (*agree, -shift.abs()))?;
    (agree * 2 > pairs.len()).then_some(OctaveHabit {
        shift_keys: shift,
        agree,
        heard: pairs.len(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Names of every habit we can think of, made up by us: name, key, layer, round robin, key-up, mic.
    type Row = (&'static str, Option<u8>, &'static str, u32, bool, &'static str);
    const NAMES: [Row; 86] = [
        ("bell_C#3_v2_rr1.wav", Some(49), "2", 1, false, ""),
        ("61.wav", Some(61), "", 0, false, ""),
        ("Bb2 soft.aif", Some(46), "soft", 0, false, ""),
        ("slate C4.wav", Some(60), "", 0, false, ""),
        ("Slate-Eb5-loud.flac", Some(75), "loud", 0, false, ""),
        ("organ_F#2.wav", Some(42), "", 0, false, ""),
        ("organ_Fs2.wav", Some(42), "", 0, false, ""),
        ("organ_Fsharp2.wav", Some(42), "", 0, false, ""),
        ("organ_Gflat2.wav", Some(42), "", 0, false, ""),
        ("organ F♯2.wav", Some(42), "", 0, false, ""),
        ("organ G♭2.wav", Some(42), "", 0, false, ""),
        ("gb2.wav", Some(42), "", 0, false, ""),
        ("a#3.wav", Some(58), "", 0, false, ""),
        ("A3.wav", Some(57), "", 0, false, ""),
        ("b3.wav", Some(59), "", 0, false, ""),
        ("Bb3.wav", Some(58), "", 0, false, ""),
        ("bb3.wav", Some(58), "", 0, false, ""),
        ("C-1.wav", Some(0), "", 0, false, ""),
        ("kick C-2.wav", None, "", 0, false, ""),
        ("G9.wav", Some(127), "", 0, false, ""),
        ("harmonium C3 v1.wav", Some(48), "1", 0, false, ""),
        ("harmonium C3 v12.wav", Some(48), "12", 0, false, ""),
        ("harmonium_C3_vel064.wav", Some(48), "64", 0, false, ""),
        ("harmonium_C3_velocity_100.wav", Some(48), "100", 0, false, ""),
        ("harmonium C3 layer 2.wav", Some(48), "2", 0, false, ""),
        ("harmonium C3 L2.wav", Some(48), "2", 0, false, ""),
        ("Harmonium-D4-pp.wav", Some(62), "pp", 0, false, ""),
        ("Harmonium-D4-p.wav", Some(62), "p", 0, false, ""),
        ("Harmonium-D4-mp.wav", Some(62), "mp", 0, false, ""),
        ("Harmonium-D4-mf.wav", Some(62), "mf", 0, false, ""),
        ("Harmonium-D4-f.wav", Some(62), "f", 0, false, ""),
        ("Harmonium-D4-ff.wav", Some(62), "ff", 0, false, ""),
        ("Harmonium-D4-fff.wav", Some(62), "fff", 0, false, ""),
        ("ff Harmonium D4.wav", Some(62), "ff", 0, false, ""),
        ("piano_D4_medium.wav", Some(62), "medium", 0, false, ""),
        ("piano_D4_hard.wav", Some(62), "hard", 0, false, ""),
        ("Toy Piano D4 Quiet.wav", Some(62), "quiet", 0, false, ""),
        ("chime E4 rr1.wav", Some(64), "", 1, false, ""),
        ("chime E4 RR02.wav", Some(64), "", 2, false, ""),
        ("chime E4 r3.wav", Some(64), "", 3, false, ""),
        ("chime E4 alt2.wav", Some(64), "", 2, false, ""),
        ("chime E4 take 5.wav", Some(64), "", 5, false, ""),
        ("chime_E4_v3_rr2_close.wav", Some(64), "3", 2, false, "close"),
        ("chime_E4_v3_rr2_room.wav", Some(64), "3", 2, false, "room"),
        ("chime E4 mic1.wav", Some(64), "", 0, false, "mic 1"),
        ("chime E4 overhead.wav", Some(64), "", 0, false, "overhead"),
        ("chime E4 dry.wav", Some(64), "", 0, false, "dry"),
        ("E4 wet.wav", Some(64), "", 0, false, "wet"),
        ("felt_E4_rel.wav", Some(64), "", 0, true, ""),
        ("felt E4 release rr2.wav", Some(64), "", 2, true, ""),
        ("felt_E4_KeyUp.wav", Some(64), "", 0, true, ""),
        ("felt-E4-noteoff.wav", Some(64), "", 0, true, ""),
        ("E4v2.wav", Some(64), "2", 0, false, ""),
        ("E4v2rr3.wav", Some(64), "2", 3, false, ""),
        ("ChimeE4.wav", Some(64), "", 0, false, ""),
        ("ChimeF#4Soft.wav", Some(66), "soft", 0, false, ""),
        ("chimes/low rung/E4.wav", Some(64), "", 0, false, ""),
        ("chimes\\low rung\\E4.wav", Some(64), "", 0, false, ""),
        ("../../E4.wav", Some(64), "", 0, false, ""),
        ("E4", Some(64), "", 0, false, ""),
        ("E4.take1.wav", Some(64), "", 1, false, ""),
        ("E4 (2).wav", Some(64), "", 0, false, ""),
        ("note60.wav", Some(60), "", 0, false, ""),
        ("note 060 v2.wav", Some(60), "2", 0, false, ""),
        ("key_72_loud.wav", Some(72), "loud", 0, false, ""),
        ("midi-48.wav", Some(48), "", 0, false, ""),
        ("n36.wav", Some(36), "", 0, false, ""),
        ("060-mf.wav", Some(60), "mf", 0, false, ""),
        ("Night ferry 048.wav", Some(48), "", 0, false, ""),
        ("48_rr1.wav", Some(48), "", 1, false, ""),
        ("ferry 36 v1 rr2.wav", Some(36), "1", 2, false, ""),
        ("v1_36.wav", Some(36), "1", 0, false, ""),
        ("128.wav", None, "", 0, false, ""),
        ("no note here.wav", None, "", 0, false, ""),
        ("drum soft rr4.wav", None, "soft", 4, false, ""),
        ("thunder.wav", None, "", 0, false, ""),
        ("B flat horn C3.wav", Some(48), "", 0, false, ""),
        ("Db3_mp_rr2.wav", Some(49), "mp", 2, false, ""),
        ("DB3.wav", None, "", 0, false, ""),
        ("Ab4 off.wav", Some(68), "", 0, true, ""),
        ("as3.wav", Some(58), "", 0, false, ""),
        ("Cs4 f rr1 far.wav", Some(61), "f", 1, false, "far"),
        ("7 C4 v3.wav", Some(60), "3", 0, false, ""),
        ("C4 96k 24bit.wav", Some(60), "", 0, false, ""),
        ("2026-11-23 C4 v2.wav", Some(60), "2", 0, false, ""),
        ("rr2 v3 A0.wav", Some(21), "3", 2, false, ""),
    ];

    fn strength(guess: &NameGuess) -> String {
        match &guess.strength {
            None => String::new(),
            Some(Strength::Number(n)) => n.to_string(),
            Some(Strength::Word(_, word)) => word.clone(),
        }
    }

    #[test]
    fn names_of_every_habit_are_read() {
        let mut wrong = Vec::new();
        for (name, key, layer, robin, key_up, mic) in NAMES {
            let guess = read_name(name, Spelling::default());
            let read = (
                guess.key,
                strength(&guess),
                guess.round_robin.unwrap_or(0),
                guess.key_up,
                guess.mic.clone().unwrap_or_default(),
            );
            if read != (key, layer.to_owned(), robin, key_up, mic.to_owned()) {
                wrong.push(format!("{name}: {read:?}, stem «{}»", guess.stem));
            }
        }
        assert!(wrong.is_empty(), "{} wrong:\n{}", wrong.len(), wrong.join("\n"));
    }

    #[test]
    fn notes_without_octave_and_chords_are_told() {
        let read = |name| read_name(name, Spelling::default());
        for (name, note, chord) in [
            ("pad F# soft.wav", 6, None),
            ("pad_Ab.wav", 8, None),
            ("pad Am7.wav", 9, Some("m7")),
            ("pad C#maj7 rr2.wav", 1, Some("maj7")),
            ("pad_Gsus4.wav", 7, Some("sus4")),
            ("Bbm.wav", 10, Some("m")),
            ("Ddim.wav", 2, Some("dim")),
        ] {
            let guess = read(name);
            assert_eq!(
                (guess.note, guess.chord.as_deref(), guess.key),
                (Some(note), chord, None),
                "{name}"
            );
        }
    }

    #[test]
    fn german_names_are_read_where_they_are_chosen() {
        let german = |name| read_name(name, Spelling::German).key;
        for (name, key) in [
            ("Glocke_H3.wav", 59),
            ("Glocke_B3.wav", 58),
            ("Glocke Cis4.wav", 61),
            ("Glocke Des4.wav", 61),
            ("Glocke Es2.wav", 39),
            ("Glocke As2.wav", 44),
            ("Glocke Fis5.wav", 78),
        ] {
            assert_eq!(german(name), Some(key), "{name}");
        }
        assert_eq!(read_name("Glocke_H3.wav", Spelling::default()).key, None);
    }

    #[test]
    fn syllables_are_read_where_they_are_chosen() {
        let read = |name| read_name(name, Spelling::Syllables);
        for (name, key) in [
            ("cloche do4.wav", 60),
            ("cloche_Ré#3.wav", 51),
            ("cloche sol dièse 2.wav", 44),
            ("campana_la_bemolle_3.wav", 56),
            ("campana Sib3 forte.wav", 58),
            ("cloche Mib4 rr2.wav", 63),
            ("la guitarra fa#5.wav", 78),
            ("Ut1.wav", 24),
        ] {
            assert_eq!(read(name).key, Some(key), "{name}: {:?}", read(name));
        }
        assert_eq!(read("cloche sol dièse 2.wav").stem, "cloche");
        assert_eq!(read("pad La.wav").note, Some(9));
        assert_eq!(read("pad A3.wav").key, None);
        assert_eq!(read_name("cloche do4.wav", Spelling::default()).key, None);
    }

    #[test]
    fn a_last_number_is_a_round_robin_where_it_tells_files_apart() {
        let names: Vec<String> = ["bell C4_1.wav", "bell C4_2.wav", "bell D4_1.wav", "bell D4_2.wav"]
            .map(str::to_owned)
            .to_vec();
        let robins: Vec<Option<u32>> = settle(&names, Spelling::default())
            .guesses
            .iter()
            .map(|g| g.round_robin)
            .collect();
        assert_eq!(robins, [Some(1), Some(2), Some(1), Some(2)]);
        let shared: Vec<String> = ["set 3 C4.wav", "set 3 D4.wav"].map(str::to_owned).to_vec();
        let guesses = settle(&shared, Spelling::default()).guesses;
        assert!(
            guesses
                .iter()
                .all(|g| g.round_robin.is_none() && g.stem == "set 3")
        );
    }

    #[test]
    fn two_files_that_differ_in_their_side_are_one_recording() {
        let pairs = |names: &[&str]| {
            let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
            settle(&names, Spelling::default())
        };
        let strings = pairs(&[
            "Str C4 L.wav",
            "Str C4 R.wav",
            "Str D4-left.wav",
            "Str D4-right.wav",
            "StrE4R.wav",
            "StrE4L.wav",
        ]);
        assert_eq!(strings.pairs, [(0, 1), (2, 3), (5, 4)]);
        assert!(
            strings
                .guesses
                .iter()
                .all(|guess| guess.key.is_some() && guess.stem == "Str"),
            "{strings:?}"
        );
        // One side alone is part of a name, and so are those of two folders.
        let alone = pairs(&["Str C4 L.wav", "Str D4 L.wav"]);
        assert!(
            alone.pairs.is_empty() && alone.guesses[0].stem == "Str L" && alone.guesses[0].side.is_none()
        );
        assert!(pairs(&["a/Str C4 L.wav", "b/Str C4 R.wav"]).pairs.is_empty());
        // Turns and layers are told apart from sides.
        let many = pairs(&[
            "bell C4 r1 L.wav",
            "bell C4 r1 R.wav",
            "bell C4 r2 L.wav",
            "bell C4 r2 R.wav",
        ]);
        assert_eq!(many.pairs, [(0, 1), (2, 3)]);
        let numbered = pairs(&[
            "bell C4 1 L.wav",
            "bell C4 1 R.wav",
            "bell C4 2 L.wav",
            "bell C4 2 R.wav",
        ]);
        assert_eq!(numbered.pairs, [(0, 1), (2, 3)]);
        assert_eq!(
            numbered.guesses.iter().map(|g| g.round_robin).collect::<Vec<_>>(),
            [Some(1), Some(1), Some(2), Some(2)]
        );
    }

    #[test]
    fn strengths_stand_from_soft_to_loud() {
        let guesses: Vec<NameGuess> = ["C4 ff.wav", "C4 p.wav", "C4 mf.wav", "D4 p.wav"]
            .map(|name| read_name(name, Spelling::default()))
            .to_vec();
        let words: Vec<String> = layers_of(&guesses)
            .into_iter()
            .map(|s| match s {
                Strength::Word(_, word) => word,
                Strength::Number(n) => n.to_string(),
            })
            .collect();
        assert_eq!(words, ["p", "mf", "ff"]);
    }

    #[test]
    fn the_octave_habit_is_decided_by_what_is_heard() {
        // Written with middle C as C3: everything sounds an octave higher than C4 = 60 would have it.
        let habit = octave_habit(&[(48, 60), (52, 64), (55, 67), (59, 40)]).unwrap();
        assert_eq!((habit.shift_keys, habit.agree, habit.heard), (12, 3, 4));
        assert_eq!(octave_habit(&[(60, 60), (64, 65)]).unwrap().shift_keys, 0);
        assert_eq!(octave_habit(&[(60, 66), (64, 41)]), None);
        assert_eq!(octave_habit(&[]), None);
    }
}
