//! What is wrong with keys as they sound, from the engine.

use crate::expected::{Expected, Run, expected, runs};
use crate::mends::{mend, tenth};
use crate::usual::out_of_usual;
use crate::{CEILING_DBTP, CutBy, CutHeard, Heard, TogetherHeard};
use instrument::{Fact, Finding, FindingKind, MiddleC, Resolved, Said, Target, key_name};
use program::Strand;
use signal::KeySound;
use std::collections::BTreeMap;

pub(crate) fn found(resolved: &Resolved, heard: &Heard) -> Vec<Finding> {
    let keys = &heard.keys;
    let mut found: Vec<Finding> = keys.iter().flat_map(one_key).collect();
    found.extend(off_expected(resolved, keys));
    found.extend(harder(&heard.keys));
    if let Some(together) = &heard.together {
        found.extend(in_a_chord(together));
        found.extend(together.cuts.iter().filter_map(cut_off));
        found.extend(beside_the_shelf(resolved, together, heard.shelf_lufs));
    }
    found
}

fn in_a_chord(heard: &TogetherHeard) -> Vec<Finding> {
    let over = heard.peak_dbtp.map(|peak| {
        let says = format!("Ten keys struck hard reach {} dBTP.", tenth(peak));
        Finding::measured(FindingKind::NoHeadroom, peak.max(0.0), says)
    });
    let short = heard.voices_wanted.saturating_sub(heard.voices);
    let says = format!(
        "Ten keys want {} voices, and have {}: the rest is cut off.",
        heard.voices_wanted, heard.voices
    );
    let few = (short > 0).then(|| Finding::measured(FindingKind::TooFewVoices, short as f64, says));
    over.into_iter().chain(few).collect()
}

fn cut_off(cut: &CutHeard) -> Option<Finding> {
    let db = cut.step_db?;
    let (by, part) = match cut.by {
        CutBy::Choke => ("what cuts it off ends it", 0),
        CutBy::Theft => ("a note that wants its voice ends it", 1 << 8),
    };
    let says = format!(
        "{}: {by} with a step, {} dB under its loudest.",
        key_name(cut.key, MiddleC::C4),
        tenth(-db)
    );
    Some(Finding {
        part: u64::from(cut.key) | part,
        keys: Some([cut.key, cut.key]),
        ..Finding::measured(FindingKind::ClickAsCut, db, says)
    })
}

/// How far it lies from what the shelf is meant to be, and what brings it there: all of its strands by the same, as far as there is room above.
fn beside_the_shelf(resolved: &Resolved, heard: &TogetherHeard, shelf: Option<f64>) -> Option<Finding> {
    let (own, shelf) = (heard.loudness_lufs?, shelf?);
    let off = own - shelf;
    let says = format!(
        "At {} LUFS it is {} dB {} than the shelf is meant to be.",
        tenth(own),
        tenth(off.abs()),
        if off > 0.0 { "louder" } else { "softer" }
    );
    let room = heard.peak_dbtp.map_or(0.0, |peak| (CEILING_DBTP - peak).max(0.0));
    let by = (-off).min(room);
    let levelled = |strand: &Strand| {
        let to_db = ((strand.gain_db + by).clamp(-96.0, 48.0) * 10.0).round() / 10.0;
        let said = Said::Value(to_db.into());
        (Target::Strand(strand.id), Fact::StrandGainDb, said)
    };
    let is_enough = (off + by).abs() < FindingKind::OffShelf.limit();
    let level = is_enough.then(|| {
        let way = if by > 0.0 { "up" } else { "down" };
        let changes = format!("All of it goes {way} by {} dB.", tenth(by.abs()));
        let wishes = resolved.program.strands.iter().map(levelled).collect();
        mend("Level it with the shelf", changes, wishes)
    });
    Some(Finding::measured(FindingKind::OffShelf, off, says).mended_by(level))
}

fn at(sound: &KeySound, finding: Finding) -> Finding {
    Finding {
        part: u64::from(sound.key) | (u64::from(sound.strike) << 8),
        keys: Some([sound.key, sound.key]),
        strikes: Some([sound.strike, sound.strike]),
        ..finding
    }
}

fn name(sound: &KeySound) -> String {
    format!("{} struck {}", key_name(sound.key, MiddleC::C4), sound.strike)
}

fn one_key(sound: &KeySound) -> Vec<Finding> {
    let name = name(sound);
    let mut found = Vec::new();
    if sound.level_dbfs.is_none() {
        let says = format!("{name} gives no sound.");
        return vec![at(sound, Finding::so(FindingKind::SilentKey, says))];
    }
    let mut step = |kind, db: Option<f64>, when: &str| {
        if let Some(db) = db {
            let says = format!("{name} {when} with a step, {} dB under its loudest.", tenth(-db));
            found.push(at(sound, Finding::measured(kind, db, says)));
        }
    };
    step(FindingKind::ClickAtKeyDown, sound.first_step_db, "begins");
    step(FindingKind::ClickAtKeyUp, sound.release_step_db, "is let go");
    if let Some(ms) = sound.rings_ms {
        let says = format!("{name} still sounds {:.0} s after its key came up.", ms / 1_000.0);
        found.push(at(sound, Finding::measured(FindingKind::Hangs, ms, says)));
    }
    if let Some(db) = sound.key_up_over_db {
        let says = format!(
            "{name}: what sounds as the key comes up is {} dB louder than the note was then.",
            tenth(db)
        );
        found.push(at(
            sound,
            Finding::measured(FindingKind::KeyUpLoud, db.max(0.0), says),
        ));
    }
    found
}

/// What of a key is compared with its neighbours.
struct Compared {
    kind: FindingKind,
    unit: &'static str,
    /// Under what is expected, and over it.
    ways: [&'static str; 2],
    is: fn(&KeySound) -> Option<f64>,
    expected: fn(&Expected) -> Option<f64>,
}

const LEVEL: Compared = Compared {
    kind: FindingKind::KeyLevelSteps,
    unit: "dB",
    ways: ["softer", "louder"],
    is: |sound| sound.level_dbfs,
    expected: |of| of.level_dbfs,
};
const PITCH: Compared = Compared {
    kind: FindingKind::KeyOffPitch,
    unit: "cents",
    ways: ["lower", "higher"],
    is: |sound| sound.cents,
    expected: |of| of.cents,
};
const BRIGHTNESS: Compared = Compared {
    kind: FindingKind::KeyBrightnessSteps,
    unit: "semitones",
    ways: ["duller", "brighter"],
    is: |sound| sound.brightness_key,
    expected: |of| of.brightness_key,
};

/// Keys that lie further from the curve of their strike than is usual there. What is wrong with keys that the same recordings play is one finding, of the one
/// that is furthest off; an instrument that is tuned otherwise as a whole is right by itself.
fn off_expected(resolved: &Resolved, keys: &[KeySound]) -> Vec<Finding> {
    let expected = expected(keys, &resolved.program);
    let runs = runs(keys, &resolved.program);
    let pitched = resolved.plan.kind.pitched();
    let compared = [LEVEL, PITCH, BRIGHTNESS].into_iter();
    let mut found = Vec::new();
    for compared in compared.filter(|of| pitched || of.kind != FindingKind::KeyOffPitch) {
        let off = |n: usize| Some((compared.is)(&keys[n])? - (compared.expected)(&expected[n])?);
        for of_strike in runs.chunk_by(|a, b| a.strike(keys) == b.strike(keys)) {
            let worst = |run: &'_ Run| {
                let all = run.places.iter().filter_map(|n| off(*n));
                all.max_by(|a, b| a.abs().total_cmp(&b.abs()))
            };
            let all: Vec<(&Run, f64)> = (of_strike.iter())
                .filter_map(|run| Some((run, worst(run)?)))
                .collect();
            let beyond = out_of_usual(all.iter().map(|(_, off)| *off));
            let out = all.into_iter().filter(|(_, off)| off.abs() > beyond);
            found.extend(out.map(|(run, off)| stepped_out(&compared, run.ends(keys), off)));
        }
    }
    found
}

fn stepped_out(compared: &Compared, (low, high): (&KeySound, &KeySound), off: f64) -> Finding {
    let (name, beside) = if low.key == high.key {
        (format!("{} is", name(low)), "its")
    } else {
        let low = key_name(low.key, MiddleC::C4);
        (format!("{low}–{} are", name(high)), "their")
    };
    let says = format!(
        "{name} {} {} {} than {beside} neighbours.",
        tenth(off.abs()),
        compared.unit,
        compared.ways[usize::from(off > 0.0)]
    );
    Finding {
        keys: Some([low.key, high.key]),
        ..at(low, Finding::measured(compared.kind, off, says))
    }
}

/// The same key struck harder.
fn harder(sounds: &[KeySound]) -> Vec<Finding> {
    let mut by_key: BTreeMap<u8, Vec<&KeySound>> = BTreeMap::new();
    for sound in sounds {
        by_key.entry(sound.key).or_default().push(sound);
    }
    let mut found = Vec::new();
    for mut of_key in by_key.into_values() {
        of_key.sort_by_key(|sound| sound.strike);
        for two in of_key.windows(2) {
            if let (Some(soft), Some(hard)) = (two[0].brightness_key, two[1].brightness_key) {
                let short = soft - hard;
                let says = format!(
                    "{} is {} semitones duller than struck {}.",
                    name(two[1]),
                    tenth(short),
                    two[0].strike
                );
                found.extend((short > 0.0).then(|| {
                    let finding = Finding::measured(FindingKind::StrikeBrightnessSteps, short, says);
                    at(two[1], finding)
                }));
            }
            if let (Some(soft), Some(hard)) = (two[0].level_dbfs, two[1].level_dbfs) {
                let short = soft - hard;
                let says = format!(
                    "{} is {} dB softer than struck {}.",
                    name(two[1]),
                    tenth(short),
                    two[0].strike
                );
                found.extend((short > 0.0).then(|| {
                    at(
                        two[1],
                        Finding::measured(FindingKind::StrikeLevelSteps, short, says),
                    )
                }));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{empty, kinds, over};
    use program::{Program, Region};

    /// Keys 40 to 60 at two strikes, in tune, the harder one 12 dB louder, all a little softer up the keys.
    fn even() -> Heard {
        let sound = |key: u8, strike: u8| KeySound {
            key,
            strike,
            level_dbfs: Some(-30.0 - f64::from(key) * 0.1 + if strike > 64 { 12.0 } else { 0.0 }),
            cents: Some(0.5),
            ..KeySound::default()
        };
        Heard {
            keys: (40..=60)
                .flat_map(|key| [sound(key, 32), sound(key, 112)])
                .collect(),
            ..Heard::default()
        }
    }

    fn found_in(change: impl Fn(&mut Heard)) -> Vec<Finding> {
        let mut heard = even();
        change(&mut heard);
        over(found(&empty(), &heard))
    }

    #[test]
    fn what_is_even_has_nothing_wrong() {
        assert_eq!(found_in(|_| ()), []);
    }

    #[test]
    fn a_key_that_steps_out_is_named_and_its_neighbours_are_not() {
        let loud = found_in(|heard| heard.keys[21].level_dbfs = Some(-14.0));
        assert_eq!(kinds(&loud), [FindingKind::KeyLevelSteps]);
        assert_eq!(
            (loud[0].keys, loud[0].strikes),
            (Some([50, 50]), Some([112, 112]))
        );
        assert!(loud[0].says.starts_with("D3 struck 112 is 9"), "{}", loud[0].says);
        let off = found_in(|heard| heard.keys[20].cents = Some(-24.0));
        assert_eq!(kinds(&off), [FindingKind::KeyOffPitch]);
        assert!(off[0].is_wrong(), "{off:?}");
        let silent = found_in(|heard| heard.keys[20].level_dbfs = None);
        assert_eq!(kinds(&silent), [FindingKind::SilentKey]);
    }

    #[test]
    fn keys_of_one_recording_that_step_out_are_one_finding() {
        let regions = (0..7).map(|n| Region::whole(0, 42 + 3 * n, 1_000).on_keys(40 + 3 * n, 42 + 3 * n));
        let mut of = empty();
        of.program = Program::plain("reeds", Vec::new(), regions.collect());
        let mut heard = even();
        for loud in heard
            .keys
            .iter_mut()
            .filter(|of| (49..=51).contains(&of.key) && of.strike > 64)
        {
            loud.level_dbfs = loud.level_dbfs.map(|db| db + 8.0);
        }
        let found = over(found(&of, &heard));
        assert_eq!(kinds(&found), [FindingKind::KeyLevelSteps]);
        assert_eq!(
            (found[0].keys, found[0].strikes),
            (Some([49, 51]), Some([112, 112]))
        );
        assert!(
            found[0].says.starts_with("C♯3–D♯3 struck 112 are 8"),
            "{}",
            found[0].says
        );
    }

    #[test]
    fn a_key_or_a_strike_that_is_of_another_colour_is_found() {
        let bright = |heard: &mut Heard| {
            for key in &mut heard.keys {
                key.brightness_key = Some(f64::from(key.key) + if key.strike > 64 { 20.0 } else { 14.0 });
            }
        };
        assert_eq!(found_in(bright), []);
        let dull = found_in(|heard| {
            bright(heard);
            heard.keys[21].brightness_key = Some(53.0);
        });
        assert_eq!(
            kinds(&dull),
            [
                FindingKind::KeyBrightnessSteps,
                FindingKind::StrikeBrightnessSteps
            ]
        );
        assert!(
            dull[0]
                .says
                .ends_with("is 17.0 semitones duller than its neighbours."),
            "{}",
            dull[0].says
        );
    }

    #[test]
    fn a_harder_strike_that_is_softer_is_found() {
        let found = found_in(|heard| {
            for key in heard.keys.iter_mut().filter(|key| key.strike == 112) {
                key.level_dbfs = key.level_dbfs.map(|db| db - 14.0);
            }
        });
        assert_eq!(found.len(), 21);
        assert!(
            found
                .iter()
                .all(|found| found.kind == FindingKind::StrikeLevelSteps)
        );
        assert_eq!(found[0].how_much, Some(2.0));
    }

    #[test]
    fn clicks_and_what_hangs_are_found_from_their_limits_on() {
        let with = |set: fn(&mut KeySound)| kinds(&found_in(|heard| set(&mut heard.keys[10])));
        assert_eq!(
            with(|key| key.first_step_db = Some(-30.0)),
            [FindingKind::ClickAtKeyDown]
        );
        assert_eq!(with(|key| key.first_step_db = Some(-45.0)), []);
        assert_eq!(
            with(|key| key.release_step_db = Some(-45.0)),
            [FindingKind::ClickAtKeyUp]
        );
        assert_eq!(with(|key| key.rings_ms = Some(10_100.0)), [FindingKind::Hangs]);
        assert_eq!(
            with(|key| key.key_up_over_db = Some(8.0)),
            [FindingKind::KeyUpLoud]
        );
        assert_eq!(with(|key| key.key_up_over_db = Some(-20.0)), []);
    }

    fn together() -> TogetherHeard {
        TogetherHeard {
            peak_dbtp: Some(-3.0),
            voices_wanted: 20,
            voices: 20,
            loudness_lufs: Some(-24.0),
            cuts: Vec::new(),
        }
    }

    #[test]
    fn a_chord_that_goes_over_or_lacks_voices_is_found() {
        let chord = |peak_dbtp, voices| {
            let chord = TogetherHeard {
                peak_dbtp: Some(peak_dbtp),
                voices,
                ..together()
            };
            kinds(&found_in(|heard| heard.together = Some(chord.clone())))
        };
        assert_eq!(chord(-3.0, 20), []);
        assert_eq!(chord(4.0, 20), [FindingKind::NoHeadroom]);
        assert_eq!(chord(-3.0, 16), [FindingKind::TooFewVoices]);
    }

    #[test]
    fn a_note_that_is_cut_off_with_a_step_is_found_whatever_cuts_it() {
        let cut = |by, step_db| CutHeard { key: 60, by, step_db };
        let found = found_in(|heard| {
            let cuts = vec![
                cut(CutBy::Choke, Some(-30.0)),
                cut(CutBy::Theft, Some(-40.0)),
                cut(CutBy::Theft, Some(-55.0)),
                cut(CutBy::Choke, None),
            ];
            heard.together = Some(TogetherHeard { cuts, ..together() });
        });
        assert_eq!(kinds(&found), [FindingKind::ClickAsCut; 2]);
        assert!(found[0].says.starts_with("C4: what cuts it off"), "{found:?}");
        assert_ne!(found[0].key(), found[1].key());
    }

    #[test]
    fn an_instrument_that_is_far_from_the_shelf_is_brought_to_it_where_there_is_room() {
        let mut of = empty();
        of.program = Program::plain("reeds", Vec::new(), Vec::new());
        of.program.strands[0].gain_db = -1.5;
        let mut heard = even();
        heard.together = Some(together());
        let off_by = |heard: &mut Heard, shelf| {
            heard.shelf_lufs = shelf;
            over(found(&of, heard))
        };
        assert_eq!(off_by(&mut heard, None), []);
        assert_eq!(off_by(&mut heard, Some(-28.0)), []);
        let louder = off_by(&mut heard, Some(-32.0));
        assert_eq!(kinds(&louder), [FindingKind::OffShelf]);
        assert!(
            louder[0]
                .says
                .ends_with("8.0 dB louder than the shelf is meant to be."),
            "{louder:?}"
        );
        let wish = &louder[0].mend.as_ref().unwrap().wishes[0];
        assert_eq!(
            (wish.fact, &wish.after),
            (Fact::StrandGainDb, &Said::Value((-9.5).into()))
        );
        // Ten keys reach -3 dBTP: there is room for 2 dB, which is not enough here.
        let softer = off_by(&mut heard, Some(-14.0));
        assert_eq!(
            (kinds(&softer), &softer[0].mend),
            (vec![FindingKind::OffShelf], &None)
        );
        let near = off_by(&mut heard, Some(-17.0));
        let changes = &near[0].mend.as_ref().unwrap().changes;
        assert!(changes.contains("up by 2.0 dB"), "{near:?}");
    }
}
