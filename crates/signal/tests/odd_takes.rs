//! Takes that are not as they should be are measured without harm, and cleaned and made anew without harm too.

use signal::{Audio, Cleaning, Places, clean, measure};
use std::f64::consts::TAU;

const RATE: u32 = 48_000;

fn tone(frames: usize, level: f64) -> Vec<f32> {
    (0..frames)
        .map(|n| ((n as f64 / f64::from(RATE) * 330.0 * TAU).sin() * level).clamp(-1.0, 1.0) as f32)
        .collect()
}

#[test]
fn a_take_of_a_twentieth_of_a_second_has_its_pitch_and_a_loop_of_a_few_periods() {
    let facts = measure(&Audio::mono(RATE, tone(2_400, 0.5)));
    assert_eq!(facts.pitch.map(|p| p.key), Some(64));
    assert!(facts.end_frame <= 2_400);
    let best = facts.loops[0];
    assert!(
        best.periods >= 1 && best.end_frame <= 2_400 && best.seam_db < -20.0,
        "{best:?}"
    );
    assert!(facts.loudness_lufs.is_some());
}

#[test]
fn a_take_that_begins_in_the_middle_of_a_sound_starts_at_its_first_frame() {
    let facts = measure(&Audio::mono(RATE, tone(96_000, 0.5)));
    assert_eq!(facts.start_frame, 0);
    assert_eq!(facts.end_frame, 96_000);
    assert_eq!(facts.pitch.map(|p| p.key), Some(64));
}

#[test]
fn a_take_that_is_clipped_throughout_says_so_and_keeps_its_pitch() {
    let facts = measure(&Audio::mono(RATE, tone(96_000, 40.0)));
    assert!(facts.clipped_frames > 90_000, "{}", facts.clipped_frames);
    assert_eq!(facts.pitch.map(|p| p.key), Some(64));
}

/// What is measured is kept as JSON, which knows no infinity and no "not a number".
#[test]
fn whatever_is_measured_can_be_read_back() {
    let period: Vec<f32> = (0..100)
        .map(|n| (n as f64 / 100.0 * TAU).sin() as f32 * 0.5)
        .collect();
    let repeated: Vec<f32> = period.iter().copied().cycle().take(96_000).collect();
    let square: Vec<f32> = (0..96_000)
        .map(|n| if n / 50 % 2 == 0 { 0.5 } else { -0.5 })
        .collect();
    let stereo = |left: Vec<f32>, right: Vec<f32>| Audio {
        rate_hz: RATE,
        channels: vec![left, right],
    };
    for audio in [
        Audio::mono(RATE, repeated.clone()),
        Audio::mono(RATE, square),
        Audio::mono(RATE, Vec::new()),
        Audio::mono(RATE, vec![0.0; 96_000]),
        Audio::mono(RATE, vec![1.0; 96_000]),
        Audio::mono(RATE, vec![f32::NAN; 9_600]),
        Audio::mono(RATE, vec![f32::MAX; 9_600]),
        stereo(repeated.clone(), vec![0.0; 96_000]),
        stereo(repeated.clone(), repeated.iter().map(|x| -x).collect()),
    ] {
        let facts = measure(&audio);
        let text = serde_json::to_string(&facts).unwrap();
        let read: Result<signal::Measurement, _> = serde_json::from_str(&text);
        // Numbers may differ in their last bit; what is there and what is not may not.
        let again = read.map(|read| (read.loops.len(), read.pitch.is_some(), read.peak_dbfs.is_some()));
        let was = (
            facts.loops.len(),
            facts.pitch.is_some(),
            facts.peak_dbfs.is_some(),
        );
        assert_eq!(again.ok(), Some(was), "{text}");
    }
}

#[test]
fn eight_channels_are_measured_together() {
    let audio = Audio {
        rate_hz: RATE,
        channels: (0..8).map(|n| tone(96_000, 0.1 + 0.05 * f64::from(n))).collect(),
    };
    let facts = measure(&audio);
    assert_eq!(facts.pitch.map(|p| p.key), Some(64));
    assert!((facts.peak_dbfs.unwrap() - signal::amplitude_to_db(0.45)).abs() < 0.05);
    assert!(!facts.loops.is_empty());
}

#[test]
fn odd_takes_come_out_of_cleaning_and_resampling_whole() {
    let all = Cleaning {
        remove_dc: true,
        hum: Some(signal::Hum { hz: None }),
        hiss: Some(signal::Hiss { reduction_db: 12.0 }),
        evening: Some(signal::Evening { share: 1.0 }),
        limiter: Some(signal::Limiter { ceiling_dbtp: -1.0 }),
        ..Cleaning::default()
    };
    for frames in [0, 1, 2_400, 96_000] {
        for channels in [0, 1, 8] {
            let audio = Audio {
                rate_hz: RATE,
                channels: vec![tone(frames, 40.0); channels],
            };
            let places = Places {
                start_frame: 0,
                end_frame: frames,
                looped: Some((10, 1 << 40)),
            };
            let out = clean(&audio, &all, places);
            assert_eq!((out.channels.len(), out.frames()), (channels, audio.frames()));
            let longer = signal::resampled(&audio, 1.25);
            assert_eq!(longer.frames(), (audio.frames() as f64 * 1.25).round() as usize);
        }
    }
}
