//! A take as its treatment makes it: where its samples are altered they are rendered, and kept under a name of all that went in.

use crate::{Library, Part};
use instrument::{ByTreatment, Cell, Kind, Origin, ResolvedTake, TakeLoop, Treatment, best_loop};
use serde::{Deserialize, Serialize};
use signal::{Audio, Cleaning, Levels, LoopCandidate, LoopFacts, LoopLengths, Measurement, Stage};
use std::collections::BTreeMap;

/// Where renders lie.
pub const RENDERS: &str = "cleaned/";
/// Over how much the seam of a sound without pitch is compared.
const UNPITCHED_PERIOD_FRAMES: f64 = 200.0;

/// A take that was measured, with what is done to it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct TreatedTake {
    /// Its number.
    pub id: u64,
    /// Where it belongs.
    pub cell: Cell,
    /// Its audio.
    pub part: Part,
    /// What its instrument is.
    pub kind: Kind,
    /// What was measured.
    pub facts: Measurement,
    /// What is done.
    pub treatment: Treatment,
    /// Noise of the silence before its run, by bands; empty where none was measured.
    pub room: Vec<f32>,
}

/// What jobs of an instrument work on: its program and its takes, as they were when the job was asked for.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Snapshot {
    /// What sounds.
    pub program: program::Program,
    /// What it is played by.
    #[serde(default)]
    pub panel: instrument::Panel,
    /// The takes that it is about.
    pub takes: BTreeMap<u64, TreatedTake>,
}

impl Snapshot {
    /// Sides of each mic of a take, as it is played; `None` where nothing plays it.
    pub(crate) fn sides_of(&self, take: u64) -> Option<u16> {
        let is_of = |source: &str| take_of_source(source).ok() == Some(take);
        let sample = self.program.samples.iter().find(|sample| is_of(&sample.source))?;
        Some(sample.channels)
    }
}

impl TreatedTake {
    /// With the noise that its origin knows of.
    pub fn room_of(origin: &Origin) -> Vec<f32> {
        let check = origin.sound_check.as_ref();
        check.map(|check| check.noise_bands.clone()).unwrap_or_default()
    }

    /// Frames `first..end` as they were recorded, some of the recording's channels.
    ///
    /// # Errors
    /// Those of the library.
    pub fn raw(
        &self,
        library: &dyn Library,
        (first_channel, channels): (usize, usize),
        first: u64,
        end: u64,
    ) -> anyhow::Result<Audio> {
        raw(library, &self.part, (first_channel, channels), first, end)
    }

    /// Where a render of some channels lies.
    pub fn render_path(&self, name: &str, first_channel: usize, channels: usize) -> String {
        let part = &self.part;
        format!(
            "{RENDERS}{}-{}-{}-{name}-{first_channel}-{channels}",
            part.recording, part.first_frame, part.frames
        )
    }

    /// Frames `first..end` of some of the recording's channels, cleaned where that is wished.
    ///
    /// # Errors
    /// Those of the library.
    pub fn audio(
        &self,
        library: &dyn Library,
        (first_channel, channels): (usize, usize),
        first: u64,
        end: u64,
    ) -> anyhow::Result<Audio> {
        let end = end.min(self.part.frames);
        let first = first.min(end);
        let Some(name) = self.treatment.cleaned_name(&self.facts) else {
            return self.raw(library, (first_channel, channels), first, end);
        };
        let channels = channels.min(usize::from(self.part.form.channels).saturating_sub(first_channel));
        let path = self.render_path(&name, first_channel, channels);
        let sides = self.treatment.cleaning.channels_out(channels);
        let frame_bytes = sides as u64 * 4;
        if let Some(bytes) = library.bytes(&path, first * frame_bytes..end * frame_bytes)? {
            return Ok(from_bytes(self.part.form.rate_hz, sides, &bytes));
        }
        let whole = {
            let _turn = library.turn();
            let audio = self.raw(library, (first_channel, channels), 0, self.part.frames)?;
            let places = self.treatment.places(&self.facts);
            signal::clean_in_room(&audio, &self.treatment.cleaning, places, &self.room)
        };
        if first_channel == 0 {
            self.note_levels(library, &name, &whole)?;
        }
        library.put_bytes(&path, as_bytes(&whole))?;
        Ok(whole.slice(first as usize, end as usize))
    }

    /// All of it, cleaned where that is wished.
    ///
    /// # Errors
    /// Those of the library.
    pub fn whole(&self, library: &dyn Library) -> anyhow::Result<Audio> {
        self.audio(library, (0, usize::MAX), 0, u64::MAX)
    }

    /// A take is as loud as its first mic.
    fn note_levels(&self, library: &dyn Library, name: &str, whole: &Audio) -> anyhow::Result<()> {
        let levels = Levels::of(whole, self.facts.start_frame, self.facts.end_frame);
        library.note_levels(self.id, name, &levels)
    }

    /// Keeps its levels as it is cleaned, though it may be rendered already for another take of the same sound.
    ///
    /// # Errors
    /// Those of the library.
    pub fn tell_levels(&self, library: &dyn Library) -> anyhow::Result<()> {
        match self.treatment.cleaned_name(&self.facts) {
            Some(name) => self.note_levels(library, &name, &self.whole(library)?),
            None => Ok(()),
        }
    }

    /// What its loop is worth, by its name; `None` where it has none, or measuring found it.
    ///
    /// # Errors
    /// Those of the library.
    pub fn judged_loop(&self, library: &dyn Library) -> anyhow::Result<Option<(String, LoopFacts)>> {
        let (Some(looped), Some(name)) = (self.treatment.looped, self.treatment.loop_name(&self.facts))
        else {
            return Ok(None);
        };
        if self.treatment.measured_loop(&self.facts).is_some() {
            return Ok(None);
        }
        let audio = self.whole(library)?;
        Ok(Some((name, worth_of_loop(&audio, looped, &self.facts))))
    }

    /// The best of the places to loop it that were found for some lengths. Of any length it is one that suits its kind; of lengths that somebody
    /// asked for, or of a kind that is not looped by itself, the best of all.
    pub fn best_of(&self, places: &[LoopCandidate], lengths: LoopLengths) -> Option<TakeLoop> {
        let asked = lengths != LoopLengths::default() || !self.kind.loops();
        let suited = || best_loop(self.kind, self.part.form.rate_hz, places);
        let best = if asked { places.first() } else { suited() };
        best.map(TakeLoop::found)
    }

    /// The same take, cleaned otherwise.
    fn cleaned_by(&self, cleaning: Cleaning) -> Self {
        Self {
            treatment: Treatment {
                cleaning,
                ..self.treatment.clone()
            },
            ..self.clone()
        }
    }

    /// The same take without one stage of its cleaning.
    pub fn without(&self, stage: Stage) -> Self {
        self.cleaned_by(self.treatment.cleaning.without(stage))
    }

    /// What one stage of cleaning takes away of what those before it leave, or what all of them take, frames `first..end`.
    ///
    /// # Errors
    /// Those of the library.
    pub fn taken_away(
        &self,
        library: &dyn Library,
        of: (usize, usize),
        (first, end): (u64, u64),
        stage: Option<Stage>,
    ) -> anyhow::Result<Audio> {
        let all = self.treatment.cleaning;
        let (before, after) = match stage {
            Some(stage) => (all.through(stage).without(stage), all.through(stage)),
            None => (Cleaning::default(), all),
        };
        let before = self.cleaned_by(before).audio(library, of, first, end)?;
        let after = self.cleaned_by(after).audio(library, of, first, end)?;
        Ok(signal::taken_away(&before, &after))
    }
}

/// Levels of a take that is cleaned, and what a loop is worth that measuring did not find. `audio` gives it as it is cleaned, and is asked where that is wanted.
pub(crate) fn judged(
    take: &ResolvedTake,
    audio: impl FnOnce() -> anyhow::Result<Audio>,
    levels: &mut ByTreatment<Levels>,
    loops: &mut ByTreatment<LoopFacts>,
) -> anyhow::Result<()> {
    let (Some(treatment), Some(facts)) = (&take.treatment, &take.facts) else {
        return Ok(());
    };
    let cleaned = treatment.cleaned_name(facts);
    let looped = treatment.looped.zip(treatment.loop_name(facts));
    let looped = looped.filter(|_| treatment.measured_loop(facts).is_none());
    if cleaned.is_none() && looped.is_none() {
        return Ok(());
    }
    let audio = audio()?;
    let id = take.recorded.id;
    if let Some(name) = cleaned {
        levels.insert((id, name), Levels::of(&audio, facts.start_frame, facts.end_frame));
    }
    if let Some((looped, name)) = looped {
        loops.insert((id, name), worth_of_loop(&audio, looped, facts));
    }
    Ok(())
}

/// What a loop is worth in a take as it is cleaned.
pub(crate) fn worth_of_loop(audio: &Audio, looped: TakeLoop, facts: &Measurement) -> LoopFacts {
    let period = facts.pitch.map_or(UNPITCHED_PERIOD_FRAMES, |pitch| {
        f64::from(audio.rate_hz) / pitch.hz
    });
    let held = |pitch: signal::Pitch| signal::held_cents(audio, looped.played(), pitch.hz);
    LoopFacts {
        held_cents: facts.pitch.and_then(held),
        ..LoopFacts::of(audio, looped.played(), period)
    }
}

/// Frames `first..end` of a part of a recording, some of its channels.
///
/// # Errors
/// Those of the library.
pub fn raw(
    library: &dyn Library,
    part: &Part,
    (first_channel, channels): (usize, usize),
    first: u64,
    end: u64,
) -> anyhow::Result<Audio> {
    let end = end.min(part.frames);
    let span = part.first_frame + first.min(end)..part.first_frame + end;
    let all = usize::from(part.form.channels);
    let first_channel = first_channel.min(all);
    let last = first_channel.saturating_add(channels).min(all);
    library.frames(&part.recording, part.form, span, first_channel..last)
}

/// Interleaved 32-bit floats, little-endian.
pub fn as_bytes(audio: &Audio) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(audio.frames() * audio.channels.len() * 4);
    for frame in 0..audio.frames() {
        for channel in &audio.channels {
            bytes.extend_from_slice(&channel[frame].to_le_bytes());
        }
    }
    bytes
}

fn from_bytes(rate_hz: u32, sides: usize, bytes: &[u8]) -> Audio {
    Audio::from_interleaved(rate_hz, sides, &formats::decode_samples(32, bytes))
}

/// The take's number in a sample's source.
///
/// # Errors
/// Where it names no take.
pub fn take_of_source(source: &str) -> anyhow::Result<u64> {
    Ok(source.split('~').next().unwrap_or(source).parse()?)
}
