//! What of filters, courses, slow movements and routes a format holds: each shape as the format will have it, and what that loses.

use crate::Format;
use program::{
    Course, CourseId, CourseTime, Curve, CurveId, CurvePoint, Filter, Movement, MovementId, ParamId, Passes,
    Program, Rate, Route, RouteId, Shape, Source, Wave,
};

/// Tempo at which movements are written that go by beats: no file says another.
const TEMPO: f64 = 120.0;
/// Controllers that a SoundFont's modulators may not take (2.04, section 8.2.1): banks, data entry, LSBs, parameters, modes.
const NO_SOURCES: [u8; 7] = [0, 6, 38, 98, 99, 100, 101];
const LSBS: std::ops::RangeInclusive<u8> = 32..=63;

/// The course beside loudness that a SoundFont has; 0 is that of loudness itself.
const KEPT_COURSE: CourseId = CourseId(1);

/// What both formats can drive, in the order in which it is written.
const DRIVEN: [ParamId; 5] = [
    ParamId::Level,
    ParamId::Place,
    ParamId::Pitch,
    ParamId::Cutoff,
    ParamId::Resonance,
];

/// A shape as a format has it, and its curves.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Driving {
    pub(crate) filter: Option<Filter>,
    pub(crate) courses: Vec<Course>,
    pub(crate) movements: Vec<Movement>,
    pub(crate) routes: Vec<Route>,
    pub(crate) curves: Vec<Curve>,
}

/// What a format loses of a shape.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Lost {
    /// The filter is another, or gone.
    pub(crate) filter: bool,
    /// What it takes away is not made up.
    pub(crate) makes_up: bool,
    /// Routes are left out.
    pub(crate) routes: bool,
    /// A curve is straight.
    pub(crate) curves: bool,
    /// A course is left out, or its bends are.
    pub(crate) courses: bool,
    /// A movement is left out.
    pub(crate) movements: bool,
    /// Parts of loudness are straight.
    pub(crate) bends: bool,
    /// A movement goes otherwise: its wave, beginning, tempo, or that it is shared or ends.
    pub(crate) waves: bool,
}

/// A shape as a format has it. Numbers of parts count from 0 in the file's order.
pub(crate) fn lower_driving(program: &Program, shape: &Shape, format: Format) -> (Driving, Lost) {
    let mut lowering = Lowering {
        program,
        shape,
        soundfont: format == Format::SoundFont2,
        out: Driving::default(),
        lost: Lost {
            bends: shape.loudness.bends != [0.0; 3],
            ..Lost::default()
        },
    };
    lowering.filter();
    for route in &shape.routes {
        lowering.route(route);
    }
    lowering.times_by_key();
    lowering.sort();
    (lowering.out, lowering.lost)
}

/// An amount in the digits that are written.
fn written_amount(route: &Route) -> f64 {
    match route.to {
        ParamId::Place => (route.amount * 100.0).round() / 100.0,
        _ => tenths(route.amount),
    }
}

struct Lowering<'a> {
    program: &'a Program,
    shape: &'a Shape,
    soundfont: bool,
    out: Driving,
    lost: Lost,
}

impl Lowering<'_> {
    fn filter(&mut self) {
        let Some(filter) = self.shape.filter else {
            return;
        };
        self.lost.makes_up = filter.makes_up;
        let poles = match (self.soundfont, filter.passes) {
            (true, Passes::Low) | (false, Passes::Band | Passes::Notch) => 2,
            (true, _) => {
                self.lost.filter = true;
                return;
            }
            (false, _) => filter.poles,
        };
        self.lost.filter = poles != filter.poles;
        // A route from the key is a cutoff that follows it.
        let by_key: f64 = (self.shape.routes.iter())
            .filter(|route| is_key_to_cutoff(route))
            .map(|route| route.amount)
            .sum();
        let cutoff_hz = filter.cutoff_hz * 2f64.powf(by_key * 60.0 / 127.0 / 1200.0);
        self.out.filter = Some(Filter {
            poles,
            makes_up: false,
            cutoff_hz: thousandths(cutoff_hz.clamp(20.0, 20_000.0)),
            key_follow: ((filter.key_follow + by_key / 127.0 / 100.0) * 100.0).round() / 100.0,
            resonance_db: tenths(filter.resonance_db.clamp(0.0, 40.0)),
            ..filter
        });
    }

    /// Whether there is something that it could drive.
    fn has(&self, to: ParamId) -> bool {
        match to {
            ParamId::Cutoff | ParamId::Resonance => self.out.filter.is_some(),
            to => DRIVEN.contains(&to),
        }
    }

    fn route(&mut self, route: &Route) {
        if written_amount(route) == 0.0 || (self.soundfont && is_key_to_time(route)) {
            return;
        }
        if !self.has(route.to) {
            // What has lost its filter, or has none, is not told so again.
            self.lost.routes |= !matches!(route.to, ParamId::Cutoff | ParamId::Resonance);
            return;
        }
        if is_key_to_cutoff(route) {
            return;
        }
        // What drives its amount, or is driven by nothing that a file knows, is left out with it.
        let is_driven = (self.shape.routes.iter()).any(|other| other.to == ParamId::RouteAmount(route.id));
        self.lost.routes |= is_driven;
        match route.from {
            Source::Course(id) => self.course(id, route),
            Source::Movement(id) => self.movement(id, route),
            _ => self.hand(route),
        }
    }

    /// In whole cents a key, of loudness and of the course that is kept.
    fn times_by_key(&mut self) {
        if !self.soundfont {
            return;
        }
        let of_courses = (self.shape.routes.iter()).find_map(|route| match (route.from, route.to) {
            (Source::Course(id), ParamId::Cutoff | ParamId::Pitch) => Some(id),
            _ => None,
        });
        for (from, id) in [
            (Some(CourseId::LOUDNESS), CourseId::LOUDNESS),
            (of_courses.filter(|_| !self.out.courses.is_empty()), KEPT_COURSE),
        ] {
            let Some(from) = from else { continue };
            for time in [CourseTime::Hold, CourseTime::Decay] {
                let cents = cents_a_key(self.shape, from, time).round();
                if cents != 0.0 {
                    self.out.routes.push(Route {
                        id: RouteId(0),
                        from: Source::Key,
                        times: None,
                        curve: None,
                        to: ParamId::CourseTime(id, time),
                        amount: -cents * 127.0 / 1_200.0,
                    });
                }
            }
        }
    }

    fn is_hand(&self, source: Source) -> bool {
        match source {
            Source::Controller(n) if self.soundfont => {
                n < 120 && !NO_SOURCES.contains(&n) && !LSBS.contains(&n)
            }
            Source::KeyUpSpeed => !self.soundfont,
            Source::Controller(_)
            | Source::Strike
            | Source::Pressure
            | Source::KeyPressure
            | Source::Bend
            | Source::Key => true,
            Source::Control(_) | Source::Random(_) | Source::Movement(_) | Source::Course(_) => false,
        }
    }

    fn is_written(&self, from: Source, to: ParamId) -> bool {
        (self.out.routes.iter()).any(|other| (other.from, other.to) == (from, to))
    }

    fn hand(&mut self, route: &Route) {
        let by_chance = matches!(route.from, Source::Random(_));
        let from = if by_chance { Source::Random(0) } else { route.from };
        // Panning a side of two is another thing in a SoundFont.
        let place_holds = !(self.soundfont && route.to == ParamId::Place);
        let random_holds = !self.soundfont && route.to != ParamId::Resonance;
        let times_holds = route.times.is_none_or(|by| self.soundfont && self.is_hand(by));
        let holds = if by_chance {
            random_holds
        } else {
            self.is_hand(from)
        };
        if !holds || !place_holds || !times_holds || self.is_written(from, route.to) {
            self.lost.routes = true;
            return;
        }
        let points = route.curve.and_then(|id| curve_points(self.program, id));
        let curve = points.filter(|_| !self.soundfont && !by_chance);
        self.lost.curves |= route.curve.is_some() && curve.is_none();
        let curve = curve.map(|points| {
            let id = CurveId(u64::MAX - self.out.curves.len() as u64);
            self.out.curves.push(Curve { id, points });
            id
        });
        // Chance goes as far up as down: its amount has no sign, and formats know none.
        let amount = if by_chance {
            route.amount.abs()
        } else {
            route.amount
        };
        self.push(Route {
            from,
            curve,
            amount,
            ..*route
        });
    }

    fn course(&mut self, id: CourseId, route: &Route) {
        let Some(course) = self.shape.courses.iter().find(|course| course.id == id) else {
            return;
        };
        let fits = matches!(route.to, ParamId::Cutoff | ParamId::Pitch) && route.times.is_none();
        // SFZ has one for each of the two, a SoundFont one for both.
        let place = if self.soundfont {
            KEPT_COURSE
        } else {
            CourseId(u64::from(route.to == ParamId::Pitch))
        };
        let there = self.out.courses.iter().find(|other| other.id == place);
        let lowered = lowered_course(course, place);
        let is_free = there.is_none_or(|other| self.soundfont && *other == lowered)
            && !self.is_written(Source::Course(place), route.to);
        if !fits || !is_free {
            self.lost.courses = true;
            return;
        }
        self.lost.courses |= course.bends != [0.0; 3] || route.curve.is_some();
        if there.is_none() {
            self.out.courses.push(lowered);
        }
        self.push(Route {
            from: Source::Course(place),
            curve: None,
            ..*route
        });
    }

    fn movement(&mut self, id: MovementId, route: &Route) {
        let Some(movement) = self.shape.movements.iter().find(|movement| movement.id == id) else {
            return;
        };
        let times_holds = route.times.is_none_or(|by| self.is_hand(by));
        let to_holds = !self.soundfont || !matches!(route.to, ParamId::Place | ParamId::Resonance);
        let there = self.out.movements.iter().any(|other| other.id == id);
        // A SoundFont has one for pitch, and one for pitch, cutoff and level.
        let room = if self.soundfont { 2 } else { usize::MAX };
        let has_room = there || self.out.movements.len() < room;
        if !times_holds || !to_holds || !has_room || self.is_written(route.from, route.to) {
            self.lost.movements = true;
            return;
        }
        let is_driven = |to: ParamId| self.shape.routes.iter().any(|other| other.to == to);
        self.lost.routes |= is_driven(ParamId::MovementRate(id)) || is_driven(ParamId::MovementDepth(id));
        self.lost.curves |= route.curve.is_some();
        if !there {
            let lowered = self.lowered_movement(movement);
            self.lost.waves |= Movement {
                per_voice: movement.per_voice,
                ..lowered
            } != *movement
                || !movement.per_voice;
            self.out.movements.push(lowered);
        }
        self.push(Route {
            curve: None,
            ..*route
        });
    }

    fn lowered_movement(&self, movement: &Movement) -> Movement {
        let whole = |ms: f64| ms.round().clamp(0.0, 20_000.0);
        let plain = Movement {
            rate: Rate::Hz(thousandths(movement.rate.hz(TEMPO))),
            delay_ms: whole(movement.delay_ms),
            per_voice: true,
            once: false,
            ..*movement
        };
        if self.soundfont {
            Movement {
                wave: Wave::Triangle,
                phase: 0.0,
                fade_in_ms: 0.0,
                ..plain
            }
        } else {
            let wave = if movement.wave == Wave::Smooth {
                Wave::Sine
            } else {
                movement.wave
            };
            Movement {
                wave,
                phase: thousandths(movement.phase),
                fade_in_ms: whole(movement.fade_in_ms),
                ..plain
            }
        }
    }

    fn push(&mut self, route: Route) {
        self.out.routes.push(Route {
            amount: written_amount(&route),
            ..route
        });
    }

    /// The file's order, and the numbers that follow from it.
    fn sort(&mut self) {
        // A movement that drives nothing is not written, and of a SoundFont's two the second one may drive more than pitch.
        let routes = &self.out.routes;
        let only_pitch = |id: MovementId| {
            (routes.iter().filter(|route| route.from == Source::Movement(id)))
                .all(|route| route.to == ParamId::Pitch)
        };
        if self.soundfont {
            let both_more = self.out.movements.len() == 2
                && !self.out.movements.iter().any(|movement| only_pitch(movement.id));
            if both_more && let Some(gone) = self.out.movements.pop() {
                self.lost.movements = true;
                self.out
                    .routes
                    .retain(|route| route.from != Source::Movement(gone.id));
            }
        }
        number(&mut self.out);
    }
}

/// Parts are numbered in the order in which a file has them.
pub(crate) fn number(driving: &mut Driving) {
    let Driving {
        courses,
        movements,
        routes,
        curves,
        ..
    } = driving;
    courses.sort_by_key(|course| course.id);
    let before: Vec<MovementId> = movements.iter().map(|movement| movement.id).collect();
    for (n, movement) in (0..).zip(movements.iter_mut()) {
        movement.id = MovementId(n);
    }
    for route in routes.iter_mut() {
        if let Source::Movement(id) = route.from
            && let Some(place) = before.iter().position(|other| *other == id)
        {
            route.from = Source::Movement(MovementId(place as u64));
        }
    }
    routes.sort_by_key(|route| {
        (
            DRIVEN.iter().position(|to| *to == route.to),
            source_number(route.from),
        )
    });
    let mut sorted = Vec::with_capacity(curves.len());
    for (n, route) in (0..).zip(routes.iter_mut()) {
        route.id = RouteId(n);
        if let Some(curve) = route
            .curve
            .and_then(|id| curves.iter().find(|curve| curve.id == id))
        {
            let id = CurveId(sorted.len() as u64);
            sorted.push(Curve {
                id,
                points: curve.points.clone(),
            });
            route.curve = Some(id);
        }
    }
    *curves = sorted;
}

/// Sources as SFZ numbers them beyond the controllers (version 2, from memory): 128 the bend, 129 and 130 pressure, 131 the strike, 132 key-up speed, 133 the
/// key, 136 chance. Courses and movements follow, by our own count.
pub(crate) fn source_number(source: Source) -> u16 {
    match source {
        Source::Controller(n) => u16::from(n),
        Source::Bend => 128,
        Source::Pressure => 129,
        Source::KeyPressure => 130,
        Source::Strike => 131,
        Source::KeyUpSpeed => 132,
        Source::Key => 133,
        Source::Random(_) => 136,
        Source::Control(_) => 137,
        Source::Course(id) => 200 + id.0 as u16,
        Source::Movement(id) => 300 + id.0 as u16,
    }
}

/// The source of such a number.
pub(crate) fn numbered_source(number: u16) -> Option<Source> {
    Some(match number {
        0..=127 => Source::Controller(number as u8),
        128 => Source::Bend,
        129 => Source::Pressure,
        130 => Source::KeyPressure,
        131 => Source::Strike,
        132 => Source::KeyUpSpeed,
        133 => Source::Key,
        136 => Source::Random(0),
        _ => return None,
    })
}

/// Whether holds and decays follow the key: a SoundFont says by how many cents a key.
fn is_key_to_time(route: &Route) -> bool {
    let time = matches!(
        route.to,
        ParamId::CourseTime(_, CourseTime::Hold | CourseTime::Decay)
    );
    time && route.from == Source::Key && route.times.is_none() && route.curve.is_none()
}

/// By how many cents a hold or a decay of a course is shorter for every key up.
pub(crate) fn cents_a_key(shape: &Shape, id: CourseId, time: CourseTime) -> f64 {
    let to = ParamId::CourseTime(id, time);
    let routes = shape
        .routes
        .iter()
        .filter(|route| route.to == to && is_key_to_time(route));
    -routes.map(|route| route.amount).sum::<f64>() * 1_200.0 / 127.0
}

pub(crate) fn is_key_to_cutoff(route: &Route) -> bool {
    route.from == Source::Key && route.to == ParamId::Cutoff && route.times.is_none() && route.curve.is_none()
}

/// A curve at steps of MIDI, in thousandths.
fn curve_points(program: &Program, id: CurveId) -> Option<Vec<CurvePoint>> {
    let curve = program.curves.iter().find(|curve| curve.id == id)?;
    let mut points: Vec<CurvePoint> = Vec::with_capacity(curve.points.len());
    for point in &curve.points {
        let at = (point.at * 127.0).round() / 127.0;
        points.retain(|other| other.at != at);
        points.push(CurvePoint {
            at,
            value: thousandths(point.value),
        });
    }
    Some(points)
}

fn lowered_course(course: &Course, id: CourseId) -> Course {
    let whole = |ms: f64| ms.round().clamp(0.0, 100_000.0);
    Course {
        id,
        delay_ms: whole(course.delay_ms),
        attack_ms: whole(course.attack_ms),
        hold_ms: whole(course.hold_ms),
        decay_ms: whole(course.decay_ms),
        sustain: thousandths(course.sustain),
        release_ms: whole(course.release_ms),
        bends: [0.0; 3],
    }
}

pub(crate) fn thousandths(value: f64) -> f64 {
    (value * 1_000.0).round() / 1_000.0
}

fn tenths(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}
