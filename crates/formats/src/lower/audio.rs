//! The audio that regions are written with.

use super::names::{clean_name, unique};
use super::written::written_loop;
use crate::{AudioForm, Bake, Format, Recast, Rounds};
use program::{Loop, LoopRuns, LoopWay, Program, Region, Sample, SampleId};
use std::collections::HashSet;

/// A region's audio as it is written.
pub(super) struct Audio {
    /// How it is made.
    pub bake: Bake,
    /// Its loop, in frames of what is written.
    pub looped: Option<Loop>,
    /// How many frames are written.
    pub frames: u64,
    /// So many cents lower it sounds than its rate says.
    pub lower_by_cents: f64,
}

impl Audio {
    /// Of a region that plays `sample`, with `baked_db` of its level in it; `None` where nothing of it is played.
    pub fn of(
        program: &Program,
        region: &Region,
        sample: &Sample,
        (format, form): (Format, AudioForm),
        baked_db: f64,
    ) -> Option<Self> {
        let end_frame = region.end_frame.min(sample.frames);
        if region.start_frame >= end_frame {
            return None;
        }
        let looped = program
            .loop_of(region)
            .filter(|l| l.fits(end_frame) && l.start_frame >= region.start_frame + l.crossfade_frames);
        let rates = (sample.rate_hz, form.rate_of(sample, format));
        let ratio = f64::from(rates.1) / f64::from(rates.0);
        let rounds = looped.map_or(Rounds::PLAIN, |looped| {
            Rounds::of(&looped, (region.start_frame, end_frame), ratio, format)
        });
        let mut audio = Self {
            bake: Bake {
                sample: region.sample,
                start_frame: region.start_frame,
                end_frame,
                fade_in_frames: region.fade_in_frames,
                fade_out_frames: match looped {
                    Some(looped) if !is_left_before_the_fade(&looped, region, end_frame, rounds) => 0,
                    _ => region.fade_out_frames,
                },
                fade_curve: region.fade_curve,
                looped,
                rounds,
                gain_db: baked_db,
                one_side: form.one_side && sample.channels > 1,
                recast: None,
            },
            looped: looped.map(|looped| written_loop(&looped, rounds, region.start_frame)),
            frames: 0,
            lower_by_cents: 0.0,
        };
        // A way back is written out behind the loop, in place of what followed it.
        audio.frames = match (looped, audio.looped) {
            (Some(l), Some(written)) if rounds.after_frames == 0 && l.way == LoopWay::Forward => {
                written.end_frame + end_frame - l.end_frame
            }
            (_, Some(written)) => written.end_frame + rounds.after_frames,
            (_, None) => end_frame - region.start_frame,
        };
        if rates.0 != rates.1 {
            let (recast, moved) = Recast::of(rates, audio.frames, audio.looped, rounds);
            (audio.frames, audio.looped) = (recast.frames, moved);
            audio.lower_by_cents = recast.lower_by_cents(rates.0);
            audio.bake.recast = Some(recast);
        }
        Some(audio)
    }
}

/// Whether what follows a loop is written and heard, with all of its end's fade behind the loop.
fn is_left_before_the_fade(looped: &Loop, region: &Region, end_frame: u64, rounds: Rounds) -> bool {
    looped.runs == LoopRuns::WhileHeld
        && looped.way == LoopWay::Forward
        && rounds.after_frames == 0
        && looped.end_frame + region.fade_out_frames <= end_frame
}

/// The samples that are written, each with how it is made; numbered in the order of the file.
#[derive(Default)]
pub(super) struct Samples {
    pub samples: Vec<Sample>,
    pub bakes: Vec<Bake>,
    names: HashSet<String>,
}

impl Samples {
    /// The sample that is made in this way: regions that play the same share it.
    pub fn number_of(&mut self, sample: &Sample, bake: Bake, frames: u64) -> usize {
        if let Some(same) = self.bakes.iter().position(|other| *other == bake) {
            return same;
        }
        let channels = if bake.one_side { 1 } else { sample.channels };
        let rate_hz = bake.recast.map_or(sample.rate_hz, |recast| recast.rate_hz);
        self.bakes.push(bake);
        let name = unique(&mut self.names, &clean_name(&sample.name));
        self.samples.push(Sample {
            id: SampleId(self.samples.len() as u64),
            source: format!("samples/{name}.wav"),
            name,
            frames,
            rate_hz,
            first_channel: 0,
            source_channels: channels,
            channels,
        });
        self.samples.len() - 1
    }
}
