//! Settings of effects, as they are said: which lie where their kind lets them.

use crate::Fact;
use program::{EffectKind, SettingUnit};
use serde_json::Value;

/// Facts of settings, in the order of their places.
pub const EFFECT_SETTINGS: [Fact; 8] = [
    Fact::EffectSetting1,
    Fact::EffectSetting2,
    Fact::EffectSetting3,
    Fact::EffectSetting4,
    Fact::EffectSetting5,
    Fact::EffectSetting6,
    Fact::EffectSetting7,
    Fact::EffectSetting8,
];

/// Why a setting cannot be that of an effect whose kind is said so: a sentence that names the setting and its ends. `None` where it can, and for any other
/// fact.
pub(crate) fn refuses_setting(fact: Fact, value: &Value, kind: Option<&Value>) -> Option<String> {
    let place = EFFECT_SETTINGS.iter().position(|other| *other == fact)?;
    let kind = kind.and_then(|kind| {
        serde_json::from_value::<Option<EffectKind>>(kind.clone())
            .ok()
            .flatten()
    });
    let Some(kind) = kind else {
        return Some("There is no such effect any more.".into());
    };
    let Some(row) = kind.settings().get(place) else {
        return Some(format!("{} has no such setting.", kind.label()));
    };
    let fits = value
        .as_f64()
        .is_some_and(|value| (row.low..=row.high).contains(&value));
    (!fits).then(|| {
        format!(
            "{}, {} lies between {} and {}{}.",
            kind.label(),
            row.name,
            row.low.to_string().replace('-', "−"),
            row.high,
            unit_of(row.unit)
        )
    })
}

fn unit_of(unit: SettingUnit) -> &'static str {
    match unit {
        SettingUnit::Hertz => " Hz",
        SettingUnit::Milliseconds => " ms",
        SettingUnit::Seconds => " s",
        SettingUnit::Percent => " %",
        SettingUnit::Decibels => " dB",
        SettingUnit::Cents => " cents",
        SettingUnit::Degrees => "°",
        SettingUnit::Bits => " bits",
        SettingUnit::Quarters => " quarter notes",
        SettingUnit::Ratio | SettingUnit::Choice => "",
    }
}
