//! What will be recorded.

use crate::ids::{LayerId, Named, PassId, are_names, named_by_place};
use program::SoundsOn;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the thing is; decides how long it is held and whether it is looped.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// Sounds as long as the key is down, evenly.
    Sustained,
    /// Sounds as long as the key is down, changing slowly.
    Pad,
    /// Sung or blown: as long as the breath.
    Voice,
    /// Struck: dies away by itself.
    Struck,
    /// Plucked: dies away by itself.
    Plucked,
    /// A drum or a noise, without a note of its own.
    Drum,
}

impl Kind {
    /// As it is kept.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sustained => "sustained",
            Self::Pad => "pad",
            Self::Voice => "voice",
            Self::Struck => "struck",
            Self::Plucked => "plucked",
            Self::Drum => "drum",
        }
    }

    /// Whether takes of this kind are looped.
    pub fn loops(self) -> bool {
        matches!(self, Self::Sustained | Self::Pad | Self::Voice)
    }

    /// Whether takes of this kind have a note that can be right or wrong.
    pub fn pitched(self) -> bool {
        self != Self::Drum
    }
}

/// How the recordings come to be.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum How {
    /// A synthesiser plays itself.
    #[default]
    OverMidi,
    /// One prompted note after another.
    ByHand,
    /// One recording, sliced afterwards.
    LongTake,
    /// Files that exist already.
    Files,
}

/// The rig that stands for the devices of the computer that shows the page.
pub const PAGE_RIG: &str = "page";

/// Where the sound comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Source {
    /// How the recordings come to be.
    #[serde(default)]
    pub how: How,
    /// The rig's id, as `GET /api/rigs` lists it; `page` is the devices of the computer that shows the page.
    pub rig: String,
    /// MIDI channel, 1 to 16.
    pub channel: u8,
    /// MIDI bank (CC 0 and CC 32, MIDI 1.0), 0 to 16,383; `None` sends none.
    #[serde(default)]
    pub bank: Option<u16>,
    /// MIDI program, 1 to 128.
    pub program: u8,
}

/// One strength.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Layer {
    /// Its name for good, of its own within its pass.
    #[serde(default)]
    #[schema(required)]
    pub id: LayerId,
    /// As the maker calls it: for a player by hand, the word that says how.
    pub name: String,
    /// The velocity it is struck with, 1 to 127.
    pub strike_velocity: u8,
    /// How often it is recorded, where that is not as often as the rest of its pass.
    #[serde(default)]
    pub round_robins: Option<u32>,
    /// The lowest velocity that plays it; `None` is suggested, see [`crate::velocity_thresholds`].
    #[serde(default)]
    pub low_velocity: Option<u8>,
    /// Steps of velocity over which the layer under it fades into it; `None` as many as the map says.
    #[serde(default)]
    pub crossfade: Option<u8>,
}

/// A controller held at a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Controller {
    /// Number, 0 to 119.
    pub number: u8,
    /// Value, 0 to 127.
    pub value: u8,
}

/// One planned round of recording.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Pass {
    /// Its name for good.
    #[serde(default)]
    #[schema(required)]
    pub id: PassId,
    /// As the maker calls it; the strand gets its name.
    pub name: String,
    /// What makes the sound.
    pub sounds_on: SoundsOn,
    /// The rungs, as keys, rising.
    pub rungs: Vec<u8>,
    /// Soft to loud.
    #[serde(deserialize_with = "named_by_place")]
    pub layers: Vec<Layer>,
    /// How often each is recorded, 1 or more.
    pub round_robins: u32,
    /// How long a key is held.
    pub hold_ms: u32,
    /// How long the highest rung is held, where holds differ by register: those between follow a straight line.
    #[serde(default)]
    pub hold_high_ms: Option<u32>,
    /// Longest wait for the tail after key-up.
    pub tail_ms: u32,
    /// Held at its value while the pass is recorded.
    #[serde(default)]
    pub controller: Option<Controller>,
    /// Struck together with each rung, over MIDI: in semitones from it, rising, 0 left out. A chord has no pitch of its own: its root is the rung.
    #[serde(default)]
    pub chord: Vec<i8>,
}

impl Pass {
    /// One that is filled by what was recorded elsewhere: as yet without rungs and layers.
    pub(crate) fn of_files(id: PassId, name: String, sounds_on: SoundsOn) -> Self {
        Self {
            id,
            name,
            sounds_on,
            rungs: Vec::new(),
            layers: Vec::new(),
            round_robins: 1,
            hold_ms: 3_000,
            hold_high_ms: None,
            tail_ms: 3_000,
            controller: None,
            chord: Vec::new(),
        }
    }
}

impl Named for Pass {
    fn name(&mut self) -> &mut u64 {
        &mut self.id.0
    }
}

impl Named for Layer {
    fn name(&mut self) -> &mut u64 {
        &mut self.id.0
    }
}

impl Pass {
    /// One of its layers.
    pub fn layer(&self, id: LayerId) -> Option<&Layer> {
        self.layers.iter().find(|layer| layer.id == id)
    }

    /// The keys that are struck at a rung, from low to high.
    pub fn keys_at(&self, rung: u8) -> Vec<u8> {
        let with = self.chord.iter().filter_map(|by| rung.checked_add_signed(*by));
        let mut keys: Vec<u8> = with.chain([rung]).filter(|key| *key <= 127).collect();
        keys.sort_unstable();
        keys
    }

    /// How often a layer is recorded.
    pub fn round_robins_of(&self, layer: &Layer) -> u32 {
        layer.round_robins.unwrap_or(self.round_robins)
    }

    /// Cells of one rung.
    pub fn cells_of_rung(&self) -> u32 {
        self.layers.iter().map(|layer| self.round_robins_of(layer)).sum()
    }

    /// How long a rung is held.
    pub fn hold_ms_at(&self, key: u8) -> u32 {
        let (Some(&low), Some(&high), Some(at_high)) =
            (self.rungs.first(), self.rungs.last(), self.hold_high_ms)
        else {
            return self.hold_ms;
        };
        if low >= high {
            return self.hold_ms;
        }
        let share = (f64::from(key) - f64::from(low)) / (f64::from(high) - f64::from(low));
        let (from, to) = (f64::from(self.hold_ms), f64::from(at_high));
        (from + (to - from) * share.clamp(0.0, 1.0)).round() as u32
    }
}

/// What will be recorded, and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// What the thing is.
    pub kind: Kind,
    /// Where it comes from.
    pub source: Source,
    /// Frames per second.
    pub rate_hz: u32,
    /// Width kept: 24 or 32 (float).
    pub bits: u16,
    /// Of each mic: 1 or 2.
    pub channels: u16,
    /// Names of the mics that are recorded at once, each with its channels one after another; none for one without a name.
    #[serde(default)]
    pub mics: Vec<String>,
    /// At least one.
    #[serde(deserialize_with = "named_by_place")]
    pub passes: Vec<Pass>,
}

/// One recording place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
pub struct Cell {
    /// Its pass.
    pub pass: PassId,
    /// The rung, as a key.
    pub key: u8,
    /// Its layer.
    pub layer: LayerId,
    /// Index of the round robin.
    pub round_robin: u16,
}

/// Why a plan cannot be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct PlanError(pub String);

/// Mics at once, at most.
const MOST_MICS: usize = 8;
/// Notes of a chord, its rung among them, and how many semitones they lie from it, at most.
const MOST_IN_CHORD: usize = 10;
const WIDEST_CHORD: u8 = 48;

impl Plan {
    /// Channels of a recording: those of all its mics.
    pub fn recording_channels(&self) -> u16 {
        self.channels * self.mics.len().max(1) as u16
    }

    /// Every cell, in the order of recording: pass, rung from low to high, layer, round robin.
    pub fn cells(&self) -> Vec<Cell> {
        let mut cells = Vec::new();
        for pass in &self.passes {
            for &key in &pass.rungs {
                for layer in &pass.layers {
                    cells.extend((0..pass.round_robins_of(layer) as u16).map(|round_robin| Cell {
                        pass: pass.id,
                        key,
                        layer: layer.id,
                        round_robin,
                    }));
                }
            }
        }
        cells
    }

    /// One of its passes.
    pub fn pass(&self, id: PassId) -> Option<&Pass> {
        self.passes.iter().find(|pass| pass.id == id)
    }

    /// What the takes of a pass are: nothing holds what sounds as a key comes up, so it dies away by itself, whatever the instrument is.
    pub fn kind_of(&self, pass: PassId) -> Kind {
        let comes_up = (self.pass(pass)).is_some_and(|pass| pass.sounds_on == SoundsOn::KeyUp);
        if comes_up && self.kind.loops() {
            Kind::Struck
        } else {
            self.kind
        }
    }

    /// The pass and the layer of a cell, where both are still planned.
    pub fn layer_of(&self, cell: Cell) -> Option<(&Pass, &Layer)> {
        let pass = self.pass(cell.pass)?;
        Some((pass, pass.layer(cell.layer)?))
    }

    /// Whether what is recorded for a cell is a chord.
    pub fn strikes_chord(&self, cell: Cell) -> bool {
        self.pass(cell.pass).is_some_and(|pass| !pass.chord.is_empty())
    }

    /// Checks that the plan can be recorded; the error is a sentence for its maker.
    pub fn check(&self) -> Result<(), PlanError> {
        let wrong = |sentence: &str| Err(PlanError(sentence.to_owned()));
        if self.passes.is_empty() {
            return wrong("A plan needs at least one pass.");
        }
        let has_names = |pass: &Pass| are_names(pass.layers.iter().map(|layer| layer.id.0));
        if !are_names(self.passes.iter().map(|pass| pass.id.0)) || !self.passes.iter().all(has_names) {
            return wrong("Two parts of this plan have the same name for good, or one has none.");
        }
        if !(8_000..=192_000).contains(&self.rate_hz) {
            return wrong("The rate must lie between 8,000 and 192,000 Hz.");
        }
        if !matches!(self.bits, 24 | 32) || !matches!(self.channels, 1 | 2) {
            return wrong("Recordings are kept as 24 or 32 bits, mono or stereo.");
        }
        if self.mics.len() > MOST_MICS || self.mics.iter().any(|mic| mic.trim().is_empty()) {
            return wrong("Up to 8 mics are recorded at once, each with a name.");
        }
        if !(1..=16).contains(&self.source.channel) || !(1..=128).contains(&self.source.program) {
            return wrong("MIDI channels run from 1 to 16, programs from 1 to 128.");
        }
        if self.source.bank.is_some_and(|bank| bank > 16_383) {
            return wrong("MIDI banks run from 0 to 16,383.");
        }
        for pass in &self.passes {
            if pass.rungs.is_empty() || pass.rungs.windows(2).any(|pair| pair[0] >= pair[1]) {
                return wrong("A pass needs at least one rung, each once, from low to high.");
            }
            if pass.rungs.iter().any(|&key| key > 127) {
                return wrong("Keys run from 0 to 127.");
            }
            let chord = &pass.chord;
            if chord.len() >= MOST_IN_CHORD
                || chord.contains(&0)
                || chord.windows(2).any(|pair| pair[0] >= pair[1])
                || chord.iter().any(|by| by.unsigned_abs() > WIDEST_CHORD)
            {
                return wrong("A chord has up to 10 notes, each once, within four octaves of its rung.");
            }
            if pass
                .rungs
                .iter()
                .any(|&rung| pass.keys_at(rung).len() <= chord.len())
            {
                return wrong(
                    "At some rungs the chord would reach beyond the keys, which run from 0 to 127.",
                );
            }
            if pass.layers.is_empty() || pass.layers.len() > 127 {
                return wrong("A pass needs 1 to 127 layers.");
            }
            let strikes: Vec<u8> = pass.layers.iter().map(|layer| layer.strike_velocity).collect();
            if strikes.iter().any(|v| !(1..=127).contains(v))
                || strikes.windows(2).any(|pair| pair[0] >= pair[1])
            {
                return wrong("Strike velocities must rise from soft to loud, within 1 to 127.");
            }
            let own = pass.layers.iter().filter_map(|layer| layer.round_robins);
            if own
                .chain([pass.round_robins])
                .any(|turns| !(1..=64).contains(&turns))
            {
                return wrong("Round robins must be between 1 and 64.");
            }
            let lows: Vec<u8> = pass
                .layers
                .iter()
                .filter_map(|layer| layer.low_velocity)
                .collect();
            if lows.iter().any(|v| !(1..=127).contains(v)) || lows.windows(2).any(|pair| pair[0] >= pair[1]) {
                return wrong("Thresholds must rise from soft to loud, within 1 to 127.");
            }
            if pass.controller.is_some_and(|c| c.number > 119 || c.value > 127) {
                return wrong("Controllers run from 0 to 119, their values from 0 to 127.");
            }
            let holds = [Some(pass.hold_ms), pass.hold_high_ms, Some(pass.tail_ms)];
            if holds.iter().flatten().any(|ms| !(50..=600_000).contains(ms)) {
                return wrong("Hold and tail must each be between 50 ms and 10 minutes.");
            }
        }
        Ok(())
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    pub(crate) fn plan(rungs: &[u8], strikes: &[u8], round_robins: u32) -> Plan {
        let layers = (0..)
            .zip(strikes)
            .map(|(id, &v)| Layer {
                id: LayerId(id),
                name: format!("layer {v}"),
                strike_velocity: v,
                round_robins: None,
                low_velocity: None,
                crossfade: None,
            })
            .collect();
        Plan {
            kind: Kind::Sustained,
            source: Source {
                how: How::OverMidi,
                rig: "night-ferry".into(),
                channel: 1,
                bank: None,
                program: 1,
            },
            rate_hz: 48_000,
            bits: 24,
            channels: 2,
            mics: Vec::new(),
            passes: vec![Pass {
                id: PassId(0),
                name: "Keys".into(),
                sounds_on: SoundsOn::KeyDown,
                rungs: rungs.to_vec(),
                layers,
                round_robins,
                hold_ms: 2_000,
                hold_high_ms: None,
                tail_ms: 3_000,
                controller: None,
                chord: Vec::new(),
            }],
        }
    }

    #[test]
    fn a_plan_has_a_cell_for_each_rung_layer_and_round_robin() {
        let plan = plan(&[36, 40, 44], &[40, 100], 2);
        let cells = plan.cells();
        assert_eq!(cells.len(), 12);
        assert_eq!(
            cells[1],
            Cell {
                pass: PassId(0),
                key: 36,
                layer: LayerId(0),
                round_robin: 1
            }
        );
        assert_eq!(plan.check(), Ok(()));
    }

    #[test]
    fn a_hold_by_register_follows_a_line_from_lowest_to_highest() {
        let mut plan = plan(&[36, 48, 60], &[100], 1);
        plan.passes[0].hold_high_ms = Some(1_000);
        let holds = [36, 48, 60, 72].map(|key| plan.passes[0].hold_ms_at(key));
        assert_eq!(holds, [2_000, 1_500, 1_000, 1_000]);
    }

    #[test]
    fn a_layer_may_have_round_robins_of_its_own() {
        let mut plan = plan(&[60, 62], &[40, 100], 3);
        plan.passes[0].layers[0].round_robins = Some(1);
        assert_eq!(plan.cells().len(), 2 * (1 + 3));
        assert_eq!(plan.check(), Ok(()));
        plan.passes[0].layers[0].round_robins = Some(0);
        assert!(plan.check().is_err());
    }

    /// Plans that were kept before a field was added are still plans.
    #[test]
    fn an_older_plan_is_read() {
        let old = r#"{"kind":"struck","source":{"rig":"night-ferry","channel":1,"program":2},"rate_hz":48000,"bits":24,
            "channels":2,"passes":[{"name":"Keys","sounds_on":"key_down","rungs":[60],
            "layers":[{"name":"all","strike_velocity":100}],"round_robins":1,"hold_ms":2000,"tail_ms":1000}]}"#;
        let plan: Plan = serde_json::from_str(old).unwrap();
        assert_eq!((plan.source.how, plan.check()), (How::OverMidi, Ok(())));
        // What had no name is named by its place: takes refer to it by that.
        assert_eq!(
            (plan.passes[0].id, plan.passes[0].layers[0].id),
            (PassId(0), LayerId(0))
        );
    }

    #[test]
    fn a_plan_that_cannot_be_recorded_says_why() {
        assert!(plan(&[], &[100], 1).check().is_err());
        assert!(plan(&[60, 60], &[100], 1).check().is_err());
        assert!(
            plan(&[60], &[100, 40], 1)
                .check()
                .unwrap_err()
                .to_string()
                .contains("rise from soft to loud")
        );
        assert!(plan(&[60], &[100], 0).check().is_err());
        assert!(plan(&[200], &[100], 1).check().is_err());
        let mut twice = plan(&[60], &[40, 100], 1);
        twice.passes[0].layers[1].id = LayerId(0);
        assert!(twice.check().is_err());
    }
}
