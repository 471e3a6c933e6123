//! What drives a voice: sources, courses and slow movements, through routes, in steps of 32 frames.

use program::{
    CourseId, CourseTime, Filter, Loudness, MOST_COURSES, MOST_MOVEMENTS, MOST_ROUTES, Movement, MovementId,
    ParamId, Program, Route, Shape, Source, Standing, Within, strike_random,
};

/// Routes are computed so often, and what they drive goes evenly from one to the next.
pub(crate) const DRIVE_FRAMES: usize = 32;
/// What is moved by hand, or jumps by itself, gets there as if through a resistor and a capacitor of this time constant.
const HAND_MS: f64 = 5.0;

/// What all voices share.
#[derive(Clone, Copy)]
pub(crate) struct Around<'a> {
    pub(crate) program: &'a Program,
    pub(crate) standing: &'a Standing,
    pub(crate) rate_hz: f64,
    /// Quarter notes a minute.
    pub(crate) tempo: f64,
    /// Frames rendered.
    pub(crate) frame: u64,
}

impl Around<'_> {
    fn ms(&self, frames: u64) -> f64 {
        frames as f64 * 1000.0 / self.rate_hz
    }
}

/// How far everything is driven from where it is set.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Driven {
    pub(crate) level_db: f64,
    pub(crate) place: f64,
    pub(crate) pitch_cents: f64,
    pub(crate) cutoff_cents: f64,
    pub(crate) resonance_db: f64,
}

/// How far the stretch that a voice plays is driven as it is struck, as shares.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct Nudge {
    pub(crate) start: f64,
    pub(crate) loop_start: f64,
    pub(crate) loop_length: f64,
}

/// Where all that drives one voice stands.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Drive {
    key: u8,
    velocity: u8,
    /// What its random numbers are drawn by.
    number: u64,
    /// Since it was struck.
    frames: u64,
    /// Of these, those before it was struck again.
    since: u64,
    /// When it was let go.
    let_go: Option<u64>,
    /// Where its courses stood then.
    let_go_at: [f64; MOST_COURSES],
    /// Factors of the times of its courses, in the order of [`CourseTime`].
    times: [[f64; 5]; MOST_COURSES],
    /// Whether its key was struck again: what drives goes gradually where it belongs.
    is_again: bool,
    /// Those of the times of its loudness.
    of_loudness: [f64; 5],
    /// Rounds of its movements.
    rounds: [f64; MOST_MOVEMENTS],
    /// What each route did in the step before.
    did: [f64; MOST_ROUTES],
    /// What it faded by in the step before; below 0 before the first.
    faded: f64,
}

impl Drive {
    pub(crate) const NOTHING: Self = Self {
        key: 0,
        velocity: 0,
        number: 0,
        frames: 0,
        since: 0,
        let_go: None,
        let_go_at: [0.0; MOST_COURSES],
        times: [[1.0; 5]; MOST_COURSES],
        is_again: false,
        of_loudness: [1.0; 5],
        rounds: [0.0; MOST_MOVEMENTS],
        did: [0.0; MOST_ROUTES],
        faded: -1.0,
    };

    /// That of a voice which is struck now. Movements that voices share go on from another voice of the same shape, where there is one.
    pub(crate) fn start(
        shape: &Shape,
        around: &Around,
        (key, velocity, number): (u8, u8, u64),
        other: Option<&Self>,
    ) -> (Self, Nudge) {
        let mut drive = Self {
            key,
            velocity,
            number,
            ..Self::NOTHING
        };
        for (n, movement) in shape.movements.iter().take(MOST_MOVEMENTS).enumerate() {
            let since = around.ms(around.frame) / 1000.0 * movement.rate.hz(around.tempo);
            drive.rounds[n] = match other {
                _ if movement.per_voice => movement.phase,
                Some(other) => other.rounds[n],
                None => movement.phase + since,
            };
        }
        let mut nudge = Nudge::default();
        for (n, route) in drive.routes(shape) {
            let does = drive.does(shape, route, around) * drive.factor_of(shape, route, around);
            drive.did[n] = does;
            match route.to {
                ParamId::SampleStart => nudge.start += does,
                ParamId::LoopStart => nudge.loop_start += does,
                ParamId::LoopLength => nudge.loop_length += does,
                ParamId::CourseTime(id, time) => {
                    if let Some(factor) = drive.time_of(shape, id, time) {
                        *factor *= libm::exp2(does);
                    }
                }
                _ => {}
            }
        }
        (drive, nudge)
    }

    /// Its key was struck again while it sounds: its courses begin anew.
    pub(crate) fn strike_again(&mut self, velocity: u8) {
        self.velocity = velocity;
        self.let_go = None;
        self.since = self.frames;
        self.is_again = true;
    }

    /// The factor of a time of a course, or of loudness.
    fn time_of(&mut self, shape: &Shape, id: CourseId, time: CourseTime) -> Option<&mut f64> {
        let factors = if id == CourseId::LOUDNESS {
            &mut self.of_loudness
        } else {
            let place = shape
                .courses
                .iter()
                .take(MOST_COURSES)
                .position(|course| course.id == id)?;
            &mut self.times[place]
        };
        Some(&mut factors[place_of(time)])
    }

    /// What drives releases is asked again as a key comes up: only now it is known how fast.
    fn release(&mut self, shape: &Shape, around: &Around) {
        let releases = |route: &Route| match route.to {
            ParamId::CourseTime(id, CourseTime::Release) => Some(id),
            _ => None,
        };
        for id in shape.routes.iter().filter_map(releases) {
            if let Some(factor) = self.time_of(shape, id, CourseTime::Release) {
                *factor = 1.0;
            }
        }
        for (_, route) in self.routes(shape) {
            let Some(id) = releases(route) else { continue };
            let does = self.does(shape, route, around) * self.factor_of(shape, route, around);
            if let Some(factor) = self.time_of(shape, id, CourseTime::Release) {
                *factor *= libm::exp2(does);
            }
        }
    }

    /// Loudness with its times as they are driven.
    pub(crate) fn loudness(&self, set: Loudness) -> Loudness {
        let [delay, attack, hold, decay, release] = self.of_loudness;
        Loudness {
            delay_ms: set.delay_ms * delay,
            attack_ms: set.attack_ms * attack,
            hold_ms: set.hold_ms * hold,
            decay_ms: set.decay_ms * decay,
            release_ms: set.release_ms * release,
            ..set
        }
    }

    /// Whether it was told that its key came up.
    pub(crate) fn is_let_go(&self) -> bool {
        self.let_go.is_some()
    }

    /// Goes on by a step; where everything is driven at its end.
    pub(crate) fn step(&mut self, shape: &Shape, around: &Around, frames: usize, is_let_go: bool) -> Driven {
        if is_let_go && self.let_go.is_none() {
            for n in 0..shape.courses.len().min(MOST_COURSES) {
                self.let_go_at[n] = self.course(shape, n, around);
            }
            self.let_go = Some(self.frames);
            self.release(shape, around);
        }
        let begins = self.frames == 0;
        self.move_on(shape, around, frames);
        self.frames += frames as u64;
        let mut smooth = None;
        let mut driven = Driven::default();
        for (n, route) in self.routes(shape) {
            let to = self.does(shape, route, around) * self.factor_of(shape, route, around);
            let is_rough = self.is_again
                || is_rough(shape, route.from)
                || route.times.is_some_and(|by| is_rough(shape, by));
            let does = if is_rough && !begins {
                let share = || 1.0 - libm::exp(-around.ms(frames as u64) / HAND_MS);
                self.did[n] + (to - self.did[n]) * *smooth.get_or_insert_with(share)
            } else {
                to
            };
            self.did[n] = does;
            match route.to {
                ParamId::Level => driven.level_db += does,
                ParamId::Place => driven.place += does,
                ParamId::Pitch => driven.pitch_cents += does,
                ParamId::Cutoff => driven.cutoff_cents += does,
                ParamId::Resonance => driven.resonance_db += does,
                _ => {}
            }
        }
        driven
    }

    /// Amplitude from the fades of sources that this voice has for itself, after a step: what is chosen by them comes and goes gradually.
    pub(crate) fn faded<'a>(
        &mut self,
        shape: &Shape,
        around: &Around,
        frames: usize,
        by: impl Iterator<Item = &'a Within>,
    ) -> f64 {
        let mut to = 1.0;
        let mut any = false;
        for within in by.filter(|within| !Standing::is_shared(within.source)) {
            let value = self.source(shape, within.source, around);
            let share = if within.source.goes_both_ways() {
                0.5 + 0.5 * value
            } else {
                value
            };
            to *= within.span.gain_between(127.0 * share);
            any = true;
        }
        if !any {
            return 1.0;
        }
        if self.faded >= 0.0 {
            let left = (self.faded - to) * libm::exp(-around.ms(frames as u64) / HAND_MS);
            // 120 dB down it is there: what is not heard need not be computed.
            if left.abs() > 1e-6 {
                to += left;
            }
        }
        self.faded = to;
        to
    }

    fn routes<'a>(&self, shape: &'a Shape) -> impl Iterator<Item = (usize, &'a Route)> + use<'a> {
        shape.routes.iter().take(MOST_ROUTES).enumerate()
    }

    /// Movements go on, as fast as they are driven.
    fn move_on(&mut self, shape: &Shape, around: &Around, frames: usize) {
        for (n, movement) in shape.movements.iter().take(MOST_MOVEMENTS).enumerate() {
            if movement.per_voice && around.ms(self.frames) < movement.delay_ms {
                continue;
            }
            let octaves = self
                .driven_by(shape, ParamId::MovementRate(movement.id), around)
                .unwrap_or(0.0);
            let hz = movement.rate.hz(around.tempo) * libm::exp2(octaves);
            self.rounds[n] += hz * around.ms(frames as u64) / 1000.0;
            if movement.once && movement.per_voice {
                self.rounds[n] = self.rounds[n].min(movement.phase + 1.0 - 1e-9);
            }
        }
    }

    /// The sum of all routes to a number; `None` where there is none.
    fn driven_by(&self, shape: &Shape, to: ParamId, around: &Around) -> Option<f64> {
        let mut all = self.routes(shape).filter(|(_, route)| route.to == to).peekable();
        all.peek()?;
        Some(all.map(|(_, route)| self.does(shape, route, around)).sum())
    }

    /// What the amount of a route is multiplied by.
    fn factor_of(&self, shape: &Shape, route: &Route, around: &Around) -> f64 {
        self.driven_by(shape, ParamId::RouteAmount(route.id), around)
            .map_or(1.0, |factor| factor.max(0.0))
    }

    /// What a route does now, in the unit of what it drives.
    fn does(&self, shape: &Shape, route: &Route, around: &Around) -> f64 {
        let value = self.source(shape, route.from, around);
        let times = route.times.map_or(1.0, |by| self.source(shape, by, around));
        route.does(value, around.program.curve_of(route)) * times
    }

    fn source(&self, shape: &Shape, source: Source, around: &Around) -> f64 {
        match source {
            Source::Strike => f64::from(self.velocity) / 127.0,
            Source::Key => f64::from(self.key) / 127.0,
            Source::Random(id) => self.random(around, id, self.number),
            Source::Movement(id) => self.movement(shape, id, around),
            Source::Course(id) => {
                let place = shape.courses.iter().take(MOST_COURSES).position(|c| c.id == id);
                place.map_or(0.0, |n| self.course(shape, n, around))
            }
            shared => around.standing.source(shared, self.key).unwrap_or(0.0),
        }
    }

    /// From −1 to 1.
    fn random(&self, around: &Around, id: u64, number: u64) -> f64 {
        let seed = around.program.seed ^ id.wrapping_mul(0xA076_1D64_78BD_642F);
        2.0 * strike_random(seed, number) - 1.0
    }

    fn movement(&self, shape: &Shape, id: MovementId, around: &Around) -> f64 {
        let mut movements = shape.movements.iter().take(MOST_MOVEMENTS).enumerate();
        let Some((n, movement)) = movements.find(|(_, movement)| movement.id == id) else {
            return 0.0;
        };
        let since = around.ms(self.frames) - movement.delay_ms;
        if since < 0.0 {
            return 0.0;
        }
        let faded = if since < movement.fade_in_ms {
            since / movement.fade_in_ms
        } else {
            1.0
        };
        let round = libm::floor(self.rounds[n]);
        // Those of all voices draw the same.
        let of = if movement.per_voice { self.number } else { 0 };
        let random =
            |round: u64| self.random(around, !id.0, of.wrapping_mul(0x1_0000_0001).wrapping_add(round));
        let value = (movement.wave).value(self.rounds[n] - round, round.max(0.0) as u64, random);
        value * faded * self.depth(shape, movement, around)
    }

    /// How far a movement goes, as a factor. What drives that is not itself a movement.
    fn depth(&self, shape: &Shape, movement: &Movement, around: &Around) -> f64 {
        let to = ParamId::MovementDepth(movement.id);
        let mut factor = None;
        for (_, route) in self.routes(shape).filter(|(_, route)| route.to == to) {
            if !matches!(route.from, Source::Movement(_)) {
                *factor.get_or_insert(0.0) += self.does(shape, route, around);
            }
        }
        factor.map_or(1.0, |factor: f64| factor.max(0.0))
    }

    fn course(&self, shape: &Shape, n: usize, around: &Around) -> f64 {
        let Some(course) = shape.courses.get(n) else {
            return 0.0;
        };
        let [delay, attack, hold, decay, release] = self.times[n];
        let mut course = *course;
        course.delay_ms *= delay;
        course.attack_ms *= attack;
        course.hold_ms *= hold;
        course.decay_ms *= decay;
        course.release_ms *= release;
        match self.let_go {
            None => course.held_at(around.ms(self.frames - self.since)),
            Some(at) => course.released_at(self.let_go_at[n], around.ms(self.frames - at)),
        }
    }
}

/// Where a filter's cutoff lies for a key, in Hz.
pub(crate) fn cutoff_hz(filter: &Filter, key: u8, driven: &Driven) -> f64 {
    let cents = 100.0 * filter.key_follow * (f64::from(key) - 60.0) + driven.cutoff_cents;
    filter.cutoff_hz * libm::exp2(cents / 1200.0)
}

/// Whether a source goes anywhere at once.
fn is_rough(shape: &Shape, source: Source) -> bool {
    match source {
        Source::Strike | Source::Key | Source::Random(_) | Source::Course(_) => false,
        Source::Movement(id) => {
            (shape.movements.iter()).any(|movement| movement.id == id && movement.wave.jumps())
        }
        _ => true,
    }
}

fn place_of(time: CourseTime) -> usize {
    match time {
        CourseTime::Delay => 0,
        CourseTime::Attack => 1,
        CourseTime::Hold => 2,
        CourseTime::Decay => 3,
        CourseTime::Release => 4,
    }
}
