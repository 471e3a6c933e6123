//! What is played: samples, regions and strands as plain data. The engine, the formats and the instrument share it.
//!
//! A [`Program`] holds no audio: a [`Sample`] names a recording by its hash, and whoever plays or writes it brings the frames.
//! An end frame is always the first frame after.

mod driven;
mod effects;
mod ids;
mod laws;
mod looped;
mod motion;
mod panel;
#[cfg(feature = "pieces")]
mod pieces;
mod region;
mod select;
mod shape;
mod standing;
mod strand;
mod when;

pub use driven::{CourseTime, Curve, CurvePoint, Movement, ParamId, Rate, Route, Source, Wave};
pub use effects::{
    Bus, Effect, EffectKind, EffectView, MOST_IN_ROW, MOST_SETTINGS, ROUTES_OF_WHOLE, SettingRow, SettingUnit,
};
pub use ids::{
    BusId, ControlId, CourseId, CurveId, EffectId, MovementId, RegionKey, RegionOf, RouteId, SampleId,
    ShapeId, StrandId, SwitchId,
};
pub use laws::{
    BEND_KEYS, bend_ratio, crossfade_gains, cut_of, fade_gain, level_db, pan_gains, pan_of, playback_ratio,
    strike_random, velocity_gain_db,
};
pub use looped::{Loop, LoopRuns, LoopWay};
pub use motion::{MOST_COURSES, MOST_MOVEMENTS, MOST_ROUTES, bent, unbent};
pub use panel::{Control, ControllerAtFirst, KeptValue, KeptValues, Switch};
#[cfg(feature = "pieces")]
pub use pieces::{Pieces, to_pieces};
pub use region::{FadeCurve, Foreign, Region, Sample, SoundsOn};
pub use select::{Does, FULL_STRIKE, KeyEvent, Turns, answers, regions_for_key};
pub use shape::{Course, Filter, Loudness, Passes, Shape};
pub use standing::{KEY_UP_SPEED, SOFT, SOSTENUTO, SUSTAIN, Standing};
pub use strand::{BendKeys, Cut, Glide, GoesFirst, SameKey, Send, Strand, Voices};
pub use when::{Among, ChosenBy, Fade, FadeLaw, On, Span, Stays, Turn, When, Within};

use serde::{Deserialize, Serialize};

/// Everything that is heard and exported.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Program {
    /// As the player sees it.
    pub name: String,
    /// Who made it, and with whose help.
    #[serde(default)]
    pub credits: String,
    /// What may be done with it.
    #[serde(default)]
    pub licence: String,
    /// Each recording that a region plays, once.
    pub samples: Vec<Sample>,
    /// Sets of regions that share an event and a shape.
    pub strands: Vec<Strand>,
    /// What sounds on what.
    pub regions: Vec<Region>,
    /// How strands, and some regions, play.
    pub shapes: Vec<Shape>,
    /// Keys that choose among regions.
    pub switches: Vec<Switch>,
    /// Curves that routes share.
    pub curves: Vec<Curve>,
    /// Rows of effects that strands send to.
    pub buses: Vec<Bus>,
    /// What drives effects and levels of strands: by sources that are one for all voices.
    #[serde(default)]
    pub routes: Vec<Route>,
    /// What the player sets.
    pub controls: Vec<Control>,
    /// Sets of values of these.
    #[serde(default)]
    pub kept: Vec<KeptValues>,
    /// Where MIDI controllers stand before anybody moved them.
    pub controllers_at_first: Vec<ControllerAtFirst>,
    /// Most voices of all strands at once; `None` for as many as there are.
    #[serde(default)]
    pub most_voices: Option<u16>,
    /// What random numbers are drawn from: the same gives the same.
    pub seed: u64,
}

impl Program {
    /// Regions of one strand that sounds whenever a key goes down.
    pub fn plain(name: &str, samples: Vec<Sample>, regions: Vec<Region>) -> Self {
        Self {
            name: name.to_owned(),
            samples,
            strands: vec![Strand::new(StrandId(0), "Keys", ShapeId(0))],
            regions,
            shapes: vec![Shape::default()],
            ..Self::default()
        }
    }

    /// One of its strands.
    pub fn strand(&self, id: StrandId) -> Option<&Strand> {
        self.strands.iter().find(|strand| strand.id == id)
    }

    /// The strand of a region.
    pub fn strand_of(&self, region: &Region) -> Option<&Strand> {
        self.strand(region.key.strand)
    }

    /// Where sources have to stand for a region to be heard: as its strand asks, and as it asks itself.
    pub fn sources_of<'a>(&'a self, region: &'a Region) -> impl Iterator<Item = &'a Within> {
        let of_strand = self.strand_of(region).map(|strand| &strand.when);
        let both = of_strand.into_iter().chain([&region.when]);
        both.flat_map(|when| &when.sources)
    }

    /// The loop that a region goes round; none where nothing would ever let it go: what a key starts as it comes up, or a pedal, is played to its end.
    pub fn loop_of(&self, region: &Region) -> Option<Loop> {
        let on = self.strand_of(region).map(|strand| strand.on);
        region
            .looped
            .filter(|_| matches!(on, None | Some(On::KeyDown(_))))
    }

    /// How a strand plays.
    pub fn shape_of(&self, strand: &Strand) -> Option<&Shape> {
        self.shapes.iter().find(|shape| shape.id == strand.shape)
    }

    /// How loudness runs on a strand.
    pub fn loudness_of(&self, strand: Option<&Strand>) -> Loudness {
        strand
            .and_then(|strand| self.shape_of(strand))
            .map_or_else(Loudness::default, |shape| shape.loudness)
    }

    /// Where the shape of a region stands among the shapes: its own, else its strand's.
    pub fn shape_of_region(&self, region: &Region) -> Option<usize> {
        let place = |id: ShapeId| self.shapes.iter().position(|shape| shape.id == id);
        (region.shape.and_then(place)).or_else(|| place(self.strand_of(region)?.shape))
    }

    /// The curve of a route; `None` where it is straight.
    pub fn curve_of(&self, route: &Route) -> Option<&Curve> {
        route
            .curve
            .and_then(|id| self.curves.iter().find(|curve| curve.id == id))
    }

    /// How loudness runs on a region: by its own shape, else by its strand's.
    pub fn loudness_of_region(&self, region: &Region) -> Loudness {
        self.shape_of_region(region)
            .map_or_else(Loudness::default, |place| self.shapes[place].loudness)
    }

    /// The regions of a strand.
    pub fn regions_of(&self, strand: StrandId) -> impl Iterator<Item = &Region> {
        self.regions
            .iter()
            .filter(move |region| region.key.strand == strand)
    }
}
