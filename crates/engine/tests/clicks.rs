//! Nothing clicks that is dragged while a key sounds: the largest change of the spectrum, measured as seams are, beside what the sound changes by itself.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use engine::{Engine, Setting, ShapeSetting};
use program::{
    Filter, ParamId, Passes, Program, Region, Route, RouteId, Sample, SampleId, Shape, ShapeId, Source,
};
use signal::{PLAINLY_HEARD_DB, changes_db};

const RATE: u32 = 48_000;
const FRAMES: usize = 240_000;
/// Blocks of a second.
const SECOND: usize = 375;

/// A steady reed over noise 50 dB under them.
fn reed() -> Vec<f32> {
    let mut noise = 1u32;
    (0..FRAMES)
        .map(|n| {
            let t = n as f64 / f64::from(RATE) * std::f64::consts::TAU;
            let tone = |hz: f64| {
                (1..=20)
                    .map(|k| (t * hz * f64::from(k)).sin() / f64::from(k))
                    .sum::<f64>()
            };
            noise = noise.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let hiss = f64::from(noise >> 8) / f64::from(1 << 23) - 1.0;
            (0.1 * tone(220.0) + 0.001 * hiss) as f32
        })
        .collect()
}

fn program() -> Program {
    let sample = Sample {
        id: SampleId(1),
        name: "reed".into(),
        source: "1".into(),
        rate_hz: RATE,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES as u64,
    };
    let mut program = Program::plain("clicks", vec![sample], vec![Region::whole(0, 57, FRAMES as u64)]);
    let route = |n: u64, to: ParamId| Route {
        id: RouteId(n),
        from: Source::Controller(1),
        times: None,
        curve: None,
        to,
        amount: 0.0,
    };
    program.shapes = vec![Shape {
        id: ShapeId(0),
        filter: Some(Filter {
            passes: Passes::Low,
            poles: 4,
            cutoff_hz: 3_000.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        }),
        routes: vec![route(1, ParamId::Place), route(2, ParamId::Pitch)],
        ..Shape::default()
    }];
    program
}

fn playing() -> Engine {
    let mut engine = Engine::new(f64::from(RATE), 16);
    engine.load(program());
    engine.set_audio(SampleId(1), &[reed()]);
    engine
}

/// A key that is held for 3 s; within the middle one something is done every 16 ms, from 0 to 1 of the way.
fn held(act: impl Fn(&mut Engine, f64)) -> Vec<f32> {
    let mut engine = playing();
    engine.controller(1, 127);
    engine.note_on(57, 100);
    let mut heard = Vec::new();
    let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
    for block in 0..3 * SECOND {
        if (SECOND..2 * SECOND).contains(&block) && block % 6 == 0 {
            act(&mut engine, (block - SECOND) as f64 / SECOND as f64);
        }
        engine.render(&mut left, &mut right);
        heard.extend_from_slice(&left);
    }
    heard
}

/// The largest change in the middle second.
fn largest(heard: &[f32]) -> f64 {
    let second = RATE as usize;
    changes_db(heard, RATE)
        .into_iter()
        .filter(|(frame, _)| (second..2 * second + second / 10).contains(frame))
        .fold(0.0, |most, (_, change)| most.max(change))
}

#[test]
fn nothing_that_is_dragged_clicks() {
    let still = largest(&held(|_, _| {}));
    let shape = |setting: ShapeSetting, of: u64, from: f64, to: f64| {
        largest(&held(|engine, at| {
            engine.shape(ShapeId(0), setting, of, from + (to - from) * at)
        }))
    };
    let dragged = [
        ("cutoff", shape(ShapeSetting::CutoffHz, 0, 3_000.0, 6_000.0)),
        ("resonance", shape(ShapeSetting::ResonanceDb, 0, 0.0, 12.0)),
        (
            "what it is held at",
            shape(ShapeSetting::SustainDb, 0, 0.0, -12.0),
        ),
        (
            "how far place is driven",
            shape(ShapeSetting::RouteAmount, 1, 0.0, -1.0),
        ),
        (
            "how far pitch is driven",
            shape(ShapeSetting::RouteAmount, 2, 0.0, 100.0),
        ),
        (
            "level",
            largest(&held(|engine, at| {
                engine.set(SampleId(1), Setting::GainDb, -12.0 * at)
            })),
        ),
        (
            "programs that are taken over",
            largest(&held(|engine, at| {
                let mut program = program();
                program.regions[0].gain_db = -12.0 * at;
                program.shapes[0].loudness.release_ms = 500.0 + 500.0 * at;
                engine.update(program);
            })),
        ),
        (
            "expression",
            largest(&held(|engine, at| engine.controller(11, 127 - (at * 60.0) as u8))),
        ),
    ];
    for (what, change) in dragged {
        assert!(
            change - still < PLAINLY_HEARD_DB,
            "{what}: {change} dB, still {still} dB"
        );
    }
    // What does click is seen: the sound is gone from one frame to the next.
    let mut cut = held(|_, _| {});
    cut[72_000..].fill(0.0);
    assert!(largest(&cut) > still + 10.0);
}
