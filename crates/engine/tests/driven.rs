//! What drives a voice: filters, courses, slow movements and hands, through routes, heard.

use engine::{Engine, Event, EventKind, render_offline};
use program::{
    Course, CourseId, CourseTime, Curve, CurveId, CurvePoint, Filter, Glide, Movement, MovementId, ParamId,
    Passes, Program, Rate, Region, Route, RouteId, SameKey, Sample, SampleId, Shape, ShapeId, Source, Voices,
    Wave,
};
use std::f64::consts::TAU;

const RATE: f64 = 48_000.0;
const FRAMES: usize = 480_000;

/// One sample on all keys at its own pitch, at once as loud as it is.
fn program(shape: Shape) -> Program {
    let sample = Sample {
        id: SampleId(1),
        name: "a".into(),
        source: "a".into(),
        rate_hz: RATE as u32,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES as u64,
    };
    let region = Region {
        key_follow: 0.0,
        ..Region::whole(0, 60, FRAMES as u64)
    };
    let mut program = Program::plain("driven", vec![sample], vec![region]);
    let mut shape = Shape {
        id: ShapeId(0),
        ..shape
    };
    (shape.loudness.attack_ms, shape.loudness.velocity_to_level) = (0.0, 0.0);
    program.shapes = vec![shape];
    program
}

fn sine(hz: f64) -> Vec<f32> {
    // 0.25 a side after the panning of one side to the middle.
    let amplitude = 0.25 * 2f64.sqrt();
    (0..FRAMES)
        .map(|n| ((n as f64 * hz / RATE * TAU).sin() * amplitude) as f32)
        .collect()
}

fn route(n: u64, from: Source, to: ParamId, amount: f64) -> Route {
    Route {
        id: RouteId(n),
        from,
        times: None,
        curve: None,
        to,
        amount,
    }
}

fn movement(wave: Wave, hz: f64) -> Movement {
    Movement {
        id: MovementId(1),
        wave,
        rate: Rate::Hz(hz),
        phase: 0.0,
        delay_ms: 0.0,
        fade_in_ms: 0.0,
        per_voice: true,
        once: false,
    }
}

const STRIKE: Event = Event {
    frame: 0,
    kind: EventKind::NoteOn {
        key: 60,
        velocity: 127,
    },
};

fn at(frame: usize, kind: EventKind) -> Event {
    Event { frame, kind }
}

/// Left and right of what is played on a sine.
fn heard(program: &Program, hz: f64, events: &[Event], frames: usize) -> (Vec<f32>, Vec<f32>) {
    render_offline(program, vec![vec![sine(hz)]], RATE, events, frames)
}

/// Amplitude of a sine of whole periods within some frames.
fn amplitude(of: &[f32]) -> f64 {
    (2.0 * of.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>() / of.len() as f64).sqrt()
}

/// Times of the zeros where it rises, in frames.
fn rises(of: &[f32]) -> Vec<f64> {
    let pairs = of
        .windows(2)
        .enumerate()
        .filter(|(_, w)| w[0] < 0.0 && w[1] >= 0.0);
    pairs
        .map(|(n, w)| n as f64 + f64::from(w[0] / (w[0] - w[1])))
        .collect()
}

/// Cents from a pitch, at the middle of each period.
fn cents_over_time(of: &[f32], hz: f64) -> Vec<(f64, f64)> {
    let zeros = rises(of);
    let period = |w: &[f64]| ((w[0] + w[1]) / 2.0, 1200.0 * (RATE / (w[1] - w[0]) / hz).log2());
    zeros.windows(2).map(period).collect()
}

#[test]
fn a_movement_swings_the_pitch_as_far_and_as_fast_as_it_is_said_to() {
    let shape = Shape {
        movements: vec![Movement {
            delay_ms: 500.0,
            ..movement(Wave::Sine, 5.2)
        }],
        routes: vec![route(1, Source::Movement(MovementId(1)), ParamId::Pitch, 50.0)],
        ..Shape::default()
    };
    let (left, _) = heard(&program(shape), 1_000.0, &[STRIKE], 240_000);
    let course = cents_over_time(&left, 1_000.0);
    for (frame, cents) in course {
        let s = frame / RATE - 0.5;
        let wanted = if s < 0.0 {
            0.0
        } else {
            50.0 * (s * 5.2 * TAU).sin()
        };
        // A step is 0.67 ms, in which it moves by 1.1 cents at most.
        assert!((cents - wanted).abs() < 1.5, "{frame}: {cents} not {wanted}");
    }
    // Its rate, over twenty rounds of the swing itself, within 0.1 %.
    let swings: Vec<f32> = cents_over_time(&left, 1_000.0)
        .iter()
        .filter(|(f, _)| *f > 30_000.0)
        .map(|(_, c)| *c as f32)
        .collect();
    let zeros = rises(&swings);
    let rounds = zeros.len() - 1;
    let seconds = (zeros[rounds] - zeros[0]) / 1_000.0;
    let hz = rounds as f64 / seconds;
    assert!((hz / 5.2 - 1.0).abs() < 1e-3, "{hz}");
}

#[test]
fn a_movement_fades_in_goes_once_and_is_as_deep_as_the_wheel_says() {
    let mut shape = Shape {
        movements: vec![Movement {
            fade_in_ms: 1_000.0,
            ..movement(Wave::Square, 2.0)
        }],
        routes: vec![Route {
            times: Some(Source::Controller(1)),
            ..route(1, Source::Movement(MovementId(1)), ParamId::Level, 12.0)
        }],
        ..Shape::default()
    };
    let wheel = |value| EventKind::Controller { controller: 1, value };
    let db = |of: &[f32], ms: usize| 20.0 * (amplitude(&of[ms * 48 - 480..ms * 48]) / 0.25).log10();
    let (left, _) = heard(&program(shape.clone()), 1_000.0, &[STRIKE], 96_000);
    assert!(db(&left, 1_200).abs() < 0.01);
    let (left, _) = heard(
        &program(shape.clone()),
        1_000.0,
        &[at(0, wheel(127)), STRIKE],
        96_000,
    );
    // At 120 ms 0.12 of the way, up; at 400 ms down; after a second all the way.
    assert!((db(&left, 120) - 12.0 * 0.115).abs() < 0.15, "{}", db(&left, 120));
    assert!((db(&left, 1_240) - 12.0).abs() < 0.1 && (db(&left, 1_490) + 12.0).abs() < 0.1);
    shape.movements[0].once = true;
    shape.movements[0].fade_in_ms = 0.0;
    let (left, _) = heard(&program(shape), 1_000.0, &[at(0, wheel(127)), STRIKE], 96_000);
    assert!((db(&left, 200) - 12.0).abs() < 0.1 && (db(&left, 1_900) + 12.0).abs() < 0.1);
}

#[test]
fn a_course_opens_the_filter_and_closes_it_when_the_key_comes_up() {
    let course = Course {
        id: CourseId(1),
        delay_ms: 100.0,
        attack_ms: 200.0,
        hold_ms: 100.0,
        decay_ms: 300.0,
        sustain: 0.5,
        release_ms: 400.0,
        bends: [0.0; 3],
    };
    let mut shape = Shape {
        filter: Some(Filter {
            passes: Passes::Low,
            poles: 1,
            cutoff_hz: 500.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        }),
        courses: vec![course],
        routes: vec![route(1, Source::Course(CourseId(1)), ParamId::Cutoff, 4_800.0)],
        ..Shape::default()
    };
    shape.loudness.release_ms = 60_000.0;
    let released = 48_000;
    let events = [STRIKE, at(released, EventKind::NoteOff { key: 60 })];
    let (left, _) = heard(&program(shape), 4_000.0, &events, 96_000);
    // A filter of one pole through the bilinear transform: |H|² = 1/(1 + (tan(πf/R)/tan(πc/R))²).
    let tan = |hz: f64| (std::f64::consts::PI * hz / RATE).tan();
    for ms in [
        50.0, 200.0, 280.0, 350.0, 500.0, 620.0, 900.0, 1_100.0, 1_300.0, 1_500.0,
    ] {
        let value = if ms <= 1_000.0 {
            course.held_at(ms)
        } else {
            course.released_at(0.5, ms - 1_000.0)
        };
        let cutoff = 500.0 * (value * 4.0).exp2();
        let wanted = -10.0 * (1.0 + (tan(4_000.0) / tan(cutoff)).powi(2)).log10();
        let frame = (ms * 48.0) as usize;
        let release = if ms > 1_000.0 {
            (ms - 1_000.0) / 60_000.0 * 100.0
        } else {
            0.0
        };
        let db = 20.0 * (amplitude(&left[frame - 24..frame + 24]) / 0.25).log10() + release;
        assert!((db - wanted).abs() < 0.1, "{ms} ms: {db} dB, not {wanted}");
    }
}

#[test]
fn what_hands_do_drives_level_place_pitch_and_cutoff_by_curves() {
    let curve = Curve {
        id: CurveId(7),
        points: [(0.0, 0.0), (0.5, 1.0), (1.0, 0.25)]
            .map(|(at, value)| CurvePoint { at, value })
            .to_vec(),
    };
    let shape = Shape {
        routes: vec![
            route(1, Source::Controller(11), ParamId::Level, 24.0),
            route(2, Source::Controller(10), ParamId::Place, 1.0),
            Route {
                curve: Some(CurveId(7)),
                ..route(3, Source::Pressure, ParamId::Pitch, 100.0)
            },
        ],
        ..Shape::default()
    };
    let mut program = program(shape);
    program.curves.push(curve);
    let controller = |controller, value| EventKind::Controller { controller, value };
    let events = [
        STRIKE,
        at(0, controller(10, 0)),
        at(24_000, controller(11, 0)),
        at(48_000, controller(11, 127)),
        at(48_000, controller(10, 127)),
        at(96_000, EventKind::Pressure { value: 127 }),
    ];
    let (left, right) = heard(&program, 1_000.0, &events, 144_000);
    let db = |of: &[f32], frame: usize| 20.0 * (amplitude(&of[frame - 480..frame]) / 0.25).log10();
    assert!(db(&left, 23_900).abs() < 0.01 && db(&right, 23_900).abs() < 0.01);
    assert!((db(&left, 47_900) + 24.0).abs() < 0.01);
    assert!(db(&left, 95_000) < -80.0 && (db(&right, 95_000) - 3.01).abs() < 0.01);
    let cents = cents_over_time(&right[120_000..], 1_000.0);
    assert!(cents.iter().all(|(_, cents)| (cents - 25.0).abs() < 0.2));
    // None of it clicks: no change of slope beyond that of a sine of the loudest amplitude.
    let bend = |of: &[f32]| {
        of.windows(3)
            .map(|w| (w[2] - 2.0 * w[1] + w[0]).abs())
            .fold(0.0, f32::max)
    };
    let smooth = (1_000.0 / RATE * TAU).powi(2) * 0.25 * 2f64.sqrt();
    assert!(
        f64::from(bend(&left[1..])) < 1.2 * smooth,
        "{} {smooth}",
        bend(&left[1..])
    );
    assert!(
        f64::from(bend(&right[1..])) < 1.2 * smooth,
        "{} {smooth}",
        bend(&right[1..])
    );
}

#[test]
fn random_numbers_are_each_voices_own_and_lie_within() {
    let shape = Shape {
        routes: vec![route(1, Source::Random(3), ParamId::Pitch, 20.0)],
        ..Shape::default()
    };
    let mut program = program(shape);
    program.shapes[0].loudness.release_ms = 5.0;
    let cents: Vec<f64> = (0..12)
        .map(|n| {
            let strikes: Vec<Event> = (0..=n)
                .flat_map(|m| {
                    let frame = m * 9_600;
                    [
                        at(frame, STRIKE.kind),
                        at(frame + 4_800, EventKind::NoteOff { key: 60 }),
                    ]
                })
                .collect();
            let (left, _) = heard(&program, 1_000.0, &strikes, n * 9_600 + 4_800);
            let own = cents_over_time(&left[n * 9_600 + 480..], 1_000.0);
            own.iter().map(|(_, cents)| cents).sum::<f64>() / own.len() as f64
        })
        .collect();
    assert!(cents.iter().all(|cents| cents.abs() < 20.1), "{cents:?}");
    let mean = cents.iter().sum::<f64>() / 12.0;
    let spread = (cents.iter().map(|c| (c - mean).powi(2)).sum::<f64>() / 12.0).sqrt();
    // That of numbers that lie evenly in ±20 is 11.5.
    assert!((5.0..18.0).contains(&spread), "{cents:?}");
}

#[test]
fn the_strike_drives_where_a_sample_begins() {
    let shape = Shape {
        routes: vec![route(1, Source::Strike, ParamId::SampleStart, 0.5)],
        ..Shape::default()
    };
    // A ramp tells where it is read.
    let ramp: Vec<f32> = (0..FRAMES).map(|n| n as f32 / FRAMES as f32).collect();
    let (left, _) = render_offline(&program(shape), vec![vec![ramp]], RATE, &[STRIKE], 1_000);
    let begins = f64::from(left[500]) * 2f64.sqrt();
    assert!((begins - 0.5 - 500.0 / FRAMES as f64).abs() < 1e-3, "{begins}");
}

#[test]
fn what_voices_share_moves_together_whenever_they_are_struck() {
    let shape = Shape {
        movements: vec![Movement {
            per_voice: false,
            ..movement(Wave::Triangle, 3.0)
        }],
        routes: vec![route(1, Source::Movement(MovementId(1)), ParamId::Pitch, 100.0)],
        ..Shape::default()
    };
    let late = [at(30_000, STRIKE.kind)];
    let (left, _) = heard(&program(shape), 2_000.0, &late, 60_000);
    // The first block in which it may sound begins at 29,952.
    for (frame, cents) in cents_over_time(&left[30_000..], 2_000.0) {
        let wanted = 100.0 * Wave::Triangle.value(((frame + 30_000.0) / RATE * 3.0).fract(), 0, |_| 0.0);
        assert!((cents - wanted).abs() < 3.0, "{frame}: {cents} {wanted}");
    }
}

#[test]
fn a_filter_that_comes_goes_or_changes_while_it_sounds_does_not_click() {
    let with = |filter: Option<Filter>| {
        program(Shape {
            filter,
            routes: vec![route(1, Source::Strike, ParamId::Resonance, 3.0)],
            ..Shape::default()
        })
    };
    let low = Filter {
        passes: Passes::Low,
        poles: 4,
        cutoff_hz: 300.0,
        key_follow: 1.0,
        resonance_db: 9.0,
        makes_up: false,
    };
    let high = Filter {
        passes: Passes::High,
        ..low
    };
    let mut engine = Engine::new(RATE, 16);
    engine.load(with(None));
    engine.set_audio(SampleId(1), &[sine(100.0)]);
    engine.note_on(60, 127);
    let mut all = Vec::new();
    for next in [None, Some(low), Some(high), None, Some(low)] {
        engine.update(with(next));
        for _ in 0..40 {
            let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
            engine.render(&mut left, &mut right);
            all.extend(left);
        }
    }
    // A jump from the one to the other would be of the size of the sine; over 32 frames it is a tenth of that a frame at most.
    let steepest = all
        .windows(2)
        .skip(1)
        .map(|w| (w[1] - w[0]).abs())
        .fold(0.0, f32::max);
    assert!(steepest < 0.05, "{steepest}");
}

/// A program whose pitch follows the key, of one tone at a time.
fn gliding(glide: Glide) -> Program {
    let mut program = program(Shape::default());
    program.regions[0].key_follow = 1.0;
    program.strands[0].voices.glide = Some(glide);
    program
}

const GLIDE: Glide = Glide {
    ms: 200.0,
    per_octave: false,
    legato_only: true,
};

fn down(frame: usize, key: u8) -> Event {
    at(frame, EventKind::NoteOn { key, velocity: 127 })
}

fn up(frame: usize, key: u8) -> Event {
    at(frame, EventKind::NoteOff { key })
}

/// Cents from a pitch at some frames.
fn pitch_at(of: &[f32], hz: f64, frames: &[usize]) -> Vec<f64> {
    let course = cents_over_time(of, hz);
    let near = |frame: f64| {
        let nearest = course
            .iter()
            .min_by(|a, b| (a.0 - frame).abs().total_cmp(&(b.0 - frame).abs()));
        nearest.map_or(f64::NAN, |(_, cents)| *cents)
    };
    frames.iter().map(|frame| near(*frame as f64)).collect()
}

#[test]
fn one_tone_glides_to_the_next_and_back_to_the_key_that_is_still_down() {
    let events = [down(0, 60), down(24_000, 72), up(48_000, 72), up(72_000, 60)];
    let (left, _) = heard(&gliding(GLIDE), 1_000.0, &events, 96_000);
    // Half of the way after half of the time, all of it after all, and back again.
    let cents = pitch_at(
        &left,
        1_000.0,
        &[20_000, 23_936 + 4_800, 23_936 + 9_800, 46_000, 71_000],
    );
    for (cents, wanted) in cents.iter().zip([0.0, 600.0, 1_200.0, 1_200.0, 0.0]) {
        assert!(
            (cents - wanted).abs() < if wanted == 600.0 { 20.0 } else { 1.0 },
            "{cents} {wanted}"
        );
    }
    // Of one tone at a time; the power of both while the one fades for the other is not that of two.
    let level = 20.0 * (amplitude(&left[30_000..46_000]) / 0.25).log10();
    assert!(level.abs() < 0.05, "{level}");
    let steepest = left.windows(2).map(|w| (w[1] - w[0]).abs()).fold(0.0, f32::max);
    assert!(
        f64::from(steepest) < 1.3 * 0.25 * 2f64.sqrt() * 2.0 * 1_000.0 / RATE * TAU,
        "{steepest}"
    );
    // Nothing is left once the last key is up.
    assert!(left[95_000..].iter().all(|x| x.abs() < 1e-3));
}

#[test]
fn a_glide_takes_longer_over_more_keys_or_is_there_for_legato_alone() {
    let per_octave = Glide {
        per_octave: true,
        legato_only: false,
        ..GLIDE
    };
    // Two octaves take 400 ms, from the key before though it is up.
    let events = [down(0, 48), up(12_000, 48), down(48_000, 72)];
    let (left, _) = heard(&gliding(per_octave), 1_000.0, &events, 96_000);
    let cents = pitch_at(&left, 1_000.0, &[48_000 + 9_600, 48_000 + 19_600]);
    assert!(
        (cents[0] - 0.0).abs() < 30.0 && (cents[1] - 1_200.0).abs() < 1.0,
        "{cents:?}"
    );
    let (left, _) = heard(&gliding(GLIDE), 1_000.0, &events, 96_000);
    let cents = pitch_at(&left, 1_000.0, &[48_000 + 960]);
    assert!((cents[0] - 1_200.0).abs() < 1.0, "{cents:?}");
}

#[test]
fn a_strand_has_no_more_voices_than_it_may_and_the_same_key_cuts_itself() {
    let sounding = |voices: Voices, keys: &[u8]| {
        let mut program = program(Shape::default());
        program.strands[0].voices = voices;
        let mut engine = Engine::new(RATE, 16);
        engine.load(program);
        engine.set_audio(SampleId(1), &[sine(500.0)]);
        for key in keys {
            engine.note_on(*key, 100);
            let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
            engine.render(&mut left, &mut right);
        }
        engine.active_voices()
    };
    let two = Voices {
        most: Some(2),
        ..Voices::default()
    };
    assert_eq!(sounding(Voices::default(), &[60, 62, 64, 64]), 4);
    assert_eq!(sounding(two, &[60, 62, 64]), 2);
    let cuts = Voices {
        same_key: SameKey::Cuts,
        ..Voices::default()
    };
    assert_eq!(sounding(cuts, &[60, 62, 60, 60]), 2);
}

#[test]
fn how_fast_a_key_comes_up_drives_what_sounds_after_it() {
    let mut program = program(Shape {
        routes: vec![route(1, Source::KeyUpSpeed, ParamId::Level, 12.7)],
        ..Shape::default()
    });
    program.shapes[0].loudness.release_ms = 60_000.0;
    let after = |speed: u8| {
        let mut engine = Engine::new(RATE, 16);
        engine.load(program.clone());
        engine.set_audio(SampleId(1), &[sine(1_000.0)]);
        engine.note_on(60, 127);
        let (mut left, mut right) = (vec![0.0; 9_600], vec![0.0; 9_600]);
        engine.render(&mut left, &mut right);
        let held = amplitude(&left[4_800..]);
        engine.key_up(60, speed);
        engine.render(&mut left, &mut right);
        20.0 * (amplitude(&left[4_800..]) / held).log10()
    };
    // While it is down it seems to come up at 64; a step of 127 is a tenth of a dB. The release takes a quarter of one meanwhile.
    for (speed, wanted) in [(127, 6.3), (64, 0.0), (0, -6.4)] {
        assert!((after(speed) - wanted).abs() < 0.4, "{speed}: {}", after(speed));
    }
}

#[test]
fn the_strike_drives_how_long_the_parts_of_a_course_take_and_how_much_another_route_does() {
    let course = Course {
        id: CourseId(1),
        delay_ms: 0.0,
        attack_ms: 400.0,
        hold_ms: 0.0,
        decay_ms: 0.0,
        sustain: 1.0,
        release_ms: 0.0,
        bends: [0.0; 3],
    };
    let attack = ParamId::CourseTime(CourseId(1), CourseTime::Attack);
    let program = program(Shape {
        courses: vec![course],
        routes: vec![
            route(1, Source::Course(CourseId(1)), ParamId::Pitch, 600.0),
            // A hard strike takes a quarter of the time.
            route(2, Source::Strike, attack, -2.0),
            route(3, Source::Controller(1), ParamId::RouteAmount(RouteId(1)), 2.0),
        ],
        ..Shape::default()
    });
    let wheel = at(
        0,
        EventKind::Controller {
            controller: 1,
            value: 127,
        },
    );
    let (left, _) = heard(&program, 1_000.0, &[wheel, STRIKE], 48_000);
    // After 50 ms half of the way, after 100 ms all of it; the wheel makes it twice as far.
    let cents = pitch_at(&left, 1_000.0, &[2_400, 4_900, 24_000]);
    for (cents, wanted) in cents.iter().zip([600.0, 1_200.0, 1_200.0]) {
        assert!(
            (cents - wanted).abs() < if wanted == 600.0 { 20.0 } else { 1.0 },
            "{cents} {wanted}"
        );
    }
    let (left, _) = heard(&program, 1_000.0, &[STRIKE], 24_000);
    assert!(pitch_at(&left, 1_000.0, &[20_000])[0].abs() < 0.1);
}

/// The times of loudness follow what they are told to; that of the release follows how fast the key comes up.
#[test]
fn the_times_of_loudness_are_driven() {
    let time = |time: CourseTime| ParamId::CourseTime(CourseId::LOUDNESS, time);
    let mut program = program(Shape {
        routes: vec![
            // A hard strike takes a quarter of the time, and a key that comes up at once an eighth.
            route(1, Source::Strike, time(CourseTime::Attack), -2.0),
            route(2, Source::KeyUpSpeed, time(CourseTime::Release), -3.0),
        ],
        ..Shape::default()
    });
    program.shapes[0].loudness.attack_ms = 400.0;
    program.shapes[0].loudness.release_ms = 8_000.0;
    let mut engine = Engine::new(RATE, 16);
    engine.load(program);
    engine.set_audio(SampleId(1), &[sine(1_000.0)]);
    engine.note_on(60, 127);
    let (mut left, mut right) = (vec![0.0; 9_600], vec![0.0; 9_600]);
    engine.render(&mut left, &mut right);
    let all = amplitude(&left[7_200..]);
    let half = amplitude(&left[2_160..2_640]) / all;
    assert!((half - 0.5).abs() < 0.01, "half of the way after 50 ms: {half}");
    engine.key_up(60, 127);
    engine.render(&mut left, &mut right);
    // 100 dB in a second: 10 dB in a tenth of one.
    let falls = 20.0 * (amplitude(&left[5_760..6_240]) / amplitude(&left[960..1_440])).log10();
    assert!((falls + 10.0).abs() < 0.1, "{falls} dB");
}
