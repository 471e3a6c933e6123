//! Chords as they are written: what is struck together with a rung.

use crate::PlanError;
use crate::file_names::pitch_class;

/// Chords by the names of common practice, in semitones from their root.
const NAMED: [(&[&str], &[i8]); 12] = [
    (&["major", "maj"], &[4, 7]),
    (&["minor", "min", "m"], &[3, 7]),
    (&["dim"], &[3, 6]),
    (&["aug"], &[4, 8]),
    (&["sus2"], &[2, 7]),
    (&["sus4"], &[5, 7]),
    (&["maj7"], &[4, 7, 11]),
    (&["min7", "m7"], &[3, 7, 10]),
    (&["dom7"], &[4, 7, 10]),
    (&["dim7"], &[3, 6, 9]),
    (&["fifth"], &[7]),
    (&["octave"], &[12]),
];

/// What is struck with a rung, in semitones from it, rising, the rung itself left out; empty for the rung alone. Written as semitones from the rung
/// (`0 4 7`, `-5 0 4`), as notes of which the first stands for the rung and each next lies over the one before (`C E G`), or by a name (`min7`).
///
/// # Errors
/// A sentence where it is none of these.
pub fn read_chord(text: &str) -> Result<Vec<i8>, PlanError> {
    let words: Vec<&str> = text
        .split(|c: char| c.is_whitespace() || c == ',')
        .filter(|word| !word.is_empty())
        .collect();
    let wrong = || {
        PlanError(format!(
            "“{}” is no chord that is known here: write semitones from the rung (0 4 7), notes (C E G), or a name (min7).",
            text.trim()
        ))
    };
    if let [word] = words[..] {
        let low = word.to_lowercase();
        if let Some((_, chord)) = NAMED.iter().find(|(names, _)| names.contains(&low.as_str())) {
            return Ok(chord.to_vec());
        }
    }
    let semitones: Option<Vec<i8>> = words
        .iter()
        .map(|word| word.replace('\u{2212}', "-").parse().ok())
        .collect();
    let mut chord = semitones.or_else(|| over_one_another(&words)).ok_or_else(wrong)?;
    chord.retain(|by| *by != 0);
    chord.sort_unstable();
    chord.dedup();
    Ok(chord)
}

/// Notes without octaves, from the first one: each next is the nearest one over the one before.
fn over_one_another(words: &[&str]) -> Option<Vec<i8>> {
    let classes: Vec<i8> = words
        .iter()
        .map(|word| pitch_class(word).map(|class| class as i8))
        .collect::<Option<_>>()?;
    let mut at = 0i8;
    let mut chord = vec![0];
    for pair in classes.windows(2) {
        let up = (pair[1] - pair[0]).rem_euclid(12);
        at = at.checked_add(if up == 0 { 12 } else { up })?;
        chord.push(at);
    }
    Some(chord)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn chords_are_read_as_semitones_notes_and_names() {
        for (text, chord) in [
            ("", &[][..]),
            ("0", &[]),
            ("0 4 7", &[4, 7]),
            ("7, 4", &[4, 7]),
            ("-5 0 4", &[-5, 4]),
            ("\u{2212}5 4", &[-5, 4]),
            ("C E G", &[4, 7]),
            ("A C E G", &[3, 7, 10]),
            // Each over the one before: the first inversion of C major, and a doubled octave.
            ("E G C E", &[3, 8, 12]),
            ("F♯ a c#", &[3, 7]),
            ("B♭ D F", &[4, 7]),
            ("min7", &[3, 7, 10]),
            ("Major", &[4, 7]),
        ] {
            assert_eq!(read_chord(text).unwrap(), chord, "{text}");
        }
        for text in ["H7", "0 x 7", "C E 7", "loud", "0 400"] {
            assert!(read_chord(text).unwrap_err().0.contains(text), "{text}");
        }
    }
}
