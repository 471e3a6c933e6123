//! What is heard in a take the moment it ends.

use instrument::{Finding, Limits, Verdict};
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
    /// Whether it dies away by itself, so that whatever rises in it is something else.
    pub dies_away: bool,
}

/// Under this the pitch heard is no evidence.
const SURE: f64 = 0.45;

/// Judges a take with some room before its sound.
pub fn judge(take: &Audio, wanted: &Wanted) -> Verdict {
    let peak_dbfs = signal::peak_dbfs(take);
    let Some(bounds) = signal::sound_bounds(take) else {
        return Verdict::of(vec![Finding::no_note()], None, peak_dbfs.max(-120.0));
    };
    let mono = take.to_mono();
    let limits = Limits::default();
    let mut findings = Vec::new();
    let clipped = signal::clipped_frames(take);
    findings.extend(limits.over(Finding::clipped(clipped)));
    let ms = |frames: usize| frames as f64 * 1000.0 / f64::from(take.rate_hz);
    let long = ms(bounds.end_frame - bounds.start_frame);
    if long < wanted.shortest_ms {
        findings.push(Finding::too_short(long));
    }
    findings.extend(limits.over(Finding::noisy(peak_dbfs - wanted.noise_floor_dbfs)));
    let pitch = signal::find_pitch(&mono, take.rate_hz, bounds.start_frame, bounds.end_frame);
    if wanted.pitched {
        match pitch.filter(|pitch| pitch.confidence >= SURE) {
            Some(pitch) => {
                let off = (f64::from(pitch.key) - f64::from(wanted.key)) * 100.0 + pitch.cents;
                findings.extend(limits.over(Finding::another_note(pitch.key, wanted.key, off)));
            }
            None => findings.push(Finding::no_note()),
        }
    }
    if clipped == 0 {
        let (low, high) = wanted.window_dbfs;
        if peak_dbfs < low {
            findings.push(Finding::too_soft(low - peak_dbfs));
        } else if peak_dbfs > high {
            findings.push(Finding::too_loud(peak_dbfs - high));
        }
    }
    if wanted.dies_away
        && let Some(other) =
            signal::find_another_sound(&mono, take.rate_hz, bounds.start_frame, wanted.noise_floor_dbfs)
    {
        let after_s = ms(other.frame - bounds.start_frame) / 1_000.0;
        findings.extend(limits.over(Finding::another_sound(after_s, other.db)));
    }
    Verdict::of(findings, pitch.map(|pitch| (pitch.key, pitch.cents)), peak_dbfs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::FindingKind;
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
        let kinds = |audio: &Audio| -> Vec<FindingKind> { found(audio).iter().map(|f| f.kind).collect() };
        let wrong = found(&strike(70, 0.3, 3.0));
        assert_eq!(kinds(&strike(70, 0.3, 3.0)), [FindingKind::WrongNote]);
        assert_eq!(wrong[0].says, "This is A♯4, the cell is A4.");
        assert_eq!(kinds(&strike(81, 0.3, 3.0)), [FindingKind::WrongOctave]);
        assert_eq!(kinds(&strike(69, 3.0, 3.0)), [FindingKind::Clipped]);
        let soft = found(&strike(69, 0.01, 3.0));
        assert_eq!(soft[0].kind, FindingKind::TooSoft);
        assert!((soft[0].how_much.unwrap() - 10.0).abs() < 0.5, "{soft:?}");
        assert_eq!(kinds(&strike(69, 0.9, 3.0)), [FindingKind::TooLoud]);
        assert!(kinds(&strike(69, 0.3, 90.0)).contains(&FindingKind::TooShort));
        let silence = Audio::mono(48_000, vec![0.0; 48_000]);
        assert_eq!(kinds(&silence), [FindingKind::NoNote]);
        // A door, 1.5 s after the strike.
        let mut with_door = strike(69, 0.3, 3.0);
        let mut random = rand_pcg::Pcg32::seed_from_u64(4);
        for x in &mut with_door.channels[0][76_800..81_600] {
            *x += random.random_range(-0.1f32..0.1);
        }
        let door = found(&with_door);
        assert_eq!(kinds(&with_door), [FindingKind::AnotherSound]);
        assert_eq!(door[0].says, "Something else sounds 1.5 s into it.");
    }
}
