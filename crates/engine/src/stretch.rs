//! The stretch of a sample that a voice plays, and what is read of it around a place: its fades, its loop gone round, and silence beside it.

use crate::drive::Nudge;
use crate::interpolate::WIDEST_HALF;
use crate::reader::Reader;
use program::{FadeCurve, Loop, LoopWay, Program, Region, Sample, SampleId, crossfade_gains, fade_gain};
use std::ops::{ControlFlow, Range};

/// No loop is driven shorter, in frames.
const SHORTEST_LOOP: u64 = 32;

/// What a voice needs of its region and sample while it sounds: a copy, so that it can fade when they are gone.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Stretch {
    pub(crate) sample: SampleId,
    /// 1 or 2.
    pub(crate) channels: u8,
    /// Of the whole sample.
    pub(crate) frames: u64,
    pub(crate) start_frame: u64,
    pub(crate) end_frame: u64,
    pub(crate) fade_in_frames: u64,
    pub(crate) fade_out_frames: u64,
    fade_curve: FadeCurve,
    /// As it is gone, in the sample's frames.
    pub(crate) looped: Option<Loop>,
    /// Its key does not end it.
    pub(crate) to_end: bool,
    /// The name under which its seam lies among the slabs, see [`Course::seam_run`].
    pub(crate) seam: SampleId,
}

impl Stretch {
    pub(crate) const NOTHING: Self = Self {
        sample: SampleId(0),
        channels: 1,
        frames: 0,
        start_frame: 0,
        end_frame: 0,
        fade_in_frames: 0,
        fade_out_frames: 0,
        fade_curve: FadeCurve::Straight,
        looped: None,
        to_end: false,
        seam: SampleId(0),
    };

    /// What a region plays, driven so far from where it is; nothing where its sample is not there.
    pub(crate) fn of(program: &Program, region: &Region, nudge: &Nudge) -> Self {
        let Some(sample) = program.samples.get(region.sample) else {
            return Self::NOTHING;
        };
        let looped = program.loop_of(region);
        if *nudge == Nudge::default() {
            Self::plain(sample, region, region.start_frame, looped)
        } else {
            let end = region.end_frame.min(sample.frames);
            let looped = looped.map(|looped| nudged(looped, end, nudge));
            // It still has something to play, and comes to its loop from before it.
            let last = looped.map_or(end, |looped| looped.start_frame).saturating_sub(1);
            let share = (end.saturating_sub(region.start_frame)) as f64;
            let start = (region.start_frame as f64 + nudge.start * share).clamp(0.0, last as f64) as u64;
            Self::plain(sample, region, start.max(region.start_frame.min(last)), looped)
        }
    }

    fn plain(sample: &Sample, region: &Region, start_frame: u64, looped: Option<Loop>) -> Self {
        Self {
            sample: sample.id,
            channels: sample.channels.clamp(1, 2) as u8,
            frames: sample.frames,
            start_frame,
            end_frame: region.end_frame.min(sample.frames),
            fade_in_frames: region.fade_in_frames,
            fade_out_frames: region.fade_out_frames,
            fade_curve: region.fade_curve,
            looped: looped.filter(|looped| looped.fits(sample.frames)),
            to_end: region.to_end,
            seam: looped.map_or(SampleId(0), |looped| {
                let of = [
                    sample.id.0,
                    start_frame,
                    looped.start_frame,
                    looped.end_frame,
                    looped.crossfade_frames,
                    u64::from(looped.likeness_percent),
                    u64::from(looped.way == LoopWay::BackAndForth),
                ];
                SampleId::of("seam", &of)
            }),
        }
    }

    /// Fades at both ends; a looped voice never comes to its end.
    pub(crate) fn fade(&self, frame: u64, looped: bool) -> f32 {
        let mut gain = 1.0;
        let since = frame.saturating_sub(self.start_frame);
        if since < self.fade_in_frames {
            gain *= fade_gain(self.fade_curve, since as f64 / self.fade_in_frames as f64) as f32;
        }
        let left = self.end_frame.saturating_sub(frame);
        if !looped && left < self.fade_out_frames {
            gain *= fade_gain(self.fade_curve, left as f64 / self.fade_out_frames as f64) as f32;
        }
        gain
    }
}

/// A loop that begins so much later, as a share of what is played, and is so much longer, as a share of itself, as far as there is anything to play.
fn nudged(looped: Loop, end: u64, nudge: &Nudge) -> Loop {
    let length = (looped.end_frame - looped.start_frame) as f64 * (1.0 + nudge.loop_length);
    let start = looped.start_frame as f64 + nudge.loop_start * end as f64;
    let start = start.clamp(1.0, end.saturating_sub(SHORTEST_LOOP).max(1) as f64) as u64;
    let length = (length.max(SHORTEST_LOOP as f64) as u64).min(end.saturating_sub(start));
    Loop {
        start_frame: start,
        end_frame: start + length,
        crossfade_frames: looped.crossfade_frames.min(start).min(length),
        ..looped
    }
}

/// A place in a stretch, and how it goes on from there.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Course<'a> {
    pub(crate) stretch: &'a Stretch,
    /// The loop that it is in or comes to.
    pub(crate) looped: Option<Loop>,
    /// Whether the loop has been gone round, so that frames before its start are those before its end.
    pub(crate) looping: bool,
    /// Frames that are read on either side.
    pub(crate) half: usize,
}

impl Course<'_> {
    /// What is read of the sample while it goes on from a frame for so many, in the order of need: each range of frames, and how many frames from now
    /// it is needed. Loops are gone round twice at most: then all of them has been.
    pub(crate) fn reads<B>(
        &self,
        from: u64,
        span: u64,
        mut read: impl FnMut(Range<u64>, u64) -> ControlFlow<B>,
    ) -> ControlFlow<B> {
        let (stretch, half) = (self.stretch, self.half as u64);
        let mut within = |first: u64, end: u64, after: u64| {
            let (first, end) = (first.max(stretch.start_frame), end.min(stretch.frames));
            if first < end {
                read(first..end, after)
            } else {
                ControlFlow::Continue(())
            }
        };
        let Some(looped) = self.looped else {
            let end = (from + span + half).min(stretch.end_frame);
            return within(from.saturating_sub(half), end, 0);
        };
        let (start, end, length) = (
            looped.start_frame,
            looped.end_frame,
            looped.end_frame - looped.start_frame,
        );
        let fade_from = end - crossfade(&looped);
        let (mut place, mut left, mut after, mut looping) = (from, span, 0, self.looping);
        while place >= looped.round_end() {
            (place, looping) = (place - looped.round_frames(), true);
        }
        for _ in 0..3 {
            let until = (place + left).min(looped.round_end());
            // There and back again, it is within the loop.
            let (a, b) = (
                looped.frame_at(place),
                looped.frame_at(until.saturating_sub(1).max(place)),
            );
            let (lowest, highest) = (
                a.min(b),
                a.max(b).max(if place < end && until > end { end - 1 } else { 0 }),
            );
            let (first, last) = (lowest.saturating_sub(half), highest + half + 1);
            within(first, last.min(end), after)?;
            if last > fade_from && fade_from < end {
                within(
                    first.max(fade_from).saturating_sub(length),
                    last.min(end) - length,
                    after + fade_from.saturating_sub(place),
                )?;
            }
            if last > end {
                within(start, start + half, after + (until - place))?;
            }
            if looping && first < start {
                within(end.saturating_sub(half), end, after)?;
                within(start.saturating_sub(half), start, after)?;
            }
            after += until - place;
            left -= until - place;
            if left == 0 {
                break;
            }
            (place, looping) = (start, true);
        }
        ControlFlow::Continue(())
    }

    /// For how many frames to come, at this ratio, the sample is heard as it lies: no fade, no seam and no end within what is read.
    pub(crate) fn plain_run(&self, position: f64, ratio: f64) -> usize {
        let (stretch, half) = (self.stretch, self.half as u64);
        let after_start = |start: u64| start + half - 1;
        let mut first = after_start(stretch.start_frame).max(stretch.start_frame + stretch.fade_in_frames);
        let mut end = stretch.end_frame;
        let edge = match self.looped {
            Some(looped) => {
                if self.looping {
                    first = first.max(after_start(looped.start_frame));
                }
                looped.end_frame - crossfade(&looped)
            }
            None => {
                end = end.min((stretch.end_frame + 1).saturating_sub(stretch.fade_out_frames));
                stretch.end_frame
            }
        };
        end = end.min(edge.min(stretch.frames).saturating_sub(half));
        if position < first as f64 || position >= end as f64 {
            return 0;
        }
        ((end as f64 - position) / ratio) as usize
    }

    /// The `2·half` frames around `frame` of a channel, in place where they lie together, else put together in `window`.
    pub(crate) fn taps<'a, 'slabs: 'a>(
        &self,
        reader: &Reader<'slabs>,
        channel: u8,
        frame: u64,
        window: &'a mut [f32; 2 * WIDEST_HALF],
    ) -> &'a [f32] {
        let half = self.half as u64;
        let (first, end) = ((frame + 1).wrapping_sub(half), frame + 1 + half);
        let edge = self
            .looped
            .map_or(self.stretch.end_frame, |l| l.end_frame - crossfade(&l));
        let whole =
            frame + 1 >= half && end <= edge.min(self.stretch.frames) && first >= self.stretch.start_frame;
        let before_start = self.looping && self.looped.is_some_and(|l| first < l.start_frame);
        if whole
            && !before_start
            && let Some(taps) = reader.window(channel, first, 2 * self.half)
        {
            return taps;
        }
        for (slot, at) in window[..2 * self.half].iter_mut().zip(0i64..) {
            *slot = self.frame_at(reader, channel, frame as i64 + 1 - half as i64 + at);
        }
        &window[..2 * self.half]
    }

    /// One frame as it is heard: loops are gone round and their crossfade is in it; outside the stretch is silence.
    pub(crate) fn frame_at(&self, reader: &Reader, channel: u8, frame: i64) -> f32 {
        let read = |at: i64| match u64::try_from(at) {
            Ok(at) if at >= self.stretch.start_frame && at < self.stretch.frames => reader.frame(channel, at),
            _ => 0.0,
        };
        let Some(looped) = self.looped else {
            return if frame < self.stretch.end_frame as i64 {
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
        } else if self.looping && at < start {
            at += round;
        }
        if let (LoopWay::BackAndForth, Ok(place)) = (looped.way, u64::try_from(at)) {
            return read(looped.frame_at(place) as i64);
        }
        let faded = crossfade(&looped);
        let fade_from = end - faded as i64;
        if at < fade_from || at >= end {
            return read(at);
        }
        let (leaving, coming) = crossfade_gains((at - fade_from) as u64, faded, looped.likeness_percent);
        read(at) * leaving as f32 + read(at - (end - start)) * coming as f32
    }
}

/// A loop that turns in place has nothing to fade.
pub(crate) fn crossfade(looped: &Loop) -> u64 {
    match looped.way {
        LoopWay::Forward => looped.crossfade_frames,
        LoopWay::BackAndForth => 0,
    }
}
