//! A zone of an instrument with what its preset adds.

use super::file::Said;
use super::*;

/// Where a filter is as good as open, in absolute cents (section 8.1.2, initialFilterFc).
pub(super) const OPEN_CENTS: i32 = 13_500;

/// A zone of an instrument with what its preset adds.
pub(super) struct Both {
    pub(super) sample: usize,
    pub(super) said: Said,
    pub(super) keys: (u8, u8),
    pub(super) strikes: (u8, u8),
}

impl Both {
    /// What a shape says, on every key and strike.
    pub(super) fn of_shape(said: Said) -> Self {
        Self {
            sample: 0,
            said,
            keys: (0, 127),
            strikes: (0, 127),
        }
    }

    /// `None` where they have no key or no strike together.
    pub(super) fn of_zone(zone: &Zone, added: &Said) -> Option<Self> {
        let mut said = zone.said.clone();
        for (generator, amount) in &added.generators {
            if !is_of_instruments(*generator) {
                let own = said.generators.get(generator);
                let own = own.map_or(usual(*generator), |own| i32::from(*own));
                let sum = (own + i32::from(*amount)).clamp(-32_768, 32_767);
                said.generators.insert(*generator, sum as i16);
            }
        }
        Some(Self {
            sample: zone.sample,
            keys: meet(zone.said.keys(), added.keys())?,
            strikes: meet(zone.said.strikes(), added.strikes())?,
            said,
        })
    }

    /// What a generator says, where one does.
    pub(super) fn of(&self, generator: u16) -> Option<i32> {
        self.said
            .generators
            .get(&generator)
            .map(|amount| i32::from(*amount))
    }

    /// The same, or what is usual.
    pub(super) fn or(&self, generator: u16, usual: i32) -> i32 {
        self.of(generator).unwrap_or(usual)
    }
}

/// What stands where no generator says it (section 8.1.3), of those to which a preset adds.
fn usual(generator: u16) -> i32 {
    match generator {
        FILTER_CUTOFF => OPEN_CENTS,
        21 | 23 | 25..=28 | 30 | 33..=36 | 38 => -12_000,
        SCALE_TUNING => 100,
        _ => 0,
    }
}

/// Generators that stand in an instrument alone (section 8.1.2): addresses, modes, and what takes the place of keys and strikes.
fn is_of_instruments(generator: u16) -> bool {
    matches!(generator, 0..=4 | 12 | 45..=47 | 50 | 54 | 57 | 58 | KEY_RANGE | VELOCITY_RANGE | SAMPLE | INSTRUMENT)
}

fn meet(a: (u8, u8), b: (u8, u8)) -> Option<(u8, u8)> {
    let met = (a.0.max(b.0), a.1.min(b.1));
    (met.0 <= met.1).then_some(met)
}
