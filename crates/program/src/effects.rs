//! Rows of effects: of the whole, of a strand, or shared by those that send to them; and one table of what each kind of effect can be set to.

use crate::{BusId, EffectId, Program, ShapeId, StrandId};
use serde::{Deserialize, Serialize};

/// Most settings of an effect.
pub const MOST_SETTINGS: usize = 8;
/// Most effects in a row.
pub const MOST_IN_ROW: usize = 16;

/// The shape under whose name routes of the whole are said: of effects, and of levels of strands.
pub const ROUTES_OF_WHOLE: ShapeId = ShapeId((1 << 53) - 1);

/// What a setting counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SettingUnit {
    /// Hz, heard by ratios.
    Hertz,
    /// Milliseconds.
    Milliseconds,
    /// Seconds, heard by ratios.
    Seconds,
    /// Hundredths.
    Percent,
    /// dB.
    Decibels,
    /// Cents.
    Cents,
    /// Degrees of a round.
    Degrees,
    /// Bits.
    Bits,
    /// So many to one, or a quality: heard by ratios.
    Ratio,
    /// Quarter notes of the tempo; 0 for none.
    Quarters,
    /// One of several, by its place.
    Choice,
}

/// What is known of a setting.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingRow {
    /// As the maker sees it.
    pub name: &'static str,
    /// What it counts.
    pub unit: SettingUnit,
    /// Least.
    pub low: f64,
    /// Most.
    pub high: f64,
    /// Where nothing is said.
    pub first: f64,
    /// Names of choices, from 0.
    pub choices: &'static [&'static str],
}

impl SettingRow {
    const fn of(name: &'static str, unit: SettingUnit, (low, high): (f64, f64), first: f64) -> Self {
        Self {
            name,
            unit,
            low,
            high,
            first,
            choices: &[],
        }
    }

    const fn choice(name: &'static str, choices: &'static [&'static str]) -> Self {
        Self {
            name,
            unit: SettingUnit::Choice,
            low: 0.0,
            high: choices.len() as f64 - 1.0,
            first: 0.0,
            choices,
        }
    }

    /// Whether it is heard by ratios: what drives it does so in octaves.
    pub fn is_by_ratio(&self) -> bool {
        matches!(
            self.unit,
            SettingUnit::Hertz | SettingUnit::Seconds | SettingUnit::Ratio
        )
    }

    /// A value that is driven so far: in octaves where it is heard by ratios, else in its own unit.
    pub fn driven(&self, value: f64, by: f64) -> f64 {
        let driven = if self.is_by_ratio() {
            value * libm::exp2(by)
        } else {
            value + by
        };
        self.nearest(driven)
    }

    /// A value as near as it can be.
    pub fn nearest(&self, value: f64) -> f64 {
        let within = value.clamp(self.low, self.high);
        match self.unit {
            SettingUnit::Choice => within.round(),
            _ => within,
        }
    }
}

const MIX: &str = "Mix";

const fn mix(first: f64) -> SettingRow {
    SettingRow::of(MIX, SettingUnit::Percent, (0.0, 100.0), first)
}

macro_rules! kinds {
    ($( $(#[$says:meta])* $kind:ident $label:literal: [$($row:expr),* $(,)?]; )*) => {
        /// What an effect does.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "snake_case")]
        pub enum EffectKind {
            $( $(#[$says])* $kind, )*
        }

        impl EffectKind {
            /// All of them, in the order in which they are offered.
            pub const ALL: &[Self] = &[$(Self::$kind),*];

            /// As the maker sees it.
            pub fn label(self) -> &'static str {
                match self { $(Self::$kind => $label,)* }
            }

            /// What can be set, by its place.
            pub fn settings(self) -> &'static [SettingRow] {
                use SettingUnit::*;
                match self { $(Self::$kind => {
                    const ROWS: &[SettingRow] = &[$($row),*];
                    ROWS
                })* }
            }
        }
    };
}

/// A kind of effect, as it is offered and read.
#[derive(Debug, Clone, Copy, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EffectView {
    /// Which.
    pub kind: EffectKind,
    /// As the maker sees it.
    pub label: &'static str,
    /// What can be set, by its place.
    pub settings: &'static [SettingRow],
}

impl EffectView {
    /// All kinds, in the order in which they are offered.
    pub fn all() -> Vec<Self> {
        let view = |kind: &EffectKind| Self {
            kind: *kind,
            label: kind.label(),
            settings: kind.settings(),
        };
        EffectKind::ALL.iter().map(view).collect()
    }
}

impl EffectKind {
    /// The place of the setting that says how much of it is heard beside what went in, in percent; `None` where that is all.
    pub fn mix(self) -> Option<usize> {
        self.settings().iter().position(|row| row.name == MIX)
    }
}

kinds! {
    /// Three bands.
    Equaliser "Equaliser": [
        SettingRow::of("Low", Decibels, (-18.0, 18.0), 0.0),
        SettingRow::of("Low at", Hertz, (20.0, 2_000.0), 150.0),
        SettingRow::of("Middle", Decibels, (-18.0, 18.0), 0.0),
        SettingRow::of("Middle at", Hertz, (50.0, 16_000.0), 1_000.0),
        SettingRow::of("Middle's Q", Ratio, (0.2, 12.0), 0.9),
        SettingRow::of("High", Decibels, (-18.0, 18.0), 0.0),
        SettingRow::of("High at", Hertz, (500.0, 18_000.0), 5_000.0),
    ];
    /// Bright against dark.
    Tilt "Tilt": [
        SettingRow::of("Bright", Decibels, (-9.0, 9.0), 0.0),
        SettingRow::of("Around", Hertz, (100.0, 8_000.0), 800.0),
    ];
    /// Overtones.
    Drive "Drive": [
        SettingRow::choice("Form", &["soft", "hard", "tape-like"]),
        SettingRow::of("Drive", Decibels, (0.0, 40.0), 12.0),
        SettingRow::of("Tone", Hertz, (500.0, 20_000.0), 12_000.0),
        mix(100.0),
    ];
    /// A lower rate and fewer bits.
    Coarse "Lower rate and bits": [
        SettingRow::of("Rate", Hertz, (500.0, 48_000.0), 16_000.0),
        SettingRow::of("Bits", Bits, (2.0, 16.0), 10.0),
        mix(100.0),
    ];
    /// Hiss that follows the note.
    Noise "Noise": [
        SettingRow::of("Level", Decibels, (-80.0, 0.0), -40.0),
        SettingRow::of("Tone", Hertz, (200.0, 20_000.0), 8_000.0),
    ];
    /// Several that are slightly off.
    Chorus "Chorus": [
        SettingRow::of("Rate", Hertz, (0.05, 8.0), 0.6),
        SettingRow::of("Depth", Milliseconds, (0.0, 8.0), 2.0),
        mix(50.0),
        SettingRow::of("Around", Milliseconds, (1.0, 20.0), 14.0),
        SettingRow::choice("Voices", &["two a side", "one a side"]),
    ];
    /// Level that moves.
    Tremolo "Tremolo": [
        SettingRow::of("Rate", Hertz, (0.05, 20.0), 4.0),
        SettingRow::of("Depth", Percent, (0.0, 100.0), 40.0),
        SettingRow::of("Sides apart", Degrees, (0.0, 180.0), 0.0),
    ];
    /// Pitch that moves.
    Vibrato "Vibrato": [
        SettingRow::of("Rate", Hertz, (0.5, 12.0), 5.0),
        SettingRow::of("Depth", Cents, (0.0, 100.0), 15.0),
    ];
    /// Echoes.
    Delay "Delay": [
        SettingRow::of("Time", Milliseconds, (1.0, 2_000.0), 350.0),
        SettingRow::of("In beats", Quarters, (0.0, 4.0), 0.0),
        SettingRow::of("Again", Percent, (0.0, 95.0), 35.0),
        SettingRow::choice("Goes", &["straight", "from side to side"]),
        SettingRow::of("Tone", Hertz, (200.0, 20_000.0), 6_000.0),
        mix(25.0),
    ];
    /// A room.
    Reverb "Reverb": [
        SettingRow::of("Room size", Percent, (0.0, 100.0), 50.0),
        SettingRow::of("Time", Seconds, (0.1, 20.0), 1.6),
        SettingRow::of("Tone", Hertz, (500.0, 20_000.0), 6_000.0),
        SettingRow::of("Before", Milliseconds, (0.0, 200.0), 10.0),
        mix(25.0),
    ];
    /// How far left and right lie apart.
    Width "Width": [
        SettingRow::of("Width", Percent, (0.0, 200.0), 100.0),
    ];
    /// What is loud is lowered.
    Compressor "Compressor": [
        SettingRow::of("Over", Decibels, (-60.0, 0.0), -18.0),
        SettingRow::of("Ratio", Ratio, (1.0, 20.0), 3.0),
        SettingRow::of("Attack", Milliseconds, (0.1, 200.0), 10.0),
        SettingRow::of("Release", Milliseconds, (5.0, 2_000.0), 150.0),
        SettingRow::of("Made up", Decibels, (0.0, 24.0), 0.0),
    ];
    /// Nothing is louder than a limit.
    Limiter "Limiter": [
        SettingRow::of("Limit", Decibels, (-24.0, 0.0), -1.0),
        SettingRow::of("Release", Milliseconds, (5.0, 2_000.0), 100.0),
    ];
}

/// An effect in a row.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Effect {
    /// Its name for good, among all rows.
    pub id: EffectId,
    /// What it does.
    pub kind: EffectKind,
    /// Whether it is on.
    pub on: bool,
    /// How loud it is while it is on, in dB, to compare by.
    #[serde(default)]
    pub level_db: f64,
    /// Its settings, in the order of its kind.
    pub settings: Vec<f64>,
}

impl Effect {
    /// As it is at first: on.
    pub fn new(id: EffectId, kind: EffectKind) -> Self {
        Self {
            id,
            kind,
            on: true,
            level_db: 0.0,
            settings: kind.settings().iter().map(|row| row.first).collect(),
        }
    }

    /// All settings by their places, as near as they can be.
    pub fn set_to(&self) -> [f64; MOST_SETTINGS] {
        let mut all = [0.0; MOST_SETTINGS];
        for (n, (value, row)) in all.iter_mut().zip(self.kind.settings()).enumerate() {
            *value = row.nearest(self.settings.get(n).copied().unwrap_or(row.first));
        }
        all
    }
}

/// A row of effects: of the whole, of a strand, or one that strands send to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Bus {
    /// Its name for good.
    pub id: BusId,
    /// As the maker sees it.
    pub name: String,
    /// Level of what comes out of it.
    pub gain_db: f64,
    /// In the order in which they are heard.
    pub effects: Vec<Effect>,
}

impl Program {
    /// The same without effects: rows do nothing, and nothing is sent to those that are shared.
    pub fn dry(&self) -> Self {
        let mut dry = self.clone();
        for bus in &mut dry.buses {
            bus.effects.clear();
        }
        for strand in &mut dry.strands {
            strand.sends.clear();
        }
        dry
    }
}

impl BusId {
    /// That of the whole: all others go into it.
    pub const WHOLE: Self = Self(0);

    /// That of a strand alone.
    pub fn of_strand(strand: StrandId) -> Self {
        Self(2 * strand.0 + 1)
    }

    /// The strand whose own it is.
    pub fn strand(self) -> Option<StrandId> {
        (self.0 % 2 == 1).then_some(StrandId(self.0 / 2))
    }

    /// Whether strands send to it.
    pub fn is_shared(self) -> bool {
        self != Self::WHOLE && self.0.is_multiple_of(2)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_has_settings_that_lie_where_they_may() {
        for kind in EffectKind::ALL {
            let rows = kind.settings();
            assert!((1..=MOST_SETTINGS).contains(&rows.len()), "{kind:?}");
            for row in rows {
                assert!(
                    row.low < row.high && row.nearest(row.first) == row.first,
                    "{row:?}"
                );
                assert_eq!(row.unit == SettingUnit::Choice, !row.choices.is_empty());
            }
            let effect = Effect::new(EffectId(1), *kind);
            assert_eq!(effect.set_to()[..rows.len()], effect.settings);
        }
    }

    #[test]
    fn what_is_said_of_a_setting_is_brought_to_where_it_may_lie() {
        let mut effect = Effect::new(EffectId(1), EffectKind::Drive);
        effect.settings = vec![1.6, 900.0];
        assert_eq!(effect.set_to()[..4], [2.0, 40.0, 12_000.0, 100.0]);
    }

    #[test]
    fn the_row_of_a_strand_is_known_by_its_strand() {
        let bus = BusId::of_strand(StrandId(7));
        assert_eq!((bus.strand(), bus.is_shared()), (Some(StrandId(7)), false));
        assert!(!BusId::WHOLE.is_shared() && BusId(2).is_shared());
    }
}
