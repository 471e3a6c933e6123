//! What a zone says of loudness, brightness and what moves them.

use super::driven::{FALLING, of_steps, source_in};
use super::file::{Modulator, Said};
use super::zone::{Both, OPEN_CENTS};
use super::*;
use crate::driven::{Driving, is_key_to_cutoff, number};
use program::{
    Course, Filter, Loudness, Movement, MovementId, ParamId, Passes, Rate, Route, RouteId, Shape, Source,
    Wave,
};

/// The courses and movements of a shape, by their numbers.
const COURSE: CourseId = CourseId(1);
const LFO: MovementId = MovementId(1);
const VIBRATO: MovementId = MovementId(2);
/// So far the wheel brings vibrato in where nothing is said of that (section 8.4.4).
const WHEEL_CENTS: f64 = 50.0;

/// What a zone says of loudness, brightness and what moves them, and what of it is not understood.
pub(super) fn shape_of(zone: &Both) -> (Shape, Vec<&'static str>) {
    let ms = |generator: u16| ms_of(zone.or(generator, -12_000) as i16);
    let mut lost = Vec::new();
    let by_strike = modulator(&zone.said, VELOCITY_CONCAVE, ATTENUATION).unwrap_or(960);
    let mut shape = Shape {
        loudness: Loudness {
            delay_ms: ms(DELAY),
            attack_ms: ms(ATTACK),
            hold_ms: ms(HOLD),
            decay_ms: ms(DECAY),
            sustain_db: under(zone.or(SUSTAIN, 0).clamp(0, 1_440)),
            release_ms: ms(RELEASE),
            velocity_to_level: f64::from(by_strike) / 960.0,
            bends: [0.0; 3],
        },
        ..Shape::default()
    };
    shape.filter = filter_of(zone);
    course(zone, &mut shape);
    times_by_key(zone, &mut shape);
    movements(zone, &mut shape);
    let hands = zone.said.modulators.iter().filter_map(hand);
    shape
        .routes
        .extend(hands.filter(|route| !is_key_to_cutoff(route)));
    let mut driving = Driving {
        courses: shape.courses,
        movements: shape.movements,
        routes: shape.routes,
        ..Driving::default()
    };
    number(&mut driving);
    (shape.courses, shape.movements, shape.routes) = (driving.courses, driving.movements, driving.routes);
    for (generators, what) in [(&[15, 16][..], "reverb and chorus")] {
        if generators.iter().any(|generator| zone.or(*generator, 0) != 0) {
            lost.push(what);
        }
    }
    if zone.said.modulators.iter().any(|one| !is_understood(one)) {
        lost.push("modulators that are curved, or move what nothing here does");
    }
    (shape, lost)
}

/// The amount of a modulator that is said.
fn modulator(said: &Said, source: u16, to: u16) -> Option<i16> {
    let same = |one: &&Modulator| (one.source, one.to, one.by) == (source, to, 0);
    said.modulators.iter().find(same).map(|one| one.amount)
}

fn is_understood(one: &Modulator) -> bool {
    let by_strike = (one.source, one.to, one.by) == (VELOCITY_CONCAVE, ATTENUATION, 0);
    by_strike || one.amount == 0 || hand(one).is_some() || moved_by(one).is_some()
}

/// A low-pass, where something closes it or moves it.
fn filter_of(zone: &Both) -> Option<Filter> {
    let cents = zone.or(FILTER_CUTOFF, OPEN_CENTS).min(OPEN_CENTS);
    let generators = [MOD_ENV_TO_CUTOFF, MOD_LFO_TO_CUTOFF];
    let driven = generators.iter().any(|of| zone.or(*of, 0) != 0)
        || (zone.said.modulators.iter()).any(|one| {
            let moves =
                hand(one).is_some_and(|route| matches!(route.to, ParamId::Cutoff | ParamId::Resonance));
            moves || moved_by(one).is_some_and(|(_, to, _)| to == MOD_LFO_TO_CUTOFF)
        });
    if cents >= OPEN_CENTS && !driven {
        return None;
    }
    let by_key: i32 = (zone.said.modulators.iter())
        .filter(|one| hand(one).is_some_and(|route| is_key_to_cutoff(&route)))
        .map(|one| i32::from(one.amount))
        .sum();
    let key_follow = f64::from(by_key) / 12_800.0;
    Some(Filter {
        passes: Passes::Low,
        poles: 2,
        // It follows the key from middle C on.
        cutoff_hz: hz_of(f64::from(cents) + key_follow * 6_000.0).clamp(20.0, 20_000.0),
        key_follow,
        resonance_db: f64::from(resonance_of(zone)) / 10.0,
        makes_up: false,
    })
}

/// How far its filter stands out, in centibels. A player lowers all by half of that, see [`taken_by_resonance`], also where the filter is open.
pub(super) fn resonance_of(zone: &Both) -> i32 {
    zone.or(FILTER_Q, 0).clamp(0, 960)
}

/// What a modulator has a source do to level, pitch or the filter, where it does so straight.
fn hand(one: &Modulator) -> Option<Route> {
    let times = if one.by == 0 {
        None
    } else {
        Some(source_in(one.by)?)
    };
    let to = match one.to {
        ATTENUATION => ParamId::Level,
        FINE_TUNE => ParamId::Pitch,
        FILTER_CUTOFF => ParamId::Cutoff,
        FILTER_Q => ParamId::Resonance,
        _ => return None,
    };
    if one.amount == 0 {
        return None;
    }
    let amount = f64::from(one.amount);
    let falls = one.source & FALLING != 0;
    let from = source_in(one.source & !FALLING)?;
    let amount = match (to, falls) {
        // What attenuates the more, the less a source is at, is lowered from where it is at its most.
        (ParamId::Level, true) if amount > 0.0 && from != Source::Bend => amount / 10.0,
        (ParamId::Level, false) if amount > 0.0 || from == Source::Bend => -amount / of_steps(from) / 10.0,
        (ParamId::Level, _) | (_, true) => return None,
        (ParamId::Resonance, false) => amount / of_steps(from) / 10.0,
        (_, false) => amount / of_steps(from),
    };
    Some(Route {
        amount,
        ..route(from, to, 0, times)
    })
}

/// By what a modulator moves how far one of the two slow movements goes, where that is, and how far at most.
fn moved_by(one: &Modulator) -> Option<(Source, u16, f64)> {
    let moves = matches!(
        one.to,
        MOD_LFO_TO_PITCH | VIB_LFO_TO_PITCH | MOD_LFO_TO_CUTOFF | MOD_LFO_TO_VOLUME
    );
    let by = source_in(one.source).filter(|_| moves && one.by == 0)?;
    Some((by, one.to, f64::from(one.amount) / of_steps(by)))
}

fn route(from: Source, to: ParamId, amount: i32, times: Option<Source>) -> Route {
    let amount = f64::from(amount);
    Route {
        id: RouteId(0),
        from,
        times,
        curve: None,
        to,
        amount: if to == ParamId::Level {
            amount / 10.0
        } else {
            amount
        },
    }
}

/// The course beside that of loudness, for pitch and cutoff. Its decay and release are times for all of the way (section 8.1.2, decayModEnv).
fn course(zone: &Both, shape: &mut Shape) {
    let ms = |generator: u16| ms_of(zone.or(generator, -12_000) as i16);
    let driven = [
        (MOD_ENV_TO_PITCH, ParamId::Pitch),
        (MOD_ENV_TO_CUTOFF, ParamId::Cutoff),
    ];
    let routes = driven
        .map(|(generator, to)| (to, zone.or(generator, 0)))
        .into_iter()
        .filter(|(_, amount)| *amount != 0)
        .map(|(to, amount)| route(Source::Course(COURSE), to, amount, None));
    let before = shape.routes.len();
    shape.routes.extend(routes);
    if shape.routes.len() == before {
        return;
    }
    let sustain = 1.0 - f64::from(zone.or(MOD_ENV_DELAY + 4, 0).clamp(0, 1_000)) / 1_000.0;
    shape.courses.push(Course {
        id: COURSE,
        delay_ms: ms(MOD_ENV_DELAY),
        attack_ms: ms(MOD_ENV_DELAY + 1),
        hold_ms: ms(MOD_ENV_DELAY + 2),
        decay_ms: ms(MOD_ENV_DELAY + 3) * (1.0 - sustain),
        sustain,
        release_ms: ms(MOD_ENV_DELAY + 5) * released_from(sustain),
        bends: [0.0; 3],
    });
}

/// Holds and decays that are shorter for every key up, and as they are said at middle C (section 8.1.2, keynumToVolEnvHold).
fn times_by_key(zone: &Both, shape: &mut Shape) {
    let has_course = !shape.courses.is_empty();
    for (generator, id, time) in KEY_TO_TIMES {
        let cents = f64::from(zone.or(generator, 0));
        if cents == 0.0 || (id != CourseId::LOUDNESS && !has_course) {
            continue;
        }
        let at_lowest = (cents * 60.0 / 1_200.0).exp2();
        let ms = match (id, time) {
            (CourseId::LOUDNESS, CourseTime::Hold) => &mut shape.loudness.hold_ms,
            (CourseId::LOUDNESS, _) => &mut shape.loudness.decay_ms,
            (_, CourseTime::Hold) => &mut shape.courses[0].hold_ms,
            _ => &mut shape.courses[0].decay_ms,
        };
        *ms *= at_lowest;
        let to = ParamId::CourseTime(id, time);
        shape.routes.push(Route {
            amount: -cents * 127.0 / 1_200.0,
            ..route(Source::Key, to, 0, None)
        });
    }
}

/// Both slow movements; the wheel brings vibrato in unless that is said otherwise (section 8.4.4).
fn movements(zone: &Both, shape: &mut Shape) {
    let mut moved: Vec<(Source, u16, f64)> = zone.said.modulators.iter().filter_map(moved_by).collect();
    let wheel = Source::Controller(1);
    if !(zone.said.modulators.iter()).any(|one| (one.source, one.to) == (WHEEL, VIB_LFO_TO_PITCH)) {
        moved.push((wheel, VIB_LFO_TO_PITCH, WHEEL_CENTS / of_steps(wheel)));
    }
    moved.retain(|(_, _, amount)| *amount != 0.0);
    let of = |id: MovementId, first: u16| Movement {
        id,
        wave: Wave::Triangle,
        rate: Rate::Hz(hz_of(f64::from(zone.or(first + 1, 0)))),
        phase: 0.0,
        delay_ms: ms_of(zone.or(first, -12_000) as i16),
        fade_in_ms: 0.0,
        per_voice: true,
        once: false,
    };
    for (id, first, driven) in [
        (
            LFO,
            MOD_LFO_DELAY,
            &[
                (MOD_LFO_TO_PITCH, ParamId::Pitch),
                (MOD_LFO_TO_CUTOFF, ParamId::Cutoff),
                (MOD_LFO_TO_VOLUME, ParamId::Level),
            ][..],
        ),
        (VIBRATO, VIB_LFO_DELAY, &[(VIB_LFO_TO_PITCH, ParamId::Pitch)]),
    ] {
        let from = Source::Movement(id);
        let mut routes: Vec<Route> = (driven.iter())
            .filter(|(generator, _)| zone.or(*generator, 0) != 0)
            .map(|(generator, to)| route(from, *to, zone.or(*generator, 0), None))
            .collect();
        for (generator, to) in driven {
            for (by, _, amount) in moved.iter().filter(|(_, of, _)| of == generator) {
                let level = if *to == ParamId::Level { 10.0 } else { 1.0 };
                routes.push(Route {
                    amount: amount / level,
                    ..route(from, *to, 0, Some(*by))
                });
            }
        }
        if !routes.is_empty() {
            shape.movements.push(of(id, first));
            shape.routes.append(&mut routes);
        }
    }
}
