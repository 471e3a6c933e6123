//! A SoundFont of ours, read by an independent parser and rendered by an independent renderer (crate `rustysynth`), beside our own engine.

use engine::{Event, EventKind, render_offline};
use formats::{Format, FormatError, Placed, bake, lower, write_sf2};
use program::{
    Cut, Fade, Loop, LoopRuns, On, Program, Region, Sample, Source, Span, Strand, Turn, When, Within,
};
use rustysynth::{SoundFont, Synthesizer, SynthesizerSettings};
use signal::Audio;
use std::sync::Arc;

const RATE: u32 = 48_000;
const ROOTS: [u8; 3] = [48, 55, 62];

fn tone(key: u8, gain: f32, cents: f64) -> Audio {
    let hz = signal::hz_of_key(f64::from(key) + cents / 100.0);
    let side = |phase: f64| {
        (0..96_000)
            .map(|n| {
                let t = f64::from(n) / f64::from(RATE) * hz * std::f64::consts::TAU + phase;
                (t.sin() + 0.4 * (2.0 * t).sin() + 0.2 * (3.0 * t).sin()) as f32 * gain * 0.3
            })
            .collect()
    };
    Audio {
        rate_hz: RATE,
        channels: vec![side(0.0), side(0.7)],
    }
}

/// Three rungs, two layers, each recording a little out of tune.
fn instrument() -> (Program, Vec<Audio>) {
    let (mut program, mut audio) = (
        Program::plain("Parlour reed organ", Vec::new(), Vec::new()),
        Vec::new(),
    );
    program.shapes[0].loudness.velocity_to_level = 0.25;
    for (n, &root) in ROOTS.iter().enumerate() {
        for (layer, gain) in [(0u8, 0.4f32), (1, 1.0)] {
            let cents = [-18.0, 7.4, 0.0][n];
            let sound = tone(root, gain, cents);
            let facts = signal::measure(&sound);
            let found = facts.loops[0];
            program.samples.push(Sample {
                id: program::SampleId(program.samples.len() as u64),
                name: format!("{root} {layer}"),
                source: String::new(),
                rate_hz: RATE,
                first_channel: 0,
                source_channels: 2,
                channels: 2,
                frames: 96_000,
            });
            program.regions.push(Region {
                key: program::RegionKey {
                    strand: program::StrandId(0),
                    of: program::RegionOf::Own(program.regions.len() as u64),
                },
                sample: audio.len(),
                when: When::on(
                    Span::of(if n == 0 { 43 } else { ROOTS[n - 1] + 1 }, root),
                    if layer == 0 {
                        Span::of(1, 69)
                    } else {
                        Span::of(70, 127)
                    },
                ),
                root_key: root,
                recording_cents: cents,
                start_frame: 100,
                end_frame: 96_000,
                looped: Some(Loop {
                    start_frame: found.start_frame as u64,
                    end_frame: found.end_frame as u64,
                    crossfade_frames: found.crossfade_frames as u64,
                    likeness_percent: 100,
                    way: program::LoopWay::Forward,
                    runs: LoopRuns::ThroughRelease,
                }),
                ..Region::whole(audio.len(), root, 96_000)
            });
            audio.push(sound);
        }
    }
    (program, audio)
}

#[allow(clippy::unwrap_used)] // A helper of a test, which may fail so.
fn independent(font: &Arc<SoundFont>, key: u8, velocity: u8, seconds: usize) -> (Vec<f32>, Vec<f32>) {
    let mut settings = SynthesizerSettings::new(RATE as i32);
    settings.enable_reverb_and_chorus = false;
    let mut synthesizer = Synthesizer::new(font, &settings).unwrap();
    // It halves what it renders (master volume 0.5), and begins at channel volume 100 of 127; both are opened fully.
    synthesizer.set_master_volume(1.0);
    synthesizer.process_midi_message(0, 0xB0, 7, 127);
    synthesizer.note_on(0, i32::from(key), i32::from(velocity));
    let frames = seconds * RATE as usize;
    let (mut left, mut right) = (vec![0.0; frames], vec![0.0; frames]);
    synthesizer.render(&mut left, &mut right);
    (left, right)
}

fn rms(samples: &[f32]) -> f64 {
    (samples.iter().map(|&x| f64::from(x).powi(2)).sum::<f64>() / samples.len() as f64).sqrt()
}

#[test]
fn the_soundfont_plays_in_tune_holds_and_tells_its_layers_apart() {
    let (program, audio) = instrument();
    let lowered = lower(&program, Format::SoundFont2);
    let baked: Vec<Audio> = lowered.bakes.iter().map(|b| bake(&audio[b.sample], b)).collect();
    let mut file = std::io::Cursor::new(Vec::new());
    write_sf2(&mut file, &[Placed::alone(lowered.program.clone())], 24, |n| {
        Ok::<_, FormatError>(baked[n].clone())
    })
    .unwrap();
    let file = file.into_inner();
    let font = Arc::new(SoundFont::new(&mut file.as_slice()).unwrap());
    assert_eq!(font.get_presets()[0].get_name(), "Parlour reed organ");
    assert_eq!(font.get_sample_headers().len(), 12);
    for header in font.get_sample_headers().iter().take(12) {
        assert!(
            header.get_end_loop() > header.get_start_loop() + 32 && header.get_end_loop() <= header.get_end()
        );
    }
    let samples: Vec<Vec<Vec<f32>>> = baked.iter().map(|a| a.channels.clone()).collect();
    for key in 43..=62u8 {
        let (left, right) = independent(&font, key, 127, 20);
        let pitch = signal::find_pitch(&left, RATE, 0, RATE as usize).unwrap();
        let off = 1200.0 * (pitch.hz / signal::hz_of_key(f64::from(key))).log2();
        assert!(off.abs() <= 3.0, "key {key}: {off:.2} cents");
        let level: Vec<f64> = (1..20)
            .map(|s| rms(&left[s * 48_000..(s + 1) * 48_000 - 1]))
            .collect();
        let (low, high) = level
            .iter()
            .fold((f64::MAX, 0.0f64), |(l, h), &x| (l.min(x), h.max(x)));
        assert!(20.0 * (high / low).log10() < 1.0, "key {key} drops");
        // A click would be a step steeper than the tone itself ever is.
        let slope = |part: &[f32]| {
            part.windows(2)
                .map(|w| (w[1] - w[0]).abs())
                .fold(0.0f32, f32::max)
        };
        assert!(
            slope(&left[48_000..]) < 1.1 * slope(&left[9_600..48_000]).max(1e-6),
            "key {key} clicks"
        );

        let events = [Event {
            frame: 0,
            kind: EventKind::NoteOn { key, velocity: 127 },
        }];
        let (ours, ours_right) = render_offline(
            &lowered.program,
            samples.clone(),
            f64::from(RATE),
            &events,
            96_000,
        );
        let own = signal::find_pitch(&ours, RATE, 0, RATE as usize).unwrap();
        assert!((1200.0 * (own.hz / pitch.hz).log2()).abs() <= 1.0, "key {key}");
        for (a, b) in [(&ours, &left), (&ours_right, &right)] {
            let difference = 20.0 * (rms(&a[9_600..90_000]) / rms(&b[9_600..90_000])).log10();
            assert!(difference.abs() <= 0.5, "key {key}: {difference:.2} dB");
        }
        let (soft, _) = independent(&font, key, 60, 1);
        let apart = 20.0 * (rms(&left[9_600..40_000]) / rms(&soft[9_600..40_000])).log10();
        assert!(apart > 4.0, "key {key}: layers {apart:.1} dB apart");
    }
}

#[test]
fn what_a_soundfont_cannot_hold_is_said() {
    let (mut program, _) = instrument();
    program.regions[0].when.turn = Turn::InOrder { place: 1, of: 2 };
    program.strands.push(Strand {
        id: program::StrandId(program.strands.len() as u64),
        on: On::KEY_UP,
        ..program.strands[0].clone()
    });
    program.regions[1].key.strand = program::StrandId(1);
    let lowered = lower(&program, Format::SoundFont2);
    assert_eq!(lowered.program.regions.len(), 4);
    let said: Vec<&str> = lowered.losses.iter().map(|loss| loss.what.as_str()).collect();
    assert!(
        said.iter().any(|s| s.contains("round robins")) && said.iter().any(|s| s.contains("key-up")),
        "{said:?}"
    );
    assert!(lower(&program, Format::Sfz).losses.is_empty());
    program.regions[2].when.strikes.fade_in = Some(Fade { from: 60, to: 80 });
    program.regions[3].when.turn = Turn::Shuffled {
        group: 1,
        place: 0,
        of: 2,
    };
    let (soundfont, sfz) = (lower(&program, Format::SoundFont2), lower(&program, Format::Sfz));
    assert!(
        soundfont
            .losses
            .iter()
            .any(|loss| loss.what.contains("crossfades") && loss.regions == 1)
    );
    assert_eq!(sfz.losses.len(), 1);
    assert!(
        sfz.losses[0].what.contains("one after another"),
        "{:?}",
        sfz.losses
    );
}

/// What we write is read back by our own reader, sample for sample; what is no SoundFont, or a broken one, is refused with a sentence.
#[test]
fn a_soundfont_is_read_back_and_a_broken_one_is_refused() {
    let (program, audio) = instrument();
    let lowered = lower(&program, Format::SoundFont2);
    let mut bytes = std::io::Cursor::new(Vec::new());
    let baked: Vec<Audio> = lowered.bakes.iter().map(|b| bake(&audio[b.sample], b)).collect();
    write_sf2::<FormatError>(&mut bytes, &[Placed::alone(lowered.program.clone())], 24, |n| {
        Ok(baked[n].clone())
    })
    .unwrap();
    let bytes = bytes.into_inner();
    let mut file = formats::sf2::File::read(std::io::Cursor::new(&bytes)).unwrap();
    let zones: Vec<_> = file.instruments.iter().flat_map(|of| of.zones.clone()).collect();
    assert!(zones.len() >= program.regions.len());
    for zone in &zones {
        let sample = file.samples[zone.sample].clone();
        let (low, high) = zone.keys();
        assert!(low <= high && sample.rate_hz == RATE);
        assert!((zone.pitch(&sample) - f64::from(sample.root_key)).abs() < 0.5);
        let (first, after) = zone.looped(&sample).unwrap();
        assert!(0 <= first && first < after && after as u64 <= sample.frames);
        let read = file.audio(zone.sample).unwrap();
        let side = |n: usize| &baked[zone.sample / 2].channels[n];
        let like = |written: &[f32]| {
            written
                .iter()
                .zip(&read.channels[0])
                .all(|(a, b)| (a - b).abs() < 1.0 / 8_000_000.0)
        };
        assert!(like(side(0)) || like(side(1)), "{}", sample.name);
    }
    let refused = |bytes: Vec<u8>| {
        formats::sf2::File::read(std::io::Cursor::new(bytes))
            .err()
            .map(|e| e.to_string())
    };
    for broken in [
        Vec::new(),
        b"RIFF".to_vec(),
        bytes[..bytes.len() / 2].to_vec(),
        vec![0xff; 400],
    ] {
        let sentence = refused(broken).unwrap();
        assert!(
            sentence.starts_with("This SoundFont cannot be read: "),
            "{sentence}"
        );
    }
    // Whatever a byte of its tables is, nothing panics.
    let tables = bytes.len() - 2_000.min(bytes.len());
    for at in (tables..bytes.len()).step_by(7) {
        let mut odd = bytes.clone();
        odd[at] ^= 0xff;
        if let Ok(mut file) = formats::sf2::File::read(std::io::Cursor::new(odd)) {
            let _ = file.audio(0);
        }
    }
}

/// What chooses, cuts off and plays on: said of each region as far as the format can, and what it cannot is named with how many it touches.
#[test]
fn a_soundfont_has_what_sounds_at_first_and_ends_what_is_of_its_own_kind() {
    let (mut program, _) = instrument();
    let count = program.regions.len();
    program.strands[0].when.sources.push(Within {
        source: Source::Controller(1),
        span: Span {
            fade_out: Some(Fade { from: 0, to: 127 }),
            ..Span::of(0, 127)
        },
    });
    let mut brought_in = program.strands[0].clone();
    brought_in.id = program::StrandId(1);
    brought_in.when.sources[0].span = Span::of(64, 127);
    program.strands.push(brought_in);
    let mut hidden = program.regions[0].clone();
    hidden.key.strand = program::StrandId(1);
    program.regions.push(hidden);
    program.strands[0].cut = Cut {
        group: Some(5),
        by: Some(5),
        fade_ms: 0,
    };
    program.regions[0].to_end = true;
    let lowered = lower(&program, Format::SoundFont2);
    assert_eq!(lowered.program.regions.len(), count);
    assert!(
        lowered
            .program
            .regions
            .iter()
            .all(|region| region.cut.group == Some(5))
    );
    let said: Vec<(&str, usize)> = (lowered.losses.iter())
        .map(|loss| (loss.what.as_str(), loss.regions))
        .collect();
    assert!(
        said.iter()
            .any(|(what, regions)| what.contains("controllers") && *regions == 1),
        "{said:?}"
    );
    assert!(
        said.iter()
            .any(|(what, regions)| what.contains("longest release") && *regions == 1),
        "{said:?}"
    );
    assert_eq!(said.len(), 2, "{said:?}");
    // A group that ends another than itself has no word there.
    program.strands[0].cut.group = None;
    let ringing = lower(&program, Format::SoundFont2);
    assert!(
        ringing
            .losses
            .iter()
            .any(|loss| loss.what.contains("ring on") && loss.regions == count)
    );
    // In SFZ all of it has.
    assert_eq!(lower(&program, Format::Sfz).losses, []);
}

/// Copies of a region share their audio in the file, and each has its own place and pitch.
#[test]
fn copies_share_their_sample() {
    let (mut program, _) = instrument();
    let count = program.samples.len();
    let copies: Vec<_> = (program.regions.iter().cloned())
        .map(|mut region| {
            region.key.strand = program::StrandId(1);
            region
        })
        .collect();
    program.strands.push(Strand {
        id: program::StrandId(1),
        tune_cents: 9.0,
        pan: -0.5,
        ..program.strands[0].clone()
    });
    program.regions.extend(copies);
    for format in [Format::Sfz, Format::SoundFont2] {
        let lowered = lower(&program, format).program;
        assert_eq!((lowered.samples.len(), lowered.regions.len()), (count, 2 * count));
        let (first, copy) = (&lowered.regions[0], &lowered.regions[count]);
        assert_eq!((first.sample, copy.sample), (0, 0));
        let sounds = |region: &program::Region| f64::from(region.root_key) * 100.0 + region.recording_cents;
        assert_eq!(sounds(copy) - sounds(first), -9.0);
        assert_eq!(copy.pan, -0.5);
    }
}

/// Level of each side, of what is heard of a key in the middle of its course, from our engine and from the independent renderer, in dB.
#[allow(clippy::unwrap_used)] // A helper of a test, which may fail so.
fn sides_of_both(program: &Program, audio: &[Audio], key: u8) -> [[f64; 2]; 2] {
    let lowered = lower(program, Format::SoundFont2);
    let mut bytes = std::io::Cursor::new(Vec::new());
    let baked: Vec<Audio> = lowered.bakes.iter().map(|b| bake(&audio[b.sample], b)).collect();
    write_sf2::<FormatError>(&mut bytes, &[Placed::alone(lowered.program.clone())], 24, |n| {
        Ok(baked[n].clone())
    })
    .unwrap();
    let font = Arc::new(SoundFont::new(&mut std::io::Cursor::new(bytes.into_inner())).unwrap());
    let theirs = independent(&font, key, 127, 1);
    let events = [Event {
        frame: 0,
        kind: EventKind::NoteOn { key, velocity: 127 },
    }];
    let samples = audio.iter().map(|audio| audio.channels.clone()).collect();
    let ours = render_offline(program, samples, f64::from(RATE), &events, 48_000);
    [ours, theirs]
        .map(|(left, right)| [left, right].map(|side| 20.0 * rms(&side[9_600..40_000]).max(1e-4).log10()))
}

/// Bars page: level within 0.5 dB of an independent renderer; a mono sound, and sounds of one and two sides wherever they are put.
#[test]
fn mono_and_panned_sounds_are_as_loud_on_each_side_as_an_independent_renderer_has_them() {
    let (stereo, audio) = instrument();
    let mut mono = stereo.clone();
    for sample in &mut mono.samples {
        (sample.channels, sample.source_channels) = (1, 1);
    }
    let mono_audio: Vec<Audio> = (audio.iter())
        .map(|audio| Audio::mono(RATE, audio.channels[0].clone()))
        .collect();
    for (program, audio) in [(&stereo, &audio), (&mono, &mono_audio)] {
        for pan in [-0.8, -0.3, 0.0, 0.5, 1.0] {
            let mut panned = program.clone();
            (panned.regions.iter_mut()).for_each(|region| region.pan = pan);
            let [ours, theirs] = sides_of_both(&panned, audio, 55);
            let (left, right) = program::pan_gains(pan, true);
            for ((ours, theirs), gain) in ours.into_iter().zip(theirs).zip([left, right]) {
                // It takes 0.4 of what a sound of two sides is attenuated by, where the specification (8.1.3) has all of it.
                let attenuated = if audio[0].channels.len() == 2 {
                    20.0 * gain.max(1e-4).log10()
                } else {
                    0.0
                };
                let theirs = theirs + 0.6 * attenuated;
                // What is 40 dB under the other side is as good as silent.
                let silent = ours < -50.0 && theirs < -50.0;
                assert!(
                    silent || (ours - theirs).abs() <= 0.5,
                    "{pan}: {ours:.2} {theirs:.2} dB"
                );
            }
        }
    }
}

/// SoundFont 2.04, section 7.10: 32 frames of loop at least, 8 before and 8 after it that go on as it does; a cycle that is shorter is written out more often, and
/// sounds the same.
#[test]
fn a_short_loop_is_written_out_as_long_as_the_format_wants_it() {
    let cycle = 18u64;
    let sine = |n: u64| (n as f64 / cycle as f64 * std::f64::consts::TAU).sin() as f32 * 0.4;
    let audio = [Audio::mono(RATE, (0..400).map(sine).collect())];
    for (start, end, runs) in [
        (3, 21, LoopRuns::ThroughRelease),
        (36, 54, LoopRuns::WhileHeld),
        (378, 396, LoopRuns::WhileHeld),
    ] {
        let mut program = Program::plain(
            "Short",
            vec![Sample {
                id: program::SampleId(0),
                name: "a".into(),
                source: String::new(),
                rate_hz: RATE,
                first_channel: 0,
                source_channels: 1,
                channels: 1,
                frames: 400,
            }],
            vec![Region {
                looped: Some(Loop::plain(start, end, runs)),
                ..Region::whole(0, 60, 400)
            }],
        );
        program.shapes[0].loudness.attack_ms = 0.0;
        let lowered = lower(&program, Format::SoundFont2);
        let looped = lowered.program.regions[0].looped.unwrap();
        let baked = bake(&audio[0], &lowered.bakes[0]);
        assert_eq!(baked.frames() as u64, lowered.program.samples[0].frames);
        assert!(looped.end_frame - looped.start_frame >= 32 && looped.start_frame >= 8);
        assert!(baked.frames() as u64 >= looped.end_frame + 8);
        let channel = &baked.channels[0];
        for n in 0..8 {
            let (after, first) = (
                channel[looped.end_frame as usize + n],
                channel[looped.start_frame as usize + n],
            );
            assert!((after - first).abs() < 1e-6);
        }
        let events = [Event {
            frame: 0,
            kind: EventKind::NoteOn {
                key: 64,
                velocity: 127,
            },
        }];
        let play = |program: &Program, audio: &Audio| {
            render_offline(
                program,
                vec![audio.channels.clone()],
                f64::from(RATE),
                &events,
                20_000,
            )
            .0
        };
        let (whole, written) = (play(&program, &audio[0]), play(&lowered.program, &baked));
        let worst = (whole.iter().zip(&written))
            .map(|(a, b)| (a - b).abs())
            .fold(0.0, f32::max);
        assert!(worst < 2e-5, "{worst}");
    }
}

/// Of 16 bits there is no second table, the other reader reads it too, and what the samples are is what 16 bits hold.
#[test]
fn a_soundfont_of_16_bits_has_no_low_bytes() {
    let (program, audio) = instrument();
    let lowered = lower(&program, Format::SoundFont2);
    let baked: Vec<Audio> = (lowered.bakes.iter())
        .map(|plan| formats::to_16_bits(&bake(&audio[plan.sample], plan), formats::Dither::Flat))
        .collect();
    let mut bytes = std::io::Cursor::new(Vec::new());
    write_sf2::<FormatError>(&mut bytes, &[Placed::alone(lowered.program.clone())], 16, |n| {
        Ok(baked[n].clone())
    })
    .unwrap();
    let bytes = bytes.into_inner();
    assert!(!bytes.windows(4).any(|four| four == b"sm24"));
    SoundFont::new(&mut bytes.as_slice()).unwrap();
    let mut file = formats::sf2::File::read(std::io::Cursor::new(bytes)).unwrap();
    for (n, audio) in baked.iter().enumerate() {
        for (side, frames) in audio.channels.iter().enumerate() {
            assert_eq!(&file.audio(2 * n + side).unwrap().channels[0], frames);
        }
    }
}
