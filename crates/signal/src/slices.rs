//! Where a long recording is to be cut.

use crate::Envelope;
use serde::{Deserialize, Serialize};

/// Cutting where it is silent.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SilenceSettings {
    /// What is so far over the noise floor is sound.
    pub over_floor_db: f64,
    /// Shorter sounds are passed over.
    pub shortest_ms: f64,
    /// A silence shorter than this does not end a sound.
    pub shortest_silence_ms: f64,
    /// Kept before each sound.
    pub room_before_ms: f64,
    /// Kept after each sound.
    pub room_after_ms: f64,
}

impl Default for SilenceSettings {
    fn default() -> Self {
        // 0.1 s before the sound is common practice.
        Self {
            over_floor_db: 10.0,
            shortest_ms: 150.0,
            shortest_silence_ms: 250.0,
            room_before_ms: 100.0,
            room_after_ms: 100.0,
        }
    }
}

/// Cutting by the clock.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GridSettings {
    /// Where the first sound is.
    pub first_ms: f64,
    /// From one to the next.
    pub spacing_ms: f64,
    /// Sounds come so long after their place on the grid.
    pub lag_ms: f64,
    /// Kept before each.
    pub room_before_ms: f64,
}

/// A stretch that was found. Frames count from the start of what was looked at.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FoundSlice {
    /// First frame, room included.
    pub first_frame: u64,
    /// First frame after, room included.
    pub end_frame: u64,
    /// Loudest level in it.
    pub peak_dbfs: f64,
    /// It begins in the tail of the one before.
    pub in_tail: bool,
    /// Too quiet or too short beside the others to be a note: a breath, a false start.
    pub doubtful: bool,
}

/// A new sound inside the tail of another rises by this over the lowest it had sunk to, within [`RISE_MS`].
const RISE_DB: f64 = 10.0;
const RISE_MS: f64 = 80.0;
/// A tail has to have gone on for so long before a new sound in it counts.
const SETTLED_MS: f64 = 300.0;
/// What is so far under the median of all peaks, or so much shorter than the median length, is doubtful.
const DOUBTFUL_DB: f64 = 26.0;
const DOUBTFUL_SHARE: f64 = 0.25;
/// The level must sink so far under the threshold before a sound is over, so that a beating tail does not end early.
const HYSTERESIS_DB: f64 = 4.0;

struct Sound {
    first: usize,
    end: usize,
    in_tail: bool,
}

/// Cuts where it is silent: a sound begins where the level passes the floor by `over_floor_db`, and ends where it has stayed under that
/// (less a hysteresis of 4 dB) for `shortest_silence_ms`. A sudden rise inside a sound begins the next, marked `in_tail`.
pub fn slice_by_silence(envelope: &Envelope, floor_dbfs: f64, settings: &SilenceSettings) -> Vec<FoundSlice> {
    let steps = |ms: f64| (ms / crate::envelope::ENVELOPE_STEP_MS).round().clamp(0.0, 1e12) as usize;
    let db: Vec<f64> = (0..envelope.levels.len()).map(|n| envelope.db(n)).collect();
    let over = floor_dbfs + settings.over_floor_db;
    let under = over - HYSTERESIS_DB.min(settings.over_floor_db / 2.0);
    let silence = steps(settings.shortest_silence_ms).max(1);
    let mut sounds: Vec<Sound> = Vec::new();
    let (mut open, mut quiet): (Option<Sound>, usize) = (None, 0);
    let mut lowest = f64::INFINITY;
    for n in 0..db.len() {
        let Some(sound) = &mut open else {
            if db[n] > over {
                open = Some(Sound {
                    first: n,
                    end: n + 1,
                    in_tail: false,
                });
                (quiet, lowest) = (0, f64::INFINITY);
            }
            continue;
        };
        if db[n] > under {
            sound.end = n + 1;
            quiet = 0;
        } else {
            quiet += 1;
        }
        // Only after the sound has settled: an attack rises by itself.
        if n >= sound.first + steps(SETTLED_MS) {
            let before = db[n.saturating_sub(steps(RISE_MS))..n]
                .iter()
                .copied()
                .fold(f64::INFINITY, f64::min);
            lowest = lowest.min(before);
            if db[n] > over && db[n] > before + RISE_DB && before <= lowest + 3.0 {
                let onset = (n.saturating_sub(steps(RISE_MS))..n)
                    .rev()
                    .find(|&at| db[at] <= before + 2.0)
                    .unwrap_or(n);
                sound.end = onset;
                let ended = open.replace(Sound {
                    first: onset,
                    end: n + 1,
                    in_tail: true,
                });
                sounds.extend(ended);
                (quiet, lowest) = (0, f64::INFINITY);
                continue;
            }
        }
        if quiet >= silence {
            sounds.extend(open.take());
        }
    }
    sounds.extend(open);
    let length = db.len();
    sounds.retain(|sound| sound.end - sound.first >= steps(settings.shortest_ms).max(1));
    let (before, after) = (steps(settings.room_before_ms), steps(settings.room_after_ms));
    let mut found: Vec<FoundSlice> = Vec::with_capacity(sounds.len());
    for n in 0..sounds.len() {
        let sound = &sounds[n];
        let earlier = n.checked_sub(1).map_or(0, |n| sounds[n].end);
        let later = sounds.get(n + 1).map_or(length, |next| next.first);
        // Room that two sounds want is shared: what is before a sound counts more than what is after one.
        let first = sound.first.saturating_sub(before).max(earlier);
        let next_first = sounds
            .get(n + 1)
            .map_or(length, |next| next.first.saturating_sub(before).max(sound.end));
        let end = (sound.end + after).min(later).min(next_first);
        found.push(FoundSlice {
            first_frame: (first * envelope.step_frames) as u64,
            end_frame: (end * envelope.step_frames) as u64,
            peak_dbfs: db[sound.first..sound.end].iter().copied().fold(-120.0, f64::max),
            in_tail: sound.in_tail,
            doubtful: false,
        });
    }
    doubt(&mut found);
    found
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(0.0)
}

fn doubt(found: &mut [FoundSlice]) {
    if found.len() < 4 {
        return;
    }
    let level = median(found.iter().map(|slice| slice.peak_dbfs).collect());
    let length = |slice: &FoundSlice| (slice.end_frame - slice.first_frame) as f64;
    let usual = median(found.iter().map(length).collect());
    for slice in found {
        slice.doubtful = slice.peak_dbfs < level - DOUBTFUL_DB || length(slice) < usual * DOUBTFUL_SHARE;
    }
}

/// Cuts by the clock: one slice a place of the grid, as long as the recording lasts.
pub fn slice_by_grid(envelope: &Envelope, rate_hz: u32, settings: &GridSettings) -> Vec<FoundSlice> {
    let total = (envelope.levels.len() * envelope.step_frames) as f64;
    let frames = |ms: f64| ms * f64::from(rate_hz) / 1000.0;
    let spacing = frames(settings.spacing_ms);
    let first = frames(settings.first_ms + settings.lag_ms - settings.room_before_ms);
    if !(spacing >= 1.0 && spacing.is_finite() && first.is_finite()) {
        return Vec::new();
    }
    // What lies before the recording is passed over at once.
    let first = first + spacing * (-first / spacing - 1.0).floor().max(0.0);
    let mut found = Vec::new();
    let mut at = first;
    while at < total && found.len() < 100_000 {
        let (from, to) = (at.max(0.0), (at + spacing).min(total));
        if to - from > spacing * 0.1 {
            let steps = (from as usize / envelope.step_frames)
                ..(to as usize / envelope.step_frames).min(envelope.levels.len());
            found.push(FoundSlice {
                first_frame: from as u64,
                end_frame: to as u64,
                peak_dbfs: steps.map(|n| envelope.db(n)).fold(-120.0, f64::max),
                in_tail: false,
                doubtful: false,
            });
        }
        at += spacing;
    }
    found
}

/// A stretch of a phrase that would hold as a note.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SteadyStretch {
    /// First frame, from the start of what was looked at.
    pub first_frame: u64,
    /// First frame after.
    pub end_frame: u64,
    /// Its key.
    pub key: u8,
    /// How far above that key.
    pub cents: f64,
    /// How well it would loop: the best seam found in it, or `None` where none was.
    pub seam_db: Option<f64>,
}

/// Pitch is looked for in windows of this length, half overlapping.
const WINDOW_MS: f64 = 85.0;
/// Inside a note the pitch strays no further than this from window to window, nor the level.
const STRAY_CENTS: f64 = 45.0;
const STRAY_DB: f64 = 5.0;
const SHORTEST_NOTE_MS: f64 = 250.0;

/// Stretches of steady pitch and level in a phrase without silences, best to loop first; at most 40.
pub fn steady_stretches(mono: &[f32], rate_hz: u32) -> Vec<SteadyStretch> {
    let window = (crate::frames_of_ms(rate_hz, WINDOW_MS) & !63).max(1_024);
    let hop = window / 2;
    let heard: Vec<Option<(f64, f64)>> = (0..mono.len().saturating_sub(window) / hop + 1)
        .map(|n| {
            let part = mono.get(n * hop..n * hop + window)?;
            let power: f64 = part.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
            let level = crate::amplitude_to_db((power / window as f64).sqrt());
            let pitch = crate::pitch::pitch_of_window(part, rate_hz)?;
            Some((pitch, level))
        })
        .collect();
    let mut found = Vec::new();
    let mut from = 0;
    while from < heard.len() {
        let Some((hz, level)) = heard[from] else {
            from += 1;
            continue;
        };
        let (mut pitches, mut last_level, mut to) = (vec![hz], level, from + 1);
        while let Some(Some((hz, level))) = heard.get(to) {
            let middle = median(pitches.clone());
            if (1200.0 * (hz / middle).log2()).abs() > STRAY_CENTS || (level - last_level).abs() > STRAY_DB {
                break;
            }
            pitches.push(*hz);
            last_level = *level;
            to += 1;
        }
        let (first, end) = (from * hop, (to - 1) * hop + window);
        if end - first >= crate::frames_of_ms(rate_hz, SHORTEST_NOTE_MS)
            && let Some((key, cents)) = crate::key_and_cents(median(pitches.clone()))
        {
            let audio = crate::Audio::mono(rate_hz, mono[first..end.min(mono.len())].to_vec());
            let period = f64::from(rate_hz) / median(pitches);
            let seam =
                crate::find_steady_loops(&audio, 0, audio.frames(), period, crate::LoopLengths::default())
                    .first()
                    .map(|found| found.seam_db);
            found.push(SteadyStretch {
                first_frame: first as u64,
                end_frame: end.min(mono.len()) as u64,
                key,
                cents,
                seam_db: seam,
            });
        }
        from = to;
    }
    // A good seam counts; among equals the longer one.
    let worth = |s: &SteadyStretch| {
        s.seam_db.unwrap_or(0.0) - (s.end_frame - s.first_frame) as f64 / f64::from(rate_hz) * 4.0
    };
    found.sort_by(|a, b| worth(a).total_cmp(&worth(b)));
    found.truncate(40);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::EnvelopeMaker;
    use rand::{Rng, SeedableRng};
    use std::f64::consts::TAU;

    fn envelope(samples: &[f32]) -> Envelope {
        let mut maker = EnvelopeMaker::new(48_000, 1);
        maker.push(samples);
        maker.finish()
    }

    /// Dying tones at the given seconds over a floor of −70 dB.
    fn strikes(at: &[f64], seconds: f64, fall: f64) -> Vec<f32> {
        let mut random = rand_pcg::Pcg64::seed_from_u64(2);
        (0..(seconds * 48_000.0) as usize)
            .map(|n| {
                let t = n as f64 / 48_000.0;
                let tone: f64 = at
                    .iter()
                    .filter(|&&on| t >= on)
                    .map(|on| 0.4 * (-(t - on) * fall).exp() * ((t - on) * TAU * 440.0).sin())
                    .sum();
                (tone + random.random_range(-5.5e-4..5.5e-4)) as f32
            })
            .collect()
    }

    #[test]
    fn sounds_are_cut_with_room_and_to_the_step() {
        let at = [0.5, 3.0, 5.25];
        let envelope = envelope(&strikes(&at, 8.0, 5.0));
        let settings = SilenceSettings::default();
        let found = slice_by_silence(&envelope, envelope.floor_dbfs(), &settings);
        assert_eq!(found.len(), 3);
        for (slice, on) in found.iter().zip(at) {
            let start = slice.first_frame as f64 / 48.0 + settings.room_before_ms;
            assert!((start - on * 1000.0).abs() <= 10.0, "{start} for {on}");
            assert!(!slice.in_tail && !slice.doubtful);
        }
    }

    #[test]
    fn a_sound_in_the_tail_of_another_is_cut_off_and_marked() {
        let envelope = envelope(&strikes(&[0.5, 1.9], 5.0, 2.5));
        let found = slice_by_silence(&envelope, envelope.floor_dbfs(), &SilenceSettings::default());
        let marked: Vec<bool> = found.iter().map(|slice| slice.in_tail).collect();
        assert_eq!(marked, [false, true], "{found:?}");
        assert!(found[0].end_frame <= found[1].first_frame);
        assert!((found[1].first_frame as f64 / 48_000.0 - 1.9).abs() < 0.12);
    }

    #[test]
    fn a_grid_is_cut_by_the_clock() {
        let envelope = envelope(&vec![0.1; 48_000 * 10]);
        let settings = GridSettings {
            first_ms: 1_000.0,
            spacing_ms: 2_000.0,
            lag_ms: 30.0,
            room_before_ms: 100.0,
        };
        let found = slice_by_grid(&envelope, 48_000, &settings);
        assert_eq!(found.len(), 5);
        assert_eq!(found[2].first_frame, 48 * (1_000 + 4_000 + 30 - 100));
        assert!(
            slice_by_grid(
                &envelope,
                48_000,
                &GridSettings {
                    spacing_ms: 0.0,
                    ..settings
                }
            )
            .is_empty()
        );
    }

    #[test]
    fn notes_are_found_in_a_phrase_without_silences() {
        let keys = [60u8, 64, 67, 65];
        let mut phase = 0.0f64;
        let phrase: Vec<f32> = (0..4 * 36_000)
            .map(|n| {
                phase += crate::hz_of_key(f64::from(keys[n / 36_000])) / 48_000.0;
                (1..=6)
                    .map(|k| (TAU * phase * f64::from(k)).sin() / f64::from(k))
                    .sum::<f64>() as f32
                    * 0.2
            })
            .collect();
        let mut found = steady_stretches(&phrase, 48_000);
        found.sort_by_key(|stretch| stretch.first_frame);
        let heard: Vec<u8> = found.iter().map(|stretch| stretch.key).collect();
        assert_eq!(heard, keys);
        for (n, stretch) in found.iter().enumerate() {
            assert!(stretch.cents.abs() < 5.0);
            assert!(stretch.first_frame.abs_diff(n as u64 * 36_000) < 5_000);
            assert!(stretch.seam_db.is_some_and(|db| db < -25.0), "{stretch:?}");
        }
    }
}
