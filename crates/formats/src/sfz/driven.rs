//! Filters, courses, slow movements and routes in words of SFZ: of version 1 where it has them, else of version 2 (from memory).

use super::Opcodes;
use super::document::Section;
use super::numbers::number_of;
use crate::FormatError;
use crate::driven::{Driving, number, numbered_source, source_number, thousandths};
use program::{
    Course, CourseId, Curve, CurveId, CurvePoint, Filter, Movement, MovementId, ParamId, Passes, Program,
    Rate, Route, RouteId, Shape, Source, Wave,
};
use std::collections::BTreeSet;
use std::fmt::Write;

/// Curves up to this number are predefined (version 2, from memory).
const FIRST_CURVE: u64 = 7;

/// What can be driven, by the beginning of its words, and what its unit is multiplied by.
const STEMS: [(ParamId, &str, f64); 5] = [
    (ParamId::Level, "volume", 1.0),
    (ParamId::Place, "pan", 100.0),
    (ParamId::Pitch, "pitch", 1.0),
    (ParamId::Cutoff, "cutoff", 1.0),
    (ParamId::Resonance, "resonance", 1.0),
];

/// Words of version 1 for a source and what it drives.
const PLAIN: [(Source, ParamId, &str); 7] = [
    (Source::Strike, ParamId::Cutoff, "fil_veltrack"),
    (Source::Pressure, ParamId::Cutoff, "cutoff_chanaft"),
    (Source::KeyPressure, ParamId::Cutoff, "cutoff_polyaft"),
    (Source::Random(0), ParamId::Pitch, "pitch_random"),
    (Source::Random(0), ParamId::Level, "amp_random"),
    (Source::Random(0), ParamId::Cutoff, "fil_random"),
    (Source::Random(0), ParamId::Place, "pan_random"),
];

/// The same for any controller.
const PLAIN_CC: [(ParamId, &str); 2] = [(ParamId::Level, "gain_cc"), (ParamId::Cutoff, "cutoff_cc")];

/// Courses, and what they drive.
const COURSES: [(ParamId, &str); 2] = [(ParamId::Cutoff, "fileg"), (ParamId::Pitch, "pitcheg")];

/// Numbers of waves (version 2, from memory).
const WAVES: [(Wave, u8); 6] = [
    (Wave::Triangle, 0),
    (Wave::Sine, 1),
    (Wave::Square, 3),
    (Wave::SawUp, 6),
    (Wave::SawDown, 7),
    (Wave::Steps, 12),
];

const FORMS: [(Passes, u8, &str); 8] = [
    (Passes::Low, 1, "lpf_1p"),
    (Passes::Low, 2, "lpf_2p"),
    (Passes::Low, 4, "lpf_4p"),
    (Passes::High, 1, "hpf_1p"),
    (Passes::High, 2, "hpf_2p"),
    (Passes::High, 4, "hpf_4p"),
    (Passes::Band, 2, "bpf_2p"),
    (Passes::Notch, 2, "brf_2p"),
];

fn stem_of(to: ParamId) -> Option<(&'static str, f64)> {
    let stem = STEMS.iter().find(|(param, ..)| *param == to)?;
    Some((stem.1, stem.2))
}

/// Writes what a shape has of all that.
pub(super) fn write_driven(text: &mut String, program: &Program, shape: &Shape) {
    let mut words = String::new();
    if let Some(filter) = shape.filter {
        let form = FORMS
            .iter()
            .find(|(passes, poles, _)| (*passes, *poles) == (filter.passes, filter.poles));
        let name = form.map_or("lpf_2p", |(.., name)| name);
        let _ = write!(words, "fil_type={name} cutoff={}", filter.cutoff_hz);
        for (word, value) in [
            ("resonance", filter.resonance_db),
            ("fil_keytrack", (filter.key_follow * 100.0).round()),
        ] {
            if value != 0.0 {
                let _ = write!(words, " {word}={value}");
            }
        }
        words.push('\n');
    }
    for route in &shape.routes {
        match route.from {
            Source::Course(id) => write_course(&mut words, shape, id, route),
            Source::Movement(_) => {}
            _ => write_route(&mut words, program, route),
        }
    }
    for (n, movement) in shape.movements.iter().enumerate() {
        write_movement(&mut words, shape, n + 1, movement);
    }
    text.push_str(&words);
}

fn write_route(words: &mut String, program: &Program, route: &Route) {
    let Some((stem, unit)) = stem_of(route.to) else {
        return;
    };
    let amount = thousandths(route.amount * unit);
    let curve = route
        .curve
        .and_then(|id| program.curves.iter().position(|curve| curve.id == id));
    let n = source_number(route.from);
    let plain = PLAIN
        .iter()
        .find(|(from, to, _)| (*from, *to) == (route.from, route.to));
    let plain_cc = PLAIN_CC.iter().find(|(to, _)| *to == route.to && n < 128);
    match (curve, plain, plain_cc) {
        (None, Some((.., word)), _) => {
            let _ = writeln!(words, "{word}={amount}");
        }
        (None, None, Some((_, word))) => {
            let _ = writeln!(words, "{word}{n}={amount}");
        }
        (curve, ..) => {
            let _ = write!(words, "{stem}_oncc{n}={amount}");
            if let Some(place) = curve {
                let _ = write!(words, " {stem}_curvecc{n}={}", FIRST_CURVE + place as u64);
            }
            words.push('\n');
        }
    }
}

fn write_course(words: &mut String, shape: &Shape, id: CourseId, route: &Route) {
    let course = shape.courses.iter().find(|course| course.id == id);
    let word = COURSES.iter().find(|(to, _)| *to == route.to);
    let (Some(course), Some((_, word))) = (course, word) else {
        return;
    };
    let _ = write!(words, "{word}_depth={}", route.amount);
    for (part, value, usual) in [
        ("delay", course.delay_ms / 1000.0, 0.0),
        ("attack", course.attack_ms / 1000.0, 0.0),
        ("hold", course.hold_ms / 1000.0, 0.0),
        ("decay", course.decay_ms / 1000.0, 0.0),
        ("sustain", thousandths(course.sustain * 100.0), 100.0),
        ("release", course.release_ms / 1000.0, 0.0),
    ] {
        if value != usual {
            let _ = write!(words, " {word}_{part}={value}");
        }
    }
    words.push('\n');
}

fn write_movement(words: &mut String, shape: &Shape, n: usize, movement: &Movement) {
    let wave = WAVES
        .iter()
        .find(|(wave, _)| *wave == movement.wave)
        .map_or(1, |(_, number)| *number);
    let Rate::Hz(hz) = movement.rate else {
        return;
    };
    let _ = write!(words, "lfo{n:02}_wave={wave} lfo{n:02}_freq={hz}");
    for (part, value) in [
        ("phase", movement.phase),
        ("delay", movement.delay_ms / 1000.0),
        ("fade", movement.fade_in_ms / 1000.0),
    ] {
        if value != 0.0 {
            let _ = write!(words, " lfo{n:02}_{part}={value}");
        }
    }
    for route in shape
        .routes
        .iter()
        .filter(|route| route.from == Source::Movement(movement.id))
    {
        let Some((stem, unit)) = stem_of(route.to) else {
            continue;
        };
        let amount = thousandths(route.amount * unit);
        let _ = match route.times {
            None => write!(words, " lfo{n:02}_{stem}={amount}"),
            Some(by) => write!(words, " lfo{n:02}_{stem}_oncc{}={amount}", source_number(by)),
        };
    }
    words.push('\n');
}

/// Writes curves, before all that goes by them.
pub(super) fn write_curves(text: &mut String, curves: &[Curve]) {
    for (n, curve) in (FIRST_CURVE..).zip(curves) {
        let _ = write!(text, "\n<curve>\ncurve_index={n}");
        for point in &curve.points {
            let _ = write!(text, " v{:03}={}", (point.at * 127.0).round() as u8, point.value);
        }
        text.push('\n');
    }
}

/// The curves of a file, by their numbers in it.
pub(super) fn curves_of(sections: &[Section]) -> Result<Vec<(u64, Vec<CurvePoint>)>, FormatError> {
    let own = sections.iter().filter(|section| section.header == "curve");
    own.map(|section| {
        let opcodes: &Opcodes = &section.opcodes.iter().cloned().collect();
        let steps: BTreeSet<(u8, &String)> = (opcodes.keys())
            .filter_map(|word| Some((word.strip_prefix('v')?.parse::<u8>().ok()?, word)))
            .filter(|(step, _)| *step < 128)
            .collect();
        let points = steps.into_iter().map(|(step, word)| {
            Ok(CurvePoint {
                at: f64::from(step) / 127.0,
                value: number_of(opcodes, word, 0.0)?.clamp(-1.0, 1.0),
            })
        });
        Ok((
            number_of(opcodes, "curve_index", 0.0)? as u64,
            points.collect::<Result<_, FormatError>>()?,
        ))
    })
    .collect()
}

/// What a group says of all that; its curves join those of the program.
pub(super) fn read_driven(
    group: &Opcodes,
    curves: &[(u64, Vec<CurvePoint>)],
    program: &mut Program,
) -> Result<Driving, FormatError> {
    let mut driving = Driving {
        filter: read_filter(group)?,
        ..Driving::default()
    };
    for (place, (to, word)) in [(0, COURSES[0]), (1, COURSES[1])] {
        let depth = number_of(group, &format!("{word}_depth"), 0.0)?;
        if depth == 0.0 {
            continue;
        }
        let ms = |part: &str| number_of(group, &format!("{word}_{part}"), 0.0).map(|s| (s * 1000.0).round());
        driving.courses.push(Course {
            id: CourseId(place),
            delay_ms: ms("delay")?,
            attack_ms: ms("attack")?,
            hold_ms: ms("hold")?,
            decay_ms: ms("decay")?,
            sustain: thousandths(number_of(group, &format!("{word}_sustain"), 100.0)? / 100.0),
            release_ms: ms("release")?,
            bends: [0.0; 3],
        });
        driving
            .routes
            .push(route(Source::Course(CourseId(place)), to, depth));
    }
    for (from, to, word) in PLAIN {
        read_route(group, &mut driving, (from, to), word, None)?;
    }
    let words: BTreeSet<&String> = group.keys().collect();
    for word in &words {
        for (to, stem) in PLAIN_CC {
            if let Some(n) = word.strip_prefix(stem).and_then(|rest| rest.parse().ok())
                && let Some(from) = numbered_source(n)
            {
                read_route(group, &mut driving, (from, to), word, None)?;
            }
        }
        for (to, stem, _) in STEMS {
            let Some(n) = word
                .strip_prefix(stem)
                .and_then(|rest| rest.strip_prefix("_oncc"))
            else {
                continue;
            };
            let Some(from) = n.parse().ok().and_then(numbered_source) else {
                continue;
            };
            let curve = group
                .get(&format!("{stem}_curvecc{n}"))
                .and_then(|number| number.parse::<u64>().ok());
            let points = curve.and_then(|curve| curves.iter().find(|(number, _)| *number == curve));
            read_route(
                group,
                &mut driving,
                (from, to),
                word,
                points.map(|(_, points)| points),
            )?;
        }
    }
    read_movements(group, &words, &mut driving)?;
    number(&mut driving);
    let first = program.curves.len() as u64;
    for curve in &mut driving.curves {
        curve.id.0 += first;
    }
    for curve in driving.routes.iter_mut().filter_map(|route| route.curve.as_mut()) {
        curve.0 += first;
    }
    program.curves.append(&mut driving.curves);
    Ok(driving)
}

fn route(from: Source, to: ParamId, amount: f64) -> Route {
    Route {
        id: RouteId(0),
        from,
        times: None,
        curve: None,
        to,
        amount,
    }
}

fn read_route(
    group: &Opcodes,
    driving: &mut Driving,
    (from, to): (Source, ParamId),
    word: &str,
    curve: Option<&Vec<CurvePoint>>,
) -> Result<(), FormatError> {
    let unit = stem_of(to).map_or(1.0, |(_, unit)| unit);
    let amount = thousandths(number_of(group, word, 0.0)? / unit);
    if !group.contains_key(word) {
        return Ok(());
    }
    let curve = curve.map(|points| {
        let id = CurveId(1_000 + driving.curves.len() as u64);
        driving.curves.push(Curve {
            id,
            points: points.clone(),
        });
        id
    });
    driving.routes.push(Route {
        curve,
        ..route(from, to, amount)
    });
    Ok(())
}

fn read_filter(group: &Opcodes) -> Result<Option<Filter>, FormatError> {
    if !group.contains_key("cutoff") {
        return Ok(None);
    }
    let name = group.get("fil_type").map_or("lpf_2p", String::as_str);
    let form = FORMS.iter().find(|(.., word)| *word == name);
    let (passes, poles) = form.map_or((Passes::Low, 2), |(passes, poles, _)| (*passes, *poles));
    Ok(Some(Filter {
        passes,
        poles,
        cutoff_hz: number_of(group, "cutoff", 0.0)?,
        key_follow: number_of(group, "fil_keytrack", 0.0)? / 100.0,
        resonance_db: number_of(group, "resonance", 0.0)?,
        makes_up: false,
    }))
}

fn read_movements(
    group: &Opcodes,
    words: &BTreeSet<&String>,
    driving: &mut Driving,
) -> Result<(), FormatError> {
    let numbers: BTreeSet<u8> = (words.iter())
        .filter_map(|word| word.strip_prefix("lfo")?.split_once('_')?.0.parse().ok())
        .collect();
    for n in numbers {
        let of = |part: &str, usual: f64| number_of(group, &format!("lfo{n:02}_{part}"), usual);
        let wave = of("wave", 1.0)? as u8;
        let id = MovementId(u64::from(n));
        driving.movements.push(Movement {
            id,
            wave: WAVES
                .iter()
                .find(|(_, number)| *number == wave)
                .map_or(Wave::Sine, |(wave, _)| *wave),
            rate: Rate::Hz(of("freq", 0.0)?),
            phase: of("phase", 0.0)?,
            delay_ms: (of("delay", 0.0)? * 1000.0).round(),
            fade_in_ms: (of("fade", 0.0)? * 1000.0).round(),
            per_voice: true,
            once: false,
        });
        for (to, stem, unit) in STEMS {
            let begin = format!("lfo{n:02}_{stem}");
            for word in words.iter().filter(|word| word.starts_with(&begin)) {
                let rest = &word[begin.len()..];
                let times = match rest.strip_prefix("_oncc") {
                    Some(by) => by.parse().ok().and_then(numbered_source),
                    None if rest.is_empty() => None,
                    None => continue,
                };
                let amount = thousandths(number_of(group, word, 0.0)? / unit);
                driving.routes.push(Route {
                    times,
                    ..route(Source::Movement(id), to, amount)
                });
            }
        }
    }
    Ok(())
}

/// How far under their own level regions are written, since what drives level only lowers it: in dB, 0 or more.
pub(super) fn level_offset_db(shape: Option<&Shape>) -> f64 {
    shape.map_or(0.0, |shape| shape.routes.iter().map(Route::under_db).sum())
}
