//! Bars page: all effects and 64 voices in ≤ 1.5 ms a block; ≥ 500 looped stereo voices in real time on one core at 48 kHz. A block of 128 frames lasts 2.667 ms.

use criterion::{Criterion, criterion_group, criterion_main};
use engine::Engine;
use program::{Bus, BusId, Effect, EffectId, EffectKind, Loop, LoopRuns, Program, Region, Sample};

fn sample(frames: u64) -> Sample {
    Sample {
        id: program::SampleId(0),
        name: "a".into(),
        source: "a".into(),
        rate_hz: 48_000,
        first_channel: 0,
        source_channels: 2,
        channels: 2,
        frames,
    }
}

fn voices(c: &mut Criterion) {
    let frames = 96_000u64;
    let program = Program::plain(
        "bench",
        vec![sample(frames)],
        vec![Region {
            looped: Some(Loop {
                crossfade_frames: 2_400,
                ..Loop::plain(40_000, 80_000, LoopRuns::ThroughRelease)
            }),
            ..Region::whole(0, 72, frames)
        }],
    );
    for count in [128, 500] {
        let mut engine = Engine::new(48_000.0, count);
        engine.load(program.clone());
        engine.set_audio(
            program::SampleId(0),
            &[vec![0.1; frames as usize], vec![0.1; frames as usize]],
        );
        (0..count).for_each(|n| engine.note_on(60 + (n % 14) as u8, 100));
        let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
        c.bench_function(
            &format!("{count} voices, one block of 128 (real time: 2.667 ms)"),
            |b| b.iter(|| engine.render(&mut left, &mut right)),
        );
        assert_eq!(engine.active_voices(), count);
    }
}

fn with_all_effects(c: &mut Criterion) {
    let frames = 96_000u64;
    let effects = (1u64..).zip(EffectKind::ALL);
    let mut program = Program::plain(
        "bench",
        vec![sample(frames)],
        vec![Region {
            looped: Some(Loop::plain(40_000, 80_000, LoopRuns::ThroughRelease)),
            ..Region::whole(0, 72, frames)
        }],
    );
    program.buses = vec![Bus {
        id: BusId::WHOLE,
        name: "All".into(),
        gain_db: 0.0,
        effects: effects.map(|(n, kind)| Effect::new(EffectId(n), *kind)).collect(),
    }];
    let mut engine = Engine::new(48_000.0, 64);
    engine.load(program);
    let noise = |n: u64| ((n * 7_919 % 1_009) as f32 / 1_009.0 - 0.5) * 0.1;
    let side: Vec<f32> = (0..frames).map(noise).collect();
    engine.set_audio(program::SampleId(0), &[side.clone(), side]);
    (0..64).for_each(|n| engine.note_on(60 + (n % 14) as u8, 100));
    let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
    c.bench_function("64 voices and all effects, one block of 128 (bar: 1.5 ms)", |b| {
        b.iter(|| engine.render(&mut left, &mut right))
    });
    assert_eq!(engine.active_voices(), 64);
}

criterion_group!(benches, voices, with_all_effects);
criterion_main!(benches);
