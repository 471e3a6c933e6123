//! What is played, over time, to and from a Standard MIDI File 1.0 (MIDI Association).

use crate::FormatError;
use crate::unharmed::unharmed;
use midly::num::{u15, u24, u28};
use midly::{Format, Header, MetaMessage, Smf, Timing, Track, TrackEvent, TrackEventKind};
use serde::{Deserialize, Serialize};

/// Until a file says another: 500,000 µs a quarter note (Standard MIDI File 1.0, Set Tempo).
const QUARTER_US: f64 = 500_000.0;
/// Ticks a quarter note of what is written.
const TICKS: u16 = 960;
/// No phrase has more.
const MOST_EVENTS: usize = 100_000;

/// A channel message, and when it comes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PhraseEvent {
    /// From the beginning of the phrase, in milliseconds.
    pub at_ms: f64,
    /// Status and data bytes; 0 where there is no second one.
    pub bytes: [u8; 3],
}

/// What is played, over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Phrase {
    /// As its maker calls it; empty where nobody did.
    pub name: String,
    /// The tempo that it begins at, in quarter notes a minute.
    pub quarters_a_minute: f64,
    /// Until it begins anew, in milliseconds.
    pub length_ms: f64,
    /// In their order.
    pub events: Vec<PhraseEvent>,
}

/// Reads a file: all its tracks at once, each event at its time by the file's own tempos. Keys, controllers, bends and pressures are kept; what chooses
/// programs, and what is no channel message, is not.
///
/// # Errors
/// What is not a Standard MIDI File, has patterns that are no one phrase (format 2), no note at all, or more events than a phrase may have.
pub fn read_phrase(bytes: &[u8]) -> Result<Phrase, FormatError> {
    let unreadable = |why: &str| FormatError::Unreadable(why.to_owned());
    const NO_MIDI: &str = "This is not a MIDI file, or it is cut short";
    let smf = unharmed(NO_MIDI, || {
        Smf::parse(bytes).map_err(|error| FormatError::Unreadable(format!("{NO_MIDI} ({error}).")))
    })?;
    if smf.header.format == Format::Sequential {
        return Err(unreadable(
            "This MIDI file holds patterns that stand for themselves (format 2), not one phrase.",
        ));
    }
    let mut all = Vec::new();
    for track in &smf.tracks {
        let mut at = 0u64;
        for event in track {
            at += u64::from(event.delta.as_int());
            all.push((at, event.kind));
        }
    }
    // Tracks that say something at the same time are heard in their order.
    all.sort_by_key(|(at, _)| *at);
    let mut clock = Clock::new(smf.header.timing)
        .ok_or_else(|| unreadable("This MIDI file does not say how long its ticks are."))?;
    let mut phrase = Phrase {
        name: String::new(),
        quarters_a_minute: 60e6 / QUARTER_US,
        length_ms: 0.0,
        events: Vec::new(),
    };
    for (at, kind) in all {
        let at_ms = clock.ms_at(at);
        phrase.length_ms = at_ms;
        match kind {
            TrackEventKind::Meta(MetaMessage::Tempo(us)) => {
                clock.set(at, f64::from(us.as_int()));
                if at == 0 {
                    phrase.quarters_a_minute = 60e6 / f64::from(us.as_int().max(1));
                }
            }
            TrackEventKind::Meta(MetaMessage::TrackName(name)) if phrase.name.is_empty() => {
                phrase.name = String::from_utf8_lossy(name).trim().to_owned();
            }
            TrackEventKind::Midi { channel, message } => {
                let event = kind.as_live_event().filter(|_| is_kept(&message));
                let mut bytes = [0; 3];
                if let Some(event) = event
                    && event.write(&mut bytes.as_mut_slice()).is_ok()
                {
                    debug_assert_eq!(bytes[0] & 0x0F, channel.as_int());
                    phrase.events.push(PhraseEvent { at_ms, bytes });
                }
            }
            _ => {}
        }
    }
    if !phrase.events.iter().any(|event| event.bytes[0] >> 4 == 0x9) {
        return Err(unreadable("This MIDI file has no notes."));
    }
    if phrase.events.len() > MOST_EVENTS {
        return Err(FormatError::TooMuch(format!(
            "This MIDI file has {} events; a phrase has at most {MOST_EVENTS}.",
            phrase.events.len()
        )));
    }
    Ok(phrase)
}

/// Writes a phrase as a file of format 0.
pub fn write_phrase(phrase: &Phrase) -> Vec<u8> {
    let quarter_us = (60e6 / phrase.quarters_a_minute.clamp(4.0, 999.0)).round();
    let ticks = |ms: f64| (ms.max(0.0) * 1000.0 / quarter_us * f64::from(TICKS)).round() as u64;
    let mut track = Track::new();
    let mut now = 0u64;
    let mut at = |ms: f64| {
        let tick = ticks(ms).max(now);
        let delta = u28::from((tick - now).min(u64::from(u28::max_value().as_int())) as u32);
        now = tick;
        delta
    };
    let meta = |kind| TrackEvent {
        delta: u28::from(0),
        kind: TrackEventKind::Meta(kind),
    };
    if !phrase.name.is_empty() {
        track.push(meta(MetaMessage::TrackName(phrase.name.as_bytes())));
    }
    track.push(meta(MetaMessage::Tempo(u24::from(quarter_us as u32))));
    for event in &phrase.events {
        let parsed = midly::live::LiveEvent::parse(message_of(&event.bytes));
        if let Ok(midly::live::LiveEvent::Midi { channel, message }) = parsed {
            let kind = TrackEventKind::Midi { channel, message };
            track.push(TrackEvent {
                delta: at(event.at_ms),
                kind,
            });
        }
    }
    let end = TrackEventKind::Meta(MetaMessage::EndOfTrack);
    track.push(TrackEvent {
        delta: at(phrase.length_ms),
        kind: end,
    });
    let smf = Smf {
        header: Header::new(Format::SingleTrack, Timing::Metrical(u15::from(TICKS))),
        tracks: vec![track],
    };
    let mut bytes = Vec::new();
    // Writing to memory does not fail.
    let _ = smf.write_std(&mut bytes);
    bytes
}

/// Pressure on all keys, and programs, have one data byte.
fn message_of(bytes: &[u8; 3]) -> &[u8] {
    match bytes[0] >> 4 {
        0xC | 0xD => &bytes[..2],
        _ => bytes,
    }
}

fn is_kept(message: &midly::MidiMessage) -> bool {
    !matches!(message, midly::MidiMessage::ProgramChange { .. })
}

/// From ticks to milliseconds, by the tempos that came.
struct Clock {
    /// Of a quarter note; 0 where ticks are parts of seconds.
    ticks: f64,
    tick_ms: f64,
    from: (u64, f64),
}

impl Clock {
    fn new(timing: Timing) -> Option<Self> {
        let (ticks, tick_ms) = match timing {
            Timing::Metrical(ticks) if ticks.as_int() > 0 => {
                let ticks = f64::from(ticks.as_int());
                (ticks, QUARTER_US / 1000.0 / ticks)
            }
            Timing::Timecode(fps, parts) if parts > 0 => {
                (0.0, 1000.0 / f64::from(fps.as_f32()) / f64::from(parts))
            }
            _ => return None,
        };
        Some(Self {
            ticks,
            tick_ms,
            from: (0, 0.0),
        })
    }

    fn ms_at(&self, tick: u64) -> f64 {
        self.from.1 + (tick - self.from.0) as f64 * self.tick_ms
    }

    fn set(&mut self, tick: u64, quarter_us: f64) {
        if self.ticks > 0.0 {
            self.from = (tick, self.ms_at(tick));
            self.tick_ms = quarter_us / 1000.0 / self.ticks;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two tracks, two tempos, running status and a strike of 0 that lets a key go, by the byte (Standard MIDI File 1.0).
    #[test]
    fn tracks_are_heard_at_once_at_the_files_own_tempos() {
        let conductor = [
            0x00, 0xFF, 0x03, 0x03, b'O', b'n', b'e', // its name
            0x00, 0xFF, 0x51, 0x03, 0x09, 0x27, 0xC0, // 600,000 µs: 100 quarters a minute
            0x60, 0xFF, 0x51, 0x03, 0x04, 0x93, 0xE0, // after 96 ticks 300,000 µs
            0x00, 0xFF, 0x2F, 0x00,
        ];
        let notes = [
            0x00, 0xC2, 0x05, // a program, which is not kept
            0x30, 0x92, 60, 100, // after half a quarter
            0x60, 60, 0, // running status; after another quarter, half of it at the other tempo
            0x00, 0xE2, 0x00, 0x50, // a bend
            0x00, 0xD2, 0x11, // pressure
            0x81, 0x40, 0xFF, 0x2F, 0x00, // two quarters
        ];
        let mut file = b"MThd\0\0\0\x06\0\x01\0\x02\0\x60".to_vec();
        for track in [&conductor[..], &notes[..]] {
            file.extend(b"MTrk");
            file.extend((track.len() as u32).to_be_bytes());
            file.extend(track);
        }
        let phrase = read_phrase(&file).unwrap();
        let at = |at_ms, bytes| PhraseEvent { at_ms, bytes };
        assert_eq!(
            phrase,
            Phrase {
                name: "One".into(),
                quarters_a_minute: 100.0,
                length_ms: 1350.0,
                events: vec![
                    at(300.0, [0x92, 60, 100]),
                    at(750.0, [0x92, 60, 0]),
                    at(750.0, [0xE2, 0x00, 0x50]),
                    at(750.0, [0xD2, 0x11, 0]),
                ],
            }
        );
        let again = read_phrase(&write_phrase(&phrase)).unwrap();
        assert_eq!((&again.name, again.events.len()), (&phrase.name, 4));
        for (a, b) in again.events.iter().zip(&phrase.events) {
            assert!(
                (a.at_ms - b.at_ms).abs() < 0.4 && a.bytes == b.bytes,
                "{a:?} {b:?}"
            );
        }
        assert!((again.length_ms - 1350.0).abs() < 0.4);
    }

    #[test]
    fn what_is_no_phrase_is_refused_in_a_sentence() {
        let no_notes = b"MThd\0\0\0\x06\0\0\0\x01\0\x60MTrk\0\0\0\x04\0\xFF\x2F\0";
        for (file, says) in [
            (&b"RIFF"[..], "not a MIDI file"),
            (no_notes, "no notes"),
            (&no_notes[..10], "not a MIDI file"),
            (
                b"MThd\0\0\0\x06\0\x02\0\x01\0\x60MTrk\0\0\0\x04\0\xFF\x2F\0",
                "format 2",
            ),
            (
                b"MThd\0\0\0\x06\0\0\0\x01\0\0MTrk\0\0\0\x04\0\xFF\x2F\0",
                "how long its ticks are",
            ),
        ] {
            let error = read_phrase(file).unwrap_err().to_string();
            assert!(error.contains(says), "{error}");
        }
    }
}
