//! Bars page: ≥ 500 looped stereo voices in real time on one core at 48 kHz. A block of 128 frames lasts 2.667 ms.

use criterion::{Criterion, criterion_group, criterion_main};
use engine::Engine;
use program::{Loop, LoopRuns, Program, Region, Sample};

fn voices(c: &mut Criterion) {
    let frames = 96_000u64;
    let program = Program::plain(
        "bench",
        vec![Sample {
            id: program::SampleId(0),
            name: "a".into(),
            source: "a".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames,
        }],
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

criterion_group!(benches, voices);
criterion_main!(benches);
