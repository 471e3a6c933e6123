//! What stands between a player and a program: switches and controls.

use crate::{ControlId, SwitchId};
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

/// Where controls stand under a name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeptValues {
    /// As the player sees it.
    pub name: String,
    /// The MIDI program change that recalls them, 1 to 128.
    pub program: Option<u8>,
    /// The other controls stay.
    pub values: Vec<KeptValue>,
}

/// Where one of them stands.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeptValue {
    /// Which.
    pub control: ControlId,
    /// 0 to 1.
    pub value: f64,
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
