//! Effects one after another.

use crate::coarse::Coarse;
use crate::delay::Delay;
use crate::drive::Drive;
use crate::dynamics::{Compressor, Limiter};
use crate::equaliser::{Equaliser, Tilt};
use crate::modulation::{Chorus, Tremolo, Vibrato};
use crate::noise::Noise;
use crate::reverb::Reverb;
use crate::width::Width;
use crate::{BLOCK, Process, Settings, gain, keeps, mixed};
use program::{Effect, EffectId, EffectKind, MOST_SETTINGS, SettingUnit};

/// How fast settings go where they are set to, and effects come and go.
const SETTINGS_MS: f64 = 12.0;
const COMES_MS: f64 = 8.0;
/// Of a level, what is left where it is as good as there.
const THERE: f64 = 1e-4;

fn process_of(kind: EffectKind, rate_hz: f64) -> Box<dyn Process> {
    match kind {
        EffectKind::Equaliser => Box::new(Equaliser::new(rate_hz)),
        EffectKind::Tilt => Box::new(Tilt::new(rate_hz)),
        EffectKind::Drive => Box::new(Drive::new(rate_hz)),
        EffectKind::Coarse => Box::new(Coarse::new(rate_hz)),
        EffectKind::Noise => Box::new(Noise::new(rate_hz)),
        EffectKind::Chorus => Box::new(Chorus::new(rate_hz)),
        EffectKind::Tremolo => Box::new(Tremolo::new(rate_hz)),
        EffectKind::Vibrato => Box::new(Vibrato::new(rate_hz)),
        EffectKind::Delay => Box::new(Delay::new(rate_hz)),
        EffectKind::Reverb => Box::new(Reverb::new(rate_hz)),
        EffectKind::Width => Box::new(Width::default()),
        EffectKind::Compressor => Box::new(Compressor::new(rate_hz)),
        EffectKind::Limiter => Box::new(Limiter::new(rate_hz)),
    }
}

/// An effect that runs.
#[derive(Debug)]
struct Running {
    id: EffectId,
    kind: EffectKind,
    to: Settings,
    now: Settings,
    on: bool,
    level_to: f64,
    level: f64,
    /// How much of it is heard, 0 to 1.
    heard: f64,
    /// How much of the sound it hears: all, but for a moment after it was silent.
    hears: f64,
    process: Box<dyn Process>,
}

impl Running {
    fn new(effect: &Effect, rate_hz: f64) -> Self {
        let to = effect.set_to();
        let level = gain(effect.level_db);
        let mut process = process_of(effect.kind, rate_hz);
        process.clear();
        Self {
            id: effect.id,
            kind: effect.kind,
            to,
            now: to,
            on: effect.on,
            level_to: level,
            level,
            heard: if effect.on { 1.0 } else { 0.0 },
            hears: 1.0,
            process,
        }
    }

    fn follow(&mut self, effect: &Effect) {
        self.to = effect.set_to();
        self.on = effect.on;
        self.level_to = gain(effect.level_db);
    }

    /// Whether a choice is another: what cannot be gone to gradually is gone to unheard.
    fn chooses(&self) -> bool {
        let rows = self.kind.settings().iter().enumerate();
        rows.filter(|(_, row)| row.unit == SettingUnit::Choice)
            .any(|(n, _)| self.now[n] != self.to[n])
    }

    /// At most a block.
    fn run(&mut self, (left, right): (&mut [f32], &mut [f32]), keeps: (f64, f64), tempo: f64) {
        let chooses = self.chooses();
        let aim = if self.on && !chooses { 1.0 } else { 0.0 };
        let was = self.heard;
        self.heard = aim + (self.heard - aim) * keeps.1;
        if (self.heard - aim).abs() < THERE {
            self.heard = aim;
        }
        if was == 0.0 && self.heard == 0.0 {
            if chooses {
                self.now = self.to;
            }
            if !self.on {
                return;
            }
        } else if was == 0.0 {
            // What was in it when it went is not heard again.
            self.process.clear();
            self.now = self.to;
            self.hears = 0.0;
        }
        let before = self.now;
        for n in 0..MOST_SETTINGS {
            let row = self.kind.settings().get(n);
            let is_choice = row.is_some_and(|row| row.unit == SettingUnit::Choice);
            if !is_choice && self.now[n] != self.to[n] {
                let left = self.to[n] + (self.now[n] - self.to[n]) * keeps.0;
                let span = row.map_or(1.0, |row| row.high - row.low);
                let is_there = (left - self.to[n]).abs() < THERE * THERE * span;
                self.now[n] = if is_there { self.to[n] } else { left };
            }
        }
        let level_was = self.level;
        self.level = self.level_to + (self.level - self.level_to) * keeps.0;
        self.process.set(&self.now, tempo);
        let frames = left.len();
        let mut dry = [[0.0; BLOCK]; 2];
        dry[0][..frames].copy_from_slice(left);
        dry[1][..frames].copy_from_slice(right);
        let hears_was = self.hears;
        if self.hears < 1.0 {
            self.hears = 1.0 + (self.hears - 1.0) * keeps.1;
            if 1.0 - self.hears < THERE {
                self.hears = 1.0;
            }
            let by = (self.hears - hears_was) / frames as f64;
            for side in [&mut *left, &mut *right] {
                for (n, frame) in (1u16..).zip(side) {
                    *frame *= (hears_was + by * f64::from(n)) as f32;
                }
            }
        }
        self.process.run(left, right);
        let mix = |now: &Settings| self.kind.mix().map_or(1.0, |n| now[n] / 100.0);
        let (was, is) = (was * mix(&before), self.heard * mix(&self.now));
        if (was, is, level_was, self.level) == (1.0, 1.0, 1.0, 1.0) {
            return;
        }
        for n in 0..frames {
            let share = (n + 1) as f64 / frames as f64;
            let heard = (was + (is - was) * share) as f32;
            let level = (level_was + (self.level - level_was) * share) as f32;
            left[n] = mixed(dry[0][n], left[n] * level, heard);
            right[n] = mixed(dry[1][n], right[n] * level, heard);
        }
    }
}

/// Effects that run one after another, and what they keep of the sound.
#[derive(Debug, Default)]
pub struct Row {
    all: Vec<Running>,
    /// What a block keeps of settings' and effects' way to where they go.
    keeps: (f64, f64),
}

impl Row {
    /// That of some effects. Takes all memory that running needs.
    pub fn new(effects: &[Effect], rate_hz: f64) -> Self {
        Self::after(effects, rate_hz, &mut Self::default())
    }

    /// The same, with what another row at that rate keeps of the sound where an effect is the same one: where it is set to something else it goes there
    /// gradually. Only what is new takes memory; what is gone stays behind, in the other.
    pub fn after(effects: &[Effect], rate_hz: f64, before: &mut Self) -> Self {
        let of_block = |ms: f64| libm::pow(keeps(ms, rate_hz), BLOCK as f64);
        let mut one = |effect: &Effect| {
            let same = |other: &Running| (other.id, other.kind) == (effect.id, effect.kind);
            match before.all.iter().position(same) {
                Some(place) => {
                    let mut running = before.all.swap_remove(place);
                    running.follow(effect);
                    running
                }
                None => Running::new(effect, rate_hz),
            }
        };
        Self {
            all: effects.iter().map(&mut one).collect(),
            keeps: (of_block(SETTINGS_MS), of_block(COMES_MS)),
        }
    }

    /// Whether there is nothing in it.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Sets one of its effects while it runs; of one that is not there, nothing.
    pub fn set(&mut self, effect: &Effect) {
        if let Some(running) = self.all.iter_mut().find(|running| running.id == effect.id) {
            running.follow(effect);
        }
    }

    /// Drives a setting of one of its effects to a value, as near as it can be; it stays there until it is driven or set again.
    pub fn drive(&mut self, id: EffectId, setting: usize, value: f64) {
        let running = self.all.iter_mut().find(|running| running.id == id);
        if let Some(running) = running
            && let Some(row) = running.kind.settings().get(setting)
        {
            running.to[setting] = row.nearest(value);
        }
    }

    /// Replaces frames by what comes of them; both slices have the same length. `tempo` in quarter notes a minute.
    pub fn run(&mut self, left: &mut [f32], right: &mut [f32], tempo: f64) {
        for (left, right) in left.chunks_mut(BLOCK).zip(right.chunks_mut(BLOCK)) {
            for running in &mut self.all {
                running.run((left, right), self.keeps, tempo);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RATE: f64 = 48_000.0;

    fn noise(frames: usize) -> Vec<f32> {
        let mut seed = 7u32;
        let next = |_| {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            0.1 * (seed as i32 as f32 / 2_147_483_648.0)
        };
        (0..frames).map(next).collect()
    }

    fn sine(frames: usize) -> Vec<f32> {
        (0..frames).map(|n| 0.3 * (n as f32 * 0.05).sin()).collect()
    }

    fn run(row: &mut Row, sound: &[f32]) -> Vec<f32> {
        let (mut left, mut right) = (sound.to_vec(), sound.to_vec());
        row.run(&mut left, &mut right, 120.0);
        left
    }

    fn level_db(of: &[f32]) -> f64 {
        let power: f64 = of.iter().map(|x| f64::from(x * x)).sum();
        10.0 * (power / of.len() as f64).log10()
    }

    /// Issue "Panel, effects": switching one on does not make it louder than a dB.
    #[test]
    fn no_effect_makes_it_louder_as_it_is_switched_on() {
        for kind in EffectKind::ALL {
            for sound in [noise(192_000), sine(192_000)] {
                let mut row = Row::new(&[Effect::new(EffectId(1), *kind)], RATE);
                let out = run(&mut row, &sound);
                let db = level_db(&out[96_000..]) - level_db(&sound[96_000..]);
                assert!(db < 1.0, "{kind:?}: {db} dB");
            }
        }
    }

    /// Whatever a setting jumps to, and as effects come and go, nothing jumps in the sound: of a slow sine no two frames lie further apart than the
    /// same effect at rest lets them, and a little.
    #[test]
    fn nothing_clicks_as_settings_move_and_effects_come_and_go() {
        let sound: Vec<f32> = (0..48_000).map(|n| 0.3 * (n as f32 * 0.01).sin()).collect();
        let steepest = |of: &[f32]| {
            of.windows(2)
                .map(|two| (two[1] - two[0]).abs())
                .fold(0.0, f32::max)
        };
        // These put steps in by themselves.
        let steps = [EffectKind::Coarse, EffectKind::Noise];
        for kind in EffectKind::ALL.iter().filter(|kind| !steps.contains(kind)) {
            for (n, setting) in kind.settings().iter().enumerate() {
                for to in [setting.low, setting.high] {
                    let mut effect = Effect::new(EffectId(1), *kind);
                    let mut row = Row::new(std::slice::from_ref(&effect), RATE);
                    let mut out = run(&mut row, &sound[..24_000]);
                    let rest = steepest(&out[12_000..]);
                    effect.settings[n] = to;
                    row.set(&effect);
                    out.extend(run(&mut row, &sound[24_000..]));
                    let then = steepest(&out[44_000..]);
                    let most = steepest(&out[12_000..]);
                    assert!(
                        most < 1.5 * rest.max(then) + 0.012,
                        "{kind:?} {}: {most} {rest} {then}",
                        setting.name
                    );
                }
            }
            let mut effect = Effect::new(EffectId(1), *kind);
            let mut row = Row::new(std::slice::from_ref(&effect), RATE);
            let mut out = Vec::new();
            for (on, part) in [(true, 0..12_000), (false, 12_000..24_000), (true, 24_000..48_000)] {
                effect.on = on;
                row.set(&effect);
                out.extend(run(&mut row, &sound[part]));
            }
            let most = steepest(&out[6_000..]);
            assert!(most < 0.012, "{kind:?} comes and goes: {most}");
            // Switched off it is what went in.
            assert_eq!(out[20_000..24_000], sound[20_000..24_000], "{kind:?}");
        }
    }

    #[test]
    fn what_is_the_same_goes_on_and_takes_no_memory_as_it_runs() {
        let echo = |on| {
            let mut effect = Effect::new(EffectId(5), EffectKind::Delay);
            effect.settings[5] = 100.0;
            effect.on = on;
            effect
        };
        let mut row = Row::new(&[echo(true)], RATE);
        let mut pulse = vec![0.0; 4_800];
        pulse[0] = 1.0;
        assert!(run(&mut row, &pulse).iter().all(|x| *x == 0.0));
        // Another program, with something in front of it: the echo still comes.
        let both = [Effect::new(EffectId(9), EffectKind::Width), echo(true)];
        let mut other = Row::after(&both, RATE, &mut row);
        let (mut left, mut right) = (vec![0.0; 16_000], vec![0.0; 16_000]);
        let info = allocation_counter::measure(|| other.run(&mut left, &mut right, 120.0));
        assert_eq!(info.count_total, 0);
        assert!(level_db(&left) > -60.0);
    }

    #[test]
    fn every_kind_stays_within_bounds_at_all_ends_of_its_settings() {
        let sound = noise(24_000);
        for kind in EffectKind::ALL {
            for (n, setting) in kind.settings().iter().enumerate() {
                for to in [setting.low, setting.high] {
                    for rate in [8_000.0, 48_000.0, 192_000.0] {
                        let mut effect = Effect::new(EffectId(1), *kind);
                        effect.settings[n] = to;
                        let out = run(&mut Row::new(&[effect], rate), &sound);
                        assert!(
                            out.iter().all(|x| x.abs() < 4.0),
                            "{kind:?} {} {to} {rate}",
                            setting.name
                        );
                    }
                }
            }
        }
    }
}
