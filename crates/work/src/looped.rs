//! A take with its loop, heard through the engine.

use crate::alone::{alone, sample_of};
use engine::{Event, EventKind, render_offline};
use instrument::{TakeLoop, Treatment};
use program::{Program, Region, StrandId};
use signal::Audio;

/// The first channel around a loop's seam, `reach` frames on either side; what lies outside the take is silence.
#[derive(Debug, Clone, PartialEq)]
pub struct AroundSeam {
    /// Around the loop's end, as recorded.
    pub end: Vec<f32>,
    /// Around its start.
    pub start: Vec<f32>,
    /// As it will sound: up to the end with its crossfade, then from the start on.
    pub heard: Vec<f32>,
}

/// What a loop's seam looks like.
pub fn around_seam(audio: &Audio, looped: &TakeLoop, reach: usize) -> AroundSeam {
    let read = |at: i64| -> f32 {
        let found = usize::try_from(at).ok().zip(audio.channels.first());
        found
            .and_then(|(at, channel)| channel.get(at))
            .copied()
            .unwrap_or(0.0)
    };
    let (start, end, reach) = (looped.start_frame as i64, looped.end_frame as i64, reach as i64);
    let faded = looped.crossfade_frames;
    let around = |middle: i64| (-reach..reach).map(|n| read(middle + n)).collect();
    let heard = (-reach..reach)
        .map(|n| {
            if n >= 0 {
                return read(start + n);
            }
            match (n + faded as i64).try_into() {
                Ok(at) => {
                    let (leaving, coming) = program::crossfade_gains(at, faded, looped.likeness_percent);
                    read(end + n) * leaving as f32 + read(start + n) * coming as f32
                }
                Err(_) => read(end + n),
            }
        })
        .collect();
    AroundSeam {
        end: around(end),
        start: around(start),
        heard,
    }
}

/// A take resampled so that so many of its periods are whole frames, and the loop over just these, from a rising zero crossing in the middle of
/// the sound. As it is and without a loop where it has no pitch.
pub fn short_loop(audio: &Audio, facts: &signal::Measurement, periods: u32) -> (Audio, Option<TakeLoop>) {
    let Some(pitch) = facts.pitch else {
        return (audio.clone(), None);
    };
    let exact = f64::from(audio.rate_hz) / pitch.hz * f64::from(periods.max(1));
    let whole = exact.ceil();
    let ratio = whole / exact;
    let made = signal::resampled(audio, ratio);
    let middle = (facts.start_frame + facts.end_frame) as f64 / 2.0 * ratio;
    let start = signal::nearest_rising_zero(&made, middle as usize, whole as usize) as u64;
    let looped = TakeLoop::plain(start, start + whole as u64, 0);
    let fits = looped.end_frame <= made.frames() as u64;
    (made, fits.then_some(looped))
}

/// What was heard.
#[derive(Debug, Clone, PartialEq)]
pub struct HeardLoop {
    /// Stereo, at the take's rate.
    pub audio: Audio,
    /// Where in it the last seam is.
    pub last_seam: usize,
}

/// As what a take is played: by a strand of a program, struck so, through its shape and the effects that it is heard through.
#[derive(Debug, Clone, Copy)]
pub struct PlayedBy<'a> {
    /// All of it.
    pub program: &'a Program,
    /// The strand.
    pub strand: StrandId,
    /// 1 to 127.
    pub strike: u8,
}

/// Plays a take at a key until its loop has been gone round so often, and half a round more; no longer than `most_seconds`. As it is, where nothing says
/// what plays it.
pub fn hear_loop(
    audio: Audio,
    treatment: &Treatment,
    (key, rounds): (u8, u32),
    most_seconds: f64,
    played_by: Option<PlayedBy>,
) -> HeardLoop {
    let rate = f64::from(audio.rate_hz);
    let looped = treatment.program_loop();
    let region = Region {
        recording_cents: treatment.recording_cents,
        tune_cents: treatment.tune_cents,
        gain_db: treatment.gain_db,
        pan: treatment.pan,
        start_frame: treatment.start_frame,
        end_frame: treatment.end_frame,
        fade_in_frames: treatment.fade_in_frames,
        fade_out_frames: treatment.fade_out_frames,
        fade_curve: treatment.fade_curve,
        looped,
        ..Region::whole(0, treatment.root_key, audio.frames() as u64)
    };
    let by_strand = played_by.and_then(|by| {
        alone(
            by.program,
            by.strand,
            (&audio, region.clone()),
            |shape| shape,
            |_| true,
        )
    });
    let program = by_strand.unwrap_or_else(|| Program::plain("", vec![sample_of(&audio)], vec![region]));
    let velocity = played_by.map_or(127, |by| by.strike);
    let ratio = program::playback_ratio(&program, &program.regions[0], key, rate);
    let (first_seam, round) = looped.map_or((0.0, 0.0), |l| {
        (
            (l.round_end() - treatment.start_frame) as f64 / ratio,
            l.round_frames() as f64 / ratio,
        )
    });
    let last_seam = first_seam + round * f64::from(rounds.saturating_sub(1));
    let whole = last_seam + (round / 2.0).max(rate);
    let frames = whole.min(most_seconds * rate).max(1.0) as usize;
    let struck = [Event {
        frame: 0,
        kind: EventKind::NoteOn { key, velocity },
    }];
    let (left, right) = render_offline(&program, vec![audio.channels], rate, &struck, frames);
    HeardLoop {
        audio: Audio {
            rate_hz: rate as u32,
            channels: vec![left, right],
        },
        last_seam: (last_seam as usize).min(frames),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::{Correction, Kind, suggest, treat};
    use program::{Bus, BusId, Effect, EffectId, EffectKind};

    #[test]
    fn a_seam_is_drawn_as_it_will_sound() {
        let ramp: Vec<f32> = (0..1_000).map(|n| n as f32).collect();
        let audio = Audio::mono(48_000, ramp);
        let hard = around_seam(&audio, &TakeLoop::plain(200, 600, 0), 3);
        assert_eq!(hard.end, [597.0, 598.0, 599.0, 600.0, 601.0, 602.0]);
        assert_eq!(hard.start, [197.0, 198.0, 199.0, 200.0, 201.0, 202.0]);
        assert_eq!(hard.heard, [597.0, 598.0, 599.0, 200.0, 201.0, 202.0]);
        let faded = around_seam(&audio, &TakeLoop::plain(200, 600, 3), 3).heard;
        // A quarter, a half, three quarters of what lies before the start.
        assert_eq!(faded[..3], [497.0, 398.0, 299.0]);
        assert_eq!(
            around_seam(&audio, &TakeLoop::plain(1, 1_000, 0), 4).end[4..],
            [0.0; 4]
        );
    }

    /// Bars page: in tune within 1 cent; loops too short for whole frames are resampled to fit.
    #[test]
    fn a_single_cycle_is_in_tune_with_the_tone_it_came_from() {
        for hz in [98.0, 440.3, 1_318.5, 3_000.0] {
            let tone: Vec<f32> = (0..96_000)
                .map(|n| ((f64::from(n) / 48_000.0 * hz * std::f64::consts::TAU).sin() * 0.4) as f32)
                .collect();
            let audio = Audio::mono(48_000, tone);
            let (made, looped) = short_loop(&audio, &signal::measure(&audio), 1);
            let looped = looped.unwrap();
            let facts = signal::measure(&made);
            let (pitch, looped_hz) = (
                facts.pitch.unwrap().hz,
                48_000.0 / (looped.end_frame - looped.start_frame) as f64,
            );
            let cents = 1200.0 * (looped_hz / pitch).log2();
            assert!(cents.abs() < 1.0, "{hz}: {cents}");
            let seam = signal::seam_db(
                &made,
                looped.start_frame as usize,
                looped.end_frame as usize,
                48_000.0 / hz,
            );
            assert!(seam.unwrap() < -30.0, "{hz}: {seam:?}");
        }
    }

    #[test]
    fn a_loop_is_heard_as_often_as_wished_at_any_key() {
        let rate = 48_000.0;
        let tone: Vec<f32> = (0..96_000)
            .map(|n| ((f64::from(n) / rate * 440.0 * std::f64::consts::TAU).sin() * 0.4) as f32)
            .collect();
        let audio = Audio::mono(48_000, tone);
        let suggestion = suggest(
            Kind::Sustained,
            69,
            48_000,
            96_000,
            &signal::measure(&audio),
            None,
        );
        let said = Correction {
            looped: Some(Some(TakeLoop::plain(24_000, 48_000, 0))),
            ..Correction::default()
        };
        let treatment = treat(69, &suggestion, &said, 96_000);
        let heard = hear_loop(audio.clone(), &treatment, (69, 10), 60.0, None);
        assert!(
            heard.last_seam.abs_diff(48_000 + 9 * 24_000) < 200,
            "{}",
            heard.last_seam
        );
        assert!(heard.audio.frames() > heard.last_seam);
        let after = heard
            .audio
            .slice(heard.last_seam, heard.audio.frames())
            .channels
            .swap_remove(0);
        let again = audio.clone();
        let octave = hear_loop(audio.clone(), &treatment, (81, 2), 60.0, None);
        assert!((f64::from(octave.last_seam as u32) - 36_000.0).abs() < 200.0);
        assert_eq!(
            signal::find_pitch(&after, 48_000, 0, after.len()).map(|p| p.key),
            Some(69)
        );
        let high = octave.audio.channels[0].clone();
        assert_eq!(
            signal::find_pitch(&high, 48_000, 0, high.len()).map(|p| p.key),
            Some(81)
        );
        // As a strand plays it that begins late, through a row that takes 12 dB.
        let mut program = Program::plain("Organ", Vec::new(), Vec::new());
        program.shapes[0].loudness.delay_ms = 500.0;
        let mut softer = Effect::new(EffectId(1), EffectKind::Width);
        softer.level_db = -12.0;
        program.buses = vec![Bus {
            id: BusId::WHOLE,
            name: "All".into(),
            gain_db: 0.0,
            effects: vec![softer],
        }];
        let by = PlayedBy {
            program: &program,
            strand: StrandId(0),
            strike: 127,
        };
        let shaped = hear_loop(audio, &treatment, (69, 10), 60.0, Some(by)).audio;
        let level = |of: &Audio| signal::rms_dbfs(&of.slice(96_000, 144_000));
        let plain = hear_loop(again, &treatment, (69, 10), 60.0, None).audio;
        assert!(shaped.channels[0][..23_000].iter().all(|x| x.abs() < 1e-6));
        assert!((level(&shaped) - level(&plain) + 12.0).abs() < 0.1);
    }
}
