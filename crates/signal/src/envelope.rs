//! The level of a recording over time, coarse enough to hold hours of it.

use crate::amplitude_to_db;

/// Milliseconds of one step.
pub const ENVELOPE_STEP_MS: f64 = 5.0;

/// RMS over all channels, one value a step of 5 ms.
#[derive(Debug, Clone, PartialEq)]
pub struct Envelope {
    /// Frames of one step.
    pub step_frames: usize,
    /// RMS of each step, full scale 1.
    pub levels: Vec<f32>,
}

/// Makes an [`Envelope`] from a stream.
#[derive(Debug)]
pub struct EnvelopeMaker {
    channels: usize,
    envelope: Envelope,
    power: f64,
    frames: usize,
}

impl EnvelopeMaker {
    /// For interleaved samples of a rate.
    pub fn new(rate_hz: u32, channels: usize) -> Self {
        Self {
            channels: channels.max(1),
            envelope: Envelope {
                step_frames: crate::frames_of_ms(rate_hz, ENVELOPE_STEP_MS).max(1),
                levels: Vec::new(),
            },
            power: 0.0,
            frames: 0,
        }
    }

    /// The next frames, interleaved.
    pub fn push(&mut self, samples: &[f32]) {
        for frame in samples.chunks_exact(self.channels) {
            self.power += frame.iter().map(|&x| f64::from(x) * f64::from(x)).sum::<f64>();
            self.frames += 1;
            if self.frames == self.envelope.step_frames {
                self.step();
            }
        }
    }

    fn step(&mut self) {
        let mean = self.power / (self.frames * self.channels) as f64;
        self.envelope.levels.push(mean.sqrt() as f32);
        (self.power, self.frames) = (0.0, 0);
    }

    /// The envelope; a last step that is not full counts.
    pub fn finish(mut self) -> Envelope {
        if self.frames > 0 {
            self.step();
        }
        self.envelope
    }
}

impl Envelope {
    /// The noise floor: the level under which the quietest tenth lies.
    pub fn floor_dbfs(&self) -> f64 {
        let mut sorted = self.levels.clone();
        if sorted.is_empty() {
            return -120.0;
        }
        let at = sorted.len() / 10;
        let (_, floor, _) = sorted.select_nth_unstable_by(at, f32::total_cmp);
        amplitude_to_db(f64::from(*floor)).max(-120.0)
    }

    /// Level of a step in dBFS, meaned over it and its neighbours.
    pub(crate) fn db(&self, step: usize) -> f64 {
        let from = step.saturating_sub(1);
        let part = &self.levels[from..(step + 2).min(self.levels.len())];
        let power: f64 = part.iter().map(|&x| f64::from(x) * f64::from(x)).sum();
        amplitude_to_db((power / part.len() as f64).sqrt()).max(-120.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_same_however_the_stream_is_cut() {
        let samples: Vec<f32> = (0..20_000).map(|n| (n as f32 * 0.01).sin()).collect();
        let make = |piece: usize| {
            let mut maker = EnvelopeMaker::new(48_000, 2);
            samples.chunks(piece * 2).for_each(|part| maker.push(part));
            maker.finish()
        };
        assert_eq!(make(64), make(4_999));
        assert_eq!(make(64).levels.len(), 10_000usize.div_ceil(240));
    }
}
