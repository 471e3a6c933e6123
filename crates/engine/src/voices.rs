//! All voices: which of them start, and which fade for them.

use crate::drive::Around;
use crate::slabs::Slabs;
use crate::voice::Voice;
use crate::{Interpolator, Listened, Want};
use program::{Does, KeyEvent, Program, Region, SameKey, Strand, StrandId, cut_of};

/// Voices beside those that are asked for: what is stolen or cut off fades in them.
const FADING: usize = 32;

/// How fast the tone before fades where there is one at a time, in milliseconds.
const ONE_TONE_MS: f64 = 12.0;

/// However small the pool, a voice may have so many slabs ahead.
const LEAST_AHEAD_SLABS: usize = 8;

/// As many as were asked for, and those that fade. All memory is taken by [`Voices::new`].
pub(crate) struct Voices {
    all: Vec<Voice>,
    most: usize,
    /// Voices that were started.
    age: u64,
    /// Strikes, and all else that starts voices.
    event: u64,
    /// The key that started a voice last.
    last_key: Option<u8>,
    /// An event, and from which pitch a strand of one tone came with it, in cents over key 0.
    came_from: (u64, Option<f64>),
}

impl Voices {
    pub(crate) fn new(most: usize) -> Self {
        Self {
            all: vec![Voice::silent(); most + FADING],
            most,
            age: 0,
            event: 0,
            last_key: None,
            came_from: (0, None),
        }
    }

    /// Those that sound or fade.
    pub(crate) fn active(&mut self) -> impl Iterator<Item = &mut Voice> {
        self.all.iter_mut().filter(|voice| voice.is_active())
    }

    /// Those that sound, and do not fade for others.
    pub(crate) fn sounding(&self) -> impl Iterator<Item = &Voice> {
        self.all.iter().filter(|voice| is_sounding(voice))
    }

    /// Audio that they will need, see [`crate::Engine::wanted`].
    pub(crate) fn wants(
        &self,
        (nth, of): (usize, usize),
        slabs: &Slabs,
        interpolator: &Interpolator,
    ) -> impl Iterator<Item = Want> {
        // Of the half that heads do not have, as much for each, two channels.
        let share = (slabs.most() / 2 / (2 * self.most.max(1))).max(LEAST_AHEAD_SLABS) as u32;
        let all = self.all.iter().enumerate();
        all.filter(move |(n, voice)| is_sounding(voice) && (n % of.max(1) == nth || voice.waits()))
            .filter_map(move |(_, voice)| voice.wants(slabs, interpolator, share))
    }

    /// All that sound fade.
    pub(crate) fn end(&mut self) {
        self.active().for_each(|voice| voice.cut_off(0.0));
    }

    /// Something happens that may start voices: they do not cut each other off.
    pub(crate) fn begin_event(&mut self) {
        self.event += 1;
    }

    /// Whether a key has a voice of a strand that has one tone at a time.
    pub(crate) fn has_one_tone(&self, program: &Program, key: u8) -> bool {
        self.sounding().any(|voice| {
            let region = voice.region().and_then(|place| program.regions.get(place));
            let strand = region.and_then(|region| program.strand_of(region));
            voice.is_held_by(key) && strand.is_some_and(|strand| strand.voices.glide.is_some())
        })
    }

    /// Whether a key that is struck again goes on in the voice that it has.
    fn goes_on(
        &mut self,
        around: &Around,
        region: &Region,
        (index, event): (usize, u64),
        by: (KeyEvent, f64),
    ) -> bool {
        let shares = |strand: &Strand| strand.voices.same_key == SameKey::Shares;
        if by.0.is_up() || !around.program.strand_of(region).is_some_and(shares) {
            return false;
        }
        let age = self.age;
        let is_it = |voice: &&mut Voice| {
            is_sounding(voice)
                && voice.region() == Some(index)
                && voice.key() == by.0.key
                && voice.can_go_on()
        };
        let voice = self.all.iter_mut().filter(is_it).max_by_key(|voice| voice.age());
        voice.is_some_and(|voice| {
            voice.strike_again(around, by, (age, event));
            true
        })
    }

    /// What fades for a region that starts, by what its strand says of its voices; from how many cents away it glides.
    fn make_way(&mut self, around: &Around, region: &Region, event: KeyEvent) -> Option<f64> {
        let program = around.program;
        let Strand { id, voices, .. } = program.strand_of(region)?;
        let (id, number) = (*id, self.event);
        if voices.same_key != SameKey::Rings {
            let same = others(&mut self.all, program, id, number).filter(|voice| voice.key() == event.key);
            same.for_each(|voice| voice.cut_off(ONE_TONE_MS));
        }
        if let Some(most) = voices.most {
            while others(&mut self.all, program, id, number).count() >= usize::from(most.max(1)) {
                let first = others(&mut self.all, program, id, number)
                    .min_by_key(|voice| voice.goes_first(voices.goes_first));
                first.into_iter().for_each(|voice| voice.cut_off(ONE_TONE_MS));
            }
        }
        let glide = voices.glide?;
        let before = others(&mut self.all, program, id, number)
            .max_by_key(|voice| voice.age())
            .map(|voice| voice.pitch_cents());
        others(&mut self.all, program, id, number).for_each(|voice| voice.cut_off(ONE_TONE_MS));
        // All regions of a strike come from where the first of them does.
        if self.came_from.0 != number {
            let last = self.last_key.map(|key| 100.0 * f64::from(key));
            self.came_from = (number, before.or(last));
        }
        let legato = matches!(event.does, Does::GoesDown { another_held: true } | Does::GoesBack);
        let cents = self.came_from.1.map(|from| from - 100.0 * f64::from(event.key));
        cents.filter(|_| !event.is_up() && (legato || !glide.legato_only))
    }

    /// Starts a region, and cuts off what it cuts off; where there are too few voices, one fades.
    pub(crate) fn start(
        &mut self,
        around: &Around,
        listened: &Listened,
        index: usize,
        (event, gain): (KeyEvent, f64),
    ) {
        let program = around.program;
        let Some(region) = program.regions.get(index) else {
            return;
        };
        if !listened.hears(region) {
            return;
        }
        self.age += 1;
        let number = self.event;
        let cut = cut_of(program, region);
        if let Some(group) = cut.group {
            for voice in self.active().filter(|voice| voice.is_cut_off_by(group, number)) {
                voice.cut_off(f64::from(voice.cut_fade_ms()));
            }
        }
        if self.goes_on(around, region, (index, number), (event, gain)) {
            return;
        }
        let glides_from = self.make_way(around, region, event);
        let most = program
            .most_voices
            .map_or(self.most, |most| self.most.min(usize::from(most.max(1))));
        if self.sounding().count() >= most {
            let sounding = self.all.iter_mut().filter(|voice| is_sounding(voice));
            if let Some(stolen) = sounding.min_by_key(|voice| voice.theft_rank()) {
                stolen.cut_off(0.0);
            }
        }
        let mut voice = Voice::start(around, index, (event, gain), cut, (self.age, number), &self.all);
        if let Some(cents) = glides_from {
            voice.glide_from(
                cents * region.key_follow,
                glide_frames(program, region, cents, around.rate_hz),
            );
        }
        if !event.is_up() {
            self.last_key = Some(event.key);
        }
        if let Some(slot) = self.all.iter_mut().min_by_key(|voice| voice.theft_rank()) {
            *slot = voice;
        }
    }
}

/// Voices of a strand that sound, but for those that this event started.
fn others<'a>(
    all: &'a mut [Voice],
    program: &'a Program,
    strand: StrandId,
    event: u64,
) -> impl Iterator<Item = &'a mut Voice> {
    all.iter_mut().filter(move |voice| {
        let of = voice.region().and_then(|place| program.regions.get(place));
        is_sounding(voice) && !voice.is_of(event) && of.is_some_and(|of| of.key.strand == strand)
    })
}

/// How long a glide over so many cents takes, in frames.
fn glide_frames(program: &Program, region: &Region, cents: f64, rate_hz: f64) -> f64 {
    let glide = program.strand_of(region).and_then(|strand| strand.voices.glide);
    let ms = glide.map_or(0.0, |glide| {
        glide.ms
            * if glide.per_octave {
                cents.abs() / 1200.0
            } else {
                1.0
            }
    });
    ms / 1000.0 * rate_hz
}

fn is_sounding(voice: &Voice) -> bool {
    voice.is_active() && !voice.is_cut_off()
}
