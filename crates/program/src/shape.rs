//! How something plays: loudness over time, a filter, and what drives what.

use crate::{CourseId, Movement, Route, ShapeId};
use serde::{Deserialize, Serialize};

/// Loudness over time and over velocity. Decay and release are times to 100 dB down, linear in dB (SoundFont 2.04,
/// generators 36 and 38); the attack is linear in amplitude.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Loudness {
    /// Milliseconds of silence before it begins.
    pub delay_ms: f64,
    /// Milliseconds from silence to full.
    pub attack_ms: f64,
    /// Milliseconds that it stays full.
    pub hold_ms: f64,
    /// Milliseconds for 100 dB, ended at the sustain level.
    pub decay_ms: f64,
    /// Level while held, 0 dB or less.
    pub sustain_db: f64,
    /// Milliseconds for 100 dB after key-up.
    pub release_ms: f64,
    /// How strongly velocity drives level, 0 to 1; see [`crate::velocity_gain_db`].
    pub velocity_to_level: f64,
    /// How attack, decay and release bend: 0 straight, −1 early, 1 late; see [`crate::bent`].
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub bends: [f64; 3],
}

impl Default for Loudness {
    fn default() -> Self {
        // A release of about 300 ms where nothing else is known: common practice. To be heard ending after 300 ms
        // (60 dB down) it takes 500 ms for 100 dB.
        Self {
            delay_ms: 0.0,
            attack_ms: 2.0,
            hold_ms: 0.0,
            decay_ms: 0.0,
            sustain_db: 0.0,
            release_ms: 500.0,
            velocity_to_level: 0.0,
            bends: [0.0; 3],
        }
    }
}

/// A course over time that drives something else than loudness, from 0 to 1.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Course {
    /// Its name for good.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub id: CourseId,
    /// Milliseconds before it begins.
    pub delay_ms: f64,
    /// Milliseconds until it is 1.
    pub attack_ms: f64,
    /// Milliseconds that it stays there.
    pub hold_ms: f64,
    /// Milliseconds from there to `sustain`.
    pub decay_ms: f64,
    /// Where it stays while the key is held, 0 to 1.
    pub sustain: f64,
    /// Milliseconds to 0 after key-up.
    pub release_ms: f64,
    /// How attack, decay and release bend: 0 straight, −1 early, 1 late.
    #[serde(default)]
    pub bends: [f64; 3],
}

/// What a filter lets pass.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Passes {
    /// What lies under the cutoff.
    #[default]
    Low,
    /// What lies over it.
    High,
    /// What lies around it.
    Band,
    /// All but that.
    Notch,
}

/// A filter.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Filter {
    /// What it lets pass.
    pub passes: Passes,
    /// 1, 2 or 4.
    pub poles: u8,
    /// Hz.
    pub cutoff_hz: f64,
    /// How far the cutoff follows the key, from middle C: 1 fully.
    pub key_follow: f64,
    /// dB at the cutoff over what passes (SoundFont 2.04, generator 9); 0 is as flat as can be, and 3.01 dB down there.
    pub resonance_db: f64,
    /// Whether what it takes away is made up, so that what comes out is as loud as what went in.
    pub makes_up: bool,
}

/// How the regions of a strand play, or one of them.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Shape {
    /// Its name for good.
    pub id: ShapeId,
    /// Loudness.
    pub loudness: Loudness,
    /// Other courses, which routes take.
    pub courses: Vec<Course>,
    /// The filter; `None` lets all pass.
    pub filter: Option<Filter>,
    /// Slow movements, which routes take.
    pub movements: Vec<Movement>,
    /// What drives what.
    pub routes: Vec<Route>,
}
