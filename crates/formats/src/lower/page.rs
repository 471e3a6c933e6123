//! For a page that plays: the engine itself plays there, so that all is held but what nobody hears; the audio is that of an SFZ.

use super::audio::{Audio, Samples};
use super::{Lowered, SFZ_MOST_DB, over_db};
use crate::losses::{Holds, losses};
use crate::{AudioForm, Format};
use program::{FadeCurve, Program, Region, level_db};
use std::collections::BTreeSet;

/// See [`super::lower_in`]. Trims, fades, crossfades and what is over an SFZ's level are baked, so that the samples are those of an SFZ's files; regions keep their names,
/// by which chance and turns go.
pub(super) fn lowered(program: &Program, form: AudioForm, narrow_db: f64) -> Lowered {
    let format = Format::Page;
    let still = BTreeSet::new();
    let holds = Holds::of(program, format, form, &still);
    let mut samples = Samples::default();
    let (mut regions, mut regions_from) = (Vec::new(), Vec::new());
    for (place, region) in program.regions.iter().enumerate() {
        let Some(sample) = program.samples.get(region.sample) else {
            continue;
        };
        if !holds.region(region) {
            continue;
        }
        let narrow_db = if sample.channels == 1 { narrow_db } else { 0.0 };
        let baked_db = over_db(level_db(program, region) - narrow_db, SFZ_MOST_DB);
        let Some(audio) = Audio::of(program, region, sample, (format, form), baked_db) else {
            continue;
        };
        regions_from.push(place);
        regions.push(Region {
            sample: samples.number_of(sample, audio.bake, audio.frames),
            recording_cents: region.recording_cents - audio.lower_by_cents,
            gain_db: region.gain_db - narrow_db - baked_db,
            start_frame: 0,
            end_frame: audio.frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            looped: audio.looped,
            foreign: Vec::new(),
            ..region.clone()
        });
    }
    Lowered {
        losses: losses(&holds),
        program: Program {
            samples: samples.samples,
            regions,
            ..program.clone()
        },
        bakes: samples.bakes,
        regions_from,
    }
}
