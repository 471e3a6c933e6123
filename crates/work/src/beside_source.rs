//! Lays an instrument beside its source: what was played there is played here, both are compared, and what brings them nearer is tried out.

use crate::each::each;
use crate::heard::audio_for;
use crate::to_write::OfSnapshot;
use crate::{Library, Outcome, Part, Samples, Snapshot, Watch, raw, refusal};
use check::{Apart, Beside, Match, Plays, Sounds, Wanted, beside, find_match};
use engine::{Event, EventKind, render_offline};
use instrument::{Passage, Score, Wish};
use program::Program;
use signal::{Audio, PassageSound, delay_frames, loudness_lufs, quiet_bands};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// A program with wishes laid over what was said of it.
pub type ProgramWith = Arc<dyn Fn(&[Wish]) -> anyhow::Result<Program> + Send + Sync>;

/// About so many ways are tried; what is tried beyond that is told as nearly done.
const ABOUT_TRIED: f64 = 190.0;

/// Lays an instrument beside a recording of its source.
pub struct LayBeside {
    /// Its number.
    pub instrument: u64,
    /// Of the recording: a long take.
    pub long_take: u64,
    /// Where that lies.
    pub recording: Part,
    /// What was played.
    pub score: Score,
    /// What was built.
    pub snapshot: Snapshot,
    /// The same otherwise.
    pub with: ProgramWith,
    /// A name of all that it follows from.
    pub of: String,
}

/// A name of what both are: the recording, what was played, and the program.
pub fn name_of_beside(recording: &Part, score: &Score, program: &Program) -> String {
    const VERSION: u32 = 1;
    let of = (
        VERSION,
        &recording.recording,
        recording.first_frame,
        score,
        program,
    );
    let bytes = serde_json::to_vec(&of).unwrap_or_default();
    blake3::hash(&bytes).to_hex()[..32].to_owned()
}

/// Under which name what was laid beside a long take is kept.
pub fn kept_beside(long_take: u64) -> String {
    format!("b{long_take}")
}

/// Whether something is kept under such a name.
pub fn is_kept_beside(name: &str) -> bool {
    name.starts_with('b')
}

/// A recording of a source: its first two sides.
///
/// # Errors
/// Those of the library.
pub fn source_audio(library: &dyn Library, recording: &Part) -> anyhow::Result<Audio> {
    let sides = usize::from(recording.form.channels).min(2);
    raw(library, recording, (0, sides), 0, u64::MAX)
}

/// The same played on what was built, from the beginning of the score.
///
/// # Errors
/// Those of the library.
pub fn built_audio(
    library: &dyn Library,
    snapshot: &Snapshot,
    score: &Score,
    rate_hz: u32,
) -> anyhow::Result<Audio> {
    let samples = OfSnapshot { library, snapshot };
    let audio = audio_of(&snapshot.program, &samples, score)?;
    Ok(played(&snapshot.program, &audio, score, rate_hz))
}

/// The audio of each sample, where a score may start it.
type AudioOf = Vec<Vec<Vec<f32>>>;

fn audio_of(program: &Program, samples: &impl Samples, score: &Score) -> anyhow::Result<AudioOf> {
    let strikes: Vec<(u8, u8)> = score.notes.iter().map(|note| (note.key, note.strike)).collect();
    audio_for(program, samples, &strikes)
}

fn played(program: &Program, audio: &AudioOf, score: &Score, rate_hz: u32) -> Audio {
    let frame = |ms: f64| (ms * f64::from(rate_hz) / 1_000.0).round() as usize;
    let mut events: Vec<Event> = Vec::with_capacity(2 * score.notes.len());
    for note in &score.notes {
        let (key, velocity) = (note.key, note.strike);
        events.push(Event {
            frame: frame(note.at_ms),
            kind: EventKind::NoteOn { key, velocity },
        });
        events.push(Event {
            frame: frame(note.until_ms),
            kind: EventKind::NoteOff { key },
        });
    }
    // A key that comes up as it goes down again comes up first.
    events.sort_by_key(|event| (event.frame, matches!(event.kind, EventKind::NoteOn { .. })));
    let (left, right) = render_offline(
        program,
        audio.clone(),
        f64::from(rate_hz),
        &events,
        frame(score.length_ms()),
    );
    Audio {
        rate_hz,
        channels: vec![left, right],
    }
}

/// What is heard of each passage of a recording that begins so many frames before the score does.
fn heard(audio: &Audio, passages: &[Passage], (lag, pitch): (i64, bool), noise: &[f64]) -> Vec<PassageSound> {
    let frame = |ms: f64| {
        let at = (ms * f64::from(audio.rate_hz) / 1_000.0).round() as i64 + lag;
        at.clamp(0, audio.frames() as i64) as usize
    };
    passages
        .iter()
        .map(|passage| {
            let (at, up, end) = (frame(passage.at_ms), frame(passage.up_ms), frame(passage.end_ms));
            let part = Audio {
                rate_hz: audio.rate_hz,
                channels: audio.channels.iter().map(|side| side[at..end].to_vec()).collect(),
            };
            let wants_pitch = pitch && passage.is_single();
            let key = passage.keys.first().copied().filter(|_| wants_pitch);
            PassageSound::of(&part, up - at, key, noise)
        })
        .collect()
}

/// Tries ways of playing, on all processors.
struct Tried<'a> {
    with: &'a ProgramWith,
    audio: &'a AudioOf,
    score: &'a Score,
    rate_hz: u32,
    watch: &'a Watch,
    done: AtomicUsize,
}

impl Plays for Tried<'_> {
    type Error = anyhow::Error;

    fn sounds(&mut self, with: &[Vec<Wish>], wanted: Wanted<'_>) -> anyhow::Result<Vec<Sounds>> {
        // What nobody wants to hear is not played: effects would run on through it.
        let (score, passages) = self.score.only(wanted.passages);
        let one = |(): &mut (), wishes: &Vec<Wish>| {
            let program = (self.with)(wishes)?;
            let audio = played(&program, self.audio, &score, self.rate_hz);
            let mut heard = heard(&audio, &passages, (0, wanted.pitch), &[]).into_iter();
            let sound = |wanted: &bool| if *wanted { heard.next() } else { None };
            let sounds = wanted.passages.iter().map(sound).collect();
            self.done.fetch_add(1, Ordering::Relaxed);
            Ok(sounds)
        };
        let tell = |_| {
            let done = self.done.load(Ordering::Relaxed) as f64;
            self.watch.tell((done / ABOUT_TRIED).min(0.98)).is_ok()
        };
        each(with, 1, || (), one, &tell)
    }
}

impl LayBeside {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled, or both have nothing in common.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let samples = OfSnapshot {
            library,
            snapshot: &self.snapshot,
        };
        let source = source_audio(library, &self.recording)?;
        let keep = |laid: &Beside| {
            let mut facts = serde_json::to_value(laid)?;
            facts["of"] = self.of.clone().into();
            library.note_heard(self.instrument, &kept_beside(self.long_take), &facts.to_string())
        };
        let laid = lay_beside((&source, &self.score), (&self.with, &samples), keep, watch)?;
        keep(&laid)?;
        Ok(Outcome::default())
    }
}

/// Lays what was built beside a recording of its source, tells what both are apart, and then tries out what brings them nearer.
///
/// # Errors
/// Where audio cannot be read; a [`crate::Refusal`] where it is stopped, or one of both is silent.
pub fn lay_beside(
    (source, score): (&Audio, &Score),
    (with, samples): (&ProgramWith, &impl Samples),
    tell_apart: impl FnOnce(&Beside) -> anyhow::Result<()>,
    watch: &Watch,
) -> anyhow::Result<Beside> {
    let program = with(&[])?;
    let audio = &audio_of(&program, samples, score)?;
    let rate_hz = source.rate_hz;
    let built = played(&program, audio, score, rate_hz);
    let lag = delay_frames(source, &built).ok_or_else(|| {
        refusal("The recording, or what was built, is silent there: there is nothing to compare.")
    })?;
    let passages = score.passages();
    let of_source = heard(source, &passages, (lag, true), &quiet_bands(source));
    let of_built = heard(&built, &passages, (0, true), &[]);
    let louder = loudness_lufs(source).zip(loudness_lufs(&built));
    let mut laid = beside(&passages, &of_source, &of_built);
    let judged_by_same = !laid.iter().any(|one| one.judges);
    let judging = laid.iter().filter(|one| judged_by_same || one.judges);
    let before = Apart::of(judging.map(|one| &one.apart));
    for one in &mut laid {
        for sound in [&mut one.source, &mut one.built] {
            sound.course_db = (sound.course_db.iter().step_by(2))
                .map(|db| (db * 10.0).round() / 10.0)
                .collect();
        }
    }
    let apart = Beside {
        of: String::new(),
        tried: false,
        lag_frames: lag,
        louder_db: louder.map_or(0.0, |(source, built)| source - built),
        passages: laid,
        before,
        judged_by_same,
        proposals: Vec::new(),
        together: None,
    };
    tell_apart(&apart)?;
    let mut tried = Tried {
        with,
        audio,
        score,
        rate_hz,
        watch,
        done: AtomicUsize::new(0),
    };
    let Match { proposals, together } = find_match(&program, (&passages, &of_source, of_built), &mut tried)?;
    Ok(Beside {
        tried: true,
        proposals,
        together,
        ..apart
    })
}
