//! What a zone says of loudness, brightness and what moves them.

use super::file::{Modulator, Said};
use super::zone::{Both, OPEN_CENTS};
use super::*;
use program::{
    Course, Filter, Loudness, Movement, MovementId, ParamId, Passes, Rate, Route, RouteId, Shape, Source,
    Wave,
};

/// The courses and movements of a shape, by their numbers.
const COURSE: CourseId = CourseId(1);
const LFO: MovementId = MovementId(1);
const VIBRATO: MovementId = MovementId(2);

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
    let cutoff = zone.or(FILTER_CUTOFF, OPEN_CENTS);
    let driven = [MOD_ENV_TO_CUTOFF, MOD_LFO_TO_CUTOFF]
        .iter()
        .any(|of| zone.or(*of, 0) != 0);
    if cutoff < OPEN_CENTS || driven {
        shape.filter = Some(Filter {
            passes: Passes::Low,
            poles: 2,
            cutoff_hz: hz_of(f64::from(cutoff)).min(20_000.0),
            key_follow: 0.0,
            resonance_db: f64::from(zone.or(FILTER_Q, 0).clamp(0, 960)) / 10.0,
            makes_up: false,
        });
    }
    course(zone, &mut shape);
    times_by_key(zone, &mut shape);
    movements(zone, &mut shape);
    for (n, route) in (0..).zip(&mut shape.routes) {
        route.id = RouteId(n);
    }
    for (generators, what) in [(&[15, 16][..], "reverb and chorus")] {
        if generators.iter().any(|generator| zone.or(*generator, 0) != 0) {
            lost.push(what);
        }
    }
    if zone.said.modulators.iter().any(|one| !is_understood(one)) {
        lost.push("modulators beside those of strike and wheel");
    }
    (shape, lost)
}

/// The amount of a modulator that is said.
fn modulator(said: &Said, source: u16, to: u16) -> Option<i16> {
    let same = |one: &&Modulator| (one.source, one.to, one.by) == (source, to, 0);
    said.modulators.iter().find(same).map(|one| one.amount)
}

fn is_understood(one: &Modulator) -> bool {
    let is = |source: u16, to: u16| (one.source, one.to) == (source, to);
    is(VELOCITY_CONCAVE, ATTENUATION) || is(WHEEL, VIB_LFO_TO_PITCH) || one.amount == 0
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
    let wheel = modulator(&zone.said, WHEEL, VIB_LFO_TO_PITCH).unwrap_or(50);
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
        if id == VIBRATO && wheel != 0 {
            routes.push(route(
                from,
                ParamId::Pitch,
                i32::from(wheel),
                Some(Source::Controller(1)),
            ));
        }
        if !routes.is_empty() {
            shape.movements.push(of(id, first));
            shape.routes.append(&mut routes);
        }
    }
}
