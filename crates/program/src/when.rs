//! When a region sounds: on which keys and strikes, at which values of other sources, and in which turn.

use crate::{Source, SwitchId};
use serde::{Deserialize, Serialize};

/// How a fade at an end of a [`Span`] runs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum FadeLaw {
    /// The power rises in a straight line: two that cross, and are unlike, keep their power.
    #[default]
    Power,
    /// The amplitude does: two that cross, and are alike, keep their level.
    Linear,
}

/// A fade between two steps of a source: nothing is heard at one, all at the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Fade {
    /// The lower of the two.
    pub from: u8,
    /// The higher.
    pub to: u8,
}

impl Fade {
    /// How far a value lies between the two, 0 to 1. Where both are the same step it is passed at once.
    fn share(self, value: f64) -> f64 {
        let (from, to) = (f64::from(self.from), f64::from(self.to));
        if value >= to {
            1.0
        } else if value <= from {
            0.0
        } else {
            (value - from) / (to - from)
        }
    }
}

/// A stretch of keys, of strikes or of the steps of another source, 0 to 127, which may come and go gradually.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Span {
    /// Lowest and highest, both included.
    pub low: u8,
    /// See `low`.
    pub high: u8,
    /// It comes in over these.
    pub fade_in: Option<Fade>,
    /// It goes over these.
    pub fade_out: Option<Fade>,
    /// The course of both.
    pub law: FadeLaw,
}

impl Span {
    /// Every key.
    pub const ALL_KEYS: Self = Self::of(0, 127);
    /// Every strike: a velocity of 0 is none (MIDI 1.0).
    pub const ALL_STRIKES: Self = Self::of(1, 127);

    /// From a step to another, both included, without fades.
    pub const fn of(low: u8, high: u8) -> Self {
        Self {
            low,
            high,
            fade_in: None,
            fade_out: None,
            law: FadeLaw::Power,
        }
    }

    /// Whether a value lies in it.
    pub fn contains(&self, value: u8) -> bool {
        (self.low..=self.high).contains(&value)
    }

    /// Whether it sounds at a value, or comes gradually as the source is moved.
    pub fn may_come(&self, value: u8) -> bool {
        (value >= self.low || self.fade_in.is_some()) && (value <= self.high || self.fade_out.is_some())
    }

    /// Amplitude at a value, 0 to 1; 0 outside.
    pub fn gain(&self, value: u8) -> f64 {
        if self.contains(value) {
            self.faded(f64::from(value))
        } else {
            0.0
        }
    }

    /// The same of a source that goes gradually, where a border without a fade lies in the middle between two steps.
    pub fn gain_between(&self, value: f64) -> f64 {
        let under = self.fade_in.is_none() && value < f64::from(self.low) - 0.5;
        let over = self.fade_out.is_none() && value >= f64::from(self.high) + 0.5;
        if under || over { 0.0 } else { self.faded(value) }
    }

    fn faded(&self, value: f64) -> f64 {
        let coming = self.fade_in.map_or(1.0, |fade| fade.share(value));
        let staying = self.fade_out.map_or(1.0, |fade| 1.0 - fade.share(value));
        match self.law {
            FadeLaw::Linear => coming * staying,
            FadeLaw::Power => libm::sqrt(coming * staying),
        }
    }

    /// The steps at which something is heard; a format without fades has its borders in the middle of each.
    pub fn without_fades(&self) -> Self {
        let middle = |fade: Fade| fade.from.midpoint(fade.to);
        Self::of(
            self.fade_in.map_or(self.low, |fade| middle(fade).max(self.low)),
            self.fade_out
                .map_or(self.high, |fade| middle(fade).saturating_sub(1).min(self.high)),
        )
    }
}

/// Which of several regions answers a strike.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Turn {
    /// Each.
    #[default]
    Always,
    /// One after another, counted for each region over the strikes that meet all else it asks for.
    InOrder {
        /// From 0.
        place: u16,
        /// How many take turns.
        of: u16,
    },
    /// Where the strike's random number, from 0 up to 1, lies between.
    Random {
        /// From here on.
        from: f64,
        /// Up to here.
        to: f64,
    },
    /// At random among the group, but never the same twice.
    Shuffled {
        /// Those of one number take turns with each other.
        group: u64,
        /// From 0.
        place: u16,
        /// How many they are.
        of: u16,
    },
}

impl Turn {
    /// Its place among those it takes turns with, and how many they are; `None` where it takes none.
    pub fn place(&self) -> Option<(u16, u16)> {
        match *self {
            Self::InOrder { place, of } | Self::Shuffled { place, of, .. } if of > 1 => Some((place, of)),
            Self::Random { from, to } if to - from < 1.0 && to > from => {
                let of = (1.0 / (to - from)).round().clamp(1.0, f64::from(u16::MAX));
                Some(((from * of).round() as u16, of as u16))
            }
            _ => None,
        }
    }

    /// Whether another stands before it, which a format without turns plays instead.
    pub fn follows_another(&self) -> bool {
        self.place().is_some_and(|(place, _)| place > 0)
    }
}

/// How a switch stays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Stays {
    /// Until another is pressed.
    Latched,
    /// While its key is down.
    Held,
}

/// A switch that has to stand at some of its keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ChosenBy {
    /// Which.
    pub switch: SwitchId,
    /// Its keys, lowest and highest.
    pub low_key: u8,
    /// See `low_key`.
    pub high_key: u8,
    /// How it stays there.
    pub stays: Stays,
}

/// A source that has to lie within a span.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Within {
    /// Which.
    pub source: Source,
    /// Where; its fades are followed while a voice sounds.
    pub span: Span,
}

/// When something sounds. What holds is what strand and region ask for together.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct When {
    /// The keys.
    pub keys: Span,
    /// The velocities, 1 to 127.
    pub strikes: Span,
    /// What else has to lie where.
    pub sources: Vec<Within>,
    /// A switch that has to be set.
    pub chosen_by: Option<ChosenBy>,
    /// Its turn.
    pub turn: Turn,
}

impl When {
    /// On every key and strike.
    pub const ALWAYS: Self = Self::on(Span::ALL_KEYS, Span::ALL_STRIKES);

    /// On some keys and strikes.
    pub const fn on(keys: Span, strikes: Span) -> Self {
        Self {
            keys,
            strikes,
            sources: Vec::new(),
            chosen_by: None,
            turn: Turn::Always,
        }
    }

    /// Amplitude at a key and a strike, 0 to 1; 0 where it asks for others.
    pub fn gain(&self, key: u8, velocity: u8) -> f64 {
        self.keys.gain(key) * self.strikes.gain(velocity)
    }
}

/// Among which strikes a key that goes down counts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Among {
    /// Any.
    #[default]
    Any,
    /// Only where no other key is down.
    First,
    /// Only where another is.
    Legato,
}

/// The event a strand sounds on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum On {
    /// A key goes down.
    KeyDown(Among),
    /// A key comes up.
    KeyUp {
        /// Whether a pedal that is down puts it off.
        pedal_holds: bool,
        /// How much softer it is for every second that the key was held, in dB, 0 or more.
        fall_db_per_s: f64,
    },
    /// A source comes into a span.
    Enters(Within),
}

impl On {
    /// Any key that goes down.
    pub const KEY_DOWN: Self = Self::KeyDown(Among::Any);
    /// Any key that comes up, as soon as no pedal holds it.
    pub const KEY_UP: Self = Self::KeyUp {
        pedal_holds: true,
        fall_db_per_s: 0.0,
    };

    /// Whether it is a key that comes up.
    pub fn is_key_up(&self) -> bool {
        matches!(self, Self::KeyUp { .. })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_that_cross_keep_their_power_or_their_level() {
        for (law, sum) in [(FadeLaw::Power, 2), (FadeLaw::Linear, 1)] {
            let cross = Some(Fade { from: 50, to: 70 });
            let soft = Span {
                fade_out: cross,
                law,
                ..Span::of(1, 70)
            };
            let loud = Span {
                fade_in: cross,
                law,
                ..Span::of(50, 127)
            };
            for strike in 1..=127 {
                let total = soft.gain(strike).powi(sum) + loud.gain(strike).powi(sum);
                assert!((total - 1.0).abs() < 1e-12, "{law:?} {strike}: {total}");
            }
            assert_eq!((soft.gain(50), loud.gain(70)), (1.0, 1.0));
            // Without fades each strike has one of them.
            let (soft, loud) = (soft.without_fades(), loud.without_fades());
            assert_eq!((soft.low, soft.high, loud.low, loud.high), (1, 59, 60, 127));
        }
    }

    #[test]
    fn a_turn_tells_its_place_however_turns_are_taken() {
        let third = [
            Turn::InOrder { place: 2, of: 4 },
            Turn::Random { from: 0.5, to: 0.75 },
            Turn::Shuffled {
                group: 1,
                place: 2,
                of: 4,
            },
        ];
        for turn in third {
            assert_eq!(turn.place(), Some((2, 4)), "{turn:?}");
            assert!(turn.follows_another());
        }
        for alone in [
            Turn::Always,
            Turn::InOrder { place: 0, of: 1 },
            Turn::Random { from: 0.0, to: 1.0 },
        ] {
            assert_eq!(alone.place(), None);
        }
    }
}
