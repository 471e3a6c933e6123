//! Listens to an instrument as it is now: to its takes as they are treated, to each of its keys, soft and hard, and to keys together. What was heard is kept under a
//! name of all that it follows from, so that only what changed is listened to again.

use crate::each::each;
use crate::heard::{
    CHORD_S, RATE_HZ, chord_of, key_loudness_lufs, middle_key, rendered, sounding_keys, sounds_on,
};
use crate::to_write::OfSnapshot;
use crate::{Library, Outcome, Samples, Snapshot, TreatedTake, Watch};
use check::{CutBy, CutHeard, Heard, TogetherHeard};
use engine::Engine;
use instrument::Treatment;
use program::{Cut, Program, Region, RegionKey, Strand, StrandId, cut_of};
use serde::Serialize;
use signal::{Audio, KeySound, LISTEN_VERSION, Measurement, Played, TakeSound};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Softly and hard: in the middle of what hands do at either end (common practice).
pub const STRIKES: [u8; 2] = [32, 112];
const HELD_S: f64 = 1.0;
/// What sounds longer after its key came up hangs.
const LONGEST_TAIL_S: f64 = 10.1;
const BLOCK: usize = 128;
/// Keys beside each other play the same recordings: so many are played in a row.
const IN_A_ROW: usize = 8;
/// As many as an engine ever has.
const MOST_VOICES: usize = 128;
const SILENT: f32 = 1e-4;
/// A note sounds so long before it is cut off, and so long after that is listened.
const BEFORE_CUT_S: f64 = 0.5;
const AFTER_CUT_S: f64 = 0.2;
/// Nothing of it is heard, and yet it starts.
const UNHEARD_DB: f64 = -300.0;

/// Something to listen to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum What {
    /// A take, by its number.
    Take(u64),
    /// A key, and how hard it is struck.
    Key(u8, u8),
    /// A chord of ten keys, struck hard, notes that others cut off, and how loud all of it is.
    Together,
}

/// The same with its name: of all that it follows from, the same for the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToHear {
    /// That name.
    pub name: String,
    /// What it is.
    pub what: What,
}

/// Listens to what was not heard yet.
#[derive(Debug, Clone)]
pub struct Listen {
    /// Its instrument's number.
    pub instrument: u64,
    /// The program, and its takes that are played.
    pub snapshot: Snapshot,
    /// What there is to hear.
    pub wanted: Vec<ToHear>,
}

impl Listen {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let samples = OfSnapshot {
            library,
            snapshot: &self.snapshot,
        };
        let begin = || Player::new(&self.snapshot.program, &samples);
        let one = |player: &mut Player<_>, wanted: &ToHear| -> anyhow::Result<()> {
            let facts = match wanted.what {
                What::Take(id) => {
                    let Some(take) = self.snapshot.takes.get(&id) else {
                        return Ok(());
                    };
                    let sides = self.snapshot.sides_of(id).map_or(usize::MAX, usize::from);
                    let audio = take.audio(library, (0, sides), 0, u64::MAX)?;
                    let _turn = library.turn();
                    serde_json::to_string(&take_sound(&audio, &take.facts, &take.treatment))?
                }
                What::Key(key, strike) => serde_json::to_string(&player.key(key, strike)?)?,
                What::Together => serde_json::to_string(&player.together()?)?,
            };
            library.note_heard(self.instrument, &wanted.name, &facts)
        };
        let tell = |share| watch.tell(share).is_ok();
        each(&self.wanted, IN_A_ROW, begin, one, &tell)?;
        Ok(Outcome::default())
    }
}

/// All there is to listen to.
pub fn to_hear(snapshot: &Snapshot) -> Vec<ToHear> {
    let takes = snapshot.takes.values().map(|take| ToHear {
        name: take.heard_name(),
        what: What::Take(take.id),
    });
    takes.chain(keys_to_hear(&snapshot.program)).collect()
}

/// The same of a program alone.
pub fn keys_to_hear(program: &Program) -> Vec<ToHear> {
    let keys = sounding_keys(program);
    let bare = bare(program);
    let of_key = |key: &u8| {
        let name = name_of('k', &(key, alone_on(program, &bare, *key)));
        STRIKES.map(|strike| ToHear {
            name: format!("{name}-{strike}"),
            what: What::Key(*key, strike),
        })
    };
    let mut all: Vec<ToHear> = keys.iter().flat_map(of_key).collect();
    if !keys.is_empty() {
        all.push(ToHear {
            name: name_of('e', program),
            what: What::Together,
        });
    }
    all
}

/// What was heard, of what is there under the names of what there is to hear; and what is not heard yet.
pub fn heard_by_name(wanted: Vec<ToHear>, known: &HashMap<String, String>) -> (Heard, Vec<ToHear>) {
    let mut heard = Heard::default();
    let mut lacking = Vec::new();
    for one in wanted {
        let ToHear { name, what } = &one;
        let facts = known.get(name).map_or("", String::as_str);
        let is_known = match what {
            What::Take(id) => read(facts).map(|sound| heard.takes.insert(*id, sound)).is_some(),
            What::Key(..) => read(facts).map(|sound| heard.keys.push(sound)).is_some(),
            What::Together => read(facts).map(|together| heard.together = together).is_some(),
        };
        if !is_known {
            lacking.push(one);
        }
    }
    (heard, lacking)
}

fn read<T: serde::de::DeserializeOwned>(facts: &str) -> Option<T> {
    serde_json::from_str(facts).ok()
}

/// Everything of a program and its takes, heard at once: where nothing is kept.
///
/// # Errors
/// Where audio cannot be read, or `tell` answers false.
pub fn hear_keys(
    program: &Program,
    samples: &(impl Samples + Sync),
    tell: &(dyn Fn(f64) -> bool + Sync),
) -> anyhow::Result<(Vec<KeySound>, Option<TogetherHeard>)> {
    let all = keys_to_hear(program);
    let begin = || Player::new(program, samples);
    let one = |player: &mut Player<_>, wanted: &ToHear| {
        Ok(match wanted.what {
            What::Key(key, strike) => (Some(player.key(key, strike)?), None),
            What::Together => (None, player.together()?),
            What::Take(_) => (None, None),
        })
    };
    let mut together = None;
    let mut keys = Vec::new();
    for (key, of_all) in each(&all, IN_A_ROW, begin, one, tell)? {
        keys.extend(key);
        together = of_all.or(together);
    }
    Ok((keys, together))
}

/// A take as it is treated and played.
pub fn take_sound(audio: &Audio, facts: &Measurement, treatment: &Treatment) -> TakeSound {
    let looped = treatment.looped.as_ref().map(instrument::TakeLoop::played);
    let played = Played {
        start_frame: treatment.start_frame as usize,
        end_frame: treatment.end_frame as usize,
        fade_in_frames: treatment.fade_in_frames as usize,
        fade_out_frames: treatment.fade_out_frames as usize,
        sound_start: facts.start_frame,
        sound_end: facts.end_frame,
        pitch_hz: facts.pitch.map(|pitch| pitch.hz),
        looped,
        dies_away: facts.dies_away,
        noise_floor_dbfs: facts.noise_floor_dbfs,
    };
    signal::listen(audio, &played)
}

/// A short name of things to hear; empty for none.
pub fn name_of_all(wanted: &[ToHear]) -> String {
    let names: Vec<&str> = wanted.iter().map(|wanted| wanted.name.as_str()).collect();
    if names.is_empty() {
        return String::new();
    }
    name_of('a', &names)
}

fn name_of(kind: char, all: &impl Serialize) -> String {
    let all = serde_json::to_vec(&(LISTEN_VERSION, all)).unwrap_or_default();
    format!("{kind}{}", &blake3::hash(&all).to_hex()[..32])
}

impl TreatedTake {
    /// A name of all that is heard of it by itself: level, place and tuning leave that as it is.
    fn heard_name(&self) -> String {
        let treatment = Treatment {
            gain_db: 0.0,
            pan: 0.0,
            root_key: 0,
            recording_cents: 0.0,
            tune_cents: 0.0,
            ..self.treatment.clone()
        };
        let part = &self.part;
        let facts = &self.facts;
        let pitch = facts.pitch.map(|pitch| pitch.hz.to_bits());
        let measured = (facts.start_frame, facts.end_frame, pitch, facts.dies_away);
        name_of(
            't',
            &(
                &part.recording,
                part.first_frame,
                part.frames,
                treatment,
                measured,
            ),
        )
    }
}

/// Everything of a program but its regions and samples, and what it is called.
fn bare(program: &Program) -> Program {
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
fn alone_on(program: &Program, bare: &Program, key: u8) -> Program {
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
struct Player<'a, S> {
    program: &'a Program,
    bare: Program,
    samples: &'a S,
    audio: HashMap<String, Vec<Vec<f32>>>,
}

impl<'a, S: Samples> Player<'a, S> {
    fn new(program: &'a Program, samples: &'a S) -> Self {
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

    fn key(&mut self, key: u8, strike: u8) -> anyhow::Result<KeySound> {
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

    fn together(&mut self) -> anyhow::Result<Option<TogetherHeard>> {
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
    use program::{Region, Sample, SampleId, StrandId};

    /// A tone of 440 Hz, a second long, that begins from zero; and nothing where its sample is called so.
    struct Tone;

    impl Samples for Tone {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            let turn = 440.0 * std::f64::consts::TAU / f64::from(RATE_HZ);
            let gain = if sample.name == "nothing" { 0.0 } else { 0.2 };
            let tone = |n: u64| ((n as f64 * turn).sin() * gain) as f32;
            Ok(Audio::mono(RATE_HZ, (0..sample.frames).map(tone).collect()))
        }
    }

    /// Tones on keys 60 to 69, the highest of which is silent.
    fn tones() -> Program {
        let sample = |id, name: &str| Sample {
            id: SampleId(id),
            name: name.into(),
            source: format!("{id}"),
            rate_hz: RATE_HZ,
            first_channel: 0,
            source_channels: 1,
            channels: 1,
            frames: 48_000,
        };
        let region = |sample, low, high| Region::whole(sample, 69, 48_000).on_keys(low, high);
        Program::plain(
            "tones",
            vec![sample(0, "tone"), sample(1, "nothing")],
            vec![region(0, 60, 68), region(1, 69, 69)],
        )
    }

    #[test]
    fn every_key_is_played_softly_and_hard_and_a_chord_once() {
        let (keys, chord) = hear_keys(&tones(), &Tone, &|_| true).unwrap();
        assert_eq!(keys.len(), 20);
        let silent: Vec<u8> = keys
            .iter()
            .filter(|key| key.level_dbfs.is_none())
            .map(|key| key.key)
            .collect();
        assert_eq!(silent, [69, 69]);
        // Each key is heard at its own pitch, though one recording serves them all.
        for key in keys.iter().filter(|key| key.key < 69) {
            assert!(key.cents.is_some_and(|cents| cents.abs() < 2.0), "{key:?}");
        }
        assert_eq!(
            chord.as_ref().map(|chord| (chord.voices, chord.voices_wanted)),
            Some((10, 10))
        );
        assert!(hear_keys(&tones(), &Tone, &|_| false).is_err());
    }

    #[test]
    fn voices_that_a_chord_lacks_are_counted() {
        let mut few = tones();
        few.most_voices = Some(4);
        let (_, chord) = hear_keys(&few, &Tone, &|_| true).unwrap();
        let chord = chord.unwrap();
        assert_eq!(chord.voices_wanted, 10);
        assert!(chord.voices <= 5, "one may still fade: {chord:?}");
    }

    #[test]
    fn notes_that_are_cut_off_are_heard_whatever_cuts_them() {
        let mut choked = tones();
        choked.strands[0].cut = Cut {
            group: Some(1),
            by: Some(1),
            fade_ms: 40,
        };
        let heard = |program: &Program| hear_keys(program, &Tone, &|_| true).unwrap().1.unwrap().cuts;
        let (plain, choked) = (heard(&tones()), heard(&choked));
        let of = |by, key, step_db| CutHeard { key, by, step_db };
        // What the engine cuts off it fades: no step, on any of them.
        let theft = [60, 64, 69].map(|key| of(CutBy::Theft, key, None));
        assert_eq!(plain, theft);
        let choke = [60, 64, 69].map(|key| of(CutBy::Choke, key, None));
        assert_eq!(choked, [theft, choke].concat());
    }

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

    #[test]
    fn only_what_changed_is_heard_again() {
        let names = |program: &Program| -> Vec<String> {
            keys_to_hear(program)
                .into_iter()
                .map(|wanted| wanted.name)
                .collect()
        };
        let before = names(&tones());
        let unlike: HashSet<&String> = before.iter().collect();
        assert_eq!(unlike.len(), before.len(), "each key has its own");
        let mut changed = tones();
        changed.regions[1].gain_db = -6.0;
        changed.name = "Others".into();
        let after = names(&changed);
        let same = before
            .iter()
            .zip(&after)
            .filter(|(before, after)| before == after)
            .count();
        assert_eq!(same, 18, "all but the highest key, twice, and the chord");
        let mut strand = tones();
        strand.strands[0].id = StrandId(7);
        strand
            .regions
            .iter_mut()
            .for_each(|region| region.key.strand = StrandId(7));
        assert!(names(&strand).iter().all(|name| !before.contains(name)));
    }

    #[test]
    fn what_is_not_known_or_cannot_be_read_is_lacking() {
        let wanted = keys_to_hear(&tones());
        let (keys, chord) = hear_keys(&tones(), &Tone, &|_| true).unwrap();
        let mut known: HashMap<String, String> = (wanted.iter().zip(&keys))
            .map(|(wanted, key)| (wanted.name.clone(), serde_json::to_string(key).unwrap()))
            .collect();
        let last = wanted.last().unwrap().name.clone();
        known.insert(last, serde_json::to_string(&chord).unwrap());
        let (heard, lacking) = heard_by_name(wanted.clone(), &known);
        assert_eq!((heard.keys, heard.together, lacking.len()), (keys, chord, 0));
        known.insert(wanted[3].name.clone(), "{}".into());
        known.remove(&wanted[5].name);
        let (_, lacking) = heard_by_name(wanted.clone(), &known);
        assert_eq!(lacking, [wanted[3].clone(), wanted[5].clone()]);
        assert_ne!(name_of_all(&lacking), name_of_all(&wanted));
        assert_eq!(name_of_all(&[]), "");
    }
}
