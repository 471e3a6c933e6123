//! The audio of a lowered program: what no format can say is rendered into it.

use crate::{Recast, Rounds};
use program::{FadeCurve, Loop, LoopWay, crossfade_gains, fade_gain};
use signal::{Audio, db_to_amplitude, resampled};

/// How one sample of the lowered program is made from one of the original.
#[derive(Debug, Clone, PartialEq)]
pub struct Bake {
    /// Index into the original program's samples.
    pub sample: usize,
    /// Frames `start..end` are taken.
    pub start_frame: u64,
    /// See `start_frame`.
    pub end_frame: u64,
    /// Fades.
    pub fade_in_frames: u64,
    /// See `fade_in_frames`.
    pub fade_out_frames: u64,
    /// Their course.
    pub fade_curve: FadeCurve,
    /// The loop in frames of the original: its crossfade is rendered, and its way back is written out.
    pub looped: Option<Loop>,
    /// How often it is written.
    pub rounds: Rounds,
    /// Level rendered into the samples.
    pub gain_db: f64,
    /// Whether two sides become their mean.
    pub one_side: bool,
    /// Another rate, last of all.
    pub recast: Option<Recast>,
}

/// Makes the audio of a lowered sample: trimmed, faded, with the loop's crossfade rendered as the engine plays it.
pub fn bake(audio: &Audio, bake: &Bake) -> Audio {
    let (start, end) = (
        bake.start_frame as usize,
        (bake.end_frame as usize).min(audio.frames()),
    );
    let mut out = audio.slice(start, end);
    let gain = db_to_amplitude(bake.gain_db) as f32;
    for (channel, original) in out.channels.iter_mut().zip(&audio.channels) {
        if let Some(looped) = bake.looped {
            write_loop(channel, original, start, &looped, bake.rounds);
        }
        let frames = channel.len();
        for (n, sample) in channel.iter_mut().enumerate() {
            let mut level = gain;
            if (n as u64) < bake.fade_in_frames {
                level *= fade_gain(bake.fade_curve, n as f64 / bake.fade_in_frames as f64) as f32;
            }
            let left = (frames - n) as u64;
            if left < bake.fade_out_frames {
                level *= fade_gain(bake.fade_curve, left as f64 / bake.fade_out_frames as f64) as f32;
            }
            *sample *= level;
        }
    }
    if bake.one_side {
        out = in_one(out);
    }
    match bake.recast {
        Some(recast) => at_other_rate(&out, recast),
        None => out,
    }
}

/// The mean of all sides.
fn in_one(audio: Audio) -> Audio {
    let sides = audio.channels.len().max(1) as f32;
    let mean = |n: usize| audio.channels.iter().map(|side| side[n]).sum::<f32>() / sides;
    Audio::mono(audio.rate_hz, (0..audio.frames()).map(mean).collect())
}

fn at_other_rate(audio: &Audio, recast: Recast) -> Audio {
    let mut channels = resampled(audio, recast.ratio).channels;
    for side in &mut channels {
        side.resize(recast.frames as usize, 0.0);
    }
    Audio {
        rate_hz: recast.rate_hz,
        channels,
    }
}

/// Writes a loop into a trimmed channel that begins at `start` of the original.
fn write_loop(channel: &mut Vec<f32>, original: &[f32], start: usize, looped: &Loop, rounds: Rounds) {
    let (first, end) = (looped.start_frame as usize, looped.end_frame as usize);
    let round: Vec<f32> = match looped.way {
        LoopWay::BackAndForth => (looped.start_frame..looped.round_end())
            .map(|place| original[looped.frame_at(place) as usize])
            .collect(),
        LoopWay::Forward => (first..end)
            .map(|at| {
                let into = (at as u64 + looped.crossfade_frames).checked_sub(looped.end_frame);
                let (leaving, coming) = into.map_or((1.0, 0.0), |into| {
                    crossfade_gains(into, looped.crossfade_frames, looped.likeness_percent)
                });
                let before = if coming > 0.0 {
                    original[at - (end - first)]
                } else {
                    0.0
                };
                original[at] * leaving as f32 + before * coming as f32
            })
            .collect(),
    };
    let after = if rounds.after_frames > 0 || looped.way == LoopWay::BackAndForth {
        Vec::new()
    } else {
        channel[end - start..].to_vec()
    };
    channel.truncate(first - start);
    let written = round.len() * (rounds.before + rounds.inside) as usize + rounds.after_frames as usize;
    channel.extend(round.iter().cycle().take(written));
    channel.extend(after);
}
