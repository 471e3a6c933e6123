//! How a looped sound sounds where it comes round: whether its seams stand out of it, and whether its level moves.

use crate::bands::{Bands, apart, heard, in_db, loudest};

/// A loop as it is played. Frames count from the sound's first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlayedLoop {
    /// First frame of the loop.
    pub start_frame: usize,
    /// First frame after the loop.
    pub end_frame: usize,
    /// Crossfade before the end.
    pub crossfade_frames: usize,
    /// How alike what is crossfaded is, 0 to 100.
    pub likeness_percent: u8,
}

impl PlayedLoop {
    pub(crate) fn frames(&self) -> usize {
        self.end_frame.saturating_sub(self.start_frame)
    }

    /// The crossfade, no longer than what lies before the loop, and the loop.
    pub(crate) fn crossfade(&self) -> usize {
        self.crossfade_frames.min(self.start_frame).min(self.frames())
    }

    /// One round: what lies before the loop's start fades in over what lies before its end. Gains whose powers add up to one for a correlation
    /// ρ of the two: (1 − t, t) over √((1 − t)² + t² + 2ρt(1 − t)), as the engine has them.
    pub(crate) fn round(&self, samples: &[f32]) -> Vec<f32> {
        self.round_from(samples, 0)
    }

    /// The same, from one of its frames on.
    pub(crate) fn round_from(&self, samples: &[f32], from: usize) -> Vec<f32> {
        let mut body = samples[self.start_frame + from..self.end_frame].to_vec();
        let fade = self.crossfade();
        let likeness = f32::from(self.likeness_percent.min(100)) / 100.0;
        let lost = fade.saturating_sub(body.len());
        let first = body.len() + lost - fade;
        let before = &samples[self.start_frame - fade + lost..self.start_frame];
        for (n, (x, coming)) in (lost..).zip(body[first..].iter_mut().zip(before)) {
            let t = (n + 1) as f32 / (fade + 1) as f32;
            let left = 1.0 - t;
            let power = (left * left + t * t + 2.0 * likeness * t * left).sqrt();
            *x = (*x * left + coming * t) / power;
        }
        body
    }

    /// Frames before the loop that are heard with it.
    pub(crate) fn lead(&self) -> usize {
        self.start_frame.min(4 * self.frames())
    }

    /// How often it is gone round to be heard whole: for a second or four times, whichever is longer.
    pub(crate) fn rounds(&self, rate: f64) -> usize {
        (rate / self.frames() as f64).ceil().clamp(4.0, 200.0) as usize
    }

    /// What lies before the loop, then the loop so many times; and the frames before it.
    fn played(&self, samples: &[f32], rounds: usize) -> (Vec<f32>, usize) {
        let lead = self.lead();
        let round = self.round(samples);
        let mut all = Vec::with_capacity(lead + rounds * round.len());
        all.extend_from_slice(&samples[self.start_frame - lead..self.start_frame]);
        for _ in 0..rounds {
            all.extend_from_slice(&round);
        }
        (all, lead)
    }

    /// The loop as it goes round, for so many frames at least.
    pub(crate) fn held(&self, samples: &[f32], frames: usize) -> Option<Vec<f32>> {
        let rounds = frames.div_ceil(self.frames().max(1));
        self.lies_inside(samples)
            .then(|| self.round(samples).repeat(rounds.max(1)))
    }

    fn lies_inside(&self, samples: &[f32]) -> bool {
        self.start_frame + 1 < self.end_frame && self.end_frame <= samples.len()
    }
}

/// Around a seam, in seconds.
pub(crate) const NEAR_S: f64 = 0.03;
/// A shorter loop has no inside.
pub(crate) const INSIDE_S: f64 = 0.12;
/// From here on a seam is heard plainly, in dB: see [`audible_db`].
pub const PLAINLY_HEARD_DB: f64 = 0.5;
/// Moments that tell how a sound changes by itself.
pub(crate) const FEWEST_MOMENTS: usize = 4;
/// What a sound changes by itself: so much of the time no more than this.
pub(crate) const BY_ITSELF: f64 = 0.95;

/// By how much the seams of a looped sound stand out of it, in dB: the largest change between neighbouring short-time spectra (24 bands of equal ratio from
/// 60 Hz, those within 50 dB of the loudest; RMS over bands; windows of 20 ms, 10 ms apart) within 30 ms after a seam, before it or in its crossfade, minus
/// the 95th percentile of the change inside the loop away from seams; a loop under 0.12 s has no inside and is compared with the sound before it. A
/// second or four rounds of it are heard, whichever is longer. 0 or less cannot be told from the sound. `None` where there is nothing to compare with.
pub fn audible_db(samples: &[f32], rate_hz: u32, played: PlayedLoop) -> Option<f64> {
    audible_by(
        &mut Bands::new(rate_hz),
        samples,
        rate_hz,
        played,
        played.rounds(f64::from(rate_hz)),
    )
}

/// The same as it is heard so many semitones over its root: faster, and so by windows that reach over more of the sound.
pub fn audible_at_db(samples: &[f32], rate_hz: u32, played: PlayedLoop, semitones: f64) -> Option<f64> {
    audible_db(samples, played_at(rate_hz, semitones), played)
}

/// Frames per second of a sound that is played so many semitones over its root.
pub(crate) fn played_at(rate_hz: u32, semitones: f64) -> u32 {
    (f64::from(rate_hz) * (semitones / 12.0).exp2()).round() as u32
}

pub(crate) fn audible_by(
    bands: &mut Bands,
    samples: &[f32],
    rate_hz: u32,
    played: PlayedLoop,
    rounds: usize,
) -> Option<f64> {
    if !played.lies_inside(samples) {
        return None;
    }
    let rate = f64::from(rate_hz);
    let frames = played.frames();
    let (heard_of, lead) = played.played(samples, rounds);
    let powers = bands.over(&heard_of, bands.hop);
    let levels = in_db(&powers, loudest(&powers));
    let kept = heard(&levels);
    let middle = |n: usize| (n * bands.hop) as f64 + bands.window() as f64 / 2.0 + bands.hop as f64 / 2.0;
    let near_s = NEAR_S * rate;
    let before_end = near_s.max(played.crossfade() as f64);
    let (mut near, mut inside, mut before) = (None::<f64>, Vec::new(), Vec::new());
    for (n, pair) in levels.windows(2).enumerate() {
        let change = f64::from(apart(&pair[0], &pair[1], &kept));
        let since = middle(n) - lead as f64;
        if since <= 0.0 {
            before.push(change);
            continue;
        }
        let phase = since % frames as f64;
        let at_seam =
            (frames as f64) < INSIDE_S * rate || phase < near_s || phase > frames as f64 - before_end;
        if at_seam {
            near = Some(near.map_or(change, |top| top.max(change)));
        } else {
            inside.push(change);
        }
    }
    let mut compared = if inside.len() < FEWEST_MOMENTS {
        before
    } else {
        inside
    };
    (compared.len() >= FEWEST_MOMENTS).then_some(())?;
    Some(near? - percentile(&mut compared, BY_ITSELF))
}

/// How the short-time spectrum of a sound changes from moment to moment, as seams are heard (see [`audible_db`]): for each its middle frame and the change in
/// dB.
pub fn changes_db(samples: &[f32], rate_hz: u32) -> Vec<(usize, f64)> {
    let mut bands = Bands::new(rate_hz);
    let powers = bands.over(samples, bands.hop);
    let levels = in_db(&powers, loudest(&powers));
    let kept = heard(&levels);
    let middle = |n: usize| n * bands.hop + bands.window() / 2 + bands.hop / 2;
    let pairs = levels.windows(2).enumerate();
    pairs
        .map(|(n, pair)| (middle(n), f64::from(apart(&pair[0], &pair[1], &kept))))
        .collect()
}

/// Between neighbours, in a straight line.
pub(crate) fn percentile(values: &mut [f64], share: f64) -> f64 {
    let Some(last) = values.len().checked_sub(1) else {
        return 0.0;
    };
    let at = share * last as f64;
    let (_, low, above) = values.select_nth_unstable_by(at as usize, f64::total_cmp);
    let next = above.iter().copied().fold(f64::INFINITY, f64::min);
    if next.is_finite() {
        *low + (next - *low) * at.fract()
    } else {
        *low
    }
}

/// How far the level of a looped sound moves, in dB: from the 2nd to the 98th percentile of its RMS over 40 ms, over 1.2 s or three rounds, whichever is longer.
/// `None` where that is too short to tell.
pub fn pumps_db(samples: &[f32], rate_hz: u32, played: PlayedLoop) -> Option<f64> {
    if !played.lies_inside(samples) {
        return None;
    }
    let rate = f64::from(rate_hz);
    let rounds = (1.2 * rate / played.frames() as f64).ceil().clamp(3.0, 100.0) as usize;
    let (window, hop) = ((0.04 * rate) as usize, ((0.01 * rate) as usize).max(1));
    let frames = rounds * played.frames();
    if frames < 3 * window || window == 0 {
        return None;
    }
    // Sums of squares of a round before each of its frames: all rounds are alike.
    let mut total = 0.0;
    let sums: Vec<f64> = played
        .round(samples)
        .iter()
        .map(|x| {
            let before = total;
            total += f64::from(x * x);
            before
        })
        .collect();
    let before = |frame: usize| (frame / sums.len()) as f64 * total + sums[frame % sums.len()];
    let mut levels: Vec<f64> = (0..frames - window)
        .step_by(hop)
        .map(|at| 10.0 * ((before(at + window) - before(at)) / window as f64 + 1e-12).log10())
        .collect();
    Some(percentile(&mut levels, 0.98) - percentile(&mut levels, 0.02))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    const RATE: u32 = 22_050;

    /// Two seconds of a tone with a second one over it that glides, both swelling and sinking.
    fn sound() -> Vec<f32> {
        (0..2 * RATE)
            .map(|n| {
                let t = f64::from(n) / f64::from(RATE);
                let glide = 0.5 * (TAU * (440.0 * t + 30.0 * t * t)).sin();
                let level = 1.0 + 0.3 * (TAU * 2.3 * t).sin();
                (((TAU * 220.0 * t).sin() + glide) * level * 0.3) as f32
            })
            .collect()
    }

    fn played(
        start_frame: usize,
        end_frame: usize,
        crossfade_frames: usize,
        likeness_percent: u8,
    ) -> PlayedLoop {
        PlayedLoop {
            start_frame,
            end_frame,
            crossfade_frames,
            likeness_percent,
        }
    }

    /// The same worked out with numpy 2 (FFT in double precision, `numpy.hanning`, `numpy.percentile`) from the definition of [`audible_db`].
    #[test]
    fn both_figures_are_those_that_numpy_gives() {
        for (of, audible, pumps) in [
            (played(11_025, 24_255, 0, 100), 11.833, 5.295),
            (played(11_025, 24_255, 882, 90), 2.148, 5.295),
            (played(15_000, 31_000, 4_410, 50), 2.775, 6.975),
            (played(17_640, 18_742, 220, 100), 2.635, 0.51),
        ] {
            let told = audible_db(&sound(), RATE, of).unwrap();
            assert!((told - audible).abs() < 0.05, "{of:?}: {told}");
            let told = pumps_db(&sound(), RATE, of).unwrap();
            assert!((told - pumps).abs() < 0.02, "{of:?}: {told}");
        }
    }

    /// Where a sound is played slower its own changes are spread over more windows, and a sudden one is not.
    #[test]
    fn a_seam_is_heard_otherwise_away_from_its_root() {
        let of = played(11_025, 24_255, 882, 90);
        let at = |semitones| audible_at_db(&sound(), RATE, of, semitones).unwrap();
        assert_eq!(at(0.0), audible_db(&sound(), RATE, of).unwrap());
        let resampled = audible_db(&sound(), RATE / 2, of).unwrap();
        assert_eq!(at(-12.0), resampled);
        assert!((at(12.0) - at(-12.0)).abs() > 0.01);
    }

    #[test]
    fn whole_periods_of_a_steady_tone_are_not_heard_and_half_of_one_more_is() {
        let tone: Vec<f32> = (0..48_000)
            .map(|n| (n as f32 * TAU as f32 / 100.0).sin() * 0.5)
            .collect();
        let of = |end| audible_db(&tone, 48_000, played(12_000, end, 0, 100)).unwrap();
        assert!(
            of(32_000) < 0.1 && of(32_050) > 6.0,
            "{} {}",
            of(32_000),
            of(32_050)
        );
    }

    #[test]
    fn what_lies_outside_or_is_too_short_is_not_judged() {
        let sound = sound();
        for of in [
            played(0, 50_000, 0, 100),
            played(100, 101, 0, 100),
            played(200, 100, 0, 100),
        ] {
            assert_eq!(
                (audible_db(&sound, RATE, of), pumps_db(&sound, RATE, of)),
                (None, None)
            );
        }
        // Nothing before it and no inside: there is nothing to compare with.
        assert_eq!(audible_db(&sound, RATE, played(0, 400, 0, 100)), None);
    }
}
