//! Reading.

use super::driven::{curves_of, level_offset_db, read_driven};
use super::numbers::number_of;
use crate::FormatError;
use crate::lower::sustain_db_of;
use program::{
    Among, BEND_KEYS, BendKeys, ChosenBy, CurvePoint, Cut, Fade, FadeLaw, Loop, LoopRuns, Loudness, On,
    Program, Region, RegionKey, RegionOf, SameKey, Sample, SampleId, Shape, ShapeId, Source, Span, Stays,
    Strand, StrandId, Switch, SwitchId, Turn, Voices, When, Within,
};
use std::collections::{BTreeSet, HashMap};

/// Reads SFZ text. `probe` gives rate, channels and frames of a sample by its path.
///
/// # Errors
/// Where a sample is missing or a number is none, with the line.
pub fn read_sfz(text: &str, probe: impl Fn(&str) -> Option<(u32, u16, u64)>) -> Result<Program, FormatError> {
    let name = text
        .lines()
        .next()
        .and_then(|line| line.strip_prefix("//"))
        .unwrap_or("")
        .trim()
        .to_owned();
    let mut program = Program {
        name,
        ..Program::default()
    };
    let mut global: HashMap<String, String> = HashMap::new();
    let mut group = global.clone();
    let mut samples: HashMap<String, usize> = HashMap::new();
    let sections = sections(text);
    let curves = curves_of(&sections)?;
    for (header, opcodes) in sections {
        match header.as_str() {
            "global" => {
                global = opcodes;
                group = global.clone();
            }
            "group" => {
                group = global.clone();
                group.extend(opcodes);
                add_strand(&mut program, &group, &curves)?;
            }
            "region" => {
                if program.strands.is_empty() {
                    add_strand(&mut program, &group, &curves)?;
                }
                let mut all = group.clone();
                all.extend(opcodes);
                let source = all.get("sample").cloned().unwrap_or_default().replace('\\', "/");
                let index = match samples.get(&source) {
                    Some(&index) => index,
                    None => {
                        let (rate_hz, channels, frames) = probe(&source).ok_or_else(|| {
                            FormatError::Unreadable(format!("The sample «{source}» is not there."))
                        })?;
                        let name = source.rsplit('/').next().unwrap_or(&source);
                        let name = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned();
                        program.samples.push(Sample {
                            id: SampleId(program.samples.len() as u64),
                            name,
                            source: source.clone(),
                            rate_hz,
                            first_channel: 0,
                            source_channels: channels,
                            channels,
                            frames,
                        });
                        samples.insert(source, program.samples.len() - 1);
                        program.samples.len() - 1
                    }
                };
                let chosen_by = chosen_by(&all, &mut program)?;
                let mut region = region_of(&all, &program, index)?;
                region.when.chosen_by = chosen_by;
                program.regions.push(region);
            }
            _ => {}
        }
    }
    Ok(program)
}

/// Headers with their opcodes. A value may hold spaces up to the next `opcode=`.
fn sections(text: &str) -> Vec<(String, HashMap<String, String>)> {
    let mut sections: Vec<(String, HashMap<String, String>)> = Vec::new();
    for line in text.lines() {
        let mut rest = line.split("//").next().unwrap_or("").trim();
        while let Some(after) = rest.strip_prefix('<') {
            let Some((header, tail)) = after.split_once('>') else {
                break;
            };
            sections.push((header.trim().to_owned(), HashMap::new()));
            rest = tail.trim_start();
        }
        let Some((_, opcodes)) = sections.last_mut() else {
            continue;
        };
        let mut key: Option<String> = None;
        for word in rest.split(' ') {
            if let Some((name, value)) = word.split_once('=').filter(|(name, _)| !name.is_empty()) {
                opcodes.insert(name.to_owned(), value.to_owned());
                key = Some(name.to_owned());
            } else if let Some(value) = key.as_ref().and_then(|key| opcodes.get_mut(key)) {
                value.push(' ');
                value.push_str(word);
            }
        }
        if let Some(value) = key.as_ref().and_then(|key| opcodes.get_mut(key)) {
            value.truncate(value.trim_end().len());
        }
    }
    sections
}

/// Of a region that is added to the last strand: regions are numbered in each, in the file's order.
fn next_key(program: &Program) -> RegionKey {
    let strand = program
        .strands
        .last()
        .map_or_else(StrandId::default, |strand| strand.id);
    RegionKey {
        strand,
        of: RegionOf::Own(program.regions_of(strand).count() as u64),
    }
}

/// A group is a strand with a shape of its own.
fn add_strand(
    program: &mut Program,
    group: &HashMap<String, String>,
    curves: &[(u64, Vec<CurvePoint>)],
) -> Result<(), FormatError> {
    let driving = read_driven(group, curves, program)?;
    let number = program.strands.len() as u64;
    let ms = |name: &str, default: f64| {
        Ok::<f64, FormatError>((number_of(group, name, default)? * 1000.0).round())
    };
    program.shapes.push(Shape {
        id: ShapeId(number),
        loudness: Loudness {
            delay_ms: ms("ampeg_delay", 0.0)?,
            attack_ms: ms("ampeg_attack", 0.0)?,
            hold_ms: ms("ampeg_hold", 0.0)?,
            decay_ms: ms("ampeg_decay", 0.0)?,
            sustain_db: sustain_db_of(number_of(group, "ampeg_sustain", 100.0)?),
            release_ms: ms("ampeg_release", 0.0)?,
            velocity_to_level: (number_of(group, "amp_veltrack", 100.0)? * 10.0).round() / 1000.0,
            bends: [0.0; 3],
        },
        courses: driving.courses,
        filter: driving.filter,
        movements: driving.movements,
        routes: driving.routes,
    });
    let name = group.get("group_label").cloned();
    let entered = controllers_of(group, "on_")?.into_iter().next();
    program.strands.push(Strand {
        on: match group.get("trigger").map(String::as_str) {
            _ if entered.is_some() => entered.map_or(On::KEY_DOWN, On::Enters),
            Some("release") => On::KeyUp {
                pedal_holds: true,
                fall_db_per_s: number_of(group, "rt_decay", 0.0)?,
            },
            Some("first") => On::KeyDown(Among::First),
            Some("legato") => On::KeyDown(Among::Legato),
            _ => On::KEY_DOWN,
        },
        voices: Voices {
            bend: bend_of(group)?,
            most: (group.get("polyphony"))
                .map(|_| number_of(group, "polyphony", 1.0).map(|most| most.clamp(1.0, 65_535.0) as u16))
                .transpose()?,
            same_key: if number_of(group, "note_polyphony", 0.0)? == 1.0 {
                SameKey::Cuts
            } else {
                SameKey::Rings
            },
            ..Voices::default()
        },
        ..Strand::new(
            StrandId(number),
            name.unwrap_or_else(|| format!("Strand {}", number + 1)),
            ShapeId(number),
        )
    });
    Ok(())
}

/// How far the bend reaches, in cents up and, below 0, down; `None` where it is two keys each way, as it is where nothing is said.
fn bend_of(group: &HashMap<String, String>) -> Result<Option<BendKeys>, FormatError> {
    let keys = |name: &str, default: f64| {
        Ok::<u8, FormatError>((number_of(group, name, default)? / 100.0).round().abs().min(48.0) as u8)
    };
    let bend = BendKeys {
        up: keys("bend_up", 100.0 * f64::from(BEND_KEYS.up))?,
        down: keys("bend_down", -100.0 * f64::from(BEND_KEYS.down))?,
    };
    Ok(Some(bend).filter(|bend| *bend != BEND_KEYS))
}

/// Which controllers have to stand where, by the words `locc` and `hicc` after another.
fn controllers_of(all: &HashMap<String, String>, word: &str) -> Result<Vec<Within>, FormatError> {
    let number = |name: &String| {
        const FADES: [&str; 3] = ["xfin_", "xfout_", ""];
        let rest = name.strip_prefix(word)?;
        let rest = FADES.into_iter().find_map(|fade| rest.strip_prefix(fade))?;
        let named = rest.strip_prefix("locc").or_else(|| rest.strip_prefix("hicc"))?;
        named.parse::<u8>().ok().filter(|number| *number < 128)
    };
    let numbers: BTreeSet<u8> = all.keys().filter_map(number).collect();
    let within = |number: u8| {
        let mut span = span_of(all, &format!("cc{number}"), "cc", 0.0, 127.0)?;
        span.low = step_of(all, &format!("{word}locc{number}"), 0.0)?;
        span.high = step_of(all, &format!("{word}hicc{number}"), 127.0)?;
        Ok(Within {
            source: Source::Controller(number),
            span,
        })
    };
    numbers.into_iter().map(within).collect()
}

/// The key that chooses a region: switches are those that differ in their keys.
fn chosen_by(all: &HashMap<String, String>, program: &mut Program) -> Result<Option<ChosenBy>, FormatError> {
    let has = |word: &&str| all.contains_key(*word);
    let Some(word) = ["sw_last", "sw_down"].into_iter().find(has) else {
        return Ok(None);
    };
    let key = step_of(all, word, 0.0)?;
    let low_key = step_of(all, "sw_lokey", f64::from(key))?;
    let high_key = step_of(all, "sw_hikey", f64::from(key))?;
    let at_first = step_of(all, "sw_default", f64::from(low_key))?;
    let same = |switch: &&Switch| {
        (switch.low_key, switch.high_key, switch.at_first) == (low_key, high_key, at_first)
    };
    let found = program.switches.iter().find(same).map(|switch| switch.id);
    let switch = found.unwrap_or_else(|| {
        let number = program.switches.len() as u64;
        program.switches.push(Switch {
            id: SwitchId(number),
            name: format!("Switch {}", number + 1),
            low_key,
            high_key,
            at_first,
        });
        SwitchId(number)
    });
    Ok(Some(ChosenBy {
        switch,
        low_key: key,
        high_key: key,
        stays: if word == "sw_last" {
            Stays::Latched
        } else {
            Stays::Held
        },
    }))
}

/// A group, as a number.
fn group_of(all: &HashMap<String, String>, word: &str) -> Result<Option<u32>, FormatError> {
    let of = |_: &String| number_of(all, word, 0.0).map(|number| number as u32);
    all.get(word).map(of).transpose()
}

/// The keys or velocities of a region, from `low` to `high` where nothing is said.
fn span_of(
    all: &HashMap<String, String>,
    of: &str,
    kind: &str,
    low: f64,
    high: f64,
) -> Result<Span, FormatError> {
    let fade = |word: &str| {
        let has = all.contains_key(&format!("{word}_lo{of}")) || all.contains_key(&format!("{word}_hi{of}"));
        let (from, to) = (
            step_of(all, &format!("{word}_lo{of}"), low)?,
            step_of(all, &format!("{word}_hi{of}"), high)?,
        );
        Ok::<_, FormatError>(has.then_some(Fade { from, to }))
    };
    Ok(Span {
        low: step_of(all, &format!("lo{of}"), low)?.max(low.min(1.0) as u8),
        high: step_of(all, &format!("hi{of}"), high)?,
        fade_in: fade("xfin")?,
        fade_out: fade("xfout")?,
        law: match all.get(&format!("xf_{kind}curve")).map(String::as_str) {
            Some("gain") => FadeLaw::Linear,
            _ => FadeLaw::Power,
        },
    })
}

fn turn_of(all: &HashMap<String, String>) -> Result<Turn, FormatError> {
    if all.contains_key("lorand") || all.contains_key("hirand") {
        return Ok(Turn::Random {
            from: number_of(all, "lorand", 0.0)?,
            to: number_of(all, "hirand", 1.0)?,
        });
    }
    let of = number_of(all, "seq_length", 1.0)? as u16;
    let place = (number_of(all, "seq_position", 1.0)? as u16).saturating_sub(1);
    Ok(if of > 1 {
        Turn::InOrder { place, of }
    } else {
        Turn::Always
    })
}

/// A step of MIDI, 0 to 127, or a note's name.
fn step_of(all: &HashMap<String, String>, name: &str, default: f64) -> Result<u8, FormatError> {
    Ok(number_of(all, name, default)?.clamp(0.0, 127.0) as u8)
}

fn region_of(all: &HashMap<String, String>, program: &Program, sample: usize) -> Result<Region, FormatError> {
    let frames = program.samples[sample].frames;
    let own = all.get("key").is_some();
    let centre = f64::from(step_of(all, "key", 60.0)?);
    let (low, high) = if own { (centre, centre) } else { (0.0, 127.0) };
    let looped = match all.get("loop_mode").map(String::as_str) {
        Some(mode @ ("loop_continuous" | "loop_sustain")) => Some(Loop {
            start_frame: number_of(all, "loop_start", 0.0)? as u64,
            end_frame: number_of(all, "loop_end", frames as f64 - 1.0)? as u64 + 1,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: program::LoopWay::Forward,
            runs: if mode == "loop_sustain" {
                LoopRuns::WhileHeld
            } else {
                LoopRuns::ThroughRelease
            },
        }),
        _ => None,
    };
    let tune = number_of(all, "tune", 0.0)? + 100.0 * number_of(all, "transpose", 0.0)?;
    Ok(Region {
        key: next_key(program),
        sample,
        when: When {
            turn: turn_of(all)?,
            sources: controllers_of(all, "")?,
            ..When::on(
                span_of(all, "key", "key", low, high)?,
                span_of(all, "vel", "vel", 1.0, 127.0)?,
            )
        },
        root_key: step_of(all, "pitch_keycenter", centre)?,
        key_follow: number_of(all, "pitch_keytrack", 100.0)? / 100.0,
        recording_cents: if tune == 0.0 { 0.0 } else { -tune },
        tune_cents: 0.0,
        gain_db: ((number_of(all, "volume", 0.0)? + level_offset_db(program.shapes.last())) * 100.0).round()
            / 100.0,
        pan: number_of(all, "pan", 0.0)? / 100.0,
        start_frame: number_of(all, "offset", 0.0)? as u64,
        end_frame: all
            .get("end")
            .map_or(Ok(frames), |_| {
                number_of(all, "end", 0.0).map(|end| end as u64 + 1)
            })?
            .min(frames),
        looped,
        to_end: all.get("loop_mode").is_some_and(|mode| mode == "one_shot"),
        cut: Cut {
            group: group_of(all, "group")?,
            by: group_of(all, "off_by")?,
            fade_ms: 0,
        },
        ..Region::whole(sample, 60, frames)
    })
}
