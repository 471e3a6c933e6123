//! SFZ, version 1 opcodes wherever they can say it.

use crate::FormatError;
use crate::lower::{sustain_db_of, sustain_percent};
use program::{
    Among, BEND_KEYS, BendKeys, ChosenBy, Cut, Fade, FadeLaw, Loop, LoopRuns, Loudness, On, Program, Region,
    RegionKey, RegionOf, Sample, SampleId, Shape, ShapeId, Source, Span, Stays, Strand, StrandId, Switch,
    SwitchId, Turn, Voices, When, Within,
};
use std::collections::{BTreeSet, HashMap};
use std::fmt::Write;

/// Writes a lowered program.
pub fn write_sfz(program: &Program) -> String {
    let mut text = format!("// {}\n", program.name);
    text.push_str("// group_label names a strand, sw_default says where keys that choose stand at first; everything else is version 1.\n");
    for strand in &program.strands {
        let loudness = program.loudness_of(Some(strand));
        let trigger = match strand.on {
            On::KeyUp { .. } => "release",
            On::KeyDown(Among::First) => "first",
            On::KeyDown(Among::Legato) => "legato",
            On::KeyDown(Among::Any) | On::Enters(_) => "attack",
        };
        let entered = match strand.on {
            On::Enters(within) => limits_of("on_", &within),
            _ => String::new(),
        };
        let _ = write!(
            text,
            "\n<group>\ngroup_label={}\ntrigger={trigger}{entered}\nampeg_attack={} ampeg_decay={} ampeg_sustain={} ampeg_release={}",
            strand.name,
            loudness.attack_ms / 1000.0,
            loudness.decay_ms / 1000.0,
            sustain_percent(loudness.sustain_db),
            loudness.release_ms / 1000.0,
        );
        for (word, ms) in [
            ("ampeg_delay", loudness.delay_ms),
            ("ampeg_hold", loudness.hold_ms),
        ] {
            if ms > 0.0 {
                let _ = write!(text, " {word}={}", ms / 1000.0);
            }
        }
        if let On::KeyUp { fall_db_per_s, .. } = strand.on
            && fall_db_per_s > 0.0
        {
            let _ = write!(text, " rt_decay={fall_db_per_s}");
        }
        if let Some(BendKeys { up, down }) = strand.voices.bend {
            let _ = write!(
                text,
                "\nbend_up={} bend_down={}",
                100 * i32::from(up),
                -100 * i32::from(down)
            );
        }
        let _ = writeln!(text, "\namp_veltrack={}", loudness.velocity_to_level * 100.0);
        for region in program.regions_of(strand.id) {
            let Some(sample) = program.samples.get(region.sample) else {
                continue;
            };
            write_region(&mut text, program, region, sample);
        }
    }
    text
}

/// Where a controller has to stand, after a word: `locc` and `hicc`.
fn limits_of(word: &str, within: &Within) -> String {
    let (Source::Controller(n), span) = (within.source, within.span) else {
        return String::new();
    };
    format!(" {word}locc{n}={} {word}hicc{n}={}", span.low, span.high)
}

fn write_region(text: &mut String, program: &Program, region: &Region, sample: &Sample) {
    let (keys, strikes) = (region.when.keys, region.when.strikes);
    let _ = write!(
        text,
        "\n<region>\nsample={}\nlokey={} hikey={} lovel={} hivel={} pitch_keycenter={}",
        sample.source, keys.low, keys.high, strikes.low, strikes.high, region.root_key,
    );
    write_fades(text, "key", "key", keys);
    write_fades(text, "vel", "vel", strikes);
    // `tune` is added on playing: the negative of how far the recording lies above its root. It reaches a semitone; `transpose` has the rest.
    let cents = -region.recording_cents;
    let keys = if cents.abs() > 100.0 {
        (cents / 100.0).round()
    } else {
        0.0
    };
    for (word, value, usual) in [
        ("transpose", keys, 0.0),
        ("tune", cents - 100.0 * keys, 0.0),
        ("pitch_keytrack", (region.key_follow * 100.0).round(), 100.0),
        ("volume", region.gain_db, 0.0),
        ("pan", (region.pan * 100.0).round(), 0.0),
    ] {
        if value != usual {
            let _ = write!(text, " {word}={value}");
        }
    }
    match region.when.turn {
        Turn::InOrder { place, of } if of > 1 => {
            let _ = write!(text, " seq_length={of} seq_position={}", place + 1);
        }
        Turn::Random { from, to } => {
            let _ = write!(text, " lorand={from} hirand={to}");
        }
        _ => {}
    }
    for within in &region.when.sources {
        text.push_str(&limits_of("", within));
        if let Source::Controller(n) = within.source {
            write_fades(text, &format!("cc{n}"), "cc", within.span);
        }
    }
    if let Some(by) = region.when.chosen_by
        && let Some(switch) = program.switches.iter().find(|switch| switch.id == by.switch)
    {
        let word = if by.stays == Stays::Latched {
            "sw_last"
        } else {
            "sw_down"
        };
        let (low, high, first) = (switch.low_key, switch.high_key, switch.at_first);
        let _ = write!(
            text,
            " sw_lokey={low} sw_hikey={high} sw_default={first} {word}={}",
            by.low_key
        );
    }
    for (word, group) in [("group", region.cut.group), ("off_by", region.cut.by)] {
        if let Some(group) = group {
            let _ = write!(text, " {word}={group}");
        }
    }
    match region.looped {
        Some(looped) => {
            let mode = if looped.runs == LoopRuns::WhileHeld {
                "loop_sustain"
            } else {
                "loop_continuous"
            };
            // `loop_end` is the last frame of the loop.
            let _ = write!(
                text,
                "\nloop_mode={mode} loop_start={} loop_end={}",
                looped.start_frame,
                looped.end_frame - 1
            );
        }
        None if region.to_end => text.push_str("\nloop_mode=one_shot"),
        None => text.push_str("\nloop_mode=no_loop"),
    }
    text.push('\n');
}

/// The fades of a span, of keys, velocities or a controller; their course is said once for all controllers.
fn write_fades(text: &mut String, of: &str, kind: &str, span: Span) {
    for (word, fade) in [("xfin", span.fade_in), ("xfout", span.fade_out)] {
        if let Some(Fade { from, to }) = fade {
            let _ = write!(text, " {word}_lo{of}={from} {word}_hi{of}={to}");
        }
    }
    // Of equal power, where nothing is said.
    if span.law == FadeLaw::Linear {
        let _ = write!(text, " xf_{kind}curve=gain");
    }
}

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
    for (header, opcodes) in sections(text) {
        match header.as_str() {
            "global" => {
                global = opcodes;
                group = global.clone();
            }
            "group" => {
                group = global.clone();
                group.extend(opcodes);
                add_strand(&mut program, &group)?;
            }
            "region" => {
                if program.strands.is_empty() {
                    add_strand(&mut program, &group)?;
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

fn number_of(opcodes: &HashMap<String, String>, name: &str, default: f64) -> Result<f64, FormatError> {
    let Some(text) = opcodes.get(name) else {
        return Ok(default);
    };
    let parsed = text
        .trim()
        .parse::<f64>()
        .ok()
        .or_else(|| key_of_name(text.trim()).map(f64::from));
    parsed
        .filter(|x| x.is_finite())
        .ok_or_else(|| FormatError::Unreadable(format!("{name}={text} is no number.")))
}

/// `c4` is 60; `#` and `b` shift.
fn key_of_name(name: &str) -> Option<u8> {
    let lower = name.to_lowercase();
    let letter = "c d ef g a b".find(lower.chars().next()?)? as i32;
    let rest = &lower[1..];
    let (shift, octave) = match rest.chars().next()? {
        '#' => (1, &rest[1..]),
        'b' => (-1, &rest[1..]),
        _ => (0, rest),
    };
    u8::try_from(letter + shift + 12 * (octave.parse::<i32>().ok()? + 1))
        .ok()
        .filter(|key| *key < 128)
}

/// Of a region that is added to the last strand: regions are numbered in each, in the file's order.
pub(crate) fn next_key(program: &Program) -> RegionKey {
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
fn add_strand(program: &mut Program, group: &HashMap<String, String>) -> Result<(), FormatError> {
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
        },
        ..Shape::default()
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
        gain_db: number_of(all, "volume", 0.0)?,
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Format, lower};
    use proptest::prelude::*;

    fn any_region(samples: usize, strands: usize) -> impl Strategy<Value = Region> {
        let place = (
            0..strands,
            0..samples,
            0u8..128,
            0u8..128,
            1u8..128,
            1u8..128,
            0u8..128,
        );
        let sound = (-80.0f64..80.0, -30.0f64..30.0, -24.0f64..12.0, -1.0f64..1.0);
        let frames = (
            0u64..400,
            500u64..900,
            proptest::option::of((420u64..450, 460u64..490, 0u64..20)),
            0u16..4,
            1u16..5,
        );
        (place, sound, frames).prop_map(
            |((strand, sample, a, b, v, w, root), (cents, tune, gain, pan), (start, end, looped, rr, of))| {
                Region {
                    key: RegionKey {
                        strand: StrandId(strand as u64),
                        of: RegionOf::Own(0),
                    },
                    sample,
                    when: When {
                        turn: match rr {
                            0 => Turn::Always,
                            1 => Turn::InOrder { place: of - 1, of },
                            2 => Turn::Random {
                                from: 0.25,
                                to: 0.25 + 0.1 * f64::from(of),
                            },
                            _ => Turn::Shuffled {
                                group: 4,
                                place: of - 1,
                                of,
                            },
                        },
                        ..When::on(
                            Span {
                                fade_in: (rr == 1).then_some(Fade {
                                    from: a.min(b),
                                    to: a.max(b),
                                }),
                                ..Span::of(a.min(b), a.max(b))
                            },
                            Span {
                                fade_out: (of == 2).then_some(Fade {
                                    from: v.min(w),
                                    to: v.max(w),
                                }),
                                law: if rr == 2 { FadeLaw::Linear } else { FadeLaw::Power },
                                ..Span::of(v.min(w), v.max(w))
                            },
                        )
                    },
                    cut: Cut {
                        group: (of == 4).then_some(3),
                        by: (rr == 2).then_some(u32::from(of)),
                        fade_ms: 20 * u32::from(of),
                    },
                    key_follow: if of == 3 { 0.25 } else { 1.0 },
                    to_end: looped.is_none() && rr == 3,
                    root_key: root.clamp(2, 125),
                    recording_cents: cents,
                    tune_cents: tune,
                    gain_db: gain,
                    pan,
                    start_frame: start,
                    end_frame: end,
                    fade_in_frames: 3,
                    fade_out_frames: 5,
                    fade_curve: program::FadeCurve::Straight,
                    looped: looped.map(|(start_frame, end_frame, crossfade_frames)| Loop {
                        start_frame,
                        end_frame,
                        crossfade_frames,
                        likeness_percent: 100,
                        way: program::LoopWay::Forward,
                        runs: if rr % 2 == 0 {
                            LoopRuns::WhileHeld
                        } else {
                            LoopRuns::ThroughRelease
                        },
                    }),
                    ..Region::whole(sample, 60, 1_000)
                }
            },
        )
    }

    fn any_program() -> impl Strategy<Value = Program> {
        let strand = (
            "[A-Za-z ]{1,12}",
            any::<bool>(),
            -6.0f64..6.0,
            0.0f64..900.0,
            -40.0f64..0.0,
            0.0f64..1.0,
        );
        let strands = proptest::collection::vec(strand, 1..4);
        strands.prop_flat_map(|strands| {
            let count = strands.len();
            proptest::collection::vec(any_region(4, count), 1..12).prop_map(move |mut regions| {
                regions.sort_by_key(|region: &Region| region.key.strand);
                for n in 0..regions.len() {
                    let before = regions[..n]
                        .iter()
                        .filter(|other| other.key.strand == regions[n].key.strand);
                    regions[n].key.of = RegionOf::Own(before.count() as u64);
                }
                let (strands, shapes) = (0..)
                    .zip(&strands)
                    .map(|(n, (name, up, gain, ms, sustain, velocity))| {
                        let wheel = Within {
                            source: Source::Controller(if *gain > 0.0 { 1 } else { 74 }),
                            span: Span {
                                fade_out: (*gain > 3.0).then_some(Fade { from: 20, to: 100 }),
                                law: if *ms > 500.0 {
                                    FadeLaw::Linear
                                } else {
                                    FadeLaw::Power
                                },
                                ..Span::of(10, 120)
                            },
                        };
                        let strand = Strand {
                            on: match *up {
                                true if *gain > 0.0 => On::Enters(wheel),
                                true => On::KeyUp {
                                    pedal_holds: *ms > 300.0,
                                    fall_db_per_s: -gain.round(),
                                },
                                false if *ms > 700.0 => On::KeyDown(Among::Legato),
                                false => On::KEY_DOWN,
                            },
                            when: When {
                                sources: if *ms > 200.0 { vec![wheel] } else { Vec::new() },
                                chosen_by: (*sustain < -20.0).then_some(ChosenBy {
                                    switch: SwitchId(8),
                                    low_key: 22,
                                    high_key: 22,
                                    stays: if *ms > 400.0 { Stays::Held } else { Stays::Latched },
                                }),
                                turn: match (*ms as u64) % 3 {
                                    0 => Turn::InOrder { place: 1, of: 2 },
                                    1 => Turn::Random { from: 0.5, to: 1.0 },
                                    _ => Turn::Always,
                                },
                                ..When::on(Span::of(20, 100), Span::ALL_STRIKES)
                            },
                            gain_db: *gain,
                            pan: gain / 6.0,
                            muted: *velocity > 0.9,
                            transpose_keys: (gain * 2.0) as i8,
                            tune_cents: *gain,
                            voices: Voices {
                                bend: (*velocity > 0.5).then_some(BendKeys {
                                    up: (*ms as u8) % 49,
                                    down: 2,
                                }),
                                ..Voices::default()
                            },
                            ..Strand::new(StrandId(n), name.clone(), ShapeId(7 + n))
                        };
                        let loudness = Loudness {
                            delay_ms: ms / 3.0,
                            attack_ms: *ms,
                            hold_ms: if *up { *ms } else { 0.0 },
                            decay_ms: ms * 2.0,
                            sustain_db: *sustain,
                            release_ms: ms * 3.0,
                            velocity_to_level: *velocity,
                        };
                        let shape = Shape {
                            id: ShapeId(7 + n),
                            loudness,
                            ..Shape::default()
                        };
                        (strand, shape)
                    })
                    .unzip();
                let sample = |n: u32| Sample {
                    id: SampleId(u64::from(n)),
                    name: format!("bar C♯{n} / soft"),
                    source: n.to_string(),
                    rate_hz: 48_000,
                    first_channel: 0,
                    source_channels: 2,
                    channels: 2,
                    frames: 1_000,
                };
                Program {
                    name: "Slate: chimes".into(),
                    samples: (0..4).map(sample).collect(),
                    strands,
                    regions,
                    shapes,
                    switches: vec![Switch {
                        id: SwitchId(8),
                        name: "Stops".into(),
                        low_key: 20,
                        high_key: 24,
                        at_first: 21,
                    }],
                    ..Program::default()
                }
            })
        })
    }

    proptest! {
        /// Bars page: import(export(p)) = lower(p), and exporting that again gives the same bytes.
        #[test]
        fn reading_an_export_back_gives_the_lowered_program(program in any_program()) {
            let lowered = lower(&program, Format::Sfz).program;
            let text = write_sfz(&lowered);
            let probe = |path: &str| lowered.samples.iter().find(|s| s.source == path).map(|s| (s.rate_hz, s.channels, s.frames));
            let read = read_sfz(&text, probe).unwrap();
            prop_assert_eq!(&read, &lowered);
            prop_assert_eq!(write_sfz(&read), text);
        }
    }

    #[test]
    fn values_with_spaces_and_note_names_are_read() {
        let text = "<region> sample=my samples/low bar.wav lokey=c4 hikey=C#5 pitch_keycenter=60 // end\n";
        let program = read_sfz(text, |_| Some((44_100, 1, 100))).unwrap();
        assert_eq!(program.samples[0].source, "my samples/low bar.wav");
        assert_eq!(program.regions[0].when.keys, Span::of(60, 73));
        assert!(read_sfz("<region> sample=a.wav", |_| None).is_err());
        assert!(read_sfz("<region> sample=a.wav lokey=loud", |_| Some((1, 1, 1))).is_err());
    }
}
