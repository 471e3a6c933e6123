//! Sets of regions that sound together, and how many voices they have.

use crate::{BusId, On, ShapeId, StrandId, When};
use serde::{Deserialize, Serialize};

/// What is cut off by what: of an open and a closed sound, one ends the other.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cut {
    /// The group it is of.
    pub group: Option<u32>,
    /// The group that cuts it off.
    pub by: Option<u32>,
    /// Over so long.
    pub fade_ms: u32,
}

/// How much goes to a bus.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Send {
    /// Which.
    pub bus: BusId,
    /// Level.
    pub gain_db: f64,
}

/// Which voice goes first when there are too few.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum GoesFirst {
    /// The oldest, one that was let go before all others.
    #[default]
    Oldest,
    /// The softest.
    Softest,
    /// The highest key.
    Highest,
    /// The lowest.
    Lowest,
}

/// What the same key again does to the voice it has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SameKey {
    /// It rings on.
    #[default]
    Rings,
    /// It is cut off.
    Cuts,
    /// It goes on in that voice, struck anew from where it is; where that has no loop to go on in, it is cut off.
    Shares,
}

/// How one tone glides to the next.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Glide {
    /// Milliseconds, for an octave where `per_octave`; 0 goes there at once.
    pub ms: f64,
    /// Whether a longer way takes longer.
    pub per_octave: bool,
    /// Only where the key before is still down.
    pub legato_only: bool,
}

/// Keys that the bend reaches, 0 to 48.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BendKeys {
    /// Pushed up.
    pub up: u8,
    /// Pulled down.
    pub down: u8,
}

/// A strand's voices. What goes first fades, so that nothing clicks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Voices {
    /// Most at once; `None` as many as there are.
    pub most: Option<u16>,
    /// Which goes first.
    pub goes_first: GoesFirst,
    /// What the same key again does.
    pub same_key: SameKey,
    /// One tone at a time, gliding from the one to the next; as the last key comes up, it goes back to one that is still down.
    pub glide: Option<Glide>,
    /// How far the bend reaches; `None` two keys each way.
    pub bend: Option<BendKeys>,
}

/// A named set of regions that sound on the same event and share a shape.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Strand {
    /// Its name for good.
    pub id: StrandId,
    /// As the maker sees it.
    pub name: String,
    /// A strand whose regions it plays, from another mic or in another way.
    pub regions_of: Option<StrandId>,
    /// The mic it plays, from 0.
    pub mic: Option<u16>,
    /// What starts it.
    pub on: On,
    /// What it asks for beside what its regions do.
    pub when: When,
    /// Level of the whole strand.
    pub gain_db: f64,
    /// Its place, −1 left to 1 right, added to that of each region.
    #[serde(default)]
    pub pan: f64,
    /// Whether it is silent, here and in what is given away.
    #[serde(default)]
    pub muted: bool,
    /// Keys up that all of it sounds.
    pub transpose_keys: i8,
    /// Cents beside that.
    #[serde(default)]
    pub tune_cents: f64,
    /// How its regions play.
    pub shape: ShapeId,
    /// What cuts it off.
    pub cut: Cut,
    /// Where it is heard; `None` the whole.
    pub bus: Option<BusId>,
    /// Where else.
    pub sends: Vec<Send>,
    /// Its voices.
    pub voices: Voices,
}

impl Strand {
    /// One that sounds whenever a key goes down.
    pub fn new(id: StrandId, name: impl Into<String>, shape: ShapeId) -> Self {
        Self {
            id,
            name: name.into(),
            regions_of: None,
            mic: None,
            on: On::KEY_DOWN,
            when: When::ALWAYS,
            gain_db: 0.0,
            pan: 0.0,
            muted: false,
            transpose_keys: 0,
            tune_cents: 0.0,
            shape,
            cut: Cut::default(),
            bus: None,
            sends: Vec::new(),
            voices: Voices::default(),
        }
    }
}
