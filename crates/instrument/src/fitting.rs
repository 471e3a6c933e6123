//! Which values fit a fact, where no range says so.

use crate::{ByController, ByKey, Score, Slicing, TakeLoop};
use program::Glide;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Most of a list of short words.
const MOST_TAGS: usize = 20;

pub(crate) fn is<T: DeserializeOwned>(value: &Value) -> bool {
    serde_json::from_value::<T>(value.clone()).is_ok()
}

pub(crate) fn is_or_none<const MOST: u64>(value: &Value) -> bool {
    value.is_null() || value.as_u64().is_some_and(|x| x <= MOST)
}

pub(crate) fn is_voices(value: &Value) -> bool {
    value.is_null() || value.as_u64().is_some_and(|most| (1..=128).contains(&most))
}

pub(crate) fn is_glide(value: &Value) -> bool {
    serde_json::from_value::<Option<Glide>>(value.clone())
        .is_ok_and(|glide| glide.is_none_or(|glide| (0.0..=10_000.0).contains(&glide.ms)))
}

pub(crate) fn is_place(value: &Value) -> bool {
    value.is_null() || value.as_f64().is_some_and(f64::is_finite)
}

pub(crate) fn is_name_or_gone(value: &Value) -> bool {
    let fits = |name: &str| !name.trim().is_empty() && name.chars().count() <= 60;
    value.is_null() || value.as_str().is_some_and(fits)
}

pub(crate) fn is_send(value: &Value) -> bool {
    value.is_null() || value.as_f64().is_some_and(|db| (-96.0..=24.0).contains(&db))
}

pub(crate) fn is_key(value: &Value) -> bool {
    value.as_u64().is_some_and(|key| key <= 127)
}

pub(crate) fn is_controller(value: &Value) -> bool {
    serde_json::from_value::<Option<ByController>>(value.clone())
        .is_ok_and(|by| by.is_none_or(|by| by.is_possible()))
}

pub(crate) fn is_by_key(value: &Value) -> bool {
    serde_json::from_value::<Option<ByKey>>(value.clone()).is_ok_and(|by| by.is_none_or(|by| by.key < 128))
}

pub(crate) fn is_score_or_none(value: &Value) -> bool {
    serde_json::from_value::<Option<Score>>(value.clone())
        .is_ok_and(|score| score.is_none_or(|score| score.is_playable()))
}

pub(crate) fn is_width(value: &Value) -> bool {
    matches!(value.as_u64(), Some(24 | 32))
}

pub(crate) fn are_tags(value: &Value) -> bool {
    serde_json::from_value::<Vec<String>>(value.clone())
        .is_ok_and(|tags| tags.len() <= MOST_TAGS && tags.iter().all(|tag| tag.chars().count() <= 40))
}

pub(crate) fn are_slices(value: &Value) -> bool {
    serde_json::from_value::<Slicing>(value.clone()).is_ok_and(|slicing| slicing.is_in_order())
}

pub(crate) fn is_stretch(value: &Value) -> bool {
    serde_json::from_value::<[u64; 2]>(value.clone()).is_ok_and(|[first, end]| first < end)
}

pub(crate) fn is_loop(value: &Value) -> bool {
    value.is_null()
        || serde_json::from_value::<TakeLoop>(value.clone()).is_ok_and(|l| l.start_frame < l.end_frame)
}
