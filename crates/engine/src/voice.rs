//! One sounding region.

use crate::interpolate::{Set, WIDEST_HALF};
use crate::reading::{crossfade, fade, taps};
use crate::samples::SampleAudio;
use crate::{Envelope, Interpolator, Samples};
use program::{
    Cut, KeyEvent, Loop, Loudness, Program, Region, Standing, level_db, pan_gains, pan_of, playback_ratio,
    velocity_gain_db,
};

/// No release is shorter, so that letting a key go does not click.
const STOP_MS: f64 = 5.0;

#[derive(Debug, Clone)]
pub(crate) struct Voice {
    region: usize,
    key: u8,
    velocity: u8,
    /// It was not started by a key that goes down, and is not let go.
    up: bool,
    /// Its key came up, and a pedal holds it.
    lifted: bool,
    cut: Cut,
    /// The strike that started it.
    event: u64,
    /// Amplitude from the fades of keys and strikes.
    faded: f64,
    position: f64,
    ratio: f64,
    /// Left and right as they are now.
    gains: (f32, f32),
    /// What they would be, but for the fades of sources.
    own_gains: (f32, f32),
    /// Where they are going within a block, and by how much a frame.
    going: Going,
    envelope: Envelope,
    age: u64,
    /// Whether the loop has been gone round, so that frames before its start are those before its end.
    looping: bool,
}

/// Gains on their way to others, so that nothing that is moved clicks.
#[derive(Debug, Clone, Copy, Default)]
struct Going {
    to: (f32, f32),
    step: (f32, f32),
}

impl Voice {
    pub(crate) fn silent() -> Self {
        Self {
            region: 0,
            key: 0,
            velocity: 0,
            up: false,
            lifted: false,
            cut: Cut::default(),
            event: 0,
            faded: 1.0,
            position: 0.0,
            ratio: 1.0,
            gains: (0.0, 0.0),
            own_gains: (0.0, 0.0),
            going: Going::default(),
            envelope: Envelope::done(),
            age: 0,
            looping: false,
        }
    }

    pub(crate) fn start(
        program: &Program,
        index: usize,
        (event, faded): (KeyEvent, f64),
        cut: Cut,
        rate_hz: f64,
        (age, number): (u64, u64),
    ) -> Self {
        let (Some(region), true) = (program.regions.get(index), rate_hz > 0.0) else {
            return Self::silent();
        };
        let KeyEvent { key, velocity, .. } = event;
        let up = event.is_up();
        let gains = gains(program, region, velocity, faded);
        let loudness = loudness_of(program, region);
        let loudness = if up {
            loudness
        } else {
            Loudness {
                release_ms: loudness.release_ms.max(STOP_MS),
                ..loudness
            }
        };
        Self {
            region: index,
            key,
            velocity,
            up,
            lifted: false,
            cut,
            event: number,
            faded,
            position: region.start_frame as f64,
            ratio: playback_ratio(program, region, key, rate_hz),
            // Negative until its first block: it begins where it belongs.
            gains: (-1.0, -1.0),
            own_gains: gains,
            going: Going::default(),
            envelope: Envelope::start(&loudness, rate_hz),
            age,
            looping: false,
        }
    }

    /// Takes over what its region says now: level, place and pitch, while it sounds.
    pub(crate) fn follow(&mut self, program: &Program, rate_hz: f64) {
        if let Some(region) = program.regions.get(self.region) {
            self.ratio = playback_ratio(program, region, self.key, rate_hz);
            self.own_gains = gains(program, region, self.velocity, self.faded);
        }
    }

    /// Where controllers stand that it fades by: it goes there within the next block.
    pub(crate) fn follow_sources(&mut self, program: &Program, standing: &Standing) {
        let Some(region) = program.regions.get(self.region) else {
            return;
        };
        let of_strand = program.strand_of(region).map(|strand| &strand.when.sources);
        let gain =
            standing.gain(&region.when.sources) * of_strand.map_or(1.0, |sources| standing.gain(sources));
        let to = (self.own_gains.0 * gain as f32, self.own_gains.1 * gain as f32);
        if self.gains.0 < 0.0 {
            self.gains = to;
        }
        self.going.to = to;
    }

    /// Its region, as an index.
    pub(crate) fn region(&self) -> usize {
        self.region
    }

    /// Its region stands elsewhere in another program; it ends where that is gone.
    pub(crate) fn move_to(&mut self, region: Option<usize>) {
        match region {
            Some(region) => self.region = region,
            None => self.stop(),
        }
    }

    pub(crate) fn is_active(&self) -> bool {
        !self.envelope.is_done()
    }

    pub(crate) fn is_held_by(&self, key: u8) -> bool {
        self.is_active() && self.key == key && !self.up && !self.lifted
    }

    /// A pedal holds it from now on.
    pub(crate) fn lift(&mut self) {
        self.lifted = true;
    }

    /// Whether a pedal holds it for a key.
    pub(crate) fn is_lifted(&self, key: u8) -> bool {
        self.is_active() && self.key == key && self.lifted
    }

    /// Whether a region of a group that starts with another strike ends it.
    pub(crate) fn is_cut_off_by(&self, group: u32, event: u64) -> bool {
        self.is_active() && self.cut.by == Some(group) && self.event != event
    }

    pub(crate) fn cut_fade_ms(&self) -> u32 {
        self.cut.fade_ms
    }

    /// Fades to nothing within so long.
    pub(crate) fn cut_off(&mut self, ms: f64, rate_hz: f64) {
        self.envelope.cut_off(ms / 1000.0 * rate_hz);
    }

    pub(crate) fn is_cut_off(&self) -> bool {
        self.envelope.is_cut_off()
    }

    pub(crate) fn release(&mut self, program: &Program) {
        let to_end = program
            .regions
            .get(self.region)
            .is_some_and(|region| region.to_end);
        if !self.up && !to_end {
            self.envelope.release();
        }
    }

    pub(crate) fn stop(&mut self) {
        self.envelope = Envelope::done();
    }

    /// Free voices first, then those that fade already, then released ones, then the oldest.
    pub(crate) fn theft_rank(&self) -> (u8, u64) {
        let state = if !self.is_active() {
            0
        } else if self.is_cut_off() {
            1
        } else if self.envelope.is_released() {
            2
        } else {
            3
        };
        (state, self.age)
    }

    pub(crate) fn render(
        &mut self,
        program: &Program,
        samples: &Samples,
        interpolator: &Interpolator,
        left: &mut [f32],
        right: &mut [f32],
    ) {
        let Some(region) = program.regions.get(self.region) else {
            return self.stop();
        };
        let Some(sample) = samples
            .get(region.sample)
            .filter(|sample| !sample.channels.is_empty())
        else {
            // Nothing has arrived yet: the voice waits at its start.
            return;
        };
        let reader = interpolator.at(self.ratio);
        // Neither the length of the sample nor whether the key is down changes within a block.
        let looped = region.looped.filter(|l| {
            l.fits(sample.channels[0].len() as u64)
                && (l.runs_through_release() || !self.envelope.is_released())
        });
        let share = 1.0 / left.len().max(1) as f32;
        self.going.step = (
            (self.going.to.0 - self.gains.0) * share,
            (self.going.to.1 - self.gains.1) * share,
        );
        let mut done = 0;
        while done < left.len() && self.is_active() {
            let plain = self.plain_run(region, looped.as_ref(), sample, reader.half());
            let end = left.len().min(done + plain.max(1));
            let (left, right) = (&mut left[done..end], &mut right[done..end]);
            if plain > 0 {
                self.read_plain(sample, reader, left, right);
            } else if !self.read_one(
                region,
                looped.as_ref(),
                sample,
                reader,
                &mut left[0],
                &mut right[0],
            ) {
                return;
            }
            done = end;
        }
        self.gains = self.going.to;
    }

    /// For how many frames to come the sample is heard as it lies: no fade, no seam and no end within what is read.
    fn plain_run(&self, region: &Region, looped: Option<&Loop>, sample: &SampleAudio, half: usize) -> usize {
        let after_start = |start: u64| start as usize + half - 1;
        let fade_in = region.start_frame as usize + region.fade_in_frames as usize;
        let mut first = after_start(region.start_frame).max(fade_in);
        let mut end = sample.available.min(region.end_frame as usize);
        let edge = match looped {
            Some(looped) => {
                if self.looping {
                    first = first.max(after_start(looped.start_frame));
                }
                looped.end_frame - crossfade(looped)
            }
            None => {
                end = end.min((region.end_frame + 1).saturating_sub(region.fade_out_frames) as usize);
                region.end_frame
            }
        };
        end = end.min((edge as usize).min(sample.channels[0].len()).saturating_sub(half));
        if self.position < first as f64 || self.position >= end as f64 {
            return 0;
        }
        ((end as f64 - self.position) / self.ratio) as usize
    }

    /// Adds frames that are heard as they lie, see [`Self::plain_run`].
    fn read_plain(&mut self, sample: &SampleAudio, reader: &Set, left: &mut [f32], right: &mut [f32]) {
        let (one, other) = (&sample.channels[0], sample.channels.get(1));
        for (l, r) in left.iter_mut().zip(right) {
            let frame = self.position as usize;
            let fraction = self.position - frame as f64;
            let window = frame + 1 - reader.half()..frame + 1 + reader.half();
            let values = match other {
                Some(other) => reader.values(fraction, &one[window.clone()], &other[window]),
                None => [reader.value(fraction, &one[window]); 2],
            };
            let gain = self.envelope.next();
            *l += values[0] * gain * self.gains.0;
            *r += values[1] * gain * self.gains.1;
            self.gains.0 += self.going.step.0;
            self.gains.1 += self.going.step.1;
            self.position += self.ratio;
            if self.envelope.is_done() {
                return;
            }
        }
    }

    /// Adds one frame, wherever it lies; false where there is none (any more, or yet).
    fn read_one(
        &mut self,
        region: &Region,
        looped: Option<&Loop>,
        sample: &SampleAudio,
        reader: &Set,
        left: &mut f32,
        right: &mut f32,
    ) -> bool {
        if let Some(looped) = looped {
            while self.position >= looped.round_end() as f64 {
                self.position -= looped.round_frames() as f64;
                self.looping = true;
            }
        }
        let frame = self.position as usize;
        let heard = looped.map_or(frame as u64, |l| l.frame_at(frame as u64));
        if heard as usize >= sample.available || heard >= region.end_frame {
            // Either the rest is on its way, and the voice waits, or it is over.
            if sample.available >= sample.channels[0].len() || heard >= region.end_frame {
                self.stop();
            }
            return false;
        }
        let fraction = self.position - frame as f64;
        let gain = self.envelope.next() * fade(region, heard, looped.is_some());
        let mut window = [0.0f32; 2 * WIDEST_HALF];
        let mut values = [0.0f32; 2];
        for (value, channel) in values.iter_mut().zip(&sample.channels) {
            let taps = taps(
                channel,
                region,
                looped,
                self.looping,
                frame,
                reader.half(),
                &mut window,
            );
            *value = reader.value(fraction, taps);
        }
        if sample.channels.len() == 1 {
            values[1] = values[0];
        }
        *left += values[0] * gain * self.gains.0;
        *right += values[1] * gain * self.gains.1;
        self.gains.0 += self.going.step.0;
        self.gains.1 += self.going.step.1;
        self.position += self.ratio;
        true
    }
}

/// How loudness runs on a region: by its own shape, else by its strand's.
fn loudness_of(program: &Program, region: &Region) -> Loudness {
    let own = region
        .shape
        .and_then(|id| program.shapes.iter().find(|shape| shape.id == id));
    own.map_or_else(
        || program.loudness_of(program.strand_of(region)),
        |shape| shape.loudness,
    )
}

/// Left and right, from the level of region, strand, velocity and fades, and the region's place.
fn gains(program: &Program, region: &Region, velocity: u8, faded: f64) -> (f32, f32) {
    let db = level_db(program, region)
        + velocity_gain_db(velocity, loudness_of(program, region).velocity_to_level);
    let gain = libm::pow(10.0, db / 20.0) * faded;
    let stereo = (program.samples.get(region.sample)).is_some_and(|sample| sample.channels > 1);
    let (left, right) = pan_gains(pan_of(program, region), stereo);
    ((left * gain) as f32, (right * gain) as f32)
}
