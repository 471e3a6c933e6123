//! All voices: which of them start, and which fade for them.

use crate::drive::Around;
use crate::slabs::Slabs;
use crate::voice::Voice;
use crate::{Interpolator, Listened, Want};
use program::{KeyEvent, cut_of};

/// Voices beside those that are asked for: what is stolen or cut off fades in them.
const FADING: usize = 32;

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
}

impl Voices {
    pub(crate) fn new(most: usize) -> Self {
        Self {
            all: vec![Voice::silent(); most + FADING],
            most,
            age: 0,
            event: 0,
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
        if self.sounding().count() >= self.most {
            let sounding = self.all.iter_mut().filter(|voice| is_sounding(voice));
            if let Some(stolen) = sounding.min_by_key(|voice| voice.theft_rank()) {
                stolen.cut_off(0.0);
            }
        }
        let voice = Voice::start(around, index, (event, gain), cut, (self.age, number), &self.all);
        if let Some(slot) = self.all.iter_mut().min_by_key(|voice| voice.theft_rank()) {
            *slot = voice;
        }
    }
}

fn is_sounding(voice: &Voice) -> bool {
    voice.is_active() && !voice.is_cut_off()
}
