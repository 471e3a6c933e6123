//! What stands between a player and a program: switches, controls, buses with their effects.

use crate::{BusId, ControlId, EffectId, SwitchId};
use serde::{Deserialize, Serialize};

/// Keys that choose among regions.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Switch {
    /// Its name for good.
    pub id: SwitchId,
    /// As the player sees it.
    pub name: String,
    /// Its keys, lowest and highest.
    pub low_key: u8,
    /// See `low_key`.
    pub high_key: u8,
    /// Where it stands at first.
    pub at_first: u8,
}

/// A number that the player sets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Control {
    /// Its name for good.
    pub id: ControlId,
    /// As the player sees it.
    pub name: String,
    /// Where it stands at first, 0 to 1.
    pub at_first: f64,
    /// The MIDI controller that moves it too.
    pub controller: Option<u8>,
}

/// Where a MIDI controller stands before anybody moved it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ControllerAtFirst {
    /// 0 to 119.
    pub controller: u8,
    /// 0 to 1.
    pub value: f64,
}

/// What an effect does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum EffectKind {
    /// Several that are slightly off.
    Chorus,
    /// Echoes.
    Delay,
    /// A room.
    Reverb,
    /// Overtones.
    Drive,
    /// A lower rate and fewer bits.
    Coarse,
    /// Hiss that follows the note.
    Noise,
    /// Three bands.
    Equaliser,
    /// Bright against dark.
    Tilt,
    /// What is loud is lowered.
    Compressor,
    /// Nothing is louder than a limit.
    Limiter,
    /// How far left and right lie apart.
    Width,
    /// Level that moves.
    Tremolo,
    /// Pitch that moves.
    Vibrato,
}

/// An effect in a row.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Effect {
    /// Its name for good.
    pub id: EffectId,
    /// What it does.
    pub kind: EffectKind,
    /// Whether it is on.
    pub on: bool,
    /// Its settings, in the order of its kind.
    pub settings: Vec<f64>,
}

/// A row of effects that strands send to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Bus {
    /// Its name for good.
    pub id: BusId,
    /// As the maker sees it.
    pub name: String,
    /// Level.
    pub gain_db: f64,
    /// In the order in which they are heard.
    pub effects: Vec<Effect>,
}
