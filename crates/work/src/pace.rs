//! How long an export takes, from those that were made before.

use crate::ExportSettings;
use formats::Format;
use serde::{Deserialize, Serialize};

/// What an export that was made took.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Took {
    /// Its audio, in bytes, as it was foreseen.
    pub audio_bytes: u64,
    /// Seconds.
    pub seconds: f64,
}

/// Bytes of audio in a second while nothing was made here yet, as measured on two cores (accuracy page): writing, reading back and comparing.
const AT_FIRST: [(Kind, f64); 4] = [
    (Kind::Files, 100e6),
    (Kind::Packed, 12e6),
    (Kind::SoundFont, 100e6),
    (Kind::Resampled, 6e6),
];

/// What decides how fast it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Files,
    Packed,
    SoundFont,
    Resampled,
}

impl Kind {
    fn of(settings: ExportSettings) -> Self {
        match settings {
            _ if settings.form.rate_hz.is_some() => Self::Resampled,
            ExportSettings { flac: true, .. }
            | ExportSettings {
                format: Format::Page, ..
            } => Self::Packed,
            ExportSettings {
                format: Format::SoundFont2,
                ..
            } => Self::SoundFont,
            ExportSettings { .. } => Self::Files,
        }
    }
}

/// Seconds that an export of so many bytes of audio will take; `before` are those that were made here.
pub fn seconds_foreseen(
    audio_bytes: u64,
    settings: ExportSettings,
    before: &[(ExportSettings, Took)],
) -> f64 {
    let kind = Kind::of(settings);
    let (bytes, seconds) = (before.iter())
        .filter(|(of, took)| Kind::of(*of) == kind && took.seconds > 0.0)
        .fold((0.0, 0.0), |(bytes, seconds), (_, took)| {
            (bytes + took.audio_bytes as f64, seconds + took.seconds)
        });
    let known = (bytes > 0.0).then(|| bytes / seconds);
    let pace = known.or_else(|| Some(AT_FIRST.iter().find(|(of, _)| *of == kind)?.1));
    pace.map_or(0.0, |pace| audio_bytes as f64 / pace)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_made_before_says_how_long_its_like_takes() -> anyhow::Result<()> {
        let wav = ExportSettings::of(Format::Sfz, 24)?;
        let flac = wav.with(true, false)?;
        let took = |audio_bytes, seconds| Took { audio_bytes, seconds };
        let before = [
            (flac, took(100, 50.0)),
            (wav, took(900, 3.0)),
            (wav, took(100, 1.0)),
        ];
        assert_eq!(seconds_foreseen(500, wav, &before), 2.0);
        assert_eq!(seconds_foreseen(500, flac, &before), 250.0);
        // Of a kind that was never made, and where the clock stood.
        let at_first = seconds_foreseen(100_000_000, wav, &[(wav, took(5, 0.0)), before[0]]);
        assert_eq!(at_first, 1.0);
        Ok(())
    }
}
