//! What is baked into files sounds as the engine plays the original.

use engine::{Event, EventKind, render_offline};
use formats::{Format, bake, lower};
use program::{FadeCurve, Loop, LoopRuns, LoopWay, Program, Region, Sample};
use signal::Audio;

const RATE: u32 = 48_000;
const FRAMES: u64 = 48_000;

/// Two tones that do not fit any loop: what is crossfaded or turned wrongly would be heard.
fn sound() -> Audio {
    let samples = (0..FRAMES)
        .map(|n| {
            let t = n as f32 / RATE as f32;
            (t * 311.0 * std::f32::consts::TAU).sin() * 0.3 + (t * 487.3 * std::f32::consts::TAU).sin() * 0.2
        })
        .collect();
    Audio::mono(RATE, samples)
}

fn program(looped: Loop, fade_curve: FadeCurve) -> Program {
    Program::plain(
        "Baked",
        vec![Sample {
            id: program::SampleId(0),
            name: "a".into(),
            source: "a".into(),
            rate_hz: RATE,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: FRAMES,
        }],
        vec![Region {
            start_frame: 1_000,
            end_frame: 47_000,
            fade_in_frames: 4_000,
            fade_out_frames: 4_000,
            fade_curve,
            looped: Some(looped),
            ..Region::whole(0, 60, FRAMES)
        }],
    )
}

#[test]
fn loops_of_every_way_and_curve_and_fades_of_every_course_are_baked_as_they_are_played() {
    let ways = [LoopWay::Forward, LoopWay::BackAndForth];
    let curves = [FadeCurve::Straight, FadeCurve::EqualPower, FadeCurve::Exponential];
    for (way, curve, likeness_percent) in ways
        .into_iter()
        .flat_map(|way| curves.into_iter().map(move |curve| (way, curve)))
        .zip([0u8, 40, 100, 0, 40, 100])
        .map(|((way, curve), likeness)| (way, curve, likeness))
    {
        let looped = Loop {
            crossfade_frames: if way == LoopWay::Forward { 5_000 } else { 0 },
            likeness_percent,
            way,
            ..Loop::plain(20_000, 33_333, LoopRuns::ThroughRelease)
        };
        let original = program(looped, curve);
        let lowered = lower(&original, Format::Sfz);
        let baked = bake(&sound(), &lowered.bakes[0]);
        assert_eq!(baked.frames() as u64, lowered.program.samples[0].frames);
        let struck = [Event {
            frame: 0,
            kind: EventKind::NoteOn {
                key: 60,
                velocity: 100,
            },
        }];
        let play = |program: &Program, audio: Audio| {
            render_offline(program, vec![audio.channels], f64::from(RATE), &struck, 120_000).0
        };
        let (ours, theirs) = (play(&original, sound()), play(&lowered.program, baked));
        let worst = ours
            .iter()
            .zip(&theirs)
            .map(|(a, b)| (a - b).abs())
            .fold(0.0f32, f32::max);
        assert!(worst < 2e-4, "{way:?} {curve:?} {likeness_percent}: {worst}");
        assert!(theirs[110_000..].iter().any(|x| x.abs() > 0.1), "it holds");
    }
}
