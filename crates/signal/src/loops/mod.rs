//! Where a sustained sound can be looped.

use crate::energy::Energy;
use crate::likeness::Likeness;
use crate::{Audio, PlayedLoop, frames_of_ms, magnitude_spectrum_db};
use serde::{Deserialize, Serialize};

mod alike;
mod judged;
mod listen;
mod periods;
mod rough;
mod thin;
mod worth;

/// One place to loop, with what it is worth.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LoopCandidate {
    /// First frame of the loop.
    pub start_frame: usize,
    /// First frame after the loop.
    pub end_frame: usize,
    /// Length of the crossfade before the end that hides what is left of the seam.
    pub crossfade_frames: usize,
    /// Mismatch of end and start before any crossfade, see [`seam_db`].
    pub seam_db: f64,
    /// Level change inside, see [`drift_db`].
    pub drift_db: f64,
    /// Whole periods in the loop.
    pub periods: u32,
    /// How far the colour before the end lies from that before the start, see [`timbre_db`].
    #[serde(default)]
    pub timbre_db: f64,
    /// How alike its ends are, see [`likeness_percent`]: by this they are crossfaded.
    #[serde(default = "wholly")]
    pub likeness_percent: u8,
    /// How far its seams stand out as it is played, see [`crate::audible_db`].
    #[serde(default)]
    pub audible_db: Option<f64>,
    /// The same where it stands out most of both ends of what it usually serves, three semitones to either side; `None` where nobody listened there.
    #[serde(default)]
    pub audible_ends_db: Option<f64>,
    /// How far its level moves, see [`crate::pumps_db`].
    #[serde(default)]
    pub pumps_db: Option<f64>,
    /// How far the pitch that is heard while it goes round lies above the take's, in cents; `None` where nobody listened for that.
    #[serde(default)]
    pub held_cents: Option<f64>,
}

/// To a thousandth: nobody reads more, and thousands of places are kept and sent.
pub(crate) fn rounded(x: f64) -> f64 {
    (x * 1_000.0).round() / 1_000.0
}

impl LoopCandidate {
    /// The same, told no more finely than it is known.
    fn rounded(self) -> Self {
        Self {
            seam_db: rounded(self.seam_db),
            drift_db: rounded(self.drift_db),
            timbre_db: rounded(self.timbre_db),
            audible_db: self.audible_db.map(rounded),
            audible_ends_db: self.audible_ends_db.map(rounded),
            pumps_db: self.pumps_db.map(rounded),
            held_cents: self.held_cents.map(rounded),
            ..self
        }
    }

    /// As it is played.
    pub fn played(&self) -> PlayedLoop {
        PlayedLoop {
            start_frame: self.start_frame,
            end_frame: self.end_frame,
            crossfade_frames: self.crossfade_frames,
            likeness_percent: self.likeness_percent,
        }
    }
}

fn wholly() -> u8 {
    100
}

/// What one loop is worth.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LoopFacts {
    /// See [`seam_db`]; `None` where the audio does not reach.
    pub seam_db: Option<f64>,
    /// See [`drift_db`].
    pub drift_db: f64,
    /// How far its seams stand out, see [`crate::audible_db`].
    #[serde(default)]
    pub audible_db: Option<f64>,
    /// See [`crate::held_cents`]; `None` where nobody listened for that.
    #[serde(default)]
    pub held_cents: Option<f64>,
}

impl LoopFacts {
    /// Of a loop as it is played.
    pub fn of(audio: &Audio, played: PlayedLoop, period_frames: f64) -> Self {
        Self {
            seam_db: seam_db(audio, played.start_frame, played.end_frame, period_frames),
            drift_db: drift_db(audio, played.start_frame, played.end_frame),
            audible_db: crate::audible_db(&audio.to_mono(), audio.rate_hz, played),
            held_cents: None,
        }
    }
}

impl From<&LoopCandidate> for LoopFacts {
    fn from(found: &LoopCandidate) -> Self {
        Self {
            seam_db: Some(found.seam_db),
            drift_db: found.drift_db,
            audible_db: found.audible_db,
            held_cents: found.held_cents,
        }
    }
}

/// Over so many frames on either side of loop end and loop start a seam is compared: the longer of 5 ms and one period.
pub fn seam_reach(rate_hz: u32, period_frames: f64) -> usize {
    frames_of_ms(rate_hz, 5.0).max(period_frames.ceil() as usize)
}

/// RMS of the difference of the audio around loop end and around loop start, over ± the longer of 5 ms and one
/// period, relative to the RMS there, all channels together. −150 for a perfect seam; `None` where the audio does not reach.
pub fn seam_db(audio: &Audio, start: usize, end: usize, period_frames: f64) -> Option<f64> {
    let reach = seam_reach(audio.rate_hz, period_frames);
    let (mut difference, mut power) = (0.0f64, 0.0f64);
    if start < reach || end <= start || end + reach > audio.frames() {
        return None;
    }
    for channel in &audio.channels {
        for (&a, &b) in channel[start - reach..start + reach]
            .iter()
            .zip(&channel[end - reach..end + reach])
        {
            let (a, b) = (f64::from(a), f64::from(b));
            difference += (a - b) * (a - b);
            power += (a * a + b * b) / 2.0;
        }
    }
    (power > 0.0).then(|| 10.0 * (difference / power).max(PERFECT).log10())
}

/// A seam that fits better than this fits to the last bit, as a power: −150 dB.
const PERFECT: f64 = 1e-15;

/// The correlation of two stretches of one power, from their mismatch: the power of the difference is 2·(1 − ρ) times theirs.
pub fn likeness_percent(seam_db: f64) -> u8 {
    let correlation = 1.0 - 10f64.powf(seam_db / 10.0) / 2.0;
    (correlation.clamp(0.0, 1.0) * 100.0).round() as u8
}

/// Windows over which colour is compared.
const TIMBRE_MS: f64 = 120.0;
const TIMBRE_BANDS: usize = 24;
const TIMBRE_FROM_HZ: f64 = 60.0;
/// Bands fainter than the loudest by this much are not heard beside it.
const TIMBRE_FAINT_DB: f32 = 50.0;

/// How far the spectrum of the stretch before the loop's end lies from that before its start: the RMS of the differences in dB over 24 bands of
/// equal ratio, those left out that are more than 50 dB under the loudest, and the difference in level taken out. 0 where the audio does not reach.
pub fn timbre_db(mono: &[f32], rate_hz: u32, start: usize, end: usize) -> f64 {
    let window = frames_of_ms(rate_hz, TIMBRE_MS) & !1;
    if start < window || end > mono.len() || end <= start {
        return 0.0;
    }
    let bands =
        |at: usize| magnitude_spectrum_db(&mono[at - window..at], rate_hz, TIMBRE_FROM_HZ, TIMBRE_BANDS);
    let (a, b) = (bands(start), bands(end));
    let loudest = a.iter().fold(f32::MIN, |top, x| top.max(*x));
    let apart: Vec<f64> = a
        .iter()
        .zip(&b)
        .filter(|(x, _)| **x > loudest - TIMBRE_FAINT_DB)
        .map(|(x, y)| f64::from(y - x))
        .collect();
    let count = apart.len().max(1) as f64;
    let mean = apart.iter().sum::<f64>() / count;
    (apart.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / count).sqrt()
}

/// The rising zero crossing of the mean of all channels that lies nearest to a frame, no further than `within`; the frame itself where there
/// is none.
pub fn nearest_rising_zero(audio: &Audio, frame: usize, within: usize) -> usize {
    let mono = audio.to_mono();
    let rises = |n: usize| n > 0 && n < mono.len() && mono[n - 1] < 0.0 && mono[n] >= 0.0;
    (0..=within)
        .flat_map(|off| [frame.checked_sub(off), Some(frame + off)])
        .flatten()
        .find(|&n| rises(n))
        .unwrap_or(frame)
}

/// The place near `moved`, no further than `within`, at which a loop to or from `fixed` has the smallest mismatch: the sound there is most like
/// that at `fixed`.
pub fn most_alike_near(
    audio: &Audio,
    fixed: usize,
    moved: usize,
    within: usize,
    period_frames: f64,
) -> usize {
    let reach = seam_reach(audio.rate_hz, period_frames);
    let frames = audio.frames();
    if fixed < reach || fixed + reach > frames {
        return moved;
    }
    (moved.saturating_sub(within)..=moved + within)
        .filter(|&at| at >= reach && at + reach <= frames)
        .map(|at| (periods::mismatch(&audio.channels, fixed, at, reach), at))
        .min_by(|a, b| {
            a.0.total_cmp(&b.0)
                .then(a.1.abs_diff(moved).cmp(&b.1.abs_diff(moved)))
        })
        .map_or(moved, |(_, at)| at)
}

/// RMS of the loop's last quarter over its first, in dB, absolute.
pub fn drift_db(audio: &Audio, start: usize, end: usize) -> f64 {
    let part = audio.slice(start, end);
    drift(&Energy::of(&part), 0, part.frames())
}

fn drift(energy: &Energy, start: usize, end: usize) -> f64 {
    let quarter = ((end - start) / 4).max(1);
    let (first, last) = (energy.rms(start, start + quarter), energy.rms(end - quarter, end));
    if first > 0.0 && last > 0.0 {
        (20.0 * (last / first).log10()).abs()
    } else {
        0.0
    }
}

/// How long loops may be.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LoopLengths {
    /// Seconds.
    pub shortest_s: f64,
    /// Seconds.
    pub longest_s: f64,
}

impl Default for LoopLengths {
    fn default() -> Self {
        Self {
            shortest_s: 0.1,
            longest_s: 12.0,
        }
    }
}

/// A decibel of difference in colour counts as so many of seam: what a crossfade hides of the one it does not hide of the other.
const TIMBRE_WORTH: f64 = 1.5;
/// A doubling of the length is worth this much of the seam: longer is livelier.
const DB_PER_DOUBLING: f64 = 2.5;
/// From the first of these on a drift is heard as pumping, from the second plainly (bars: 1 dB); each decibel over them costs so much of the seam.
const HEARD_DRIFT_DB: (f64, f64) = (0.6, 1.0);
const DB_PER_DRIFT: (f64, f64) = (14.0, 100.0);
const BEST: usize = 6;
/// What is worse than this is no loop.
pub(crate) const WORST_SEAM_DB: f64 = -10.0;
pub(crate) const WORST_DRIFT_DB: f64 = 2.0;
/// A sound that moves slowly stands still in a loop shorter than this, in seconds.
pub const LIVELY_S: f64 = 1.0;

/// Places to loop inside `start..end`, best first: what is steady by whole periods of a known pitch, and what is alike in colour whatever its pitch; all
/// judged as they will be played. Empty where the sound is too short.
pub fn find_loops(
    audio: &Audio,
    start: usize,
    end: usize,
    period_frames: Option<f64>,
    lengths: LoopLengths,
) -> Vec<LoopCandidate> {
    let end = end.min(audio.frames());
    let most = frames_of_ms(audio.rate_hz, 1_000.0 * SEARCHED_S);
    if end.saturating_sub(start) > most {
        // Of a sound that goes on for minutes its first minute is searched: memory stays small.
        let mut found = find_loops(&audio.slice(start, start + most), 0, most, period_frames, lengths);
        for place in &mut found {
            place.start_frame += start;
            place.end_frame += start;
        }
        return found;
    }
    let steady = period_frames.map_or_else(Vec::new, |period| {
        find_steady_loops(audio, start, end, period, lengths)
    });
    let mut thin = thin::Thin::of(audio, start, end, period_frames);
    let level = steady.iter().filter(|of| of.drift_db <= HEARD_DRIFT_DB.1);
    let mut places: Vec<_> = level.map(|found| thin.place(found)).collect();
    let fits = steady.first().is_some_and(|best| best.seam_db <= STEADY_SEAM_DB);
    if fits && !places.is_empty() {
        // A tone that stands: nothing is better than whole periods that fit so well.
        let found = judged::best(audio, &mut thin, &places, period_frames, BEST);
        if found
            .first()
            .is_some_and(|best| best.audible_db.is_none_or(|db| db <= 0.0))
        {
            return found;
        }
    }
    places.extend(alike::alike(&thin, lengths, PAIRS));
    if lengths == LoopLengths::default() {
        places.extend(alike::late(&thin));
    }
    judged::best(audio, &mut thin, &places, period_frames, BEST)
}

/// A seam of whole periods that fits like this is not looked for further.
const STEADY_SEAM_DB: f64 = -25.0;

/// Pairs of moments that are brought together.
const PAIRS: usize = 50;

/// Places to loop inside `start..end`, best first, for a tone of the given period that stands; empty where nothing is worth
/// looping. Starts are spread over the first half of the settled stretch; lengths are whole periods, every number of them tried from a few
/// starts, the best of them from all starts on every fourth frame, and the best of those fitted to the frame.
pub fn find_steady_loops(
    audio: &Audio,
    start: usize,
    end: usize,
    period_frames: f64,
    lengths: LoopLengths,
) -> Vec<LoopCandidate> {
    let reach = seam_reach(audio.rate_hz, period_frames);
    let found = settled(&Energy::of(audio), audio.rate_hz, start, end.min(audio.frames()));
    let Some((first, last)) = found else {
        return Vec::new();
    };
    let most = frames_of_ms(audio.rate_hz, 1_000.0 * SEARCHED_S);
    if last - first <= most {
        return periods::search(audio, (start, first, last), period_frames, lengths);
    }
    // Of a sound that goes on for minutes its first minute is searched, with what lies around it: memory stays small.
    let margin = frames_of_ms(audio.rate_hz, 1_000.0) + reach;
    let (from, to) = (first.saturating_sub(margin).max(start), first + most);
    let mut found = periods::search(
        &audio.slice(from, to + margin),
        (0, first - from, to - from),
        period_frames,
        lengths,
    );
    for place in &mut found {
        place.start_frame += from;
        place.end_frame += from;
    }
    found
}

/// So much of a settled sound is searched.
const SEARCHED_S: f64 = 60.0;

/// What a loop is worth but for its colour, less being better.
fn by_seam(of: &LoopCandidate, rate: f64) -> f64 {
    let seconds = (of.end_frame - of.start_frame) as f64 / rate;
    let pumps = DB_PER_DRIFT.0 * (of.drift_db - HEARD_DRIFT_DB.0).max(0.0)
        + DB_PER_DRIFT.1 * (of.drift_db - HEARD_DRIFT_DB.1).max(0.0);
    of.seam_db.max(-60.0) - DB_PER_DOUBLING * seconds.log2() + pumps
}

/// Best first.
pub(crate) fn by_rank(found: &mut [LoopCandidate], rate: f64) {
    let rank = |c: &LoopCandidate| by_seam(c, rate) + TIMBRE_WORTH * c.timbre_db;
    found.sort_by(|a, b| rank(a).total_cmp(&rank(b)));
}

/// The first of many, one of [`LIVELY_S`] and more among them where there is one.
fn best_of(mut ranked: Vec<LoopCandidate>, rate: f64) -> Vec<LoopCandidate> {
    let lively = |c: &LoopCandidate| (c.end_frame - c.start_frame) as f64 >= LIVELY_S * rate;
    if let Some(first) = ranked.iter().position(lively).filter(|first| *first >= BEST) {
        ranked.swap(first, BEST - 1);
    }
    ranked.truncate(BEST);
    ranked
}

/// So many of one length are shown before those of others; lengths within a fiftieth are one.
const OF_ONE_LENGTH: usize = 2;
const SAME_LENGTH: f64 = 0.02;

/// The same, in their order, but for those of a length of which there are enough already: they come last.
fn diverse(ranked: Vec<LoopCandidate>) -> Vec<LoopCandidate> {
    let length = |c: &LoopCandidate| (c.end_frame - c.start_frame) as f64;
    let (mut first, mut rest): (Vec<LoopCandidate>, Vec<LoopCandidate>) = (Vec::new(), Vec::new());
    for candidate in ranked {
        let alike = first
            .iter()
            .filter(|other| (length(other) / length(&candidate) - 1.0).abs() < SAME_LENGTH)
            .count();
        if alike < OF_ONE_LENGTH {
            first.push(candidate);
        } else {
            rest.push(candidate);
        }
    }
    first.extend(rest);
    first
}

/// A sound is held where it stays within 12 dB of its loudest for this share of it, and dies away otherwise.
const HELD_SHARE: f64 = 0.4;

/// Whether a sound in frames `start..end` dies away by itself.
pub fn dies_away(audio: &Audio, start: usize, end: usize) -> bool {
    dies_away_of(&Energy::of(audio), audio.rate_hz, start, end)
}

pub(crate) fn dies_away_of(energy: &Energy, rate_hz: u32, start: usize, end: usize) -> bool {
    let held = settled(energy, rate_hz, start, end.min(energy.frames()));
    held.is_none_or(|(first, last)| ((last - first) as f64) < HELD_SHARE * (end - start) as f64)
}

/// The stretch in which the sound has settled: the longest run within 12 dB of its loudest, without its first part.
pub(crate) fn settled(energy: &Energy, rate_hz: u32, start: usize, end: usize) -> Option<(usize, usize)> {
    let hop = frames_of_ms(rate_hz, 20.0).max(1);
    let levels: Vec<f64> = (start..end.saturating_sub(hop))
        .step_by(hop)
        .map(|at| energy.rms(at, at + hop))
        .collect();
    let mut sorted = levels.clone();
    sorted.sort_by(f64::total_cmp);
    let loud = *sorted.get(sorted.len() * 9 / 10)?;
    let (mut best, mut run) = ((0, 0), 0);
    for (n, &level) in levels.iter().enumerate() {
        run = if level > loud * 0.25 { run + 1 } else { 0 };
        if run > best.1 - best.0 {
            best = (n + 1 - run, n + 1);
        }
    }
    let (first, last) = (start + best.0 * hop, start + best.1 * hop);
    let length = last - first;
    let skip = (length / 5).min(frames_of_ms(rate_hz, 400.0));
    (length > skip).then(|| (first + skip, last - length / 20))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use std::f64::consts::TAU;

    fn steady(hz: f64, seed: u64, modulate: impl Fn(f64) -> f64) -> Audio {
        let mut random = rand_pcg::Pcg64::seed_from_u64(seed);
        let rate = 48_000.0;
        let samples = (0..144_000)
            .map(|n| {
                let t = f64::from(n) / rate;
                let tone: f64 = (1..=8)
                    .map(|k| (TAU * hz * f64::from(k) * t).sin() / f64::from(k))
                    .sum();
                let noise: f64 = (0..12).map(|_| random.random::<f64>()).sum::<f64>() - 6.0;
                ((tone * modulate(t) + noise * 0.87 * 10f64.powf(-50.0 / 20.0)) * 0.3) as f32
            })
            .collect();
        Audio::mono(48_000, samples)
    }

    #[test]
    fn a_loop_of_whole_periods_has_no_seam() {
        let tone: Vec<f32> = (0..48_000)
            .map(|n| (n as f32 * TAU as f32 / 100.0).sin())
            .collect();
        let seam = seam_db(&Audio::mono(48_000, tone), 10_000, 30_000, 100.0).unwrap();
        assert!(seam < -50.0, "{seam}");
    }

    /// Bars page: steady tones over a −50 dB floor, median seam ≤ −30 dB, 95th percentile ≤ −20 dB.
    #[test]
    fn steady_tones_over_a_floor_loop_well() {
        let mut seams: Vec<f64> = (0..24)
            .map(|n| {
                let hz = 55.0 * 2f64.powf(f64::from(n) / 4.3);
                let audio = steady(hz, n as u64, |_| 1.0);
                let best = find_loops(
                    &audio,
                    0,
                    audio.frames(),
                    Some(48_000.0 / hz),
                    LoopLengths::default(),
                )[0];
                assert!(best.drift_db <= 1.0, "{best:?}");
                let cents = 1200.0
                    * ((best.end_frame - best.start_frame) as f64 * hz / 48_000.0 / f64::from(best.periods))
                        .log2();
                assert!(cents.abs() <= 1.0);
                best.seam_db
            })
            .collect();
        seams.sort_by(f64::total_cmp);
        println!(
            "seam: median {:.1}, 95th percentile {:.1} dB",
            seams[12], seams[22]
        );
        assert!(seams[12] <= -30.0 && seams[22] <= -20.0, "{seams:?}");
    }

    /// A tone that dies by 35 dB a second, and is cut off before the silence that follows.
    #[test]
    fn what_dies_fast_is_looped_without_pumping() {
        let samples: Vec<f32> = (0..144_000)
            .map(|n| {
                let t = f64::from(n) / 48_000.0;
                let tone: f64 = (1..=5)
                    .map(|k| (t * TAU * 220.0 * f64::from(k)).sin() / f64::from(k))
                    .sum();
                let sounds = (12_000..108_000).contains(&n);
                (if sounds {
                    tone * 0.2 * (-4.0 * t).exp()
                } else {
                    0.0
                }) as f32
            })
            .collect();
        let audio = Audio::mono(48_000, samples);
        let found = find_loops(
            &audio,
            12_000,
            110_160,
            Some(48_000.0 / 220.0),
            LoopLengths::default(),
        );
        assert!(found[0].pumps_db.unwrap() < 2.0, "{:?}", found[0]);
        assert!(found[0].audible_db.unwrap() < 2.0, "{:?}", found[0]);
    }

    /// Three seconds of a bright tone over a floor of −50 dB whose pitch and level move: cents over the tone, and level, at a time.
    fn moving(hz: f64, seed: u64, cents: impl Fn(f64) -> f64, level: impl Fn(f64) -> f64) -> Audio {
        let mut random = rand_pcg::Pcg64::seed_from_u64(seed);
        let mut phase = 0.0;
        let samples = (0..144_000)
            .map(|n| {
                let t = f64::from(n) / 48_000.0;
                phase += TAU * hz * (cents(t) / 1200.0).exp2() / 48_000.0;
                let tone: f64 = (1..=8).map(|k| (phase * f64::from(k)).sin() / f64::from(k)).sum();
                let noise: f64 = (0..12).map(|_| random.random::<f64>()).sum::<f64>() - 6.0;
                ((tone * level(t) + noise * 0.87 * 10f64.powf(-50.0 / 20.0)) * 0.3) as f32
            })
            .collect();
        Audio::mono(48_000, samples)
    }

    /// Bars page: vibrato, beating, decay: median seam ≤ −20 dB, drift ≤ 1 dB. The pitch is the measured one, as it is in a take.
    #[test]
    fn moving_tones_loop_at_twenty_decibels_and_better() {
        type Moves = fn(f64, f64) -> f64;
        let kinds: [(&str, Moves, Moves); 3] = [
            // ±20 cents, 4.6 to 6.4 times a second, as singers do (common practice).
            (
                "vibrato",
                |t, speed| 20.0 * (TAU * (4.6 + 1.8 * speed) * t).sin(),
                |_, _| 1.0,
            ),
            (
                "beating",
                |_, _| 0.0,
                |t, speed| 1.0 + 0.5 * (TAU * (0.7 + 3.0 * speed) * t).cos(),
            ),
            // From 1 to 4 dB a second: faster than that is no sustained sound.
            (
                "decay",
                |_, _| 0.0,
                |t, speed| 10f64.powf(-(1.0 + 3.0 * speed) * t / 20.0),
            ),
        ];
        for (name, cents, level) in kinds {
            let mut seams: Vec<f64> = (0..24)
                .map(|n| {
                    let (hz, speed) = (80.0 * 2f64.powf(f64::from(n) / 6.0), f64::from(n * 7 % 24) / 24.0);
                    let audio = moving(hz, n as u64, |t| cents(t, speed), |t| level(t, speed));
                    let facts = crate::measure(&audio);
                    let pitch = facts
                        .pitch
                        .unwrap_or_else(|| panic!("{name} at {hz:.1} Hz has no pitch"));
                    assert!(
                        (1200.0 * (pitch.hz / hz).log2()).abs() < 5.0,
                        "{name} at {hz:.1} Hz: {pitch:?}"
                    );
                    let Some(best) = facts.loops.first() else {
                        println!("{name} at {hz:.1} Hz: no loop");
                        return 0.0;
                    };
                    assert!(best.drift_db <= 1.0, "{name} at {hz:.1} Hz: {best:?}");
                    best.seam_db
                })
                .collect();
            seams.sort_by(f64::total_cmp);
            println!("{name}: median {:.1}, worst {:.1} dB", seams[12], seams[23]);
            assert!(seams[12] <= -20.0, "{name}: {seams:?}");
        }
    }

    /// What differs between left and right is heard in their mean as silence: a loop has to fit both.
    #[test]
    fn both_sides_are_looped_together() {
        // The middle repeats every tenth of a second, what differs between the sides only every seven tenths.
        let side = |sign: f64| -> Vec<f32> {
            (0..192_000)
                .map(|n| {
                    let t = f64::from(n) / 48_000.0;
                    let (middle, apart) = ((TAU * 200.0 * t).sin(), (TAU * (300.0 + 10.0 / 7.0) * t).sin());
                    ((middle + sign * apart) * 0.2) as f32
                })
                .collect()
        };
        let audio = Audio {
            rate_hz: 48_000,
            channels: vec![side(1.0), side(-1.0)],
        };
        let best = find_loops(&audio, 0, audio.frames(), Some(240.0), LoopLengths::default())[0];
        assert!(best.seam_db <= -40.0, "{best:?}");
        let snapped = most_alike_near(&audio, 48_000, 48_000 + 33_600 + 9, 20, 240.0);
        assert_eq!(snapped, 48_000 + 33_600);
    }

    #[test]
    fn a_mismatch_tells_how_alike_two_stretches_are() {
        // No mismatch at all; as loud as themselves: correlation a half; twice the power: none.
        let of = [-60.0, 0.0, 3.0103, 6.0].map(likeness_percent);
        assert_eq!(of, [100, 50, 0, 0]);
    }

    #[test]
    fn colour_that_drifts_is_told_from_level_that_does() {
        let tone = |bright: f64, level: f64, n: u32| {
            let t = f64::from(n) / 48_000.0;
            let partial = |k: f64| (TAU * 200.0 * k * t).sin();
            ((partial(1.0) + bright * partial(7.0)) * level) as f32
        };
        let joined = |bright: f64, level: f64| -> Vec<f32> {
            (0..48_000)
                .map(|n| {
                    if n < 24_000 {
                        tone(0.5, 0.3, n)
                    } else {
                        tone(bright, level, n)
                    }
                })
                .collect()
        };
        let of = |bright, level| timbre_db(&joined(bright, level), 48_000, 20_000, 44_000);
        assert!(of(0.5, 0.3) < 0.2, "{}", of(0.5, 0.3));
        assert!(of(0.5, 0.1) < 0.2, "{}", of(0.5, 0.1));
        assert!(of(0.1, 0.3) > 2.0, "{}", of(0.1, 0.3));
    }

    #[test]
    fn loops_keep_to_the_lengths_that_are_wished() {
        let audio = steady(220.0, 3, |_| 1.0);
        for (shortest_s, longest_s) in [(0.05, 0.4), (0.5, 1.0), (1.5, 2.5)] {
            let lengths = LoopLengths {
                shortest_s,
                longest_s,
            };
            let found = find_loops(&audio, 0, audio.frames(), Some(48_000.0 / 220.0), lengths);
            assert!(!found.is_empty());
            for l in found {
                let seconds = (l.end_frame - l.start_frame) as f64 / 48_000.0;
                assert!(
                    (shortest_s * 0.99..=longest_s * 1.01).contains(&seconds),
                    "{seconds}"
                );
            }
        }
    }

    #[test]
    fn places_snap_to_zeros_and_to_what_is_alike() {
        // A period of 100 frames, rising through zero at its multiples.
        let tone: Vec<f32> = (0..48_000)
            .map(|n| (n as f32 * TAU as f32 / 100.0).sin() + 0.3 * (n as f32 * TAU as f32 / 50.0).cos() - 0.3)
            .collect();
        let audio = Audio::mono(48_000, tone);
        let zero = nearest_rising_zero(&audio, 10_030, 60);
        assert!(zero.abs_diff(10_000) < 20, "{zero}");
        assert_eq!(
            nearest_rising_zero(&Audio::mono(48_000, vec![0.5; 100]), 30, 20),
            30
        );
        assert_eq!(most_alike_near(&audio, 10_007, 20_031, 50, 100.0), 20_007);
        assert_eq!(most_alike_near(&audio, 3, 20_031, 50, 100.0), 20_031);
    }

    #[test]
    fn a_struck_sound_has_no_loop() {
        let audio = steady(440.0, 2, |t| (-t * 6.0).exp());
        assert_eq!(
            find_steady_loops(
                &audio,
                0,
                audio.frames(),
                48_000.0 / 440.0,
                LoopLengths::default()
            ),
            []
        );
    }
}
