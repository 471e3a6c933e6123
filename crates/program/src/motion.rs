//! How curves, courses and slow movements run: the formulas behind what drives.

use crate::{Course, Curve, ParamId, Rate, Route, Shape, Source, Wave};

/// Most slow movements, courses and routes of a shape: what a voice has room for.
pub const MOST_MOVEMENTS: usize = 4;
/// See [`MOST_MOVEMENTS`].
pub const MOST_COURSES: usize = 4;
/// See [`MOST_MOVEMENTS`].
pub const MOST_ROUTES: usize = 16;

/// A share of a way, 0 to 1, as it bends: 0 straight, −1 early, 1 late. `(e^(kx) − 1) / (e^k − 1)` with k = bend · ln 100, so that at 1 half of the time is
/// spent on the last tenth of the way.
pub fn bent(share: f64, bend: f64) -> f64 {
    let k = bend.clamp(-1.0, 1.0) * 4.605_170_185_988_091;
    if k.abs() < 1e-6 {
        share
    } else {
        libm::expm1(k * share) / libm::expm1(k)
    }
}

/// The share that bends to this one.
pub fn unbent(share: f64, bend: f64) -> f64 {
    let k = bend.clamp(-1.0, 1.0) * 4.605_170_185_988_091;
    if k.abs() < 1e-6 {
        share
    } else {
        libm::log1p(share * libm::expm1(k)) / k
    }
}

impl Curve {
    /// What goes out where `at` comes in, 0 to 1, straight between the points and level beyond the outermost. What comes from the other side of the middle
    /// of a source that goes both ways, down to −1, goes out mirrored.
    pub fn value(&self, at: f64) -> f64 {
        if at < 0.0 {
            return -self.value(-at);
        }
        let after = self.points.iter().position(|point| point.at >= at);
        match after {
            Some(0) => self.points[0].value,
            Some(n) => {
                let (from, to) = (self.points[n - 1], self.points[n]);
                let share = (at - from.at) / (to.at - from.at).max(1e-9);
                from.value + (to.value - from.value) * share
            }
            None => self.points.last().map_or(at, |point| point.value),
        }
    }
}

impl Course {
    /// Its value so many milliseconds after the strike, while the key is held.
    pub fn held_at(&self, ms: f64) -> f64 {
        let [attack, decay, _] = self.bends;
        let mut left = ms - self.delay_ms;
        if left < 0.0 {
            return 0.0;
        }
        if left < self.attack_ms {
            return bent(left / self.attack_ms, attack);
        }
        left -= self.attack_ms + self.hold_ms;
        if left < 0.0 {
            1.0
        } else if left < self.decay_ms {
            1.0 + (self.sustain - 1.0) * bent(left / self.decay_ms, decay)
        } else {
            self.sustain
        }
    }

    /// Its value so many milliseconds after the key came up, where it stood at `from` then.
    pub fn released_at(&self, from: f64, ms: f64) -> f64 {
        if ms < self.release_ms {
            from * (1.0 - bent(ms / self.release_ms, self.bends[2]))
        } else {
            0.0
        }
    }
}

impl Wave {
    /// Where it stands at a phase, 0 to 1, of a round: −1 to 1. `random` gives the number of a round, −1 to 1.
    pub fn value(self, phase: f64, round: u64, random: impl Fn(u64) -> f64) -> f64 {
        match self {
            Self::Sine => libm::sin(phase * std::f64::consts::TAU),
            Self::Triangle if phase < 0.25 => 4.0 * phase,
            Self::Triangle if phase < 0.75 => 2.0 - 4.0 * phase,
            Self::Triangle => 4.0 * phase - 4.0,
            Self::SawUp => 2.0 * phase - 1.0,
            Self::SawDown => 1.0 - 2.0 * phase,
            Self::Square if phase < 0.5 => 1.0,
            Self::Square => -1.0,
            Self::Steps => random(round),
            Self::Smooth => {
                let (from, to) = (random(round), random(round + 1));
                from + (to - from) * (0.5 - 0.5 * libm::cos(phase * std::f64::consts::PI))
            }
        }
    }

    /// Whether it goes anywhere at once.
    pub fn jumps(self) -> bool {
        matches!(self, Self::SawUp | Self::SawDown | Self::Square | Self::Steps)
    }
}

impl Rate {
    /// Rounds a second at a tempo in quarter notes a minute.
    pub fn hz(self, tempo: f64) -> f64 {
        match self {
            Self::Hz(hz) => hz,
            Self::Quarters(quarters) => tempo / 60.0 / quarters.max(1e-3),
        }
    }
}

impl Source {
    /// Whether it runs from −1 to 1, not from 0.
    pub fn goes_both_ways(self) -> bool {
        matches!(self, Self::Bend | Self::Random(_) | Self::Movement(_))
    }
}

impl Route {
    /// What it does where its source, through the curve, stands at a value, in the unit of what is driven: see [`ParamId::Level`] for what drives level.
    pub fn does(&self, value: f64, curve: Option<&Curve>) -> f64 {
        let value = curve.map_or(value, |curve| curve.value(value));
        value * self.amount - self.under_db()
    }

    /// How far level lies under where it is set while the source is at nothing, in dB, 0 or more; nothing for all else that is driven.
    pub fn under_db(&self) -> f64 {
        let lowers = self.to == ParamId::Level && !self.from.goes_both_ways();
        if lowers { self.amount.max(0.0) } else { 0.0 }
    }
}

impl Shape {
    /// Whether anything of it moves beside loudness, or is filtered.
    pub fn is_driven(&self) -> bool {
        self.filter.is_some() || !self.routes.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{CourseId, CurveId, CurvePoint, MovementId, RouteId};

    #[test]
    fn what_drives_level_only_lowers_it() {
        let to_level = |from: Source, amount: f64| Route {
            id: RouteId(1),
            from,
            times: None,
            curve: None,
            to: ParamId::Level,
            amount,
        };
        let at = |route: Route| [0.0, 0.5, 1.0].map(|value| route.does(value, None));
        assert_eq!(at(to_level(Source::Controller(11), 24.0)), [-24.0, -12.0, 0.0]);
        assert_eq!(at(to_level(Source::Controller(11), -24.0)), [0.0, -12.0, -24.0]);
        assert_eq!(
            at(to_level(Source::Movement(MovementId(1)), 6.0)),
            [0.0, 3.0, 6.0]
        );
        let to_pitch = Route {
            to: ParamId::Pitch,
            ..to_level(Source::Strike, 50.0)
        };
        assert_eq!(at(to_pitch), [0.0, 25.0, 50.0]);
    }

    #[test]
    fn a_course_goes_up_stays_falls_and_is_let_go() {
        let course = Course {
            id: CourseId(1),
            delay_ms: 10.0,
            attack_ms: 20.0,
            hold_ms: 30.0,
            decay_ms: 40.0,
            sustain: 0.5,
            release_ms: 100.0,
            bends: [0.0; 3],
        };
        let at = |ms| course.held_at(ms);
        let seen = [5.0, 10.0, 20.0, 30.0, 60.0, 80.0, 100.0, 9_999.0].map(at);
        let wanted = [0.0, 0.0, 0.5, 1.0, 1.0, 0.75, 0.5, 0.5];
        assert!(
            seen.iter().zip(wanted).all(|(a, b)| (a - b).abs() < 1e-12),
            "{seen:?}"
        );
        assert!((course.released_at(0.5, 50.0) - 0.25).abs() < 1e-12);
        assert_eq!(course.released_at(0.5, 100.0), 0.0);
        let late = Course {
            bends: [1.0, -1.0, 0.0],
            ..course
        };
        assert!((late.held_at(20.0) - 1.0 / 11.0).abs() < 1e-9);
        assert!((late.held_at(80.0) - (1.0 - 0.5 * 10.0 / 11.0)).abs() < 1e-9);
    }

    #[test]
    fn waves_begin_in_the_middle_or_at_an_end_and_stay_within() {
        let none = |_| 0.0;
        let at = |wave: Wave, phases: [f64; 4]| phases.map(|p| (wave.value(p, 0, none) * 1e6).round() / 1e6);
        assert_eq!(at(Wave::Sine, [0.0, 0.25, 0.5, 0.75]), [0.0, 1.0, 0.0, -1.0]);
        assert_eq!(at(Wave::Triangle, [0.0, 0.25, 0.5, 0.75]), [0.0, 1.0, 0.0, -1.0]);
        assert_eq!(at(Wave::SawUp, [0.0, 0.25, 0.5, 0.75]), [-1.0, -0.5, 0.0, 0.5]);
        assert_eq!(at(Wave::SawDown, [0.0, 0.25, 0.5, 0.75]), [1.0, 0.5, 0.0, -0.5]);
        assert_eq!(at(Wave::Square, [0.0, 0.25, 0.5, 0.75]), [1.0, 1.0, -1.0, -1.0]);
        let drawn = |round: u64| if round == 3 { 0.4 } else { -0.8 };
        assert_eq!(Wave::Steps.value(0.9, 3, drawn), 0.4);
        assert!((Wave::Smooth.value(0.5, 3, drawn) + 0.2).abs() < 1e-12);
    }

    #[test]
    fn a_curve_is_straight_between_its_points_and_mirrored_on_the_other_side() {
        let point = |at, value| CurvePoint { at, value };
        let curve = Curve {
            id: CurveId(0),
            points: vec![point(0.0, 0.0), point(0.5, 0.1), point(1.0, 1.0)],
        };
        let seen = [0.0, 0.25, 0.5, 0.75, 1.0, -0.75].map(|at| curve.value(at));
        let wanted = [0.0, 0.05, 0.1, 0.55, 1.0, -0.55];
        assert!(
            seen.iter().zip(wanted).all(|(a, b)| (a - b).abs() < 1e-12),
            "{seen:?}"
        );
        assert_eq!(Rate::Quarters(2.0).hz(120.0), 1.0);
    }
}
