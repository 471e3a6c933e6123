//! Filters, courses and slow movements in an exported SoundFont, rendered by an independent renderer (crate `rustysynth`) beside our own engine; and what
//! each format loses of them.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use engine::{Event, EventKind, render_offline};
use formats::{Format, FormatError, Placed, bake, lower, write_sf2, write_sfz};
use program::{
    Course, CourseId, Filter, Movement, MovementId, ParamId, Passes, Program, Rate, Region, Route, RouteId,
    Sample, SampleId, Shape, ShapeId, Source, Wave,
};
use rustysynth::{SoundFont, Synthesizer, SynthesizerSettings};
use signal::Audio;
use std::sync::Arc;

const RATE: u32 = 48_000;
const FRAMES: usize = 192_000;

fn program(shape: Shape) -> Program {
    let sample = Sample {
        id: SampleId(1),
        name: "tone".into(),
        source: "1".into(),
        rate_hz: RATE,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES as u64,
    };
    let mut program = Program::plain("driven", vec![sample], vec![Region::whole(0, 60, FRAMES as u64)]);
    program.shapes = vec![Shape {
        id: ShapeId(0),
        ..shape
    }];
    program
}

fn sine(hz: f64) -> Audio {
    let tone =
        (0..FRAMES).map(|n| ((n as f64 * hz / f64::from(RATE) * std::f64::consts::TAU).sin() * 0.3) as f32);
    Audio {
        rate_hz: RATE,
        channels: vec![tone.collect()],
    }
}

/// A region that has a shape of its own is written with it, in a strand beside the other's, and the other renderer filters it alone.
#[test]
fn a_region_with_a_shape_of_its_own_is_written_with_it() {
    let mut program = program(Shape::default());
    let mut other = program.regions[0].clone().on_keys(61, 127);
    other.key.of = program::RegionOf::Own(1);
    other.root_key = 72;
    other.shape = Some(ShapeId(9));
    program.regions[0].when.keys = program::Span::of(0, 60);
    program.regions.push(other);
    program.shapes.push(Shape {
        id: ShapeId(9),
        filter: Some(filter(400.0, 0.0)),
        ..Shape::default()
    });
    assert_eq!(lower(&program, Format::SoundFont2).program.strands.len(), 2);
    let sfz = write_sfz(&lower(&program, Format::Sfz).program);
    assert_eq!(
        (sfz.matches("<group>").count(), sfz.matches("cutoff=400").count()),
        (2, 1)
    );
    // Two octaves over its cutoff a filter of two poles lets 24 dB less pass (Butterworth).
    for (key, under_db) in [(60, 0.0), (72, 24.0)] {
        let (ours, others) = both_on(&program, &sine(1_600.0), 24_000, key);
        for rendered in [ours, others] {
            let under = db(&sine(1_600.0).channels[0][12_000..24_000]) - 3.0 - db(&rendered[12_000..]);
            assert!((under - under_db).abs() < 1.0, "key {key}: {under}");
        }
    }
}

/// The left side of one key, by our engine and by the other renderer, from the lowered program.
fn both(program: &Program, audio: &Audio, frames: usize) -> (Vec<f32>, Vec<f32>) {
    both_on(program, audio, frames, 60)
}

fn both_on(program: &Program, audio: &Audio, frames: usize, key: u8) -> (Vec<f32>, Vec<f32>) {
    let lowered = lower(program, Format::SoundFont2);
    let baked: Vec<Audio> = lowered.bakes.iter().map(|of| bake(audio, of)).collect();
    let mut file = std::io::Cursor::new(Vec::new());
    write_sf2(&mut file, &[Placed::alone(lowered.program.clone())], 24, |n| {
        Ok::<_, FormatError>(baked[n].clone())
    })
    .unwrap();
    let font = Arc::new(SoundFont::new(&mut file.into_inner().as_slice()).unwrap());
    let mut settings = SynthesizerSettings::new(RATE as i32);
    settings.enable_reverb_and_chorus = false;
    let mut synthesizer = Synthesizer::new(&font, &settings).unwrap();
    synthesizer.set_master_volume(1.0);
    synthesizer.process_midi_message(0, 0xB0, 7, 127);
    synthesizer.note_on(0, i32::from(key), 127);
    let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
    synthesizer.render(&mut left, &mut right);
    let strike = Event {
        frame: 0,
        kind: EventKind::NoteOn { key, velocity: 127 },
    };
    let samples = baked.iter().map(|audio| audio.channels.clone()).collect();
    let (ours, _) = render_offline(&lowered.program, samples, f64::from(RATE), &[strike], frames);
    (ours, left)
}

fn db(of: &[f32]) -> f64 {
    10.0 * (of.iter().map(|&x| f64::from(x).powi(2)).sum::<f64>() / of.len() as f64).log10()
}

fn filter(cutoff_hz: f64, resonance_db: f64) -> Filter {
    Filter {
        passes: Passes::Low,
        poles: 2,
        cutoff_hz,
        key_follow: 0.0,
        resonance_db,
        makes_up: false,
    }
}

fn route(n: u64, from: Source, to: ParamId, amount: f64) -> Route {
    Route {
        id: RouteId(n),
        from,
        times: None,
        curve: None,
        to,
        amount,
    }
}

#[test]
fn a_low_pass_sounds_as_the_independent_renderer_has_it() {
    for (cutoff, resonance) in [(800.0, 0.0), (2_000.0, 0.0), (2_000.0, 9.0)] {
        let program = program(Shape {
            filter: Some(filter(cutoff, resonance)),
            ..Shape::default()
        });
        let mut shapes = Vec::new();
        for hz in [200.0, 500.0, 1_000.0, 2_000.0, 4_000.0] {
            let (ours, other) = both(&program, &sine(hz), 48_000);
            shapes.push(db(&ours[24_000..]) - db(&other[24_000..]));
        }
        // It lowers what resonates by half of the resonance, as renderers do and the specification leaves open: a level, not a shape.
        let offset = shapes[0];
        assert!(
            (-0.5..resonance / 2.0 + 0.5).contains(&offset.abs()) || resonance == 0.0 && offset.abs() < 0.5,
            "{shapes:?}"
        );
        for difference in &shapes {
            assert!(
                (difference - offset).abs() < 0.5,
                "{cutoff} Hz, {resonance} dB: {shapes:?}"
            );
        }
    }
}

#[test]
fn a_course_closes_the_filter_as_the_independent_renderer_has_it() {
    let program = program(Shape {
        filter: Some(filter(500.0, 0.0)),
        courses: vec![Course {
            id: CourseId(1),
            delay_ms: 0.0,
            attack_ms: 0.0,
            hold_ms: 0.0,
            decay_ms: 1_000.0,
            sustain: 0.25,
            release_ms: 100.0,
            bends: [0.0; 3],
        }],
        routes: vec![route(1, Source::Course(CourseId(1)), ParamId::Cutoff, 3_600.0)],
        ..Shape::default()
    });
    let (ours, other) = both(&program, &sine(3_000.0), 96_000);
    for ms in [100, 400, 700, 1_000, 1_500] {
        let part = ms * 48 - 960..ms * 48 + 960;
        let difference = db(&ours[part.clone()]) - db(&other[part]);
        assert!(difference.abs() < 0.5, "{ms} ms: {difference}");
    }
}

#[test]
fn vibrato_goes_as_far_and_as_fast_as_the_independent_renderer_has_it() {
    let movement = Movement {
        id: MovementId(8),
        wave: Wave::Triangle,
        rate: Rate::Hz(4.0),
        phase: 0.0,
        delay_ms: 200.0,
        fade_in_ms: 0.0,
        per_voice: true,
        once: false,
    };
    let program = program(Shape {
        movements: vec![movement],
        routes: vec![route(1, Source::Movement(MovementId(8)), ParamId::Pitch, 40.0)],
        ..Shape::default()
    });
    let (ours, other) = both(&program, &sine(1_000.0), 96_000);
    let pitch = |of: &[f32], first: usize| {
        let zeros: Vec<f64> = of[first..first + 960]
            .windows(2)
            .enumerate()
            .filter(|(_, w)| w[0] < 0.0 && w[1] >= 0.0)
            .map(|(n, w)| n as f64 + f64::from(w[0] / (w[0] - w[1])))
            .collect();
        let period = (zeros[zeros.len() - 1] - zeros[0]) / (zeros.len() - 1) as f64;
        1200.0 * (f64::from(RATE) / period / 1_000.0).log2()
    };
    let mut widest = 0.0f64;
    for first in (4_800..90_000).step_by(960) {
        let (a, b) = (pitch(&ours, first), pitch(&other, first));
        widest = widest.max(a.abs());
        // It moves in steps of 64 frames.
        assert!((a - b).abs() < 1.5, "{first}: {a} {b}");
    }
    assert!(widest > 36.0, "{widest}");
}

#[test]
fn what_a_format_cannot_drive_is_said_and_left_out() {
    let program = program(Shape {
        filter: Some(Filter {
            passes: Passes::Band,
            poles: 4,
            makes_up: true,
            ..filter(900.0, 0.0)
        }),
        movements: vec![Movement {
            id: MovementId(1),
            wave: Wave::Smooth,
            rate: Rate::Quarters(2.0),
            phase: 0.5,
            delay_ms: 0.0,
            fade_in_ms: 500.0,
            per_voice: false,
            once: false,
        }],
        routes: vec![
            route(1, Source::Movement(MovementId(1)), ParamId::Pitch, 20.0),
            route(2, Source::Strike, ParamId::SampleStart, 0.1),
            route(3, Source::Strike, ParamId::Cutoff, 1_200.0),
        ],
        ..Shape::default()
    });
    let said = |format| -> Vec<String> {
        let losses = lower(&program, format).losses;
        assert!(losses.iter().all(|loss| loss.regions == 1));
        losses.into_iter().map(|loss| loss.what).collect()
    };
    assert_eq!(
        said(Format::SoundFont2),
        [
            "SoundFont has one filter, a low-pass of two poles: others become that, or are left out.",
            "SoundFont does not make up the level that a filter takes.",
            "SoundFont does not drive what these are driven by or to: that is left out.",
            "SoundFont's slow movements are triangles of each key's own that do not fade in: these become such.",
        ]
    );
    assert_eq!(
        said(Format::Sfz),
        [
            "SFZ's band-passes and notches have two poles: those of four become such.",
            "SFZ does not make up the level that a filter takes.",
            "SFZ does not drive what these are driven by or to: that is left out.",
            "SFZ's slow movements are each key's own, at 120 beats a minute, for ever, and not smoothly random: these become such.",
        ]
    );
    let text = write_sfz(&lower(&program, Format::Sfz).program);
    for words in [
        "fil_type=bpf_2p cutoff=900",
        "fil_veltrack=1200",
        "lfo01_wave=1 lfo01_freq=1 lfo01_phase=0.5 lfo01_fade=0.5 lfo01_pitch=20",
    ] {
        assert!(text.contains(words), "{words} in {text}");
    }
}
