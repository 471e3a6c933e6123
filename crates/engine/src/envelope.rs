//! Delay, attack, hold, decay, sustain, release.

use program::{Loudness, bent, unbent};

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

/// What is silent, in dB.
const SILENT_DB: f32 = -100.0;

/// A part that bends goes straight between places so many frames apart: in amplitude on the way up, in dB on the way down.
const RUN: u32 = 16;

/// Parts that may bend.
const ATTACK: usize = 0;
const DECAY: usize = 1;
const RELEASE: usize = 2;

/// How far a part that bends has come.
#[derive(Debug, Clone, Copy, Default)]
struct Bending {
    /// A share of the part, at the end of this run.
    at: f32,
    /// Frames of this run that are left, and what each adds, or multiplies by.
    left: u32,
    step: f32,
    /// Where a release began, in dB.
    from_db: f32,
}

/// One voice's loudness over time. The attack is linear in amplitude, decay and release linear in dB, but for what bends.
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
    bends: [f32; 3],
    /// Frames of the attack; of the other two for 100 dB.
    frames: [f32; 3],
    sustain_db: f32,
    bending: Bending,
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
            bends: [0.0; 3],
            frames: [1.0; 3],
            sustain_db: 0.0,
            bending: Bending::default(),
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
            bends: shape.bends.map(|bend| bend as f32),
            frames: [shape.attack_ms, shape.decay_ms, shape.release_ms].map(|ms| frames(ms) as f32),
            sustain_db: shape.sustain_db.clamp(f64::from(SILENT_DB), 0.0) as f32,
            bending: Bending::default(),
        }
    }

    /// Other times and levels from now on, from where it is.
    pub(crate) fn reshape(&mut self, shape: &Loudness, rate_hz: f64) {
        // At once would click, from a level that is heard already.
        let rises = self.stage == Stage::Attack && self.level > 0.0;
        let attack_ms = shape.attack_ms.max(if rises { RISE_MS } else { 0.0 });
        let decay_ms = shape.decay_ms.max(RISE_MS);
        let eased = Loudness {
            attack_ms,
            decay_ms,
            ..*shape
        };
        let to = Self::start(&eased, rate_hz);
        *self = Self {
            stage: self.stage,
            level: self.level,
            cut_step: self.cut_step,
            bending: self.bending,
            ..to
        };
        // It goes on from where it is.
        self.bending.left = 0;
        if let Some(part) = self.part() {
            let db = 20.0 * libm::log10f(self.level.max(SILENCE));
            let share = match part {
                ATTACK => self.level,
                DECAY => db / self.sustain_db.min(-1e-3),
                _ => (self.bending.from_db - db) / (self.bending.from_db - SILENT_DB).max(1e-3),
            };
            let share = f64::from(share.clamp(0.0, 1.0));
            self.bending.at = unbent(share, f64::from(self.bends[part])) as f32;
        }
    }

    /// The part that it is in, where that bends.
    fn part(&self) -> Option<usize> {
        let part = match self.stage {
            Stage::Attack => ATTACK,
            Stage::Decay if self.level >= self.sustain => DECAY,
            Stage::Release => RELEASE,
            _ => return None,
        };
        (self.bends[part] != 0.0).then_some(part)
    }

    /// A frame of a part that bends; whether it has come to its end.
    fn bend_on(&mut self, part: usize) -> bool {
        let Bending { from_db, .. } = self.bending;
        let frames = match part {
            ATTACK => self.frames[ATTACK],
            DECAY => self.frames[DECAY] * self.sustain_db / SILENT_DB,
            _ => self.frames[RELEASE] * (from_db - SILENT_DB) / -SILENT_DB,
        };
        if self.bending.left == 0 {
            let run = (libm::ceilf((1.0 - self.bending.at) * frames) as u32).clamp(1, RUN);
            let at = (self.bending.at + run as f32 / frames.max(1.0)).min(1.0);
            let way = bent(f64::from(at), f64::from(self.bends[part])) as f32;
            let db = match part {
                DECAY => self.sustain_db * way,
                _ => from_db + (SILENT_DB - from_db) * way,
            };
            let step = if part == ATTACK {
                (way - self.level) / run as f32
            } else {
                libm::powf(
                    libm::powf(10.0, db / 20.0) / self.level.max(SILENCE),
                    1.0 / run as f32,
                )
            };
            self.bending = Bending {
                at,
                left: run,
                step,
                from_db,
            };
        }
        if part == ATTACK {
            self.level += self.bending.step;
        } else {
            self.level *= self.bending.step;
        }
        self.bending.left -= 1;
        self.bending.left == 0 && self.bending.at >= 1.0
    }

    /// It rises anew, from where it is.
    pub(crate) fn strike_again(&mut self, shape: &Loudness, rate_hz: f64) {
        self.stage = Stage::Attack;
        self.reshape(shape, rate_hz);
    }

    pub(crate) fn release(&mut self) {
        if !matches!(self.stage, Stage::Release | Stage::Cut | Stage::Done) {
            self.stage = Stage::Release;
            self.bending = Bending {
                from_db: 20.0 * libm::log10f(self.level.max(SILENCE)),
                ..Bending::default()
            };
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
                let is_up = match self.part() {
                    Some(part) => self.bend_on(part),
                    None => {
                        self.level += self.attack_step;
                        self.level >= 1.0
                    }
                };
                if is_up {
                    self.level = 1.0;
                    self.bending = Bending::default();
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
            Stage::Decay if self.level >= self.sustain => match self.part() {
                Some(part) if self.level > self.sustain => {
                    if self.bend_on(part) {
                        self.level = self.sustain;
                    }
                    self.level = self.level.max(self.sustain);
                }
                _ => self.level = (self.level * self.decay_factor).max(self.sustain),
            },
            // What holds it was raised meanwhile.
            Stage::Decay => self.level = (self.level + self.rise_step).min(self.sustain),
            Stage::Release => {
                let is_down = match self.part() {
                    Some(part) => self.bend_on(part),
                    None => {
                        self.level *= self.release_factor;
                        false
                    }
                };
                if is_down || self.level < SILENCE {
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

    /// Bars page: within 1 ms and 0.1 dB of the formula; all of it as long as a straight one.
    #[test]
    fn parts_bend_as_their_formula_says() {
        for bend in [-1.0, -0.4, 0.7, 1.0] {
            let shape = Loudness {
                attack_ms: 200.0,
                decay_ms: 1_000.0,
                sustain_db: -30.0,
                release_ms: 500.0,
                bends: [bend; 3],
                ..Loudness::default()
            };
            let mut envelope = Envelope::start(&shape, 48_000.0);
            let levels: Vec<f32> = (0..48_000).map(|_| envelope.next()).collect();
            envelope.release();
            let mut down = Vec::new();
            while !envelope.is_done() {
                down.push(envelope.next());
            }
            // 70 of 100 dB are left.
            assert!(down.len().abs_diff(16_800) < 48, "{bend}: {}", down.len());
            for share in [0.1, 0.35, 0.5, 0.8, 0.95] {
                let db = |level: f32| 20.0 * f64::from(level).log10();
                let at = |frames: f64| (share * frames) as usize - 1;
                let way = bent(share, bend);
                let rising = db(levels[at(9_600.0)]) - 20.0 * way.log10();
                // A millisecond's worth of the way, where that is more than a tenth of a decibel.
                let steep = 20.0 * (bent(share + 0.005, bend) / way).log10();
                assert!(
                    rising.abs() < steep.max(0.1),
                    "{bend} at {share}: {rising} dB of the attack"
                );
                let falling = db(levels[9_600 + at(14_400.0)]) + 30.0 * way;
                assert!(
                    falling.abs() < 0.1,
                    "{bend} at {share}: {falling} dB of the decay"
                );
                let ending = db(down[at(16_800.0)]) - (-30.0 - 70.0 * way);
                let steep = 70.0 * (bent(share + 1.0 / 350.0, bend) - way);
                assert!(
                    ending.abs() < steep.max(0.1),
                    "{bend} at {share}: {ending} dB of the release"
                );
            }
            assert!((levels[47_999] - 0.0316).abs() < 1e-3);
        }
    }

    #[test]
    fn a_bend_that_is_dragged_makes_no_step() {
        let shape = Loudness {
            attack_ms: 0.0,
            release_ms: 4_000.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        envelope.next();
        envelope.release();
        let mut before = 1.0;
        for n in 0..20 {
            let bends = [0.0, 0.0, f64::from(n % 11) / 5.0 - 1.0];
            envelope.reshape(&Loudness { bends, ..shape }, 48_000.0);
            for _ in 0..2_400 {
                let now = envelope.next();
                assert!((now / before - 1.0).abs() < 0.002, "{before} to {now}");
                before = now;
            }
        }
        assert!(before < 0.02, "{before}");
    }

    #[test]
    fn an_attack_that_is_dragged_to_nothing_makes_no_step() {
        let shape = Loudness {
            attack_ms: 1_000.0,
            ..Loudness::default()
        };
        let mut envelope = Envelope::start(&shape, 48_000.0);
        let mut before = (0..9_600).map(|_| envelope.next()).last().unwrap();
        let attack_ms = 0.0;
        envelope.reshape(&Loudness { attack_ms, ..shape }, 48_000.0);
        for _ in 0..1_920 {
            let now = envelope.next();
            assert!(now - before < 0.0011, "{before} to {now}");
            before = now;
        }
        assert_eq!(before, 1.0);
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
