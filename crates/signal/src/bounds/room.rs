//! Whether what lies before a start is the room, or the sound's own beginning.

use super::Rise;
use crate::bands::{Bands, Levels, apart, heard, in_db, loudest};
use crate::energy::Energy;
use crate::{Audio, frames_of_ms};

/// So little before a start is nothing.
const NOTHING_MS: f64 = 2.0;
/// What is left out lies so far under what follows, over so long, or it is the room: 33 dB.
const LEFT_OUT: f64 = 0.022;
const FOLLOWS_MS: f64 = 50.0;
/// A room is heard for so long at least; its level stays.
const ROOM_MS: f64 = 40.0;
const ROOM_STAYS_DB: f64 = 3.0;
const ROOM_WINDOW_MS: f64 = 10.0;
const ROOM_SCATTERS_DB: f64 = 9.0;
/// The sound is louder than its room by this, and of another colour by this; or it is louder by much, after so long.
const LOUDER_DB: f64 = 6.0;
const OTHER_COLOUR_DB: f32 = 5.0;
const MUCH_LOUDER_DB: f64 = 9.0;
const LONG_ROOM_MS: f64 = 100.0;
/// A sound of its own before the note (a chair): over for so long before the note rises, and quieter than the note by so much: 10 dB.
const APART_MS: f64 = 60.0;
const QUIETER: f64 = 0.32;

fn db(ratio: f64) -> f64 {
    20.0 * ratio.max(1e-9).log10()
}

/// Where the quiet begins after another sound that stands before the note; `None` where none does.
pub(super) fn after_another_sound(
    audio: &Audio,
    energy: &Energy,
    rise: &Rise,
    loudest_at: usize,
) -> Option<usize> {
    let ms = |value: f64| frames_of_ms(audio.rate_hz, value).max(1);
    let (hop, window) = (ms(2.0), ms(10.0));
    let (mut quiet_from, mut last) = (None::<usize>, None);
    for at in (rise.coarse..loudest_at.saturating_sub(window)).step_by(hop) {
        if energy.rms(at, at + window) > rise.threshold {
            quiet_from = None;
            continue;
        }
        let from = *quiet_from.get_or_insert(at);
        if at + window - from >= ms(APART_MS) {
            last = Some(from);
        }
    }
    let quiet_from = last?;
    let loudest_of = |first: usize, end: usize| {
        (first..end)
            .step_by(window)
            .map(|at| energy.rms(at, at + 2 * window))
            .fold(0.0, f64::max)
    };
    let other = loudest_of(rise.coarse, quiet_from);
    let note = (
        loudest_at.saturating_sub(ms(FOLLOWS_MS)).max(quiet_from),
        loudest_at + ms(FOLLOWS_MS),
    );
    let unlike = colours(audio, (rise.coarse, quiet_from), note)?;
    (other < rise.loudest * QUIETER && unlike > OTHER_COLOUR_DB).then_some(quiet_from)
}

/// What lies from a frame on, before a start.
pub(super) struct Before<'a, 'b> {
    audio: &'a Audio,
    energy: &'a Energy<'b>,
    from: usize,
}

impl<'a, 'b> Before<'a, 'b> {
    pub(super) fn of(audio: &'a Audio, energy: &'a Energy<'b>, from: usize) -> Self {
        Self { audio, energy, from }
    }

    /// Whether what lies before a frame is the beginning of the sound that rises there: it can be missed, and is no room.
    pub(super) fn is_of_the_sound(&self, rise: usize) -> bool {
        self.is_missed_before(rise) && !self.is_room_before(rise)
    }

    /// The latest start before a frame at which nothing is missed.
    pub(super) fn latest_start(&self, rise: usize) -> usize {
        let ms = |value: f64| frames_of_ms(self.audio.rate_hz, value).max(1);
        (self.from + ms(NOTHING_MS)..rise)
            .rev()
            .step_by(ms(0.5))
            .find(|&at| !self.is_missed_before(at))
            .unwrap_or(self.from)
    }

    /// Whether what is left out before a frame lies so near under what follows that it can be missed.
    fn is_missed_before(&self, at: usize) -> bool {
        let follows = frames_of_ms(self.audio.rate_hz, FOLLOWS_MS);
        self.energy.rms(self.from, at) > self.energy.rms(at, at + follows) * LEFT_OUT
    }

    /// Whether frames before `start` are a room: long enough, of one level, and quieter than the sound and of another colour.
    fn is_room_before(&self, start: usize) -> bool {
        let Self { audio, energy, from } = *self;
        let ms = |value: f64| frames_of_ms(audio.rate_hz, value).max(1);
        let end = start.saturating_sub(ms(NOTHING_MS));
        let window = ms(ROOM_WINDOW_MS);
        if end < from + ms(ROOM_MS) {
            return false;
        }
        let levels: Vec<f64> = (from..=end - window)
            .step_by(window)
            .map(|at| db(energy.rms(at, at + window)))
            .collect();
        let (low, high) = levels
            .iter()
            .fold((f64::MAX, f64::MIN), |(low, high), x| (low.min(*x), high.max(*x)));
        let moves = db(energy.rms((from + end) / 2, end)) - db(energy.rms(from, (from + end) / 2));
        if high - low > ROOM_SCATTERS_DB || moves.abs() > ROOM_STAYS_DB {
            return false;
        }
        let louder = db(energy.rms(start, start + ms(FOLLOWS_MS))) - db(energy.rms(from, end));
        let colours = colours(
            audio,
            (from, end),
            (start + ms(10.0), start + ms(10.0 + 2.0 * FOLLOWS_MS)),
        );
        louder > LOUDER_DB && colours.is_some_and(|apart| apart > OTHER_COLOUR_DB)
            || louder > MUCH_LOUDER_DB && end >= from + ms(LONG_ROOM_MS)
    }
}

/// How far the colours of two stretches lie apart, their levels taken out, in dB; `None` where one is too short.
fn colours(audio: &Audio, a: (usize, usize), b: (usize, usize)) -> Option<f32> {
    let mut bands = Bands::new(audio.rate_hz);
    let hop = bands.hop;
    let mut of = |(first, end): (usize, usize)| -> Option<Levels> {
        let part = audio
            .slice(first.min(audio.frames()), end.min(audio.frames()))
            .to_mono();
        let powers = bands.over(&part, hop);
        let sums: Levels = std::array::from_fn(|band| powers.iter().map(|of| of[band]).sum());
        let all: f32 = sums.iter().sum();
        (all > 0.0).then(|| sums.map(|x| x / all))
    };
    let both = [of(a)?, of(b)?];
    let levels = in_db(&both, loudest(&both));
    let kept = heard(&levels);
    Some(apart(&levels[0], &levels[1], &kept))
}

#[cfg(test)]
mod tests {
    use crate::{Audio, sound_bounds};
    use rand::{Rng, SeedableRng};
    use std::f64::consts::TAU;

    const RATE: f64 = 48_000.0;

    /// Two seconds, by the time in seconds and white noise of RMS 0.58.
    fn take(of: impl Fn(f64, f64) -> f64) -> Audio {
        let mut random = rand_pcg::Pcg64::seed_from_u64(8);
        let samples = (0..96_000)
            .map(|n| of(f64::from(n) / RATE, random.random_range(-1.0..1.0)) as f32)
            .collect();
        Audio::mono(RATE as u32, samples)
    }

    fn tone(t: f64) -> f64 {
        (1..=6)
            .map(|k| (TAU * 196.0 * f64::from(k) * t).sin() / f64::from(k))
            .sum::<f64>()
            * 0.3
    }

    fn start_s(audio: &Audio) -> (f64, bool) {
        let found = sound_bounds(audio).unwrap();
        (found.start_frame as f64 / RATE, found.sound_before)
    }

    #[test]
    fn what_begins_in_its_sound_keeps_its_first_frame() {
        // Bowed: it swells from 26 dB under its loudest, with a bow's noise.
        for swell_s in [0.05, 0.2, 0.6] {
            let audio = take(|t, noise| (0.05 + t / swell_s).min(1.0) * (tone(t) + noise * 0.02));
            assert_eq!(start_s(&audio), (0.0, false), "{swell_s} s");
        }
    }

    #[test]
    fn a_slow_swell_out_of_a_quiet_room_is_whole() {
        let audio = take(|t, noise| ((t - 0.4) / 0.5).clamp(0.0, 1.0) * tone(t) + noise * 2e-4);
        let (start, other) = start_s(&audio);
        // What is 33 dB under what follows is not missed.
        assert!((0.39..0.42).contains(&start) && !other, "{start}");
    }

    #[test]
    fn a_pick_that_belongs_to_the_note_stays_and_a_chair_before_it_does_not() {
        let burst = |t: f64, at: f64| if (at..at + 0.03).contains(&t) { 0.1 } else { 0.0 };
        let note = |t: f64| {
            if t > 0.8 {
                tone(t) * (-(t - 0.8) * 2.0).exp()
            } else {
                0.0
            }
        };
        let with = |at: f64| take(|t, noise| note(t) + noise * (burst(t, at) + 2e-4));
        // 35 ms before the note: its pick, with the few milliseconds of room that a slow rise is given.
        let (start, other) = start_s(&with(0.765));
        assert!((0.760..0.766).contains(&start) && !other, "{start}");
        // 400 ms before it: a chair.
        let (start, other) = start_s(&with(0.4));
        assert!((start - 0.8).abs() < 0.002 && other, "{start}");
        // Nothing before it.
        let (start, other) = start_s(&with(9.0));
        assert!((start - 0.8).abs() < 0.002 && !other, "{start}");
    }
}
