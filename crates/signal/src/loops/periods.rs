//! Places to loop by whole periods of a known pitch.

use super::*;

const STARTS: usize = 12;
/// Lengths of each start that are fitted more finely.
const FITTED: usize = 8;
/// Lengths that differ by less than this share are one kind, of which so many are enough.
const ONE_KIND: f64 = 0.004;
const OF_ONE_KIND: usize = 2;
/// Starts from which lengths are looked for; a multiple of them is tried.
const SCOUTS: usize = 3;
/// Loops whose ends are looked for by finer steps, and of those so many to the frame.
const FINELY: usize = 200;
const ROUGH: usize = 60;
/// The true length may lie so far from whole periods of the measured pitch, as a share.
const MOST_STRAY: f64 = 0.001_2;
/// Ends are tried so many to a period: a twentieth of one off, two sines differ by 10 dB less than themselves.
const COARSE_STEPS: f64 = 20.0;
const FINE_STEPS: f64 = 60.0;
/// While looking for lengths, the mean of no more frames than this stands for them.
const MOST_THINNED: usize = 8;
/// Fewer periods than this sound dead.
const FEWEST_PERIODS: f64 = 6.0;
/// The length may put the looped tone out of tune by this much.
const MOST_CENTS: f64 = 1.0;
/// With a seam like this, it is the measured pitch that is out, by this much at most.
const SURE_SEAM_DB: f64 = -25.0;
const SURE_CENTS: f64 = 2.0;
/// The search itself, in the settled stretch `first..last` of a sound that begins at `start`.
pub(super) fn search(
    audio: &Audio,
    (start, first, last): (usize, usize, usize),
    period_frames: f64,
    lengths: LoopLengths,
) -> Vec<LoopCandidate> {
    let energy = Energy::of(audio);
    let rate = f64::from(audio.rate_hz);
    let reach = seam_reach(audio.rate_hz, period_frames);
    let (first, last) = (first + reach, last.saturating_sub(reach));
    let shortest = (rate * lengths.shortest_s).max(FEWEST_PERIODS * period_frames);
    if period_frames < 2.0 || (last as f64) < first as f64 + shortest {
        return Vec::new();
    }
    let thinned = ((period_frames / COARSE_STEPS) as usize).clamp(1, MOST_THINNED);
    let mean = |frames: &[f32]| frames.iter().sum::<f32>() / frames.len() as f32;
    let thin: Vec<Vec<f32>> = audio
        .channels
        .iter()
        .map(|channel| channel.chunks_exact(thinned).map(mean).collect())
        .collect();
    let fourths = Fourths::of(&audio.channels);
    let search = Search {
        likeness: Likeness::new(&thin, (2 * reach / thinned).max(2)),
        thinned,
        fourths: &fourths,
        reach,
        last,
        period: period_frames,
        rate,
    };
    let starts: Vec<usize> = (0..STARTS)
        .map(|step| first + (last - first) * step / (2 * STARTS))
        .map(|at| rising_zero(&audio.channels, at, period_frames as usize))
        .collect();
    // After how many periods a sound is itself again is a property of the sound: what is found from a few starts is tried from all.
    let mut periods: Vec<f64> = starts
        .iter()
        .step_by(STARTS / SCOUTS)
        .flat_map(|&start| search.good_lengths(start, shortest, rate * lengths.longest_s))
        .collect();
    periods.sort_by(f64::total_cmp);
    periods.dedup();
    let mut rough: Vec<(f64, usize, usize, u32)> = starts
        .iter()
        .flat_map(|&start| periods.iter().map(move |&periods| (start, periods)))
        .filter_map(|(start, periods)| {
            let (worth, end) = search.fit(start, periods)?;
            Some((worth, start, end, periods as u32))
        })
        .collect();
    rough.sort_by(|a, b| a.0.total_cmp(&b.0));
    rough.truncate(FINELY);
    for (worth, start, end, periods) in &mut rough {
        (*worth, *end) = search.finely(*start, *end, f64::from(*periods));
    }
    rough.sort_by(|a, b| a.0.total_cmp(&b.0));
    rough.truncate(ROUGH);
    let mut found: Vec<LoopCandidate> = Vec::new();
    for (_, loop_start, near, periods) in rough {
        let loop_end = search.to_the_frame(&audio.channels, loop_start, near);
        let Some(seam) = seam_db(audio, loop_start, loop_end, period_frames) else {
            continue;
        };
        let drift = drift(&energy, loop_start, loop_end);
        let cents = 1200.0 * ((loop_end - loop_start) as f64 / (f64::from(periods) * period_frames)).log2();
        // Of a beating tone the measured pitch is the less sure one: a long loop that fits so well tells the period better.
        let most_cents = if seam <= SURE_SEAM_DB {
            SURE_CENTS
        } else {
            MOST_CENTS
        };
        if seam > WORST_SEAM_DB || drift > WORST_DRIFT_DB || cents.abs() > most_cents {
            continue;
        }
        let close = |a: usize, b: usize| a.abs_diff(b) < (rate * 0.05) as usize;
        if found
            .iter()
            .any(|other| close(other.start_frame, loop_start) && close(other.end_frame, loop_end))
        {
            continue;
        }
        let crossfade_frames = ((loop_end - loop_start) / 4)
            .min((rate * crossfade_s(seam)) as usize)
            .min(loop_start.saturating_sub(start));
        found.push(LoopCandidate {
            start_frame: loop_start,
            end_frame: loop_end,
            crossfade_frames,
            seam_db: seam,
            drift_db: drift,
            periods,
            likeness_percent: likeness_percent(seam),
            timbre_db: 0.0,
            audible_db: None,
            audible_ends_db: None,
            pumps_db: None,
            held_cents: None,
        });
    }
    found.sort_by(|a, b| by_seam(a, rate).total_cmp(&by_seam(b, rate)));
    found.truncate(3 * BEST);
    // Memory stays small: what was searched in is given back before this copy of the sound is made.
    drop(fourths);
    let mono = audio.to_mono();
    for candidate in &mut found {
        candidate.timbre_db = timbre_db(&mono, audio.rate_hz, candidate.start_frame, candidate.end_frame);
    }
    by_rank(&mut found, rate);
    best_of(diverse(found), rate)
}

/// Ends that are alike need a hair of crossfade, unlike ones a long one; in between in a straight line over the seam level.
const CROSSFADE_S: (f64, f64) = (0.01, 0.2);
const CROSSFADE_AT_DB: (f64, f64) = (-45.0, -10.0);

fn crossfade_s(seam_db: f64) -> f64 {
    let (alike, unlike) = CROSSFADE_AT_DB;
    let share = ((seam_db - alike) / (unlike - alike)).clamp(0.0, 1.0);
    CROSSFADE_S.0 + (CROSSFADE_S.1 - CROSSFADE_S.0) * share
}

/// What the search for lengths looks at.
struct Search<'a> {
    likeness: Likeness<'a>,
    /// Frames for which one of the samples compared there stands.
    thinned: usize,
    fourths: &'a Fourths,
    reach: usize,
    last: usize,
    period: f64,
    rate: f64,
}

impl Search<'_> {
    /// A loop of so many periods may be longer or shorter by this, in frames: the measured pitch is not quite the one of the loop.
    fn spread(&self, periods: f64) -> f64 {
        (periods * self.period * MOST_STRAY)
            .min(self.period / 2.0)
            .max(1.0)
    }

    /// The best end for a loop of so many periods from `start`, by coarse steps, with what it is worth, less being better.
    fn fit(&self, start: usize, periods: f64) -> Option<(f64, usize)> {
        let (exact, spread) = (periods * self.period, self.spread(periods));
        let tries = (spread * COARSE_STEPS / self.period).ceil().clamp(1.0, 10.0) as i32;
        let ends = (-tries..=tries)
            .map(|k| (start as f64 + exact + spread * f64::from(k) / f64::from(tries)).round() as usize);
        self.best_end(start, ends)
            .map(|(worth, end)| (worth * worth_of_length(exact / self.rate), end))
    }

    /// Of some ends the one with the least mismatch, by fourths of the frames.
    fn best_end(&self, start: usize, ends: impl Iterator<Item = usize>) -> Option<(f64, usize)> {
        ends.filter(|&end| end + self.reach <= self.fourths.frames && end <= self.last)
            .map(|end| (self.fourths.mismatch(start, end, self.reach), end))
            .min_by(|a, b| a.0.total_cmp(&b.0))
    }

    /// The end near one that was found by coarse steps with the least mismatch, and what it is worth.
    fn finely(&self, start: usize, near: usize, periods: f64) -> (f64, usize) {
        let step = ((self.period / FINE_STEPS) as usize).max(1);
        let best = self.best_end(start, around(near, self.period / COARSE_STEPS, step));
        let (worth, end) = best.unwrap_or((f64::MAX, near));
        (worth * worth_of_length(periods * self.period / self.rate), end)
    }

    /// The same to the frame.
    fn to_the_frame(&self, sides: &[Vec<f32>], start: usize, near: usize) -> usize {
        let by_fourths = self.best_end(start, around(near, self.period / FINE_STEPS, 1));
        let end = by_fourths.map_or(near, |(_, end)| end);
        around(end, 2.0, 1)
            .filter(|at| at + self.reach <= self.fourths.frames)
            .map(|at| (mismatch(sides, start, at, self.reach), at))
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .map_or(end, |(_, at)| at)
    }

    /// The best numbers of periods from one start, of every one between two lengths.
    fn good_lengths(&self, start: usize, shortest: f64, longest: f64) -> Vec<f64> {
        let longest = ((self.last - start.min(self.last)) as f64).min(longest);
        let (fewest, most) = ((shortest / self.period).ceil(), (longest / self.period).floor());
        if most < fewest {
            return Vec::new();
        }
        let thin = |frames: f64| (frames / self.thinned as f64).round() as usize;
        let from = (start - self.reach) / self.thinned;
        let first = from + thin(fewest * self.period - self.spread(fewest));
        let end = from + thin(most * self.period + self.spread(most)) + 1;
        let mismatches = self.likeness.mismatches(from, first..end);
        let worth = |periods: f64| {
            let (exact, spread) = (periods * self.period, self.spread(periods));
            let at = |frames: f64| (from + thin(frames) - first).min(mismatches.len());
            let around = &mismatches[at(exact - spread)..(at(exact + spread) + 1).min(mismatches.len())];
            let best = around.iter().copied().min_by(f32::total_cmp)?;
            Some(f64::from(best) * worth_of_length(exact / self.rate))
        };
        let mut all: Vec<(f64, f64)> = (0..=(most - fewest) as usize)
            .map(|n| fewest + n as f64)
            .filter_map(|periods| Some((worth(periods)?, periods)))
            .collect();
        all.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mut good: Vec<f64> = Vec::new();
        for (_, periods) in all {
            let same = |other: &&f64| (**other / periods - 1.0).abs() < ONE_KIND;
            if good.iter().filter(same).count() < OF_ONE_KIND {
                good.push(periods);
            }
            if good.len() == FITTED {
                break;
            }
        }
        good
    }
}

/// Frames around one, two to either side at least.
fn around(end: usize, spread: f64, step: usize) -> impl Iterator<Item = usize> {
    let spread = spread.max(2.0) as usize;
    (end.saturating_sub(spread)..=end + spread).step_by(step)
}

fn worth_of_length(seconds: f64) -> f64 {
    // As a factor on a power ratio: 10·log₁₀ of this is −DB_PER_DOUBLING per doubling.
    10f64.powf(-DB_PER_DOUBLING / 10.0 * seconds.log2())
}

/// The first rising zero of the mean of all sides from a frame on, no further than `within`; that frame itself where there is none.
fn rising_zero(sides: &[Vec<f32>], at: usize, within: usize) -> usize {
    let sum = |n: usize| sides.iter().map(|side| side[n]).sum::<f32>();
    let last = sides.first().map_or(0, |side| side.len().saturating_sub(1));
    (at..(at + within).min(last))
        .find(|&n| sum(n) < 0.0 && sum(n + 1) >= 0.0)
        .map_or(at, |n| n + 1)
}

/// Power of the difference over power, of all sides together.
pub(super) fn mismatch(sides: &[Vec<f32>], start: usize, end: usize, reach: usize) -> f64 {
    let mut apart = Apart::default();
    for side in sides {
        apart.add(
            &side[start - reach..start + reach],
            &side[end - reach..end + reach],
        );
    }
    apart.over_power()
}

/// Every fourth frame, from each of the first four on: a quarter of the work where that is enough.
struct Fourths {
    sides: Vec<[Vec<f32>; 4]>,
    frames: usize,
}

impl Fourths {
    fn of(sides: &[Vec<f32>]) -> Self {
        let of = |side: &Vec<f32>| {
            std::array::from_fn(|first| side.iter().skip(first).step_by(4).copied().collect())
        };
        Self {
            sides: sides.iter().map(of).collect(),
            frames: sides.first().map_or(0, Vec::len),
        }
    }

    /// See [`mismatch`].
    fn mismatch(&self, start: usize, end: usize, reach: usize) -> f64 {
        let frames = reach.div_ceil(2);
        let (a, b) = (start - reach, end - reach);
        let mut apart = Apart::default();
        for side in &self.sides {
            let (here, there) = (&side[a % 4][a / 4..], &side[b % 4][b / 4..]);
            let frames = frames.min(here.len()).min(there.len());
            apart.add(&here[..frames], &there[..frames]);
        }
        apart.over_power()
    }
}

/// Sums of squares, eight of each side by side.
#[derive(Default)]
struct Apart {
    difference: [f32; 8],
    power: [f32; 8],
}

impl Apart {
    fn add(&mut self, a: &[f32], b: &[f32]) {
        let (a, b) = (a.chunks(8), b.chunks(8));
        for (a, b) in a.zip(b) {
            for (n, (x, y)) in a.iter().zip(b).enumerate() {
                self.difference[n] += (x - y) * (x - y);
                self.power[n] += x * x + y * y;
            }
        }
    }

    fn over_power(&self) -> f64 {
        let sum = |of: &[f32; 8]| f64::from(of.iter().sum::<f32>());
        2.0 * sum(&self.difference) / sum(&self.power).max(1e-12)
    }
}
