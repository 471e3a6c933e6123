//! The stages of cleaning, each said by a fact of its own.

use serde_json::Value;
use signal::Cleaning;

/// Whether a stage is one, and its numbers lie where they make sense.
pub(crate) fn stage_fits(name: &str, value: &Value) -> bool {
    let Some(cleaning) = cleaning_of([(name, value)].into_iter()) else {
        return false;
    };
    let within = |x: f64, low: f64, high: f64| x.is_finite() && (low..=high).contains(&x);
    cleaning.channels.is_none_or(|c| within(c.width, 0.0, 2.0))
        && cleaning
            .high_pass
            .is_none_or(|h| within(h.hz, 10.0, 2_000.0) && matches!(h.db_per_octave, 12 | 24 | 36 | 48))
        && cleaning
            .hum
            .is_none_or(|h| h.hz.is_none_or(|hz| within(hz, 20.0, 500.0)))
        && cleaning.hiss.is_none_or(|h| within(h.reduction_db, 0.0, 40.0))
        && cleaning
            .expander
            .is_none_or(|e| within(e.over_floor_db, 0.0, 40.0) && within(e.ratio, 1.0, 4.0))
        && cleaning
            .compressor
            .is_none_or(|c| within(c.threshold_dbfs, -60.0, 0.0) && within(c.ratio, 1.0, 10.0))
        && cleaning.evening.is_none_or(|e| within(e.share, 0.0, 1.0))
        && cleaning
            .limiter
            .is_none_or(|l| within(l.ceiling_dbtp, -24.0, 0.0))
}

/// The stages that were said, by their names; `None` where one cannot be read.
pub(crate) fn cleaning_of<'a>(said: impl Iterator<Item = (&'a str, &'a Value)>) -> Option<Cleaning> {
    let fields: serde_json::Map<String, Value> = said
        .map(|(name, value)| (name.to_owned(), value.clone()))
        .collect();
    serde_json::from_value(Value::Object(fields)).ok()
}
