//! What a played program sounds like.

use engine::{Event, EventKind, Setting, render_offline};
use program::{
    Fade, Loop, LoopRuns, LoopWay, On, Program, Region, RegionOf, Sample, SampleId, ShapeId, Span, Strand,
    StrandId, Turn,
};

const RATE: f64 = 48_000.0;

fn region(frames: u64) -> Region {
    Region::whole(0, 69, frames)
}

fn program_of(region: Region, frames: u64) -> Program {
    let sample = Sample {
        id: SampleId(0),
        name: "a".into(),
        source: "a".into(),
        rate_hz: 48_000,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames,
    };
    let mut program = Program::plain("p", vec![sample], vec![region]);
    // A mono sound in the middle is 3 dB down a side: at its full level it is easier to compare with what was recorded.
    program.strands[0].gain_db = 10.0 * 2f64.log10();
    program.shapes[0].loudness.attack_ms = 0.0;
    program
}

fn sine(hz: f64, frames: usize) -> Vec<f32> {
    (0..frames)
        .map(|n| ((n as f64 * hz / RATE * std::f64::consts::TAU).sin() * 0.5) as f32)
        .collect()
}

fn press(key: u8, up_at: Option<usize>) -> Vec<Event> {
    let mut events = vec![Event {
        frame: 0,
        kind: EventKind::NoteOn { key, velocity: 127 },
    }];
    events.extend(up_at.map(|frame| Event {
        frame,
        kind: EventKind::NoteOff { key },
    }));
    events
}

#[test]
fn the_root_key_sounds_as_recorded() {
    let samples = sine(440.0, 48_000);
    let (left, right) = render_offline(
        &program_of(region(48_000), 48_000),
        vec![vec![samples.clone()]],
        RATE,
        &press(69, None),
        40_000,
    );
    assert_eq!(left, right);
    let worst = left[200..]
        .iter()
        .zip(&samples[200..])
        .map(|(a, b)| (a - b).abs())
        .fold(0.0f32, f32::max);
    assert!(worst < 1e-4, "{worst}");
}

#[test]
fn other_keys_sound_at_equal_temperament() {
    let samples = vec![vec![sine(440.0, 200_000)]];
    for key in [57, 62, 70, 76, 81] {
        let program = program_of(region(200_000), 200_000);
        let (left, _) = render_offline(&program, samples.clone(), RATE, &press(key, None), 60_000);
        let pitch = signal::find_pitch(&left, 48_000, 0, 60_000).unwrap();
        assert_eq!(pitch.key, key);
        assert!(pitch.cents.abs() < 0.1, "{key}: {pitch:?}");
    }
}

#[test]
fn a_loop_holds_until_the_key_is_up_and_then_dies_away() {
    let samples = sine(440.0, 48_000);
    let looped = Loop {
        start_frame: 12_000,
        end_frame: 36_000,
        crossfade_frames: 2_400,
        likeness_percent: 100,
        way: program::LoopWay::Forward,
        runs: LoopRuns::ThroughRelease,
    };
    let program = program_of(
        Region {
            looped: Some(looped),
            ..region(48_000)
        },
        48_000,
    );
    let (left, _) = render_offline(
        &program,
        vec![vec![samples]],
        RATE,
        &press(69, Some(480_000)),
        560_000,
    );
    let rms = |from: usize| (left[from..from + 4_800].iter().map(|x| x * x).sum::<f32>() / 4_800.0).sqrt();
    for at in (4_800..470_000).step_by(4_800) {
        assert!(
            (20.0 * (rms(at) / rms(4_800)).log10()).abs() < 0.05,
            "level at {at}"
        );
    }
    let steepest = left[200..480_000]
        .windows(2)
        .map(|w| (w[1] - w[0]).abs())
        .fold(0.0f32, f32::max);
    assert!(
        steepest < 0.5 * 440.0 / 48_000.0 * std::f32::consts::TAU * 1.01,
        "a click: {steepest}"
    );
    assert!(rms(540_000) < 1e-6);
}

/// Bars page: a sweep to 0.45 of the rate, 12 semitones up: aliases ≤ −80 dB. Every partial over a quarter of the
/// rate must vanish, since there is no place for it.
#[test]
fn what_would_alias_an_octave_up_is_filtered_out() {
    for share in [0.30, 0.35, 0.40, 0.45] {
        let samples = sine(share * RATE, 100_000);
        let (left, _) = render_offline(
            &program_of(region(100_000), 100_000),
            vec![vec![samples]],
            RATE,
            &press(81, None),
            40_000,
        );
        let rms = (left[2_000..].iter().map(|x| x * x).sum::<f32>() / 38_000.0).sqrt();
        let db = 20.0 * (rms / 0.3535).log10();
        assert!(db < -80.0, "{share}: {db:.1} dB");
    }
}

fn rms(sound: &[f32]) -> f32 {
    (sound.iter().map(|x| x * x).sum::<f32>() / sound.len() as f32).sqrt()
}

/// Struck again and again: the second region, 20 dB down, answers every second strike.
#[test]
fn round_robins_take_turns() {
    let mut program = program_of(region(48_000), 48_000);
    let mut second = program.regions[0].clone();
    (second.key.of, second.gain_db) = (RegionOf::Own(1), -20.0);
    program.regions.push(second);
    for (region, place) in program.regions.iter_mut().zip(0..) {
        region.when.turn = Turn::InOrder { place, of: 2 };
    }
    program.shapes[0].loudness.release_ms = 10.0;
    let strike = |n: usize| {
        let (key, velocity) = (69, 127);
        let on = Event {
            frame: n * 12_800,
            kind: EventKind::NoteOn { key, velocity },
        };
        let off = Event {
            frame: n * 12_800 + 6_400,
            kind: EventKind::NoteOff { key },
        };
        [on, off]
    };
    let events: Vec<Event> = (0..4).flat_map(strike).collect();
    let (left, _) = render_offline(&program, vec![vec![sine(440.0, 48_000)]], RATE, &events, 51_200);
    let levels: Vec<f32> = (0..4)
        .map(|n| rms(&left[n * 12_800 + 1_000..n * 12_800 + 6_000]))
        .collect();
    assert!((levels[0] / levels[1] - 10.0).abs() < 0.2, "{levels:?}");
    assert!((levels[2] / levels[3] - 10.0).abs() < 0.2, "{levels:?}");
}

/// Two layers that cross from 40 to 80: as loud as either alone all the way, for they play the same.
#[test]
fn a_crossfade_of_strikes_keeps_its_level() {
    let mut program = program_of(region(48_000), 48_000);
    let mut loud = program.regions[0].clone();
    loud.key.of = RegionOf::Own(1);
    let fade = Some(Fade { from: 40, to: 80 });
    program.regions[0].when.strikes = Span {
        fade_out: fade,
        law: program::FadeLaw::Linear,
        ..Span::of(1, 80)
    };
    loud.when.strikes = Span {
        fade_in: fade,
        law: program::FadeLaw::Linear,
        ..Span::of(40, 127)
    };
    program.regions.push(loud);
    let level = |velocity: u8| {
        let on = Event {
            frame: 0,
            kind: EventKind::NoteOn { key: 69, velocity },
        };
        let (left, _) = render_offline(&program, vec![vec![sine(440.0, 48_000)]], RATE, &[on], 9_600);
        rms(&left[1_000..])
    };
    for velocity in [20, 40, 50, 60, 79, 80, 100] {
        assert!((level(velocity) / level(1) - 1.0).abs() < 1e-3, "{velocity}");
    }
}

/// A bell that rings out though its key comes up, and another that waits, then answers the key that comes up.
#[test]
fn what_is_played_to_its_end_is_not_let_go() {
    let mut program = program_of(region(24_000), 24_000);
    program.shapes[0].loudness.release_ms = 10.0;
    let heard = |program: &Program| {
        let (left, _) = render_offline(
            program,
            vec![vec![sine(440.0, 24_000)]],
            RATE,
            &press(69, Some(2_400)),
            24_000,
        );
        rms(&left[12_000..20_000])
    };
    assert!(heard(&program) < 1e-6);
    program.regions[0].to_end = true;
    assert!(heard(&program) > 0.3);
    program.regions[0].to_end = false;
    program.strands.push(Strand {
        on: On::KEY_UP,
        ..Strand::new(StrandId(1), "up", ShapeId(0))
    });
    let mut up = program.regions[0].clone();
    up.key.strand = StrandId(1);
    program.regions.push(up);
    assert!(heard(&program) > 0.2);
}

#[test]
fn a_loop_that_goes_back_and_forth_plays_its_mirror() {
    // A ramp shows every frame's place.
    let ramp: Vec<f32> = (0..4_000).map(|n| n as f32 / 4_000.0).collect();
    let mut looped = Loop::plain(1_000, 2_000, LoopRuns::WhileHeld);
    looped.way = LoopWay::BackAndForth;
    let program = program_of(
        Region {
            looped: Some(looped),
            ..region(4_000)
        },
        4_000,
    );
    let (left, _) = render_offline(&program, vec![vec![ramp]], RATE, &press(69, None), 9_000);
    let place = |at: usize| f64::from(left[at] / left[1_500]) * 1_500.0;
    for (at, expected) in [
        (1_900, 1_900.0),
        (2_400, 1_599.0),
        (2_900, 1_099.0),
        (3_400, 1_400.0),
        (5_500, 1_500.0),
    ] {
        assert!((place(at) - expected).abs() < 2.0, "{at}: {}", place(at));
    }
}

#[test]
fn what_is_dragged_is_heard_by_what_sounds() {
    let mut engine = engine::Engine::new(RATE, 4);
    engine.load(program_of(region(96_000), 96_000));
    engine.set_audio(SampleId(0), &[sine(440.0, 96_000)]);
    engine.note_on(69, 127);
    let block = |engine: &mut engine::Engine| {
        let (mut left, mut right) = (vec![0.0; 9_600], vec![0.0; 9_600]);
        engine.render(&mut left, &mut right);
        left
    };
    let rms = |x: &[f32]| (x.iter().map(|x| x * x).sum::<f32>() / x.len() as f32).sqrt();
    let before = block(&mut engine);
    engine.set(SampleId(0), Setting::GainDb, -6.0206);
    let quieter = block(&mut engine);
    assert!((rms(&quieter) / rms(&before[4_800..]) - 0.5).abs() < 0.01);
    engine.set(SampleId(0), Setting::TuneCents, 100.0);
    let higher = signal::find_pitch(&block(&mut engine), 48_000, 0, 9_600).unwrap();
    assert_eq!(higher.key, 70);
    engine.set(SampleId(0), Setting::GainDb, f64::NAN);
    engine.set(SampleId(7), Setting::GainDb, 0.0);
    engine.set(SampleId(0), Setting::LoopStart, 100.0);
    engine.set(SampleId(0), Setting::EndFrame, 1_000.0);
    block(&mut engine);
    assert_eq!(engine.active_voices(), 0);
}

#[test]
fn a_region_that_is_dragged_is_struck_where_it_is() {
    let mut engine = engine::Engine::new(RATE, 4);
    engine.load(program_of(region(96_000), 96_000));
    let key = program_of(region(96_000), 96_000).regions[0].key;
    let strike = |engine: &mut engine::Engine, key: u8, velocity: u8| {
        engine.all_sounds_off();
        engine.note_on(key, velocity);
        engine.active_voices()
    };
    assert_eq!(strike(&mut engine, 40, 100), 1);
    engine.place(key.strand, key.of.number(), (60, 72), (1, 99));
    let heard =
        [(40, 90), (60, 90), (72, 99), (72, 100)].map(|(key, velocity)| strike(&mut engine, key, velocity));
    assert_eq!(heard, [0, 1, 1, 0]);
    // What does not fit, or is not there, changes nothing.
    engine.place(key.strand, key.of.number(), (80, 70), (1, 127));
    engine.place(program::StrandId(9), 0, (0, 127), (1, 127));
    assert_eq!(strike(&mut engine, 66, 50), 1);
}

/// A sample is renamed, and a region comes before the one that sounds: it goes on, with the audio that has arrived; what is gone falls silent.
#[test]
fn an_edited_program_keeps_what_stays() {
    let mut engine = engine::Engine::new(RATE, 4);
    let first = program_of(region(96_000), 96_000);
    engine.load(first.clone());
    engine.set_audio(SampleId(0), &[sine(440.0, 96_000)]);
    engine.note_on(69, 127);
    let loudest = |engine: &mut engine::Engine| {
        let (mut left, mut right) = (vec![0.0; 4_800], vec![0.0; 4_800]);
        engine.render(&mut left, &mut right);
        left.iter().fold(0.0f32, |top, x| top.max(x.abs()))
    };
    assert!(loudest(&mut engine) > 0.2);
    let mut edited = first.clone();
    edited.samples.insert(
        0,
        Sample {
            id: SampleId(5),
            ..first.samples[0].clone()
        },
    );
    edited.samples[1].name = "another name".into();
    edited.regions[0].sample = 1;
    let mut added = Region::whole(0, 40, 96_000);
    (added.key.of, added.when.keys) = (RegionOf::Own(7), Span::of(40, 40));
    edited.regions.insert(0, added);
    engine.update(edited.clone());
    assert!(loudest(&mut engine) > 0.2);
    engine.note_on(69, 127);
    assert_eq!(engine.active_voices(), 2);
    // The same region plays other audio: that is another sound.
    edited.samples[1].id = SampleId(6);
    engine.update(edited);
    assert_eq!(engine.active_voices(), 0);
    // It fades, and does not click.
    assert!(loudest(&mut engine) > 0.1);
    engine.note_on(69, 127);
    assert!(loudest(&mut engine) < 1e-6);
}

/// Noise, so that one frame read from elsewhere is heard: a loop with its crossfade, several times round, is what is heard of the same sound written out
/// at length.
#[test]
fn a_loop_sounds_as_the_same_sound_written_out() {
    let noise = |seed: u32| -> Vec<f32> {
        let mut state = seed;
        (0..12_000)
            .map(|_| {
                // Numerical Recipes' generator, 32 bits.
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                (state >> 8) as f32 / (1 << 24) as f32 - 0.5
            })
            .collect()
    };
    let looped = Loop {
        crossfade_frames: 1_500,
        likeness_percent: 60,
        ..Loop::plain(5_000, 9_000, LoopRuns::ThroughRelease)
    };
    let (start, end, faded) = (5_000usize, 9_000usize, 1_500usize);
    let first_frame = 300;
    let written_out = |sound: &[f32]| -> Vec<f32> {
        let round = |from: usize| {
            (from..end).map(move |at| {
                let into = (at + faded).checked_sub(end);
                let (leaving, coming) = into.map_or((1.0, 0.0), |into| {
                    program::crossfade_gains(into as u64, faded as u64, 60)
                });
                sound[at] * leaving as f32 + sound[at.saturating_sub(end - start)] * coming as f32
            })
        };
        let first = round(first_frame);
        first.chain((0..5).flat_map(|_| round(start))).collect()
    };
    let fades = |region: Region| Region {
        fade_in_frames: 700,
        ..region
    };
    for channels in [1, 2] {
        let sides: Vec<Vec<f32>> = (1..=channels).map(noise).collect();
        let long: Vec<Vec<f32>> = sides.iter().map(|side| written_out(side)).collect();
        let frames = long[0].len() as u64;
        let with_sides = |region: Region, frames: u64| {
            let mut program = program_of(region, frames);
            (program.samples[0].channels, program.samples[0].source_channels) =
                (channels as u16, channels as u16);
            program
        };
        let through_loop = with_sides(
            Region {
                start_frame: first_frame as u64,
                looped: Some(looped),
                ..fades(region(12_000))
            },
            12_000,
        );
        let at_length = with_sides(fades(region(frames)), frames);
        for key in [50, 69, 72, 81] {
            // Well before the end of what was written out, which fades.
            let count = (frames as f64 * 0.8 / ((f64::from(key) - 69.0) / 12.0).exp2()) as usize;
            let play = |program, sides: &Vec<Vec<f32>>| {
                render_offline(program, vec![sides.clone()], RATE, &press(key, None), count)
            };
            let (heard, wanted) = (play(&through_loop, &sides), play(&at_length, &long));
            for (heard, wanted) in [(&heard.0, &wanted.0), (&heard.1, &wanted.1)] {
                let worst = heard
                    .iter()
                    .zip(wanted)
                    .map(|(a, b)| (a - b).abs())
                    .fold(0.0, f32::max);
                assert!(worst < 1e-5, "{channels} channels, key {key}: {worst}");
            }
        }
    }
}

/// At every pitch, and at another rate than the recorded one.
#[test]
fn what_is_played_to_its_end_is_over_then() {
    for (rate, frames) in [
        (48_000.0, 10_000),
        (44_100.0, 10_007),
        (44_100.0, 40_960),
        (96_000.0, 3_000),
    ] {
        for key in 57..82 {
            let mut engine = engine::Engine::new(rate, 8);
            engine.load(program_of(region(frames), frames));
            engine.set_audio(SampleId(0), &[vec![0.25; frames as usize]]);
            engine.note_on(key, 100);
            let lasts = frames as f64 / 48_000.0 * rate / 2f64.powf((f64::from(key) - 69.0) / 12.0);
            let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
            for _ in 0..(lasts / 128.0) as usize + 2 {
                engine.render(&mut left, &mut right);
            }
            assert_eq!(engine.active_voices(), 0, "{rate} Hz, {frames} frames, key {key}");
        }
    }
}
