//! What is said of a region: when it sounds, and the stretch that it plays.

use super::Opcodes;
use super::driven::level_offset_db;
use super::numbers::number_of;
use crate::FormatError;
use program::{
    ChosenBy, Cut, Fade, FadeLaw, Loop, LoopRuns, Program, Region, Shape, Source, Span, Stays, Switch,
    SwitchId, Turn, When, Within,
};
use std::collections::BTreeSet;

/// Which controllers have to stand where, by the words `locc` and `hicc` after another.
pub(super) fn controllers_of(all: &Opcodes, word: &str) -> Result<Vec<Within>, FormatError> {
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
pub(super) fn chosen_by(all: &Opcodes, program: &mut Program) -> Result<Option<ChosenBy>, FormatError> {
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
fn group_of(all: &Opcodes, word: &str) -> Result<Option<u32>, FormatError> {
    let of = |_: &String| number_of(all, word, 0.0).map(|number| number as u32);
    all.get(word).map(of).transpose()
}

/// The keys or velocities of a region, from `low` to `high` where nothing is said.
fn span_of(all: &Opcodes, of: &str, kind: &str, low: f64, high: f64) -> Result<Span, FormatError> {
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

fn turn_of(all: &Opcodes) -> Result<Turn, FormatError> {
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
fn step_of(all: &Opcodes, name: &str, default: f64) -> Result<u8, FormatError> {
    Ok(number_of(all, name, default)?.clamp(0.0, 127.0) as u8)
}

/// What is said of a region whose file has so many frames, and perhaps a loop inside.
pub(super) fn region_of(
    all: &Opcodes,
    frames: u64,
    inside: Option<Loop>,
    shape: Option<&Shape>,
) -> Result<Region, FormatError> {
    let own = all.get("key").is_some();
    let centre = f64::from(step_of(all, "key", 60.0)?);
    let (low, high) = if own { (centre, centre) } else { (0.0, 127.0) };
    // Where no mode is given, the loop of the file is used.
    let runs = match all.get("loop_mode").map(String::as_str) {
        Some("loop_sustain") => Some(LoopRuns::WhileHeld),
        Some("loop_continuous") => Some(LoopRuns::ThroughRelease),
        None => inside.map(|_| LoopRuns::ThroughRelease),
        Some(_) => None,
    };
    let (first, last) = inside.map_or((0.0, frames as f64 - 1.0), |inside| {
        (inside.start_frame as f64, inside.end_frame as f64 - 1.0)
    });
    let (first, last) = (
        number_of(all, "loop_start", first)?.max(0.0) as u64,
        number_of(all, "loop_end", last)?.max(0.0) as u64,
    );
    let looped = runs
        .map(|runs| Loop::plain(first, last.saturating_add(1), runs))
        .filter(|looped| looped.fits(frames));
    let tune = number_of(all, "tune", 0.0)? + 100.0 * number_of(all, "transpose", 0.0)?;
    Ok(Region {
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
        gain_db: ((number_of(all, "volume", 0.0)? + level_offset_db(shape)) * 100.0).round() / 100.0,
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
        ..Region::whole(0, 60, frames)
    })
}
