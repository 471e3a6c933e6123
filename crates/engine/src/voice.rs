//! One sounding region.

use crate::interpolate::{Set, WIDEST_HALF};
use crate::reader::Reader;
use crate::slabs::Slabs;
use crate::stretch::{Course, Stretch};
use crate::{Envelope, Interpolator};
use program::{
    Cut, KeyEvent, Loudness, Program, Region, Standing, bend_ratio, level_db, pan_gains, pan_of,
    playback_ratio, velocity_gain_db,
};

/// No release is shorter, so that letting a key go does not click.
const STOP_MS: f64 = 5.0;
/// How fast a voice fades that another needs, that is stopped, or that runs out of audio.
const QUICK_MS: f64 = 5.0;
/// A voice whose first audio is not there within so long does not begin.
const WAITS_MS: f64 = 2_000.0;

/// How a voice stands to its audio.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Audio {
    /// So many frames it waits already for its first.
    Waits(u32),
    /// It has begun.
    Plays,
    /// It ran out, and fades.
    RanOut,
}

#[derive(Debug, Clone)]
pub(crate) struct Voice {
    /// `None` where it is gone from the program.
    region: Option<usize>,
    pub(crate) stretch: Stretch,
    audio: Audio,
    pub(crate) rate_hz: f64,
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
    pub(crate) position: f64,
    pub(crate) ratio: f64,
    /// What it would be, but for the bend.
    own_ratio: f64,
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
            region: None,
            stretch: Stretch::NOTHING,
            audio: Audio::Plays,
            rate_hz: 1.0,
            key: 0,
            velocity: 0,
            up: false,
            lifted: false,
            cut: Cut::default(),
            event: 0,
            faded: 1.0,
            position: 0.0,
            ratio: 1.0,
            own_ratio: 1.0,
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
        let loudness = loudness_of(program, region, up);
        let ratio = playback_ratio(program, region, key, rate_hz);
        Self {
            region: Some(index),
            stretch: Stretch::of(program, region),
            audio: Audio::Waits(0),
            rate_hz,
            key,
            velocity,
            up,
            lifted: false,
            cut,
            event: number,
            faded,
            position: region.start_frame as f64,
            ratio,
            own_ratio: ratio,
            // Negative until its first block: it begins where it belongs.
            gains: (-1.0, -1.0),
            own_gains: gains,
            going: Going::default(),
            envelope: Envelope::start(&loudness, rate_hz),
            age,
            looping: false,
        }
    }

    /// Takes over what its region says now: level, place, pitch and stretch, while it sounds.
    pub(crate) fn follow(&mut self, program: &Program) {
        if let Some(region) = self.region_in(program) {
            self.own_ratio = playback_ratio(program, region, self.key, self.rate_hz);
            self.own_gains = gains(program, region, self.velocity, self.faded);
            self.stretch = Stretch::of(program, region);
            self.envelope
                .reshape(&loudness_of(program, region, self.up), self.rate_hz);
        }
    }

    /// Where controllers stand that it fades by, and the bend: it goes there within the next block.
    pub(crate) fn follow_sources(&mut self, program: &Program, standing: &Standing) {
        let Some(region) = self.region_in(program) else {
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
        let bend = standing.bend();
        self.ratio = if bend == 0.0 {
            self.own_ratio
        } else {
            self.own_ratio * bend_ratio(program, region, bend)
        };
    }

    fn region_in<'a>(&self, program: &'a Program) -> Option<&'a Region> {
        program.regions.get(self.region?)
    }

    /// Its region, as an index.
    pub(crate) fn region(&self) -> Option<usize> {
        self.region
    }

    /// Its region stands elsewhere in another program; it fades where that is gone.
    pub(crate) fn move_to(&mut self, region: Option<usize>) {
        self.region = region;
        if region.is_none() {
            self.cut_off(QUICK_MS);
        }
    }

    pub(crate) fn is_active(&self) -> bool {
        !self.envelope.is_done()
    }

    /// Whether its first audio is not there.
    pub(crate) fn waits(&self) -> bool {
        matches!(self.audio, Audio::Waits(_))
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

    /// Fades to nothing within so long, and no faster than clicks.
    pub(crate) fn cut_off(&mut self, ms: f64) {
        self.envelope.cut_off(ms.max(QUICK_MS) / 1000.0 * self.rate_hz);
    }

    pub(crate) fn is_cut_off(&self) -> bool {
        self.envelope.is_cut_off()
    }

    pub(crate) fn release(&mut self) {
        if !self.up && !self.stretch.to_end {
            self.envelope.release();
            if self.waits() {
                self.stop();
            }
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

    /// The way it goes on from where it is.
    pub(crate) fn course(&self, half: usize) -> Course<'_> {
        let released = self.envelope.is_released();
        Course {
            stretch: &self.stretch,
            looped: (self.stretch.looped).filter(|looped| looped.runs_through_release() || !released),
            looping: self.looping,
            half,
        }
    }

    /// Where the loop was gone round, from its start.
    fn go_round(&mut self) {
        let released = self.envelope.is_released();
        let looped = (self.stretch.looped).filter(|looped| looped.runs_through_release() || !released);
        if let Some(looped) = looped {
            while self.position >= looped.round_end() as f64 {
                self.position -= looped.round_frames() as f64;
                self.looping = true;
            }
        }
    }

    /// Adds what it sounds; whether it ran out of audio now, and fades.
    pub(crate) fn render(
        &mut self,
        slabs: &mut Slabs,
        interpolator: &Interpolator,
        left: &mut [f32],
        right: &mut [f32],
    ) -> bool {
        let reader = interpolator.at(self.ratio);
        self.go_round();
        let mut ran_out = false;
        // A fade needs audio too.
        let ahead = left.len() as f64 + QUICK_MS / 1000.0 * self.rate_hz;
        match self.audio {
            Audio::RanOut => {}
            Audio::Plays => {
                if !self.has_audio(slabs, reader.half(), ahead) {
                    self.audio = Audio::RanOut;
                    self.cut_off(QUICK_MS);
                    ran_out = true;
                }
            }
            Audio::Waits(frames) if !self.has_audio(slabs, reader.half(), ahead) => {
                let frames = frames + left.len() as u32;
                self.audio = Audio::Waits(frames);
                let too_long = f64::from(frames) > WAITS_MS / 1000.0 * self.rate_hz;
                if too_long {
                    self.stop();
                }
                return too_long;
            }
            Audio::Waits(_) => self.audio = Audio::Plays,
        }
        let span = libm::ceil(left.len() as f64 * self.ratio) as u64;
        self.course(reader.half())
            .make_seam(slabs, self.position as u64, span);
        let audio = Reader::new(slabs, self.stretch.sample);
        let seam = Reader::new(slabs, self.stretch.seam);
        let share = 1.0 / left.len().max(1) as f32;
        self.going.step = (
            (self.going.to.0 - self.gains.0) * share,
            (self.going.to.1 - self.gains.1) * share,
        );
        let mut done = 0;
        while done < left.len() && self.is_active() {
            let course = self.course(reader.half());
            let rest = (&mut left[done..], &mut right[done..]);
            let read = match course.plain_run(self.position, self.ratio) {
                0 => match course.seam_run(self.position, self.ratio) {
                    Some((base, run)) if run > 0 => self.read_plain((&seam, base), reader, run, rest),
                    _ => 0,
                },
                run => self.read_plain((&audio, 0), reader, run, rest),
            };
            let read = match read {
                0 => self.read_one(&audio, reader, &mut left[done], &mut right[done]),
                read => read,
            };
            match read {
                0 => break,
                read => done += read,
            }
        }
        self.gains = self.going.to;
        ran_out
    }

    /// Adds at most so many frames that are heard as they lie, in slabs that count from a frame; how many, to the end of a slab.
    fn read_plain(
        &mut self,
        (audio, base): (&Reader, u64),
        reader: &Set,
        run: usize,
        (left, right): (&mut [f32], &mut [f32]),
    ) -> usize {
        let (half, taps) = (reader.half(), 2 * reader.half());
        let first = self.position as u64 + 1 - half as u64;
        let Some(one) = audio.run(0, first - base) else {
            return 0;
        };
        let other = if self.stretch.channels > 1 {
            audio.run(1, first - base)
        } else {
            None
        };
        let middle = first + half as u64 - 1;
        let mut read = 0;
        for (l, r) in left.iter_mut().zip(right).take(run) {
            let frame = self.position as u64;
            let at = (frame - middle) as usize;
            let Some(window) = one.get(at..at + taps) else {
                break;
            };
            let fraction = self.position - frame as f64;
            let values = match other.and_then(|other| other.get(at..at + taps)) {
                Some(other) => reader.values(fraction, window, other),
                None => [reader.value(fraction, window); 2],
            };
            let gain = self.envelope.next();
            *l += values[0] * gain * self.gains.0;
            *r += values[1] * gain * self.gains.1;
            self.gains.0 += self.going.step.0;
            self.gains.1 += self.going.step.1;
            self.position += self.ratio;
            read += 1;
            if self.envelope.is_done() {
                break;
            }
        }
        read
    }

    /// Adds one frame, wherever it lies; 0 where there is none any more.
    fn read_one(&mut self, audio: &Reader, reader: &Set, left: &mut f32, right: &mut f32) -> usize {
        self.go_round();
        let course = self.course(reader.half());
        let frame = self.position as u64;
        let heard = course.looped.map_or(frame, |l| l.frame_at(frame));
        if heard >= self.stretch.end_frame {
            self.stop();
            return 0;
        }
        let fade = self.stretch.fade(heard, course.looped.is_some());
        let fraction = self.position - frame as f64;
        let mut windows = [[0.0f32; 2 * WIDEST_HALF]; 2];
        let mut values = [0.0f32; 2];
        for (channel, (value, window)) in values.iter_mut().zip(&mut windows).enumerate() {
            if channel < usize::from(self.stretch.channels) {
                *value = reader.value(fraction, course.taps(audio, channel as u8, frame, window));
            }
        }
        if self.stretch.channels == 1 {
            values[1] = values[0];
        }
        let gain = self.envelope.next() * fade;
        *left += values[0] * gain * self.gains.0;
        *right += values[1] * gain * self.gains.1;
        self.gains.0 += self.going.step.0;
        self.gains.1 += self.going.step.1;
        self.position += self.ratio;
        1
    }
}

/// How loudness runs on a region: of a key that is let go no release is so short that it clicks.
fn loudness_of(program: &Program, region: &Region, up: bool) -> Loudness {
    let loudness = program.loudness_of_region(region);
    let shortest = if up { 0.0 } else { STOP_MS };
    Loudness {
        release_ms: loudness.release_ms.max(shortest),
        ..loudness
    }
}

/// Left and right, from the level of region, strand, velocity and fades, and the region's place.
fn gains(program: &Program, region: &Region, velocity: u8, faded: f64) -> (f32, f32) {
    let db = level_db(program, region)
        + velocity_gain_db(velocity, program.loudness_of_region(region).velocity_to_level);
    let gain = libm::pow(10.0, db / 20.0) * faded;
    let stereo = (program.samples.get(region.sample)).is_some_and(|sample| sample.channels > 1);
    let (left, right) = pan_gains(pan_of(program, region), stereo);
    ((left * gain) as f32, (right * gain) as f32)
}
