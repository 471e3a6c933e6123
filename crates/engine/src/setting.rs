//! Numbers of a region that are dragged while it sounds.

use program::Region;

/// What of a region can be dragged and heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Setting {
    /// First frame, for what is struck from now on.
    StartFrame,
    /// First frame not played.
    EndFrame,
    /// Level.
    GainDb,
    /// Cents above the root.
    RecordingCents,
    /// Cents added.
    TuneCents,
    /// Place.
    Pan,
    /// First frame of the loop.
    LoopStart,
    /// First frame after it.
    LoopEnd,
    /// Its crossfade.
    LoopCrossfade,
}

impl Setting {
    /// In the order of their numbers on the border to the browser.
    pub const ALL: [Self; 9] = [
        Self::StartFrame,
        Self::EndFrame,
        Self::GainDb,
        Self::RecordingCents,
        Self::TuneCents,
        Self::Pan,
        Self::LoopStart,
        Self::LoopEnd,
        Self::LoopCrossfade,
    ];
}

/// Sets one number of a region; what does not fit it is ignored.
pub(crate) fn set(region: &mut Region, setting: Setting, value: f64) {
    let frames = value.max(0.0) as u64;
    match setting {
        Setting::StartFrame => region.start_frame = frames,
        Setting::EndFrame => region.end_frame = frames,
        Setting::GainDb => region.gain_db = value.clamp(-96.0, 48.0),
        Setting::RecordingCents => region.recording_cents = value,
        Setting::TuneCents => region.tune_cents = value,
        Setting::Pan => region.pan = value.clamp(-1.0, 1.0),
        Setting::LoopStart | Setting::LoopEnd | Setting::LoopCrossfade => {
            let Some(looped) = &mut region.looped else {
                return;
            };
            let mut next = *looped;
            match setting {
                Setting::LoopStart => next.start_frame = frames,
                Setting::LoopEnd => next.end_frame = frames,
                _ => next.crossfade_frames = frames,
            }
            if next.start_frame + 1 < next.end_frame {
                next.crossfade_frames = next
                    .crossfade_frames
                    .min(next.start_frame.saturating_sub(region.start_frame))
                    .min(next.end_frame - next.start_frame);
                *looped = next;
            }
        }
    }
}
