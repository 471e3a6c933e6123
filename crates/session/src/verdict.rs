//! What is heard in a take the moment it ends.

use instrument::{Finding, Verdict};
use signal::Audio;

/// What a take should be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// The cell's key.
    pub key: u8,
    /// Whether it has a note that can be wrong.
    pub pitched: bool,
    /// Peaks that fit its layer, lowest and highest, in dBFS.
    pub window_dbfs: (f64, f64),
    /// RMS of the room.
    pub noise_floor_dbfs: f64,
    /// Shorter is of no use.
    pub shortest_ms: f64,
    /// Whether it dies away by itself, so that whatever swells in it is something else.
    pub dies_away: bool,
}

/// A pitch nearer than this to its key is the right note: half a semitone and a little, since a bar may be out of tune.
const RIGHT_NOTE_CENTS: f64 = 60.0;
/// Under this the pitch heard is no evidence.
const SURE: f64 = 0.45;
/// A take should stand out from the noise by this: common practice.
const OVER_FLOOR_DB: f64 = 20.0;
/// What swells by this over the fading sound is another one.
const SWELL_DB: f64 = 9.0;
const SWELL_WINDOW_MS: f64 = 20.0;
/// The strike itself may swell for so long.
const STRIKE_MS: f64 = 250.0;

/// Judges a take with some room before its sound.
pub fn judge(take: &Audio, wanted: &Wanted) -> Verdict {
    let peak_dbfs = signal::peak_dbfs(take);
    let Some(bounds) = signal::sound_bounds(take) else {
        return Verdict::of(vec![Finding::NoNote], None, peak_dbfs.max(-120.0));
    };
    let mono = take.to_mono();
    let mut findings = Vec::new();
    let clipped = signal::clipped_frames(take);
    if clipped > 0 {
        findings.push(Finding::Clipped { frames: clipped });
    }
    let ms = |frames: usize| frames as f64 * 1000.0 / f64::from(take.rate_hz);
    let long = ms(bounds.end_frame - bounds.start_frame);
    if long < wanted.shortest_ms {
        findings.push(Finding::TooShort { ms: long });
    }
    let over_floor_db = peak_dbfs - wanted.noise_floor_dbfs;
    if over_floor_db < OVER_FLOOR_DB {
        findings.push(Finding::Noisy { over_floor_db });
    }
    let pitch = signal::find_pitch(&mono, take.rate_hz, bounds.start_frame, bounds.end_frame);
    if wanted.pitched {
        match pitch.filter(|pitch| pitch.confidence >= SURE) {
            Some(pitch) => {
                let off = (f64::from(pitch.key) - f64::from(wanted.key)) * 100.0 + pitch.cents;
                let octaves = (off / 1200.0).round();
                if off.abs() > RIGHT_NOTE_CENTS {
                    let (heard, wanted) = (pitch.key, wanted.key);
                    findings.push(
                        if octaves != 0.0 && (off - octaves * 1200.0).abs() <= RIGHT_NOTE_CENTS {
                            Finding::WrongOctave { heard, wanted }
                        } else {
                            Finding::WrongNote { heard, wanted }
                        },
                    );
                }
            }
            None => findings.push(Finding::NoNote),
        }
    }
    if clipped == 0 {
        let (low, high) = wanted.window_dbfs;
        if peak_dbfs < low {
            findings.push(Finding::TooQuiet {
                by_db: low - peak_dbfs,
            });
        } else if peak_dbfs > high {
            findings.push(Finding::TooLoud {
                by_db: peak_dbfs - high,
            });
        }
    }
    if wanted.dies_away
        && let Some(after_ms) = swell(&mono, take.rate_hz, bounds.start_frame, wanted.noise_floor_dbfs)
    {
        findings.push(Finding::AnotherSound { after_ms });
    }
    Verdict::of(findings, pitch.map(|pitch| (pitch.key, pitch.cents)), peak_dbfs)
}

/// Where the level rises by [`SWELL_DB`] over the lowest it had sunk to, well over the floor, after the strike is over; milliseconds
/// from the start.
fn swell(mono: &[f32], rate_hz: u32, start: usize, floor_dbfs: f64) -> Option<f64> {
    let window = signal::frames_of_ms(rate_hz, SWELL_WINDOW_MS).max(1);
    let after = start + signal::frames_of_ms(rate_hz, STRIKE_MS);
    // Two windows at a time: a beat between partials is slower than that, or it is not heard as a rise.
    let levels: Vec<f64> = mono
        .get(after..)?
        .chunks_exact(window)
        .map(|part| {
            let power: f64 = part.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
            signal::amplitude_to_db((power / part.len() as f64).sqrt().max(1e-6))
        })
        .collect();
    let audible = floor_dbfs + 12.0;
    let mut lowest = f64::INFINITY;
    for (n, pair) in levels.windows(2).enumerate() {
        let level = pair[0].min(pair[1]);
        if level > audible && level > lowest + SWELL_DB {
            return Some((after - start + n * window) as f64 * 1000.0 / f64::from(rate_hz));
        }
        lowest = lowest.min(pair[0].max(pair[1])).max(floor_dbfs);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};

    const WANTED: Wanted = Wanted {
        key: 69,
        pitched: true,
        window_dbfs: (-30.0, -3.0),
        noise_floor_dbfs: -75.0,
        shortest_ms: 200.0,
        dies_away: true,
    };

    /// A dying tone of a key after 100 ms of silence.
    fn strike(key: u8, peak: f32, decay_per_s: f32) -> Audio {
        let hz = signal::hz_of_key(f64::from(key)) as f32;
        let mut random = rand_pcg::Pcg32::seed_from_u64(9);
        let samples = (0..144_000)
            .map(|n| {
                let t = (n as f32 - 4_800.0) / 48_000.0;
                let hiss = random.random_range(-2e-4f32..2e-4);
                if t < 0.0 {
                    hiss
                } else {
                    ((t * hz * std::f32::consts::TAU).sin() * peak * (-t * decay_per_s).exp() + hiss)
                        .clamp(-1.0, 1.0)
                }
            })
            .collect();
        Audio::mono(48_000, samples)
    }

    #[test]
    fn a_good_take_has_nothing_wrong_in_it() {
        let verdict = judge(&strike(69, 0.3, 3.0), &WANTED);
        assert!(verdict.is_good(), "{verdict:?}");
        assert_eq!(verdict.key, Some(69));
        assert!((verdict.peak_dbfs + 10.5).abs() < 0.3);
    }

    #[test]
    fn each_fault_is_named() {
        let found = |audio: &Audio| judge(audio, &WANTED).findings;
        assert!(matches!(
            found(&strike(70, 0.3, 3.0))[..],
            [Finding::WrongNote {
                heard: 70,
                wanted: 69
            }]
        ));
        assert!(matches!(
            found(&strike(81, 0.3, 3.0))[..],
            [Finding::WrongOctave { heard: 81, .. }]
        ));
        assert!(matches!(
            found(&strike(69, 3.0, 3.0))[..],
            [Finding::Clipped { .. }]
        ));
        assert!(
            matches!(found(&strike(69, 0.01, 3.0))[..], [Finding::TooQuiet { by_db }] if (by_db - 10.0).abs() < 0.5),
            "{:?}",
            judge(&strike(69, 0.01, 3.0), &WANTED)
        );
        assert!(matches!(
            found(&strike(69, 0.9, 3.0))[..],
            [Finding::TooLoud { .. }]
        ));
        assert!(
            found(&strike(69, 0.3, 90.0))
                .iter()
                .any(|f| matches!(f, Finding::TooShort { .. }))
        );
        assert!(matches!(
            found(&Audio::mono(48_000, vec![0.0; 48_000]))[..],
            [Finding::NoNote]
        ));
        // A door, 1.5 s after the strike.
        let mut with_door = strike(69, 0.3, 3.0);
        let mut random = rand_pcg::Pcg32::seed_from_u64(4);
        for x in &mut with_door.channels[0][76_800..81_600] {
            *x += random.random_range(-0.1f32..0.1);
        }
        let [Finding::AnotherSound { after_ms }] = found(&with_door)[..] else {
            panic!("{:?}", found(&with_door));
        };
        assert!((after_ms - 1_500.0).abs() < 60.0, "{after_ms}");
    }
}
