//! The formulas that engine and formats must agree on.

use crate::{BendKeys, Cut, FadeCurve, Program, Region};

/// Frames of the sample per frame of output at `key`: `2^(cents/1200)` times the ratio of the rates. A transposition of the strand sounds as it is said,
/// however far the pitch follows the key.
pub fn playback_ratio(program: &Program, region: &Region, key: u8, output_rate_hz: f64) -> f64 {
    let of_strand = program.strand_of(region).map_or(0.0, |strand| {
        100.0 * f64::from(strand.transpose_keys) + strand.tune_cents
    });
    let keys = (f64::from(key) - f64::from(region.root_key)) * region.key_follow;
    let cents = 100.0 * keys + of_strand - region.recording_cents + region.tune_cents;
    let rate = program
        .samples
        .get(region.sample)
        .map_or(output_rate_hz, |sample| f64::from(sample.rate_hz));
    2f64.powf(cents / 1200.0) * rate / output_rate_hz
}

/// How far the bend reaches where nothing is said (General MIDI 1, from memory; SFZ's words begin there too).
pub const BEND_KEYS: BendKeys = BendKeys { up: 2, down: 2 };

/// What the ratio of a region is multiplied by where the bend stands at −1 to 1.
pub fn bend_ratio(program: &Program, region: &Region, bend: f64) -> f64 {
    let BendKeys { up, down } = (program.strand_of(region))
        .and_then(|strand| strand.voices.bend)
        .unwrap_or(BEND_KEYS);
    let keys = if bend < 0.0 { down } else { up };
    libm::exp2(bend.clamp(-1.0, 1.0) * f64::from(keys) / 12.0)
}

/// Level of a velocity: 40·log₁₀(v/127), times how strongly velocity counts. At 1 this is the SoundFont's default
/// concave curve over 96 dB and SFZ's `amp_veltrack=100`.
pub fn velocity_gain_db(velocity: u8, velocity_to_level: f64) -> f64 {
    40.0 * (f64::from(velocity.clamp(1, 127)) / 127.0).log10() * velocity_to_level
}

/// Level of a region at a velocity, with that of its strand.
pub fn level_db(program: &Program, region: &Region) -> f64 {
    region.gain_db + program.strand_of(region).map_or(0.0, |strand| strand.gain_db)
}

/// Place of a region, with that of its strand: both are added, as far as a side.
pub fn pan_of(program: &Program, region: &Region) -> f64 {
    let of_strand = program.strand_of(region).map_or(0.0, |strand| strand.pan);
    (region.pan + of_strand).clamp(-1.0, 1.0)
}

/// What cuts a region off, and what it cuts off: what it says itself, else its strand.
pub fn cut_of(program: &Program, region: &Region) -> Cut {
    let of_strand = program
        .strand_of(region)
        .map_or_else(Cut::default, |strand| strand.cut);
    if region.cut == Cut::default() {
        of_strand
    } else {
        region.cut
    }
}

/// The random number of a strike, from 0 up to 1, one for all its regions: a hash of the program's seed and the strike's number, so that a render and what
/// is played draw the same (SplitMix64: Steele, Lea and Flood, *Fast Splittable Pseudorandom Number Generators*, 2014).
pub fn strike_random(seed: u64, strike: u64) -> f64 {
    let mut z = seed.wrapping_add(strike.wrapping_mul(0x9E37_79B9_7F4A_7C15));
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^= z >> 31;
    // The upper 53 bits, as a share of 2⁵³.
    (z >> 11) as f64 / (1u64 << 53) as f64
}

/// Equal-power gains of left and right. A sound of one side is 3 dB down in the middle and whole at a side; one of two is whole in the middle, and panning
/// only lowers the side that it leaves. So both formats have it.
pub fn pan_gains(pan: f64, stereo: bool) -> (f64, f64) {
    let angle = (pan.clamp(-1.0, 1.0) + 1.0) * std::f64::consts::FRAC_PI_4;
    let (left, right) = (libm::cos(angle), libm::sin(angle));
    if stereo {
        let raised = |gain: f64| (gain * std::f64::consts::SQRT_2).min(1.0);
        (raised(left), raised(right))
    } else {
        (left, right)
    }
}

/// Gains of what leaves and of what comes at `frame` of a loop's last `crossfade` frames, where both are so alike. They lie on straight lines,
/// divided by √(a² + b² + 2ρab): two sounds of one power and of correlation ρ then have that power all the way. Alike (ρ = 1) it is the linear
/// fade, unlike (ρ = 0) one of equal power. The engine plays by it and the formats bake it.
pub fn crossfade_gains(frame: u64, crossfade: u64, likeness_percent: u8) -> (f64, f64) {
    if crossfade == 0 {
        return (1.0, 0.0);
    }
    let coming = (frame as f64 + 1.0) / (crossfade as f64 + 1.0);
    let leaving = 1.0 - coming;
    let likeness = f64::from(likeness_percent.min(100)) / 100.0;
    let power = libm::sqrt(leaving * leaving + coming * coming + 2.0 * likeness * leaving * coming);
    (leaving / power, coming / power)
}

/// Level at a share of a fade-in, 0 to 1; a fade-out runs backwards through it.
pub fn fade_gain(curve: FadeCurve, share: f64) -> f64 {
    /// ln 100: from 40 dB down.
    const STEEP: f64 = 4.605_170_185_988_091;
    match curve {
        FadeCurve::Straight => share,
        FadeCurve::EqualPower => libm::sin(share * std::f64::consts::FRAC_PI_2),
        FadeCurve::Exponential => libm::expm1(STEEP * share) / libm::expm1(STEEP),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn velocity_follows_the_concave_curve_of_soundfont_2_04() {
        // Section 9.5.1 as common practice reads it: attenuation = 400·log₁₀(127/v) centibels.
        assert!((velocity_gain_db(64, 1.0) + 11.905).abs() < 1e-3);
        assert_eq!(velocity_gain_db(127, 1.0), 0.0);
        assert_eq!(velocity_gain_db(1, 0.0), 0.0);
    }

    #[test]
    fn a_crossfade_keeps_the_power_of_what_it_joins() {
        for likeness in [0u8, 50, 83, 100] {
            for frame in 0..99 {
                let (a, b) = crossfade_gains(frame, 99, likeness);
                let power = a * a + b * b + 2.0 * f64::from(likeness) / 100.0 * a * b;
                assert!((power - 1.0).abs() < 1e-12);
            }
        }
        let (a, b) = crossfade_gains(24, 99, 100);
        assert!((a - 0.75).abs() < 1e-12 && (b - 0.25).abs() < 1e-12);
        let (a, b) = crossfade_gains(49, 99, 0);
        assert!((a - 0.5f64.sqrt()).abs() < 1e-12 && (b - a).abs() < 1e-12);
        assert_eq!(crossfade_gains(0, 0, 100), (1.0, 0.0));
    }

    #[test]
    fn fades_begin_at_nothing_and_end_at_all() {
        for curve in [FadeCurve::Straight, FadeCurve::EqualPower, FadeCurve::Exponential] {
            assert!(fade_gain(curve, 0.0).abs() < 1e-12 && (fade_gain(curve, 1.0) - 1.0).abs() < 1e-12);
        }
        let (up, down) = (
            fade_gain(FadeCurve::EqualPower, 0.3),
            fade_gain(FadeCurve::EqualPower, 0.7),
        );
        assert!((up * up + down * down - 1.0).abs() < 1e-12);
        // Half-way 20 dB down, but for what makes it reach nothing.
        assert!((20.0 * fade_gain(FadeCurve::Exponential, 0.5).log10() + 20.8).abs() < 0.1);
    }

    /// The first numbers of SplitMix64 from seed 0, as its authors' reference gives them (from memory).
    #[test]
    fn strikes_draw_their_numbers_from_splitmix() {
        let share = |word: u64| (word >> 11) as f64 / (1u64 << 53) as f64;
        assert_eq!(strike_random(0, 1), share(0xE220_A839_7B1D_CDAF));
        assert_eq!(strike_random(0, 2), share(0x6E78_9E6A_A1B9_65F4));
        assert_ne!(strike_random(1, 1), strike_random(0, 1));
    }

    #[test]
    fn pitch_follows_the_key_as_far_as_it_is_said_to() {
        let mut program = Program::default();
        let mut region = Region::whole(0, 60, 100);
        let ratio = |program: &Program, region: &Region| playback_ratio(program, region, 72, 48_000.0);
        assert!((ratio(&program, &region) - 2.0).abs() < 1e-12);
        region.key_follow = 0.0;
        assert_eq!(ratio(&program, &region), 1.0);
        region.key_follow = -1.0;
        assert!((ratio(&program, &region) - 0.5).abs() < 1e-12);
        let mut strand = crate::Strand::new(region.key.strand, "Keys", crate::ShapeId(0));
        strand.transpose_keys = 12;
        program.strands.push(strand);
        assert!((ratio(&program, &region) - 1.0).abs() < 1e-12);
    }

    #[test]
    fn panning_keeps_the_power_of_one_side_and_lowers_one_of_two() {
        for pan in [-1.0, -0.3, 0.0, 0.7, 1.0] {
            let (left, right) = pan_gains(pan, false);
            assert!((left * left + right * right - 1.0).abs() < 1e-12);
            let (wide_left, wide_right) = pan_gains(pan, true);
            assert!((wide_left.max(wide_right) - 1.0).abs() < 1e-12);
            let falls = std::f64::consts::SQRT_2 * left.min(right);
            assert!((wide_left.min(wide_right) - falls).abs() < 1e-12);
        }
        assert!((pan_gains(0.0, true).0 - 1.0).abs() < 1e-12);
        assert!((20.0 * pan_gains(0.0, false).0.log10() + 3.0103).abs() < 1e-3);
    }
}
