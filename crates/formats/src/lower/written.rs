//! In the digits that are written.

use crate::{Format, Rounds, sf2};
use program::{Loop, LoopRuns, Loudness, On};
use signal::db_to_amplitude;

/// Where a loop lies as it is written, in frames of what was trimmed.
pub(super) fn written_loop(looped: &Loop, rounds: Rounds, start_frame: u64) -> Loop {
    let runs = if looped.runs_through_release() {
        LoopRuns::ThroughRelease
    } else {
        LoopRuns::WhileHeld
    };
    let first = looped.start_frame - start_frame + looped.round_frames() * rounds.before;
    Loop::plain(first, first + looped.round_frames() * rounds.inside, runs)
}

/// In the digits that are written. SFZ: whole milliseconds, sustain and the effect of velocity in thousandths. What a pedal starts has no strike that could make it softer.
pub(super) fn lowered_loudness(loudness: Loudness, on: &On, format: Format) -> Loudness {
    let by_strike = if matches!(on, On::Enters(_)) {
        0.0
    } else {
        loudness.velocity_to_level
    };
    let whole = |ms: f64| ms.round().clamp(0.0, 100_000.0);
    if format == Format::SoundFont2 {
        // Timecents, centibels, and 960ths of the usual.
        let time = |ms: f64| sf2::ms_of(sf2::timecents(whole(ms)));
        return Loudness {
            delay_ms: time(loudness.delay_ms),
            attack_ms: time(loudness.attack_ms),
            hold_ms: time(loudness.hold_ms),
            decay_ms: time(loudness.decay_ms),
            sustain_db: tenths(loudness.sustain_db).clamp(-144.0, 0.0),
            release_ms: time(loudness.release_ms),
            velocity_to_level: (by_strike * 960.0).round() / 960.0,
            bends: [0.0; 3],
        };
    }
    Loudness {
        delay_ms: whole(loudness.delay_ms),
        attack_ms: whole(loudness.attack_ms),
        hold_ms: whole(loudness.hold_ms),
        decay_ms: whole(loudness.decay_ms),
        sustain_db: sustain_db_of(sustain_percent(loudness.sustain_db)),
        release_ms: whole(loudness.release_ms),
        velocity_to_level: (by_strike * 1000.0).round() / 1000.0,
        bends: [0.0; 3],
    }
}

pub(super) fn tenths(value: f64) -> f64 {
    let rounded = (value * 10.0).round() / 10.0;
    // Of nothing there is one kind.
    if rounded == 0.0 { 0.0 } else { rounded }
}

/// Sustain as SFZ writes it, in thousandths of a percent of amplitude.
pub(crate) fn sustain_percent(db: f64) -> f64 {
    (db_to_amplitude(db.min(0.0)) * 100_000.0).round() / 1000.0
}

pub(crate) fn sustain_db_of(percent: f64) -> f64 {
    if percent >= 100.0 {
        0.0
    } else {
        signal::amplitude_to_db((percent / 100.0).max(1e-5))
    }
}
