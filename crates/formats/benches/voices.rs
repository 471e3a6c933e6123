//! Bars page: at least 1.5 times the stereo voices of the crate `rustysynth`, which interpolates linearly, on the same SoundFont in the same run, 128
//! at once: looped, with envelopes, without a filter; and 0.8 times with its filter and two routes on each. A stereo voice there is two, one for each side.

use criterion::{Criterion, criterion_group, criterion_main};
use engine::Engine;
use formats::{Format, FormatError, Placed, bake, lower, write_sf2};
use program::{
    Course, CourseId, Filter, Loop, LoopRuns, Movement, MovementId, ParamId, Passes, Program, Rate, Region,
    Route, RouteId, Sample, SampleId, Shape, Source, Wave,
};
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
    beside(c, "128 stereo voices", &program, &audio);
    let mut driven = program.clone();
    driven.shapes[0] = driven_shape();
    beside(c, "128 filtered stereo voices with two routes", &driven, &audio);
}

/// A filter that a course closes, and vibrato.
fn driven_shape() -> Shape {
    let route = |n: u64, from: Source, to: ParamId, amount: f64| Route {
        id: RouteId(n),
        from,
        times: None,
        curve: None,
        to,
        amount,
    };
    Shape {
        filter: Some(Filter {
            passes: Passes::Low,
            poles: 2,
            cutoff_hz: 2_000.0,
            key_follow: 0.0,
            resonance_db: 3.0,
            makes_up: false,
        }),
        courses: vec![Course {
            id: CourseId(1),
            delay_ms: 0.0,
            attack_ms: 10.0,
            hold_ms: 0.0,
            decay_ms: 2_000.0,
            sustain: 0.5,
            release_ms: 300.0,
            bends: [0.0; 3],
        }],
        movements: vec![Movement {
            id: MovementId(1),
            wave: Wave::Triangle,
            rate: Rate::Hz(5.0),
            phase: 0.0,
            delay_ms: 0.0,
            fade_in_ms: 0.0,
            per_voice: true,
            once: false,
        }],
        routes: vec![
            route(1, Source::Course(CourseId(1)), ParamId::Cutoff, 1_200.0),
            route(2, Source::Movement(MovementId(1)), ParamId::Pitch, 10.0),
        ],
        ..Shape::default()
    }
}

fn beside(c: &mut Criterion, what: &str, program: &Program, audio: &Audio) {
    let lowered = lower(program, Format::SoundFont2);
    let baked = bake(audio, &lowered.bakes[0]);
    let lowered = lowered.program;
    let mut file = std::io::Cursor::new(Vec::new());
    write_sf2(&mut file, &[Placed::alone(lowered.clone())], 24, |_| {
        Ok::<_, FormatError>(baked.clone())
    })
    .expect("a SoundFont");
    let font = Arc::new(SoundFont::new(&mut file.into_inner().as_slice()).expect("a SoundFont"));

    let mut group = c.benchmark_group(format!("{what}, one block of 128 (real time: 2.667 ms)"));
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
    other.render(&mut left, &mut right);
    assert!(left.iter().any(|x| x.abs() > 0.0), "it sounds");
    group.finish();
}

criterion_group!(benches, voices);
criterion_main!(benches);
