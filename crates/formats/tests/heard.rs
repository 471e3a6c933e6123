//! What a format will sound like is heard before it is written: the lowered program on the original's audio sounds as on the audio that is written.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use engine::{Event, EventKind, render_offline};
use formats::{Format, bake, lower};
use program::{
    FadeCurve, Loop, LoopRuns, LoopWay, Program, Region, RegionOf, Sample, SampleId, ShapeId, Span, Turn,
};
use signal::Audio;

const RATE: u32 = 48_000;
const FRAMES: usize = 24_000;

/// Something that is nowhere the same.
fn tone(hz: f64) -> Audio {
    let at = |n: usize| {
        let t = n as f64 / f64::from(RATE);
        ((t * hz * std::f64::consts::TAU).sin() * 0.2 + (t * hz * 5.3).sin() * 0.1 * (1.0 - t)) as f32
    };
    Audio::mono(RATE, (0..FRAMES).map(at).collect())
}

fn looped(
    start_frame: u64,
    end_frame: u64,
    crossfade_frames: u64,
    way: LoopWay,
    runs: LoopRuns,
) -> Option<Loop> {
    Some(Loop {
        start_frame,
        end_frame,
        crossfade_frames,
        likeness_percent: 60,
        way,
        runs,
    })
}

/// Trimmed and faded; a loop with a crossfade; one that turns; one too short for a SoundFont, and all of them louder than formats go; two in turn.
fn program() -> Program {
    let samples = (0..2).map(|n| Sample {
        id: SampleId(n),
        name: format!("tone {n}"),
        source: n.to_string(),
        rate_hz: RATE,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES as u64,
    });
    let whole = |sample: usize, key: u8| Region::whole(sample, key, FRAMES as u64).on_keys(key, key);
    let mut regions = vec![
        Region {
            start_frame: 300,
            end_frame: 15_000,
            fade_in_frames: 400,
            fade_out_frames: 5_000,
            fade_curve: FadeCurve::EqualPower,
            gain_db: 9.0,
            recording_cents: 33.0,
            ..whole(0, 60)
        },
        Region {
            start_frame: 100,
            looped: looped(6_000, 9_000, 1_500, LoopWay::Forward, LoopRuns::ThroughRelease),
            ..whole(0, 61)
        },
        Region {
            looped: looped(4_000, 5_000, 0, LoopWay::BackAndForth, LoopRuns::ThroughRelease),
            gain_db: 3.0,
            ..whole(1, 62)
        },
        Region {
            looped: looped(4_000, 4_020, 0, LoopWay::Forward, LoopRuns::ThroughRelease),
            pan: 0.4,
            ..whole(1, 63)
        },
        whole(0, 64),
        whole(1, 64),
    ];
    for (n, region) in regions.iter_mut().enumerate() {
        region.key.of = RegionOf::Own(n as u64);
    }
    for (place, region) in [(0, 4), (1, 5)] {
        regions[region].when.turn = Turn::InOrder { place, of: 2 };
    }
    Program::plain("heard", samples.collect(), regions)
}

fn rendered(program: &Program, audio: &[Audio]) -> Vec<f32> {
    let event = |frame, kind| Event { frame, kind };
    let events: Vec<Event> = [60, 61, 62, 63, 64, 64]
        .into_iter()
        .zip(0..)
        .flat_map(|(key, n)| {
            let at = n * 30_000;
            [
                event(at, EventKind::NoteOn { key, velocity: 127 }),
                event(at + 20_000, EventKind::NoteOff { key }),
            ]
        })
        .collect();
    let samples = audio.iter().map(|audio| audio.channels.clone()).collect();
    let (left, right) = render_offline(program, samples, f64::from(RATE), &events, 180_000);
    [left, right].concat()
}

#[test]
fn a_lowered_program_sounds_on_the_originals_as_on_what_is_written() {
    let (program, audio) = (program(), [tone(220.0), tone(330.0)]);
    for format in [Format::Sfz, Format::SoundFont2] {
        let lowered = lower(&program, format);
        let baked: Vec<Audio> = (lowered.bakes.iter())
            .map(|plan| bake(&audio[plan.sample], plan))
            .collect();
        let written = rendered(&lowered.program, &baked);
        let heard = rendered(&lowered.heard(&program), &audio);
        for (key, part) in (60..).zip(0..6) {
            let part = part * 30_000..(part + 1) * 30_000;
            let loudest = |of: &[f32]| of.iter().fold(0.0_f32, |most, x| most.max(x.abs()));
            let apart = written[part.clone()]
                .iter()
                .zip(&heard[part.clone()])
                .map(|(a, b)| a - b);
            let apart = loudest(&apart.collect::<Vec<f32>>());
            assert!(loudest(&written[part]) > 0.05, "{format:?}, key {key} is silent");
            // The engine fades by whole frames: a fade over 400 goes at most so far in one.
            let most = if key == 60 {
                std::f32::consts::FRAC_PI_2 / 400.0
            } else {
                2e-4
            };
            assert!(apart < most, "{format:?}, key {key}: {apart}");
        }
    }
}

#[test]
fn what_is_left_out_answers_to_nothing_and_names_stay() {
    let mut program = program();
    program.shapes.push(program::Shape {
        id: ShapeId(7),
        ..program::Shape::default()
    });
    program.regions[1].shape = Some(ShapeId(7));
    let heard = lower(&program, Format::SoundFont2).heard(&program);
    let keys = |program: &Program| {
        program
            .regions
            .iter()
            .map(|region| region.key)
            .collect::<Vec<_>>()
    };
    assert_eq!(keys(&heard), keys(&program));
    assert_eq!(heard.samples, program.samples);
    // A SoundFont has the first of those that come in turn.
    let nowhere = Span {
        low: 1,
        high: 0,
        ..Span::of(0, 0)
    };
    assert_eq!(heard.regions[5].when.keys, nowhere);
    assert_eq!(heard.regions[4].when.keys, Span::of(64, 64));
    let shapes: Vec<Option<ShapeId>> = heard.regions.iter().map(|region| region.shape).collect();
    assert!(shapes[1] != shapes[0] && heard.shapes.iter().any(|shape| Some(shape.id) == shapes[1]));
}
