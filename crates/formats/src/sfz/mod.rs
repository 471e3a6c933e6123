//! SFZ, version 1 opcodes wherever they can say it.

mod document;
mod driven;
mod numbers;
#[cfg(test)]
mod published;
mod read;
mod regions;
mod strands;
mod words;
mod write;

pub use document::{Document, Section, path_within};
pub use read::{Brought, FileFacts, SfzRead, read_sfz};
pub use write::write_sfz;

/// What is said of one thing, by its words.
type Opcodes = std::collections::HashMap<String, String>;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::any::any_driving;
    use crate::{Format, lower};
    use program::{
        Among, BendKeys, Bus, BusId, ChosenBy, Control, ControlId, ControllerAtFirst, Curve, CurveId,
        CurvePoint, Cut, Effect, EffectId, EffectKind, Fade, FadeLaw, Foreign, Loop, LoopRuns, Loudness, On,
        ParamId, Program, Region, RegionKey, RegionOf, Route, RouteId, SameKey, Sample, SampleId, Send,
        Shape, ShapeId, Source, Span, Stays, Strand, StrandId, Switch, SwitchId, Turn, Voices, When, Within,
    };
    use proptest::prelude::*;

    fn any_region(samples: usize, strands: usize) -> impl Strategy<Value = Region> {
        let place = (
            0..strands,
            0..samples,
            0u8..128,
            0u8..128,
            1u8..128,
            1u8..128,
            0u8..128,
        );
        let sound = (-80.0f64..80.0, -30.0f64..30.0, -24.0f64..12.0, -1.0f64..1.0);
        let frames = (
            0u64..400,
            500u64..900,
            proptest::option::of((420u64..450, 460u64..490, 0u64..20)),
            0u16..4,
            1u16..5,
        );
        (place, sound, frames).prop_map(
            |((strand, sample, a, b, v, w, root), (cents, tune, gain, pan), (start, end, looped, rr, of))| {
                Region {
                    key: RegionKey {
                        strand: StrandId(strand as u64),
                        of: RegionOf::Own(0),
                    },
                    sample,
                    when: When {
                        turn: match rr {
                            0 => Turn::Always,
                            1 => Turn::InOrder { place: of - 1, of },
                            2 => Turn::Random {
                                from: 0.25,
                                to: 0.25 + 0.1 * f64::from(of),
                            },
                            _ => Turn::Shuffled {
                                group: 4,
                                place: of - 1,
                                of,
                            },
                        },
                        ..When::on(
                            Span {
                                fade_in: (rr == 1).then_some(Fade {
                                    from: a.min(b),
                                    to: a.max(b),
                                }),
                                ..Span::of(a.min(b), a.max(b))
                            },
                            Span {
                                fade_out: (of == 2).then_some(Fade {
                                    from: v.min(w),
                                    to: v.max(w),
                                }),
                                law: if rr == 2 { FadeLaw::Linear } else { FadeLaw::Power },
                                ..Span::of(v.min(w), v.max(w))
                            },
                        )
                    },
                    cut: Cut {
                        group: (of == 4).then_some(3),
                        by: (rr == 2).then_some(u32::from(of)),
                        fade_ms: 20 * u32::from(of),
                    },
                    key_follow: if of == 3 { 0.25 } else { 1.0 },
                    to_end: looped.is_none() && rr == 3,
                    root_key: root.clamp(2, 125),
                    recording_cents: cents,
                    tune_cents: tune,
                    gain_db: gain,
                    pan,
                    start_frame: start,
                    end_frame: end,
                    fade_in_frames: 3,
                    fade_out_frames: 5,
                    fade_curve: program::FadeCurve::Straight,
                    looped: looped.map(|(start_frame, end_frame, crossfade_frames)| Loop {
                        start_frame,
                        end_frame,
                        crossfade_frames,
                        likeness_percent: 100,
                        way: program::LoopWay::Forward,
                        runs: if rr % 2 == 0 {
                            LoopRuns::WhileHeld
                        } else {
                            LoopRuns::ThroughRelease
                        },
                    }),
                    ..Region::whole(sample, 60, 1_000)
                }
            },
        )
    }

    pub(super) fn any_program() -> impl Strategy<Value = Program> {
        let strand = (
            "[A-Za-z ]{1,12}",
            any::<bool>(),
            -6.0f64..6.0,
            0.0f64..900.0,
            -40.0f64..0.0,
            0.0f64..1.0,
        );
        let strands = proptest::collection::vec(strand, 1..4);
        strands.prop_flat_map(|strands| {
            let count = strands.len();
            proptest::collection::vec(any_region(4, count), 1..12).prop_map(move |mut regions| {
                regions.sort_by_key(|region: &Region| region.key.strand);
                for n in 0..regions.len() {
                    let before = regions[..n]
                        .iter()
                        .filter(|other| other.key.strand == regions[n].key.strand);
                    regions[n].key.of = RegionOf::Own(before.count() as u64);
                    // Some have the shape of another strand for their own.
                    let other = ShapeId(7 + (regions[n].key.strand.0 + 1) % count as u64);
                    regions[n].shape = (regions[n].pan > 0.0).then_some(other);
                }
                let (strands, shapes) = (0..)
                    .zip(&strands)
                    .map(|(n, (name, up, gain, ms, sustain, velocity))| {
                        let wheel = Within {
                            source: Source::Controller(if *gain > 0.0 { 1 } else { 74 }),
                            span: Span {
                                fade_out: (*gain > 3.0).then_some(Fade { from: 20, to: 100 }),
                                law: if *ms > 500.0 {
                                    FadeLaw::Linear
                                } else {
                                    FadeLaw::Power
                                },
                                ..Span::of(10, 120)
                            },
                        };
                        let strand = Strand {
                            on: match *up {
                                true if *gain > 0.0 => On::Enters(wheel),
                                true => On::KeyUp {
                                    pedal_holds: *ms > 300.0,
                                    fall_db_per_s: -gain.round(),
                                },
                                false if *ms > 700.0 => On::KeyDown(Among::Legato),
                                false => On::KEY_DOWN,
                            },
                            when: When {
                                sources: if *ms > 200.0 { vec![wheel] } else { Vec::new() },
                                chosen_by: (*sustain < -20.0).then_some(ChosenBy {
                                    switch: SwitchId(8),
                                    low_key: 22,
                                    high_key: 22,
                                    stays: if *ms > 400.0 { Stays::Held } else { Stays::Latched },
                                }),
                                turn: match (*ms as u64) % 3 {
                                    0 => Turn::InOrder { place: 1, of: 2 },
                                    1 => Turn::Random { from: 0.5, to: 1.0 },
                                    _ => Turn::Always,
                                },
                                ..When::on(Span::of(20, 100), Span::ALL_STRIKES)
                            },
                            gain_db: *gain,
                            pan: gain / 6.0,
                            muted: *velocity > 0.9,
                            transpose_keys: (gain * 2.0) as i8,
                            tune_cents: *gain,
                            voices: Voices {
                                bend: (*velocity > 0.5).then_some(BendKeys {
                                    up: (*ms as u8) % 49,
                                    down: 2,
                                }),
                                most: (*velocity > 0.7).then_some(4),
                                same_key: if *gain > 2.0 {
                                    SameKey::Cuts
                                } else {
                                    SameKey::Rings
                                },
                                ..Voices::default()
                            },
                            sends: vec![Send {
                                bus: BusId(2),
                                gain_db: *gain,
                            }],
                            ..Strand::new(StrandId(n), name.clone(), ShapeId(7 + n))
                        };
                        let loudness = Loudness {
                            delay_ms: ms / 3.0,
                            attack_ms: *ms,
                            hold_ms: if *up { *ms } else { 0.0 },
                            decay_ms: ms * 2.0,
                            sustain_db: *sustain,
                            release_ms: ms * 3.0,
                            velocity_to_level: *velocity,
                            bends: [*velocity, 0.0, -velocity],
                        };
                        let shape = Shape {
                            id: ShapeId(7 + n),
                            loudness,
                            ..any_driving(*gain, *ms, *sustain)
                        };
                        (strand, shape)
                    })
                    .unzip();
                let sample = |n: u32| Sample {
                    id: SampleId(u64::from(n)),
                    name: format!("bar C♯{n} / soft"),
                    source: n.to_string(),
                    rate_hz: 48_000,
                    first_channel: 0,
                    source_channels: 2,
                    channels: 2,
                    frames: 1_000,
                };
                Program {
                    name: "Slate: chimes".into(),
                    samples: (0..4).map(sample).collect(),
                    strands,
                    regions,
                    shapes,
                    curves: vec![Curve {
                        id: CurveId(70),
                        points: [(0.0, 0.2), (0.37, 0.1234), (1.0, -1.0)]
                            .map(|(at, value)| CurvePoint { at, value })
                            .to_vec(),
                    }],
                    buses: vec![
                        Bus {
                            id: BusId::WHOLE,
                            name: "All".into(),
                            gain_db: 0.0,
                            effects: vec![Effect::new(EffectId(1), EffectKind::Chorus)],
                        },
                        Bus {
                            id: BusId(2),
                            name: "Room".into(),
                            gain_db: -3.0,
                            effects: vec![Effect::new(EffectId(2), EffectKind::Reverb)],
                        },
                    ],
                    routes: vec![
                        Route {
                            id: RouteId(1),
                            from: Source::Controller(20),
                            times: None,
                            curve: None,
                            to: ParamId::StrandLevel(StrandId(0)),
                            amount: -96.0,
                        },
                        Route {
                            id: RouteId(2),
                            from: Source::Control(ControlId(9)),
                            times: None,
                            curve: Some(CurveId(70)),
                            to: ParamId::StrandLevel(StrandId(0)),
                            amount: -24.0,
                        },
                    ],
                    controls: [(9, "Balance", 0.3, None), (4, "Damper = half", 1.0, Some(64))]
                        .map(|(id, name, at_first, controller)| Control {
                            id: ControlId(id),
                            name: name.into(),
                            at_first,
                            controller,
                        })
                        .to_vec(),
                    controllers_at_first: vec![ControllerAtFirst {
                        controller: 21,
                        value: 0.4,
                    }],
                    switches: vec![Switch {
                        id: SwitchId(8),
                        name: "Stops".into(),
                        low_key: 20,
                        high_key: 24,
                        at_first: 21,
                    }],
                    ..Program::default()
                }
            })
        })
    }

    /// What stands in a text beside files of a length.
    fn read(text: &str, frames: impl Fn(&str) -> Option<u64>) -> Result<SfzRead, crate::FormatError> {
        let heard = |path: &str| {
            Some(FileFacts {
                rate_hz: 48_000,
                channels: 2,
                frames: frames(path)?,
                looped: path
                    .contains("looped")
                    .then(|| Loop::plain(20, 80, LoopRuns::ThroughRelease)),
            })
        };
        read_sfz(&Document::new(text)?, "", &heard)
    }

    proptest! {
        /// Bars page: import(export(p)) = lower(p), and exporting that again gives the same bytes. Words that are not known are kept and written again.
        #[test]
        fn reading_an_export_back_gives_the_lowered_program(program in any_program(), word in "[a-z]{3,9}_x") {
            let mut program = program;
            program.regions[0].foreign = vec![Foreign { word: word.clone(), value: "7 or so".into() }];
            let lowered = lower(&program, Format::Sfz).program;
            let text = write_sfz(&lowered);
            let frames = |path: &str| lowered.samples.iter().find(|s| s.source == path).map(|s| s.frames);
            match read(&text, frames) {
                Ok(read) => {
                    prop_assert_eq!(&read.program, &lowered);
                    prop_assert_eq!(write_sfz(&read.program), text);
                    prop_assert_eq!(read.foreign.len(), usize::from(lowered.regions.iter().any(|region| !region.foreign.is_empty())));
                }
                Err(_) => prop_assert!(lowered.regions.is_empty()),
            }
        }
    }

    #[test]
    fn values_with_spaces_and_note_names_are_read() {
        let text = "<region> sample=my samples/low bar.wav lokey=c4 hikey=C#5 pitch_keycenter=60 // end\n";
        let program = read(text, |_| Some(100)).unwrap().program;
        assert_eq!(program.samples[0].source, "my samples/low bar.wav");
        assert_eq!(program.regions[0].when.keys, Span::of(60, 73));
        let error = read("<region> sample=a.wav", |_| None).unwrap_err();
        assert_eq!(error.to_string(), "The sample «a.wav» is not there.");
        assert!(read("<region> sample=a.wav lokey=loud", |_| Some(1)).is_err());
        assert!(read("what is this", |_| Some(1)).is_err());
    }

    /// As many write by hand: a global and a master header, a group for each sample, one region out of line.
    #[test]
    fn what_is_said_above_holds_below_and_alike_is_one_strand() {
        let text = "<control> default_path=Samples\\ note_offset=-12\n<global> ampeg_release=0.5 loop_mode=loop_continuous\n\
            <master> pan=20\n<group> key=72 <region> sample=a.wav\n<group> key=74 <region> sample=b looped.wav volume=-3\n\
            <region> sample=gone.wav\n<group> trigger=release <region> sample=a.wav loop_mode=one_shot key=72 sustain_sw=off\n\
            <master> <group> key=76 <region> sample=a.wav ampeg_release=2 ampeg_attack=0.01 end=-1 <region> sample=a.wav ampeg_release=2";
        let read = read(text, |path| (path != "Samples/gone.wav").then_some(100)).unwrap();
        let program = &read.program;
        assert_eq!(program.strands.len(), 2);
        assert_eq!(program.strands[1].on, On::KEY_UP);
        let seen = program
            .regions
            .iter()
            .map(|region| (region.key.strand.0, region.root_key, region.pan));
        assert_eq!(
            seen.collect::<Vec<_>>(),
            [(0, 60, 0.2), (0, 62, 0.2), (1, 60, 0.2), (0, 64, 0.0)]
        );
        let releases = program
            .regions
            .iter()
            .map(|region| program.loudness_of_region(region).release_ms);
        assert_eq!(releases.collect::<Vec<_>>(), [500.0, 500.0, 500.0, 2_000.0]);
        assert!(program.regions[0].shape.is_none() && program.regions[3].shape.is_some());
        // The file's own loop, where the text gives none: else all of it.
        let loops = program
            .regions
            .iter()
            .map(|region| region.looped.map(|l| (l.start_frame, l.end_frame)));
        assert_eq!(
            loops.collect::<Vec<_>>(),
            [Some((0, 100)), Some((20, 80)), None, Some((0, 100))]
        );
        assert_eq!(program.samples.len(), 2);
        assert_eq!(
            read.missing.into_iter().collect::<Vec<_>>(),
            [("Samples/gone.wav".to_owned(), 1)]
        );
        assert_eq!(
            read.foreign.into_iter().collect::<Vec<_>>(),
            [("sustain_sw".to_owned(), 1)]
        );
    }
}
