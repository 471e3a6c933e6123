//! Bars page: ≥ 500 looped stereo voices in real time on one core at 48 kHz. A block of 128 frames lasts 2.667 ms.

use criterion::{Criterion, criterion_group, criterion_main};
use engine::Engine;
use program::{Loop, LoopRuns, Program, Region, RoundRobin, Sample, Shape, SoundsOn, Strand};

fn voices(c: &mut Criterion) {
    let frames = 96_000u64;
    let program = Program {
        name: "bench".into(),
        samples: vec![Sample {
            name: "a".into(),
            source: "a".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames,
        }],
        strands: vec![Strand {
            name: "s".into(),
            sounds_on: SoundsOn::KeyDown,
            gain_db: 0.0,
            shape: Shape::default(),
        }],
        regions: vec![Region {
            strand: 0,
            sample: 0,
            low_key: 0,
            high_key: 127,
            low_velocity: 1,
            high_velocity: 127,
            root_key: 72,
            recording_cents: 0.0,
            tune_cents: 0.0,
            gain_db: 0.0,
            pan: 0.0,
            start_frame: 0,
            end_frame: frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: program::FadeCurve::Straight,
            looped: Some(Loop {
                start_frame: 40_000,
                end_frame: 80_000,
                crossfade_frames: 2_400,
                likeness_percent: 100,
                way: program::LoopWay::Forward,
                runs: LoopRuns::ThroughRelease,
            }),
            round_robin: RoundRobin {
                position: 0,
                length: 1,
            },
        }],
    };
    for count in [128, 500] {
        let mut engine = Engine::new(48_000.0, count);
        engine.load(program.clone());
        engine.samples_mut().set(0, vec![vec![0.1; frames as usize]; 2]);
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
