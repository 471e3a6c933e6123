//! Bars page: at least 1.5 times the stereo voices of the crate `rustysynth`, which interpolates linearly, on the same SoundFont in the same run, 128
//! at once: looped, with envelopes, without a filter. A stereo voice there is two, one for each side.

use criterion::{Criterion, criterion_group, criterion_main};
use engine::Engine;
use formats::{Format, FormatError, bake, lower, write_sf2};
use program::{Loop, LoopRuns, Program, Region, Sample, SampleId};
use rustysynth::{SoundFont, Synthesizer, SynthesizerSettings};
use signal::Audio;
use std::sync::Arc;

const RATE: u32 = 48_000;
const FRAMES: u32 = 96_000;
/// Stereo voices at once: that renderer has at most 256 voices.
const VOICES: usize = 128;
const BLOCK: usize = 128;

/// Noise, looped over most of it.
fn instrument() -> (Program, Audio) {
    let mut state = 1u32;
    let mut side = || {
        (0..FRAMES)
            .map(|_| {
                // Numerical Recipes' generator, 32 bits.
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                (state >> 8) as f32 / (1 << 26) as f32
            })
            .collect()
    };
    let audio = Audio {
        rate_hz: RATE,
        channels: vec![side(), side()],
    };
    let sample = Sample {
        id: SampleId(1),
        name: "noise".into(),
        source: "noise".into(),
        rate_hz: RATE,
        first_channel: 0,
        source_channels: 2,
        channels: 2,
        frames: u64::from(FRAMES),
    };
    let region = Region {
        looped: Some(Loop {
            crossfade_frames: 2_400,
            ..Loop::plain(20_000, 90_000, LoopRuns::ThroughRelease)
        }),
        ..Region::whole(0, 60, u64::from(FRAMES))
    };
    (Program::plain("noise", vec![sample], vec![region]), audio)
}

fn voices(c: &mut Criterion) {
    let (program, audio) = instrument();
    let lowered = lower(&program, Format::SoundFont2);
    let baked = bake(&audio, &lowered.bakes[0]);
    let lowered = lowered.program;
    let mut file = std::io::Cursor::new(Vec::new());
    write_sf2(&mut file, &lowered, |_| Ok::<_, FormatError>(baked.clone())).expect("a SoundFont");
    let font = Arc::new(SoundFont::new(&mut file.into_inner().as_slice()).expect("a SoundFont"));

    let mut group = c.benchmark_group("128 stereo voices, one block of 128 (real time: 2.667 ms)");
    let (mut left, mut right) = ([0.0; BLOCK], [0.0; BLOCK]);
    let mut ours = Engine::new(f64::from(RATE), VOICES);
    ours.load(lowered.clone());
    ours.set_audio(lowered.samples[0].id, &baked.channels);
    // Half an octave on either side of the root, as where there is a rung for each.
    let key = |n: usize| 54 + (n % 13) as u8;
    (0..VOICES).for_each(|n| ours.note_on(key(n), 100));
    group.bench_function("ours", |b| b.iter(|| ours.render(&mut left, &mut right)));
    assert_eq!(ours.active_voices(), VOICES);

    let mut settings = SynthesizerSettings::new(RATE as i32);
    settings.maximum_polyphony = 2 * VOICES;
    settings.enable_reverb_and_chorus = false;
    let mut other = Synthesizer::new(&font, &settings).expect("a synthesizer");
    (0..VOICES).for_each(|n| other.note_on((n / 13) as i32, i32::from(key(n)), 100));
    group.bench_function("rustysynth", |b| b.iter(|| other.render(&mut left, &mut right)));
    assert!(left.iter().any(|x| x.abs() > 0.0), "it sounds");
    group.finish();
}

criterion_group!(benches, voices);
criterion_main!(benches);
