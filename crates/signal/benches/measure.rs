//! Bars page: measuring a take (start, end, pitch, loudness, noise, loop) at ≥ 200 × real time on one core, 48 kHz stereo.
//! Five seconds of sound: 25 ms is the bar. The reference in the same run is the `ebur128` crate's loudness of the same audio.

use criterion::{Criterion, criterion_group, criterion_main};
use signal::Audio;

fn take() -> Audio {
    let side = |phase: f64| {
        (0..240_000)
            .map(|n| {
                let t = f64::from(n) / 48_000.0;
                if !(4_800..=216_000).contains(&n) {
                    return 1e-4 * ((n * 7919 % 1000) as f32 / 500.0 - 1.0);
                }
                (1..=12)
                    .map(|k| (t * 220.0 * f64::from(k) * std::f64::consts::TAU + phase).sin() / f64::from(k))
                    .sum::<f64>() as f32
                    * 0.2
            })
            .collect()
    };
    Audio {
        rate_hz: 48_000,
        channels: vec![side(0.0), side(0.4)],
    }
}

fn measuring(c: &mut Criterion) {
    let audio = take();
    let mono = audio.to_mono();
    c.bench_function("reference: ebur128 loudness of 5 s stereo", |b| {
        b.iter(|| signal::loudness_lufs(&audio))
    });
    c.bench_function("bounds of 5 s stereo", |b| {
        b.iter(|| signal::sound_bounds(&audio))
    });
    c.bench_function("pitch of 5 s", |b| {
        b.iter(|| signal::find_pitch(&mono, 48_000, 4_800, 216_000))
    });
    c.bench_function("loops of 5 s stereo", |b| {
        b.iter(|| {
            signal::find_loops(
                &audio,
                4_800,
                216_000,
                Some(48_000.0 / 220.0),
                signal::LoopLengths::default(),
            )
        })
    });
    c.bench_function("measuring 5 s stereo (bar: 25 ms)", |b| {
        b.iter(|| signal::measure(&audio))
    });
}

criterion_group!(benches, measuring);
criterion_main!(benches);
