//! Which of the places that may serve is best: by how it sounds as it will be played, heard with more care the better it seems.

use super::alike::Align;
use super::listen::Listener;
use super::rough::Rough;
use super::thin::Thin;
use super::worth::{Lively, Moves, worth};
use super::*;
use crate::bands::Bands;
use crate::seams::{PLAINLY_HEARD_DB, PlayedLoop, audible_by, percentile, played_at, pumps_db};

/// Crossfades that are tried: the first for all places, the others for the best.
const CROSSFADE_S: f64 = 0.04;
const SHORTER_S: f64 = 0.01;
const LONGER_S: [f64; 2] = [0.12, 0.3];
/// A crossfade takes no more than this share of its loop.
const CROSSFADE_SHARE: usize = 2;
const SHORTEST_CROSSFADE_S: f64 = 0.000_2;

/// Places whose other crossfades are tried; that are then heard with more care at the lower rate; around their seams at the full one; and at last whole.
const TRIED: usize = 12;
const HEARD_THIN: usize = 16;
const HEARD_NEAR: usize = 8;
const HEARD_WHOLE: usize = 4;
/// In so many places of a hop windows meet a seam: at first, at the lower rate with more care, and at the full rate (as often as the whole would tell).
const ONE_PHASE: usize = 1;
const PHASES_THIN: usize = 2;
const PHASES_NEAR: usize = 4;
/// What is known less surely is taken for worse by so much: at first, at the lower rate with more care, around the seam at the full one.
const UNSURE_AT_FIRST_DB: f64 = 0.4;
const UNSURE_THIN_DB: f64 = 0.45;
const UNSURE_NEAR_DB: f64 = 0.15;
/// The first that is quieter than this, and about as good as the next may be, is good enough.
const SURELY_QUIET_DB: f64 = 0.13;
const SLACK: f64 = 0.3;
/// A take usually serves so many semitones to either side of its root: rungs are seldom further apart (common practice).
const SERVES: f64 = 3.0;
/// At the ends of what it serves a loop is gone round so often.
const ROUNDS_AT_ENDS: usize = 2;
/// What is heard plainly there costs so much a decibel: less than at the root, which is played as often as all the rest.
const AT_ENDS: f64 = 0.3;
/// Over how much the seam of a sound without pitch is compared.
const UNPITCHED_PERIOD_FRAMES: f64 = 200.0;

/// Ends that are so alike repeat themselves: their loop is lively at a share of the length.
const ALIKE_FROM: f64 = 0.85;
const ALIKE_AT: f64 = 0.95;
const ALIKE_SHARE: f64 = 0.8;

/// A place with its crossfade, in frames of the lower rate, and what it is worth, less being better.
#[derive(Debug, Clone, Copy)]
struct Weighed {
    place: Rough,
    crossfade: usize,
    worth: f64,
}

impl Weighed {
    fn played(&self) -> PlayedLoop {
        self.place.played(self.crossfade)
    }
}

fn best_first(all: &mut [Weighed]) {
    all.sort_by(|a, b| a.worth.total_cmp(&b.worth));
}

impl Thin {
    fn seconds(&self, place: &Rough) -> f64 {
        (place.end - place.start) as f64 / self.rate
    }

    /// What repeats itself is itself sooner than what does not.
    fn lively(&self, likeness: f32) -> Lively {
        let repeats = ((f64::from(likeness) - ALIKE_FROM) / (ALIKE_AT - ALIKE_FROM)).clamp(0.0, 1.0);
        Lively {
            seconds: self.lively.seconds * (1.0 - (1.0 - ALIKE_SHARE) * repeats),
            ..self.lively
        }
    }

    fn moves(&self, place: &Rough) -> Moves {
        let moment = |frame: usize| (frame / self.hop).min(self.loudness.len());
        let mut levels: Vec<f64> = self.loudness[moment(place.start)..moment(place.end)]
            .iter()
            .map(|x| f64::from(*x))
            .collect();
        let quarter = levels.len() / 4;
        let mean = |of: &[f64]| of.iter().sum::<f64>() / of.len().max(1) as f64;
        Moves {
            drift_db: (mean(&levels[levels.len() - quarter..]) - mean(&levels[..quarter])).abs(),
            pumps_db: percentile(&mut levels, 0.98) - percentile(&mut levels, 0.02),
        }
    }

    /// With a crossfade of so many seconds, or as long as there is room for; `None` where there is none.
    fn weigh(&mut self, place: Rough, crossfade_s: f64) -> Option<Weighed> {
        let crossfade = ((crossfade_s * self.rate) as usize)
            .min(place.start.saturating_sub(self.start))
            .min((place.end - place.start) / CROSSFADE_SHARE);
        if (crossfade as f64) < SHORTEST_CROSSFADE_S * self.rate {
            return None;
        }
        let audible_db = self.heard.stands_out(&place.played(crossfade), ONE_PHASE);
        let feared = audible_db.map(|db| db + UNSURE_AT_FIRST_DB);
        Some(Weighed {
            place,
            crossfade,
            worth: worth(feared, None, self.seconds(&place), self.lively(place.likeness)),
        })
    }

    /// All places, best first, the best with the crossfade that suits them.
    fn weighed(&mut self, places: &[Rough]) -> Vec<Weighed> {
        let mut all: Vec<Weighed> = places
            .iter()
            .filter_map(|place| self.weigh(*place, CROSSFADE_S))
            .collect();
        best_first(&mut all);
        for of in all.iter_mut().take(TRIED) {
            let mut is_better = |seconds| {
                let other = self
                    .weigh(of.place, seconds)
                    .filter(|other| other.worth < of.worth);
                *of = other.unwrap_or(*of);
                other.is_some()
            };
            // What longer ones do not better, a shorter one may.
            if !LONGER_S.into_iter().all(&mut is_better) {
                is_better(SHORTER_S);
            }
        }
        best_first(&mut all);
        all
    }

    /// Heard with more care.
    fn heard_again(&mut self, of: &Weighed) -> Weighed {
        let audible_db = self.heard.stands_out(&of.played(), PHASES_THIN);
        let feared = audible_db.map(|db| db + UNSURE_THIN_DB);
        let (moves, seconds) = (self.moves(&of.place), self.seconds(&of.place));
        Weighed {
            worth: worth(feared, Some(moves), seconds, self.lively(of.place.likeness)),
            ..*of
        }
    }
}

/// The best of the places, best first, fitted to the frame. Those that may be best are heard whole, the others around their seams. One that is
/// [`LIVELY_S`] and more is among them where there is one.
pub(super) fn best(
    audio: &Audio,
    thin: &mut Thin,
    places: &[Rough],
    period: Option<f64>,
    most: usize,
) -> Vec<LoopCandidate> {
    let all = thin.weighed(places);
    let livelier = all.iter().find(|of| thin.seconds(&of.place) >= LIVELY_S).copied();
    let mut weighed: Vec<Weighed> = all
        .iter()
        .take(HEARD_THIN)
        .map(|of| thin.heard_again(of))
        .collect();
    best_first(&mut weighed);
    let mut full = Full::new(audio, thin, period);
    let mut judged: Vec<Judged> = weighed
        .iter()
        .take(HEARD_NEAR)
        .map(|of| full.near(thin, of))
        .collect();
    judged.sort_by(|a, b| a.worth.total_cmp(&b.worth));
    // What was heard whole is known for certain and goes first, whatever is thought of the others.
    let mut known = 0;
    while known < judged.len().min(HEARD_WHOLE) {
        judged[known] = full.whole(thin, &judged[known].played);
        let Judged {
            audible_db, worth, ..
        } = judged[known];
        known += 1;
        let quiet = audible_db.is_none_or(|db| db < -SURELY_QUIET_DB);
        if quiet && judged.get(known).is_none_or(|next| worth < next.worth + SLACK) {
            break;
        }
    }
    judged[..known].sort_by(|a, b| a.worth.total_cmp(&b.worth));
    judged.truncate(most);
    if let Some(livelier) = livelier.filter(|_| !judged.iter().any(|of| full.seconds(&of.played) >= LIVELY_S))
    {
        judged.truncate(most.saturating_sub(1));
        judged.push(full.near(thin, &livelier));
    }
    judged.iter().map(|of| full.candidate(of)).collect()
}

/// A place at the full rate.
struct Judged {
    played: PlayedLoop,
    worth: f64,
    audible_db: Option<f64>,
    ends_db: Option<f64>,
}

/// What a seam costs that is heard plainly at an end of what its take serves.
fn heard_at_ends(ends_db: Option<f64>) -> f64 {
    AT_ENDS * (ends_db.unwrap_or(0.0) - PLAINLY_HEARD_DB).max(0.0)
}

/// The sound at its full rate.
struct Full<'a> {
    audio: &'a Audio,
    period: Option<f64>,
    align: Align,
    exact: Bands,
    /// The same sound as it is played at both ends of what it serves: its rate there, and its bands.
    ends: [(u32, Bands); 2],
    heard: Listener,
    /// First frame of the sound.
    first: usize,
}

impl<'a> Full<'a> {
    fn new(audio: &'a Audio, thin: &Thin, period: Option<f64>) -> Self {
        Self {
            audio,
            period,
            align: Align::within(f64::from(audio.rate_hz), period, 2 * thin.by),
            exact: Bands::new(audio.rate_hz),
            ends: [-SERVES, SERVES].map(|semitones| {
                let rate_hz = played_at(audio.rate_hz, semitones);
                (rate_hz, Bands::fast(rate_hz))
            }),
            heard: Listener::new(audio.to_mono(), audio.rate_hz, Bands::new(audio.rate_hz)),
            first: thin.start * thin.by,
        }
    }

    fn seconds(&self, played: &PlayedLoop) -> f64 {
        played.frames() as f64 / f64::from(self.audio.rate_hz)
    }

    /// Fitted to the frame, and heard around its seam.
    fn near(&mut self, thin: &Thin, of: &Weighed) -> Judged {
        let rough = Rough {
            start: of.place.start * thin.by,
            end: of.place.end * thin.by,
            likeness: of.place.likeness,
        };
        let inside = (self.first, self.audio.frames());
        let fitted = self
            .align
            .bring_together(&self.audio.channels, rough.start, rough.end, inside);
        let place = fitted.unwrap_or(rough);
        let crossfade = (of.crossfade * thin.by).min((place.end - place.start) / CROSSFADE_SHARE);
        let played = place.played(crossfade);
        let audible_db = self.heard.stands_out(&played, PHASES_NEAR);
        let feared = audible_db.map(|db| db + UNSURE_NEAR_DB);
        let (moves, lively) = (thin.moves(&of.place), thin.lively(of.place.likeness));
        Judged {
            worth: worth(feared, Some(moves), self.seconds(&played), lively),
            played,
            audible_db,
            ends_db: None,
        }
    }

    /// Heard whole, at its root and at both ends of what it serves.
    fn whole(&mut self, thin: &Thin, played: &PlayedLoop) -> Judged {
        let rate_hz = self.audio.rate_hz;
        let audible_db = audible_by(
            &mut self.exact,
            &self.heard.samples,
            rate_hz,
            *played,
            played.rounds(f64::from(rate_hz)),
        );
        let ends = self.ends.iter_mut().filter_map(|(rate_hz, bands)| {
            audible_by(bands, &self.heard.samples, *rate_hz, *played, ROUNDS_AT_ENDS)
        });
        let ends_db = ends.max_by(f64::total_cmp);
        let moves = Moves {
            pumps_db: pumps_db(&self.heard.samples, rate_hz, *played).unwrap_or(0.0),
            drift_db: drift_db(self.audio, played.start_frame, played.end_frame),
        };
        let lively = thin.lively(f32::from(played.likeness_percent) / 100.0);
        Judged {
            worth: worth(audible_db, Some(moves), self.seconds(played), lively) + heard_at_ends(ends_db),
            played: *played,
            audible_db,
            ends_db,
        }
    }

    fn candidate(&self, of: &Judged) -> LoopCandidate {
        let PlayedLoop {
            start_frame,
            end_frame,
            crossfade_frames,
            likeness_percent,
        } = of.played;
        let (audio, mono) = (self.audio, &self.heard.samples);
        let compared = self.period.unwrap_or(UNPITCHED_PERIOD_FRAMES);
        let periods = |period: f64| (of.played.frames() as f64 / period).round() as u32;
        LoopCandidate {
            start_frame,
            end_frame,
            crossfade_frames,
            // Where the sound does not reach around both ends, nothing is alike.
            seam_db: seam_db(audio, start_frame, end_frame, compared).unwrap_or(0.0),
            drift_db: drift_db(audio, start_frame, end_frame),
            periods: self.period.map_or(0, periods),
            timbre_db: timbre_db(mono, audio.rate_hz, start_frame, end_frame),
            likeness_percent,
            audible_db: of.audible_db,
            audible_ends_db: of.ends_db,
            pumps_db: pumps_db(mono, audio.rate_hz, of.played),
            held_cents: None,
        }
        .rounded()
    }
}
