//! Where voices meet: strands with a row of effects of their own, rows that several send to, and the whole.

use crate::STEP_FRAMES;
use crate::drive::Around;
use effects::Row;
use program::{BusId, EffectId, ParamId, Program, Source, StrandId};

/// A level that is under this is silence, in dB.
const SILENCE_DB: f64 = -90.0;

/// Two sides of a step.
type Sides = [[f32; STEP_FRAMES]; 2];

/// A strand that does not go straight into the whole.
#[derive(Debug)]
struct OfStrand {
    strand: StrandId,
    row: Row,
    sound: Sides,
    /// A step ago; `None` before the first.
    gain: Option<f32>,
    sends: Vec<Sent>,
}

/// How much of it goes to a shared row.
#[derive(Debug, Clone, Copy)]
struct Sent {
    bus: BusId,
    gain: Option<f32>,
}

/// A row that strands send to.
#[derive(Debug)]
struct Shared {
    bus: BusId,
    row: Row,
    sound: Sides,
    gain: Option<f32>,
}

/// See above.
#[derive(Debug, Default)]
pub(crate) struct Mix {
    strands: Vec<OfStrand>,
    shared: Vec<Shared>,
    whole: Row,
    /// Settings that are driven, by their effect and place.
    driven: Vec<(EffectId, u16)>,
}

/// What a source that is one for all voices stands at.
fn source_of(around: &Around, source: Source) -> f64 {
    around.standing.source(source, 0).unwrap_or(0.0)
}

/// How far routes of the whole drive a number.
fn driven_by(around: &Around, to: ParamId) -> f64 {
    let routes = around.program.routes.iter().filter(|route| route.to == to);
    let does = routes.map(|route| {
        let value = source_of(around, route.from);
        let times = route.times.map_or(1.0, |by| source_of(around, by));
        route.does(value, around.program.curve_of(route)) * times
    });
    does.sum()
}

fn gain_of(db: f64) -> f32 {
    if db <= SILENCE_DB {
        0.0
    } else {
        libm::pow(10.0, db / 20.0) as f32
    }
}

/// Goes from one level to another within a step.
fn add(into: (&mut [f32], &mut [f32]), from: &Sides, was: &mut Option<f32>, to: f32) {
    let frames = into.0.len();
    let first = was.replace(to).unwrap_or(to);
    let by = (to - first) / frames.max(1) as f32;
    for (into, from) in [into.0, into.1].into_iter().zip(from) {
        if by == 0.0 {
            into.iter_mut()
                .zip(from)
                .for_each(|(into, from)| *into += from * to);
        } else {
            for (n, (into, from)) in (1u16..).zip(into.iter_mut().zip(from)) {
                *into += from * (first + by * f32::from(n));
            }
        }
    }
}

fn run(row: &mut Row, sound: &mut Sides, frames: usize, tempo: f64) {
    let [left, right] = sound;
    row.run(&mut left[..frames], &mut right[..frames], tempo);
}

impl Mix {
    /// That of a program, with what the one before it keeps of the sound where it is the same.
    pub(crate) fn after(program: &Program, rate_hz: f64, before: &mut Self) -> Self {
        let bus_of = |id: BusId| program.buses.iter().find(|bus| bus.id == id);
        let effects_of = |id: BusId| bus_of(id).map_or(&[][..], |bus| &bus.effects);
        let is_driven = |to: ParamId| program.routes.iter().any(|route| route.to == to);
        let shared: Vec<Shared> = (program.buses.iter())
            .filter(|bus| bus.id.is_shared())
            .map(|bus| {
                let was = before.shared.iter_mut().find(|other| other.bus == bus.id);
                let (row, gain) = match was {
                    Some(was) => (Row::after(&bus.effects, rate_hz, &mut was.row), was.gain),
                    None => (Row::new(&bus.effects, rate_hz), None),
                };
                Shared {
                    bus: bus.id,
                    row,
                    gain,
                    sound: [[0.0; STEP_FRAMES]; 2],
                }
            })
            .collect();
        let strands = (program.strands.iter())
            .filter(|strand| {
                let own = bus_of(BusId::of_strand(strand.id))
                    .is_some_and(|bus| !bus.effects.is_empty() || bus.gain_db != 0.0);
                let sends = strand.sends.iter().any(|send| bus_of(send.bus).is_some());
                own || sends || is_driven(ParamId::StrandLevel(strand.id))
            })
            .map(|strand| {
                let effects = effects_of(BusId::of_strand(strand.id));
                let was = before.strands.iter_mut().find(|other| other.strand == strand.id);
                let (row, gain, sent) = match was {
                    Some(was) => (
                        Row::after(effects, rate_hz, &mut was.row),
                        was.gain,
                        std::mem::take(&mut was.sends),
                    ),
                    None => (Row::new(effects, rate_hz), None, Vec::new()),
                };
                let sends = strand.sends.iter().filter(|send| bus_of(send.bus).is_some());
                let sends = sends.map(|send| Sent {
                    bus: send.bus,
                    gain: sent
                        .iter()
                        .find(|was| was.bus == send.bus)
                        .and_then(|was| was.gain),
                });
                OfStrand {
                    strand: strand.id,
                    row,
                    gain,
                    sends: sends.collect(),
                    sound: [[0.0; STEP_FRAMES]; 2],
                }
            })
            .collect();
        let mut driven: Vec<(EffectId, u16)> = Vec::new();
        for route in &program.routes {
            if let ParamId::Effect(id, setting) = route.to
                && !driven.contains(&(id, setting))
            {
                driven.push((id, setting));
            }
        }
        Self {
            strands,
            shared,
            whole: Row::after(effects_of(BusId::WHOLE), rate_hz, &mut before.whole),
            driven,
        }
    }

    /// Whether voices go straight to where they are heard, and nothing is done to them there.
    pub(crate) fn is_plain(&self) -> bool {
        self.strands.is_empty() && self.shared.is_empty() && self.whole.is_empty()
    }

    /// A step begins.
    pub(crate) fn begin(&mut self, frames: usize) {
        let strands = self.strands.iter_mut().map(|of| &mut of.sound);
        let shared = self.shared.iter_mut().map(|of| &mut of.sound);
        for side in strands.chain(shared).flatten() {
            side[..frames].fill(0.0);
        }
    }

    /// Where a voice of a strand goes; `None` for the whole.
    pub(crate) fn sound_of(&mut self, strand: StrandId, frames: usize) -> Option<(&mut [f32], &mut [f32])> {
        let of = self.strands.iter_mut().find(|of| of.strand == strand)?;
        let [left, right] = &mut of.sound;
        Some((&mut left[..frames], &mut right[..frames]))
    }

    /// A step ends: all that met is done to, and goes where it is heard.
    pub(crate) fn finish(&mut self, around: &Around, left: &mut [f32], right: &mut [f32]) {
        let (program, tempo, frames) = (around.program, around.tempo, left.len());
        for n in 0..self.driven.len() {
            self.drive(around, self.driven[n]);
        }
        for of in &mut self.strands {
            run(&mut of.row, &mut of.sound, frames, tempo);
            let Some(strand) = program.strand(of.strand) else {
                continue;
            };
            let own = program
                .buses
                .iter()
                .find(|bus| bus.id == BusId::of_strand(of.strand));
            let level_db =
                own.map_or(0.0, |bus| bus.gain_db) + driven_by(around, ParamId::StrandLevel(of.strand));
            let level = gain_of(level_db);
            for sent in &mut of.sends {
                let send = strand.sends.iter().find(|send| send.bus == sent.bus);
                let to = send.map_or(0.0, |send| level * gain_of(send.gain_db));
                if let Some(shared) = self.shared.iter_mut().find(|shared| shared.bus == sent.bus) {
                    let [left, right] = &mut shared.sound;
                    add(
                        (&mut left[..frames], &mut right[..frames]),
                        &of.sound,
                        &mut sent.gain,
                        to,
                    );
                }
            }
            add((left, right), &of.sound, &mut of.gain, level);
        }
        for of in &mut self.shared {
            run(&mut of.row, &mut of.sound, frames, tempo);
            let bus = program.buses.iter().find(|bus| bus.id == of.bus);
            let to = bus.map_or(0.0, |bus| gain_of(bus.gain_db));
            add((left, right), &of.sound, &mut of.gain, to);
        }
        self.whole.run(left, right, tempo);
    }

    fn drive(&mut self, around: &Around, (id, setting): (EffectId, u16)) {
        let effects = around.program.buses.iter().flat_map(|bus| &bus.effects);
        let Some(effect) = effects.into_iter().find(|effect| effect.id == id) else {
            return;
        };
        let place = usize::from(setting);
        let Some(row) = effect.kind.settings().get(place) else {
            return;
        };
        let by = driven_by(around, ParamId::Effect(id, setting));
        let value = row.driven(effect.set_to()[place], by);
        self.rows().for_each(|row| row.drive(id, place, value));
    }

    fn rows(&mut self) -> impl Iterator<Item = &mut Row> {
        let strands = self.strands.iter_mut().map(|of| &mut of.row);
        let shared = self.shared.iter_mut().map(|of| &mut of.row);
        strands.chain(shared).chain([&mut self.whole])
    }

    /// Follows an effect that is set while it runs.
    pub(crate) fn set(&mut self, effect: &program::Effect) {
        self.rows().for_each(|row| row.set(effect));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Engine, Event, EventKind, render_offline};
    use program::{
        Bus, Control, ControlId, Curve, CurveId, CurvePoint, Effect, EffectKind, Region, Route, RouteId,
        Sample, SampleId, Send, Shape, ShapeId, Strand,
    };

    const RATE: f64 = 48_000.0;

    /// Two strands, each a tone of its own.
    fn program() -> (Program, Vec<Vec<Vec<f32>>>) {
        let sample = |n: u64| Sample {
            id: SampleId(n),
            name: String::new(),
            source: String::new(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 48_000,
        };
        let mut program = Program::plain("Two", vec![sample(1), sample(2)], Vec::new());
        program.shapes[0].loudness.velocity_to_level = 0.0;
        program.shapes.push(Shape {
            id: ShapeId(1),
            ..program.shapes[0].clone()
        });
        program
            .strands
            .push(Strand::new(StrandId(1), "Other", ShapeId(1)));
        for n in 0..2 {
            let mut region = Region::whole(n, 60, 48_000);
            region.key.strand = StrandId(n as u64);
            region.to_end = true;
            program.regions.push(region);
        }
        let tone = |hz: f64| {
            let frame = |n: i32| 0.2 * (std::f64::consts::TAU * hz * f64::from(n) / RATE).sin() as f32;
            vec![(0..48_000).map(frame).collect()]
        };
        (program, vec![tone(400.0), tone(1_000.0)])
    }

    fn bus(id: BusId, effects: Vec<Effect>) -> Bus {
        Bus {
            id,
            name: "Row".into(),
            gain_db: 0.0,
            effects,
        }
    }

    fn rendered(program: &Program, audio: &[Vec<Vec<f32>>], events: &[Event]) -> Vec<f32> {
        let on = EventKind::NoteOn {
            key: 60,
            velocity: 127,
        };
        let first = Event { frame: 0, kind: on };
        let all: Vec<Event> = events.iter().copied().chain([first]).collect();
        render_offline(program, audio.to_vec(), RATE, &all, 40_000).0
    }

    /// How much of a tone there is, in dB.
    fn tone_db(of: &[f32], hz: f64) -> f64 {
        let (re, im) = of.iter().enumerate().fold((0.0, 0.0), |(re, im), (n, x)| {
            let w = std::f64::consts::TAU * hz * n as f64 / RATE;
            (re + f64::from(*x) * w.cos(), im + f64::from(*x) * w.sin())
        });
        20.0 * (2.0 * (re * re + im * im).sqrt() / of.len() as f64)
            .max(1e-9)
            .log10()
    }

    #[test]
    fn a_row_is_heard_on_its_strand_alone_and_one_of_the_whole_on_all() {
        let (mut program, audio) = program();
        let plain = rendered(&program, &audio, &[]);
        // Nothing in a row, or nothing that is on: to the last bit what it was.
        let mut quiet = Effect::new(EffectId(1), EffectKind::Equaliser);
        quiet.settings[0] = -12.0;
        quiet.settings[1] = 2_000.0;
        quiet.on = false;
        program.buses = vec![bus(BusId::of_strand(StrandId(0)), vec![quiet.clone()])];
        let off = rendered(&program, &audio, &[]);
        assert!(plain.iter().zip(&off).all(|(a, b)| (a - b).abs() < 1e-6));
        quiet.on = true;
        program.buses = vec![bus(BusId::of_strand(StrandId(0)), vec![quiet.clone()])];
        let one = rendered(&program, &audio, &[]);
        let part = 12_000..36_000;
        let change = |of: &[f32], hz: f64| tone_db(&of[part.clone()], hz) - tone_db(&plain[part.clone()], hz);
        assert!(change(&one, 400.0) < -11.0 && change(&one, 1_000.0).abs() < 0.01);
        program.buses = vec![bus(BusId::WHOLE, vec![quiet])];
        let whole = rendered(&program, &audio, &[]);
        assert!(change(&whole, 400.0) < -11.0 && change(&whole, 1_000.0) < -9.0);
    }

    #[test]
    fn what_is_sent_comes_beside_what_is_heard() {
        let (mut program, audio) = program();
        let plain = rendered(&program, &audio, &[]);
        let mut echo = Effect::new(EffectId(1), EffectKind::Delay);
        echo.settings = vec![500.0, 0.0, 0.0, 0.0, 20_000.0, 100.0];
        program.buses = vec![bus(BusId(2), vec![echo])];
        program.strands[1].sends = vec![Send {
            bus: BusId(2),
            gain_db: -6.0206,
        }];
        let sent = rendered(&program, &audio, &[]);
        assert!(
            plain[..23_900]
                .iter()
                .zip(&sent)
                .all(|(a, b)| (a - b).abs() < 1e-6)
        );
        // A whole number of rounds later the echo adds a half of the one tone, and none of the other.
        let part = 26_400..36_000;
        let change = |hz: f64| tone_db(&sent[part.clone()], hz) - tone_db(&plain[part.clone()], hz);
        assert!((change(1_000.0) - 3.52).abs() < 0.1, "{}", change(1_000.0));
        assert!(change(400.0).abs() < 0.05, "{}", change(400.0));
    }

    /// One control brings a strand in while the other goes out, and moves an effect's setting by octaves.
    #[test]
    fn a_control_drives_levels_of_strands_and_settings() {
        let (mut program, audio) = program();
        let plain = rendered(&program, &audio, &[]);
        program.controls = vec![Control {
            id: ControlId(1),
            name: "Balance".into(),
            at_first: 0.0,
            controller: Some(20),
        }];
        program.curves = vec![Curve {
            id: CurveId(1),
            points: vec![
                CurvePoint { at: 0.0, value: 1.0 },
                CurvePoint { at: 1.0, value: 0.0 },
            ],
        }];
        let route = |n, to, curve, amount| Route {
            id: RouteId(n),
            from: Source::Control(ControlId(1)),
            times: None,
            curve,
            to,
            amount,
        };
        program.routes = vec![
            route(1, ParamId::StrandLevel(StrandId(0)), None, -96.0),
            route(2, ParamId::StrandLevel(StrandId(1)), Some(CurveId(1)), -96.0),
        ];
        let at = |value: u8| {
            let kind = EventKind::Controller {
                controller: 20,
                value,
            };
            rendered(&program, &audio, &[Event { frame: 0, kind }])
        };
        let part = 12_000..36_000;
        let db = |of: &[f32], hz: f64| tone_db(&of[part.clone()], hz) - tone_db(&plain[part.clone()], hz);
        let (low, high) = (at(0), at(127));
        assert!(db(&low, 400.0).abs() < 0.01 && db(&low, 1_000.0) < -90.0);
        assert!(db(&high, 1_000.0).abs() < 0.01 && db(&high, 400.0) < -90.0);
        let mut dark = Effect::new(EffectId(7), EffectKind::Equaliser);
        dark.settings[2] = -12.0;
        dark.settings[3] = 400.0;
        dark.settings[4] = 4.0;
        program.buses = vec![bus(BusId::WHOLE, vec![dark])];
        let octaves = (1_000.0f64 / 400.0).log2();
        program.routes = vec![route(1, ParamId::Effect(EffectId(7), 3), None, octaves)];
        let at = |value: u8| {
            let kind = EventKind::Controller {
                controller: 20,
                value,
            };
            rendered(&program, &audio, &[Event { frame: 0, kind }])
        };
        let (low, high) = (at(0), at(127));
        assert!((db(&low, 400.0) + 12.0).abs() < 0.1 && db(&low, 1_000.0) > -1.5);
        assert!((db(&high, 1_000.0) + 12.0).abs() < 0.1 && db(&high, 400.0) > -1.5);
    }

    /// A program that says the same keeps an echo that is under way, and running takes no memory.
    #[test]
    fn tails_live_on_over_an_edit() {
        let (mut program, audio) = program();
        let mut echo = Effect::new(EffectId(1), EffectKind::Delay);
        echo.settings[5] = 100.0;
        program.buses = vec![bus(BusId::WHOLE, vec![echo])];
        let mut engine = Engine::new(RATE, 16);
        engine.load(program.clone());
        for (sample, channels) in program.samples.iter().zip(&audio) {
            engine.set_audio(sample.id, channels);
        }
        engine.note_on(60, 100);
        let (mut left, mut right) = ([0.0; 128], [0.0; 128]);
        for _ in 0..40 {
            engine.render(&mut left, &mut right);
        }
        engine.all_sounds_off();
        program.name = "Edited".into();
        engine.update(program);
        let mut loudest = 0.0f32;
        let taken = allocation_counter::measure(|| {
            for _ in 0..150 {
                engine.render(&mut left, &mut right);
                loudest = left.iter().fold(loudest, |most, x| most.max(x.abs()));
            }
        });
        assert_eq!(taken.count_total, 0);
        assert!(loudest > 0.1, "{loudest}");
    }
}
