//! Places to loop by colour: two moments of a sound whose bands are alike, brought together to the frame. It needs no pitch.

use super::LoopLengths;
use super::rough::Rough;
use super::thin::Thin;
use crate::bands::Levels;

/// More moments than this are thinned out.
const MOST_MOMENTS: usize = 400;
/// The attack is passed over: so much of the sound, and no less than so long.
const ATTACK_SHARE: f64 = 0.08;
const ATTACK_S: f64 = 0.05;
/// Room after the last place.
const ROOM_S: f64 = 0.012;
/// What a pair costs: unlikeness, how much the sound moves there, how far its level moves inside, and each halving under the length that is wished.
const UNLIKE: f32 = 0.5;
const PUMPS: f32 = 0.1;
const SHORT_DB: f32 = 1.0;
/// Moments before and after a seam in which it has to hide behind how the sound moves.
const MOVES_BEFORE: usize = 5;
const MOVES_AFTER: usize = 3;
/// Pairs nearer than this at both ends are one.
const ONE_PLACE_S: f64 = 0.02;
/// Pairs that are looked at one by one before they are thinned out.
const SHORTLIST: usize = 2_000;

/// How much the sound changes by itself around each moment, at most.
fn moves(sound: &Thin) -> Vec<f32> {
    let changes: Vec<f32> = sound
        .moments
        .windows(2)
        .map(|pair| sound.ear.apart(&pair[0], &pair[1]) as f32)
        .collect();
    (0..sound.moments.len())
        .map(|n| {
            let around = n.saturating_sub(MOVES_BEFORE)..(n + MOVES_AFTER).min(changes.len());
            changes[around].iter().copied().fold(0.0, f32::max)
        })
        .collect()
}

/// Levels meaned over three moments.
fn smooth(sound: &Thin) -> Vec<Levels> {
    let moments = &sound.moments;
    let last = moments.len().saturating_sub(1);
    (0..moments.len())
        .map(|n| {
            let around = [
                &moments[n.saturating_sub(1)],
                &moments[n],
                &moments[(n + 1).min(last)],
            ];
            std::array::from_fn(|band| around.iter().map(|of| of[band]).sum::<f32>() / 3.0)
        })
        .collect()
}

/// Pairs of places whose colours are alike, best first, no two of them the same.
fn pairs(sound: &Thin, lengths: LoopLengths, most: usize) -> Vec<(usize, usize)> {
    let smooth = smooth(sound);
    let bands = sound.ear.bands();
    let (rate, frames) = (sound.rate, (sound.end - sound.start) as f64);
    let first = sound.start + (ATTACK_S * rate).max(ATTACK_SHARE * frames) as usize;
    let last = sound.end.saturating_sub((ROOM_S * rate) as usize);
    let inside: Vec<usize> = (0..smooth.len())
        .filter(|&n| (first..=last).contains(&sound.middle(n)))
        .collect();
    let stride = inside.len().div_ceil(MOST_MOMENTS).max(1);
    let inside: Vec<usize> = inside.into_iter().step_by(stride).collect();
    let moves = moves(sound);
    let extremes = Extremes::of(&sound.loudness);
    let moment_s = sound.hop as f64 / rate;
    let mut all: Vec<(f32, u32, u32)> = Vec::new();
    for (n, &a) in inside.iter().enumerate() {
        for &b in &inside[n + 1..] {
            let seconds = (b - a) as f64 * moment_s;
            if !(lengths.shortest_s..=lengths.longest_s).contains(&seconds) {
                continue;
            }
            let sum: f32 = smooth[a]
                .iter()
                .zip(&smooth[b])
                .map(|(x, y)| (x - y) * (x - y))
                .sum();
            let unlike = (sum / bands).sqrt();
            let (low, high) = extremes.over(a, b);
            let short = SHORT_DB * (sound.lively.seconds as f32 / seconds as f32).log2().max(0.0);
            let cost = UNLIKE * unlike + moves[a].max(moves[b]) + short + PUMPS * (high - low);
            all.push((cost, a as u32, b as u32));
        }
    }
    if all.len() > SHORTLIST {
        all.select_nth_unstable_by(SHORTLIST, |a, b| a.0.total_cmp(&b.0));
        all.truncate(SHORTLIST);
    }
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    let near = (ONE_PLACE_S * rate) as usize;
    let mut found: Vec<(usize, usize)> = Vec::new();
    for (_, a, b) in all {
        let (start, end) = (sound.middle(a as usize), sound.middle(b as usize));
        let one = |other: &(usize, usize)| start.abs_diff(other.0) < near && end.abs_diff(other.1) < near;
        if !found.iter().any(one) {
            found.push((start, end));
        }
        if found.len() == most {
            break;
        }
    }
    found
}

/// Places of like colour, best first, no more than `most`.
pub(super) fn alike(sound: &Thin, lengths: LoopLengths, most: usize) -> Vec<Rough> {
    let align = Align::free(sound.rate, sound.period);
    pairs(sound, lengths, most)
        .into_iter()
        .filter_map(|(from, to)| align.bring_together(&sound.sides, from, to, (sound.start, sound.end)))
        .collect()
}

/// Where short places begin, as shares of the sound, and how long they are beside what is wished.
const LATE: [f64; 8] = [0.4, 0.55, 0.68, 0.78, 0.85, 0.9, 0.94, 0.97];
const TIMES: [f64; 3] = [0.3, 0.7, 1.3];

/// Short places of whole periods late in a sound, about as long as is wished, each at its best.
pub(super) fn late(sound: &Thin) -> Vec<Rough> {
    let Some(period) = sound.period else {
        return Vec::new();
    };
    let align = Align::around(sound.rate, period);
    let places = LATE
        .iter()
        .flat_map(|share| TIMES.iter().map(move |times| (share, times)));
    places
        .filter_map(|(share, times)| {
            let from = sound.start + ((sound.end - sound.start) as f64 * share) as usize;
            let periods = (times * sound.lively.seconds * sound.rate / period)
                .round()
                .max(1.0);
            let to = from + (periods * period).round() as usize;
            align.bring_together(&sound.sides, from, to, (sound.start, sound.end))
        })
        .collect()
}

/// Moves the end of a place to where the sound is most like that around its start.
pub(super) struct Align {
    /// Frames to either side that are compared.
    half: usize,
    /// How far the end may move.
    reach: usize,
}

impl Align {
    /// By a period and more.
    fn free(rate: f64, period: Option<f64>) -> Self {
        let half = period.map_or(0.01 * rate, |period| 2.0 * period);
        let reach = 0.6 * period.unwrap_or(0.01 * rate);
        Self {
            half: half.clamp(0.005 * rate, 0.02 * rate) as usize,
            reach: reach.max(0.006 * rate) as usize,
        }
    }

    /// Within a period.
    fn around(rate: f64, period: f64) -> Self {
        Self {
            half: (2.0 * period).clamp(0.003 * rate, 0.02 * rate) as usize,
            reach: (0.3 * period).max(2.0) as usize,
        }
    }

    /// Within so many frames.
    pub(super) fn within(rate: f64, period: Option<f64>, reach: usize) -> Self {
        Self {
            reach,
            ..Self::free(rate, period)
        }
    }

    /// `None` where the sound, `first..last`, does not reach around both.
    pub(super) fn bring_together(
        &self,
        sides: &[Vec<f32>],
        start: usize,
        end: usize,
        (first, last): (usize, usize),
    ) -> Option<Rough> {
        let half = self.half;
        let low = end.saturating_sub(self.reach).max(start + 2);
        let high = (end + self.reach).min(last.checked_sub(half)?);
        if start < first + half || low > high {
            return None;
        }
        let width = 2 * half;
        let count = high - low + 1;
        let (mut products, mut powers, mut own) = (vec![0.0f32; count], vec![0.0f32; count], 0.0f32);
        for side in sides {
            let here = &side[start - half..start + half];
            let there = &side[low - half..high + half];
            own += dot(here, here);
            let mut power = dot(&there[..width], &there[..width]);
            for at in 0..count {
                products[at] += dot(here, &there[at..at + width]);
                powers[at] += power.max(0.0);
                if at + 1 < count {
                    power += there[at + width] * there[at + width] - there[at] * there[at];
                }
            }
        }
        let likeness = |at: usize| products[at] / (powers[at] * own + 1e-20).sqrt();
        let best = (0..count).max_by(|&a, &b| likeness(a).total_cmp(&likeness(b)))?;
        Some(Rough {
            start,
            end: low + best,
            likeness: likeness(best).clamp(0.0, 1.0),
        })
    }
}

/// In eight sums, so that they are made side by side.
fn dot(a: &[f32], b: &[f32]) -> f32 {
    let mut sums = [0.0f32; 8];
    let (a, b) = (a.chunks_exact(8), b.chunks_exact(8));
    let rest: f32 = a.remainder().iter().zip(b.remainder()).map(|(x, y)| x * y).sum();
    for (x, y) in a.zip(b) {
        for n in 0..8 {
            sums[n] += x[n] * y[n];
        }
    }
    sums.iter().sum::<f32>() + rest
}

/// Lowest and highest of any stretch of values, by two look-ups (a sparse table).
struct Extremes {
    rows: Vec<Vec<(f32, f32)>>,
}

impl Extremes {
    fn of(values: &[f32]) -> Self {
        let mut rows = vec![values.iter().map(|x| (*x, *x)).collect::<Vec<_>>()];
        let mut width = 1;
        while 2 * width <= values.len() {
            let last = &rows[rows.len() - 1];
            let row = (0..last.len() - width)
                .map(|n| (last[n].0.min(last[n + width].0), last[n].1.max(last[n + width].1)))
                .collect();
            rows.push(row);
            width *= 2;
        }
        Self { rows }
    }

    /// Of `first..=last`.
    fn over(&self, first: usize, last: usize) -> (f32, f32) {
        let level = (last - first + 1).ilog2() as usize;
        let row = &self.rows[level];
        let (a, b) = (row[first], row[last + 1 - (1 << level)]);
        (a.0.min(b.0), a.1.max(b.1))
    }
}
