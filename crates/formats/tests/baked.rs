//! What is baked into files sounds as the engine plays the original.

use engine::{Event, EventKind, render_offline};
use formats::{AudioForm, Format, bake, lower, lower_in};
use program::{FadeCurve, Loop, LoopRuns, LoopWay, Program, Region, Sample};
use signal::{Audio, resampling_lead};

const RATE: u32 = 48_000;
const FRAMES: u64 = 48_000;

/// Two tones that do not fit any loop: what is crossfaded or turned wrongly would be heard.
fn sound() -> Audio {
    let samples = (0..FRAMES)
        .map(|n| {
            let t = n as f32 / RATE as f32;
            (t * 311.0 * std::f32::consts::TAU).sin() * 0.3 + (t * 487.3 * std::f32::consts::TAU).sin() * 0.2
        })
        .collect();
    Audio::mono(RATE, samples)
}

fn program(looped: Loop, fade_curve: FadeCurve) -> Program {
    Program::plain(
        "Baked",
        vec![Sample {
            id: program::SampleId(0),
            name: "a".into(),
            source: "a".into(),
            rate_hz: RATE,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: FRAMES,
        }],
        vec![Region {
            start_frame: 1_000,
            end_frame: 47_000,
            fade_in_frames: 4_000,
            fade_out_frames: 4_000,
            fade_curve,
            looped: Some(looped),
            ..Region::whole(0, 60, FRAMES)
        }],
    )
}

#[test]
fn loops_of_every_way_and_curve_and_fades_of_every_course_are_baked_as_they_are_played() {
    let ways = [LoopWay::Forward, LoopWay::BackAndForth];
    let curves = [FadeCurve::Straight, FadeCurve::EqualPower, FadeCurve::Exponential];
    for (way, curve, likeness_percent) in ways
        .into_iter()
        .flat_map(|way| curves.into_iter().map(move |curve| (way, curve)))
        .zip([0u8, 40, 100, 0, 40, 100])
        .map(|((way, curve), likeness)| (way, curve, likeness))
    {
        let looped = Loop {
            crossfade_frames: if way == LoopWay::Forward { 5_000 } else { 0 },
            likeness_percent,
            way,
            ..Loop::plain(20_000, 33_333, LoopRuns::ThroughRelease)
        };
        let original = program(looped, curve);
        let lowered = lower(&original, Format::Sfz);
        let baked = bake(&sound(), &lowered.bakes[0]);
        assert_eq!(baked.frames() as u64, lowered.program.samples[0].frames);
        let struck = [Event {
            frame: 0,
            kind: EventKind::NoteOn {
                key: 60,
                velocity: 100,
            },
        }];
        let play = |program: &Program, audio: Audio| {
            render_offline(program, vec![audio.channels], f64::from(RATE), &struck, 120_000).0
        };
        let (ours, theirs) = (play(&original, sound()), play(&lowered.program, baked));
        let worst = ours
            .iter()
            .zip(&theirs)
            .map(|(a, b)| (a - b).abs())
            .fold(0.0f32, f32::max);
        assert!(worst < 2e-4, "{way:?} {curve:?} {likeness_percent}: {worst}");
        assert!(theirs[110_000..].iter().any(|x| x.abs() > 0.1), "it holds");
    }
}

/// 109 frames of the recording are a round of this.
fn sine_at(frame: f64) -> f32 {
    ((frame / 109.0 * std::f64::consts::TAU).sin() * 0.5) as f32
}

fn form(rate_hz: u32) -> AudioForm {
    AudioForm {
        rate_hz: Some(rate_hz),
        one_side: false,
    }
}

/// A loop of one round of a tone, and a long one: at every rate the sound is the same to its last frame, goes round without a seam, and stays in tune.
#[test]
fn at_another_rate_a_loop_goes_round_as_it_did_and_stays_in_tune() {
    let audio = Audio::mono(RATE, (0..FRAMES).map(|n| sine_at(n as f64)).collect());
    for (rate_hz, rounds, format) in [22_050, 32_000, 44_100, 50_000, 96_000]
        .into_iter()
        .flat_map(|rate| [1u64, 101].map(|rounds| (rate, rounds)))
        .flat_map(|(rate, rounds)| [Format::Sfz, Format::SoundFont2].map(|format| (rate, rounds, format)))
        .filter(|(rate, _, format)| *format == Format::Sfz || *rate <= 50_000)
    {
        let looped = Loop::plain(20_000, 20_000 + 109 * rounds, LoopRuns::ThroughRelease);
        let mut original = program(looped, FadeCurve::Straight);
        original.regions[0].fade_in_frames = 0;
        let lowered = lower_in(&original, format, form(rate_hz));
        let baked = bake(&audio, &lowered.bakes[0]);
        let region = &lowered.program.regions[0];
        let (sample, written) = (&lowered.program.samples[0], region.looped.unwrap());
        let told = format!("{rate_hz} Hz, {rounds} rounds, {format:?}");
        assert_eq!((baked.rate_hz, sample.rate_hz), (rate_hz, rate_hz), "{told}");
        assert_eq!(baked.frames() as u64, sample.frames, "{told}");
        let ratio = lowered.bakes[0].recast.unwrap().ratio;
        let heard = &baked.channels[0];
        let (first, end) = (written.start_frame as usize, written.end_frame as usize);
        assert!(end + 8 <= heard.len(), "{told}");
        let from = 1_000.0 + resampling_lead(ratio);
        let off = (300..end).map(|n| (heard[n] - sine_at(from + n as f64 / ratio)).abs());
        let silent_after = (256.0 * ratio) as usize + 1;
        let seam = (0..heard.len() - end - silent_after).map(|n| (heard[first + n] - heard[end + n]).abs());
        let most = |of: &mut dyn Iterator<Item = f32>| of.fold(0.0f32, f32::max);
        let (off, seam) = (most(&mut { off }), most(&mut { seam }));
        assert!(off < 3e-5 && seam < 1e-5, "{told}: {off} {seam}");
        // What a player hears: so many frames a second, at the key that is written.
        let hz = f64::from(rate_hz) / ratio / 109.0;
        let written_hz =
            hz * (-(region.recording_cents + 100.0 * (f64::from(region.root_key) - 60.0)) / 1200.0).exp2();
        let cents = 1200.0 * (written_hz / (f64::from(RATE) / 109.0)).log2();
        assert!(cents.abs() <= 0.5, "{told}: {cents}");
    }
}

/// What comes after a loop once the key is up comes at every rate.
#[test]
fn at_another_rate_what_lies_behind_a_loop_is_kept() {
    let audio = Audio::mono(RATE, (0..FRAMES).map(|n| sine_at(n as f64)).collect());
    let looped = Loop::plain(20_000, 30_900, LoopRuns::WhileHeld);
    let mut original = program(looped, FadeCurve::Straight);
    (
        original.regions[0].fade_in_frames,
        original.regions[0].fade_out_frames,
    ) = (0, 0);
    for format in [Format::Sfz, Format::SoundFont2] {
        let lowered = lower_in(&original, format, form(44_100));
        let baked = bake(&audio, &lowered.bakes[0]);
        let ratio = lowered.bakes[0].recast.unwrap().ratio;
        let written = lowered.program.regions[0].looped.unwrap();
        assert!(written.end_frame as f64 <= 29_900.0 * ratio);
        assert!(written.end_frame as f64 > 29_900.0 * ratio - 2.0);
        assert!((baked.frames() as f64 - 46_000.0 * ratio).abs() <= 0.5);
        let from = 1_000.0 + resampling_lead(ratio);
        for n in (300..baked.frames() - 300).step_by(7) {
            let off = (baked.channels[0][n] - sine_at(from + n as f64 / ratio)).abs();
            assert!(off < 3e-5, "{format:?} {n}: {off}");
        }
    }
}

/// Of two sides the mean is written, and what had one side is as loud beside it as it was.
#[test]
fn two_sides_become_one_and_levels_stay_to_each_other() {
    let mut original = program(
        Loop::plain(20_000, 30_900, LoopRuns::ThroughRelease),
        FadeCurve::Straight,
    );
    let narrow = original.samples[0].clone();
    original.samples.push(Sample {
        id: program::SampleId(1),
        name: "b".into(),
        channels: 2,
        source_channels: 2,
        ..narrow
    });
    original
        .regions
        .push(Region::whole(1, 72, FRAMES).on_keys(72, 72));
    let one = AudioForm {
        rate_hz: None,
        one_side: true,
    };
    for format in [Format::Sfz, Format::SoundFont2] {
        let lowered = lower_in(&original, format, one);
        assert_eq!(lowered.losses.len(), 1, "{:?}", lowered.losses);
        let side = |level: f32| vec![level; FRAMES as usize];
        let wide = Audio {
            rate_hz: RATE,
            channels: vec![side(0.2), side(0.4)],
        };
        for region in &lowered.program.regions {
            assert_eq!(lowered.program.samples[region.sample].channels, 1);
        }
        let [narrow, wide_one] = [60, 72].map(|root| {
            let found = lowered
                .program
                .regions
                .iter()
                .find(|region| region.root_key == root);
            found.unwrap()
        });
        let difference = wide_one.gain_db - narrow.gain_db;
        assert!((difference - 3.0103).abs() < 0.06, "{difference}");
        let baked = bake(&wide, &lowered.bakes[wide_one.sample]);
        assert_eq!(baked.channels.len(), 1);
        assert!((baked.channels[0][500] - 0.3).abs() < 1e-6);
    }
}
