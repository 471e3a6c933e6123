//! What a page that plays is given sounds as the original: all that drives, turns, chance and effects are held, and the audio is that of an SFZ.

#![allow(clippy::unwrap_used)] // A test and its helpers may fail so.

use engine::{Event, EventKind, render_offline};
use formats::{AudioForm, Format, bake, lower, lower_in};
use program::{
    Among, Bus, BusId, Control, ControlId, Effect, EffectId, EffectKind, FadeCurve, Loop, LoopRuns, LoopWay,
    On, ParamId, Program, Region, RegionKey, RegionOf, Route, RouteId, Sample, SampleId, Source, Strand,
    StrandId, Turn,
};
use signal::Audio;

const RATE: u32 = 48_000;
const FRAMES: u64 = 60_000;

fn sound(hz: f32) -> Audio {
    let wave = |n: u64| (n as f32 / RATE as f32 * hz * std::f32::consts::TAU).sin() * 0.3;
    Audio::mono(RATE, (0..FRAMES).map(wave).collect())
}

/// Two strands, one of them muted; loops of both ways, fades, chance, levels above an SFZ's, effects, and a control that drives a strand's level and an effect.
fn program() -> Program {
    let sample = |n: u64| Sample {
        id: SampleId(70 + n),
        name: format!("take {n}"),
        source: format!("{n}"),
        rate_hz: RATE,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES,
    };
    let crossed = Loop {
        crossfade_frames: 5_000,
        likeness_percent: 40,
        ..Loop::plain(20_000, 33_333, LoopRuns::ThroughRelease)
    };
    let and_back = Loop {
        way: LoopWay::BackAndForth,
        ..Loop::plain(15_000, 31_000, LoopRuns::ThroughRelease)
    };
    // Left when the key comes up: what follows is heard to its end.
    let left = Loop::plain(20_000, 40_000, LoopRuns::WhileHeld);
    let region = |n: usize, looped: Option<Loop>, turn: Turn| {
        let mut region = Region {
            key: RegionKey {
                strand: StrandId(if n == 3 { 5 } else { 0 }),
                of: RegionOf::Own(n as u64),
            },
            start_frame: 900,
            end_frame: FRAMES - 1_000,
            fade_in_frames: 4_000,
            fade_out_frames: 4_000,
            fade_curve: FadeCurve::EqualPower,
            looped,
            gain_db: 4.0 * n as f64,
            recording_cents: 12.345,
            ..Region::whole(n, 60, FRAMES)
        };
        region.when.turn = turn;
        region
    };
    let halves = [(0.0, 0.5), (0.5, 1.0)].map(|(from, to)| Turn::Random { from, to });
    let regions = vec![
        region(0, Some(crossed), halves[0]),
        region(1, Some(and_back), halves[1]),
        region(2, Some(left), Turn::Always),
        region(3, None, Turn::Always),
    ];
    let mut program = Program::plain("Whole", (0..4).map(sample).collect(), regions);
    let muted = Strand {
        muted: true,
        on: On::KeyDown(Among::Any),
        ..Strand::new(StrandId(5), "Muted".to_owned(), program.shapes[0].id)
    };
    program.strands.push(muted);
    program.controls.push(Control {
        id: ControlId(9),
        name: "Swell".into(),
        at_first: 0.4,
        controller: None,
    });
    program.shapes[0].routes.push(Route {
        id: RouteId(1),
        from: Source::Control(ControlId(9)),
        times: None,
        curve: None,
        to: ParamId::StrandLevel(StrandId(0)),
        amount: -12.0,
    });
    program.buses.push(Bus {
        id: BusId::WHOLE,
        name: "whole".into(),
        gain_db: 0.0,
        effects: vec![
            Effect::new(EffectId(1), EffectKind::Chorus),
            Effect::new(EffectId(2), EffectKind::Reverb),
        ],
    });
    program
}

const SOUNDS: [f32; 4] = [311.0, 487.3, 220.0, 900.0];

fn baked(lowered: &formats::Lowered) -> Vec<Vec<Vec<f32>>> {
    let one = |plan: &formats::Bake| bake(&sound(SOUNDS[plan.sample]), plan).channels;
    lowered.bakes.iter().map(one).collect()
}

#[test]
fn it_sounds_as_the_original_with_its_chance_effects_and_controls() {
    let original = program();
    let lowered = lower(&original, Format::Page);
    let strike = |frame, velocity| Event {
        frame,
        kind: EventKind::NoteOn { key: 60, velocity },
    };
    let up = |frame| Event {
        frame,
        kind: EventKind::NoteOff { key: 60 },
    };
    let moved = Event {
        frame: 90_000,
        kind: EventKind::Control {
            id: ControlId(9),
            value: 1.0,
        },
    };
    let score = [
        strike(0, 100),
        up(60_000),
        strike(70_000, 40),
        moved,
        strike(130_000, 127),
        up(170_000),
    ];
    let play = |program: &Program, audio| render_offline(program, audio, f64::from(RATE), &score, 220_000);
    let recorded = SOUNDS.map(|hz| sound(hz).channels).to_vec();
    let (ours, theirs) = (play(&original, recorded), play(&lowered.program, baked(&lowered)));
    for (ours, theirs) in [(&ours.0, &theirs.0), (&ours.1, &theirs.1)] {
        assert!(ours.iter().any(|x| x.abs() > 0.05));
        let apart = ours.iter().zip(theirs).map(|(a, b)| (a - b).abs());
        let worst = apart.fold(0.0f32, f32::max);
        // The engine's fades go frame by frame, baked ones are read between frames: by a 4,000th at most.
        let at = ours
            .iter()
            .zip(theirs)
            .position(|(a, b)| (a - b).abs() > worst * 0.5);
        assert!(worst < 4e-4, "{worst} from frame {at:?}");
    }
    // Only what nobody hears is left out, and told.
    assert_eq!((lowered.program.regions.len(), lowered.losses.len()), (3, 1));
    assert_eq!(lowered.losses[0].what, "Muted strands are left out.");
}

/// Samples are those of an SFZ, at every rate and number of sides.
#[test]
fn its_audio_is_made_as_that_of_an_sfz() {
    let original = program();
    for rate_hz in [None, Some(44_100), Some(96_000)] {
        let form = AudioForm {
            rate_hz,
            one_side: false,
        };
        let (page, sfz) = (
            lower_in(&original, Format::Page, form),
            lower_in(&original, Format::Sfz, form),
        );
        assert_eq!(page.bakes.len(), sfz.bakes.len());
        for (place, region) in page.regions_from.iter().zip(&page.program.regions) {
            let other = sfz.regions_from.iter().position(|from| from == place).unwrap();
            let other = &sfz.program.regions[other];
            assert_eq!(page.bakes[region.sample], sfz.bakes[other.sample]);
            let of = |program: &Program, n: usize| (program.samples[n].frames, program.samples[n].rate_hz);
            assert_eq!(of(&page.program, region.sample), of(&sfz.program, other.sample));
            // A lower rate is made up for by tuning, to a fraction of a cent.
            let cents = |region: &Region| f64::from(region.root_key) * 100.0 + region.recording_cents;
            assert!((cents(region) - cents(other)).abs() < 0.51);
        }
    }
}
