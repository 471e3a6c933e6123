//! An instrument played key by key by the engine, to be heard: each key alone, keys together, and notes that others cut off.

use super::STRIKES;
use crate::Samples;
use crate::heard::{
    CHORD_S, RATE_HZ, chord_of, key_loudness_lufs, middle_key, rendered, sounding_keys, sounds_on,
};
use check::{CutBy, CutHeard, TogetherHeard};
use engine::Engine;
use program::{Cut, Program, Region, RegionKey, Strand, StrandId, cut_of};
use signal::{Audio, KeySound};
use std::collections::{BTreeMap, HashMap, HashSet};

const HELD_S: f64 = 1.0;
/// What sounds longer after its key came up hangs.
const LONGEST_TAIL_S: f64 = 10.1;
const BLOCK: usize = 128;
/// As many as an engine ever has.
const MOST_VOICES: usize = 128;
const SILENT: f32 = 1e-4;
/// A note sounds so long before it is cut off, and so long after that is listened.
const BEFORE_CUT_S: f64 = 0.5;
const AFTER_CUT_S: f64 = 0.2;
/// Nothing of it is heard, and yet it starts.
const UNHEARD_DB: f64 = -300.0;

/// Everything of a program but its regions and samples, and what it is called.
pub(super) fn bare(program: &Program) -> Program {
    let Program {
        name: _,
        credits: _,
        licence: _,
        samples: _,
        regions: _,
        kept: _,
        strands,
        shapes,
        switches,
        curves,
        buses,
        routes,
        controls,
        controllers_at_first,
        most_voices,
        seed,
    } = program;
    Program {
        strands: strands.clone(),
        shapes: shapes.clone(),
        switches: switches.clone(),
        curves: curves.clone(),
        buses: buses.clone(),
        routes: routes.clone(),
        controls: controls.clone(),
        controllers_at_first: controllers_at_first.clone(),
        most_voices: *most_voices,
        seed: *seed,
        ..Program::default()
    }
}

/// A program with nothing but what a key may start: what others sound like changes nothing of it.
pub(super) fn alone_on(program: &Program, bare: &Program, key: u8) -> Program {
    let mut alone = bare.clone();
    let on_key = program
        .regions
        .iter()
        .filter(|region| sounds_on(program, region, key));
    let mut place: BTreeMap<usize, usize> = BTreeMap::new();
    for region in on_key {
        let sample = *place.entry(region.sample).or_insert_with(|| {
            alone.samples.push(program.samples[region.sample].clone());
            alone.samples.len() - 1
        });
        alone.regions.push(program::Region {
            sample,
            ..region.clone()
        });
    }
    alone
}

/// Plays a program key by key, with the audio that neighbours share.
pub(super) struct Player<'a, S> {
    program: &'a Program,
    bare: Program,
    samples: &'a S,
    audio: HashMap<String, Vec<Vec<f32>>>,
}

impl<'a, S: Samples> Player<'a, S> {
    pub(super) fn new(program: &'a Program, samples: &'a S) -> Self {
        Self {
            program,
            bare: bare(program),
            samples,
            audio: HashMap::new(),
        }
    }

    /// An engine with a program made of ours, and its audio.
    fn engine(&mut self, program: &Program) -> anyhow::Result<Engine> {
        let name = |sample: &program::Sample| format!("{} {}", sample.source, sample.first_channel);
        let wanted: HashSet<String> = program.samples.iter().map(name).collect();
        self.audio.retain(|name, _| wanted.contains(name));
        let bytes: usize = (program.samples.iter())
            .map(|sample| (sample.frames as usize + 65_536) * usize::from(sample.channels) * 8)
            .sum();
        let mut engine = Engine::with_budget(f64::from(RATE_HZ), 64, bytes);
        engine.load(program.clone());
        for sample in &program.samples {
            let name = name(sample);
            if !self.audio.contains_key(&name) {
                self.audio
                    .insert(name.clone(), self.samples.audio(sample)?.channels);
            }
            engine.set_audio(sample.id, &self.audio[&name]);
        }
        Ok(engine)
    }

    pub(super) fn key(&mut self, key: u8, strike: u8) -> anyhow::Result<KeySound> {
        let alone = alone_on(self.program, &self.bare, key);
        let mut engine = self.engine(&alone)?;
        let up = (HELD_S * f64::from(RATE_HZ)) as usize / BLOCK * BLOCK;
        let latest = up + (LONGEST_TAIL_S * f64::from(RATE_HZ)) as usize;
        let mut sound = [Vec::new(), Vec::new()];
        engine.note_on(key, strike);
        let mut quiet = 0;
        // A sound that begins late after its key came up begins within half a second.
        while sound[0].len() < up || (sound[0].len() < latest && quiet < RATE_HZ as usize / 2) {
            if sound[0].len() == up {
                engine.note_off(key);
            }
            quiet = if block(&mut engine, &mut sound) {
                0
            } else {
                quiet + BLOCK
            };
        }
        Ok(KeySound::of(&audio_of(sound), (key, strike), up))
    }

    pub(super) fn together(&mut self) -> anyhow::Result<Option<TogetherHeard>> {
        let (chord, score) = chord_of(self.program);
        let Some(middle) = middle_key(self.program) else {
            return Ok(None);
        };
        let sound = rendered(self.program, self.samples, &score, CHORD_S)?;
        let mut free = self.program.clone();
        free.most_voices = None;
        for strand in &mut free.strands {
            strand.voices.most = None;
        }
        Ok(Some(TogetherHeard {
            peak_dbtp: signal::true_peak_dbtp(&sound).map(hundredth),
            voices_wanted: voices_of(&free, &chord),
            voices: voices_of(self.program, &chord),
            loudness_lufs: key_loudness_lufs(self.program, self.samples, middle)?.map(hundredth),
            cuts: self.cuts()?,
        }))
    }

    /// The lowest, the middle and the highest key of all whose voice is taken, and of all that the same group cuts off.
    fn cuts(&mut self) -> anyhow::Result<Vec<CutHeard>> {
        let keys = sounding_keys(self.program);
        let mut by_group: BTreeMap<u32, Vec<u8>> = BTreeMap::new();
        for region in &self.program.regions {
            if let Some(group) = cut_of(self.program, region).by {
                let on = keys.iter().filter(|key| sounds_on(self.program, region, **key));
                by_group.entry(group).or_default().extend(on);
            }
        }
        let mut all = Vec::new();
        for key in ends_and_middle(keys) {
            all.push(self.cut(key, None)?);
        }
        for (group, keys) in by_group {
            for key in ends_and_middle(keys) {
                all.push(self.cut(key, Some(group))?);
            }
        }
        Ok(all)
    }

    /// A key that is struck hard, and cut off by what is silent itself: by one of a group, or by as many as it has voices.
    fn cut(&mut self, key: u8, group: Option<u32>) -> anyhow::Result<CutHeard> {
        let (sound, at) = self.cut_off(key, group)?;
        Ok(CutHeard {
            key,
            by: if group.is_some() {
                CutBy::Choke
            } else {
                CutBy::Theft
            },
            step_db: KeySound::of(&sound, (key, STRIKES[1]), at).release_step_db,
        })
    }

    /// How that sounds, and from which frame on it is cut off.
    fn cut_off(&mut self, key: u8, group: Option<u32>) -> anyhow::Result<(Audio, usize)> {
        let mut of = alone_on(self.program, &self.bare, key);
        of.regions = (of.regions.into_iter())
            .map(|region| region.on_keys(key, key))
            .collect();
        let voices = voices_of(&of, &[key]).max(1);
        if group.is_none() {
            of.most_voices = u16::try_from(voices).ok();
        }
        let others = if key < 64 { 96 } else { 0 };
        let silent = StrandId(u64::MAX >> 12);
        let shape = of
            .strands
            .first()
            .map_or_else(Default::default, |strand| strand.shape);
        of.strands.push(Strand {
            cut: Cut {
                group,
                ..Cut::default()
            },
            ..Strand::new(silent, "", shape)
        });
        of.regions.push(Region {
            key: RegionKey {
                strand: silent,
                ..of.regions[0].key
            },
            gain_db: UNHEARD_DB,
            ..Region::whole(0, others, of.samples[0].frames).on_keys(others, others + 31)
        });
        let mut engine = self.engine(&of)?;
        let at = (BEFORE_CUT_S * f64::from(RATE_HZ)) as usize / BLOCK * BLOCK;
        let end = at + (AFTER_CUT_S * f64::from(RATE_HZ)) as usize;
        let mut sound = [Vec::new(), Vec::new()];
        engine.note_on(key, STRIKES[1]);
        while sound[0].len() < end {
            if sound[0].len() == at {
                let count = if group.is_some() { 1 } else { voices.min(31) as u8 };
                (0..count).for_each(|n| engine.note_on(others + n, STRIKES[1]));
            }
            block(&mut engine, &mut sound);
        }
        Ok((audio_of(sound), at))
    }
}

/// Renders a block more; whether it sounds.
fn block(engine: &mut Engine, sound: &mut [Vec<f32>; 2]) -> bool {
    let (mut left, mut right) = ([0.0; BLOCK], [0.0; BLOCK]);
    engine.render(&mut left, &mut right);
    sound[0].extend(left);
    sound[1].extend(right);
    left.iter().chain(&right).any(|x| x.abs() > SILENT)
}

fn audio_of(sound: [Vec<f32>; 2]) -> Audio {
    Audio {
        rate_hz: RATE_HZ,
        channels: sound.into(),
    }
}

fn hundredth(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

/// The lowest, the middle and the highest of some keys.
fn ends_and_middle(mut keys: Vec<u8>) -> Vec<u8> {
    keys.sort_unstable();
    keys.dedup();
    let last = keys.len().saturating_sub(1);
    let mut three: Vec<u8> = [0, last / 2, last]
        .iter()
        .filter_map(|n| keys.get(*n).copied())
        .collect();
    three.dedup();
    three
}

/// Voices that sound once all keys of a chord are down: without audio, since what starts does not follow from that.
fn voices_of(program: &Program, chord: &[u8]) -> usize {
    let mut engine = Engine::with_budget(f64::from(RATE_HZ), MOST_VOICES, 0);
    engine.load(program.clone());
    chord.iter().for_each(|key| engine.note_on(*key, STRIKES[1]));
    engine.active_voices()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::listening::tests::{Tone, tones};

    #[test]
    fn a_note_sounds_until_another_cuts_it_off_and_then_no_more() {
        let mut of = tones();
        of.strands[0].cut.by = Some(1);
        let mut player = Player::new(&of, &Tone);
        for group in [None, Some(1)] {
            let (sound, at) = player.cut_off(62, group).unwrap();
            let loudest = |part: &[f32]| part.iter().fold(0.0f32, |top, x| top.max(x.abs()));
            let left = &sound.channels[0];
            assert!(loudest(&left[at - 2_000..at]) > 0.05, "{group:?}");
            // It fades within 5 ms.
            assert!(loudest(&left[at + 400..]) < 1e-6, "{group:?}");
        }
    }
}
