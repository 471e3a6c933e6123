//! A sound of a high rate at half of it or less, piece by piece: for measuring, which needs no more than 48 kHz.

use crate::Audio;
use rubato::{FftFixedIn, Resampler};

/// The highest rate at which sounds are measured.
const MEASURED_HZ: u32 = 48_000;

/// By so much the rate is divided for measuring: 1 up to 48 kHz, 2 up to 96 kHz, …
pub fn lowering_of(rate_hz: u32) -> u32 {
    rate_hz.div_ceil(MEASURED_HZ).max(1)
}

/// Lowers the rate of what it is given, by the crate `rubato` (FFT, linear phase; its delay is taken out).
pub struct Lowering {
    resampler: FftFixedIn<f32>,
    rate_hz: u32,
    by: usize,
    /// Frames that are less than a chunk.
    waiting: Vec<Vec<f32>>,
    out: Vec<Vec<f32>>,
    /// What comes first is the filter's delay.
    delay: usize,
    taken: usize,
}

const CHUNK: usize = 4_096;

impl Lowering {
    /// For a sound of a rate and so many channels; `None` where the rate is low enough.
    pub fn new(rate_hz: u32, channels: usize) -> Option<Self> {
        let by = lowering_of(rate_hz) as usize;
        if by == 1 || channels == 0 {
            return None;
        }
        let chunk = CHUNK / by * by;
        let resampler = FftFixedIn::new(by, 1, chunk, 2, channels).ok()?;
        Some(Self {
            delay: resampler.output_delay(),
            resampler,
            rate_hz,
            by,
            waiting: vec![Vec::new(); channels],
            out: vec![Vec::new(); channels],
            taken: 0,
        })
    }

    /// Adds frames.
    pub fn push(&mut self, audio: &Audio) {
        self.taken += audio.frames();
        for (waiting, channel) in self.waiting.iter_mut().zip(&audio.channels) {
            waiting.extend_from_slice(channel);
        }
        self.work();
    }

    fn work(&mut self) {
        loop {
            let chunk = self.resampler.input_frames_next();
            if self.waiting[0].len() < chunk {
                return;
            }
            let Ok(lowered) = self.resampler.process(&self.waiting, None) else {
                return;
            };
            for ((waiting, out), lowered) in self.waiting.iter_mut().zip(&mut self.out).zip(lowered) {
                waiting.drain(..chunk);
                out.extend(lowered);
            }
        }
    }

    /// All of it, at the lower rate: frame `n` lies where frame `n` times [`lowering_of`] lay.
    pub fn finish(mut self) -> Audio {
        let wanted = self.taken / self.by;
        while self.out[0].len() < self.delay + wanted {
            for waiting in &mut self.waiting {
                waiting.resize(waiting.len() + CHUNK, 0.0);
            }
            self.work();
        }
        for out in &mut self.out {
            out.drain(..self.delay);
            out.truncate(wanted);
        }
        Audio {
            rate_hz: self.rate_hz / self.by as u32,
            channels: self.out,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Bars page: images and aliases of resampling lie under −100 dB; here for a tone over half the lower rate.
    #[test]
    fn a_lowered_tone_stays_where_it_was_and_nothing_folds_back() {
        let tone = |hz: f64, rate: f64, frames: usize| -> Vec<f32> {
            (0..frames)
                .map(|n| (std::f64::consts::TAU * hz * n as f64 / rate).sin() as f32)
                .collect()
        };
        for rate in [96_000u32, 192_000, 176_400] {
            let by = lowering_of(rate) as usize;
            let lowered = |hz: f64| {
                let mut lowering = Lowering::new(rate, 1).unwrap();
                for piece in tone(hz, f64::from(rate), 100_000).chunks(7_001) {
                    lowering.push(&Audio::mono(rate, piece.to_vec()));
                }
                lowering.finish()
            };
            let heard = lowered(1_000.0);
            assert_eq!((heard.rate_hz, heard.frames()), (rate / by as u32, 100_000 / by));
            let expected = tone(1_000.0, f64::from(heard.rate_hz), heard.frames());
            let inner = 2_000..heard.frames() - 2_000;
            let worst = inner
                .clone()
                .map(|n| (heard.channels[0][n] - expected[n]).abs())
                .fold(0.0f32, f32::max);
            assert!(worst < 1e-4, "{rate}: {worst}");
            let folded = lowered(f64::from(heard.rate_hz) * 0.7);
            let loudest = inner.map(|n| folded.channels[0][n].abs()).fold(0.0f32, f32::max);
            assert!(loudest < 1e-5, "{rate}: {loudest}");
        }
        assert!(Lowering::new(48_000, 2).is_none() && Lowering::new(8_000, 2).is_none());
    }
}
