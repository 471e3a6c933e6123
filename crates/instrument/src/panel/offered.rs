//! A first panel, from what an instrument has: nothing sounds otherwise while nobody moves it.

use super::{PartBox, PartKind, ShownAs};
use crate::{Fact, FilterForm, RouteSaid, Said, Target, Wish};
use program::{
    BusId, CourseId, CourseTime, CurvePoint, EffectKind, On, ParamId, Passes, Program, ROUTES_OF_WHOLE,
    Shape, ShapeId, Source, Strand,
};
use serde::Serialize;

/// Names of what is offered begin here: those of what a file brought lie below.
const FIRST: u64 = 1_000;
const PAGE: u64 = FIRST;
/// An effect of the whole that a room is offered with.
const ROOM: u64 = FIRST;
/// An attack that is shorter cannot be made longer by octaves: 2 ms is heard as none (common practice).
const LEAST_ATTACK_MS: f64 = 2.0;
/// Where a filter that is put there for its control is at first: it takes nothing that is heard.
const OPEN_HZ: f64 = 20_000.0;
/// Part of a fader's way, and what it lowers by, of the most: dB are spread so that the upper half is the finer (our own choice).
const FADER: [(f64, f64); 5] = [(0.0, 0.0), (0.25, 0.04), (0.5, 0.12), (0.75, 0.3), (1.0, 1.0)];
const SILENT_DB: f64 = -96.0;

struct Offering<'a> {
    program: &'a Program,
    wishes: Vec<Wish>,
    parts: u64,
}

/// What has to be said for a panel that is made of what there is; nothing where nothing sounds.
pub fn offered_panel(program: &Program) -> Vec<Wish> {
    let mut offering = Offering {
        program,
        wishes: Vec::new(),
        parts: 0,
    };
    let strands: Vec<&Strand> = program.strands.iter().filter(|strand| !strand.muted).collect();
    let by_keys = |strand: &&Strand| matches!(strand.on, On::KeyDown(_));
    let down: Vec<&Strand> = strands.iter().copied().filter(by_keys).collect();
    if strands.is_empty() {
        return Vec::new();
    }
    offering.say(Target::Page(PAGE), Fact::PageName, "Main");
    match down[..] {
        [first, second] => offering.balance(first, second),
        [_, _, _, ..] => down.iter().for_each(|strand| offering.level(strand)),
        _ => {}
    }
    offering.brightness(&down);
    offering.attack(&down);
    offering.release(&down);
    for strand in strands
        .iter()
        .filter(|strand| matches!(strand.on, On::KeyUp { .. }))
    {
        offering.level(strand);
    }
    offering.room();
    offering.part(PartKind::Meter, "Level", 0.0);
    offering.wishes
}

fn fader(from: f64, to: f64, falls: bool) -> Vec<CurvePoint> {
    let mut points: Vec<CurvePoint> = FADER
        .iter()
        .map(|(share, lowers)| CurvePoint {
            at: if falls {
                from + (to - from) * share
            } else {
                to - (to - from) * share
            },
            value: *lowers,
        })
        .collect();
    points.sort_by(|a, b| a.at.total_cmp(&b.at));
    points
}

impl Offering<'_> {
    fn say(&mut self, target: Target, fact: Fact, value: impl Serialize) {
        if let Ok(value) = serde_json::to_value(value) {
            self.wishes.push(Wish::from((target, fact, Said::Value(value))));
        }
    }

    fn shape_of(&self, strand: &Strand) -> Shape {
        self.program.shape_of(strand).cloned().unwrap_or_default()
    }

    /// A part behind those that there are, three in a line; its name for good.
    fn part(&mut self, kind: PartKind, name: &str, at_first: f64) -> u64 {
        let (wide, high) = kind.size();
        let nth = self.parts as u16;
        let id = FIRST + self.parts;
        let target = Target::Part(id);
        self.say(target, Fact::PartKind, kind);
        self.say(target, Fact::PartName, name);
        self.say(target, Fact::PartPage, PAGE);
        self.say(target, Fact::PartOrder, self.parts);
        let place = PartBox {
            x: 1 + (nth % 3) * 12,
            y: 1 + (nth / 3) * 4,
            wide,
            high,
        };
        self.say(target, Fact::PartPlace, place);
        if kind.has_value() {
            self.say(target, Fact::PartAtFirst, at_first);
        }
        self.parts += 1;
        id
    }

    fn drive(&mut self, control: u64, shape: ShapeId, (to, amount): (ParamId, f64), curve: Vec<CurvePoint>) {
        let number = 1_000_000 + self.wishes.len() as u64;
        let route = RouteSaid {
            from: Source::Control(program::ControlId(control)),
            times: None,
            curve,
            to,
            amount,
        };
        self.say(Target::Route(shape, number), Fact::Route, route);
    }

    /// In the middle both are as they are; towards an end the other leaves.
    fn balance(&mut self, first: &Strand, second: &Strand) {
        let id = self.part(PartKind::Slider, "Balance", 0.5);
        let leaves = |falls: bool| {
            let mut points = if falls {
                fader(0.5, 1.0, true)
            } else {
                fader(0.0, 0.5, false)
            };
            points.insert(
                if falls { 0 } else { points.len() },
                CurvePoint {
                    at: if falls { 0.0 } else { 1.0 },
                    value: 0.0,
                },
            );
            points
        };
        for (strand, falls) in [(first, true), (second, false)] {
            let to = (ParamId::StrandLevel(strand.id), SILENT_DB);
            self.drive(id, ROUTES_OF_WHOLE, to, leaves(falls));
        }
    }

    /// As it is at its most.
    fn level(&mut self, strand: &Strand) {
        let id = self.part(PartKind::Slider, &strand.name, 1.0);
        self.say(Target::Part(id), Fact::PartShownAs, ShownAs::Driven);
        let to = (ParamId::StrandLevel(strand.id), SILENT_DB);
        self.drive(id, ROUTES_OF_WHOLE, to, fader(0.0, 1.0, false));
    }

    /// Two octaves of cutoff either way; where there is no filter yet, an open one that closes by five.
    fn brightness(&mut self, strands: &[&Strand]) {
        if strands.is_empty() {
            return;
        }
        let shapes: Vec<Shape> = strands.iter().map(|strand| self.shape_of(strand)).collect();
        let passes_low = |shape: &Shape| shape.filter.is_some_and(|filter| filter.passes == Passes::Low);
        let have = shapes.iter().filter(|shape| passes_low(shape)).count();
        let id = self.part(
            PartKind::Slider,
            "Brightness",
            if have == strands.len() { 0.5 } else { 1.0 },
        );
        self.say(Target::Part(id), Fact::PartShownAs, ShownAs::Driven);
        let line = |from: f64, to: f64| {
            [(0.0, from), (1.0, to)]
                .map(|(at, value)| CurvePoint { at, value })
                .to_vec()
        };
        for (strand, shape) in strands.iter().zip(&shapes) {
            let target = Target::Strand(strand.id);
            if shape.filter.is_none() {
                let form = FilterForm {
                    passes: Passes::Low,
                    poles: 2,
                };
                self.say(target, Fact::FilterForm, form);
                self.say(target, Fact::FilterCutoffHz, OPEN_HZ);
            }
            let (amount, curve) = if have == strands.len() {
                (2_400.0, line(-1.0, 1.0))
            } else {
                (6_000.0, line(-1.0, 0.0))
            };
            let own = ShapeId::of_strand(strand.id);
            self.drive(id, own, (ParamId::Cutoff, amount), curve);
        }
    }

    fn attack(&mut self, strands: &[&Strand]) {
        if strands.is_empty() {
            return;
        }
        let id = self.part(PartKind::Slider, "Attack", 0.0);
        self.say(Target::Part(id), Fact::PartShownAs, ShownAs::Driven);
        for strand in strands {
            if self.shape_of(strand).loudness.attack_ms < LEAST_ATTACK_MS {
                self.say(Target::Strand(strand.id), Fact::ShapeAttackMs, LEAST_ATTACK_MS);
            }
            let to = ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Attack);
            self.drive(id, ShapeId::of_strand(strand.id), (to, 8.0), Vec::new());
        }
    }

    /// From an eighth to eight times as long.
    fn release(&mut self, strands: &[&Strand]) {
        if strands.is_empty() {
            return;
        }
        let id = self.part(PartKind::Slider, "Release", 0.5);
        self.say(Target::Part(id), Fact::PartShownAs, ShownAs::Driven);
        let curve = [(0.0, -1.0), (1.0, 1.0)].map(|(at, value)| CurvePoint { at, value });
        for strand in strands {
            let to = ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Release);
            self.drive(id, ShapeId::of_strand(strand.id), (to, 3.0), curve.to_vec());
        }
    }

    /// A reverb on the whole, not heard at first: or how much there is of the one that is there.
    fn room(&mut self) {
        let mix_of = |kind: EffectKind| kind.settings().iter().position(|row| row.name == "Mix");
        let Some(mix) = mix_of(EffectKind::Reverb) else {
            return;
        };
        let buses = self.program.buses.iter().filter(|bus| bus.id == BusId::WHOLE);
        let there = buses
            .flat_map(|bus| &bus.effects)
            .find(|effect| effect.on && effect.kind == EffectKind::Reverb);
        let most = 50.0;
        let (effect, first) = match there {
            Some(effect) => (effect.id.0, effect.settings[mix].min(most) / most),
            None => (ROOM, 0.0),
        };
        let target = Target::Effect(BusId::WHOLE, effect);
        if there.is_none() {
            self.say(target, Fact::EffectKind, EffectKind::Reverb);
        }
        let fact = crate::effect_settings::EFFECT_SETTINGS[mix];
        self.say(target, fact, 0.0);
        let id = self.part(PartKind::Slider, "Room", first);
        self.say(Target::Part(id), Fact::PartShownAs, ShownAs::Driven);
        let to = ParamId::Effect(program::EffectId(effect), mix as u16);
        self.drive(id, ROUTES_OF_WHOLE, (to, most), Vec::new());
    }
}
