//! What drives a strand, as it is said: a route with its curve, the form of the filter; and which of them, of courses and of slow movements fit.

use program::{Course, CurvePoint, Movement, ParamId, Passes, Rate, Source, Standing};
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
            ParamId::StrandLevel(_) => 96.0,
            // In octaves, or in the setting's own unit.
            ParamId::Effect(..) => 48_000.0,
        };
        let is_played = |source: Source| match source {
            Source::Controller(controller) => controller < 120,
            _ => true,
        };
        // What is one for all voices is driven by what is.
        let of_whole = matches!(self.to, ParamId::StrandLevel(_) | ParamId::Effect(..));
        let drives = |source: Source| is_played(source) && (!of_whole || Standing::is_shared(source));
        let rises = self.curve.windows(2).all(|two| two[0].at <= two[1].at);
        let within = |point: &CurvePoint| (0.0..=1.0).contains(&point.at) && point.value.abs() <= 1.0;
        self.amount.abs() <= most
            && drives(self.from)
            && self.times.is_none_or(drives)
            && self.curve.len() <= MOST_POINTS
            && rises
            && self.curve.iter().all(within)
    }
}

fn movement_fits(movement: &Movement) -> bool {
    let rate = match movement.rate {
        Rate::Hz(hz) => (SLOWEST_HZ..=FASTEST_HZ).contains(&hz),
        Rate::Quarters(quarters) => (1.0 / 16.0..=64.0).contains(&quarters),
    };
    let times = [movement.delay_ms, movement.fade_in_ms];
    rate && (0.0..=1.0).contains(&movement.phase) && times.iter().all(|ms| (0.0..=20_000.0).contains(ms))
}

fn course_fits(course: &Course) -> bool {
    let parts = [
        course.delay_ms,
        course.attack_ms,
        course.hold_ms,
        course.decay_ms,
        course.release_ms,
    ];
    parts.iter().all(|ms| (0.0..=100_000.0).contains(ms))
        && (0.0..=1.0).contains(&course.sustain)
        && course.bends.iter().all(|bend| bend.abs() <= 1.0)
}

fn fits_or_gone<T: DeserializeOwned>(value: &Value, fits: fn(&T) -> bool) -> bool {
    serde_json::from_value::<Option<T>>(value.clone()).is_ok_and(|said| said.as_ref().is_none_or(fits))
}

pub(crate) fn is_route(value: &Value) -> bool {
    fits_or_gone(value, RouteSaid::fits)
}

pub(crate) fn is_movement(value: &Value) -> bool {
    fits_or_gone(value, movement_fits)
}

pub(crate) fn is_course(value: &Value) -> bool {
    fits_or_gone(value, course_fits)
}

pub(crate) fn is_filter_form(value: &Value) -> bool {
    fits_or_gone(value, |form: &FilterForm| {
        let one = matches!(form.passes, Passes::Low | Passes::High);
        matches!(form.poles, 2 | 4) || (form.poles == 1 && one)
    })
}
