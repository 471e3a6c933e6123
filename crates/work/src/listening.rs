//! Listens to an instrument as it is now: to its takes as they are treated, to each of its keys, soft and hard, and to keys together. What was heard is kept under a
//! name of all that it follows from, so that only what changed is listened to again.

mod player;

use crate::each::each;
use crate::heard::sounding_keys;
use crate::to_write::OfSnapshot;
use crate::{Library, Outcome, Samples, Snapshot, TreatedTake, Watch};
use check::{Heard, TogetherHeard};
use instrument::Treatment;
use player::{Player, alone_on, bare};
use program::Program;
use serde::Serialize;
use signal::{Audio, KeySound, LISTEN_VERSION, Measurement, Played, TakeSound};
use std::collections::HashMap;

/// Softly and hard: in the middle of what hands do at either end (common practice).
pub const STRIKES: [u8; 2] = [32, 112];
/// Keys beside each other play the same recordings: so many are played in a row.
const IN_A_ROW: usize = 8;

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

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use crate::heard::RATE_HZ;
    use check::{CutBy, CutHeard};
    use program::{Cut, Region, Sample, SampleId, StrandId};
    use std::collections::HashSet;

    /// A tone of 440 Hz, a second long, that begins from zero; and nothing where its sample is called so.
    pub(in crate::listening) struct Tone;

    impl Samples for Tone {
        fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
            let turn = 440.0 * std::f64::consts::TAU / f64::from(RATE_HZ);
            let gain = if sample.name == "nothing" { 0.0 } else { 0.2 };
            let tone = |n: u64| ((n as f64 * turn).sin() * gain) as f32;
            Ok(Audio::mono(RATE_HZ, (0..sample.frames).map(tone).collect()))
        }
    }

    /// Tones on keys 60 to 69, the highest of which is silent.
    pub(in crate::listening) fn tones() -> Program {
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
