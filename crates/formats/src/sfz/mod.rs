//! SFZ, version 1 opcodes wherever they can say it.

mod driven;
mod numbers;
mod read;
mod write;

pub use read::read_sfz;
pub use write::write_sfz;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Format, lower};
    use program::{
        Among, BendKeys, ChosenBy, Course, CourseId, Curve, CurveId, CurvePoint, Cut, Fade, FadeLaw, Filter,
        Loop, LoopRuns, Loudness, Movement, MovementId, On, ParamId, Passes, Program, Rate, Region,
        RegionKey, RegionOf, Route, RouteId, SameKey, Sample, SampleId, Shape, ShapeId, Source, Span, Stays,
        Strand, StrandId, Switch, SwitchId, Turn, Voices, Wave, When, Within,
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

    /// Of everything something, by three numbers.
    fn any_driving(gain: f64, ms: f64, sustain: f64) -> Shape {
        let sources = [
            Source::Strike,
            Source::KeyUpSpeed,
            Source::Pressure,
            Source::KeyPressure,
            Source::Bend,
            Source::Controller(1),
            Source::Controller(74),
            Source::Key,
            Source::Random(9),
            Source::Movement(MovementId(5)),
            Source::Movement(MovementId(3)),
            Source::Course(CourseId(1)),
            Source::Course(CourseId(2)),
        ];
        let targets = [
            ParamId::Level,
            ParamId::Place,
            ParamId::Pitch,
            ParamId::Cutoff,
            ParamId::Resonance,
            ParamId::SampleStart,
        ];
        let pick = ms as usize;
        let route = |n: usize| {
            let from = sources[(pick + 3 * n) % sources.len()];
            let to = targets[(pick / 7 + n) % targets.len()];
            let by = matches!(from, Source::Movement(_)) && n.is_multiple_of(2);
            Route {
                id: RouteId(n as u64),
                from,
                times: by.then_some(Source::Controller(11)),
                curve: (n % 3 == 1).then_some(CurveId(70)),
                to,
                amount: if to == ParamId::Place {
                    gain / 6.0
                } else {
                    gain * 4.0
                },
            }
        };
        let forms = [
            (Passes::Low, 1),
            (Passes::High, 4),
            (Passes::Band, 4),
            (Passes::Notch, 2),
        ];
        let (passes, poles) = forms[pick % 4];
        let movement = |id: u64, wave: Wave| Movement {
            id: MovementId(id),
            wave,
            rate: if pick.is_multiple_of(2) {
                Rate::Quarters(ms / 100.0 + 0.1)
            } else {
                Rate::Hz(ms / 90.0 + 0.1)
            },
            phase: ms / 1_000.0,
            delay_ms: ms,
            fade_in_ms: ms / 3.0,
            per_voice: pick.is_multiple_of(3),
            once: false,
        };
        let course = |id: u64| Course {
            id: CourseId(id),
            delay_ms: ms / 9.0,
            attack_ms: ms / 3.0,
            hold_ms: 0.0,
            decay_ms: ms,
            sustain: -sustain / 40.0,
            release_ms: ms / 2.0,
            bends: [0.0; 3],
        };
        Shape {
            courses: vec![course(1), course(2)],
            filter: (!pick.is_multiple_of(5)).then_some(Filter {
                passes,
                poles,
                cutoff_hz: 200.0 + ms,
                key_follow: gain / 6.0,
                resonance_db: -sustain,
                makes_up: pick.is_multiple_of(2),
            }),
            movements: vec![movement(5, Wave::Smooth), movement(3, Wave::SawUp)],
            routes: (0..pick % 9).map(route).collect(),
            ..Shape::default()
        }
    }

    fn any_program() -> impl Strategy<Value = Program> {
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

    proptest! {
        /// Bars page: import(export(p)) = lower(p), and exporting that again gives the same bytes.
        #[test]
        fn reading_an_export_back_gives_the_lowered_program(program in any_program()) {
            let lowered = lower(&program, Format::Sfz).program;
            let text = write_sfz(&lowered);
            let probe = |path: &str| lowered.samples.iter().find(|s| s.source == path).map(|s| (s.rate_hz, s.channels, s.frames));
            let read = read_sfz(&text, probe).unwrap();
            prop_assert_eq!(&read, &lowered);
            prop_assert_eq!(write_sfz(&read), text);
        }
    }

    #[test]
    fn values_with_spaces_and_note_names_are_read() {
        let text = "<region> sample=my samples/low bar.wav lokey=c4 hikey=C#5 pitch_keycenter=60 // end\n";
        let program = read_sfz(text, |_| Some((44_100, 1, 100))).unwrap();
        assert_eq!(program.samples[0].source, "my samples/low bar.wav");
        assert_eq!(program.regions[0].when.keys, Span::of(60, 73));
        assert!(read_sfz("<region> sample=a.wav", |_| None).is_err());
        assert!(read_sfz("<region> sample=a.wav lokey=loud", |_| Some((1, 1, 1))).is_err());
    }
}
