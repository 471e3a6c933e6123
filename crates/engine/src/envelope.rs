//! Delay, attack, hold, decay, sustain, release.

use program::Loudness;

/// Levels under this are silence: 100 dB down, where the formats end their releases.
const SILENCE: f32 = 1e-5;

/// What is held louder by now gets there as fast as this from silence to full.
const RISE_MS: f64 = 20.0;

#[derive(Debug, Clone, Copy, PartialEq)]
enum Stage {
    /// Frames of silence that are left.
    Delay(u32),
    Attack,
    /// Frames at full level that are left.
    Hold(u32),
    Decay,
    Release,
    /// Down in a straight line, whatever else it would do.
    Cut,
    Done,
}

/// One voice's loudness over time. The attack is linear in amplitude, decay and release linear in dB.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Envelope {
    stage: Stage,
    level: f32,
    attack_step: f32,
    hold_frames: u32,
    decay_factor: f32,
    sustain: f32,
    release_factor: f32,
    cut_step: f32,
    rise_step: f32,
}

impl Envelope {
    pub(crate) fn done() -> Self {
        Self {
            stage: Stage::Done,
            level: 0.0,
            attack_step: 0.0,
            hold_frames: 0,
            decay_factor: 0.0,
            sustain: 0.0,
            release_factor: 0.0,
            cut_step: 0.0,
            rise_step: 0.0,
        }
    }

    pub(crate) fn start(shape: &Loudness, rate_hz: f64) -> Self {
        let frames = |ms: f64| (ms / 1000.0 * rate_hz).max(1.0);
        let whole = |ms: f64| (ms / 1000.0 * rate_hz).max(0.0) as u32;
        // A factor a frame that makes 100 dB in the given time.
        let factor = |ms: f64| libm::pow(10.0, -5.0 / frames(ms)) as f32;
        Self {
            stage: match whole(shape.delay_ms) {
                0 => Stage::Attack,
                frames => Stage::Delay(frames),
            },
            level: 0.0,
            hold_frames: whole(shape.hold_ms),
            attack_step: (1.0 / frames(shape.attack_ms)) as f32,
            decay_factor: factor(shape.decay_ms),
            sustain: libm::pow(10.0, shape.sustain_db.min(0.0) / 20.0) as f32,
            release_factor: factor(shape.release_ms),
            cut_step: 0.0,
            rise_step: (1.0 / frames(RISE_MS)) as f32,
        }
    }

    /// Other times and levels from now on, from where it is.
    pub(crate) fn reshape(&mut self, shape: &Loudness, rate_hz: f64) {
        // At once would click.
        let decay_ms = shape.decay_ms.max(RISE_MS);
        let to = Self::start(&Loudness { decay_ms, ..*shape }, rate_hz);
        *self = Self {
            stage: self.stage,
            level: self.level,
            cut_step: self.cut_step,
            ..to
        };
    }

    pub(crate) fn release(&mut self) {
        if !matches!(self.stage, Stage::Cut | Stage::Done) {
            self.stage = Stage::Release;
        }
    }

    /// From where it is to nothing within so many frames, or sooner where it is on its way already.
    pub(crate) fn cut_off(&mut self, frames: f64) {
        if self.stage != Stage::Done {
            let before = if self.stage == Stage::Cut {
                self.cut_step
            } else {
                0.0
            };
            self.cut_step = before.max(self.level / frames.max(1.0) as f32);
            self.stage = if self.level > 0.0 { Stage::Cut } else { Stage::Done };
        }
    }

    pub(crate) fn is_cut_off(&self) -> bool {
        self.stage == Stage::Cut
    }

    pub(crate) fn is_done(&self) -> bool {
        self.stage == Stage::Done
    }

    pub(crate) fn is_released(&self) -> bool {
        matches!(self.stage, Stage::Release | Stage::Cut | Stage::Done)
    }

    /// The level of each of the next frames.
    pub(crate) fn fill(&mut self, levels: &mut [f32]) {
        // There it stays until it is let go or told otherwise.
        if self.stage == Stage::Decay && self.level == self.sustain {
            levels.fill(self.level);
        } else {
            levels.fill_with(|| self.next());
        }
    }

    fn next(&mut self) -> f32 {
        match self.stage {
            Stage::Delay(left) => {
                self.stage = if left > 1 {
                    Stage::Delay(left - 1)
                } else {
                    Stage::Attack
                }
            }
            Stage::Attack => {
                self.level += self.attack_step;
                if self.level >= 1.0 {
                    self.level = 1.0;
                    self.stage = match self.hold_frames {
                        0 => Stage::Decay,
                        frames => Stage::Hold(frames),
                    };
                }
            }
            Stage::Hold(left) => {
                self.stage = if left > 1 {
                    Stage::Hold(left - 1)
                } else {
                    Stage::Decay
                }
            }
            Stage::Decay if self.level >= self.sustain => {
                self.level = (self.level * self.decay_factor).max(self.sustain);
            }
            // What holds it was raised meanwhile.
            Stage::Decay => self.level = (self.level + self.rise_step).min(self.sustain),
            Stage::Release => {
                self.level *= self.release_factor;
                if self.level < SILENCE {
                    self.level = 0.0;
                    self.stage = Stage::Done;
                }
            }
            Stage::Cut => {
                self.level -= self.cut_step;
                if self.level <= 0.0 {
                    self.level = 0.0;
                    self.stage = Stage::Done;
                }
            }
            Stage::Done => {}
        }
        self.level
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_release_falls_by_a_hundred_decibels_in_its_time() {
        let shape = Loudness {
            attack_ms: 0.0,
            release_ms: 1000.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        envelope.next();
        envelope.release();
        let half = (0..24_000).map(|_| envelope.next()).last().unwrap();
        assert!((20.0 * half.log10() + 50.0).abs() < 0.1, "{half}");
        let frames = (0..)
            .take_while(|_| {
                envelope.next();
                !envelope.is_done()
            })
            .count();
        assert!(frames.abs_diff(24_000) < 100, "{frames}");
    }

    #[test]
    fn an_attack_is_linear_in_amplitude() {
        let shape = Loudness {
            attack_ms: 100.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        let quarter = (0..1200).map(|_| envelope.next()).last().unwrap();
        assert!((quarter - 0.25).abs() < 1e-3);
    }

    #[test]
    fn what_it_is_held_at_may_be_moved_without_a_step() {
        let shape = Loudness {
            attack_ms: 0.0,
            sustain_db: -6.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        let mut before = (0..4_800).map(|_| envelope.next()).last().unwrap();
        for sustain_db in [0.0, -12.0, -3.0] {
            envelope.reshape(&Loudness { sustain_db, ..shape }, 48_000.0);
            for _ in 0..4_800 {
                let now = envelope.next();
                assert!((now - before).abs() < 0.015, "{sustain_db}: {before} to {now}");
                before = now;
            }
            assert!((20.0 * before.log10() - sustain_db as f32).abs() < 0.01);
        }
        envelope.release();
        envelope.reshape(
            &Loudness {
                release_ms: 100.0,
                ..shape
            },
            48_000.0,
        );
        assert!(envelope.is_released());
        let frames = (0..)
            .take_while(|_| {
                envelope.next();
                !envelope.is_done()
            })
            .count();
        assert!(frames.abs_diff(4_700) < 200, "{frames}");
    }

    #[test]
    fn it_waits_and_stays_up_as_long_as_it_is_told() {
        let shape = Loudness {
            delay_ms: 100.0,
            attack_ms: 0.0,
            hold_ms: 200.0,
            decay_ms: 10.0,
            sustain_db: -20.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        let levels: Vec<f32> = (0..24_000).map(|_| envelope.next()).collect();
        let count = |is: fn(f32) -> bool| levels.iter().filter(|level| is(**level)).count();
        assert_eq!(count(|level| level == 0.0), 4_800);
        assert!(count(|level| level == 1.0).abs_diff(9_600) <= 2);
        assert!((levels[23_999] - 0.1).abs() < 1e-6);
    }
}
