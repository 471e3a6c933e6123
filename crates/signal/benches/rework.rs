//! Cleaning stages and resampling, each over 5 s of stereo at 48 kHz; resampling beside the same crate's FFT resampler, which can do fixed ratios
//! only.

use criterion::{Criterion, criterion_group, criterion_main};
use rubato::{FftFixedIn, Resampler};
use signal::{Audio, Cleaning, Evening, Hiss, Hum, Limiter, Places, clean, resampled};

const RATE: u32 = 48_000;

fn sound() -> Audio {
    let side = |lean: f32| -> Vec<f32> {
        (0..5 * RATE)
            .map(|n| {
                let hiss = (n.wrapping_mul(2_654_435_761) >> 16) as f32 / 65_536.0 - 0.5;
                (n as f32 * 0.0288).sin() * lean + hiss * 0.002
            })
            .collect()
    };
    Audio {
        rate_hz: RATE,
        channels: vec![side(0.4), side(0.3)],
    }
}

fn rework(c: &mut Criterion) {
    let audio = sound();
    let places = Places {
        start_frame: 12_000,
        end_frame: 230_000,
        looped: Some((60_000, 200_000)),
    };
    let stages = [
        (
            "hum",
            Cleaning {
                hum: Some(Hum { hz: Some(50.0) }),
                ..Cleaning::default()
            },
        ),
        (
            "hiss",
            Cleaning {
                hiss: Some(Hiss { reduction_db: 12.0 }),
                ..Cleaning::default()
            },
        ),
        (
            "evening",
            Cleaning {
                evening: Some(Evening { share: 1.0 }),
                ..Cleaning::default()
            },
        ),
        (
            "limiter",
            Cleaning {
                limiter: Some(Limiter { ceiling_dbtp: -9.0 }),
                ..Cleaning::default()
            },
        ),
    ];
    for (name, stage) in stages {
        c.bench_function(&format!("{name} of 5 s stereo"), |b| {
            b.iter(|| clean(&audio, &stage, places))
        });
    }
    c.bench_function("resampling 5 s stereo to 44.1 kHz, ours", |b| {
        b.iter(|| resampled(&audio, 44_100.0 / 48_000.0));
    });
    c.bench_function("resampling 5 s stereo to 44.1 kHz, by FFT", |b| {
        b.iter(|| {
            let mut fft = FftFixedIn::<f32>::new(48_000, 44_100, 1_024, 2, 2).expect("a fixed ratio");
            (0..audio.frames() / 1_024)
                .map(|n| {
                    let piece = audio.slice(n * 1_024, (n + 1) * 1_024);
                    fft.process(&piece.channels, None).map_or(0, |made| made[0].len())
                })
                .sum::<usize>()
        });
    });
}

criterion_group! {
    name = benches;
    config = Criterion::default().sample_size(20);
    targets = rework
}
criterion_main!(benches);
