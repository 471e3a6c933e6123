//! One sounding region.

use crate::drive::{Around, DRIVE_FRAMES, Drive, Driven, Nudge, cutoff_hz};
use crate::filter::VoiceFilter;
use crate::interpolate::{Place, Set, WIDEST_HALF};
use crate::reader::Reader;
use crate::slabs::Slabs;
use crate::stretch::{Course, Stretch};
use crate::{Envelope, Interpolator, STEP_FRAMES};
use program::{
    Cut, Filter, GoesFirst, KeyEvent, Loudness, Program, Region, Shape, bend_ratio, level_db, pan_gains,
    pan_of, playback_ratio, velocity_gain_db,
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
    /// What it would be, but for the bend and what drives it.
    own_ratio: f64,
    /// Left and right as they are now.
    gains: (f32, f32),
    /// What they come from, but for the fades of sources and what drives them.
    level: Level,
    /// Its shape, where it is driven or filtered.
    shape: Option<usize>,
    drive: Drive,
    nudge: Nudge,
    glide: Glide,
    filter: Option<(VoiceFilter, Filter)>,
    /// Where its cutoff, in Hz, and its resonance, in dB, are now.
    cutoff: (f64, f64),
    /// Another filter, or none, that it had a moment ago.
    filter_before: Option<Option<(VoiceFilter, Filter)>>,
    envelope: Envelope,
    age: u64,
    /// Whether the loop has been gone round, so that frames before its start are those before its end.
    looping: bool,
}

/// Level and place of a voice.
#[derive(Debug, Clone, Copy, Default)]
struct Level {
    amplitude: f64,
    pan: f64,
    stereo: bool,
    /// What follows from these.
    gains: (f32, f32),
}

/// The way from another pitch to its own, in a straight line of cents.
#[derive(Debug, Clone, Copy, Default)]
struct Glide {
    /// How far it still is.
    cents: f64,
    /// In so many frames.
    frames: f64,
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
struct Step {
    frames: usize,
    gains: (f32, f32),
    ratio: f64,
    cutoff_hz: f64,
    resonance_db: f64,
}

/// The steps of a block.
type Steps = [Step; STEP_FRAMES / DRIVE_FRAMES];

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
            level: Level::default(),
            shape: None,
            drive: Drive::NOTHING,
            nudge: Nudge::default(),
            glide: Glide::default(),
            filter: None,
            cutoff: (0.0, 0.0),
            filter_before: None,
            envelope: Envelope::done(),
            age: 0,
            looping: false,
        }
    }

    /// One that a key, or something else, starts. What drives `others` of the same shape may go on in it.
    pub(crate) fn start(
        around: &Around,
        index: usize,
        (event, faded): (KeyEvent, f64),
        cut: Cut,
        (age, number): (u64, u64),
        others: &[Self],
    ) -> Self {
        let Around { program, rate_hz, .. } = *around;
        let (Some(region), true) = (program.regions.get(index), rate_hz > 0.0) else {
            return Self::silent();
        };
        let KeyEvent { key, velocity, .. } = event;
        let up = event.is_up();
        let loudness = loudness_of(program, region, up);
        let ratio = playback_ratio(program, region, key, rate_hz);
        let shape = driven_shape(program, region);
        let other = (others.iter()).find(|other| other.is_active() && other.shape == shape);
        let (drive, nudge) = shape.map_or((Drive::NOTHING, Nudge::default()), |place| {
            let other = other.map(|other| &other.drive);
            Drive::start(&program.shapes[place], around, (key, velocity, age), other)
        });
        let stretch = Stretch::of(program, region, &nudge);
        Self {
            region: Some(index),
            stretch,
            audio: Audio::Waits(0),
            rate_hz,
            key,
            velocity,
            up,
            lifted: false,
            cut,
            event: number,
            faded,
            position: stretch.start_frame as f64,
            ratio,
            own_ratio: ratio,
            // Negative until its first block: it begins where it belongs.
            gains: (-1.0, -1.0),
            level: Level::of(program, region, velocity, faded),
            shape,
            drive,
            nudge,
            glide: Glide::default(),
            filter: None,
            cutoff: (0.0, 0.0),
            filter_before: None,
            envelope: Envelope::start(&loudness, rate_hz),
            age,
            looping: false,
        }
    }

    /// Takes over what its region says now: level, place, pitch, stretch and shape, while it sounds.
    pub(crate) fn follow(&mut self, program: &Program) {
        if let Some(region) = self.region_in(program) {
            self.own_ratio = playback_ratio(program, region, self.key, self.rate_hz);
            self.level = Level::of(program, region, self.velocity, self.faded);
            self.stretch = Stretch::of(program, region, &self.nudge);
            self.envelope
                .reshape(&loudness_of(program, region, self.up), self.rate_hz);
            self.shape = driven_shape(program, region);
            let filter = self.shape.and_then(|place| program.shapes[place].filter);
            let form = |filter: Filter| (filter.passes, filter.poles);
            let had = self.filter.map(|(_, filter)| filter);
            if had.map(form) != filter.map(form) && self.gains.0 >= 0.0 {
                self.filter_before.get_or_insert(self.filter.take());
            }
        }
    }

    /// Where it goes within the next frames: gains, from where controllers stand that it fades by and what drives it; pitch, with the bend; the filter.
    /// How many steps that are.
    fn plan(&mut self, around: &Around, frames: usize, steps: &mut Steps) -> usize {
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
        let of_strand = program.strand_of(region).map(|strand| &strand.when.sources);
        let faded =
            standing.gain(&region.when.sources) * of_strand.map_or(1.0, |sources| standing.gain(sources));
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
        if self.glide.cents != 0.0 {
            let begins = self.gains.0 < 0.0;
            if begins {
                self.ratio = steps[0].ratio * libm::exp2(self.glide.cents / 1200.0);
            }
            for step in &mut steps[..count] {
                step.ratio *= libm::exp2(self.glide.go_on(step.frames) / 1200.0);
            }
            if begins {
                self.gains = steps[0].gains;
                let filter = shape.and_then(|shape| shape.filter);
                self.filter = filter.map(|filter| (self.filter_at(&filter, &steps[0]), filter));
            }
        }
        if self.gains.0 < 0.0 {
            (self.gains, self.ratio) = (steps[0].gains, steps[0].ratio);
            let filter = shape.and_then(|shape| shape.filter);
            self.filter = filter.map(|filter| (self.filter_at(&filter, &steps[0]), filter));
        }
        count
    }

    /// A step as it is driven.
    fn drive_on(&mut self, shape: &Shape, around: &Around, faded: f64, step: Step) -> Step {
        let is_let_go = self.envelope.is_released();
        let driven = self.drive.step(shape, around, step.frames, is_let_go);
        let Driven {
            level_db,
            place,
            pitch_cents,
            resonance_db,
            ..
        } = driven;
        let gains = if level_db == 0.0 && place == 0.0 {
            step.gains
        } else {
            self.level.driven(libm::pow(10.0, level_db / 20.0) * faded, place)
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

    fn filter_at(&self, filter: &Filter, step: &Step) -> VoiceFilter {
        VoiceFilter::new(filter, step.cutoff_hz, step.resonance_db, self.rate_hz)
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
            self.shape = None;
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

    /// Whether such an event started it.
    pub(crate) fn is_of(&self, event: u64) -> bool {
        self.event == event
    }

    pub(crate) fn key(&self) -> u8 {
        self.key
    }

    pub(crate) fn age(&self) -> u64 {
        self.age
    }

    /// The pitch that it has on its way from another, in cents over key 0.
    pub(crate) fn pitch_cents(&self) -> f64 {
        100.0 * f64::from(self.key) + self.glide.cents
    }

    /// It begins so far from its own pitch, and gets there within so many frames.
    pub(crate) fn glide_from(&mut self, cents: f64, frames: f64) {
        if frames >= 1.0 {
            self.glide = Glide { cents, frames };
        }
    }

    /// The lower, the sooner it goes: what was let go before what is held.
    pub(crate) fn goes_first(&self, by: GoesFirst) -> (bool, u64) {
        let key = u64::from(self.key);
        let rank = match by {
            GoesFirst::Oldest => self.age,
            GoesFirst::Softest => (f64::from(self.gains.0.max(self.gains.1)) * 1e9) as u64,
            GoesFirst::Highest => 127 - key,
            GoesFirst::Lowest => key,
        };
        (!self.envelope.is_released(), rank)
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
        around: &Around,
        left: &mut [f32],
        right: &mut [f32],
    ) -> bool {
        let (drive, was) = (self.drive, (self.gains, self.ratio));
        let mut steps = Steps::default();
        let count = self.plan(around, left.len(), &mut steps);
        let steps = &steps[..count];
        let fastest = steps.iter().map(|step| step.ratio).fold(self.ratio, f64::max);
        let reader = interpolator.at(fastest);
        self.go_round();
        let mut ran_out = false;
        // A fade needs audio too.
        let ahead = fastest / self.ratio * (left.len() as f64 + QUICK_MS / 1000.0 * self.rate_hz);
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
                // It has not begun.
                (self.drive, (self.gains, self.ratio)) = (drive, was);
                let too_long = f64::from(frames) > WAITS_MS / 1000.0 * self.rate_hz;
                if too_long {
                    self.stop();
                }
                return too_long;
            }
            Audio::Waits(_) => self.audio = Audio::Plays,
        }
        let span = libm::ceil(left.len() as f64 * fastest) as u64;
        self.course(reader.half())
            .make_seam(slabs, self.position as u64, span);
        let audio = Reader::new(slabs, self.stretch.sample);
        let seam = Reader::new(slabs, self.stretch.seam);
        let (mut own_left, mut own_right) = ([0.0; STEP_FRAMES], [0.0; STEP_FRAMES]);
        let mut first = 0;
        for step in steps {
            let range = first..first + step.frames;
            let (l, r) = (&mut own_left[range.clone()], &mut own_right[range.clone()]);
            let read = self.read((&audio, &seam), reader, step, l, r);
            self.filter(around.program, step, l, r);
            self.sound(step, read, (l, r), (&mut left[range.clone()], &mut right[range]));
            if read < step.frames {
                self.stop();
            }
            if !self.is_active() {
                break;
            }
            first += step.frames;
        }
        ran_out
    }

    /// Reads the frames of a step as they are recorded; how many there are.
    fn read(
        &mut self,
        (audio, seam): (&Reader, &Reader),
        reader: &Set,
        step: &Step,
        left: &mut [f32],
        right: &mut [f32],
    ) -> usize {
        // By as much a frame, it gets from the one speed to the other.
        let steeper = (step.ratio - self.ratio) / left.len().max(1) as f64;
        let fastest = self.ratio.max(step.ratio);
        let mut done = 0;
        while done < left.len() {
            let course = self.course(reader.half());
            let rest = (&mut left[done..], &mut right[done..]);
            let read = match course.plain_run(self.position, fastest) {
                0 => match course.seam_run(self.position, fastest) {
                    Some((base, run)) if run > 0 => {
                        self.read_plain((seam, base), (reader, steeper), run, rest)
                    }
                    _ => 0,
                },
                run => self.read_plain((audio, 0), (reader, steeper), run, rest),
            };
            done += match read {
                0 if self.read_one(audio, reader, &mut left[done], &mut right[done]) => {
                    self.ratio += steeper;
                    1
                }
                0 => break,
                read => read,
            };
        }
        self.ratio = step.ratio;
        done
    }

    /// Reads at most so many frames that are heard as they lie, in slabs that count from a frame; how many, to the end of a slab.
    fn read_plain(
        &mut self,
        (audio, base): (&Reader, u64),
        (reader, steeper): (&Set, f64),
        run: usize,
        (left, right): (&mut [f32], &mut [f32]),
    ) -> usize {
        let half = reader.half();
        let first = self.position as u64 + 1 - half as u64;
        let Some(one) = audio.run(0, first - base) else {
            return 0;
        };
        let other = if self.stretch.channels > 1 {
            audio.run(1, first - base)
        } else {
            None
        };
        // What is read around a place begins so many frames before it.
        let before = (first + half as u64 - 1) as f64;
        let mut place = Place {
            position: self.position - before,
            ratio: self.ratio,
            steeper,
        };
        let run = run.min(left.len());
        let read = reader.read((one, other), &mut place, (&mut left[..run], &mut right[..run]));
        (self.position, self.ratio) = (place.position + before, place.ratio);
        read
    }

    /// Reads one frame, wherever it lies; whether there is one.
    fn read_one(&mut self, audio: &Reader, reader: &Set, left: &mut f32, right: &mut f32) -> bool {
        self.go_round();
        let course = self.course(reader.half());
        let frame = self.position as u64;
        let heard = course.looped.map_or(frame, |l| l.frame_at(frame));
        if heard >= self.stretch.end_frame {
            return false;
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
        (*left, *right) = (values[0] * fade, values[1] * fade);
        self.position += self.ratio;
        true
    }

    /// Filters what was read; where the filter is another than a moment ago, the one fades into the other.
    fn filter(&mut self, program: &Program, step: &Step, left: &mut [f32], right: &mut [f32]) {
        let filter = match self.region {
            Some(_) => {
                (self.shape.and_then(|place| program.shapes.get(place))).and_then(|shape| shape.filter)
            }
            // What is gone from the program fades as it was.
            None => self.filter.map(|(_, filter)| filter),
        };
        if filter.is_none() && self.filter.is_none() && self.filter_before.is_none() {
            return;
        }
        let mut before = self.filter_before.take().map(|before| {
            let (mut l, mut r) = ([0.0; STEP_FRAMES], [0.0; STEP_FRAMES]);
            l[..left.len()].copy_from_slice(left);
            r[..right.len()].copy_from_slice(right);
            (before, l, r)
        });
        let was = std::mem::replace(&mut self.cutoff, (step.cutoff_hz, step.resonance_db));
        self.filter = filter.map(|filter| {
            let kept = self.filter.map(|(kept, _)| kept);
            let mut voice = kept.unwrap_or_else(|| self.filter_at(&filter, step));
            voice.follow(&filter);
            voice.run(
                (&filter, step.cutoff_hz, step.resonance_db),
                self.rate_hz,
                left,
                right,
            );
            (voice, filter)
        });
        let Some((before, l, r)) = &mut before else {
            return;
        };
        let count = left.len();
        let (l, r) = (&mut l[..count], &mut r[..count]);
        if let Some((voice, filter)) = before {
            voice.run((filter, was.0, was.1), self.rate_hz, l, r);
        }
        for n in 0..count {
            let share = (n as f32 + 1.0) / count as f32;
            left[n] = l[n] + (left[n] - l[n]) * share;
            right[n] = r[n] + (right[n] - r[n]) * share;
        }
    }

    /// Adds what was read, as loud as it is to be.
    fn sound(
        &mut self,
        step: &Step,
        read: usize,
        (own_left, own_right): (&[f32], &[f32]),
        (left, right): (&mut [f32], &mut [f32]),
    ) {
        let share = 1.0 / left.len().max(1) as f32;
        let from = self.gains;
        let by = ((step.gains.0 - from.0) * share, (step.gains.1 - from.1) * share);
        let own = own_left.iter().zip(own_right).take(read);
        let out = left.iter_mut().zip(right.iter_mut());
        match self.envelope.steady() {
            Some(level) => {
                for (n, ((l, r), (own_l, own_r))) in out.zip(own).enumerate() {
                    *l += own_l * level * (from.0 + by.0 * n as f32);
                    *r += own_r * level * (from.1 + by.1 * n as f32);
                }
            }
            None => {
                for (n, ((l, r), (own_l, own_r))) in out.zip(own).enumerate() {
                    let level = self.envelope.next();
                    *l += own_l * level * (from.0 + by.0 * n as f32);
                    *r += own_r * level * (from.1 + by.1 * n as f32);
                }
            }
        }
        self.gains = step.gains;
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

/// The shape of a region, where anything is driven or filtered by it.
fn driven_shape(program: &Program, region: &Region) -> Option<usize> {
    program
        .shape_of_region(region)
        .filter(|place| program.shapes[*place].is_driven())
}

impl Level {
    /// From the level of region, strand, velocity and fades, and the region's place.
    fn of(program: &Program, region: &Region, velocity: u8, faded: f64) -> Self {
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
