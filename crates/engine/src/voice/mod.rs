//! One sounding region: how it begins, is held, let go and ended.

mod plan;
mod sound;

use crate::Envelope;
use crate::drive::{Around, Drive, Nudge};
use crate::filter::VoiceFilter;
use crate::stretch::{Course, Stretch};
use plan::{Glide, Level};
use program::{Cut, Filter, GoesFirst, KeyEvent, Loop, Loudness, Program, Region, Standing, playback_ratio};

/// No release is shorter, so that letting a key go does not click.
pub(crate) const STOP_MS: f64 = 5.0;
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
        let ratio = playback_ratio(program, region, key, rate_hz);
        let shape = driven_shape(program, region);
        let other = (others.iter()).find(|other| other.is_active() && other.shape == shape);
        let (drive, nudge) = shape.map_or((Drive::NOTHING, Nudge::default()), |place| {
            let other = other.map(|other| &other.drive);
            Drive::start(&program.shapes[place], around, (key, velocity, age), other)
        });
        let stretch = Stretch::of(program, region, &nudge);
        let loudness = loudness_of(program, region, &drive, up);
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

    /// Whether it has a loop to go on in, however long: it is not past that.
    pub(crate) fn can_go_on(&self) -> bool {
        (self.stretch.looped).is_some_and(|looped| self.position < looped.round_end() as f64)
    }

    /// It is struck anew from where it is, and held again.
    pub(crate) fn strike_again(
        &mut self,
        around: &Around,
        (event, faded): (KeyEvent, f64),
        (age, number): (u64, u64),
    ) {
        let Some(region) = self.region_in(around.program) else {
            return;
        };
        self.level = Level::of(around.program, region, event.velocity, faded);
        self.velocity = event.velocity;
        self.faded = faded;
        (self.lifted, self.age, self.event) = (false, age, number);
        self.drive.strike_again(event.velocity);
        let loudness = loudness_of(around.program, region, &self.drive, false);
        self.envelope.strike_again(&loudness, self.rate_hz);
    }

    /// Takes over what its region says now: level, place, pitch, stretch and shape, while it sounds.
    pub(crate) fn follow(&mut self, program: &Program) {
        if let Some(region) = self.region_in(program) {
            self.own_ratio = playback_ratio(program, region, self.key, self.rate_hz);
            self.level = Level::of(program, region, self.velocity, self.faded);
            self.stretch = Stretch::of(program, region, &self.nudge);
            let loudness = loudness_of(program, region, &self.drive, self.up);
            self.envelope.reshape(&loudness, self.rate_hz);
            self.shape = driven_shape(program, region);
            let filter = self.shape.and_then(|place| program.shapes[place].filter);
            let form = |filter: Filter| (filter.passes, filter.poles);
            let had = self.filter.map(|(_, filter)| filter);
            if had.map(form) != filter.map(form) && self.gains.0 >= 0.0 {
                self.filter_before.get_or_insert(self.filter.take());
            }
        }
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
        Course {
            stretch: &self.stretch,
            looped: self.loop_now(),
            looping: self.looping,
            half,
        }
    }

    /// The loop that it is in, or comes to: one that is left as the key comes up is none then.
    fn loop_now(&self) -> Option<Loop> {
        let released = self.envelope.is_released();
        (self.stretch.looped).filter(|looped| looped.runs_through_release() || !released)
    }

    /// Where the loop was gone round, from its start.
    fn go_round(&mut self) {
        if let Some(looped) = self.loop_now() {
            while self.position >= looped.round_end() as f64 {
                self.position -= looped.round_frames() as f64;
                self.looping = true;
            }
        }
    }
}

/// How loudness runs on a region: of a key that is let go no release is so short that it clicks.
fn loudness_of(program: &Program, region: &Region, drive: &Drive, up: bool) -> Loudness {
    let loudness = drive.loudness(program.loudness_of_region(region));
    let shortest = if up { 0.0 } else { STOP_MS };
    Loudness {
        release_ms: loudness.release_ms.max(shortest),
        ..loudness
    }
}

/// The shape of a region, where anything is driven or filtered by it, or it fades by what its voice has for itself.
fn driven_shape(program: &Program, region: &Region) -> Option<usize> {
    let mut sources = program.sources_of(region);
    let fades = sources.any(|within| !Standing::is_shared(within.source));
    program
        .shape_of_region(region)
        .filter(|place| fades || program.shapes[*place].is_driven())
}
