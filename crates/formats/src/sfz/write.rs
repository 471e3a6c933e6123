//! Writing.

use super::driven::{level_offset_db, write_curves, write_driven};
use crate::lower::sustain_percent;
use program::{
    Among, BendKeys, Fade, FadeLaw, Foreign, LoopRuns, On, Program, Region, SameKey, Sample, Source, Span,
    Stays, Turn, Within,
};
use std::fmt::Write;

/// How lines begin that say who made it, and what may be done with it.
pub(super) const CREDITS: &str = "// Credits: ";
pub(super) const LICENCE: &str = "// Licence: ";

/// Writes a lowered program.
pub fn write_sfz(program: &Program) -> String {
    let mut text = format!("// {}\n", program.name);
    for (head, said) in [(CREDITS, &program.credits), (LICENCE, &program.licence)] {
        for line in said.lines() {
            let _ = writeln!(text, "{head}{line}");
        }
    }
    text.push_str("// group_label names a strand, sw_default says where keys that choose stand at first; so do polyphony, note_polyphony, label_cc.., set_cc.., lfo.. and what ends in _oncc and _curvecc say what version 1 cannot. All else is version 1.\n");
    write_controllers(&mut text, program);
    write_curves(&mut text, &program.curves);
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
        if let Some(most) = strand.voices.most {
            let _ = write!(text, "\npolyphony={most}");
        }
        if strand.voices.same_key == SameKey::Cuts {
            text.push_str("\nnote_polyphony=1");
        }
        let _ = writeln!(text, "\namp_veltrack={}", loudness.velocity_to_level * 100.0);
        let shape = program.shape_of(strand);
        if let Some(shape) = shape {
            write_driven(&mut text, program, shape);
        }
        let under_db = level_offset_db(shape);
        for region in program.regions_of(strand.id) {
            let Some(sample) = program.samples.get(region.sample) else {
                continue;
            };
            write_region(&mut text, program, region, (sample, under_db));
        }
    }
    text
}

/// How controllers are called, and where they stand at first.
fn write_controllers(text: &mut String, program: &Program) {
    let step = |share: f64| (share.clamp(0.0, 1.0) * 127.0).round();
    if program.controls.is_empty() && program.controllers_at_first.is_empty() {
        return;
    }
    text.push_str("\n<control>\n");
    for control in &program.controls {
        if let Some(number) = control.controller {
            let first = step(control.at_first);
            let _ = writeln!(text, "label_cc{number}={}\nset_cc{number}={first}", control.name);
        }
    }
    for first in &program.controllers_at_first {
        let _ = writeln!(text, "set_cc{}={}", first.controller, step(first.value));
    }
}

/// Where a controller has to stand, after a word: `locc` and `hicc`.
fn limits_of(word: &str, within: &Within) -> String {
    let (Source::Controller(n), span) = (within.source, within.span) else {
        return String::new();
    };
    format!(" {word}locc{n}={} {word}hicc{n}={}", span.low, span.high)
}

fn write_region(text: &mut String, program: &Program, region: &Region, (sample, under_db): (&Sample, f64)) {
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
        ("volume", hundredths(region.gain_db - under_db), 0.0),
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
    for Foreign { word, value } in &region.foreign {
        let _ = write!(text, "\n{word}={value}");
    }
    text.push('\n');
}

fn hundredths(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
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
