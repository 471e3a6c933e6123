//! Filters, courses, slow movements and routes as generators and modulators (sections 8.1.2, 8.2 and 9.5).

use super::write::Tables;
use super::zone::OPEN_CENTS;
use super::*;
use crate::driven::cents_a_key;
use program::{Course, Movement, ParamId, Rate, Route, Shape, Source};

/// A source's flags: a controller, and from most to least, and both ways (section 8.2.1).
pub(super) const CONTROLLER: u16 = 0x80;
pub(super) const FALLING: u16 = 0x100;
pub(super) const BOTH_WAYS: u16 = 0x200;
/// Concave (section 8.2.4): so volume and expression lower what sounds where nothing else is said (sections 8.4.5 and 8.4.7).
const CONCAVE: u16 = 1 << 10;
const BY_THEMSELVES: [u8; 2] = [7, 11];
pub(super) const CHANNEL_PRESSURE: u16 = 13;

/// No cutoff is lower (section 8.1.3).
const LOWEST_CENTS: f64 = 1_500.0;

fn whole(value: f64) -> i16 {
    value.round().clamp(-32_768.0, 32_767.0) as i16
}

fn source_of(source: Source) -> Option<u16> {
    Some(match source {
        Source::Controller(n) => CONTROLLER | u16::from(n),
        Source::Strike => 2,
        Source::Key => 3,
        Source::KeyPressure => 10,
        Source::Pressure => CHANNEL_PRESSURE,
        Source::Bend => 14 | BOTH_WAYS,
        _ => return None,
    })
}

/// The source of such a number and such flags, where it runs straight from least to most.
pub(super) fn source_in(number: u16) -> Option<Source> {
    Some(match number {
        2 => Source::Strike,
        3 => Source::Key,
        10 => Source::KeyPressure,
        CHANNEL_PRESSURE => Source::Pressure,
        // From least to most, too, it goes both ways.
        14 | BEND => Source::Bend,
        n if n & !0x7f == CONTROLLER => Source::Controller((n & 0x7f) as u8),
        _ => return None,
    })
}

/// The bend, both ways.
const BEND: u16 = 14 | BOTH_WAYS;

/// Steps of MIDI run to 127, a modulator's source to 128 of them (section 9.5.3): what is written is so much more.
pub(super) fn of_steps(source: Source) -> f64 {
    if source == Source::Bend {
        1.0
    } else {
        128.0 / 127.0
    }
}

impl Tables {
    /// Holds and decays that follow the key.
    pub(super) fn times_by_key(&mut self, shape: &Shape) {
        for (generator, id, time) in KEY_TO_TIMES {
            let cents = cents_a_key(shape, id, time).round();
            if cents != 0.0 {
                self.generator(generator, whole(cents));
            }
        }
    }

    /// What a shape has of all that, in the zone that stands for a whole instrument.
    pub(super) fn driven(&mut self, shape: &Shape) {
        // Where nothing is said, wheel and pressure would move a vibrato that nobody asked for.
        for source in [WHEEL, CHANNEL_PRESSURE] {
            let moves_it = |route: &Route| {
                matches!(route.from, Source::Movement(_)) && route.times.and_then(source_of) == Some(source)
            };
            if !shape.routes.iter().any(moves_it) {
                self.modulator(source, VIB_LFO_TO_PITCH, 0);
            }
        }
        if let Some(filter) = shape.filter {
            let by_key = filter.key_follow * 100.0;
            // It follows the key from middle C on.
            let cents = absolute_cents(filter.cutoff_hz) - by_key * 60.0;
            let open = f64::from(OPEN_CENTS);
            self.generator(FILTER_CUTOFF, whole(cents.clamp(LOWEST_CENTS, open)));
            self.generator(FILTER_Q, whole(filter.resonance_db * 10.0));
            if by_key != 0.0 {
                self.modulator(3, FILTER_CUTOFF, whole(by_key * 128.0));
            }
        }
        for course in &shape.courses {
            self.course(shape, course);
        }
        // The one for pitch alone is the last one that drives nothing else: the order in which both are read.
        let only_pitch = |movement: &Movement| {
            (shape
                .routes
                .iter()
                .filter(|route| route.from == Source::Movement(movement.id)))
            .all(|route| route.to == ParamId::Pitch)
        };
        let vibrato = shape
            .movements
            .iter()
            .rfind(|movement| only_pitch(movement))
            .map(|movement| movement.id);
        for movement in &shape.movements {
            self.movement(shape, movement, vibrato == Some(movement.id));
        }
        for route in &shape.routes {
            self.hand(route);
        }
    }

    fn course(&mut self, shape: &Shape, course: &Course) {
        for route in shape
            .routes
            .iter()
            .filter(|route| route.from == Source::Course(course.id))
        {
            let to = if route.to == ParamId::Pitch {
                MOD_ENV_TO_PITCH
            } else {
                MOD_ENV_TO_CUTOFF
            };
            self.generator(to, whole(route.amount));
        }
        // Its decay and release are times for all of the way (section 8.1.2, decayModEnv).
        let timed = |time: CourseTime, ms: f64| at_middle_c(shape, CourseId(1), time, ms);
        let decay_ms = timed(CourseTime::Decay, course.decay_ms) / (1.0 - course.sustain).max(0.001);
        let release_ms = course.release_ms / released_from(course.sustain);
        let hold_ms = timed(CourseTime::Hold, course.hold_ms);
        let times = [course.delay_ms, course.attack_ms, hold_ms, decay_ms];
        for (n, ms) in (0..).zip(times) {
            self.generator(MOD_ENV_DELAY + n, timecents(ms));
        }
        self.generator(MOD_ENV_DELAY + 4, whole((1.0 - course.sustain) * 1000.0));
        self.generator(MOD_ENV_DELAY + 5, timecents(release_ms));
    }

    fn movement(&mut self, shape: &Shape, movement: &Movement, vibrato: bool) {
        let delay = if vibrato { VIB_LFO_DELAY } else { MOD_LFO_DELAY };
        let Rate::Hz(hz) = movement.rate else {
            return;
        };
        self.generator(delay, timecents(movement.delay_ms));
        self.generator(delay + 1, whole(absolute_cents(hz)));
        for route in shape
            .routes
            .iter()
            .filter(|route| route.from == Source::Movement(movement.id))
        {
            let (to, amount) = match route.to {
                ParamId::Pitch if vibrato => (VIB_LFO_TO_PITCH, route.amount),
                ParamId::Pitch => (MOD_LFO_TO_PITCH, route.amount),
                ParamId::Cutoff => (MOD_LFO_TO_CUTOFF, route.amount),
                ParamId::Level => (MOD_LFO_TO_VOLUME, route.amount * 10.0),
                _ => continue,
            };
            match route.times {
                None => self.generator(to, whole(amount)),
                Some(by) => {
                    if let Some(source) = source_of(by) {
                        self.modulator(source, to, whole(amount * of_steps(by)));
                    }
                }
            }
        }
    }

    fn hand(&mut self, route: &Route) {
        let Some(source) = source_of(route.from) else {
            return;
        };
        if let Source::Controller(n) = route.from
            && route.to == ParamId::Level
            && BY_THEMSELVES.contains(&n)
        {
            // What is said stands in place of that.
            self.modulator(source | FALLING | CONCAVE, ATTENUATION, 0);
        }
        let amount = route.amount * of_steps(route.from);
        let (source, to, amount) = match route.to {
            // What drives level only lowers it: by the more, the further a source is from its most, or from its least.
            ParamId::Level if route.from == Source::Bend => (source, ATTENUATION, -amount * 10.0),
            ParamId::Level if amount > 0.0 => (source | FALLING, ATTENUATION, route.amount * 10.0),
            ParamId::Level => (source, ATTENUATION, -amount * 10.0),
            ParamId::Pitch => (source, FINE_TUNE, amount),
            ParamId::Cutoff => (source, FILTER_CUTOFF, amount),
            ParamId::Resonance => (source, FILTER_Q, amount * 10.0),
            _ => return,
        };
        let by = route.times.and_then(source_of).unwrap_or(0);
        self.modulator_by(source, to, whole(amount), by);
    }
}
