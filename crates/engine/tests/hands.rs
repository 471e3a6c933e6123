//! What hands and feet do: pedals, controllers, choosing keys, sounds that cut each other off; and that rendering takes no memory.

use engine::{Alone, Engine, ShapeSetting};
use program::{
    BendKeys, ChosenBy, Cut, Fade, Filter, Loop, LoopRuns, Movement, MovementId, On, ParamId, Passes,
    Program, Rate, Region, RegionOf, Route, RouteId, SOSTENUTO, SUSTAIN, SameKey, Sample, SampleId, Shape,
    ShapeId, Source, Span, Stays, Strand, StrandId, Switch, SwitchId, Wave, Within,
};

const RATE: f64 = 48_000.0;
const FRAMES: usize = 480_000;

/// Strands of one region each on every key: sines of unlike pitch that go on while they are held, of an amplitude of 0.25 a side.
fn program(strands: usize) -> Program {
    let mut program = Program::default();
    for n in 0..strands as u64 {
        program.samples.push(Sample {
            id: SampleId(n),
            name: format!("{n}"),
            source: format!("{n}"),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: FRAMES as u64,
        });
        program.shapes.push(Shape {
            id: ShapeId(n),
            ..Shape::default()
        });
        program.shapes[n as usize].loudness.attack_ms = 0.0;
        program.shapes[n as usize].loudness.release_ms = 50.0;
        program.shapes[n as usize].loudness.velocity_to_level = 0.0;
        program
            .strands
            .push(Strand::new(StrandId(n), format!("{n}"), ShapeId(n)));
        let mut region = Region::whole(n as usize, 60, FRAMES as u64);
        (region.key.strand, region.key.of, region.key_follow) = (StrandId(n), RegionOf::Own(0), 0.0);
        program.regions.push(region);
    }
    program
}

fn hz_of(strand: usize) -> f64 {
    [440.0, 1_100.0, 2_300.0][strand]
}

fn playing(program: Program) -> Engine {
    let strands = program.samples.len();
    let mut engine = Engine::new(RATE, 16);
    engine.load(program);
    for n in 0..strands {
        let sine = |frame: usize| {
            ((frame as f64 * hz_of(n) / RATE * std::f64::consts::TAU).sin() * 0.25 * std::f64::consts::SQRT_2)
                as f32
        };
        engine.set_audio(SampleId(n as u64), &[(0..FRAMES).map(sine).collect()]);
    }
    engine
}

fn block(engine: &mut Engine, frames: usize) -> Vec<f32> {
    let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
    engine.render(&mut left, &mut right);
    left
}

/// Amplitude of one strand's sine within a block (Goertzel's sum, both quadratures).
fn level_of(strand: usize, block: &[f32]) -> f64 {
    let turn = std::f64::consts::TAU * hz_of(strand) / RATE;
    let (mut re, mut im) = (0.0, 0.0);
    for (n, x) in block.iter().enumerate() {
        re += f64::from(*x) * (turn * n as f64).cos();
        im += f64::from(*x) * (turn * n as f64).sin();
    }
    2.0 * re.hypot(im) / block.len() as f64
}

fn rms(block: &[f32]) -> f64 {
    (block.iter().map(|x| f64::from(*x).powi(2)).sum::<f64>() / block.len() as f64).sqrt()
}

/// The largest step between two frames, of a sound whose sines have a known steepest slope.
fn steepest(block: &[f32]) -> f64 {
    block
        .windows(2)
        .map(|pair| f64::from((pair[1] - pair[0]).abs()))
        .fold(0.0, f64::max)
}

#[test]
fn the_sustain_pedal_holds_what_was_let_go_and_the_sostenuto_what_was_down() {
    let mut engine = playing(program(1));
    engine.controller(SUSTAIN, 127);
    engine.note_on(60, 100);
    engine.note_off(60);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 1);
    engine.controller(SUSTAIN, 0);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 0);

    engine.note_on(60, 100);
    engine.controller(SOSTENUTO, 127);
    engine.note_on(64, 100);
    engine.note_off(60);
    engine.note_off(64);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 1, "only what was down when the pedal was");
    engine.controller(SOSTENUTO, 0);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 0);
}

#[test]
fn a_key_that_is_struck_again_under_the_pedal_stays_down_when_it_comes_up() {
    let mut engine = playing(program(1));
    engine.controller(SUSTAIN, 127);
    for _ in 0..2 {
        engine.note_on(60, 100);
        engine.note_off(60);
    }
    engine.note_on(60, 100);
    engine.controller(SUSTAIN, 0);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 1);
    engine.note_off(60);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 0);
}

#[test]
fn all_notes_off_lets_keys_go_and_all_sounds_off_ends_them() {
    let mut engine = playing(program(1));
    engine.controller(SUSTAIN, 127);
    engine.note_on(60, 100);
    engine.controller(123, 0);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 1, "the pedal holds it (MIDI 1.0)");
    engine.controller(120, 0);
    block(&mut engine, 480);
    assert_eq!(engine.active_voices(), 0);
    // The pedal was let go, too.
    engine.note_on(60, 100);
    engine.note_off(60);
    block(&mut engine, 9_600);
    assert_eq!(engine.active_voices(), 0);
}

#[test]
fn key_up_sounds_wait_for_the_pedal_and_are_softer_after_a_long_hold() {
    let mut program = program(2);
    program.strands[1].on = On::KeyUp {
        pedal_holds: true,
        fall_db_per_s: 12.0,
    };
    let mut engine = playing(program);
    let after = |engine: &mut Engine, held: usize| {
        engine.note_on(60, 100);
        block(engine, held);
        engine.note_off(60);
        block(engine, 4_800);
        let level = level_of(1, &block(engine, 4_800));
        engine.all_sounds_off();
        block(engine, 4_800);
        level
    };
    let (short, long) = (after(&mut engine, 4_800), after(&mut engine, 52_800));
    assert!(
        (20.0 * (long / short).log10() + 12.0).abs() < 0.1,
        "{short} {long}"
    );
    engine.controller(SUSTAIN, 127);
    assert!(after(&mut engine, 480) < 1e-4);
    engine.note_on(60, 100);
    engine.controller(SUSTAIN, 127);
    engine.note_off(60);
    engine.controller(SUSTAIN, 0);
    block(&mut engine, 4_800);
    assert!(level_of(1, &block(&mut engine, 4_800)) > 0.1);
}

/// Nothing would let it go: it would sound for ever.
#[test]
fn a_key_up_sound_is_played_to_its_end_though_its_region_has_a_loop() {
    let mut program = program(2);
    program.strands[1].on = On::KEY_UP;
    let frames = program.samples[1].frames;
    for region in &mut program.regions {
        region.looped = Some(Loop::plain(1_000, frames - 1_000, LoopRuns::ThroughRelease));
    }
    let mut engine = playing(program);
    engine.note_on(60, 100);
    block(&mut engine, 480);
    engine.note_off(60);
    block(&mut engine, frames as usize + 48_000);
    assert_eq!(engine.active_voices(), 0);
}

/// MIDI 1.0, channel voice messages, on any channel; what chooses programs is left.
#[test]
fn bytes_of_midi_do_what_the_hands_do() {
    type Act = fn(&mut Engine);
    let said: [(&[[u8; 3]], Act); 6] = [
        (&[[0x93, 60, 100], [0xC3, 5, 0]], |engine| engine.note_on(60, 100)),
        (&[[0xE3, 0x21, 0x50]], |engine| engine.bend(0x50 << 7 | 0x21)),
        (&[[0xB3, 64, 127], [0x93, 60, 0]], |engine| {
            engine.controller(SUSTAIN, 127);
            engine.note_off(60);
        }),
        (&[[0xD3, 90, 0], [0xA3, 60, 30]], |engine| {
            engine.pressure(90);
            engine.key_pressure(60, 30);
        }),
        (&[[0xB3, 64, 0]], |engine| engine.controller(SUSTAIN, 0)),
        (&[[0x83, 60, 20]], |engine| engine.key_up(60, 20)),
    ];
    let (mut bytes, mut hands) = (playing(program(2)), playing(program(2)));
    for (messages, act) in said {
        messages.iter().for_each(|message| bytes.midi(*message));
        act(&mut hands);
        assert_eq!(block(&mut bytes, 1_280), block(&mut hands, 1_280), "{messages:?}");
    }
    assert!(rms(&block(&mut bytes, 128)) < 0.2);
}

/// Unlike sounds that a controller crossfades keep their power within half a decibel, wherever it stands, and no move clicks.
#[test]
fn a_controller_crosses_two_strands_at_one_power() {
    let mut program = program(2);
    let whole = Fade { from: 0, to: 127 };
    for (strand, (fade_in, fade_out)) in [(None, Some(whole)), (Some(whole), None)].into_iter().enumerate() {
        program.strands[strand].when.sources.push(Within {
            source: Source::Controller(1),
            span: Span {
                fade_in,
                fade_out,
                ..Span::of(0, 127)
            },
        });
    }
    let mut engine = playing(program);
    engine.note_on(60, 100);
    let alone = rms(&block(&mut engine, 24_000));
    for value in (0..=127).step_by(8) {
        engine.controller(1, value);
        let moving = block(&mut engine, 480);
        assert!(steepest(&moving) < 0.25 * 1.1 * std::f64::consts::TAU * hz_of(1) / RATE * 1.5);
        let now = rms(&block(&mut engine, 24_000));
        assert!(
            (20.0 * (now / alone).log10()).abs() < 0.5,
            "{value}: {now} {alone}"
        );
    }
    engine.controller(1, 127);
    block(&mut engine, 480);
    let last = block(&mut engine, 24_000);
    assert!(level_of(0, &last) < 1e-4 && level_of(1, &last) > 0.24);
}

#[test]
fn a_key_outside_the_range_chooses_what_sounds() {
    let mut program = program(2);
    program.switches.push(Switch {
        id: SwitchId(1),
        name: "Ranks".into(),
        low_key: 24,
        high_key: 25,
        at_first: 24,
    });
    for (strand, key) in program.strands.iter_mut().zip([24, 25]) {
        strand.when.keys = Span::of(36, 96);
        strand.when.chosen_by = Some(ChosenBy {
            switch: SwitchId(1),
            low_key: key,
            high_key: key,
            stays: Stays::Latched,
        });
    }
    let mut engine = playing(program);
    let heard = |engine: &mut Engine| {
        engine.note_on(60, 100);
        let sounding: Vec<usize> = engine.sounding().collect();
        engine.all_sounds_off();
        block(engine, 480);
        sounding
    };
    assert_eq!(heard(&mut engine), [0]);
    engine.note_on(25, 100);
    engine.note_off(25);
    assert_eq!(heard(&mut engine), [1]);
}

#[test]
fn a_damped_sound_ends_the_ringing_one_without_a_click() {
    let mut program = program(2);
    program.strands[0].cut = Cut {
        group: None,
        by: Some(1),
        fade_ms: 30,
    };
    program.strands[1].cut.group = Some(1);
    program.strands[0].when.keys = Span::of(60, 60);
    program.strands[1].when.keys = Span::of(62, 62);
    let mut engine = playing(program);
    engine.note_on(60, 100);
    block(&mut engine, 4_800);
    engine.note_on(62, 100);
    let fading = block(&mut engine, 2_400);
    // Half-way it is at half.
    assert!((level_of(0, &fading[600..840]) / 0.25 - 0.5).abs() < 0.1);
    let steepest_of_both = 0.25 * std::f64::consts::TAU * (hz_of(0) + hz_of(1)) / RATE;
    assert!(steepest(&fading) < steepest_of_both * 1.05);
    let after = block(&mut engine, 4_800);
    assert!(level_of(0, &after) < 1e-4 && level_of(1, &after) > 0.24);
}

/// Bars that ring whatever their keys do, and a damper that is heard as the sustain pedal comes up and ends them.
#[test]
fn a_pedal_that_comes_up_damps_what_rings() {
    let mut program = program(2);
    program.regions[0].to_end = true;
    program.strands[0].cut = Cut {
        by: Some(1),
        fade_ms: 100,
        ..Cut::default()
    };
    program.strands[1].cut.group = Some(1);
    program.strands[1].on = On::Enters(Within {
        source: Source::Controller(SUSTAIN),
        span: Span::of(0, 63),
    });
    program.shapes[1].loudness.velocity_to_level = 1.0;
    let mut engine = playing(program);
    engine.controller(SUSTAIN, 127);
    engine.note_on(60, 100);
    engine.note_off(60);
    let rings = block(&mut engine, 9_600);
    assert!((level_of(0, &rings) - 0.25).abs() < 0.01);
    assert!(level_of(1, &rings) < 1e-3);
    engine.controller(SUSTAIN, 0);
    block(&mut engine, 9_600);
    let damped = block(&mut engine, 9_600);
    assert!(level_of(0, &damped) < 1e-3);
    // As it was recorded: a pedal has no strike.
    assert!(
        (level_of(1, &damped) - 0.25).abs() < 0.01,
        "{}",
        level_of(1, &damped)
    );
}

#[test]
fn a_voice_that_another_needs_fades() {
    let mut engine = playing(program(1));
    for key in 40..56 {
        engine.note_on(key, 100);
        block(&mut engine, 113);
    }
    let before = steepest(&block(&mut engine, 4_800));
    engine.note_on(90, 100);
    assert_eq!(engine.active_voices(), 16);
    assert!(steepest(&block(&mut engine, 480)) < before * 1.1);
}

#[test]
fn a_strand_that_is_muted_while_it_sounds_fades() {
    let program = program(2);
    let mut engine = playing(program.clone());
    engine.note_on(60, 100);
    let before = steepest(&block(&mut engine, 4_800));
    let mut muted = program;
    muted.strands[0].muted = true;
    engine.update(muted);
    assert!(steepest(&block(&mut engine, 480)) < before * 1.05);
    let after = block(&mut engine, 4_800);
    assert!(level_of(0, &after) < 1e-4 && level_of(1, &after) > 0.24);
}

#[test]
fn what_is_listened_to_alone_is_heard_alone() {
    let mut engine = playing(program(2));
    engine.note_on(60, 100);
    assert_eq!(engine.active_voices(), 2);
    engine.listen_to(&[Alone {
        strand: StrandId(1),
        region: None,
    }]);
    assert_eq!(engine.sounding().collect::<Vec<_>>(), [1]);
    engine.note_on(62, 100);
    assert_eq!(engine.sounding().collect::<Vec<_>>(), [1, 1]);
    engine.listen_to(&[]);
    engine.note_on(64, 100);
    assert_eq!(engine.active_voices(), 4);
    // What is gone leaves the rest audible.
    engine.listen_to(&[Alone {
        strand: StrandId(77),
        region: None,
    }]);
    engine.note_on(65, 100);
    assert_eq!(engine.active_voices(), 6);
}

#[test]
fn neither_rendering_nor_playing_takes_memory() {
    let mut program = program(3);
    program.strands[1].on = On::KEY_UP;
    program.strands[2].when.sources.push(Within {
        source: Source::Controller(1),
        span: Span::of(0, 127),
    });
    let drives = |n: u64, from: Source, to: ParamId| Route {
        id: RouteId(n),
        from,
        times: Some(Source::Pressure),
        curve: None,
        to,
        amount: 0.5,
    };
    program.shapes[0].filter = Some(Filter {
        passes: Passes::Low,
        poles: 4,
        cutoff_hz: 900.0,
        key_follow: 1.0,
        resonance_db: 6.0,
        makes_up: true,
    });
    program.shapes[0].movements.push(Movement {
        id: MovementId(1),
        wave: Wave::Smooth,
        rate: Rate::Quarters(0.5),
        phase: 0.0,
        delay_ms: 1.0,
        fade_in_ms: 5.0,
        per_voice: false,
        once: false,
    });
    program.shapes[0].routes = vec![
        drives(1, Source::Movement(MovementId(1)), ParamId::Pitch),
        drives(2, Source::Controller(1), ParamId::Cutoff),
        drives(3, Source::Random(4), ParamId::SampleStart),
    ];
    let mut engine = playing(program);
    let (mut left, mut right) = ([0.0f32; 128], [0.0f32; 128]);
    let counted = allocation_counter::measure(|| {
        for n in 0..400u32 {
            let key = 40 + (n * 7 % 40) as u8;
            engine.note_on(key, 1 + (n % 127) as u8);
            engine.controller(1, (n % 128) as u8);
            engine.pressure((n % 128) as u8);
            engine.shape(program::ShapeId(0), ShapeSetting::CutoffHz, 0, f64::from(n));
            engine.controller(SUSTAIN, if n % 50 < 10 { 127 } else { 0 });
            engine.note_off(40 + (n * 5 % 40) as u8);
            engine.render(&mut left, &mut right);
        }
        engine.all_sounds_off();
    });
    assert_eq!((counted.count_total, counted.bytes_total), (0, 0));
    let seen = allocation_counter::measure(|| drop(std::hint::black_box(vec![0u8; 9])));
    assert_eq!(seen.count_total, 1, "what takes memory is seen");
}

/// The same key again goes on in the voice it has, as loud as it is struck now, without a step; one that has no loop begins anew.
#[test]
fn a_key_that_is_struck_again_goes_on_in_its_voice() {
    let mut program = program(1);
    program.strands[0].voices.same_key = SameKey::Shares;
    program.shapes[0].loudness.release_ms = 2_000.0;
    program.shapes[0].loudness.velocity_to_level = 1.0;
    // Whole rounds of 440 Hz.
    program.regions[0].looped = Some(Loop::plain(48_000, 96_000, LoopRuns::ThroughRelease));
    let mut engine = playing(program.clone());
    engine.note_on(60, 127);
    let full = rms(&block(&mut engine, 48_000)[24_000..]);
    engine.note_off(60);
    let mut heard = block(&mut engine, 24_000);
    engine.note_on(60, 64);
    heard.extend(block(&mut engine, 48_000));
    assert_eq!(engine.active_voices(), 1);
    let under_db = 20.0 * (rms(&heard[48_000..]) / full).log10();
    assert!(
        (under_db - 40.0 * (64.0f64 / 127.0).log10()).abs() < 0.1,
        "{under_db} dB"
    );
    let steepest = heard
        .windows(2)
        .map(|two| (two[1] - two[0]).abs())
        .fold(0.0, f32::max);
    assert!(steepest < 0.016, "{steepest}");
    engine.note_off(60);
    block(&mut engine, 98_000);
    assert_eq!(engine.active_voices(), 0);
    program.regions[0].looped = None;
    let mut engine = playing(program);
    for _ in 0..3 {
        engine.note_on(60, 127);
        block(&mut engine, 4_800);
    }
    assert_eq!(engine.active_voices(), 1);
}

#[test]
fn the_whole_has_no_more_voices_than_it_may() {
    let mut program = program(2);
    program.most_voices = Some(3);
    let mut engine = playing(program);
    for key in 50..60 {
        engine.note_on(key, 100);
        block(&mut engine, 1_280);
    }
    assert_eq!(engine.active_voices(), 3);
}

/// What is dragged for one region is heard in it alone, by what sounds already, without a step.
#[test]
fn a_region_has_a_shape_for_itself_while_it_is_dragged() {
    let mut program = program(1);
    let mut other = program.regions[0].clone();
    other.key.of = RegionOf::Own(1);
    program.regions[0].when.keys = Span::of(0, 60);
    other.when.keys = Span::of(61, 127);
    let own = ShapeId::of_region(other.key);
    program.regions.push(other);
    let mut engine = playing(program);
    engine.note_on(70, 100);
    let before = rms(&block(&mut engine, 4_800));
    engine.shape_for_itself(StrandId(0), 1);
    engine.shape(own, ShapeSetting::SustainDb, 0, -12.0);
    let moving = block(&mut engine, 48_000);
    let under_db = 20.0 * (rms(&moving[40_000..]) / before).log10();
    assert!((under_db + 12.0).abs() < 0.1, "{under_db} dB");
    let steepest = moving
        .windows(2)
        .map(|two| (two[1] - two[0]).abs())
        .fold(0.0, f32::max);
    assert!(steepest < 0.016, "{steepest}");
    engine.all_sounds_off();
    block(&mut engine, 9_600);
    engine.note_on(50, 100);
    block(&mut engine, 4_800);
    assert!((rms(&block(&mut engine, 4_800)) / before - 1.0).abs() < 0.01);
}

/// Two keys each way where nothing is said (General MIDI); nothing steps while it is moved.
#[test]
fn the_bend_takes_what_sounds_up_and_down() {
    let mut program = program(1);
    program.strands[0].voices.bend = Some(BendKeys { up: 12, down: 2 });
    let mut engine = playing(program);
    engine.note_on(60, 100);
    let still = block(&mut engine, 9_600);
    let hz = |engine: &mut Engine| {
        block(engine, 256);
        let heard = block(engine, 24_000);
        let crossings = heard
            .windows(2)
            .filter(|pair| pair[0] < 0.0 && pair[1] >= 0.0)
            .count();
        crossings as f64 * RATE / 24_000.0
    };
    assert!((hz(&mut engine) - 440.0).abs() < 4.0);
    let steep = steepest(&still);
    for n in 0..64u16 {
        engine.bend(8_192 + n * 128);
        assert!(steepest(&block(&mut engine, 128)) < steep * 2.02);
    }
    engine.bend(16_383);
    assert!((hz(&mut engine) - 880.0).abs() < 4.0);
    engine.bend(0);
    assert!((hz(&mut engine) - 440.0 * 2f64.powf(-2.0 / 12.0)).abs() < 4.0);
    // Reset all controllers (MIDI RP-015).
    engine.controller(121, 0);
    assert!((hz(&mut engine) - 440.0).abs() < 4.0);
}
