//! Where a sustained sound can be looped.

use crate::energy::Energy;
use crate::{Audio, frames_of_ms};
use serde::{Deserialize, Serialize};

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
}

/// RMS of the difference of the audio around loop end and around loop start, over ± the longer of 5 ms and one
/// period, relative to the RMS there, all channels together. −∞ for a perfect seam; `None` where the audio does not reach.
pub fn seam_db(audio: &Audio, start: usize, end: usize, period_frames: f64) -> Option<f64> {
    let reach = frames_of_ms(audio.rate_hz, 5.0).max(period_frames.ceil() as usize);
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
    (power > 0.0).then(|| 10.0 * (difference / power).log10())
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

const STARTS: usize = 14;
const LENGTHS: usize = 90;
const SHORTEST_S: f64 = 0.1;
const LONGEST_S: f64 = 6.0;
/// What is worse than this is no loop.
const WORST_SEAM_DB: f64 = -10.0;
const WORST_DRIFT_DB: f64 = 2.0;
/// A doubling of the length is worth this much of the seam: longer is livelier.
const DB_PER_DOUBLING: f64 = 2.5;
/// The length may put the looped tone out of tune by this much.
const MOST_CENTS: f64 = 1.0;
const BEST: usize = 6;

/// Places to loop inside `start..end`, best first, for a tone of the given period; empty where nothing is worth
/// looping. Starts are spread over the first half of the settled stretch; lengths are whole periods; each
/// pair is fitted coarsely on every fourth frame, the best to the frame.
pub fn find_loops(audio: &Audio, start: usize, end: usize, period_frames: f64) -> Vec<LoopCandidate> {
    let energy = Energy::of(audio);
    let rate = f64::from(audio.rate_hz);
    let reach = frames_of_ms(audio.rate_hz, 5.0).max(period_frames.ceil() as usize);
    let Some((first, last)) = settled(&energy, audio.rate_hz, start, end.min(audio.frames())) else {
        return Vec::new();
    };
    let (first, last) = (first + reach, last.saturating_sub(reach));
    let shortest = (rate * SHORTEST_S).max(6.0 * period_frames);
    if period_frames < 2.0 || (last as f64) < first as f64 + shortest {
        return Vec::new();
    }
    let mono = audio.to_mono();
    let mut rough: Vec<(f64, usize, usize, u32)> = Vec::new();
    for step in 0..STARTS {
        let at = first + (last - first) * step / (2 * STARTS);
        let loop_start = rising_zero(&mono, at, period_frames as usize);
        let longest = ((last - loop_start.min(last)) as f64).min(rate * LONGEST_S);
        if longest < shortest {
            continue;
        }
        let (fewest, most) = (
            (shortest / period_frames).ceil(),
            (longest / period_frames).floor(),
        );
        let mut tried = 0;
        for n in 0..LENGTHS {
            let periods = (fewest * (most / fewest).powf(n as f64 / (LENGTHS - 1) as f64)).round() as u32;
            if periods == tried {
                continue;
            }
            tried = periods;
            let exact = f64::from(periods) * period_frames;
            let spread = (exact * 0.0003).clamp(1.0, period_frames / 2.0);
            let best = (-6..=6)
                .map(|k| (loop_start as f64 + exact + spread * f64::from(k) / 6.0).round() as usize)
                .filter(|&loop_end| loop_end + reach <= mono.len() && loop_end <= last)
                .map(|loop_end| (mismatch(&mono, loop_start, loop_end, reach, 4), loop_end))
                .min_by(|a, b| a.0.total_cmp(&b.0));
            if let Some((worth, loop_end)) = best {
                rough.push((
                    worth * worth_of_length(exact / rate),
                    loop_start,
                    loop_end,
                    periods,
                ));
            }
        }
    }
    rough.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut found: Vec<LoopCandidate> = Vec::new();
    for &(_, loop_start, loop_end, periods) in rough.iter().take(80) {
        let (loop_start, loop_end) = to_the_frame(&mono, loop_start, loop_end, reach, period_frames);
        let Some(seam) = seam_db(audio, loop_start, loop_end, period_frames) else {
            continue;
        };
        let drift = drift(&energy, loop_start, loop_end);
        let cents = 1200.0 * ((loop_end - loop_start) as f64 / (f64::from(periods) * period_frames)).log2();
        if seam > WORST_SEAM_DB || drift > WORST_DRIFT_DB || cents.abs() > MOST_CENTS {
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
            .min((rate * 0.08) as usize)
            .min(loop_start.saturating_sub(start));
        found.push(LoopCandidate {
            start_frame: loop_start,
            end_frame: loop_end,
            crossfade_frames,
            seam_db: seam,
            drift_db: drift,
            periods,
        });
    }
    let rank = |c: &LoopCandidate| {
        let seconds = (c.end_frame - c.start_frame) as f64 / rate;
        c.seam_db.max(-60.0) - DB_PER_DOUBLING * seconds.log2() + 14.0 * (c.drift_db - 0.6).max(0.0)
    };
    found.sort_by(|a, b| rank(a).total_cmp(&rank(b)));
    found.truncate(BEST);
    found
}

fn worth_of_length(seconds: f64) -> f64 {
    // As a factor on a power ratio: 10·log₁₀ of this is −DB_PER_DOUBLING per doubling.
    10f64.powf(-DB_PER_DOUBLING / 10.0 * seconds.log2())
}

/// The stretch in which the sound has settled: the longest run within 12 dB of its loudest, without its first part.
fn settled(energy: &Energy, rate_hz: u32, start: usize, end: usize) -> Option<(usize, usize)> {
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

fn rising_zero(mono: &[f32], at: usize, within: usize) -> usize {
    (at..(at + within).min(mono.len().saturating_sub(1)))
        .find(|&n| mono[n] < 0.0 && mono[n + 1] >= 0.0)
        .map_or(at, |n| n + 1)
}

/// Power of the difference over power, on every `stride`th frame.
fn mismatch(mono: &[f32], start: usize, end: usize, reach: usize, stride: usize) -> f64 {
    let (a, b) = (
        &mono[start - reach..start + reach],
        &mono[end - reach..end + reach],
    );
    let (mut difference, mut power) = (0.0f32, 1e-12f32);
    for (x, y) in a.iter().step_by(stride).zip(b.iter().step_by(stride)) {
        difference += (x - y) * (x - y);
        power += x * x + y * y;
    }
    f64::from(2.0 * difference / power)
}

fn to_the_frame(mono: &[f32], start: usize, end: usize, reach: usize, period: f64) -> (usize, usize) {
    let spread = ((end - start) as f64 * 0.0001).clamp(2.0, period / 2.0) as usize;
    let best = (end - spread..=end + spread)
        .filter(|&at| at + reach <= mono.len())
        .min_by(|&a, &b| mismatch(mono, start, a, reach, 1).total_cmp(&mismatch(mono, start, b, reach, 1)));
    (start, best.unwrap_or(end))
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
                let best = find_loops(&audio, 0, audio.frames(), 48_000.0 / hz)[0];
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

    #[test]
    fn a_beating_tone_loops_over_whole_beats() {
        let audio = steady(220.0, 9, |t| 1.0 + 0.4 * (TAU * 1.7 * t).cos());
        let best = find_loops(&audio, 0, audio.frames(), 48_000.0 / 220.0)[0];
        assert!(best.seam_db <= -20.0 && best.drift_db <= 1.0, "{best:?}");
    }

    #[test]
    fn a_struck_sound_has_no_loop() {
        let audio = steady(440.0, 2, |t| (-t * 6.0).exp());
        assert_eq!(find_loops(&audio, 0, audio.frames(), 48_000.0 / 440.0), []);
    }
}
