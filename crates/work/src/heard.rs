//! How loud an instrument is as it is heard: each strand, all of it, and a chord of ten keys struck hard.

use crate::to_write::OfSnapshot;
use crate::{Library, Samples, Snapshot};
use check::CEILING_DBTP;
use engine::{Event, EventKind, render_offline};
use program::{On, Program, Region, StrandId};
use serde::Serialize;
use signal::Audio;
use utoipa::ToSchema;

/// A common rate: what is measured does not depend on it.
pub(crate) const RATE_HZ: u32 = 48_000;
/// One key, struck as the layers' middle is, by common practice.
const STRIKE: u8 = 100;
const KEY_HELD_S: f64 = 1.5;
/// Ten fingers, as hard as can be.
const FINGERS: usize = 10;
const HARDEST: u8 = 127;
const CHORD_HELD_S: f64 = 2.0;
const LET_GO_S: f64 = 0.5;
/// A chord is heard for so long.
pub(crate) const CHORD_S: f64 = CHORD_HELD_S + LET_GO_S;

/// A strand by itself.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct StrandHeard {
    /// Which.
    pub strand: StrandId,
    /// K-weighted level of the loudest 400 ms of its middle key; `None` where that is silent.
    pub loudness_lufs: Option<f64>,
    /// How far that lies over the mean of all strands that sound, in dB: lowered by it, all are as loud as one another.
    pub over_others_db: f64,
}

/// What was heard, with controllers where they stand at first.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Heard {
    /// The key that loudness was measured with: the middle one of all that sound.
    pub key: Option<u8>,
    /// How hard it was struck.
    pub strike: u8,
    /// Strands that a key that goes down starts, and that are not muted.
    pub strands: Vec<StrandHeard>,
    /// All of them together.
    pub loudness_lufs: Option<f64>,
    /// The keys of the chord.
    pub chord: Vec<u8>,
    /// Its true peak, in dBTP (ITU-R BS.1770-4, Annex 2); `None` where it is silent.
    pub peak_dbtp: Option<f64>,
    /// What it stays under, in dBTP.
    pub ceiling_dbtp: f64,
}

/// Renders and measures.
///
/// # Errors
/// Those of the library.
pub fn heard(library: &dyn Library, snapshot: &Snapshot) -> anyhow::Result<Heard> {
    heard_of(&snapshot.program, &OfSnapshot { library, snapshot })
}

fn heard_of(program: &Program, samples: &impl Samples) -> anyhow::Result<Heard> {
    let key = middle_key(program);
    let (chord, score) = chord_of(program);
    let mut strands = Vec::new();
    let mut loudness_lufs = None;
    if let Some(key) = key {
        loudness_lufs = key_loudness_lufs(program, samples, key)?;
        for strand in program
            .strands
            .iter()
            .filter(|strand| is_struck(strand.on) && !strand.muted)
        {
            let mut alone = program.clone();
            for other in alone.strands.iter_mut().filter(|other| other.id != strand.id) {
                other.muted = true;
            }
            strands.push((strand.id, key_loudness_lufs(&alone, samples, key)?));
        }
    }
    let peak_dbtp = if chord.is_empty() {
        None
    } else {
        signal::true_peak_dbtp(&rendered(program, samples, &score, CHORD_S)?)
    };
    Ok(Heard {
        key,
        strike: STRIKE,
        strands: beside_others(&strands),
        loudness_lufs,
        chord,
        peak_dbtp,
        ceiling_dbtp: CEILING_DBTP,
    })
}

/// The middle one of all keys that sound.
pub(crate) fn middle_key(program: &Program) -> Option<u8> {
    let keys = sounding_keys(program);
    keys.get(keys.len() / 2).copied()
}

/// K-weighted level of the loudest 400 ms of a key, as it is struck to compare (ITU-R BS.1770-4); `None` for silence.
pub(crate) fn key_loudness_lufs(
    program: &Program,
    samples: &impl Samples,
    key: u8,
) -> anyhow::Result<Option<f64>> {
    let score = [press(0.0, key, STRIKE), lift(KEY_HELD_S, key)];
    let sound = rendered(program, samples, &score, KEY_HELD_S + LET_GO_S)?;
    Ok(signal::loudness_lufs(&sound))
}

/// Ten keys, and how they are struck hard and let go.
pub(crate) fn chord_of(program: &Program) -> (Vec<u8>, Vec<Event>) {
    let chord = spread(&sounding_keys(program));
    let down = chord.iter().map(|key| press(0.0, *key, HARDEST));
    let up = chord.iter().map(|key| lift(CHORD_HELD_S, *key));
    let score = down.chain(up).collect();
    (chord, score)
}

/// With how far each lies over the mean of those that sound.
fn beside_others(strands: &[(StrandId, Option<f64>)]) -> Vec<StrandHeard> {
    let known: Vec<f64> = strands.iter().filter_map(|(_, lufs)| *lufs).collect();
    let mean = known.iter().sum::<f64>() / known.len().max(1) as f64;
    (strands.iter())
        .map(|&(strand, loudness_lufs)| StrandHeard {
            strand,
            loudness_lufs,
            over_others_db: loudness_lufs.map_or(0.0, |lufs| lufs - mean),
        })
        .collect()
}

fn is_struck(on: On) -> bool {
    matches!(on, On::KeyDown(_))
}

pub(crate) fn sounds_on(program: &Program, region: &Region, key: u8) -> bool {
    let strand = program.strand_of(region);
    let by_strand = strand.is_some_and(|strand| strand.when.keys.contains(key) && !strand.muted);
    by_strand && region.when.keys.contains(key)
}

/// Keys that sound as they go down, from the lowest.
pub fn sounding_keys(program: &Program) -> Vec<u8> {
    let struck = |region: &&Region| {
        program
            .strand_of(region)
            .is_some_and(|strand| is_struck(strand.on))
    };
    let regions: Vec<&Region> = program.regions.iter().filter(struck).collect();
    let sounds = |key: &u8| regions.iter().any(|region| sounds_on(program, region, *key));
    (0..=127).filter(sounds).collect()
}

/// Ten of them, in two hands around the middle: at most three octaves, evenly.
fn spread(keys: &[u8]) -> Vec<u8> {
    const REACH: usize = 36;
    let from = keys.len().saturating_sub(REACH) / 2;
    let hands = &keys[from..(from + REACH).min(keys.len())];
    let count = FINGERS.min(hands.len());
    (0..count)
        .map(|n| hands[n * (hands.len() - 1) / (count - 1).max(1)])
        .collect()
}

fn at(seconds: f64, kind: EventKind) -> Event {
    let frame = (seconds * f64::from(RATE_HZ)) as usize;
    Event { frame, kind }
}

fn press(seconds: f64, key: u8, velocity: u8) -> Event {
    at(seconds, EventKind::NoteOn { key, velocity })
}

fn lift(seconds: f64, key: u8) -> Event {
    at(seconds, EventKind::NoteOff { key })
}

/// The audio of each sample that some keys may start, struck so; nothing for the others.
pub(crate) fn audio_for(
    program: &Program,
    samples: &impl Samples,
    strikes: &[(u8, u8)],
) -> anyhow::Result<Vec<Vec<Vec<f32>>>> {
    let mut audio = vec![Vec::new(); program.samples.len()];
    for region in &program.regions {
        let is_heard = (strikes.iter())
            .any(|(key, strike)| region.when.strikes.contains(*strike) && sounds_on(program, region, *key));
        if is_heard && audio[region.sample].is_empty() {
            audio[region.sample] = samples.audio(&program.samples[region.sample])?.channels;
        }
    }
    Ok(audio)
}

/// With the audio of what the score may start, and of nothing else.
pub(crate) fn rendered(
    program: &Program,
    samples: &impl Samples,
    score: &[Event],
    seconds: f64,
) -> anyhow::Result<Audio> {
    let strikes = score.iter().filter_map(|event| match event.kind {
        EventKind::NoteOn { key, velocity } => Some((key, velocity)),
        _ => None,
    });
    let audio = audio_for(program, samples, &strikes.collect::<Vec<_>>())?;
    let frames = (seconds * f64::from(RATE_HZ)) as usize;
    let (left, right) = render_offline(program, audio, f64::from(RATE_HZ), score, frames);
    Ok(Audio {
        rate_hz: RATE_HZ,
        channels: vec![left, right],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{Sample, SampleId};

    /// A sine of 997 Hz at −20 dBFS, two seconds of it, on one side.
    struct Tone;

    impl Samples for Tone {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            let turn = 997.0 * std::f64::consts::TAU / f64::from(RATE_HZ);
            let tone = |n: u64| ((n as f64 * turn).sin() * 0.1) as f32;
            Ok(Audio::mono(RATE_HZ, (0..sample.frames).map(tone).collect()))
        }
    }

    fn tones(keys: std::ops::RangeInclusive<u8>) -> Program {
        let sample = Sample {
            id: SampleId(0),
            name: "tone".into(),
            source: "0".into(),
            rate_hz: RATE_HZ,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 96_000,
        };
        let region = Region {
            key_follow: 0.0,
            ..Region::whole(0, 60, 96_000).on_keys(*keys.start(), *keys.end())
        };
        let mut program = Program::plain("tones", vec![sample], vec![region]);
        program.shapes[0].loudness.velocity_to_level = 0.0;
        program
    }

    /// EBU Tech 3341 counts a sine of 1 kHz on both sides at −23 dBFS as −23 LUFS; a mono sound is 3 dB lower a side. Ten in phase are 20 dB more.
    #[test]
    fn one_key_and_ten_are_as_loud_as_the_standard_says() {
        let heard = heard_of(&tones(40..=80), &Tone).unwrap();
        assert_eq!((heard.key, heard.chord.len()), (Some(60), 10));
        let lufs = heard.loudness_lufs.unwrap();
        assert!((lufs + 23.0).abs() < 0.1, "{lufs}");
        assert_eq!(heard.strands.len(), 1);
        assert!((heard.strands[0].loudness_lufs.unwrap() - lufs).abs() < 1e-9);
        // −20 dBFS of peak, −3 dB a side, ten of them.
        let peak = heard.peak_dbtp.unwrap();
        assert!((peak + 3.0).abs() < 0.1, "{peak}");
    }

    #[test]
    fn strands_are_heard_alone_and_muted_ones_not_at_all() {
        let mut program = tones(60..=62);
        let mut soft = program.strands[0].clone();
        (soft.id, soft.gain_db) = (StrandId(7), -6.0);
        let mut muted = soft.clone();
        (muted.id, muted.muted) = (StrandId(8), true);
        for strand in [soft, muted] {
            let mut region = program.regions[0].clone();
            region.key.strand = strand.id;
            program.regions.push(region);
            program.strands.push(strand);
        }
        let heard = heard_of(&program, &Tone).unwrap();
        let loudness: Vec<f64> = heard
            .strands
            .iter()
            .map(|one| one.loudness_lufs.unwrap())
            .collect();
        assert_eq!((loudness.len(), heard.chord.len()), (2, 3));
        assert!((loudness[0] - loudness[1] - 6.0).abs() < 0.01, "{loudness:?}");
        let over: Vec<f64> = heard.strands.iter().map(|one| one.over_others_db).collect();
        assert!(
            (over[0] - 3.0).abs() < 0.01 && (over[1] + 3.0).abs() < 0.01,
            "{over:?}"
        );
        // In phase: 1 + 0.501.
        assert!((heard.loudness_lufs.unwrap() - loudness[0] - 3.53).abs() < 0.05);
    }

    #[test]
    fn what_is_silent_has_no_level() {
        let heard = heard_of(&Program::default(), &Tone).unwrap();
        assert_eq!(
            (heard.key, heard.loudness_lufs, heard.peak_dbtp),
            (None, None, None)
        );
    }
}
