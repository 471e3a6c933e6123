//! Audio within a budget: what is missing is asked for before it is needed, and what does not come ends a voice without a click.

use engine::{Engine, Event, EventKind, Kept, MARGIN_FRAMES, SLAB_BYTES, SLAB_FRAMES, Want, render_offline};
use program::{Loop, LoopRuns, LoopWay, Program, Region, RegionOf, Sample, SampleId};

const RATE: f64 = 48_000.0;
/// The last slab holds less than a margin.
const FRAMES: usize = 58 * SLAB_FRAMES + 50;
const BLOCK: usize = 128;
const NOTHING: Want = Want {
    sample: SampleId(0),
    slab: 0,
    count: 0,
    within_s: 0.0,
};

/// Noise that is told by sample, channel and frame, so that one frame read from elsewhere is heard.
fn frame_of(sample: u64, channel: usize, frame: usize) -> f32 {
    let mixed = (sample << 40 ^ (channel as u64) << 32 ^ frame as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed >> 40) as f32 / (1 << 24) as f32 - 0.5
}

/// One sample a key from key 1 on: plain, looped with a crossfade, back and forth, and a short loop; mono and stereo.
fn library(samples: u64) -> Program {
    let all = (0..samples).map(|n| Sample {
        id: SampleId(n),
        name: format!("{n}"),
        source: format!("{n}"),
        rate_hz: 48_000,
        first_channel: 0,
        source_channels: 1 + (n % 2) as u16,
        channels: 1 + (n % 2) as u16,
        frames: FRAMES as u64,
    });
    let regions = (0..samples).map(|n| {
        let key = 1 + (n % 120) as u8;
        let looped = match n % 4 {
            0 => None,
            1 => Some(Loop {
                crossfade_frames: 3_000,
                likeness_percent: 30,
                ..Loop::plain(9_000, 30_000, LoopRuns::ThroughRelease)
            }),
            2 => Some(Loop {
                way: LoopWay::BackAndForth,
                ..Loop::plain(5_000, 8_000, LoopRuns::WhileHeld)
            }),
            _ => Some(Loop {
                crossfade_frames: 40,
                ..Loop::plain(2_000, 2_090, LoopRuns::WhileHeld)
            }),
        };
        let mut region = Region {
            looped,
            start_frame: 777,
            fade_in_frames: 300,
            fade_out_frames: 900,
            ..Region::whole(n as usize, key, FRAMES as u64).on_keys(key, key)
        };
        region.key.of = RegionOf::Own(n);
        // As recorded, and up to two octaves higher or lower.
        region.root_key = (i16::from(key) + [0, -7, 12, -24][(n / 4 % 4) as usize]).clamp(0, 127) as u8;
        region
    });
    let mut program = Program::plain("library", all.collect(), regions.collect());
    program.shapes[0].loudness.velocity_to_level = 0.0;
    program
}

/// What a loader brings: whole slabs with what follows them.
fn bring(engine: &mut Engine, program: &Program, want: Want, kept: Kept) {
    let channels = usize::from(program.samples[want.sample.0 as usize].channels);
    let first = want.slab as usize * SLAB_FRAMES;
    let end = (first + want.count as usize * SLAB_FRAMES + MARGIN_FRAMES).min(FRAMES);
    let interleaved: Vec<f32> = (first..end)
        .flat_map(|frame| (0..channels).map(move |c| frame_of(want.sample.0, c, frame)))
        .collect();
    engine.add_audio(
        want.sample,
        channels as u8,
        (want.slab, want.count),
        kept,
        &interleaved,
    );
}

fn block(engine: &mut Engine) -> Vec<f32> {
    let (mut left, mut right) = ([0.0; BLOCK], [0.0; BLOCK]);
    engine.render(&mut left, &mut right);
    left.into_iter().chain(right).collect()
}

/// A pool of a tenth of the library plays what a pool of all of it does, to the bit, while keys go down and up: each loop, each way, up and down.
#[test]
fn a_small_pool_plays_what_a_large_one_does() {
    let program = library(60);
    let (mut large, mut small) = (
        Engine::new(RATE, 32),
        Engine::with_budget(RATE, 32, 900 * SLAB_BYTES),
    );
    for engine in [&mut large, &mut small] {
        engine.load(program.clone());
    }
    for sample in &program.samples {
        let of_channel = |c| (0..FRAMES).map(|frame| frame_of(sample.id.0, c, frame)).collect();
        let channels: Vec<Vec<f32>> = (0..usize::from(sample.channels)).map(of_channel).collect();
        large.set_audio(sample.id, &channels);
        bring(
            &mut small,
            &program,
            Want {
                sample: sample.id,
                count: 4,
                ..NOTHING
            },
            Kept::AsHead,
        );
    }
    let mut state = 5u32;
    let mut heard = 0.0f32;
    for n in 0..6_000 {
        // Numerical Recipes' generator, 32 bits.
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let key = 1 + (state >> 16) as u8 % 60;
        for engine in [&mut large, &mut small] {
            match n % 90 {
                0 => engine.note_on(key, 100),
                60 => (0..128).for_each(|key| engine.note_off(key)),
                _ => {}
            }
        }
        // A loader that needs a block for what is wanted.
        let mut wants = [NOTHING; 32];
        let count = small.wanted((n % 2, 2), &mut wants);
        let (of_large, of_small) = (block(&mut large), block(&mut small));
        assert_eq!(of_large, of_small, "block {n}");
        heard = of_large.iter().fold(heard, |top, x| top.max(x.abs()));
        for want in &wants[..count] {
            bring(&mut small, &program, *want, Kept::WhilePlayed);
        }
        let (there, most) = small.slabs();
        assert!(there <= most && most * SLAB_BYTES <= 900 * SLAB_BYTES);
    }
    assert!(heard > 0.1);
    assert_eq!(small.ran_out(), 0);
}

/// 20,000 samples, a head each as far as half the pool goes: never over the budget, and every key sounds.
#[test]
fn a_library_of_any_size_plays_in_the_same_memory() {
    let program = library(20_000);
    let budget = 8 << 20;
    let mut engine = Engine::with_budget(RATE, 16, budget);
    engine.load(program.clone());
    for sample in &program.samples {
        bring(
            &mut engine,
            &program,
            Want {
                sample: sample.id,
                count: 2,
                ..NOTHING
            },
            Kept::AsHead,
        );
    }
    let (there, most) = engine.slabs();
    assert!(
        there <= most / 2 && most * SLAB_BYTES <= budget,
        "{there} of {most}"
    );
    for key in [1, 7, 119] {
        engine.note_on(key, 100);
        let mut loudest = 0.0f32;
        for _ in 0..20 {
            let mut wants = [NOTHING; 16];
            let count = engine.wanted((0, 1), &mut wants);
            wants[..count].iter().for_each(|want| {
                bring(&mut engine, &program, *want, Kept::WhilePlayed);
            });
            loudest = block(&mut engine).iter().fold(loudest, |top, x| top.max(x.abs()));
        }
        assert!(loudest > 0.05, "{key}");
        engine.all_sounds_off();
    }
}

/// A voice that plays on for ten seconds asks a few times, not for every slab.
#[test]
fn audio_is_asked_for_in_pieces() {
    let mut program = library(1);
    (program.samples[0].frames, program.regions[0].end_frame) = (480_000, 480_000);
    let mut engine = Engine::new(RATE, 4);
    engine.load(program);
    engine.note_on(1, 100);
    let (mut asked, mut sooner) = (0, 0);
    for n in 0..3_700 {
        let mut wants = [NOTHING; 4];
        let count = engine.wanted((0, 1), &mut wants);
        for want in &wants[..count] {
            let audio = vec![0.25; (want.count as usize * SLAB_FRAMES) + MARGIN_FRAMES];
            engine.add_audio(want.sample, 1, (want.slab, want.count), Kept::WhilePlayed, &audio);
            asked += 1;
            sooner += usize::from(n > 10 && want.within_s < 1.0);
        }
        block(&mut engine);
    }
    assert_eq!((engine.active_voices(), engine.ran_out(), sooner), (1, 0, 0));
    assert!((10..=14).contains(&asked), "{asked}");
}

#[test]
fn a_voice_waits_for_its_first_audio_while_its_key_is_down() {
    let program = library(1);
    let mut engine = Engine::new(RATE, 4);
    engine.load(program.clone());
    engine.note_on(1, 100);
    assert!(block(&mut engine).iter().all(|x| *x == 0.0));
    let mut wants = [NOTHING; 4];
    assert_eq!(engine.wanted((3, 4), &mut wants), 1, "those that wait ask always");
    assert_eq!((wants[0].slab, wants[0].count, wants[0].within_s), (0, 16, 0.0));
    bring(&mut engine, &program, wants[0], Kept::WhilePlayed);
    assert!((0..4).any(|_| block(&mut engine).iter().any(|x| x.abs() > 0.01)));
    // One that is let go before has nothing to release.
    engine.load(program);
    engine.note_on(1, 100);
    block(&mut engine);
    engine.note_off(1);
    assert_eq!((engine.active_voices(), engine.ran_out()), (0, 0));
}

/// A tone whose audio ends in the middle: it fades within 5 ms, and no step from frame to frame is greater than the tone's own.
#[test]
fn a_voice_that_runs_out_fades_and_is_counted() {
    let mut program = library(1);
    program.regions[0].fade_in_frames = 0;
    let mut engine = Engine::new(RATE, 4);
    engine.load(program);
    let tone: Vec<f32> = (0..4 * SLAB_FRAMES + MARGIN_FRAMES)
        .map(|n| (n as f32 * 0.05).sin() * 0.5)
        .collect();
    engine.add_audio(SampleId(0), 1, (0, 4), Kept::WhilePlayed, &tone);
    engine.note_on(1, 100);
    let heard: Vec<f32> = (0..40)
        .flat_map(|_| block(&mut engine)[..BLOCK].to_vec())
        .collect();
    assert_eq!((engine.active_voices(), engine.ran_out()), (0, 1));
    assert_eq!(engine.short_keys(), 1 << 1);
    engine.note_on(1, 100);
    assert_eq!(engine.short_keys(), 0);
    let steepest = heard
        .windows(2)
        .fold(0.0f32, |top, pair| top.max((pair[1] - pair[0]).abs()));
    assert!(steepest < 0.5 * 0.05 * 1.1, "{steepest}");
    let until = heard.iter().rposition(|x| x.abs() > 1e-4).unwrap();
    let audio = 4 * SLAB_FRAMES - 777;
    assert!(
        (audio - 700..=audio + MARGIN_FRAMES).contains(&until),
        "{until} of {audio}"
    );
}

/// An offline render has room for all audio and for the seams of all loops: whatever is played first, all of it sounds.
#[test]
fn an_offline_render_has_room_for_all() {
    let program = library(40);
    let samples: Vec<Vec<Vec<f32>>> = (program.samples.iter())
        .map(|sample| {
            let of = |c| (0..FRAMES).map(|frame| frame_of(sample.id.0, c, frame)).collect();
            (0..usize::from(sample.channels)).map(of).collect()
        })
        .collect();
    // Each is let go before the next; the first sample, which came first, is played last.
    let events: Vec<Event> = (0..40u8)
        .flat_map(|n| {
            let (key, frame) = (40 - n, usize::from(n) * 24_000);
            let down = EventKind::NoteOn { key, velocity: 100 };
            [(frame, down), (frame + 12_000, EventKind::NoteOff { key })]
        })
        .map(|(frame, kind)| Event { frame, kind })
        .collect();
    let (left, _) = render_offline(&program, samples, RATE, &events, 40 * 24_000);
    for (n, of_key) in left.chunks(24_000).enumerate() {
        let loudest = of_key.iter().fold(0.0f32, |top, x| top.max(x.abs()));
        assert!(loudest > 0.05, "key {} is silent", 40 - n);
    }
}

/// A loop is asked for from where it is gone round to, before its end is reached.
#[test]
fn what_a_loop_comes_back_to_is_asked_for() {
    let program = library(2);
    let mut engine = Engine::new(RATE, 4);
    engine.load(program.clone());
    // From 18,432 on; the loop is 9,000 to 30,000, and fades into what lies from 6,000 on.
    for (slab, count) in [(0, 5), (18, 12)] {
        bring(
            &mut engine,
            &program,
            Want {
                sample: SampleId(1),
                slab,
                count,
                within_s: 0.0,
            },
            Kept::WhilePlayed,
        );
    }
    engine.note_on(2, 100);
    let mut wants = [NOTHING; 4];
    assert_eq!(engine.wanted((0, 1), &mut wants), 1);
    assert_eq!((wants[0].slab, wants[0].count), (5, 13));
    assert!((wants[0].within_s - (5.0 * 1_024.0 - 777.0) / RATE).abs() < 0.01);
    bring(&mut engine, &program, wants[0], Kept::WhilePlayed);
    assert_eq!(engine.wanted((0, 1), &mut wants), 0);
}
