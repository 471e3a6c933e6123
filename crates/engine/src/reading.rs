//! What is read of a sample around a place: its fades, its loop gone round, and silence beside it.

use crate::interpolate::WIDEST_HALF;
use program::{Loop, LoopWay, Region, crossfade_gains, fade_gain};

/// Fades at both ends; a looped voice never comes to its end.
pub(crate) fn fade(region: &Region, frame: u64, looped: bool) -> f32 {
    let mut gain = 1.0;
    let since = frame.saturating_sub(region.start_frame);
    if since < region.fade_in_frames {
        gain *= fade_gain(region.fade_curve, since as f64 / region.fade_in_frames as f64) as f32;
    }
    let left = region.end_frame.saturating_sub(frame);
    if !looped && left < region.fade_out_frames {
        gain *= fade_gain(region.fade_curve, left as f64 / region.fade_out_frames as f64) as f32;
    }
    gain
}

/// The `2·half` frames around `frame`, in place where they lie together, else put together in `window`.
pub(crate) fn taps<'a>(
    channel: &'a [f32],
    region: &Region,
    looped: Option<&Loop>,
    looping: bool,
    frame: usize,
    half: usize,
    window: &'a mut [f32; 2 * WIDEST_HALF],
) -> &'a [f32] {
    let (first, end) = ((frame + 1).wrapping_sub(half), frame + 1 + half);
    let edge = looped.map_or(region.end_frame, |l| l.end_frame - crossfade(l)) as usize;
    let whole = frame + 1 >= half && end <= edge.min(channel.len()) && first >= region.start_frame as usize;
    let before_start = looping && looped.is_some_and(|l| first < l.start_frame as usize);
    if whole && !before_start {
        return &channel[first..end];
    }
    for (slot, offset) in window[..2 * half].iter_mut().zip(0i64..) {
        *slot = frame_at(
            channel,
            region,
            looped,
            looping,
            frame as i64 + 1 - half as i64 + offset,
        );
    }
    &window[..2 * half]
}

/// One frame as it is heard: loops are gone round and their crossfade is in it; outside the region is silence.
fn frame_at(channel: &[f32], region: &Region, looped: Option<&Loop>, looping: bool, frame: i64) -> f32 {
    let read = |at: i64| -> f32 {
        let inside = at >= region.start_frame as i64;
        usize::try_from(at)
            .ok()
            .filter(|_| inside)
            .and_then(|at| channel.get(at))
            .copied()
            .unwrap_or(0.0)
    };
    let Some(looped) = looped else {
        return if frame < region.end_frame as i64 {
            read(frame)
        } else {
            0.0
        };
    };
    let (start, end) = (looped.start_frame as i64, looped.end_frame as i64);
    let round = looped.round_frames() as i64;
    let mut at = frame;
    if at >= start + round {
        at -= round;
    } else if looping && at < start {
        at += round;
    }
    if let (LoopWay::BackAndForth, Ok(place)) = (looped.way, u64::try_from(at)) {
        return read(looped.frame_at(place) as i64);
    }
    let faded = crossfade(looped);
    let fade_from = end - faded as i64;
    if at < fade_from || at >= end {
        return read(at);
    }
    let (leaving, coming) = crossfade_gains((at - fade_from) as u64, faded, looped.likeness_percent);
    read(at) * leaving as f32 + read(at - (end - start)) * coming as f32
}

/// A loop that turns in place has nothing to fade.
pub(crate) fn crossfade(looped: &Loop) -> u64 {
    match looped.way {
        LoopWay::Forward => looped.crossfade_frames,
        LoopWay::BackAndForth => 0,
    }
}
