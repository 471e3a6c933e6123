//! Loops.

use serde::{Deserialize, Serialize};

/// When a loop is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LoopRuns {
    /// At key-up the sound plays on past the loop's end.
    WhileHeld,
    /// The loop goes on through the release.
    ThroughRelease,
}

/// Which way a loop is gone.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LoopWay {
    /// From start to end, and again from the start.
    #[default]
    Forward,
    /// From start to end and back to the start. It turns in place, so that nothing is crossfaded.
    BackAndForth,
}

/// A loop.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Loop {
    /// First frame of the loop.
    pub start_frame: u64,
    /// First frame after the loop.
    pub end_frame: u64,
    /// Frames before the end over which the sound fades into what lies before the start.
    pub crossfade_frames: u64,
    /// How alike the two sounds of the crossfade are, 0 to 100: it keeps the power of such a pair, see [`crate::crossfade_gains`].
    pub likeness_percent: u8,
    /// Which way it is gone.
    pub way: LoopWay,
    /// When it is left.
    pub runs: LoopRuns,
}

impl Loop {
    /// A forward loop without a crossfade.
    pub fn plain(start_frame: u64, end_frame: u64, runs: LoopRuns) -> Self {
        Self {
            start_frame,
            end_frame,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: LoopWay::Forward,
            runs,
        }
    }

    /// Frames of one round.
    pub fn round_frames(&self) -> u64 {
        let length = self.end_frame - self.start_frame;
        match self.way {
            LoopWay::Forward => length,
            LoopWay::BackAndForth => 2 * length,
        }
    }

    /// The place after one round. Where a loop goes back and forth, places past its end are those on the way back.
    pub fn round_end(&self) -> u64 {
        self.start_frame + self.round_frames()
    }

    /// The frame heard at a place before [`Loop::round_end`].
    pub fn frame_at(&self, place: u64) -> u64 {
        if place < self.end_frame {
            place
        } else {
            (2 * self.end_frame - 1).saturating_sub(place)
        }
    }

    /// Whether it goes on after the key is up. One that turns has no way out but the release.
    pub fn runs_through_release(&self) -> bool {
        self.runs == LoopRuns::ThroughRelease || self.way == LoopWay::BackAndForth
    }

    /// Whether the loop lies inside `frames` and its crossfade has audio to fade from.
    pub fn fits(&self, frames: u64) -> bool {
        self.start_frame < self.end_frame
            && self.end_frame <= frames
            && self.crossfade_frames <= self.start_frame
            && self.crossfade_frames <= self.end_frame - self.start_frame
    }
}
