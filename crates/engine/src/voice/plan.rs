//! Where a voice goes within the next frames: gains, pitch and its filter, as hands, glides and all that drives it have it.

use super::{Voice, loudness_of};
use crate::STEP_FRAMES;
use crate::drive::{Around, DRIVE_FRAMES, Driven, cutoff_hz};
use crate::filter::VoiceFilter;
use program::{Filter, Program, Region, Shape, bend_ratio, level_db, pan_gains, pan_of, velocity_gain_db};

/// Level and place of a voice.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Level {
    amplitude: f64,
    pan: f64,
    stereo: bool,
    /// What follows from these.
    gains: (f32, f32),
}

/// The way from another pitch to its own, in a straight line of cents.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Glide {
    /// How far it still is.
    pub(super) cents: f64,
    /// In so many frames.
    pub(super) frames: f64,
}

impl Glide {
    /// Goes on by so many frames; how far it still is then.
    fn go_on(&mut self, frames: usize) -> f64 {
        let share = frames as f64 / self.frames.max(1.0);
        self.cents = if share >= 1.0 {
            0.0
        } else {
            self.cents * (1.0 - share)
        };
        self.frames = (self.frames - frames as f64).max(0.0);
        self.cents
    }
}

/// Where a voice goes within some frames.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Step {
    pub(super) frames: usize,
    pub(super) gains: (f32, f32),
    pub(super) ratio: f64,
    pub(super) cutoff_hz: f64,
    pub(super) resonance_db: f64,
}

/// The steps of a block.
pub(super) type Steps = [Step; STEP_FRAMES / DRIVE_FRAMES];

impl Level {
    /// From the level of region, strand, velocity and fades, and the region's place.
    pub(super) fn of(program: &Program, region: &Region, velocity: u8, faded: f64) -> Self {
        let db = level_db(program, region)
            + velocity_gain_db(velocity, program.loudness_of_region(region).velocity_to_level);
        let level = Self {
            amplitude: libm::pow(10.0, db / 20.0) * faded,
            pan: pan_of(program, region),
            stereo: (program.samples.get(region.sample)).is_some_and(|sample| sample.channels > 1),
            gains: (0.0, 0.0),
        };
        Self {
            gains: level.driven(1.0, 0.0),
            ..level
        }
    }

    /// Left and right, with a gain and so much farther to the right.
    fn driven(&self, gain: f64, place: f64) -> (f32, f32) {
        let (left, right) = pan_gains(self.pan + place, self.stereo);
        let gain = self.amplitude * gain;
        ((left * gain) as f32, (right * gain) as f32)
    }
}

impl Voice {
    /// Where it goes within the next frames: gains, from where controllers stand that it fades by and what drives it; pitch, with the bend; the filter.
    /// How many steps that are.
    pub(super) fn plan(&mut self, around: &Around, frames: usize, steps: &mut Steps) -> usize {
        let Some(region) = self.region_in(around.program) else {
            let step = Step {
                frames,
                gains: self.gains,
                ratio: self.ratio,
                cutoff_hz: self.cutoff.0,
                resonance_db: self.cutoff.1,
            };
            steps[0] = step;
            return 1;
        };
        let (program, standing) = (around.program, around.standing);
        let faded = standing.gain(program.sources_of(region));
        let bend = standing.bend();
        let ratio = if bend == 0.0 {
            self.own_ratio
        } else {
            self.own_ratio * bend_ratio(program, region, bend)
        };
        let gains = self.level.gains;
        let whole = Step {
            frames,
            gains: (gains.0 * faded as f32, gains.1 * faded as f32),
            ratio,
            ..Step::default()
        };
        let shape = self.shape.and_then(|place| program.shapes.get(place));
        let count = match shape {
            None => {
                steps[0] = whole;
                1
            }
            Some(shape) => {
                let mut count = 0;
                while count * DRIVE_FRAMES < frames {
                    let frames = (frames - count * DRIVE_FRAMES).min(DRIVE_FRAMES);
                    steps[count] = self.drive_on(shape, around, faded, Step { frames, ..whole });
                    count += 1;
                }
                count
            }
        };
        if self.gains.0 < 0.0 {
            self.gains = steps[0].gains;
            self.ratio = steps[0].ratio * libm::exp2(self.glide.cents / 1200.0);
            let filter = shape.and_then(|shape| shape.filter);
            self.filter = filter.map(|filter| (self.filter_at(&filter, &steps[0]), filter));
        }
        if self.glide.cents != 0.0 {
            for step in &mut steps[..count] {
                step.ratio *= libm::exp2(self.glide.go_on(step.frames) / 1200.0);
            }
        }
        count
    }

    /// A step as it is driven.
    fn drive_on(&mut self, shape: &Shape, around: &Around, faded: f64, step: Step) -> Step {
        let is_let_go = self.envelope.is_released();
        let was_let_go = self.drive.is_let_go();
        let driven = self.drive.step(shape, around, step.frames, is_let_go);
        if is_let_go
            && !was_let_go
            && let Some(region) = self.region_in(around.program)
        {
            // How fast its key came up may drive how long it takes.
            let loudness = loudness_of(around.program, region, &self.drive, self.up);
            self.envelope.reshape(&loudness, self.rate_hz);
        }
        let Driven {
            level_db,
            place,
            pitch_cents,
            resonance_db,
            ..
        } = driven;
        let own = self.faded_by_its_own(shape, around, step.frames);
        let gains = if level_db == 0.0 && place == 0.0 && own == 1.0 {
            step.gains
        } else {
            self.level
                .driven(libm::pow(10.0, level_db / 20.0) * faded * own, place)
        };
        let ratio = if pitch_cents == 0.0 {
            step.ratio
        } else {
            step.ratio * libm::exp2(pitch_cents / 1200.0)
        };
        Step {
            gains,
            ratio,
            cutoff_hz: (shape.filter).map_or(0.0, |filter| cutoff_hz(&filter, self.key, &driven)),
            resonance_db: shape
                .filter
                .map_or(0.0, |filter| filter.resonance_db + resonance_db),
            ..step
        }
    }

    /// What it fades by that it has for itself: a slow movement, a course, pressure on its key.
    fn faded_by_its_own(&mut self, shape: &Shape, around: &Around, frames: usize) -> f64 {
        let Some(region) = self.region_in(around.program) else {
            return 1.0;
        };
        let by = around.program.sources_of(region);
        self.drive.faded(shape, around, frames, by)
    }

    pub(super) fn filter_at(&self, filter: &Filter, step: &Step) -> VoiceFilter {
        VoiceFilter::new(filter, step.cutoff_hz, step.resonance_db, self.rate_hz)
    }
}
