//! A MIDI file played through an instrument, as fast as it can be computed.

use crate::{Samples, refusal};
use engine::Engine;
use formats::Phrase;
use program::Program;
use signal::Audio;
use std::collections::BTreeSet;
use std::time::{Duration, Instant};

/// What a rendering came to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Figures {
    /// Most voices at once.
    pub voices: usize,
    /// Length of what was rendered, in seconds.
    pub seconds: f64,
    /// How many times faster than it is heard.
    pub times_real_time: f64,
}

/// Frames that are rendered at once, as in a browser.
const BLOCK: usize = 128;
/// What still sounds then after the last event is cut.
const LONGEST_TAIL_S: f64 = 30.0;
/// Softer is silence: 100 dB down.
const SILENT: f32 = 1e-5;
/// Room that a sample needs in the engine beside its frames, and all of them for their seams.
const SLACK: usize = 2;

/// Plays a phrase at a rate in Hz with at most so many voices.
///
/// # Errors
/// Where audio cannot be read, or nothing is played.
pub fn play(
    program: &Program,
    samples: &impl Samples,
    phrase: &Phrase,
    rate_hz: u32,
    voices: usize,
) -> anyhow::Result<(Audio, Figures)> {
    let keys: BTreeSet<u8> = (phrase.events.iter())
        .filter(|event| event.bytes[0] & 0xF0 == 0x90 && event.bytes[2] > 0)
        .map(|event| event.bytes[1])
        .collect();
    let sounds = |region: &program::Region| {
        let by_key = keys.iter().any(|key| region.when.keys.contains(*key));
        let by_pedal =
            (program.strand_of(region)).is_some_and(|strand| matches!(strand.on, program::On::Enters(_)));
        by_key || by_pedal
    };
    let needed: BTreeSet<usize> = (program.regions.iter())
        .filter(|region| sounds(region))
        .map(|region| region.sample)
        .collect();
    if needed.is_empty() {
        return Err(refusal(
            "Nothing of this instrument lies on the keys that are played.",
        ));
    }
    let bytes: usize = (needed.iter())
        .filter_map(|index| program.samples.get(*index))
        .map(|sample| (sample.frames as usize + 65_536) * usize::from(sample.channels) * 4)
        .sum();
    let mut engine = Engine::with_budget(f64::from(rate_hz), voices, bytes * SLACK);
    engine.load(program.clone());
    for index in needed {
        let sample = &program.samples[index];
        engine.set_audio(sample.id, &samples.audio(sample)?.channels);
    }
    let began = Instant::now();
    let (audio, most) = rendered(&mut engine, phrase, rate_hz);
    let took = began.elapsed().max(Duration::from_micros(1));
    let seconds = audio.frames() as f64 / f64::from(rate_hz);
    let figures = Figures {
        voices: most,
        seconds,
        times_real_time: seconds / took.as_secs_f64(),
    };
    Ok((audio, figures))
}

/// What is heard, and how many voices that took at most.
fn rendered(engine: &mut Engine, phrase: &Phrase, rate_hz: u32) -> (Audio, usize) {
    let frame_of = |ms: f64| (ms / 1000.0 * f64::from(rate_hz)).round() as usize;
    let last = phrase.events.last().map_or(0, |event| frame_of(event.at_ms));
    let end = frame_of(phrase.length_ms).max(last);
    let latest = end + (LONGEST_TAIL_S * f64::from(rate_hz)) as usize;
    let mut events = phrase.events.iter().peekable();
    let (mut left, mut right) = (Vec::new(), Vec::new());
    let mut most = 0;
    let mut at = 0;
    // Effects are heard after the last voice.
    let mut sounds = false;
    while at < end || (at < latest && (sounds || engine.active_voices() > 0)) {
        while let Some(event) = events.next_if(|event| frame_of(event.at_ms) < at + BLOCK) {
            engine.midi(event.bytes);
        }
        let (mut l, mut r) = ([0.0; BLOCK], [0.0; BLOCK]);
        engine.render(&mut l, &mut r);
        sounds = l.iter().chain(&r).any(|x| x.abs() > SILENT);
        left.extend(l);
        right.extend(r);
        most = most.max(engine.active_voices());
        at += BLOCK;
    }
    let channels = vec![left, right];
    (Audio { rate_hz, channels }, most)
}
