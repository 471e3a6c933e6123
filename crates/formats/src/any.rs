//! For tests: shapes in which much drives much.

use program::{
    Course, CourseId, CurveId, Filter, Movement, MovementId, ParamId, Passes, Rate, Route, RouteId, Shape,
    Source, Wave,
};

/// Of everything something, by three numbers.
pub(crate) fn any_driving(gain: f64, ms: f64, sustain: f64) -> Shape {
    let sources = [
        Source::Strike,
        Source::KeyUpSpeed,
        Source::Pressure,
        Source::KeyPressure,
        Source::Bend,
        Source::Controller(1),
        Source::Controller(74),
        Source::Key,
        Source::Random(9),
        Source::Movement(MovementId(5)),
        Source::Movement(MovementId(3)),
        Source::Course(CourseId(1)),
        Source::Course(CourseId(2)),
    ];
    let targets = [
        ParamId::Level,
        ParamId::Place,
        ParamId::Pitch,
        ParamId::Cutoff,
        ParamId::Resonance,
        ParamId::SampleStart,
    ];
    let pick = ms as usize;
    let route = |n: usize| {
        let from = sources[(pick + 3 * n) % sources.len()];
        let to = targets[(pick / 7 + n) % targets.len()];
        let by = matches!(from, Source::Movement(_)) && n.is_multiple_of(2);
        Route {
            id: RouteId(n as u64),
            from,
            times: by.then_some(Source::Controller(11)),
            curve: (n % 3 == 1).then_some(CurveId(70)),
            to,
            amount: if to == ParamId::Place {
                gain / 6.0
            } else {
                gain * 4.0
            },
        }
    };
    let forms = [
        (Passes::Low, 1),
        (Passes::High, 4),
        (Passes::Band, 4),
        (Passes::Notch, 2),
    ];
    let (passes, poles) = forms[pick % 4];
    let movement = |id: u64, wave: Wave| Movement {
        id: MovementId(id),
        wave,
        rate: if pick.is_multiple_of(2) {
            Rate::Quarters(ms / 100.0 + 0.1)
        } else {
            Rate::Hz(ms / 90.0 + 0.1)
        },
        phase: ms / 1_000.0,
        delay_ms: ms,
        fade_in_ms: ms / 3.0,
        per_voice: pick.is_multiple_of(3),
        once: false,
    };
    let course = |id: u64| Course {
        id: CourseId(id),
        delay_ms: ms / 9.0,
        attack_ms: ms / 3.0,
        hold_ms: 0.0,
        decay_ms: ms,
        sustain: -sustain / 40.0,
        release_ms: ms / 2.0,
        bends: [0.0; 3],
    };
    Shape {
        courses: vec![course(1), course(2)],
        filter: (!pick.is_multiple_of(5)).then_some(Filter {
            passes,
            poles,
            cutoff_hz: 200.0 + ms,
            key_follow: gain / 6.0,
            resonance_db: -sustain,
            makes_up: pick.is_multiple_of(2),
        }),
        movements: vec![movement(5, Wave::Smooth), movement(3, Wave::SawUp)],
        routes: (0..pick % 9).map(route).collect(),
        ..Shape::default()
    }
}
