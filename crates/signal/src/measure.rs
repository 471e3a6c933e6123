//! All that is measured of a take, in one pass.

use crate::beats::beats;
use crate::energy::Energy;
use crate::falling::falls_silent_ms;
use crate::loops::{LIVELY_S, dies_away_of, rounded};
use crate::pitch::{longest_frames, pitch_held};
use crate::{
    Audio, Beats, LoopCandidate, LoopLengths, Pitch, PlayedLoop, balance_db, clipped_frames, correlation,
    find_loops, find_pitch, find_pitches, loudness_lufs_of, peak_dbfs, sound_bounds,
};
use serde::{Deserialize, Serialize};

/// Counts up whenever an algorithm here gives other results: suggestions are pinned to it.
pub const MEASURE_VERSION: u32 = 9;

/// The facts of one take. Frames count from the take's first.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Measurement {
    /// By which version of what is measured here, see [`MEASURE_VERSION`].
    #[serde(default = "before_versions")]
    pub version: u32,
    /// First frame of the sound; 0 for silence.
    pub start_frame: usize,
    /// First frame after the sound; the take's length for silence.
    pub end_frame: usize,
    /// How sure the start is, see [`crate::Bounds`].
    #[serde(default)]
    pub start_sure: Option<f64>,
    /// How sure the end is.
    #[serde(default)]
    pub end_sure: Option<f64>,
    /// Whether another sound stands before the start, and is left out.
    #[serde(default)]
    pub sound_before: bool,
    /// `None` where there is no one pitch.
    pub pitch: Option<Pitch>,
    /// Other notes that explain the sound nearly as well, best first.
    #[serde(default)]
    pub pitches_beside: Vec<Pitch>,
    /// Highest sample; `None` for silence.
    pub peak_dbfs: Option<f64>,
    /// See [`crate::loudness_lufs`], of the trimmed take.
    pub loudness_lufs: Option<f64>,
    /// See [`crate::Bounds`].
    pub noise_floor_dbfs: Option<f64>,
    /// See [`clipped_frames`].
    pub clipped_frames: u64,
    /// Left over right; `None` in mono.
    pub balance_db: Option<f64>,
    /// Likeness of left and right; `None` in mono.
    pub correlation: Option<f64>,
    /// Whether it dies away by itself, as what is struck or plucked does.
    #[serde(default)]
    pub dies_away: bool,
    /// How its level beats while it is held; `None` where it does not, or not often enough to tell.
    #[serde(default)]
    pub beats: Option<Beats>,
    /// Milliseconds for 100 dB by which it falls once it is let go; `None` where that is not heard.
    #[serde(default)]
    pub falls_silent_ms: Option<f64>,
    /// Places to loop, best first, of what dies away too: whether it is to be looped is for its kind to say. Empty where it is too short.
    pub loops: Vec<LoopCandidate>,
}

impl Measurement {
    /// Of so many frames that nobody has listened to: all of them sound, and nothing else is known.
    pub fn unheard(frames: usize) -> Self {
        Self {
            version: 0,
            start_frame: 0,
            end_frame: frames,
            start_sure: None,
            end_sure: None,
            sound_before: false,
            pitch: None,
            pitches_beside: Vec::new(),
            peak_dbfs: None,
            loudness_lufs: None,
            noise_floor_dbfs: None,
            clipped_frames: 0,
            balance_db: None,
            correlation: None,
            dies_away: false,
            beats: None,
            falls_silent_ms: None,
            loops: Vec::new(),
        }
    }
}

/// Measurements did not say their version up to this one.
fn before_versions() -> u32 {
    5
}

/// How loud a take is, and how its sides compare.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Levels {
    /// Highest sample; `None` for silence.
    pub peak_dbfs: Option<f64>,
    /// See [`crate::loudness_lufs`], of the sound.
    pub loudness_lufs: Option<f64>,
    /// Left over right; `None` in mono.
    pub balance_db: Option<f64>,
    /// Likeness of left and right; `None` in mono.
    pub correlation: Option<f64>,
}

impl Levels {
    /// Of a take whose sound is in frames `start..end`.
    pub fn of(audio: &Audio, start: usize, end: usize) -> Self {
        Self {
            peak_dbfs: Some(peak_dbfs(audio)).filter(|db| db.is_finite()),
            loudness_lufs: loudness_lufs_of(audio, start, end),
            balance_db: balance_db(audio),
            correlation: correlation(audio),
        }
    }
}

/// More than a pitch is looked for in, see [`find_pitches`].
const PITCH_S: usize = 30;

/// Measures a take. Samples that are no numbers count as silence.
pub fn measure(audio: &Audio) -> Measurement {
    let cleaned;
    let audio = if audio.channels.iter().flatten().all(|x| x.is_finite()) {
        audio
    } else {
        let mut copy = audio.clone();
        copy.channels
            .iter_mut()
            .flatten()
            .filter(|x| !x.is_finite())
            .for_each(|x| *x = 0.0);
        cleaned = copy;
        &cleaned
    };
    let bounds = sound_bounds(audio);
    let (start, end) = bounds.map_or((0, audio.frames()), |b| (b.start_frame, b.end_frame));
    // Only its first seconds tell the pitch.
    let mut pitches = bounds.map_or_else(Vec::new, |_| {
        let heard = audio.slice(start, end.min(start + PITCH_S * audio.rate_hz as usize));
        find_pitches(&heard.to_mono(), audio.rate_hz, 0, heard.frames())
    });
    let pitches_beside = pitches.split_off(pitches.len().min(1));
    let pitch = pitches.pop();
    let loops = bounds.map_or_else(Vec::new, |_| {
        let period_frames = pitch.map(|pitch| f64::from(audio.rate_hz) / pitch.hz);
        find_loops(audio, start, end, period_frames, LoopLengths::default())
    });
    let loops = match pitch {
        Some(pitch) => heard_while_held(audio, loops, pitch.hz),
        None => loops,
    };
    let levels = Levels::of(audio, start, end);
    let energy = bounds.map(|_| Energy::of(audio));
    Measurement {
        version: MEASURE_VERSION,
        start_frame: start,
        end_frame: end,
        start_sure: bounds.map(|b| b.start_sure),
        end_sure: bounds.map(|b| b.end_sure),
        sound_before: bounds.is_some_and(|b| b.sound_before),
        pitch,
        pitches_beside,
        peak_dbfs: levels.peak_dbfs,
        loudness_lufs: levels.loudness_lufs,
        noise_floor_dbfs: bounds.and_then(|b| b.noise_floor_dbfs),
        clipped_frames: clipped_frames(audio),
        balance_db: levels.balance_db,
        correlation: levels.correlation,
        dies_away: energy
            .as_ref()
            .is_some_and(|energy| dies_away_of(energy, audio.rate_hz, start, end)),
        beats: energy
            .as_ref()
            .and_then(|energy| beats(energy, audio.rate_hz, start, end)),
        falls_silent_ms: energy
            .as_ref()
            .and_then(|energy| falls_silent_ms(energy, audio.rate_hz, start, end)),
        loops,
    }
}

/// Listens to the pitch of those that may be taken by themselves: the first, and the first that is lively.
fn heard_while_held(audio: &Audio, mut loops: Vec<LoopCandidate>, hz: f64) -> Vec<LoopCandidate> {
    let rate_hz = audio.rate_hz;
    let lively = |of: &LoopCandidate| (of.end_frame - of.start_frame) as f64 >= LIVELY_S * f64::from(rate_hz);
    let lively = loops.iter().position(lively);
    for at in [Some(0), lively.filter(|at| *at != 0)].into_iter().flatten() {
        if let Some(place) = loops.get_mut(at) {
            place.held_cents = held_cents(audio, place.played(), hz).map(rounded);
        }
    }
    loops
}

/// How far the pitch that is heard while a loop goes round lies above `hz`, in cents; `None` where none is heard.
pub fn held_cents(audio: &Audio, played: PlayedLoop, hz: f64) -> Option<f64> {
    if played.end_frame > audio.frames() {
        return None;
    }
    // Of a long take no more than the loop and what is faded into its end.
    let first = played.start_frame.saturating_sub(played.crossfade_frames);
    let part = audio.slice(first, played.end_frame).to_mono();
    let played = PlayedLoop {
        start_frame: played.start_frame - first,
        end_frame: played.end_frame - first,
        ..played
    };
    let held = played.held(&part, longest_frames(audio.rate_hz))?;
    let heard = pitch_held(&held, audio.rate_hz, hz)?;
    Some(1200.0 * (heard / hz).log2())
}

impl Measurement {
    /// Its levels, as recorded.
    pub fn levels(&self) -> Levels {
        Levels {
            peak_dbfs: self.peak_dbfs,
            loudness_lufs: self.loudness_lufs,
            balance_db: self.balance_db,
            correlation: self.correlation,
        }
    }

    /// The same, heard with a plan in mind: where another note than the planned one was found, and the planned one (within `within_cents`)
    /// explains the sound nearly as well, that is its pitch; and so it is where it lies an octave over what was found: every partial of it is there, as
    /// where the lowest rank of an organ stands an octave down. A planned note that the sound does not bear out changes nothing.
    pub fn hinted(mut self, key: u8, within_cents: f64) -> Self {
        let agrees = |pitch: &Pitch| {
            ((f64::from(pitch.key) - f64::from(key)) * 100.0 + pitch.cents).abs() <= within_cents
        };
        if let Some(found) = self.pitch.filter(|pitch| !agrees(pitch)) {
            let over = Pitch {
                hz: found.hz * 2.0,
                key: found.key.saturating_add(12).min(127),
                ..found
            };
            if agrees(&over) {
                self.pitch = Some(over);
                self.pitches_beside.insert(0, found);
            }
        }
        if let Some(pitch) = self.pitch.filter(|pitch| !agrees(pitch))
            && let Some(at) = self.pitches_beside.iter().position(agrees)
        {
            self.pitch = Some(std::mem::replace(&mut self.pitches_beside[at], pitch));
        }
        self
    }
}

/// Only the pitch of the sound in a take.
pub fn measure_pitch(audio: &Audio) -> Option<Pitch> {
    let bounds = sound_bounds(audio)?;
    find_pitch(
        &audio.to_mono(),
        audio.rate_hz,
        bounds.start_frame,
        bounds.end_frame,
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_is_believed_only_where_the_sound_bears_it_out() {
        let pitch = |key, confidence| Pitch {
            hz: crate::hz_of_key(f64::from(key)),
            key,
            cents: 0.0,
            confidence,
        };
        let heard = Measurement {
            pitch: Some(pitch(69, 0.8)),
            pitches_beside: vec![pitch(57, 0.7)],
            ..measure(&Audio::mono(48_000, Vec::new()))
        };
        let key_of = |planned| heard.clone().hinted(planned, 60.0).pitch.map(|p| p.key);
        assert_eq!(
            [key_of(57), key_of(69), key_of(60)],
            [Some(57), Some(69), Some(69)]
        );
        // All partials of the octave above are in the sound: an organ's lowest rank may be what was heard.
        let octave = heard.clone().hinted(81, 60.0);
        assert_eq!(octave.pitch.map(|p| (p.key, p.confidence)), Some((81, 0.8)));
        assert_eq!(octave.pitches_beside[0], pitch(69, 0.8));
        assert_eq!(heard.clone().hinted(57, 60.0).pitches_beside, [pitch(69, 0.8)]);
    }

    #[test]
    fn empty_silent_and_broken_audio_is_measured_without_harm() {
        for audio in [
            Audio::mono(48_000, Vec::new()),
            Audio {
                rate_hz: 48_000,
                channels: Vec::new(),
            },
            Audio::mono(48_000, vec![0.0; 10]),
            Audio::mono(48_000, vec![f32::NAN; 4_800]),
            Audio::mono(48_000, vec![1.0; 4_800]),
            Audio::mono(8_000, vec![0.5; 3]),
        ] {
            let facts = measure(&audio);
            assert!(facts.end_frame <= audio.frames());
            assert!(facts.pitch.is_none());
        }
    }
}
