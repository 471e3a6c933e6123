//! Note names inside the names of files, as they are spelt in different countries.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How notes are spelt.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Spelling {
    /// C D E F G A B.
    #[default]
    Letters,
    /// H is B and B is B♭; `is` and `es` are sharp and flat.
    German,
    /// Do re mi fa sol la si, with the words of French, Italian and Spanish for sharp and flat.
    Syllables,
}

const CHORDS: [&str; 20] = [
    "maj7", "maj9", "maj", "min7", "min9", "min", "m7b5", "m7", "m9", "m6", "m", "sus2", "sus4", "sus",
    "dim7", "dim", "aug", "add9", "7sus4", "chord",
];
const STEPS: [(char, i32); 7] = [
    ('C', 0),
    ('D', 2),
    ('E', 4),
    ('F', 5),
    ('G', 7),
    ('A', 9),
    ('B', 11),
];

/// Longer ones first.
const SYLLABLES: [(&str, i32); 10] = [
    ("sol", 7),
    ("do", 0),
    ("ut", 0),
    ("re", 2),
    ("mi", 4),
    ("fa", 5),
    ("so", 7),
    ("la", 9),
    ("si", 11),
    ("ti", 11),
];
const ENGLISH: [(&str, i32); 2] = [("sharp", 1), ("flat", -1)];
const GERMAN: [(&str, i32); 2] = [("is", 1), ("es", -1)];
const SYLLABLE_WORDS: [(&str, i32); 7] = [
    ("diesis", 1),
    ("diese", 1),
    ("sostenido", 1),
    ("bemolle", -1),
    ("bemol", -1),
    ("sharp", 1),
    ("flat", -1),
];

/// A note at a place in a name.
pub(super) struct NoteAt {
    /// Characters it takes.
    pub(super) length: usize,
    pub(super) steps: i32,
    pub(super) octave: Option<i32>,
    pub(super) chord: Option<String>,
}

/// Without accents, which some systems lose.
fn plain(c: char) -> char {
    match c {
        'é' | 'è' | 'ê' | 'É' | 'È' | 'Ê' => 'e',
        other => other,
    }
}

fn text_at(chars: &[char], at: usize, word: &str) -> bool {
    let mut rest = chars[at.min(chars.len())..].iter();
    word.chars()
        .all(|c| rest.next().is_some_and(|r| plain(*r).eq_ignore_ascii_case(&c)))
}

fn letter_at(chars: &[char], at: usize) -> bool {
    chars.get(at).is_some_and(|c| c.is_alphabetic())
}

fn digit_at(chars: &[char], at: usize) -> bool {
    chars.get(at).is_some_and(char::is_ascii_digit)
}

/// Whether a word ends before `at`: end, separator, digit, a capital after a digit, or the beginning of a mark such as `v2` or `rr1`.
fn ends_word(chars: &[char], at: usize) -> bool {
    !letter_at(chars, at)
        || (at > 0 && digit_at(chars, at - 1) && chars[at].is_uppercase())
        || ["v", "vel", "rr", "r", "l"]
            .iter()
            .any(|mark| text_at(chars, at, mark) && digit_at(chars, at + mark.len()))
}

/// The note that a name has at a place, where a word begins there.
pub(super) fn note_at(chars: &[char], at: usize, spelling: Spelling) -> Option<NoteAt> {
    let first = *chars.get(at)?;
    // A word may begin after a separator, a digit, or as a capital after a small letter.
    let begins =
        at == 0 || !chars[at - 1].is_alphabetic() || (chars[at - 1].is_lowercase() && first.is_uppercase());
    if !begins {
        return None;
    }
    let (natural, end) = natural_at(chars, at, spelling)?;
    let (sharper, end) = accidental_at(chars, (at, end), spelling);
    let steps = natural + sharper;
    if let Some((octave, length)) = octave_at(chars, end)
        && ends_word(chars, end + length)
    {
        return Some(NoteAt {
            length: end + length - at,
            steps,
            octave: Some(octave),
            chord: None,
        });
    }
    // Without an octave only capitals are notes: a small letter is more often a take or a part.
    if !first.is_uppercase() {
        return None;
    }
    let chord = CHORDS.iter().find(|chord| {
        text_at(chars, end, chord)
            && !letter_at(chars, end + chord.len())
            && !digit_at(chars, end + chord.len())
    });
    if let Some(chord) = chord {
        return Some(NoteAt {
            length: end + chord.len() - at,
            steps,
            octave: None,
            chord: Some((*chord).to_owned()),
        });
    }
    (!letter_at(chars, end) && !digit_at(chars, end)).then_some(NoteAt {
        length: end - at,
        steps,
        octave: None,
        chord: None,
    })
}

/// A note without sharp or flat: steps above C, and where it ends.
fn natural_at(chars: &[char], at: usize, spelling: Spelling) -> Option<(i32, usize)> {
    let upper = chars[at].to_ascii_uppercase();
    match (spelling, upper) {
        (Spelling::Syllables, _) => SYLLABLES
            .iter()
            .find(|(syllable, _)| text_at(chars, at, syllable))
            .map(|(syllable, steps)| (*steps, at + syllable.len())),
        (Spelling::German, 'H') => Some((11, at + 1)),
        (Spelling::German, 'B') => Some((10, at + 1)),
        _ => STEPS
            .iter()
            .find(|(letter, _)| *letter == upper)
            .map(|(_, steps)| (*steps, at + 1)),
    }
}

/// What stands after the natural that begins and ends at some places: steps, and where it ends.
fn accidental_at(chars: &[char], (begin, end): (usize, usize), spelling: Spelling) -> (i32, usize) {
    match chars.get(end) {
        Some('#' | '♯') => return (1, end + 1),
        Some('♭') => return (-1, end + 1),
        Some('b') if ends_note(chars, end + 1) => return (-1, end + 1),
        _ => {}
    }
    let found = |from: usize, words: &[(&str, i32)]| {
        let word = words.iter().find(|(word, _)| text_at(chars, from, word));
        word.map(|(word, steps)| (*steps, from + word.len()))
    };
    let worded = match spelling {
        Spelling::Letters => found(end, &ENGLISH),
        Spelling::German => {
            let short_flat =
                matches!(chars[begin].to_ascii_uppercase(), 'A' | 'E') && text_at(chars, end, "s");
            found(end, &GERMAN)
                .or(short_flat.then_some((-1, end + 1)))
                .or_else(|| found(end, &ENGLISH))
        }
        Spelling::Syllables => {
            // The word may stand by itself: "la bémol 3".
            let apart = matches!(chars.get(end), Some(' ' | '_' | '-'));
            let word = found(end, &SYLLABLE_WORDS).or_else(|| {
                apart
                    .then(|| found(end + 1, &SYLLABLE_WORDS))
                    .flatten()
                    .filter(|(_, end)| ends_note(chars, *end))
            });
            word.map(|(steps, end)| {
                let apart = matches!(chars.get(end), Some(' ' | '_')) && octave_at(chars, end + 1).is_some();
                (steps, if apart { end + 1 } else { end })
            })
        }
    };
    let s_sharp = || {
        let is_sharp = matches!(chars.get(end), Some('s' | 'S')) && octave_at(chars, end + 1).is_some();
        is_sharp.then_some((1, end + 1))
    };
    worded.or_else(s_sharp).unwrap_or((0, end))
}

/// Whether a note's name may end before `at`: at its end, a separator, an octave or a chord.
fn ends_note(chars: &[char], at: usize) -> bool {
    ends_word(chars, at) || CHORDS.iter().any(|chord| text_at(chars, at, chord))
}

/// An octave: one digit, or one of −2 to −1 after a minus.
fn octave_at(chars: &[char], at: usize) -> Option<(i32, usize)> {
    let digit = |at: usize| chars.get(at).and_then(|c| c.to_digit(10)).map(|d| d as i32);
    if matches!(chars.get(at), Some('-' | '−')) {
        let octave = digit(at + 1).filter(|d| (1..=2).contains(d) && !digit_at(chars, at + 2))?;
        return Some((-octave, 2));
    }
    let octave = digit(at).filter(|d| *d <= 9 && !digit_at(chars, at + 1))?;
    Some((octave, 1))
}

/// A note by itself, in letters, without an octave: semitones above C.
pub(crate) fn pitch_class(name: &str) -> Option<u8> {
    let mut chars: Vec<char> = name.chars().collect();
    chars.first_mut()?.make_ascii_uppercase();
    let note = note_at(&chars, 0, Spelling::Letters)?;
    let alone = note.length == chars.len() && note.octave.is_none() && note.chord.is_none();
    alone.then_some(note.steps.rem_euclid(12) as u8)
}

pub(super) fn key_of(steps: i32, octave: i32) -> Option<u8> {
    u8::try_from(steps + 12 * (octave + 1))
        .ok()
        .filter(|key| *key <= 127)
}
