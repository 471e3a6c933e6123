//! What generators count in (section 8.1.2), and how Ladder's own units stand to it.

use crate::driven::cents_a_key;
use program::{CourseId, CourseTime, Filter, Shape, pan_gains};

/// Key 0, in Hz.
const KEY_0_HZ: f64 = 8.175_798_9;

/// Timecents of a time: 1200·log₂ s.
pub(crate) fn timecents(ms: f64) -> i16 {
    // A millisecond is a little less than one in whole timecents.
    if ms < 0.999 {
        -12_000
    } else {
        (1200.0 * (ms / 1000.0).log2()).round().clamp(-12_000.0, 8_000.0) as i16
    }
}

/// The time of timecents, in milliseconds.
pub(crate) fn ms_of(timecents: i16) -> f64 {
    if timecents <= -12_000 {
        0.0
    } else {
        1000.0 * (f64::from(timecents) / 1200.0).exp2()
    }
}

/// Hz of absolute cents.
pub(super) fn hz_of(cents: f64) -> f64 {
    KEY_0_HZ * (cents / 1200.0).exp2()
}

/// Cents over 8.176 Hz, the key 0.
pub(super) fn absolute_cents(hz: f64) -> f64 {
    1200.0 * (hz / KEY_0_HZ).log2()
}

/// The share of its way from which a course is let go: a SoundFont says how long all of the way takes, Ladder how long it takes from where it is held. One
/// that is held at nothing, or nearly, is let go on its way there.
pub(super) fn released_from(sustain: f64) -> f64 {
    const NEARLY_NOTHING: f64 = 0.05;
    if sustain < NEARLY_NOTHING { 1.0 } else { sustain }
}

/// A time as it is at middle C, of one that follows the key by so many cents.
pub(super) fn at_middle_c(shape: &Shape, id: CourseId, time: CourseTime, ms: f64) -> f64 {
    ms * (-cents_a_key(shape, id, time).round() * 60.0 / 1_200.0).exp2()
}

/// How much lower the left of two sides is than the right where they are panned by so many hundredths, in centibels.
fn leaning(hundredths: i32) -> i32 {
    let (left, right) = pan_gains(f64::from(hundredths) / 100.0, true);
    let centibels = |gain: f64| (-200.0 * gain.max(1e-4).log10()).round() as i32;
    centibels(left) - centibels(right)
}

/// The place of two sides that lean so: several lean alike, of which this is the one nearest to the middle.
pub(super) fn pan_that_leans(centibels: i32) -> f64 {
    let apart = |pan: &i32| ((leaning(*pan) - centibels).abs(), pan.abs());
    f64::from((-100..=100).min_by_key(apart).unwrap_or(0)) / 100.0
}

/// A place of two sides as a SoundFont can say it.
pub(crate) fn pan_of_two_sides(pan: f64) -> f64 {
    pan_that_leans(leaning((pan * 100.0).round() as i32))
}

/// Level of an attenuation in centibels.
pub(super) fn under(centibels: i32) -> f64 {
    if centibels == 0 {
        0.0
    } else {
        -f64::from(centibels) / 10.0
    }
}

/// How many decibels a player lowers what a filter stands out by so much: half of that (2.01, page 59, "the gain … reduced by half the height of the resonance peak"; from memory,
/// and as the crate `rustysynth` has it).
pub(crate) fn taken_by_resonance(filter: Option<&Filter>) -> f64 {
    filter.map_or(0.0, |filter| filter.resonance_db / 2.0)
}
