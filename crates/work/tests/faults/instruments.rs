//! Instruments that faults are put into: recordings in memory, with what was measured of them.

use crate::table::Made;
use formats::sf2;
use instrument::{
    ByTreatment, Cell, Counted, Facts, Finding, How, Kind, Known, Layer, LayerId, Limits, Origin, Pass,
    PassId, Plan, RecordedTake, Resolved, Source, Spelling, read_name, resolve,
};
use program::SoundsOn;
use rig::{Model, Rig, RigSettings};
use signal::{Audio, LoopFacts, Measurement, TakeSound};
use std::collections::HashMap;
use std::fs;
use std::io::BufReader;
use std::path::Path;

pub const RATE: u32 = 48_000;

/// A recording with what is known of it.
#[derive(Clone)]
pub struct Take {
    pub recorded: RecordedTake,
    pub audio: Audio,
    pub facts: Measurement,
}

/// Made of recordings by itself, as the page makes one.
#[derive(Clone)]
pub struct Instrument {
    pub plan: Plan,
    pub takes: Vec<Take>,
    pub said: Facts,
    /// What was heard of takes, by all that it follows from.
    heard: HashMap<(u64, String), TakeSound>,
}

impl Instrument {
    fn of(kind: Kind, layers: &[u8], round_robins: u32, sounds: Vec<(Cell, Audio)>) -> Self {
        let measured = measure_all(&sounds.iter().map(|(_, audio)| audio).collect::<Vec<_>>());
        let mut rungs: Vec<u8> = sounds.iter().map(|(cell, _)| cell.key).collect();
        rungs.sort_unstable();
        rungs.dedup();
        let rate_hz = sounds[0].1.rate_hz;
        let layer = |(n, strike): (usize, &u8)| Layer {
            id: LayerId(n as u64),
            name: format!("layer {}", n + 1),
            strike_velocity: *strike,
            low_velocity: None,
            round_robins: None,
            crossfade: None,
        };
        let plan = Plan {
            kind,
            source: Source {
                how: How::Files,
                rig: String::new(),
                channel: 1,
                bank: None,
                program: 1,
            },
            rate_hz,
            bits: 24,
            channels: sounds[0].1.channels.len() as u16,
            mics: Vec::new(),
            passes: vec![Pass {
                id: PassId(0),
                name: "Keys".to_owned(),
                sounds_on: SoundsOn::KeyDown,
                rungs,
                layers: layers.iter().enumerate().map(layer).collect(),
                round_robins,
                hold_ms: 3_000,
                hold_high_ms: None,
                tail_ms: 3_000,
                controller: None,
                chord: Vec::new(),
            }],
        };
        let takes = (1u64..)
            .zip(sounds)
            .zip(measured)
            .map(|((id, (cell, audio)), facts)| Take {
                recorded: RecordedTake {
                    id,
                    cell,
                    rate_hz: audio.rate_hz,
                    channels: audio.channels.len() as u16,
                    frames: audio.frames() as u64,
                    origin: Origin::default(),
                },
                audio,
                facts,
            })
            .collect();
        Self {
            plan,
            takes,
            said: Facts::new(),
            heard: HashMap::new(),
        }
    }

    /// One of them, where its recordings are there.
    pub fn made(of: Made) -> Option<Self> {
        Some(match of {
            Made::Chimes => rig_takes(Model::SlateChimes, Kind::Struck, 1, &[40, 84, 120], 2, 60..=96),
            Made::Organ => rig_takes(Model::ReedOrgan, Kind::Sustained, 1, &[100], 1, 41..=77),
            Made::Ferry => rig_takes(Model::NightFerry, Kind::Sustained, 2, &[60, 110], 1, 40..=76),
            Made::Strings => family(&["Strings", "strings"])?,
            Made::Brass => family(&["Trumpet", "Brass", "Trombone"])?,
            Made::Piano => piano()?,
        })
    }

    /// Other audio for a take: it is measured anew.
    pub fn set_audio(&mut self, id: u64, audio: Audio) {
        let take = self.take_mut(id);
        take.facts = signal::measure(&audio);
        take.recorded.frames = audio.frames() as u64;
        take.audio = audio;
        self.heard.retain(|(of, _), _| *of != id);
    }

    pub fn take(&self, id: u64) -> &Take {
        self.takes
            .iter()
            .find(|take| take.recorded.id == id)
            .expect("a take")
    }

    fn take_mut(&mut self, id: u64) -> &mut Take {
        self.takes
            .iter_mut()
            .find(|take| take.recorded.id == id)
            .expect("a take")
    }

    fn resolved_with(
        &self,
        loops: &ByTreatment<LoopFacts>,
        levels: &ByTreatment<signal::Levels>,
    ) -> Resolved {
        let takes = self.takes.iter().map(|take| {
            let counted = Counted {
                facts: take.facts.clone(),
                suggested: Vec::new(),
            };
            (take.recorded.clone(), Some(counted))
        });
        resolve(Known {
            name: "Fernhollow",
            plan: &self.plan,
            said: &self.said,
            brought: None,
            takes: takes.collect(),
            cleaned_levels: levels,
            judged_loops: loops,
        })
    }

    /// As it stands, with loops judged and cleaned takes cleaned.
    pub fn resolved(&mut self) -> Resolved {
        let (mut loops, mut levels) = (HashMap::new(), HashMap::new());
        let first = self.resolved_with(&loops, &levels);
        for take in &first.takes {
            let (Some(facts), Some(treatment)) = (&take.facts, &take.treatment) else {
                continue;
            };
            let id = take.recorded.id;
            let audio = || self.cleaned(id, treatment);
            if let Some(name) = treatment.cleaned_name(facts) {
                levels.insert(
                    (id, name),
                    signal::Levels::of(&audio(), facts.start_frame, facts.end_frame),
                );
            }
            if let (Some(looped), Some(name)) = (treatment.looped, treatment.loop_name(facts))
                && treatment.measured_loop(facts).is_none()
            {
                let period = facts
                    .pitch
                    .map_or(200.0, |pitch| f64::from(take.recorded.rate_hz) / pitch.hz);
                loops.insert((id, name), LoopFacts::of(&audio(), looped.played(), period));
            }
        }
        self.resolved_with(&loops, &levels)
    }

    fn cleaned(&self, id: u64, treatment: &instrument::Treatment) -> Audio {
        let take = self.take(id);
        if treatment.cleaning.is_empty() {
            return take.audio.clone();
        }
        signal::clean(&take.audio, &treatment.cleaning, treatment.places(&take.facts))
    }

    /// All that is wrong with its takes; keys are not played here.
    pub fn findings(&mut self) -> Vec<Finding> {
        let resolved = self.resolved();
        let mut heard = check::Heard::default();
        for take in &resolved.takes {
            let (Some(facts), Some(treatment)) = (&take.facts, &take.treatment) else {
                continue;
            };
            let id = take.recorded.id;
            let name = format!("{treatment:?}");
            let known = self.heard.get(&(id, name.clone())).cloned();
            let sound = known.unwrap_or_else(|| {
                let sound = work::take_sound(&self.cleaned(id, treatment), facts, treatment);
                self.heard.insert((id, name), sound.clone());
                sound
            });
            heard.takes.insert(id, sound);
        }
        check::findings(&resolved, (&heard, &[]), &Limits::default(), &self.said)
            .into_iter()
            .filter(|finding| matches!(finding.about, instrument::Target::Take(_)))
            .collect()
    }
}

fn measure_all(all: &[&Audio]) -> Vec<Measurement> {
    let half = all.len().div_ceil(2);
    std::thread::scope(|scope| {
        let parts: Vec<_> = all
            .chunks(half.max(1))
            .map(|part| {
                scope.spawn(|| {
                    part.iter()
                        .map(|audio| signal::measure(audio))
                        .collect::<Vec<_>>()
                })
            })
            .collect();
        parts
            .into_iter()
            .flat_map(|part| part.join().expect("measured"))
            .collect()
    })
}

fn cell(key: u8, layer: usize, round_robin: u16) -> Cell {
    Cell {
        pass: PassId(0),
        key,
        layer: LayerId(layer as u64),
        round_robin,
    }
}

/// Every fourth key, each strength, each turn: half a second of room, held, and its tail.
pub fn rig_takes(
    model: Model,
    kind: Kind,
    program: u8,
    strikes: &[u8],
    turns: u16,
    keys: std::ops::RangeInclusive<u8>,
) -> Instrument {
    let mut sounds = Vec::new();
    for key in keys.step_by(4) {
        for (layer, strike) in strikes.iter().enumerate() {
            for turn in 0..turns {
                let settings = RigSettings {
                    seed: u64::from(key) * 97 + u64::from(*strike) * 7 + u64::from(turn),
                    slips: rig::Slips {
                        wrong_note: 0.0,
                        clipped: 0.0,
                        door: 0.0,
                    },
                    ..RigSettings::default()
                };
                let mut rig = Rig::new(model, RATE, settings);
                let (room, held) = (24_000u64, 96_000u64);
                rig.schedule(0, &[0xC0, program - 1]);
                rig.schedule(room, &[0x90, key, *strike]);
                rig.schedule(room + held, &[0x80, key, 64]);
                let frames = (room + held) as usize + 3 * RATE as usize;
                let samples = rig.render(frames).samples;
                let audio = Audio::from_interleaved(RATE, samples.len() / frames, &samples);
                sounds.push((cell(key, layer, turn), audio));
            }
        }
    }
    Instrument::of(kind, strikes, u32::from(turns), sounds)
}

/// Recordings of the SoundFont whose names begin so, one for each key.
fn family(names: &[&str]) -> Option<Instrument> {
    let path = std::env::var("LADDER_SOUNDFONT").ok()?;
    let mut file = sf2::File::read(BufReader::new(fs::File::open(path).ok()?)).ok()?;
    let zones: Vec<sf2::Zone> = (file.instruments.iter())
        .filter(|of| names.iter().any(|name| of.name.trim().starts_with(name)))
        .flat_map(|of| of.zones.clone())
        .collect();
    let mut sounds: Vec<(Cell, Audio)> = Vec::new();
    for zone in zones {
        let sample = file.samples[zone.sample].clone();
        let key = zone.pitch(&sample).round() as u8;
        let is_known = sounds.iter().any(|(cell, _)| cell.key == key);
        if zone.looped(&sample).is_some() && !is_known && sample.frames as u32 > sample.rate_hz / 2 {
            sounds.push((cell(key, 0, 0), file.audio(zone.sample).ok()?));
        }
    }
    sounds.sort_by_key(|(cell, _)| cell.key);
    (sounds.len() >= 3).then(|| Instrument::of(Kind::Sustained, &[100], 1, sounds))
}

/// Notes of a real piano, and under them the same played softer: by 8 dB, and duller.
fn piano() -> Option<Instrument> {
    let folder = std::env::var("LADDER_PIANO").ok()?;
    let mut sounds = Vec::new();
    for entry in walk(Path::new(&folder)) {
        let name = entry.file_stem()?.to_string_lossy().replace("v10", "");
        let key = read_name(&format!("{name}.ogg"), Spelling::default()).key?;
        let audio = formats::decode(fs::read(&entry).ok()?, Some("ogg")).ok()?;
        let mut soft = audio.clone();
        for channel in &mut soft.channels {
            let mut held = 0.0f32;
            for x in channel.iter_mut() {
                held += (*x - held) * 0.35;
                *x = held * 0.4;
            }
        }
        sounds.push((cell(key, 0, 0), soft));
        sounds.push((cell(key, 1, 0), audio));
    }
    sounds.sort_by_key(|(cell, _)| (cell.key, cell.layer));
    // Its lowest and highest strings are a world of their own.
    sounds.retain(|(cell, _)| (36..=90).contains(&cell.key));
    (sounds.len() >= 10).then(|| Instrument::of(Kind::Struck, &[50, 100], 1, sounds))
}

fn walk(folder: &Path) -> Vec<std::path::PathBuf> {
    let Ok(entries) = fs::read_dir(folder) else {
        return Vec::new();
    };
    let mut all = Vec::new();
    for path in entries.flatten().map(|entry| entry.path()) {
        if path.is_dir() {
            all.extend(walk(&path));
        } else if path.extension().is_some_and(|ending| ending == "ogg") {
            all.push(path);
        }
    }
    all
}
