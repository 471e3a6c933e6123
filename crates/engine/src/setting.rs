//! Numbers of a region that are dragged while it sounds.

use program::{CourseId, Effect, MovementId, Rate, Region, RouteId, Shape};

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

/// What of an effect can be dragged and heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EffectSetting {
    /// Whether it is on: 0 or 1.
    On,
    /// Its level, in dB.
    LevelDb,
    /// One of its settings, by its place.
    Setting(usize),
}

impl EffectSetting {
    /// By its number on the border to the browser: settings from 2 on.
    pub fn of_number(number: usize) -> Self {
        match number {
            0 => Self::On,
            1 => Self::LevelDb,
            n => Self::Setting(n - 2),
        }
    }
}

/// Sets one number of an effect; what is not there is ignored.
pub(crate) fn set_effect(effect: &mut Effect, setting: EffectSetting, value: f64) {
    match setting {
        EffectSetting::On => effect.on = value >= 0.5,
        EffectSetting::LevelDb => effect.level_db = value.clamp(-96.0, 24.0),
        EffectSetting::Setting(n) => {
            if let Some(set) = effect.settings.get_mut(n) {
                *set = value;
            }
        }
    }
}

/// What of a strand's shape can be dragged and heard. What there are several of is told by its name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShapeSetting {
    /// See [`program::Loudness::delay_ms`], and so the six below.
    DelayMs,
    /// From silence to full.
    AttackMs,
    /// How long it stays full.
    HoldMs,
    /// For 100 dB.
    DecayMs,
    /// Where it is held.
    SustainDb,
    /// For 100 dB.
    ReleaseMs,
    /// How strongly the strike drives level.
    StrikeToLevel,
    /// The filter's cutoff.
    CutoffHz,
    /// Its resonance.
    ResonanceDb,
    /// How far it follows the key.
    KeyFollow,
    /// How far a route drives.
    RouteAmount,
    /// Rounds a second of a movement.
    MovementHz,
    /// How long it fades in.
    MovementFadeMs,
    /// Delay of a course.
    CourseDelayMs,
    /// Its attack.
    CourseAttackMs,
    /// Its hold.
    CourseHoldMs,
    /// Its decay.
    CourseDecayMs,
    /// Where it is held.
    CourseSustain,
    /// Its release.
    CourseReleaseMs,
    /// How the attack of loudness bends.
    AttackBend,
    /// How its decay does.
    DecayBend,
    /// How its release does.
    ReleaseBend,
    /// How the attack of a course bends.
    CourseAttackBend,
    /// How its decay does.
    CourseDecayBend,
    /// How its release does.
    CourseReleaseBend,
}

impl ShapeSetting {
    /// In the order of their numbers on the border to the browser.
    pub const ALL: [Self; 25] = [
        Self::DelayMs,
        Self::AttackMs,
        Self::HoldMs,
        Self::DecayMs,
        Self::SustainDb,
        Self::ReleaseMs,
        Self::StrikeToLevel,
        Self::CutoffHz,
        Self::ResonanceDb,
        Self::KeyFollow,
        Self::RouteAmount,
        Self::MovementHz,
        Self::MovementFadeMs,
        Self::CourseDelayMs,
        Self::CourseAttackMs,
        Self::CourseHoldMs,
        Self::CourseDecayMs,
        Self::CourseSustain,
        Self::CourseReleaseMs,
        Self::AttackBend,
        Self::DecayBend,
        Self::ReleaseBend,
        Self::CourseAttackBend,
        Self::CourseDecayBend,
        Self::CourseReleaseBend,
    ];
}

/// Sets one number of a shape; what is not there is ignored.
pub(crate) fn set_shape(shape: &mut Shape, setting: ShapeSetting, of: u64, value: f64) {
    let number = match setting {
        ShapeSetting::DelayMs => Some(&mut shape.loudness.delay_ms),
        ShapeSetting::AttackMs => Some(&mut shape.loudness.attack_ms),
        ShapeSetting::HoldMs => Some(&mut shape.loudness.hold_ms),
        ShapeSetting::DecayMs => Some(&mut shape.loudness.decay_ms),
        ShapeSetting::SustainDb => Some(&mut shape.loudness.sustain_db),
        ShapeSetting::ReleaseMs => Some(&mut shape.loudness.release_ms),
        ShapeSetting::AttackBend => Some(&mut shape.loudness.bends[0]),
        ShapeSetting::DecayBend => Some(&mut shape.loudness.bends[1]),
        ShapeSetting::ReleaseBend => Some(&mut shape.loudness.bends[2]),
        ShapeSetting::StrikeToLevel => Some(&mut shape.loudness.velocity_to_level),
        ShapeSetting::CutoffHz => shape.filter.as_mut().map(|filter| &mut filter.cutoff_hz),
        ShapeSetting::ResonanceDb => shape.filter.as_mut().map(|filter| &mut filter.resonance_db),
        ShapeSetting::KeyFollow => shape.filter.as_mut().map(|filter| &mut filter.key_follow),
        ShapeSetting::RouteAmount => (shape.routes.iter_mut())
            .find(|route| route.id == RouteId(of))
            .map(|route| &mut route.amount),
        ShapeSetting::MovementHz | ShapeSetting::MovementFadeMs => {
            let Some(movement) = shape
                .movements
                .iter_mut()
                .find(|movement| movement.id == MovementId(of))
            else {
                return;
            };
            if setting == ShapeSetting::MovementHz {
                movement.rate = Rate::Hz(value);
                return;
            }
            Some(&mut movement.fade_in_ms)
        }
        ShapeSetting::CourseDelayMs
        | ShapeSetting::CourseAttackMs
        | ShapeSetting::CourseHoldMs
        | ShapeSetting::CourseDecayMs
        | ShapeSetting::CourseSustain
        | ShapeSetting::CourseReleaseMs
        | ShapeSetting::CourseAttackBend
        | ShapeSetting::CourseDecayBend
        | ShapeSetting::CourseReleaseBend => {
            let course = shape.courses.iter_mut().find(|course| course.id == CourseId(of));
            course.map(|course| match setting {
                ShapeSetting::CourseDelayMs => &mut course.delay_ms,
                ShapeSetting::CourseAttackMs => &mut course.attack_ms,
                ShapeSetting::CourseHoldMs => &mut course.hold_ms,
                ShapeSetting::CourseDecayMs => &mut course.decay_ms,
                ShapeSetting::CourseSustain => &mut course.sustain,
                ShapeSetting::CourseAttackBend => &mut course.bends[0],
                ShapeSetting::CourseDecayBend => &mut course.bends[1],
                ShapeSetting::CourseReleaseBend => &mut course.bends[2],
                _ => &mut course.release_ms,
            })
        }
    };
    if let Some(number) = number {
        *number = value;
    }
}
