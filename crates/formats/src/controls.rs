//! Controls of a panel as files have them: as MIDI controllers, or standing where they stand at first.

use crate::{Format, clean_name};
use program::{
    Control, ControlId, ControllerAtFirst, CourseId, CourseTime, ParamId, Program, Route, Shape, ShapeId,
    Source, StrandId,
};
use std::collections::{BTreeMap, BTreeSet};

/// Controllers that nothing else means (MIDI 1.0, table of control changes: undefined), taken in this order for controls that have none of their own.
const FREE: [std::ops::RangeInclusive<u8>; 4] = [102..=119, 20..=31, 85..=87, 89..=90];

/// Whether a file can drive it while it is played: see [`crate::driven`].
fn is_played(to: ParamId) -> bool {
    matches!(
        to,
        ParamId::Level | ParamId::Place | ParamId::Pitch | ParamId::Cutoff | ParamId::Resonance
    )
}

/// A program as a file has its controls.
#[derive(Debug)]
pub(crate) struct ByControllers {
    /// Nothing of it is driven by a control, and no level of a whole strand is.
    pub(crate) program: Program,
    /// Strands of which something stands where its controls stand at first.
    pub(crate) still: BTreeSet<StrandId>,
}

impl ByControllers {
    /// Controls that drive something become controllers of their own number or of a free one; levels of strands are driven in their shapes. What a file
    /// cannot drive stands where the control stands at first; in a SoundFont, which does not say where controllers do, all that is not at its least.
    pub(crate) fn of(program: &Program, format: Format) -> Self {
        let mut lowering = Self {
            program: program.clone(),
            still: BTreeSet::new(),
        };
        lowering.levels_into_shapes();
        let numbers = numbers_of(program);
        let at_first: BTreeMap<ControlId, f64> = (program.controls.iter())
            .map(|control| (control.id, control.at_first.clamp(0.0, 1.0)))
            .collect();
        let is_soundfont = format == Format::SoundFont2;
        for place in 0..lowering.program.shapes.len() {
            lowering.shape(place, (&numbers, &at_first), is_soundfont);
        }
        lowering.program.controls = (program.controls.iter())
            .filter(|_| !is_soundfont)
            .filter_map(|control| {
                Some(Control {
                    name: clean_name(&control.name),
                    at_first: step_of(control.at_first) / 127.0,
                    controller: Some(*numbers.get(&control.id)?),
                    ..control.clone()
                })
            })
            .collect();
        lowering
            .program
            .controls
            .sort_by_key(|control| control.controller);
        lowering
            .program
            .controls
            .dedup_by_key(|control| control.controller);
        for (n, control) in (0..).zip(&mut lowering.program.controls) {
            control.id = ControlId(n);
        }
        let controls = &lowering.program.controls;
        let is_control = |first: &ControllerAtFirst| {
            controls
                .iter()
                .any(|control| control.controller == Some(first.controller))
        };
        let mut others = program.controllers_at_first.clone();
        others.retain(|first| !is_soundfont && !is_control(first));
        for first in &mut others {
            first.value = step_of(first.value) / 127.0;
        }
        others.sort_by_key(|first| first.controller);
        others.dedup_by_key(|first| first.controller);
        lowering.program.controllers_at_first = others;
        lowering
    }

    /// A level of a strand is that of each of its sounds. One that is raised is set up by as much, since what drives a level only lowers it.
    fn levels_into_shapes(&mut self) {
        for route in std::mem::take(&mut self.program.routes) {
            let ParamId::StrandLevel(id) = route.to else {
                continue;
            };
            let level = Route {
                to: ParamId::Level,
                ..route
            };
            let shapes = self.shapes_alone(id);
            if let Some(strand) = self.program.strands.iter_mut().find(|strand| strand.id == id) {
                strand.gain_db += level.under_db();
            }
            for shape in (self.program.shapes.iter_mut()).filter(|shape| shapes.contains(&shape.id)) {
                shape.routes.push(level);
            }
        }
    }

    /// The shapes by which a strand plays, made such that no other does.
    fn shapes_alone(&mut self, id: StrandId) -> BTreeSet<ShapeId> {
        let Program {
            strands,
            regions,
            shapes,
            ..
        } = &mut self.program;
        let Some(of_strand) = strands.iter().find(|strand| strand.id == id).map(|s| s.shape) else {
            return BTreeSet::new();
        };
        let own = regions.iter().filter(|region| region.key.strand == id);
        let all: BTreeSet<ShapeId> = own.filter_map(|region| region.shape).chain([of_strand]).collect();
        let mut alone = BTreeSet::new();
        for shape in all {
            let of_others = strands.iter().any(|other| other.id != id && other.shape == shape)
                || (regions.iter()).any(|region| region.key.strand != id && region.shape == Some(shape));
            let known = shapes
                .iter()
                .find(|known| known.id == shape)
                .filter(|_| of_others);
            let Some(known) = known.cloned() else {
                alone.insert(shape);
                continue;
            };
            let fresh = ShapeId::of_part(id, shape.0);
            shapes.push(Shape { id: fresh, ..known });
            for strand in strands
                .iter_mut()
                .filter(|strand| strand.id == id && strand.shape == shape)
            {
                strand.shape = fresh;
            }
            for region in regions.iter_mut().filter(|region| region.key.strand == id) {
                region.shape = region.shape.map(|of| if of == shape { fresh } else { of });
            }
            alone.insert(fresh);
        }
        alone
    }

    fn shape(
        &mut self,
        place: usize,
        (numbers, at_first): (&BTreeMap<ControlId, u8>, &BTreeMap<ControlId, f64>),
        is_soundfont: bool,
    ) {
        let routes = std::mem::take(&mut self.program.shapes[place].routes);
        let mut kept = Vec::with_capacity(routes.len());
        for mut route in routes {
            if let Some(Source::Control(id)) = route.times {
                match numbers.get(&id) {
                    Some(number) => route.times = Some(Source::Controller(*number)),
                    None => continue,
                }
            }
            let Source::Control(id) = route.from else {
                kept.push(route);
                continue;
            };
            // One that is there no more drives nothing.
            let (Some(&number), Some(&first)) = (numbers.get(&id), at_first.get(&id)) else {
                continue;
            };
            // What its word chooses at first is there, and nothing else.
            if let (Some(from), Some(_)) = (route.times, route.curve) {
                let by = route.does(first, self.program.curve_of(&route));
                self.still.extend(self.strands_of(place));
                if by != 0.0 {
                    kept.push(Route {
                        from,
                        times: None,
                        curve: None,
                        amount: by,
                        ..route
                    });
                }
                continue;
            }
            let says_first = !is_soundfont || first == 0.0;
            if is_played(route.to) && says_first {
                route.from = Source::Controller(number);
                kept.push(route);
            } else if let Some(strands) = self.stand(place, &route, first) {
                self.still.extend(strands);
            }
        }
        self.program.shapes[place].routes = kept;
    }

    /// The strands that play by a shape.
    fn strands_of(&self, place: usize) -> BTreeSet<StrandId> {
        let regions = self.program.regions.iter();
        let by_it = regions.filter(|region| self.program.shape_of_region(region) == Some(place));
        by_it.map(|region| region.key.strand).collect()
    }

    /// Puts what a route drives where it stands at first; the strands concerned, `None` where nothing is.
    fn stand(&mut self, place: usize, route: &Route, first: f64) -> Option<BTreeSet<StrandId>> {
        let by = route.does(first, self.program.curve_of(route));
        let played: Vec<usize> = (self.program.regions.iter().enumerate())
            .filter(|(_, region)| self.program.shape_of_region(region) == Some(place))
            .map(|(n, _)| n)
            .collect();
        let shape = &mut self.program.shapes[place];
        match route.to {
            ParamId::Cutoff => shape.filter.as_mut()?.cutoff_hz *= (by / 1_200.0).exp2(),
            ParamId::Resonance => shape.filter.as_mut()?.resonance_db += by,
            ParamId::CourseTime(id, time) => *time_of(shape, id, time)? *= by.exp2(),
            _ => {}
        }
        let regions = &mut self.program.regions;
        for &n in &played {
            match route.to {
                ParamId::Level => regions[n].gain_db += by,
                ParamId::Place => regions[n].pan = (regions[n].pan + by).clamp(-1.0, 1.0),
                ParamId::Pitch => regions[n].tune_cents += by,
                _ => {}
            }
        }
        Some(played.iter().map(|&n| regions[n].key.strand).collect())
    }
}

fn time_of(shape: &mut Shape, id: CourseId, time: CourseTime) -> Option<&mut f64> {
    if id == CourseId::LOUDNESS {
        let of = &mut shape.loudness;
        return Some(match time {
            CourseTime::Delay => &mut of.delay_ms,
            CourseTime::Attack => &mut of.attack_ms,
            CourseTime::Hold => &mut of.hold_ms,
            CourseTime::Decay => &mut of.decay_ms,
            CourseTime::Release => &mut of.release_ms,
        });
    }
    let of = shape.courses.iter_mut().find(|course| course.id == id)?;
    Some(match time {
        CourseTime::Delay => &mut of.delay_ms,
        CourseTime::Attack => &mut of.attack_ms,
        CourseTime::Hold => &mut of.hold_ms,
        CourseTime::Decay => &mut of.decay_ms,
        CourseTime::Release => &mut of.release_ms,
    })
}

/// The step of a controller that is nearest to a share.
fn step_of(share: f64) -> f64 {
    (share.clamp(0.0, 1.0) * 127.0).round()
}

/// The controller of each control that has one of its own, and a free one for each other that drives something.
pub(crate) fn numbers_of(program: &Program) -> BTreeMap<ControlId, u8> {
    let mut used: BTreeSet<u8> = (program.controls.iter())
        .filter_map(|control| control.controller)
        .collect();
    let mut drive: BTreeSet<ControlId> = BTreeSet::new();
    let sources = (program.shapes.iter().flat_map(|shape| &shape.routes))
        .chain(&program.routes)
        .flat_map(|route| [Some(route.from), route.times])
        .flatten();
    let of_regions = program
        .regions
        .iter()
        .flat_map(|region| program.sources_of(region));
    for source in sources.chain(of_regions.map(|within| within.source)) {
        match source {
            Source::Controller(number) => drop(used.insert(number)),
            Source::Control(id) => drop(drive.insert(id)),
            _ => {}
        }
    }
    let mut free = FREE.into_iter().flatten().filter(|number| !used.contains(number));
    let mut numbers = BTreeMap::new();
    for control in &program.controls {
        let number = match control.controller {
            None if drive.contains(&control.id) => free.next(),
            own => own,
        };
        if let Some(number) = number {
            numbers.insert(control.id, number);
        }
    }
    numbers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lower;
    use program::{
        Curve, CurveId, CurvePoint, Filter, Passes, Region, RegionKey, RegionOf, RouteId, Sample, SampleId,
        Strand,
    };

    /// A strand with a filter, and a control that stands in its middle and drives several things.
    fn program() -> Program {
        let sample = Sample {
            id: SampleId(1),
            name: "a".into(),
            source: "a".into(),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 1_000,
        };
        let mut program = Program::plain("Organ", vec![sample], vec![Region::whole(0, 60, 1_000)]);
        program.controls = vec![
            Control {
                id: ControlId(9),
                name: "Brightness".into(),
                at_first: 0.5,
                controller: Some(74),
            },
            Control {
                id: ControlId(4),
                name: "Balance".into(),
                at_first: 0.0,
                controller: None,
            },
        ];
        let route = |n, control, to, amount, curve| Route {
            id: RouteId(n),
            from: Source::Control(ControlId(control)),
            times: None,
            curve,
            to,
            amount,
        };
        program.curves = vec![Curve {
            id: CurveId(1),
            points: [(0.0, 0.0), (0.5, 0.25), (1.0, 1.0)]
                .map(|(at, value)| CurvePoint { at, value })
                .to_vec(),
        }];
        program.shapes[0].filter = Some(Filter {
            passes: Passes::Low,
            poles: 2,
            cutoff_hz: 1_000.0,
            key_follow: 0.0,
            resonance_db: 0.0,
            makes_up: false,
        });
        program.shapes[0].loudness.attack_ms = 10.0;
        program.shapes[0].routes = vec![
            route(1, 9, ParamId::Cutoff, 2_400.0, Some(CurveId(1))),
            route(
                2,
                9,
                ParamId::CourseTime(CourseId::LOUDNESS, CourseTime::Attack),
                4.0,
                None,
            ),
        ];
        program.routes = vec![route(3, 4, ParamId::StrandLevel(StrandId(0)), -96.0, None)];
        program
    }

    #[test]
    fn controls_become_controllers_and_levels_of_strands_those_of_their_sounds() {
        let by = ByControllers::of(&program(), Format::Sfz);
        let of = |to: ParamId| {
            by.program.shapes[0]
                .routes
                .iter()
                .find(move |route| route.to == to)
        };
        let cutoff = of(ParamId::Cutoff).unwrap();
        assert_eq!(
            (cutoff.from, cutoff.curve),
            (Source::Controller(74), Some(CurveId(1)))
        );
        let level = of(ParamId::Level).unwrap();
        assert_eq!((level.from, level.amount), (Source::Controller(102), -96.0));
        assert!(by.program.routes.is_empty());
        let named: Vec<_> = (by.program.controls.iter())
            .map(|control| (control.name.as_str(), control.controller, control.at_first))
            .collect();
        assert_eq!(
            named,
            [
                ("Brightness", Some(74), 64.0 / 127.0),
                ("Balance", Some(102), 0.0)
            ]
        );
        // What it cannot drive stands where it does at first: two octaves up.
        assert_eq!(by.program.shapes[0].loudness.attack_ms, 40.0);
        assert_eq!(by.still, [StrandId(0)].into());
    }

    /// SoundFont 2.04 says nothing of where a controller stands: what would not stand at its least is where it is at first.
    #[test]
    fn in_a_soundfont_what_stands_elsewhere_at_first_stays_there() {
        let by = ByControllers::of(&program(), Format::SoundFont2);
        let shape = &by.program.shapes[0];
        // A quarter of two octaves, by the curve.
        let cutoff_hz = shape.filter.unwrap().cutoff_hz;
        assert!((cutoff_hz - 1_000.0 * 2f64.powf(0.5)).abs() < 1e-9);
        assert_eq!(shape.routes.len(), 1);
        assert_eq!(
            (shape.routes[0].from, shape.routes[0].to),
            (Source::Controller(102), ParamId::Level)
        );
        assert!(by.program.controls.is_empty());
    }

    /// A choice of three words, each a route of its own: no file can choose while it is played, and so what its first word chooses is what there is.
    #[test]
    fn what_a_word_chooses_at_first_is_there_and_nothing_else() {
        let mut program = program();
        program.controls[0].at_first = 0.5;
        let gate = |id, values: [f64; 3]| Curve {
            id: CurveId(id),
            points: [0.0, 0.5, 1.0]
                .into_iter()
                .zip(values)
                .map(|(at, value)| CurvePoint { at, value })
                .collect(),
        };
        program.curves = vec![gate(1, [1.0, 0.0, 0.0]), gate(2, [0.0, 1.0, 0.0])];
        let route = |n, times, amount| Route {
            id: RouteId(n),
            from: Source::Control(ControlId(9)),
            times: Some(times),
            curve: Some(CurveId(n)),
            to: ParamId::Pitch,
            amount,
        };
        program.routes.clear();
        program.shapes[0].routes = vec![
            route(1, Source::Controller(1), 20.0),
            route(2, Source::Pressure, 30.0),
        ];
        for format in [Format::Sfz, Format::SoundFont2] {
            let by = ByControllers::of(&program, format);
            let routes = &by.program.shapes[0].routes;
            assert_eq!(routes.len(), 1);
            assert_eq!((routes[0].from, routes[0].times), (Source::Pressure, None));
            assert_eq!((routes[0].curve, routes[0].amount), (None, 30.0));
            assert_eq!(by.still, [StrandId(0)].into());
        }
    }

    /// However many shapes a strand plays by, and whosever they are too, its level is driven once, and that of no other is.
    #[test]
    fn a_level_that_stands_is_counted_once_for_each_sound_of_its_strand() {
        let mut program = program();
        program.controls[1].at_first = 0.5;
        program.strands.push(Strand::new(StrandId(1), "Back", ShapeId(0)));
        program.shapes.push(Shape {
            id: ShapeId(7),
            ..Shape::default()
        });
        let of = |strand: u64, shape: Option<ShapeId>| Region {
            key: RegionKey {
                strand: StrandId(strand),
                of: RegionOf::Own(strand + 1),
            },
            shape,
            ..Region::whole(0, 60, 1_000)
        };
        program
            .regions
            .extend([of(0, Some(ShapeId(7))), of(1, None), of(1, Some(ShapeId(7)))]);
        let heard = |by: &ByControllers| -> Vec<f64> {
            let gain = |region: &Region| {
                region.gain_db + by.program.strand_of(region).map_or(0.0, |strand| strand.gain_db)
            };
            by.program.regions.iter().map(gain).collect()
        };
        let by = ByControllers::of(&program, Format::SoundFont2);
        assert_eq!(heard(&by), [-48.0, -48.0, 0.0, 0.0]);
        // Raised while it is moved, it is set up by as much, and lowered from there.
        program.routes[0].amount = 12.0;
        let by = ByControllers::of(&program, Format::Sfz);
        assert_eq!(heard(&by), [12.0, 12.0, 0.0, 0.0]);
        let level = by
            .program
            .shape_of_region(&by.program.regions[1])
            .map(|n| &by.program.shapes[n]);
        let route = level.and_then(|shape| shape.routes.iter().find(|route| route.to == ParamId::Level));
        assert_eq!(route.map(|route| route.does(0.5, None)), Some(-6.0));
    }

    #[test]
    fn an_sfz_says_them_with_their_names_and_gives_them_back() {
        let lowered = lower(&program(), Format::Sfz);
        let text = crate::write_sfz(&lowered.program);
        for said in [
            "label_cc74=Brightness",
            "set_cc74=64",
            "label_cc102=Balance",
            "set_cc102=0",
        ] {
            assert!(text.contains(said), "{said}: {text}");
        }
        let still = "SFZ does not drive what these controls drive: it stays where it stands at first.";
        let lost: Vec<_> = lowered.losses.iter().map(|loss| loss.what.as_str()).collect();
        assert_eq!(lost, [still]);
    }
}
