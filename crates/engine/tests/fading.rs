//! Strands that share out a source which each voice has for itself, or that a hand moves: a slow movement, pressure, the bend.

use engine::{Event, EventKind, render_offline};
use program::{
    Fade, Loop, LoopRuns, Movement, MovementId, Program, Rate, Region, RegionOf, Sample, SampleId, Shape,
    ShapeId, Source, Span, Strand, StrandId, Wave, Within,
};

const RATE: usize = 48_000;
const LEVEL: f32 = 0.25;

/// Two strands of one steady level, the first on the left and the second on the right, heard by a source: what is heard of a side is how far its strand is heard.
fn program(source: Source, fade: Option<Fade>, wave: Wave) -> Program {
    let sample = Sample {
        id: SampleId(1),
        name: "level".into(),
        source: "1".into(),
        rate_hz: RATE as u32,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: 4 * RATE as u64,
    };
    let whole = |strand: u64, pan: f64| {
        let mut region = Region::whole(0, 60, 4 * RATE as u64);
        (region.key.strand, region.key.of) = (StrandId(strand), RegionOf::Own(0));
        (region.key_follow, region.pan) = (0.0, pan);
        region
    };
    let mut program = Program::plain("fading", vec![sample], vec![whole(0, -1.0), whole(1, 1.0)]);
    let borders = fade.map_or((63, 64), |fade| (fade.to - 1, fade.from + 1));
    let spans = [
        Span {
            fade_out: fade,
            ..Span::of(0, borders.0)
        },
        Span {
            fade_in: fade,
            ..Span::of(borders.1, 127)
        },
    ];
    program.shapes.clear();
    program.strands.clear();
    for (n, span) in (0..).zip(spans) {
        let mut strand = Strand::new(StrandId(n), "one", ShapeId(n));
        strand.when.sources = vec![Within { source, span }];
        program.strands.push(strand);
        let mut shape = Shape {
            id: ShapeId(n),
            movements: vec![Movement {
                id: MovementId(130),
                wave,
                rate: Rate::Hz(1.0),
                phase: 0.0,
                delay_ms: 0.0,
                fade_in_ms: 0.0,
                per_voice: false,
                once: false,
            }],
            ..Shape::default()
        };
        (shape.loudness.attack_ms, shape.loudness.velocity_to_level) = (0.0, 0.0);
        program.shapes.push(shape);
    }
    program
}

fn down(frame: usize, key: u8) -> Event {
    Event {
        frame,
        kind: EventKind::NoteOn { key, velocity: 127 },
    }
}

/// What is heard of both, 0 to 1, after so many frames each.
fn heard(program: &Program, events: &[Event], frames: usize) -> (Vec<f32>, Vec<f32>) {
    let level = vec![vec![vec![LEVEL; 4 * RATE]]];
    let (left, right) = render_offline(program, level, RATE as f64, events, frames);
    let share = |side: Vec<f32>| side.into_iter().map(|x| x / LEVEL).collect();
    (share(left), share(right))
}

const WIDE: Option<Fade> = Some(Fade { from: 16, to: 112 });

/// Issue "Map", Bars: power constant within 0.5 dB.
#[test]
fn a_slow_movement_goes_from_one_strand_to_the_other_and_keeps_the_power() {
    let program = program(Source::Movement(MovementId(130)), WIDE, Wave::Sine);
    let (left, right) = heard(&program, &[down(0, 60)], 2 * RATE);
    for n in (RATE / 100..2 * RATE).step_by(97) {
        let power_db = 10.0 * f64::from(left[n].powi(2) + right[n].powi(2)).log10();
        assert!(power_db.abs() < 0.5, "{n}: {power_db} dB");
    }
    // It begins in its middle, goes to the second, and is back at the first after three quarters of a round.
    let (quarter, half) = (RATE / 4, RATE / 2);
    assert!((left[RATE / 100] - right[RATE / 100]).abs() < 0.2);
    assert!(right[quarter] > 0.99 && left[quarter] < 0.05);
    assert!(left[quarter + half] > 0.99 && right[quarter + half] < 0.05);
    assert!(right[quarter + RATE] > 0.99);
}

/// A hundredth of a millisecond's share of 5 ms is the most that goes at once, even where the movement jumps and nothing fades.
#[test]
fn nothing_is_switched_at_once() {
    let program = program(Source::Movement(MovementId(130)), None, Wave::Square);
    let (left, right) = heard(&program, &[down(0, 60)], 2 * RATE);
    assert!(left[RATE / 4] < 1e-3 && right[RATE / 4] > 0.999);
    assert!(left[3 * RATE / 4] > 0.999 && right[3 * RATE / 4] < 1e-3);
    for side in [left, right] {
        let steps = side[64..].windows(2).map(|w| (w[1] - w[0]).abs());
        assert!(steps.fold(0.0, f32::max) < 0.005);
    }
}

#[test]
fn pressure_and_the_bend_choose_as_a_controller_does() {
    let moved = |source: Source, up: bool| match source {
        Source::Pressure => EventKind::Pressure {
            value: if up { 127 } else { 0 },
        },
        _ => EventKind::Bend {
            value: if up { 16_383 } else { 0 },
        },
    };
    for source in [Source::Pressure, Source::Bend] {
        let program = program(source, WIDE, Wave::Sine);
        let event = |frame, up| Event {
            frame,
            kind: moved(source, up),
        };
        let events = [event(0, false), down(128, 60), event(RATE / 2, true)];
        let (left, right) = heard(&program, &events, RATE);
        assert!(left[RATE / 4] > 0.99 && right[RATE / 4] < 0.01, "{source:?}");
        assert!(right[RATE - 1] > 0.99 && left[RATE - 1] < 0.01, "{source:?}");
    }
}

/// It was not computed while nothing of it was heard, and comes in where it would have been: in its recording, and in its loop.
#[test]
fn what_comes_in_late_is_where_it_would_have_been() {
    for looped in [None, Some(Loop::plain(4_800, 9_600, LoopRuns::ThroughRelease))] {
        let mut program = program(Source::Pressure, WIDE, Wave::Sine);
        for region in &mut program.regions {
            region.looped = looped;
        }
        // A hundred rounds a second: a loop of ten of them has no seam.
        let at = |n: usize| (n as f64 * 100.0 / RATE as f64 * std::f64::consts::TAU).sin() as f32;
        let sine: Vec<f32> = (0..4 * RATE).map(at).collect();
        let comes = Event {
            frame: RATE,
            kind: EventKind::Pressure { value: 127 },
        };
        let events = [down(0, 60), comes];
        let (_, right) = render_offline(&program, vec![vec![sine]], RATE as f64, &events, 2 * RATE);
        assert!(right[..RATE].iter().all(|x| *x == 0.0));
        // The first block is heard as it comes in; a hand gets there in a block.
        for (n, heard) in right.iter().enumerate().skip(RATE + 512) {
            assert!((heard - at(n)).abs() < 2e-3, "{looped:?} {n}: {heard} {}", at(n));
        }
    }
}
