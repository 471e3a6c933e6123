//! The words of SFZ that are understood, and what each is said of.

/// What a word is said of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Of {
    /// One region: what it sounds on, its sample and where that is read.
    Region,
    /// A strand: what starts it, its voices.
    Strand,
    /// A shape: loudness, brightness, pitch and what drives them.
    Shape,
    /// Something that is not understood.
    Nothing,
}

/// Other spellings of words (version 2, from memory), and the usual ones.
const SPELLINGS: [(&str, &str); 12] = [
    ("loopmode", "loop_mode"),
    ("loopstart", "loop_start"),
    ("loopend", "loop_end"),
    ("offby", "off_by"),
    ("bendup", "bend_up"),
    ("benddown", "bend_down"),
    ("filtype", "fil_type"),
    ("fil_cutoff", "cutoff"),
    ("gain", "volume"),
    ("pitch", "tune"),
    ("polyphony_group", "group"),
    ("amp_keycenter_gain", "volume"),
];

const OF_REGIONS: [&str; 28] = [
    "sample",
    "key",
    "lokey",
    "hikey",
    "lovel",
    "hivel",
    "pitch_keycenter",
    "pitch_keytrack",
    "tune",
    "transpose",
    "volume",
    "pan",
    "offset",
    "end",
    "loop_mode",
    "loop_start",
    "loop_end",
    "group",
    "off_by",
    "seq_length",
    "seq_position",
    "lorand",
    "hirand",
    "sw_lokey",
    "sw_hikey",
    "sw_default",
    "sw_last",
    "sw_down",
];

const OF_STRANDS: [&str; 7] = [
    "trigger",
    "group_label",
    "polyphony",
    "note_polyphony",
    "bend_up",
    "bend_down",
    "rt_decay",
];

const OF_SHAPES: [&str; 12] = [
    "amp_veltrack",
    "fil_type",
    "cutoff",
    "resonance",
    "fil_keytrack",
    "fil_veltrack",
    "cutoff_chanaft",
    "cutoff_polyaft",
    "pitch_random",
    "amp_random",
    "fil_random",
    "pan_random",
];

/// Courses, and their parts.
const COURSES: [&str; 3] = ["ampeg_", "fileg_", "pitcheg_"];
const PARTS: [&str; 7] = ["delay", "attack", "hold", "decay", "sustain", "release", "depth"];

/// What controllers drive, and slow movements.
const DRIVEN: [&str; 5] = ["volume", "pan", "pitch", "cutoff", "resonance"];
const OF_MOVEMENTS: [&str; 5] = ["wave", "freq", "phase", "delay", "fade"];

/// A word as it is usually spelt.
pub(super) fn usual(word: &str) -> &str {
    let found = SPELLINGS.iter().find(|(other, _)| *other == word);
    found.map_or(word, |(_, usual)| usual)
}

/// Whether a word is one of these with a number after it.
fn is_numbered(word: &str, stems: &[&str]) -> bool {
    stems.iter().any(|stem| {
        word.strip_prefix(stem)
            .is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|byte| byte.is_ascii_digit()))
    })
}

/// What a word is said of.
pub(super) fn of_word(word: &str) -> Of {
    if OF_REGIONS.contains(&word) || is_of_fades(word) || is_numbered(word, &["locc", "hicc"]) {
        Of::Region
    } else if OF_STRANDS.contains(&word) || is_numbered(word, &["on_locc", "on_hicc"]) {
        Of::Strand
    } else if OF_SHAPES.contains(&word) || is_driven(word) || is_of_movements(word) || is_of_courses(word) {
        Of::Shape
    } else {
        Of::Nothing
    }
}

fn is_of_fades(word: &str) -> bool {
    if matches!(word, "xf_keycurve" | "xf_velcurve" | "xf_cccurve") {
        return true;
    }
    let rest = word.strip_prefix("xfin_").or_else(|| word.strip_prefix("xfout_"));
    rest.is_some_and(|rest| {
        matches!(rest, "lokey" | "hikey" | "lovel" | "hivel") || is_numbered(rest, &["locc", "hicc"])
    })
}

fn is_of_courses(word: &str) -> bool {
    let part = COURSES.iter().find_map(|course| word.strip_prefix(course));
    // That of loudness has no depth.
    part.is_some_and(|part| PARTS.contains(&part)) && word != "ampeg_depth"
}

fn is_driven(word: &str) -> bool {
    is_numbered(word, &["gain_cc", "cutoff_cc"])
        || DRIVEN.iter().any(|stem| {
            word.strip_prefix(stem)
                .is_some_and(|rest| is_numbered(rest, &["_oncc", "_curvecc"]))
        })
}

fn is_of_movements(word: &str) -> bool {
    let Some((number, part)) = word.strip_prefix("lfo").and_then(|rest| rest.split_once('_')) else {
        return false;
    };
    let is_stem = |stem: &&str| {
        part.strip_prefix(*stem)
            .is_some_and(|rest| rest.is_empty() || is_numbered(rest, &["_oncc"]))
    };
    !number.is_empty()
        && number.bytes().all(|byte| byte.is_ascii_digit())
        && (OF_MOVEMENTS.contains(&part) || DRIVEN.iter().any(is_stem))
}
