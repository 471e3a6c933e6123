//! Puts a fault of so many times its limit into an instrument.

use crate::instruments::Instrument;
use crate::table::Fault;
use instrument::{Fact, FindingKind, TakeLoop, Target};
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use rand_pcg::Pcg32;
use serde_json::{Value, json};
use signal::{Audio, LoopFacts};
use std::f64::consts::TAU;

/// The take that it was put into; `None` where none of the instrument can have so much of it.
pub fn put(fault: &Fault, times: f64, into: &mut Instrument) -> Option<u64> {
    let mut random = Pcg32::seed_from_u64(fault.seed * 7_919 + 11);
    let keys: Vec<u8> = into.plan.passes[0].rungs.clone();
    // Not at the ends of the ladder: what has neighbours on one side alone is judged by less.
    let inner = &keys[1..keys.len() - 1];
    let key = *inner.choose(&mut random)?;
    let layers = into.plan.passes[0].layers.len() as u64;
    let layer = if fault.kind == FindingKind::NotLouder {
        layers - 1
    } else {
        random.random_range(0..layers)
    };
    let take = into.takes.iter().find(|take| {
        let cell = take.recorded.cell;
        (cell.key, cell.layer.0, cell.round_robin) == (key, layer, 0)
    })?;
    let id = take.recorded.id;
    let kind = fault.kind;
    let how_much = kind.how_much(times, kind.limit());
    let mut hand = Hand { into, id, random };
    hand.put(kind, how_much)?;
    Some(id)
}

struct Hand<'a> {
    into: &'a mut Instrument,
    id: u64,
    random: Pcg32,
}

impl Hand<'_> {
    fn audio(&self) -> Audio {
        self.into.take(self.id).audio.clone()
    }

    fn say(&mut self, fact: Fact, value: Value) {
        self.into.said.insert((Target::Take(self.id), fact), value);
    }

    fn put(&mut self, kind: FindingKind, how_much: f64) -> Option<()> {
        match kind {
            FindingKind::SilenceFirst => self.silence_first(how_much),
            FindingKind::AttackCut => self.attack_cut(how_much)?,
            FindingKind::FlatTopped => self.flat(how_much)?,
            FindingKind::PopAtStart => self.pop_at_start(how_much)?,
            FindingKind::PopAtEnd => self.pop_at_end(how_much)?,
            FindingKind::Dc => self.added(|_, _| amplitude(how_much)),
            FindingKind::Hum => {
                let top = self.loudest() * amplitude(how_much);
                // Three partials, whose powers add up to one.
                let of = [(50.0, 0.8), (100.0, 0.36), (150.0, 0.48)];
                self.added(|t, _| of.iter().map(|(hz, a)| (t * hz * TAU).sin() * a * top).sum());
            }
            FindingKind::Hiss => {
                // Of white noise of ±a, 0.9 of its half of the rate less 1.5 kHz are heard as hiss.
                let rate = f64::from(self.audio().rate_hz);
                let share = (0.9 - 1_500.0 / (rate / 2.0)).sqrt();
                let a = self.loudest() * amplitude(how_much) * 3f64.sqrt() / share;
                let mut random = self.random.clone();
                self.added(|_, _| random.random_range(-a..a));
            }
            FindingKind::Rumble => {
                let top = self.loudest() * amplitude(how_much) * (2.0f64 / 3.0).sqrt();
                self.added(|t, _| {
                    [9.0, 11.0, 13.5]
                        .iter()
                        .map(|hz| (t * hz * TAU).sin() * top)
                        .sum()
                });
            }
            FindingKind::NoteBefore => self.note_before(how_much),
            FindingKind::AnotherSound => self.another_sound(how_much)?,
            FindingKind::OffPitch => {
                let cents = self.treatment().recording_cents;
                self.say(Fact::RecordingCents, json!(cents - how_much));
            }
            FindingKind::WrongOctave => {
                let root = self.treatment().root_key;
                let octave = if self.random.random() {
                    root + 12
                } else {
                    root - 12
                };
                self.say(Fact::RootKey, json!(octave));
            }
            FindingKind::RootDiffers => {
                let treatment = self.treatment();
                let keys = (how_much / 100.0).floor();
                self.say(Fact::RootKey, json!(treatment.root_key + keys as u8));
                let cents = treatment.recording_cents + how_much - keys * 100.0;
                self.say(Fact::RecordingCents, json!(cents));
            }
            FindingKind::SeamStandsOut => self.seam(how_much)?,
            FindingKind::LoopPumps => self.pumps(how_much),
            FindingKind::LevelStep => {
                let up: bool = self.random.random();
                let peak = signal::peak_dbfs(&self.audio());
                let db = if up && peak + how_much < -0.5 {
                    how_much
                } else {
                    -how_much
                };
                self.scaled(|_| amplitude(db));
            }
            FindingKind::BrightnessStep => self.duller(how_much)?,
            FindingKind::Leans => {
                self.scaled(|channel| if channel == 1 { amplitude(-how_much) } else { 1.0 })
            }
            FindingKind::NotLouder => self.not_louder(how_much)?,
            _ => return None,
        }
        Some(())
    }

    fn treatment(&mut self) -> instrument::Treatment {
        let id = self.id;
        let resolved = self.into.resolved();
        let take = resolved
            .takes
            .into_iter()
            .find(|take| take.recorded.id == id)
            .expect("a take");
        take.treatment.expect("measured")
    }

    /// The highest sample of all takes.
    fn loudest(&self) -> f64 {
        let peaks = self.into.takes.iter().map(|take| signal::peak_dbfs(&take.audio));
        amplitude(peaks.fold(f64::NEG_INFINITY, f64::max))
    }

    /// Adds something to every channel, by the time in seconds and the frame.
    fn added(&mut self, mut what: impl FnMut(f64, usize) -> f64) {
        let mut audio = self.audio();
        let rate = f64::from(audio.rate_hz);
        for frame in 0..audio.frames() {
            let more = what(frame as f64 / rate, frame) as f32;
            for channel in &mut audio.channels {
                channel[frame] += more;
            }
        }
        self.into.set_audio(self.id, audio);
    }

    fn scaled(&mut self, gain: impl Fn(usize) -> f64) {
        let mut audio = self.audio();
        for (n, channel) in audio.channels.iter_mut().enumerate() {
            let gain = gain(n) as f32;
            channel.iter_mut().for_each(|x| *x *= gain);
        }
        self.into.set_audio(self.id, audio);
    }

    /// With so much more of the room before it; where there is none, of silence.
    fn padded(&mut self, ms: f64) {
        let mut audio = self.audio();
        let frames = signal::frames_of_ms(audio.rate_hz, ms);
        let room = self.into.take(self.id).facts.start_frame.saturating_sub(960);
        for channel in &mut audio.channels {
            let mut long: Vec<f32> = if room > 4_800 {
                channel[..room].iter().copied().cycle().take(frames).collect()
            } else {
                vec![0.0; frames]
            };
            long.append(channel);
            *channel = long;
        }
        self.into.set_audio(self.id, audio);
    }

    fn silence_first(&mut self, ms: f64) {
        self.padded(ms + 10.0);
        let take = self.into.take(self.id);
        let frames = signal::frames_of_ms(take.audio.rate_hz, ms);
        let start = take.facts.start_frame.saturating_sub(frames);
        self.say(Fact::StartFrame, json!(start));
    }

    /// The first frame from which on what is left out lies so high under what follows.
    fn attack_cut(&mut self, db: f64) -> Option<()> {
        let take = self.into.take(self.id);
        let (mono, from) = (take.audio.to_mono(), take.facts.start_frame);
        let ms = |value| signal::frames_of_ms(take.audio.rate_hz, value);
        let peak = |first: usize, end: usize| {
            mono[first.min(mono.len())..end.min(mono.len())]
                .iter()
                .fold(0.0f32, |t, x| t.max(x.abs()))
        };
        let at = (from + 4..from + ms(200.0)).find(|&at| {
            let left = peak(from.max(at.saturating_sub(ms(20.0))), at);
            f64::from(left) >= amplitude(db) * f64::from(peak(at, at + ms(50.0)))
        })?;
        self.say(Fact::StartFrame, json!(at));
        Some(())
    }

    fn flat(&mut self, frames: f64) -> Option<()> {
        let audio = self.audio();
        let flat_at = |level: f32| {
            let mut clipped = audio.clone();
            for x in clipped.channels.iter_mut().flatten() {
                *x = x.clamp(-level, level);
            }
            clipped
        };
        let count = |of: &Audio| {
            let top = of.channels.iter().flatten().fold(0.0f32, |t, x| t.max(x.abs()));
            let runs = |channel: &Vec<f32>| {
                let held: Vec<usize> = channel
                    .chunk_by(|a, b| a == b)
                    .filter(|run| run[0].abs() == top && run.len() >= 3)
                    .map(<[f32]>::len)
                    .collect();
                held.iter().sum::<usize>()
            };
            of.channels.iter().map(runs).max().unwrap_or(0)
        };
        let peak = 10f32.powf(signal::peak_dbfs(&audio) as f32 / 20.0);
        let level = (1..400)
            .map(|n| peak * (1.0 - n as f32 * 0.0025))
            .find(|level| count(&flat_at(*level)) as f64 >= frames)?;
        self.into.set_audio(self.id, flat_at(level));
        Some(())
    }

    /// Begins where it is so far from zero, without a fade.
    fn pop_at_start(&mut self, db: f64) -> Option<()> {
        let take = self.into.take(self.id);
        let ms = |value| signal::frames_of_ms(take.audio.rate_hz, value);
        let from = take.facts.start_frame;
        let mono = take.audio.to_mono();
        let at = (from..from + ms(400.0)).find(|&at| {
            let beginning = mono[at..(at + ms(50.0)).min(mono.len())]
                .iter()
                .fold(0.0f32, |t, x| t.max(x.abs()));
            f64::from(mono[at].abs()) >= amplitude(db) * f64::from(beginning)
        })?;
        self.say(Fact::StartFrame, json!(at));
        self.say(Fact::FadeInFrames, json!(0));
        Some(())
    }

    /// Ends where it is so far from zero, without a fade.
    fn pop_at_end(&mut self, db: f64) -> Option<()> {
        let take = self.into.take(self.id);
        let mono = take.audio.to_mono();
        let peak = mono.iter().fold(0.0f32, |t, x| t.max(x.abs()));
        let at = (take.facts.start_frame..take.facts.end_frame.min(mono.len()))
            .rfind(|&at| f64::from(mono[at].abs()) >= amplitude(db) * f64::from(peak))?;
        self.say(Fact::EndFrame, json!(at + 1));
        self.say(Fact::FadeOutFrames, json!(0));
        Some(())
    }

    /// A note a third higher, which ends a quarter of a second into this one.
    fn note_before(&mut self, db: f64) {
        self.padded(300.0);
        let take = self.into.take(self.id);
        let hz = signal::hz_of_key(f64::from(take.recorded.cell.key) + 4.3);
        let top = amplitude(signal::peak_dbfs(&take.audio)) * amplitude(db);
        let until = take.facts.start_frame as f64 / f64::from(take.audio.rate_hz) + 0.25;
        let of = [(1.0, 0.86), (2.0, 0.43), (3.0, 0.28)];
        self.added(|t, _| {
            let fade = ((until - t) / 0.1).clamp(0.0, 1.0);
            of.iter()
                .map(|(nth, a)| (t * hz * nth * TAU).sin() * a * top * fade)
                .sum()
        });
    }

    /// Noise for a tenth of a second, where it has fallen far enough.
    fn another_sound(&mut self, db: f64) -> Option<()> {
        let take = self.into.take(self.id);
        let mono = take.audio.to_mono();
        let window = signal::frames_of_ms(take.audio.rate_hz, 20.0);
        let level = |at: usize| {
            let power: f64 = mono[at..at + window].iter().map(|x| f64::from(*x).powi(2)).sum();
            (power / window as f64).sqrt()
        };
        let peak = amplitude(signal::peak_dbfs(&take.audio));
        let first = take.facts.start_frame + signal::frames_of_ms(take.audio.rate_hz, 500.0);
        let last = take.facts.end_frame.min(mono.len().saturating_sub(8 * window));
        let floor = take
            .facts
            .noise_floor_dbfs
            .map_or(3e-5, |dbfs| amplitude(dbfs + 18.0));
        let at = (first..last).step_by(window).find(|&at| {
            let now = level(at);
            now * amplitude(db) * 1.8 < peak && now * amplitude(db) > floor
        })?;
        let a = level(at) * amplitude(db) * 3f64.sqrt();
        let mut random = self.random.clone();
        self.added(|_, frame| {
            if (at..at + 5 * window).contains(&frame) {
                random.random_range(-a..a)
            } else {
                0.0
            }
        });
        Some(())
    }

    /// The best of some loops whose ends lie by chance: that nearest to what is wished.
    fn seam(&mut self, db: f64) -> Option<()> {
        let treatment = self.treatment();
        let held = treatment.looped?;
        let take = self.into.take(self.id);
        let period = take
            .facts
            .pitch
            .map_or(200.0, |pitch| f64::from(take.audio.rate_hz) / pitch.hz);
        let audio = take.audio.clone();
        let most = treatment.end_frame.min(audio.frames() as u64);
        let mut best: Option<(f64, TakeLoop)> = None;
        for _ in 0..120 {
            let off = self.random.random_range(1..(4.0 * period) as u64 + 8);
            let looped = TakeLoop {
                end_frame: (held.end_frame.saturating_sub(off)).clamp(held.start_frame + 64, most),
                crossfade_frames: [0, 0, 32, 200][self.random.random_range(0..4)].min(held.start_frame),
                ..held
            };
            let Some(stands) = LoopFacts::of(&audio, looped.played(), period).audible_db else {
                continue;
            };
            let off = (stands - db).abs() + if stands < db { 1e3 } else { 0.0 };
            if best.is_none_or(|(least, _)| off < least) {
                best = Some((off, looped));
            }
        }
        let (off, looped) = best?;
        if off > 100.0 {
            return None;
        }
        self.say(Fact::Loop, serde_json::to_value(looped).ok()?);
        Some(())
    }

    /// Its level rises and falls three times a second, by so many dB in all.
    fn pumps(&mut self, db: f64) {
        let mut audio = self.audio();
        let rate = f64::from(audio.rate_hz);
        for channel in &mut audio.channels {
            for (n, x) in channel.iter_mut().enumerate() {
                let turn = (n as f64 / rate * 3.0 * TAU).sin();
                *x *= amplitude((turn - 1.0) * db * 0.52) as f32;
            }
        }
        self.into.set_audio(self.id, audio);
    }

    /// Through a low-pass of one pole, as low as it takes.
    fn duller(&mut self, semitones: f64) -> Option<()> {
        let take = self.into.take(self.id);
        let (from, rate) = (take.facts.start_frame, take.audio.rate_hz);
        let first = from..(from + signal::frames_of_ms(rate, 300.0)).min(take.audio.frames());
        let key = |audio: &Audio| signal::brightness_key(&audio.to_mono()[first.clone()], rate);
        let whole = take.audio.clone();
        let before = key(&whole)?;
        let through = |hz: f64| {
            let share = 1.0 - (-TAU * hz / f64::from(rate)).exp();
            let mut audio = whole.clone();
            for channel in &mut audio.channels {
                for _ in 0..2 {
                    let mut held = 0.0f64;
                    for x in channel.iter_mut() {
                        held += (f64::from(*x) - held) * share;
                        *x = held as f32;
                    }
                }
            }
            audio
        };
        let cutoff = (0..90)
            .map(|n| 12_000.0 * 0.94f64.powi(n))
            .find(|hz| key(&through(*hz)).is_some_and(|now| before - now >= semitones))?;
        let mut duller = through(cutoff);
        // As loud as before: only its colour is another.
        if let (Some(was), Some(is)) = (signal::loudness_lufs(&whole), signal::loudness_lufs(&duller)) {
            let gain = amplitude(was - is) as f32;
            duller
                .channels
                .iter_mut()
                .flatten()
                .for_each(|x| *x = (*x * gain).clamp(-0.98, 0.98));
        }
        self.into.set_audio(self.id, duller);
        Some(())
    }

    /// All turns of its cell so much softer than the layer under it.
    fn not_louder(&mut self, db: f64) -> Option<()> {
        let cell = self.into.take(self.id).recorded.cell;
        let loudness = |into: &Instrument, layer: u64| {
            let of = into
                .takes
                .iter()
                .filter(|take| take.recorded.cell.key == cell.key && take.recorded.cell.layer.0 == layer);
            let all: Vec<f64> = of.filter_map(|take| take.facts.loudness_lufs).collect();
            (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
        };
        let down =
            loudness(self.into, cell.layer.0.checked_sub(1)?)? - db - loudness(self.into, cell.layer.0)?;
        let ids: Vec<u64> = (self.into.takes.iter())
            .filter(|take| (take.recorded.cell.key, take.recorded.cell.layer) == (cell.key, cell.layer))
            .map(|take| take.recorded.id)
            .collect();
        for id in ids {
            self.id = id;
            self.scaled(|_| amplitude(down));
        }
        self.id = self
            .into
            .takes
            .iter()
            .find(|take| take.recorded.cell == cell)?
            .recorded
            .id;
        Some(())
    }
}

fn amplitude(db: f64) -> f64 {
    10f64.powf(db / 20.0)
}
