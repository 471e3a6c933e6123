//! What drives a strand, as it is said: routes, slow movements, courses and the form of the filter, and what of them fits.

use program::{CurvePoint, ParamId, Passes, Rate, Source, Wave};
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use serde_json::Value;
use utoipa::ToSchema;

/// Most points of a drawn curve.
const MOST_POINTS: usize = 16;
/// Fastest movement, in Hz: what is faster is no movement any more, but a tone.
const FASTEST_HZ: f64 = 40.0;
const SLOWEST_HZ: f64 = 0.01;

/// What a filter lets pass and how steeply, as it is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FilterForm {
    /// What it lets pass.
    pub passes: Passes,
    /// 1, 2 or 4.
    pub poles: u8,
}

/// A route, as it is said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RouteSaid {
    /// What drives.
    pub from: Source,
    /// What it is multiplied by.
    #[serde(default)]
    pub times: Option<Source>,
    /// What lies between, from left to right; straight where there are no points.
    #[serde(default)]
    pub curve: Vec<CurvePoint>,
    /// What is driven.
    pub to: ParamId,
    /// How far at the source's most.
    pub amount: f64,
}

/// A slow movement, as it is said.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MovementSaid {
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

/// A course, as it is said.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct CourseSaid {
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

impl RouteSaid {
    fn fits(&self) -> bool {
        let most = match self.to {
            ParamId::Level => 96.0,
            ParamId::Place => 2.0,
            ParamId::Pitch => 4_800.0,
            ParamId::Cutoff => 12_000.0,
            ParamId::Resonance => 40.0,
            ParamId::SampleStart | ParamId::LoopStart | ParamId::LoopLength => 1.0,
            ParamId::MovementRate(_) | ParamId::CourseTime(..) => 10.0,
            ParamId::MovementDepth(_) | ParamId::RouteAmount(_) => 4.0,
            // No command sets what nothing plays yet.
            ParamId::StrandLevel(_) | ParamId::Effect(..) => return false,
        };
        let is_played = |source: Source| match source {
            Source::Controller(controller) => controller < 120,
            Source::Control(_) => false,
            _ => true,
        };
        let rises = self.curve.windows(2).all(|two| two[0].at <= two[1].at);
        let within = |point: &CurvePoint| (0.0..=1.0).contains(&point.at) && point.value.abs() <= 1.0;
        self.amount.abs() <= most
            && is_played(self.from)
            && self.times.is_none_or(is_played)
            && self.curve.len() <= MOST_POINTS
            && rises
            && self.curve.iter().all(within)
    }
}

impl MovementSaid {
    fn fits(&self) -> bool {
        let rate = match self.rate {
            Rate::Hz(hz) => (SLOWEST_HZ..=FASTEST_HZ).contains(&hz),
            Rate::Quarters(quarters) => (1.0 / 16.0..=64.0).contains(&quarters),
        };
        rate && (0.0..=1.0).contains(&self.phase)
            && [self.delay_ms, self.fade_in_ms]
                .iter()
                .all(|ms| (0.0..=20_000.0).contains(ms))
    }
}

impl CourseSaid {
    fn fits(&self) -> bool {
        let parts = [
            self.delay_ms,
            self.attack_ms,
            self.hold_ms,
            self.decay_ms,
            self.release_ms,
        ];
        parts.iter().all(|ms| (0.0..=100_000.0).contains(ms))
            && (0.0..=1.0).contains(&self.sustain)
            && self.bends.iter().all(|bend| bend.abs() <= 1.0)
    }
}

fn fits_or_gone<T: DeserializeOwned>(value: &Value, fits: fn(&T) -> bool) -> bool {
    serde_json::from_value::<Option<T>>(value.clone()).is_ok_and(|said| said.as_ref().is_none_or(fits))
}

pub(crate) fn is_route(value: &Value) -> bool {
    fits_or_gone(value, RouteSaid::fits)
}

pub(crate) fn is_movement(value: &Value) -> bool {
    fits_or_gone(value, MovementSaid::fits)
}

pub(crate) fn is_course(value: &Value) -> bool {
    fits_or_gone(value, CourseSaid::fits)
}

pub(crate) fn is_filter_form(value: &Value) -> bool {
    fits_or_gone(value, |form: &FilterForm| {
        let one = matches!(form.passes, Passes::Low | Passes::High);
        matches!(form.poles, 2 | 4) || (form.poles == 1 && one)
    })
}
