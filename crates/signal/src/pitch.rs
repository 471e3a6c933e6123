//! The pitch of a sound: the fundamental, not the loudest partial.

use crate::fft::fast_len;
use crate::spectrum::{Partial, partials, partials_under};
use serde::{Deserialize, Serialize};

/// One pitch for a whole sound.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pitch {
    /// Frequency of the fundamental; of the first partial where partials are stretched.
    pub hz: f64,
    /// Nearest MIDI key in equal temperament on A = 440 Hz (ISO 16:1975).
    pub key: u8,
    /// How far the sound lies above that key, −50 to 50.
    pub cents: f64,
    /// 0 (none) to 1 (sure): how much of the spectrum one fundamental explains.
    pub confidence: f64,
}

/// The pitch at one moment.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PitchPoint {
    /// Middle of the stretch heard.
    pub frame: usize,
    /// Frequency at that moment.
    pub hz: f64,
}

const LOWEST_HZ: f64 = 20.0;
const HIGHEST_HZ: f64 = 5_000.0;
/// At most this long a stretch is looked at: 65,536 frames at 48 kHz.
const LONGEST_S: f64 = 1.366;
/// The attack is passed over.
const ATTACK_S: f64 = 0.06;
/// Stretch of partials tried: f_k = k·f·√(1 + B·k²) (H. Fletcher, J. Acoust. Soc. Am. 36, 1964).
const STRETCHES: [f64; 4] = [0.0, 1e-4, 3.5e-4, 1.2e-3];
/// So many of the candidates are tried stretched.
const STRETCHED: usize = 16;
/// How far a partial may lie from its place, in cents.
const TOLERANCE_CENTS: f64 = 30.0;
const MOST_HARMONICS: usize = 40;
/// Under this the first moments of the sound are asked too: so long after its start, for so long, for at least so many periods.
const DOUBT: f64 = 0.62;
const SHORT_ATTACK_S: f64 = 0.012;
const SHORT_S: f64 = 0.12;
const SHORT_PERIODS: f64 = 24.0;
/// They have to be better by this to be believed; by much where they hold few periods.
const CLEARLY: f64 = 0.05;
const FEWEST_PERIODS: f64 = 12.0;
const FAR: f64 = 0.3;
/// Under this nothing is called a pitch.
const LEAST_CONFIDENCE: f64 = 0.3;

/// Frequency of a MIDI key in equal temperament, A = 440 Hz.
pub fn hz_of_key(key: f64) -> f64 {
    440.0 * 2f64.powf((key - 69.0) / 12.0)
}

/// Nearest MIDI key and how far above it, in cents; `None` outside keys 0 to 127.
pub fn key_and_cents(hz: f64) -> Option<(u8, f64)> {
    if hz <= 0.0 || hz.is_nan() {
        return None;
    }
    let exact = 69.0 + 12.0 * (hz / 440.0).log2();
    let key = exact.round();
    (0.0..=127.0)
        .contains(&key)
        .then_some((key as u8, (exact - key) * 100.0))
}

/// Finds the pitch of the sound in `samples[start..end]`; `None` where no one fundamental explains it.
pub fn find_pitch(samples: &[f32], rate_hz: u32, start: usize, end: usize) -> Option<Pitch> {
    find_pitches(samples, rate_hz, start, end).into_iter().next()
}

/// Fundamentals that would explain the sound in `samples[start..end]`, best first; empty where none does.
///
/// Every pair of a strong partial and a small number gives a candidate. A candidate is worth what part of the
/// spectrum its partials explain (by the square root of amplitude, so that weak partials count), times
/// the root of how many of its partials are really there: the first forbids the octave above, the second the octave below.
/// Those after the first are other notes that are worth nearly as much: where the plan says one of them, the plan is believed.
pub fn find_pitches(samples: &[f32], rate_hz: u32, start: usize, end: usize) -> Vec<Pitch> {
    let rate = f64::from(rate_hz);
    let (start, end) = (start.min(samples.len()), end.min(samples.len()));
    let skip = ((rate * ATTACK_S) as usize).min((end.saturating_sub(start)) / 4);
    let first = start + skip;
    let len = fast_len((end.saturating_sub(first)).min((rate * LONGEST_S) as usize));
    if len < 512 {
        return Vec::new();
    }
    let heard = &samples[first..first + len];
    let spectrum = partials(heard, rate_hz);
    let mut found = judged_of(&spectrum, LOWEST_HZ, HEARD);
    let worth_of = |of: &[(f64, f64)]| of.first().map_or(0.0, |(_, worth)| *worth);
    let of_whole = worth_of(&found);
    let mut moves = found.first().is_some_and(|(hz, _)| lines_beside(&spectrum, *hz));
    if of_whole < DOUBT {
        // A short, high sound is over long before the stretch is, and a wide vibrato smears its partials: where the whole of it leaves doubt,
        // its first moments are asked.
        let from = start + ((rate * SHORT_ATTACK_S) as usize).min((end - start) / 8);
        let len = (end - from).min((rate * SHORT_S) as usize) & !63;
        let moment = |periods: f64, least: f64| {
            let of = judged(
                &samples[from..from + len],
                rate_hz,
                periods * rate / len.max(1) as f64,
                HEARD_SHORT,
            );
            (worth_of(&of) > of_whole + least).then_some(of)
        };
        let better = [moment(SHORT_PERIODS, CLEARLY), moment(FEWEST_PERIODS, FAR)]
            .into_iter()
            .flatten()
            .max_by(|a, b| worth_of(a).total_cmp(&worth_of(b)));
        if let Some(better) = better {
            (found, moves) = (better, true);
        }
    }
    if let Some((hz, _)) = found.first_mut().filter(|_| moves) {
        *hz = middle_of_vibrato(heard, rate_hz, *hz).unwrap_or(*hz);
    }
    found
        .into_iter()
        .filter(|(_, worth)| *worth >= LEAST_CONFIDENCE)
        .filter_map(|(hz, worth)| {
            let (key, cents) = key_and_cents(hz)?;
            Some(Pitch {
                hz,
                key,
                cents,
                confidence: worth.min(1.0),
            })
        })
        .collect()
}

/// By so many partials the pitch of what is held is settled.
const PARTIALS_HELD: f64 = 16.0;

/// The pitch of what is held of a sound whose note is known, as a frequency; `None` where that note is not heard in it. It has no attack.
pub(crate) fn pitch_held(samples: &[f32], rate_hz: u32, hz: f64) -> Option<f64> {
    let len = fast_len(samples.len().min(longest_frames(rate_hz)));
    let heard = samples.get(..len).filter(|_| len >= 512)?;
    let spectrum = partials_under(heard, rate_hz, PARTIALS_HELD * hz);
    // The strongest of all lines that may be one of its first partials, of several beside each other too.
    let strongest = (1..=6)
        .flat_map(|number| {
            lines_near(&spectrum, hz * f64::from(number), OTHER_NOTE_CENTS).map(move |line| (number, line))
        })
        .max_by(|a, b| a.1.amplitude.total_cmp(&b.1.amplitude));
    let (number, line) = strongest?;
    let held = settled(&spectrum, line.hz / f64::from(number), 0.0);
    // Going round, what moves has lines a round apart, and none of them is its middle.
    let moves = lines_beside(&spectrum, held).then(|| course(heard, rate_hz, held));
    Some(moves.flatten().map_or(held, |(middle, _)| middle))
}

/// Those that lie within so many cents of a frequency.
fn lines_near(spectrum: &[Partial], hz: f64, within_cents: f64) -> impl Iterator<Item = &Partial> {
    let within = (within_cents / 1200.0).exp2();
    let from = spectrum.partition_point(|line| line.hz < hz / within);
    spectrum[from..]
        .iter()
        .take_while(move |line| line.hz < hz * within)
}

/// So much is looked at.
pub(crate) fn longest_frames(rate_hz: u32) -> usize {
    (f64::from(rate_hz) * LONGEST_S) as usize
}

/// A pitch that moves has a spectrum of many lines, none of which is its middle: beside one of its partials, so near and so strong.
const BESIDE: f64 = 0.12;
const BESIDE_CENTS: f64 = 45.0;

fn lines_beside(spectrum: &[Partial], hz: f64) -> bool {
    (1..=6).any(|number| {
        let near = || lines_near(spectrum, hz * f64::from(number), BESIDE_CENTS).map(|line| line.amplitude);
        let top = near().fold(0.0, f64::max);
        near().filter(|amplitude| *amplitude > top * BESIDE).count() > 2
    })
}

/// What moves by less, from its tenth to its ninetieth percentile, stands still.
const MOVES_CENTS: f64 = 8.0;
const MOMENTS: usize = 40;
/// Moments that lie further under the loudest are its tail: 20 dB.
const STILL_LOUD: f64 = 0.1;

/// The middle of a pitch that moves to and fro; `None` where it stands still, or where most of the stretch is its tail.
fn middle_of_vibrato(samples: &[f32], rate_hz: u32, hz: f64) -> Option<f64> {
    let (middle, spread_cents) = course(samples, rate_hz, hz)?;
    (spread_cents > MOVES_CENTS).then_some(middle)
}

/// The mean over time of the pitch that is heard in short windows, as a frequency, and from its tenth to its ninetieth percentile, in cents; `None`
/// where most of the stretch is its tail.
fn course(samples: &[f32], rate_hz: u32, hz: f64) -> Option<(f64, f64)> {
    let hop = (samples.len() / MOMENTS).max(1);
    let levels: Vec<f64> = samples
        .chunks(hop)
        .map(|of| (of.iter().map(|x| f64::from(x * x)).sum::<f64>() / of.len() as f64).sqrt())
        .collect();
    let loudest = levels.iter().copied().fold(0.0, f64::max);
    let cents: Vec<f64> = pitch_curve(samples, rate_hz, 0, samples.len(), hz, hop)
        .iter()
        .filter(|point| levels[(point.frame / hop).min(levels.len() - 1)] > loudest * STILL_LOUD)
        .map(|point| 1200.0 * (point.hz / hz).log2())
        .collect();
    if cents.len() < MOMENTS / 2 {
        return None;
    }
    let mut sorted = cents.clone();
    sorted.sort_by(f64::total_cmp);
    let (low, high) = (sorted[sorted.len() / 10], sorted[sorted.len() * 9 / 10]);
    let inside: Vec<f64> = cents
        .into_iter()
        .filter(|c| (low - MOVES_CENTS..=high + MOVES_CENTS).contains(c))
        .collect();
    let mean = inside.iter().sum::<f64>() / inside.len().max(1) as f64;
    Some((hz * (mean / 1200.0).exp2(), high - low))
}

/// The pitch of one short window, as a frequency.
pub(crate) fn pitch_of_window(samples: &[f32], rate_hz: u32) -> Option<f64> {
    let (hz, worth) = *judged(samples, rate_hz, LOWEST_HZ, HEARD).first()?;
    (worth >= LEAST_CONFIDENCE).then_some(hz)
}

/// The fundamentals of one stretch, at `lowest_hz` or more, and what they are worth, best first; what is under `heard` of the loudest partial
/// counts neither for nor against them.
fn judged(samples: &[f32], rate_hz: u32, lowest_hz: f64, heard: f64) -> Vec<(f64, f64)> {
    judged_of(&partials(samples, rate_hz), lowest_hz, heard)
}

fn judged_of(spectrum: &[Partial], lowest_hz: f64, heard: f64) -> Vec<(f64, f64)> {
    best_candidates(spectrum, lowest_hz, heard)
        .into_iter()
        .map(|(hz, stretch, worth)| (settled(spectrum, hz, stretch), worth))
        .collect()
}

fn place(hz: f64, stretch: f64, number: usize) -> f64 {
    let k = number as f64;
    k * hz * stretched(stretch, k)
}

/// What a partial is higher by, as a factor.
fn stretched(stretch: f64, number: f64) -> f64 {
    if stretch == 0.0 {
        1.0
    } else {
        (1.0 + stretch * number * number).sqrt()
    }
}

fn nearest(spectrum: &[Partial], hz: f64) -> Option<(&Partial, f64)> {
    let at = spectrum.partition_point(|partial| partial.hz < hz);
    spectrum[at.saturating_sub(1)..(at + 1).min(spectrum.len())]
        .iter()
        .map(|partial| (partial, 1200.0 * (partial.hz / hz).log2()))
        .min_by(|a, b| a.1.abs().total_cmp(&b.1.abs()))
}

/// What is 40 dB under the loudest partial (hum, the room, a hammer's knock) neither speaks for a fundamental nor against it.
const HEARD: f64 = 0.01;
/// In the first moments of a high note the knock is loud: 17 dB.
const HEARD_SHORT: f64 = 0.14;

/// Other notes than the best one are kept where they are worth this share of it, and so many.
const NEARLY: f64 = 0.75;
const MOST_BESIDE: usize = 2;
/// An octave of the best one is kept from this share on.
const AN_OCTAVE: f64 = 0.3;
const OTHER_NOTE_CENTS: f64 = 80.0;

/// Frequency, stretch and worth of the best, and of other notes that are worth nearly as much.
fn best_candidates(spectrum: &[Partial], lowest_hz: f64, least: f64) -> Vec<(f64, f64, f64)> {
    let mut strong: Vec<&Partial> = spectrum.iter().collect();
    strong.sort_by(|a, b| b.amplitude.total_cmp(&a.amplitude));
    let mut candidates: Vec<f64> = strong
        .iter()
        .take(8)
        .flat_map(|partial| (1..=16).map(move |number| partial.hz / f64::from(number)))
        .filter(|hz| (lowest_hz.max(LOWEST_HZ)..=HIGHEST_HZ).contains(hz))
        .collect();
    candidates.sort_by(f64::total_cmp);
    candidates.dedup_by(|a, b| (*a / *b - 1.0).abs() < 1e-4);
    let heard = strong.first().map_or(0.0, |partial| partial.amplitude * least);
    let total: f64 = strong
        .iter()
        .filter(|p| p.amplitude > heard)
        .map(|p| p.amplitude.sqrt())
        .sum();
    let of = |hz: f64, stretch: f64| {
        let worth = worth(spectrum, hz, stretch, (total, heard)) - stretch * 10.0;
        (hz, stretch, worth)
    };
    let by_worth = |a: &(f64, f64, f64), b: &(f64, f64, f64)| b.2.total_cmp(&a.2);
    let mut judged: Vec<(f64, f64, f64)> = candidates.iter().map(|&hz| of(hz, STRETCHES[0])).collect();
    judged.sort_by(by_worth);
    // What is worth little unstretched is not worth most stretched.
    let likely: Vec<f64> = judged.iter().take(STRETCHED).map(|(hz, ..)| *hz).collect();
    judged.extend(
        likely
            .iter()
            .flat_map(|&hz| STRETCHES[1..].iter().map(move |&stretch| of(hz, stretch))),
    );
    // Of equal worth, the lowest and least stretched comes first.
    judged.sort_by(|a, b| by_worth(a, b).then(a.0.total_cmp(&b.0)).then(a.1.total_cmp(&b.1)));
    let mut best: Vec<(f64, f64, f64)> = Vec::new();
    for candidate in judged {
        let near =
            |other: &(f64, f64, f64)| (1200.0 * (candidate.0 / other.0).log2()).abs() < OTHER_NOTE_CENTS;
        if best.len() > MOST_BESIDE || best.first().is_some_and(|(.., top)| candidate.2 < top * NEARLY) {
            break;
        }
        if !best.iter().any(near) {
            best.push(candidate);
        }
    }
    let with_an_octave = best.first().filter(|(hz, ..)| 2.0 * hz <= HIGHEST_HZ);
    if let Some(&(hz, stretch, top)) = with_an_octave {
        let (octave, _, worth) = of(2.0 * hz, stretch);
        let near = |other: &(f64, f64, f64)| (1200.0 * (octave / other.0).log2()).abs() < OTHER_NOTE_CENTS;
        let series = Series::of(spectrum, hz, stretch);
        if series.is_of_ranks() || series.odd_ones_are_faint() {
            best.retain(|other| !near(other));
            best.insert(0, (octave, stretch, top));
            best.truncate(1 + MOST_BESIDE);
        } else if series.may_be_of_ranks() && worth >= top * AN_OCTAVE && !best.iter().any(near) {
            best.push((octave, stretch, worth));
        }
    }
    best
}

/// Amplitudes of the partials of one fundamental, the first at place 0, against the loudest of them.
struct Series([f64; 16]);

/// Of the whole power: what is fainter is not heard between the others, 25 dB.
const FAINT: f64 = 0.003_2;
/// Against the loudest: ranks that are drawn, 20 dB; what no rank gives, 18 dB; and that against its neighbours, 10 dB.
const DRAWN: f64 = 0.1;
const NOT_DRAWN: f64 = 0.126;
const HOLE: f64 = 0.316;
/// 6 dB.
const HARDLY_WEAKER: f64 = 0.5;

impl Series {
    fn of(spectrum: &[Partial], hz: f64, stretch: f64) -> Self {
        // Where a pitch moves or beats there are several lines at one place.
        let strength = |number: usize| {
            let lines = lines_near(spectrum, place(hz, stretch, number), TOLERANCE_CENTS);
            lines.map(|line| line.amplitude).fold(0.0, f64::max)
        };
        let all: [f64; 16] = std::array::from_fn(|n| strength(n + 1));
        let loudest = all.iter().copied().fold(1e-12, f64::max);
        Self(all.map(|x| x / loudest))
    }

    fn at(&self, number: usize) -> f64 {
        self.0[number - 1]
    }

    /// Whether the lowest rank of an organ stands an octave under the note that its maker says (ranks of 16, 8, 5⅓ and 4 feet, common practice): the
    /// first four partials are there, the third (of 5⅓ feet) hardly weaker than the first, and the fifth and seventh, which no rank gives, are not.
    fn is_of_ranks(&self) -> bool {
        let beside = self.at(4).min(self.at(6));
        (1..=4).all(|number| self.at(number) > DRAWN)
            && self.at(3) > self.at(1) * HARDLY_WEAKER
            && [5, 7].iter().all(|&number| self.at(number) < NOT_DRAWN)
            && self.at(5) < beside * HOLE
    }

    /// Whether that is not to be told from the spectrum: the third partial is stronger than the first, which no string or pipe by itself has.
    fn may_be_of_ranks(&self) -> bool {
        self.at(3) > self.at(1)
    }

    /// Whether the odd partials are so faint that the octave is what is heard, as where a pipe is overblown.
    fn odd_ones_are_faint(&self) -> bool {
        let power = |from: usize| self.0.iter().skip(from).step_by(2).map(|x| x * x).sum::<f64>();
        let (odd, even) = (power(0), power(1));
        odd < FAINT * (odd + even)
    }
}

/// The number of the partial of `hz` nearest to a frequency.
fn number_of(at: f64, hz: f64, stretch: f64) -> usize {
    let mut number = at / hz;
    if stretch > 0.0 {
        for _ in 0..3 {
            number = at / hz / stretched(stretch, number);
        }
    }
    ((number + 0.5) as usize).max(1)
}

fn worth(spectrum: &[Partial], hz: f64, stretch: f64, (total, heard): (f64, f64)) -> f64 {
    // Every peak near a place counts: strings in unison give several, close together.
    let mut explained = 0.0;
    let mut there = [false; MOST_HARMONICS + 1];
    for partial in spectrum {
        let number = number_of(partial.hz, hz, stretch);
        if number > MOST_HARMONICS {
            break;
        }
        // Between high partials of a low fundamental chance hits are likely: the tolerance shrinks with their distance.
        let tolerance = TOLERANCE_CENTS.min(0.2 * 1731.0 / number as f64);
        let ratio = partial.hz / place(hz, stretch, number);
        if (ratio - 1.0).abs() * 1731.0 > tolerance * 1.1 {
            continue;
        }
        let off = 1200.0 * ratio.log2();
        if off.abs() >= tolerance {
            continue;
        }
        there[number] = true;
        if partial.amplitude > heard {
            explained += partial.amplitude.sqrt() * (1.0 - (off / tolerance).powi(2));
        }
    }
    let Some(last) = there.iter().rposition(|&is| is) else {
        return 0.0;
    };
    let weight = |number: usize| 1.0 / (number as f64).sqrt();
    let counted: f64 = (1..=last).map(weight).sum();
    let found: f64 = (1..=last).filter(|&number| there[number]).map(weight).sum();
    explained / total * (found / counted).sqrt()
}

/// The fundamental that fits all partials best, by least squares weighted with their certainty (amplitude × number).
fn settled(spectrum: &[Partial], hz: f64, stretch: f64) -> f64 {
    let mut fit = (hz, stretch);
    for tolerance in [TOLERANCE_CENTS, 15.0, 8.0] {
        let matched: Vec<(f64, &Partial)> = (1..=MOST_HARMONICS)
            .filter_map(|number| {
                let (partial, off) = nearest(spectrum, place(fit.0, fit.1, number))?;
                (off.abs() < tolerance).then_some((number as f64, partial))
            })
            .collect();
        if matched.is_empty() {
            return fit.0;
        }
        // (f_k/k)² = f² + f²·B·k²: a straight line in k².
        let (mut w, mut wx, mut wy, mut wxx, mut wxy) = (0.0, 0.0, 0.0, 0.0, 0.0);
        for (number, partial) in &matched {
            let weight = (partial.amplitude * number).powi(2);
            let (x, y) = (number * number, (partial.hz / number).powi(2));
            w += weight;
            wx += weight * x;
            wy += weight * y;
            wxx += weight * x * x;
            wxy += weight * x * y;
        }
        let determinant = w * wxx - wx * wx;
        let slope = (w * wxy - wx * wy) / determinant;
        let base = (wy - slope * wx) / w;
        let stretched = matched.len() >= 5 && determinant > 0.0 && base > 0.0 && slope / base > 2e-5;
        fit = if stretched {
            (base.sqrt(), slope / base)
        } else {
            ((wy / w).sqrt(), 0.0)
        };
    }
    if fit.1 > 0.0 {
        let first = place(fit.0, fit.1, 1);
        let loudest = spectrum
            .iter()
            .fold(0.0f64, |top, partial| top.max(partial.amplitude));
        return nearest(spectrum, first)
            .filter(|(partial, off)| off.abs() < 10.0 && partial.amplitude > loudest * 0.05)
            .map_or(first, |(partial, _)| partial.hz);
    }
    fit.0
}

/// The pitch over time, every `hop` frames, near a known fundamental: the strongest of its first six partials is
/// followed and divided by its number. Stretches where it is lost have no point.
pub fn pitch_curve(
    samples: &[f32],
    rate_hz: u32,
    start: usize,
    end: usize,
    hz: f64,
    hop: usize,
) -> Vec<PitchPoint> {
    let rate = f64::from(rate_hz);
    let window = fast_len(((rate * (8.0 / hz).max(0.06)) as usize).min(rate as usize / 2));
    let end = end.min(samples.len());
    let mut points = Vec::new();
    let mut first = start;
    while first + window <= end && window >= 64 {
        let spectrum = partials_under(&samples[first..first + window], rate_hz, 7.0 * hz);
        let heard = (1..=6)
            .filter_map(|number| {
                let (partial, off) = nearest(&spectrum, hz * f64::from(number))?;
                (off.abs() < 120.0).then_some((partial.amplitude, partial.hz / f64::from(number)))
            })
            .max_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((_, hz)) = heard {
            points.push(PitchPoint {
                frame: first + window / 2,
                hz,
            });
        }
        first += hop.max(1);
    }
    points
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use std::f64::consts::TAU;

    /// A tone of the given partial amplitudes with white noise 30 dB under its RMS.
    fn tone(hz: f64, amplitudes: &[f64], stretch: f64, seed: u64) -> Vec<f32> {
        let rate = 48_000.0;
        let rms = (amplitudes.iter().map(|a| a * a / 2.0).sum::<f64>()).sqrt();
        let mut random = rand_pcg::Pcg64::seed_from_u64(seed);
        (0..48_000)
            .map(|n| {
                let t = f64::from(n) / rate;
                let clean: f64 = amplitudes
                    .iter()
                    .enumerate()
                    .map(|(k, a)| (place(hz, stretch, k + 1), a))
                    .filter(|(f, _)| *f < 23_000.0)
                    .map(|(f, a)| a * (TAU * f * t + f.sin() * 3.0).sin())
                    .sum();
                let noise: f64 = (0..12).map(|_| random.random::<f64>()).sum::<f64>() - 6.0;
                ((clean + noise * rms * 10f64.powf(-30.0 / 20.0)) * 0.2) as f32
            })
            .collect()
    }

    fn cents_off(samples: &[f32], hz: f64) -> f64 {
        let pitch =
            find_pitch(samples, 48_000, 0, samples.len()).unwrap_or_else(|| panic!("no pitch at {hz} Hz"));
        1200.0 * (pitch.hz / hz).log2()
    }

    /// Bars page: 27.5 to 4,186 Hz, 1 s, noise 30 dB down, weak and missing fundamentals, ≤ 0.5 cent.
    #[test]
    fn harmonic_tones_are_found_within_half_a_cent() {
        let kinds: [(&str, Vec<f64>); 5] = [
            ("sine", vec![1.0]),
            ("saw", (1..=20).map(|k| 1.0 / f64::from(k)).collect()),
            (
                "odd partials",
                (1..=15)
                    .map(|k| if k % 2 == 1 { 1.0 / f64::from(k) } else { 0.0 })
                    .collect(),
            ),
            ("weak fundamental", vec![0.03, 1.0, 0.7, 0.5, 0.3, 0.2, 0.1]),
            ("missing fundamental", vec![0.0, 0.8, 1.0, 0.6, 0.5, 0.3]),
        ];
        let mut worst = (0.0f64, String::new());
        for (name, amplitudes) in &kinds {
            for step in 0..30 {
                let hz = 27.5 * (4186.0f64 / 27.5).powf(f64::from(step) / 29.0);
                let off = cents_off(&tone(hz, amplitudes, 0.0, step as u64), hz);
                assert!(off.abs() <= 0.5, "{name} at {hz:.2} Hz: {off:.3} cents");
                if off.abs() > worst.0 {
                    worst = (off.abs(), format!("{name} at {hz:.1} Hz: {off:.3} cents"));
                }
            }
        }
        println!("worst pitch: {}", worst.1);
    }

    #[test]
    fn stretched_partials_give_the_first_partial() {
        let amplitudes: Vec<f64> = (1..=12).map(|k| 1.0 / f64::from(k)).collect();
        let (hz, stretch) = (110.0, 4e-4);
        let off = cents_off(&tone(hz, &amplitudes, stretch, 3), place(hz, stretch, 1));
        assert!(off.abs() <= 0.5, "{off}");
    }

    /// Fletcher & Rossing, The Physics of Musical Instruments: a bar with free ends, 1 : 2.756 : 5.404 : 8.933.
    #[test]
    fn a_free_bar_sounds_its_first_mode() {
        let samples: Vec<f32> = (0..48_000)
            .map(|n| {
                let t = f64::from(n) / 48_000.0;
                [(1.0, 1.0), (2.756, 0.6), (5.404, 0.3), (8.933, 0.15)]
                    .iter()
                    .map(|(ratio, a)| a * (TAU * 523.25 * ratio * t).sin() * (-t * 3.0 * ratio).exp())
                    .sum::<f64>() as f32
                    * 0.3
            })
            .collect();
        assert!(cents_off(&samples, 523.25).abs() < 2.0);
    }

    /// The pitch of a vibrato is its middle; tones that beat have the pitch between theirs.
    #[test]
    fn a_vibrato_has_its_middle_for_a_pitch() {
        let mut worst = (0.0f64, String::new());
        for n in 0..36 {
            let hz = 65.4 * 2f64.powf(f64::from(n % 12) / 2.4);
            let (depth, speed) = (
                [12.0, 30.0, 50.0][n as usize / 12],
                4.6 + 0.15 * f64::from(n % 13),
            );
            let mut phase = 0.0;
            let samples: Vec<f32> = (0..72_000)
                .map(|n| {
                    let moved = depth * (TAU * speed * f64::from(n) / 48_000.0).sin();
                    phase += TAU * hz * (moved / 1200.0).exp2() / 48_000.0;
                    (1..=10)
                        .map(|k| (phase * f64::from(k)).sin() / f64::from(k))
                        .sum::<f64>() as f32
                        * 0.2
                })
                .collect();
            let off = cents_off(&samples, hz);
            if off.abs() > worst.0 {
                worst = (
                    off.abs(),
                    format!("{off:.2} cents at {hz:.1} Hz, ±{depth} cents, {speed:.2} Hz"),
                );
            }
        }
        println!("worst pitch of a vibrato: {}", worst.1);
        assert!(worst.0 <= 3.0, "{worst:?}");
    }

    /// Odd partials 40 dB under the even ones: 220 Hz, or 440 Hz beside something faint.
    #[test]
    fn where_two_octaves_explain_a_sound_both_are_told() {
        let amplitudes: Vec<f64> = (1..=12)
            .map(|k| if k % 2 == 0 { 1.0 } else { 0.025 } / f64::from(k))
            .collect();
        let samples = tone(220.0, &amplitudes, 0.0, 4);
        let keys: Vec<u8> = find_pitches(&samples, 48_000, 0, samples.len())
            .iter()
            .map(|pitch| pitch.key)
            .collect();
        assert!(keys.contains(&57) && keys.contains(&69), "{keys:?}");
        let clear = tone(220.0, &[1.0, 0.7, 0.5, 0.4, 0.3, 0.2], 0.0, 5);
        assert_eq!(find_pitches(&clear, 48_000, 0, clear.len()).len(), 1);
    }

    #[test]
    fn noise_has_no_pitch() {
        let mut random = rand_pcg::Pcg64::seed_from_u64(5);
        let samples: Vec<f32> = (0..48_000).map(|_| random.random::<f32>() - 0.5).collect();
        let pitch = find_pitch(&samples, 48_000, 0, samples.len());
        assert!(pitch.is_none_or(|pitch| pitch.confidence < 0.5), "{pitch:?}");
    }

    #[test]
    fn keys_and_cents_follow_equal_temperament() {
        assert_eq!(key_and_cents(440.0), Some((69, 0.0)));
        let (key, cents) = key_and_cents(hz_of_key(60.25)).unwrap();
        assert_eq!(key, 60);
        assert!((cents - 25.0).abs() < 1e-9);
        assert_eq!(key_and_cents(0.0), None);
    }

    #[test]
    fn an_organ_is_heard_at_eight_feet_and_an_overblown_pipe_in_its_upper_octave() {
        // Ranks of 16, 8, 5⅓, 4, 2⅔ and 2 feet.
        let ranks = [0.9, 0.7, 0.8, 0.6, 0.0, 0.5, 0.0, 0.3];
        let organ = tone(110.0, &ranks, 0.0, 3);
        assert!(cents_off(&organ, 220.0).abs() < 0.5);
        let told = find_pitches(&organ, 48_000, 0, organ.len());
        assert!(
            told.iter().any(|pitch| (pitch.hz - 110.0).abs() < 0.1),
            "{told:?}"
        );
        // A saw has all partials, and a clarinet the odd ones.
        let saw: Vec<f64> = (1..=12).map(|k| 1.0 / f64::from(k)).collect();
        assert!(cents_off(&tone(110.0, &saw, 0.0, 4), 110.0).abs() < 0.5);
        // Between the partials of the octave, the others 32 dB down and more.
        let overblown = [0.014, 1.0, 0.02, 0.1, 0.02, 0.07, 0.01, 0.1];
        assert!(cents_off(&tone(392.0, &overblown, 0.0, 5), 784.0).abs() < 0.5);
    }

    #[test]
    fn the_curve_follows_a_glide() {
        let mut phase = 0.0f64;
        let samples: Vec<f32> = (0..48_000)
            .map(|n| {
                phase += TAU * (220.0 + f64::from(n) / 48_000.0 * 4.0) / 48_000.0;
                phase.sin() as f32
            })
            .collect();
        let curve = pitch_curve(&samples, 48_000, 0, 48_000, 222.0, 2400);
        assert!(curve.len() > 15);
        for point in curve {
            let truth = 220.0 + point.frame as f64 / 48_000.0 * 4.0;
            assert!(
                (1200.0 * (point.hz / truth).log2()).abs() < 1.0,
                "{point:?} {truth}"
            );
        }
    }
}
