//! The frames of a program's samples, arriving bit by bit.

use program::{Program, SampleId};
use std::collections::HashMap;

/// One sample's frames, planar: the first `available` of them have arrived.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SampleAudio {
    /// `channels[c][frame]`, full length from the start, silent where nothing has arrived.
    pub channels: Vec<Vec<f32>>,
    /// Frames that have arrived, from the first.
    pub available: usize,
}

/// All samples of a program, in its order.
#[derive(Debug, Clone, Default)]
pub struct Samples(Vec<SampleAudio>);

impl Samples {
    /// One empty sample each; room is taken when the first frames come.
    pub(crate) fn reserved(program: &Program) -> Self {
        Self(vec![SampleAudio::default(); program.samples.len()])
    }

    /// Goes over to another program: what has arrived of a sample that is in both stays.
    pub(crate) fn follow(&mut self, before: &Program, now: &Program) {
        let mut had: HashMap<SampleId, SampleAudio> = before
            .samples
            .iter()
            .map(|sample| sample.id)
            .zip(self.0.drain(..))
            .collect();
        self.0 = now
            .samples
            .iter()
            .map(|sample| had.remove(&sample.id).unwrap_or_default())
            .collect();
    }

    /// Puts a whole sample in place.
    pub fn set(&mut self, index: usize, channels: Vec<Vec<f32>>) {
        if let Some(slot) = self.0.get_mut(index) {
            *slot = SampleAudio {
                available: channels.first().map_or(0, Vec::len),
                channels,
            };
        }
    }

    /// Adds interleaved frames at `first`, of a sample `frames` long. Frames that would leave a gap are ignored, and
    /// false returned; what has arrived already is written again.
    pub fn add(
        &mut self,
        index: usize,
        frames: usize,
        channels: usize,
        first: usize,
        interleaved: &[f32],
    ) -> bool {
        let Some(slot) = self.0.get_mut(index) else {
            return false;
        };
        if slot.channels.len() != channels {
            slot.channels = vec![vec![0.0; frames]; channels];
        }
        let count = interleaved.len() / channels.max(1);
        if first > slot.available || first + count > frames || channels == 0 {
            return false;
        }
        for (c, channel) in slot.channels.iter_mut().enumerate() {
            for (to, from) in channel[first..first + count]
                .iter_mut()
                .zip(interleaved[c..].iter().step_by(channels))
            {
                *to = *from;
            }
        }
        slot.available = slot.available.max(first + count);
        true
    }

    pub(crate) fn get(&self, index: usize) -> Option<&SampleAudio> {
        self.0.get(index)
    }
}
