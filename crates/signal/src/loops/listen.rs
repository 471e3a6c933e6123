//! How far the seams of many loops of one sound stand out, each by the frames around it alone: near to [`crate::audible_db`], at a small part of its cost.

use crate::bands::{Bands, Ear, Levels, loudness_db, raw_db};
use crate::seams::{BY_ITSELF, FEWEST_MOMENTS, INSIDE_S, NEAR_S, PlayedLoop, percentile};

/// The sound by itself is looked at so many times a hop.
const OWN_PHASES: usize = 2;
/// Of a loop that has no inside so many windows are looked at.
const WINDOWS_OF_SHORT: usize = 24;
/// Windows that meet the seam within this share of a hop meet it alike.
const SAME_PHASE: usize = 8;

/// One sound, mono, with its bands.
pub(super) struct Listener {
    pub(super) samples: Vec<f32>,
    pub(super) rate: f64,
    bands: Bands,
    /// In dB, every part of a hop.
    levels: Vec<Levels>,
}

impl Listener {
    pub(super) fn new(samples: Vec<f32>, rate_hz: u32, mut bands: Bands) -> Self {
        let step = (bands.hop / OWN_PHASES).max(1);
        let levels = bands.over(&samples, step).iter().map(raw_db).collect();
        Self {
            rate: f64::from(rate_hz),
            bands,
            levels,
            samples,
        }
    }

    pub(super) fn hop(&self) -> usize {
        self.bands.hop
    }

    pub(super) fn window(&self) -> usize {
        self.bands.window()
    }

    /// A moment every hop, as it is heard in the whole of the sound, and how loud it is, in dB.
    pub(super) fn moments(&self) -> (Ear, Vec<Levels>, Vec<f32>) {
        let ear = Ear::of(&self.levels);
        let moments: Vec<Levels> = self.levels.iter().step_by(OWN_PHASES).copied().collect();
        let loudness = loudness_db(&moments);
        (ear, moments.iter().map(|of| ear.heard(of)).collect(), loudness)
    }

    /// In dB; the windows meet the seam in no more than so many places of a hop. `None` where there is nothing to compare with.
    pub(super) fn stands_out(&mut self, played: &PlayedLoop, phases: usize) -> Option<f64> {
        let part = |frame: usize| (frame / self.step()).min(self.levels.len());
        let ear = Ear::of(&self.levels[part(played.start_frame - played.lead())..part(played.end_frame)]);
        let at_seam = if self.is_short(played) {
            self.change_in_rounds(played, &ear)
        } else {
            self.change_at_seam(played, &ear, phases)
        };
        Some(at_seam? - self.change_by_itself(played, &ear)?)
    }

    fn step(&self) -> usize {
        (self.hop() / OWN_PHASES).max(1)
    }

    fn is_short(&self, played: &PlayedLoop) -> bool {
        (played.frames() as f64) < INSIDE_S * self.rate
    }

    /// How near before a seam is near.
    fn near_before(&self, played: &PlayedLoop) -> f64 {
        (NEAR_S * self.rate).max(played.crossfade() as f64)
    }

    /// The largest change in a loop that has no inside: all of it is near a seam.
    fn change_in_rounds(&mut self, played: &PlayedLoop, ear: &Ear) -> Option<f64> {
        let (hop, window) = (self.hop(), self.window());
        let frames = (WINDOWS_OF_SHORT * hop + window).max(played.frames() + window + hop);
        let round = played.round(&self.samples);
        let around: Vec<f32> = round.iter().copied().cycle().take(frames).collect();
        let levels: Vec<Levels> = self.bands.over(&around, hop).iter().map(raw_db).collect();
        levels
            .windows(2)
            .map(|pair| ear.apart(&pair[0], &pair[1]))
            .max_by(f64::total_cmp)
    }

    /// The largest change around the seam, where the windows of several rounds meet it.
    fn change_at_seam(&mut self, played: &PlayedLoop, ear: &Ear, phases: usize) -> Option<f64> {
        let (hop, window, frames) = (self.hop(), self.window(), played.frames());
        let (before_seam, after_seam) = (self.near_before(played), NEAR_S * self.rate);
        let reach = (window + hop) / 2 + hop;
        let before = (before_seam as usize + reach).min(frames);
        let after = (after_seam as usize + reach).min(frames);
        let mut around = played.round_from(&self.samples, frames - before);
        around.extend_from_slice(&self.samples[played.start_frame..played.start_frame + after]);
        let mut worst = None::<f64>;
        for phase in self.phases(played, phases) {
            let first = (before + hop - phase) % hop;
            let powers = self.bands.at_all(&around, (first..).step_by(hop));
            let levels: Vec<Levels> = powers.iter().map(raw_db).collect();
            for (at, pair) in (first + hop..).step_by(hop).zip(levels.windows(2)) {
                // The middle of the change since the window before, from the seam.
                let middle = at as f64 + (window as f64 - hop as f64) / 2.0 - before as f64;
                if -before_seam < middle && middle < after_seam {
                    let change = ear.apart(&pair[0], &pair[1]);
                    worst = Some(worst.map_or(change, |worst| worst.max(change)));
                }
            }
        }
        worst
    }

    /// Frames from a window's first to the seam, as they are met in the rounds that [`crate::audible_db`] hears; no two alike.
    fn phases(&self, played: &PlayedLoop, most: usize) -> Vec<usize> {
        let hop = self.hop();
        let mut met: Vec<usize> = Vec::new();
        for round in 1..played.rounds(self.rate) {
            let phase = (played.lead() + round * played.frames()) % hop;
            let alike = |other: &usize| {
                let off = other.abs_diff(phase);
                off.min(hop - off) * SAME_PHASE < hop
            };
            if !met.iter().any(alike) {
                met.push(phase);
            }
            if met.len() == most {
                break;
            }
        }
        met
    }

    /// What the sound changes by itself inside the loop away from its seams, or before the loop where it has no inside.
    fn change_by_itself(&self, played: &PlayedLoop, ear: &Ear) -> Option<f64> {
        let middle_of_change = ((self.window() + self.hop()) / 2) as f64;
        let changes = self.levels.len().saturating_sub(OWN_PHASES);
        let number = |frame: f64| {
            let first = (frame - middle_of_change).max(0.0) / self.step() as f64;
            (first.ceil() as usize).min(changes)
        };
        let start = played.start_frame as f64;
        let end = played.end_frame as f64 - self.near_before(played);
        let inside = number(start + NEAR_S * self.rate)..number(end);
        let heard = if self.is_short(played) || inside.len() < FEWEST_MOMENTS * OWN_PHASES {
            number(start - played.lead() as f64)..number(start)
        } else {
            inside
        };
        let mut own: Vec<f64> = heard
            .map(|n| ear.apart(&self.levels[n], &self.levels[n + OWN_PHASES]))
            .collect();
        (own.len() >= FEWEST_MOMENTS).then(|| percentile(&mut own, BY_ITSELF))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audible_db;
    use rand::{Rng, SeedableRng};

    /// What is heard around a seam alone is near to what is heard of the whole, for long loops and for short ones.
    #[test]
    fn around_a_seam_is_heard_what_the_whole_would_tell() {
        let mut random = rand_pcg::Pcg64::seed_from_u64(3);
        let samples: Vec<f32> = (0..132_300)
            .map(|n| {
                let t = f64::from(n) / 44_100.0;
                let tone: f64 = (1..=12)
                    .map(|k| (std::f64::consts::TAU * 147.0 * f64::from(k) * t).sin() / f64::from(k))
                    .sum();
                let tremolo = 1.0 + 0.4 * (t * 31.0).sin();
                ((tone * tremolo + random.random_range(-0.2..0.2)) * 0.2) as f32
            })
            .collect();
        let mut listener = Listener::new(samples.clone(), 44_100, Bands::new(44_100));
        for (start_frame, end_frame, crossfade_frames) in [
            (30_000, 61_000, 0),
            (30_300, 58_300, 1_764),
            (50_000, 90_000, 9_000),
            (60_000, 63_300, 400),
        ] {
            let played = PlayedLoop {
                start_frame,
                end_frame,
                crossfade_frames,
                likeness_percent: 90,
            };
            let whole = audible_db(&samples, 44_100, played).unwrap();
            let near = listener.stands_out(&played, 4).unwrap();
            assert!((near - whole).abs() < 1.0, "{played:?}: {near} for {whole}");
        }
    }
}
