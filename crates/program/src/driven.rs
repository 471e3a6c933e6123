//! What drives a number while it plays: sources, curves, routes, slow movements, and the names of all that can be driven.

use crate::{ControlId, CourseId, CurveId, EffectId, MovementId, RouteId, StrandId};
use serde::{Deserialize, Serialize};

/// Where a value comes from. Each runs from 0 to 1, or from −1 to 1 where it goes both ways.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = DrivingSource))]
#[serde(rename_all = "snake_case")]
pub enum Source {
    /// How hard the key was struck.
    Strike,
    /// How fast it came up.
    KeyUpSpeed,
    /// Pressure on the channel.
    Pressure,
    /// Pressure on the key.
    KeyPressure,
    /// The bend, both ways.
    Bend,
    /// A MIDI controller, 0 to 119.
    Controller(u8),
    /// A control of the panel.
    Control(ControlId),
    /// The key, from its lowest to its highest.
    Key,
    /// A random number for each voice, both ways; those of one number are the same.
    Random(u64),
    /// A slow movement, both ways.
    Movement(MovementId),
    /// A course over time.
    Course(CourseId),
}

/// A curve through points, straight between them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Curve {
    /// Its name for good.
    pub id: CurveId,
    /// From left to right.
    pub points: Vec<CurvePoint>,
}

/// A point of a [`Curve`].
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CurvePoint {
    /// What comes in, 0 to 1.
    pub at: f64,
    /// What goes out, −1 to 1.
    pub value: f64,
}

/// Whatever can be set or driven by a number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ParamId {
    /// Level, in dB. What drives it only lowers it: where an amount is over 0 it is as it was at the source's most, else at its least. A source that
    /// goes both ways goes both ways around it.
    Level,
    /// Place, −1 to 1.
    Place,
    /// Pitch, in cents.
    Pitch,
    /// The filter's cutoff, in cents.
    Cutoff,
    /// Its resonance, in dB.
    Resonance,
    /// Where the sample begins, as a share of it.
    SampleStart,
    /// Where its loop begins, as a share of the sample.
    LoopStart,
    /// How long its loop is, as a share of it.
    LoopLength,
    /// How fast a movement is, in octaves.
    MovementRate(MovementId),
    /// How far it goes, as a factor.
    MovementDepth(MovementId),
    /// How much a route does, as a factor.
    RouteAmount(RouteId),
    /// A time of a course, in octaves.
    CourseTime(CourseId, CourseTime),
    /// Level of a strand, in dB.
    StrandLevel(StrandId),
    /// A setting of an effect, by its place.
    Effect(EffectId, u16),
}

/// A time of a course.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum CourseTime {
    /// Before it begins.
    Delay,
    /// While it rises.
    Attack,
    /// While it stays up.
    Hold,
    /// While it falls.
    Decay,
    /// After the key is up.
    Release,
}

/// A source that drives a number.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Route {
    /// Its name for good.
    pub id: RouteId,
    /// What drives.
    pub from: Source,
    /// What it is multiplied by.
    pub times: Option<Source>,
    /// What lies between; straight where there is none.
    pub curve: Option<CurveId>,
    /// What is driven.
    pub to: ParamId,
    /// How far at the source's most, in the unit of what is driven.
    pub amount: f64,
}

/// The form of a slow movement.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Wave {
    /// As a pendulum.
    #[default]
    Sine,
    /// Up and down in straight lines.
    Triangle,
    /// Up, and at once down.
    SawUp,
    /// Down, and at once up.
    SawDown,
    /// One end or the other.
    Square,
    /// To a random place at once, and there for a round.
    Steps,
    /// From random place to random place, gradually.
    Smooth,
}

/// How fast a movement is.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Rate {
    /// Rounds a second.
    Hz(f64),
    /// Quarter notes of the tempo for a round.
    Quarters(f64),
}

/// A slow movement.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Movement {
    /// Its name for good.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub id: MovementId,
    /// Its form.
    pub wave: Wave,
    /// How fast.
    pub rate: Rate,
    /// Where in a round it begins, 0 to 1.
    #[serde(default)]
    pub phase: f64,
    /// Milliseconds before it begins.
    #[serde(default)]
    pub delay_ms: f64,
    /// Milliseconds until it goes all the way.
    #[serde(default)]
    pub fade_in_ms: f64,
    /// Whether each voice has its own, or all share one.
    #[serde(default)]
    pub per_voice: bool,
    /// Whether it ends after a round.
    #[serde(default)]
    pub once: bool,
}
