//! The published list of opcodes (version 1, and those of version 2 that are commonly read), from memory: what is written is held against it.

use super::tests::any_program;
use super::words::{Of, of_word};
use super::{Document, write_sfz};
use crate::{Format, lower};
use proptest::prelude::*;

/// What a word may say.
#[derive(Debug, Clone, Copy)]
enum Says {
    /// A whole number.
    Whole(i64, i64),
    /// Any number.
    Number(f64, f64),
    /// One of these.
    One(&'static [&'static str]),
    /// Anything.
    Text,
}
use Says::{Number, One, Text, Whole};

const KEY: Says = Whole(-1, 127);
const STEP: Says = Whole(0, 127);
const SECONDS: Says = Number(0.0, 100.0);
const PERCENT: Says = Number(0.0, 100.0);
const CENTS: Says = Whole(-9_600, 9_600);
const FILTER_CENTS: Says = Number(-9_600.0, 9_600.0);
const FRAMES: Says = Whole(0, 1 << 32);
const CURVE: Says = One(&["gain", "power"]);

/// Version 1: `N` stands for the number of a controller.
const FIRST: [(&str, Says); 73] = [
    ("sample", Text),
    ("lokey", KEY),
    ("hikey", KEY),
    ("key", KEY),
    ("lovel", STEP),
    ("hivel", STEP),
    ("loccN", STEP),
    ("hiccN", STEP),
    ("lorand", Number(0.0, 1.0)),
    ("hirand", Number(0.0, 1.0)),
    ("seq_length", Whole(1, 100)),
    ("seq_position", Whole(1, 100)),
    ("sw_lokey", STEP),
    ("sw_hikey", STEP),
    ("sw_last", STEP),
    ("sw_down", STEP),
    ("trigger", One(&["attack", "release", "first", "legato"])),
    ("group", Whole(0, 1 << 32)),
    ("off_by", Whole(0, 1 << 32)),
    ("on_loccN", STEP),
    ("on_hiccN", STEP),
    ("offset", FRAMES),
    ("end", Whole(-1, 1 << 32)),
    (
        "loop_mode",
        One(&["no_loop", "one_shot", "loop_continuous", "loop_sustain"]),
    ),
    ("loop_start", FRAMES),
    ("loop_end", FRAMES),
    ("transpose", Whole(-127, 127)),
    ("tune", Number(-100.0, 100.0)),
    ("pitch_keycenter", KEY),
    ("pitch_keytrack", Whole(-1_200, 1_200)),
    ("pitch_random", Number(0.0, 9_600.0)),
    ("bend_up", CENTS),
    ("bend_down", CENTS),
    ("volume", Number(-144.0, 6.0)),
    ("pan", Number(-100.0, 100.0)),
    ("amp_veltrack", Number(-100.0, 100.0)),
    ("amp_random", Number(0.0, 24.0)),
    ("gain_ccN", Number(-144.0, 48.0)),
    ("rt_decay", Number(0.0, 200.0)),
    ("xfin_lokey", STEP),
    ("xfin_hikey", STEP),
    ("xfout_lokey", STEP),
    ("xfout_hikey", STEP),
    ("xf_keycurve", CURVE),
    ("xfin_lovel", STEP),
    ("xfin_hivel", STEP),
    ("xfout_lovel", STEP),
    ("xfout_hivel", STEP),
    ("xf_velcurve", CURVE),
    ("xfin_loccN", STEP),
    ("xfin_hiccN", STEP),
    ("xfout_loccN", STEP),
    ("xfout_hiccN", STEP),
    ("xf_cccurve", CURVE),
    ("cutoff", Number(0.0, 96_000.0)),
    ("cutoff_ccN", FILTER_CENTS),
    ("cutoff_chanaft", FILTER_CENTS),
    ("cutoff_polyaft", FILTER_CENTS),
    ("resonance", Number(0.0, 40.0)),
    ("fil_veltrack", FILTER_CENTS),
    ("fil_random", Number(0.0, 9_600.0)),
    ("ampeg_delay", SECONDS),
    ("ampeg_attack", SECONDS),
    ("ampeg_hold", SECONDS),
    ("ampeg_decay", SECONDS),
    ("ampeg_sustain", PERCENT),
    ("ampeg_release", SECONDS),
    ("EG_delay", SECONDS),
    ("EG_attack", SECONDS),
    ("EG_hold", SECONDS),
    ("EG_decay", SECONDS),
    ("EG_release", SECONDS),
    ("EG_depth", Number(-12_000.0, 12_000.0)),
];

/// Filters of version 1; the others are of version 2.
const FILTERS: Says = One(&[
    "lpf_1p", "hpf_1p", "lpf_2p", "hpf_2p", "bpf_2p", "brf_2p", "lpf_4p", "hpf_4p",
]);

/// Version 2, or what version 1 gives a narrower bound.
const SECOND: [(&str, Says); 29] = [
    ("group_label", Text),
    // Version 1 has 0 to 1,200.
    ("fil_keytrack", Whole(-1_200, 1_200)),
    ("sw_default", STEP),
    ("polyphony", Whole(1, 1_000)),
    ("note_polyphony", Whole(1, 1_000)),
    ("pan_random", Number(0.0, 200.0)),
    ("fil_type", FILTERS),
    ("EG_sustain", PERCENT),
    ("volume_onccN", Number(-144.0, 48.0)),
    ("volume_curveccN", Whole(0, 255)),
    ("pan_onccN", Number(-200.0, 200.0)),
    ("pan_curveccN", Whole(0, 255)),
    ("pitch_onccN", Number(-9_600.0, 9_600.0)),
    ("pitch_curveccN", Whole(0, 255)),
    ("cutoff_onccN", FILTER_CENTS),
    ("cutoff_curveccN", Whole(0, 255)),
    ("resonance_onccN", Number(-40.0, 40.0)),
    ("resonance_curveccN", Whole(0, 255)),
    ("curve_index", Whole(0, 255)),
    ("set_ccN", STEP),
    ("label_ccN", Text),
    ("vN", Number(-1.0, 1.0)),
    ("lfoN_wave", Whole(0, 13)),
    ("lfoN_freq", Number(0.0, 100.0)),
    ("lfoN_phase", Number(0.0, 1.0)),
    ("lfoN_delay", SECONDS),
    ("lfoN_fade", SECONDS),
    ("lfoN_DRIVEN", Number(-9_600.0, 9_600.0)),
    ("lfoN_DRIVEN_onccN", Number(-9_600.0, 9_600.0)),
];

/// A word with its numbers as `N`, courses as `EG` and what a slow movement drives as `DRIVEN`; numbers of controllers up to 127, version 2 has more.
fn pattern(word: &str) -> String {
    let mut pattern = String::new();
    for letter in word.chars() {
        let is_digit = letter.is_ascii_digit();
        match (is_digit, pattern.ends_with('N')) {
            (true, true) => {}
            (true, false) => pattern.push('N'),
            (false, _) => pattern.push(letter),
        }
    }
    for course in ["fileg_", "pitcheg_"] {
        if let Some(part) = pattern.strip_prefix(course) {
            return format!("EG_{part}");
        }
    }
    if let Some(rest) = pattern.strip_prefix("lfoN_") {
        for driven in ["volume", "pan", "pitch", "cutoff", "resonance"] {
            if let Some(how) = rest.strip_prefix(driven) {
                return format!("lfoN_DRIVEN{how}");
            }
        }
    }
    pattern
}

fn wrong(word: &str, value: &str) -> Option<String> {
    let pattern = pattern(word);
    let listed = FIRST.iter().chain(&SECOND).find(|(listed, _)| *listed == pattern);
    let Some((_, says)) = listed else {
        return Some(format!("«{word}» is in no list"));
    };
    let is_right = match *says {
        Text => !value.is_empty(),
        One(all) => all.contains(&value),
        Whole(low, high) => value
            .parse::<i64>()
            .is_ok_and(|value| (low..=high).contains(&value)),
        Number(low, high) => value
            .parse::<f64>()
            .is_ok_and(|value| (low..=high).contains(&value)),
    };
    (!is_right).then(|| format!("{word}={value}: {says:?}"))
}

proptest! {
    #[test]
    fn all_that_is_written_stands_in_the_published_list(program in any_program()) {
        let lowered = lower(&program, Format::Sfz).program;
        let text = write_sfz(&lowered);
        let sections = Document::new(text)?.sections(|_| None)?;
        prop_assert!(sections.iter().all(|section| ["control", "group", "region", "curve"].contains(&section.header.as_str())));
        let all = sections.iter().flat_map(|section| &section.opcodes);
        let wrong: Vec<String> = all.filter_map(|(word, value)| wrong(word, value)).collect();
        prop_assert!(wrong.is_empty(), "{:?}", wrong);
    }
}

#[test]
fn every_word_of_version_1_that_is_listed_is_understood() {
    let words = FIRST.iter().flat_map(|(word, _)| match word.strip_prefix("EG_") {
        Some(part) => vec![format!("fileg_{part}"), format!("pitcheg_{part}")],
        None => vec![word.replace('N', "7")],
    });
    let unknown: Vec<String> = words.filter(|word| of_word(word) == Of::Nothing).collect();
    assert!(unknown.is_empty(), "{unknown:?}");
    assert!(
        wrong("volumee", "0").is_some() && wrong("tune", "101").is_some() && wrong("tune", "-3.5").is_none()
    );
}
