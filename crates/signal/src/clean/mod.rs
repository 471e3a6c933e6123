//! Treatments that alter samples: channels, DC, high-pass, hum, hiss, expander, compressor, evening, limiter, in this order.
//!
//! Every stage keeps the number of frames and where they stand, so that starts, ends and loops found on the recording hold for
//! what comes out.

mod channels;
mod dynamics;
mod evening;
mod filters;
mod hiss;

use crate::Audio;
pub use evening::find_evened_loops;
pub use filters::find_hum;
pub use hiss::noise_bands;
use serde::{Deserialize, Serialize};

/// Counts up whenever a stage here gives other samples: what was rendered by an older one is rendered anew.
pub const CLEAN_VERSION: u32 = 2;

/// Which sides are heard.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Sides {
    /// As recorded.
    #[default]
    Both,
    /// Mono: the mean of both.
    Sum,
    /// Mono: the left one.
    Left,
    /// Mono: the right one.
    Right,
    /// Left and right exchanged.
    Swapped,
}

/// What is done to the sides.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Channels {
    /// Which are heard.
    pub sides: Sides,
    /// Level of what differs between left and right: 0 is mono, 1 as recorded, up to 2.
    pub width: f64,
}

/// A Butterworth high-pass.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HighPass {
    /// 3 dB down, 10 to 2,000.
    pub hz: f64,
    /// 12, 24, 36 or 48.
    pub db_per_octave: u32,
}

/// Notches at the mains' frequency and those of its partials that stand out.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Hum {
    /// `None`: found in the take's silence.
    pub hz: Option<f64>,
}

/// Hiss taken out by its spectrum.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Hiss {
    /// By how much it is lowered where nothing sounds, 0 to 40.
    pub reduction_db: f64,
}

/// A downward expander under the tail.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Expander {
    /// It begins so far over the noise floor, 0 to 40.
    pub over_floor_db: f64,
    /// A decibel under it becomes so many, 1 to 4.
    pub ratio: f64,
}

/// A compressor with a soft knee of 6 dB.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Compressor {
    /// It begins here, −60 to 0.
    pub threshold_dbfs: f64,
    /// So many decibels over it become one, 1 to 10.
    pub ratio: f64,
}

/// A look-ahead limiter of true peaks.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Limiter {
    /// No peak, between the samples too, is higher; −24 to 0.
    pub ceiling_dbtp: f64,
}

/// Level and slow spectral drift flattened over the loop.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Evening {
    /// How much of the drift is taken out, 0 to 1.
    pub share: f64,
}

/// All stages; what is `None` is off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cleaning {
    /// See [`Channels`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channels: Option<Channels>,
    /// Whether the mean is taken out.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub remove_dc: bool,
    /// See [`HighPass`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high_pass: Option<HighPass>,
    /// See [`Hum`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hum: Option<Hum>,
    /// See [`Hiss`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hiss: Option<Hiss>,
    /// See [`Expander`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expander: Option<Expander>,
    /// See [`Compressor`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compressor: Option<Compressor>,
    /// See [`Evening`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evening: Option<Evening>,
    /// See [`Limiter`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limiter: Option<Limiter>,
}

/// One stage of cleaning, in their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Stage {
    /// See [`Channels`].
    Channels,
    /// The mean taken out.
    RemoveDc,
    /// See [`HighPass`].
    HighPass,
    /// See [`Hum`].
    Hum,
    /// See [`Hiss`].
    Hiss,
    /// See [`Expander`].
    Expander,
    /// See [`Compressor`].
    Compressor,
    /// See [`Evening`].
    Evening,
    /// See [`Limiter`].
    Limiter,
}

impl Stage {
    /// All, in the order in which they are done.
    pub const ALL: [Self; 9] = [
        Self::Channels,
        Self::RemoveDc,
        Self::HighPass,
        Self::Hum,
        Self::Hiss,
        Self::Expander,
        Self::Compressor,
        Self::Evening,
        Self::Limiter,
    ];
}

impl Cleaning {
    /// The stages up to one, and that one.
    pub fn through(self, stage: Stage) -> Self {
        let later = Stage::ALL.into_iter().filter(|other| *other > stage);
        later.fold(self, Self::without)
    }

    /// All stages but one: what that one does is heard by comparing.
    pub fn without(mut self, stage: Stage) -> Self {
        match stage {
            Stage::Channels => self.channels = None,
            Stage::RemoveDc => self.remove_dc = false,
            Stage::HighPass => self.high_pass = None,
            Stage::Hum => self.hum = None,
            Stage::Hiss => self.hiss = None,
            Stage::Expander => self.expander = None,
            Stage::Compressor => self.compressor = None,
            Stage::Evening => self.evening = None,
            Stage::Limiter => self.limiter = None,
        }
        self
    }

    /// Whether nothing is to be done.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// How many channels come out of so many.
    pub fn channels_out(&self, channels: usize) -> usize {
        match self.channels.map(|c| c.sides) {
            Some(Sides::Sum | Sides::Left | Sides::Right) => channels.min(1),
            _ => channels,
        }
    }
}

/// Where a take sounds: its silence is the fingerprint of hum and hiss. Frames count from the take's first.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Places {
    /// First frame of the sound.
    pub start_frame: usize,
    /// First frame after it.
    pub end_frame: usize,
    /// First frame of the loop, and the first after it.
    pub looped: Option<(usize, usize)>,
}

/// The take with every stage done. Samples that are no numbers count as silence.
pub fn clean(audio: &Audio, wished: &Cleaning, places: Places) -> Audio {
    clean_in_room(audio, wished, places, &[])
}

/// The same, with the [`noise_bands`] of the room it was recorded in, for takes that have no silence of their own; none where they are not known.
pub fn clean_in_room(audio: &Audio, wished: &Cleaning, places: Places, room: &[f32]) -> Audio {
    let mut out = audio.clone();
    for x in out.channels.iter_mut().flatten().filter(|x| !x.is_finite()) {
        *x = 0.0;
    }
    if let Some(wish) = &wished.channels {
        out = channels::channels(out, wish);
    }
    if wished.remove_dc {
        filters::remove_dc(&mut out);
    }
    if let Some(wish) = &wished.high_pass {
        filters::high_pass(&mut out, wish);
    }
    let silence = silence(&out, places);
    if let Some(wish) = &wished.hum {
        filters::hum(&mut out, wish, &silence);
    }
    if let Some(wish) = &wished.hiss {
        hiss::hiss(&mut out, wish, &silence, room);
    }
    if let Some(wish) = &wished.expander {
        dynamics::expander(&mut out, wish, &silence);
    }
    if let Some(wish) = &wished.compressor {
        dynamics::compressor(&mut out, wish);
    }
    if let (Some(wish), Some((start, end))) = (&wished.evening, places.looped) {
        evening::evening(&mut out, wish, start, end);
    }
    if let Some(wish) = &wished.limiter {
        dynamics::limiter(&mut out, wish);
    }
    out
}

/// What `clean` took away: the recording less what came out of it, side by side where both have as many channels, else of the sum.
pub fn taken_away(audio: &Audio, cleaned: &Audio) -> Audio {
    let (from, less) = if audio.channels.len() == cleaned.channels.len() {
        (audio.channels.clone(), cleaned.channels.clone())
    } else {
        (vec![audio.to_mono()], vec![cleaned.to_mono()])
    };
    let channels = from
        .into_iter()
        .zip(less)
        .map(|(mut from, less)| {
            for (x, y) in from.iter_mut().zip(less) {
                *x -= y;
            }
            from
        })
        .collect();
    Audio {
        rate_hz: audio.rate_hz,
        channels,
    }
}

/// Near the sound there is still some of it: so much is left out of the silence, ms.
const NEAR_MS: f64 = 10.0;

/// The longer of the stretches before and after the sound, as frames.
fn silence(audio: &Audio, places: Places) -> std::ops::Range<usize> {
    let near = crate::frames_of_ms(audio.rate_hz, NEAR_MS);
    let before = 0..places.start_frame.saturating_sub(near).min(audio.frames());
    let after = (places.end_frame + near).min(audio.frames())..audio.frames();
    if before.len() >= after.len() {
        before
    } else {
        after
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use rand::{Rng, SeedableRng};
    use std::f64::consts::TAU;

    pub(crate) const RATE: u32 = 48_000;

    pub(crate) fn tone(hz: f64, level: f64, frames: usize) -> Vec<f32> {
        (0..frames)
            .map(|n| ((n as f64 * hz / f64::from(RATE) * TAU).sin() * level) as f32)
            .collect()
    }

    /// White, uniform, of this RMS.
    pub(crate) fn noise(rms: f64, frames: usize, seed: u64) -> Vec<f32> {
        let mut random = rand_pcg::Pcg32::seed_from_u64(seed);
        (0..frames)
            .map(|_| (random.random_range(-1.0..1.0) * rms * 3f64.sqrt()) as f32)
            .collect()
    }

    pub(crate) fn sum(a: &[f32], b: &[f32]) -> Vec<f32> {
        a.iter().zip(b).map(|(a, b)| a + b).collect()
    }

    pub(crate) fn rms_db(samples: &[f32]) -> f64 {
        crate::rms_dbfs(&Audio::mono(RATE, samples.to_vec()))
    }

    #[test]
    fn nothing_wished_is_nothing_done_and_frames_stay_where_they_are() {
        let audio = Audio {
            rate_hz: RATE,
            channels: vec![noise(0.1, 30_000, 1), noise(0.1, 30_000, 2)],
        };
        let places = Places {
            start_frame: 5_000,
            end_frame: 20_000,
            looped: Some((8_000, 15_000)),
        };
        assert_eq!(clean(&audio, &Cleaning::default(), places), audio);
        let all = Cleaning {
            channels: Some(Channels {
                sides: Sides::Swapped,
                width: 0.5,
            }),
            remove_dc: true,
            high_pass: Some(HighPass {
                hz: 40.0,
                db_per_octave: 24,
            }),
            hum: Some(Hum { hz: None }),
            hiss: Some(Hiss { reduction_db: 12.0 }),
            expander: Some(Expander {
                over_floor_db: 6.0,
                ratio: 2.0,
            }),
            compressor: Some(Compressor {
                threshold_dbfs: -20.0,
                ratio: 3.0,
            }),
            evening: Some(Evening { share: 1.0 }),
            limiter: Some(Limiter { ceiling_dbtp: -1.0 }),
        };
        // Each takes out what no other does.
        let none = Stage::ALL.into_iter().fold(all, Cleaning::without);
        assert!(none.is_empty() && Stage::ALL.iter().all(|stage| all.without(*stage) != all));
        let through = all.through(Stage::Hum);
        assert!(through.channels.is_some() && through.hum.is_some() && through.hiss.is_none());
        assert_eq!(all.through(Stage::Limiter), all);
        for short in [0, 1, 3, 700, 30_000] {
            let out = clean(&audio.slice(0, short), &all, places);
            assert_eq!((out.frames(), out.channels.len()), (short, 2));
            assert!(out.channels.iter().flatten().all(|x| x.is_finite()));
        }
        let mut broken = audio.clone();
        broken.channels[0][7] = f32::NAN;
        broken.channels[1][9] = f32::INFINITY;
        let out = clean(&broken, &all, places);
        assert!(out.channels.iter().flatten().all(|x| x.is_finite()));
        let away = taken_away(&audio, &clean(&audio, &all, places));
        assert_eq!((away.frames(), away.channels.len()), (30_000, 2));
    }
}
