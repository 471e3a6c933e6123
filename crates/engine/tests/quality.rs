//! What transposing adds to a sound, and takes from it (bars page): noise of a sine at every third of an octave, aliases and images, the passband.

use engine::{Event, EventKind, render_offline};
use program::{Program, Region, Sample, SampleId};
use std::f64::consts::TAU;

const RATE: f64 = 48_000.0;
const FRAMES: usize = 150_000;
/// What is looked at of what is rendered.
const FROM: usize = 2_000;
const COUNT: usize = 16_384;
/// −1 dBFS.
const PEAK: f64 = 0.891;

/// A sine of one side, played on a key so many semitones over its own.
fn played(hz: f64, sample_rate_hz: u32, semitones: i32) -> Vec<f64> {
    let sample = Sample {
        id: SampleId(0),
        name: "a".into(),
        source: "a".into(),
        rate_hz: sample_rate_hz,
        first_channel: 0,
        source_channels: 1,
        channels: 1,
        frames: FRAMES as u64,
    };
    let mut program = Program::plain("p", vec![sample], vec![Region::whole(0, 60, FRAMES as u64)]);
    // A mono sound in the middle is 3 dB down a side.
    program.strands[0].gain_db = 10.0 * 2f64.log10();
    program.shapes[0].loudness.attack_ms = 0.0;
    let sine = |n: usize| (PEAK * (n as f64 * hz / f64::from(sample_rate_hz) * TAU).sin()) as f32;
    let strike = Event {
        frame: 0,
        kind: EventKind::NoteOn {
            key: (60 + semitones) as u8,
            velocity: 127,
        },
    };
    let audio = vec![vec![(0..FRAMES).map(sine).collect()]];
    let (left, _) = render_offline(&program, audio, RATE, &[strike], FROM + COUNT);
    left[FROM..].iter().map(|x| f64::from(*x)).collect()
}

/// The amplitude of a sine in a sound, and the RMS of all that is not it, by least squares under a Hann window.
fn fitted(sound: &[f64], hz: f64) -> (f64, f64) {
    let window = |n: usize| 0.5 - 0.5 * (n as f64 / sound.len() as f64 * TAU).cos();
    let at = |n: usize| (n as f64 * hz / RATE * TAU).sin_cos();
    let (mut ss, mut cc, mut sc, mut sx, mut cx) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for (n, x) in sound.iter().enumerate() {
        let (w, (s, c)) = (window(n), at(n));
        (ss, cc, sc) = (ss + w * s * s, cc + w * c * c, sc + w * s * c);
        (sx, cx) = (sx + w * s * x, cx + w * c * x);
    }
    let determinant = ss * cc - sc * sc;
    let (a, b) = (
        (sx * cc - cx * sc) / determinant,
        (cx * ss - sx * sc) / determinant,
    );
    let (mut rest, mut weight) = (0.0, 0.0);
    for (n, x) in sound.iter().enumerate() {
        let (s, c) = at(n);
        rest += window(n) * (x - a * s - b * c).powi(2);
        weight += window(n);
    }
    (a.hypot(b), (rest / weight).sqrt())
}

fn db(of: f64) -> f64 {
    20.0 * of.max(1e-12).log10()
}

/// Every third of an octave from 25 Hz to 20 kHz (ISO 266).
fn thirds() -> impl Iterator<Item = f64> {
    (-16..=13).map(|n| 1_000.0 * 10f64.powf(f64::from(n) / 10.0))
}

/// Up to a third of the rate, where the transition begins: at the recorded rate, another rate, and transposed down and up: what is left beside the sine, and how much of it is left.
#[test]
fn a_sine_stays_alone_at_every_third_of_an_octave() {
    for (sample_rate_hz, semitones) in [
        (48_000, 0),
        (44_100, 0),
        (48_000, -12),
        (48_000, -5),
        (48_000, 1),
        (48_000, 4),
        (48_000, 7),
    ] {
        let (mut noise, mut level) = (f64::NEG_INFINITY, 0f64);
        for hz in thirds().filter(|hz| *hz < 0.43 * f64::from(sample_rate_hz)) {
            let out = hz * 2f64.powf(f64::from(semitones) / 12.0);
            let (amplitude, rest) = fitted(&played(hz, sample_rate_hz, semitones), out.min(RATE / 2.0));
            let beside = db(rest / (PEAK / 2f64.sqrt()));
            if out < 0.34 * RATE && hz < 0.34 * f64::from(sample_rate_hz) {
                noise = noise.max(beside);
                level = level.max(db(amplitude / PEAK).abs());
            }
        }
        println!("{sample_rate_hz} Hz, {semitones:+}: {noise:.1} dB beside it, {level:.3} dB off");
        assert!(
            noise < -84.0,
            "{sample_rate_hz} {semitones}: {noise:.1} dB beside the sine"
        );
        assert!(level < 0.05, "{sample_rate_hz} {semitones}: {level:.3} dB off");
    }
}

/// Up to two octaves up: what would lie over half of the rate is not there, and does not come back.
#[test]
fn what_has_no_place_is_not_there() {
    for semitones in [7, 12, 19, 24] {
        let ratio = 2f64.powf(f64::from(semitones) / 12.0);
        for share in [0.15, 0.20, 0.25, 0.30, 0.35, 0.40, 0.45] {
            if share * ratio > 0.5 {
                let sound = played(share * RATE, 48_000, semitones);
                let rms = (sound.iter().map(|x| x * x).sum::<f64>() / sound.len() as f64).sqrt();
                let heard = db(rms / (PEAK / 2f64.sqrt()));
                println!("{semitones:+}, {share} of the rate: {heard:.1} dB");
                assert!(heard < -80.0, "{semitones:+} {share}: {heard:.1} dB");
            }
        }
    }
}
