//! The simulated synthesiser beside what was built of its notes: what is proposed brings both within the bars, on notes and chords that it was not found by.

use crate::instruments::{Instrument, RATE};
use crate::table::Made;
use check::{Apart, Beside, Nearer};
use instrument::{Change, Score, Wish, lay_over};
use program::Sample;
use rig::{Model, Rig, RigSettings};
use signal::Audio;
use std::sync::Arc;
use work::{ProgramWith, Samples, Watch, lay_beside, sounding_keys, take_of_source};

/// Bars of the issue "Check".
const SPECTRUM_DB: f64 = 1.5;
const LEVEL_DB: f64 = 0.5;

struct Takes<'a>(&'a Instrument);

impl Samples for Takes<'_> {
    fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
        Ok(self.0.take(take_of_source(&sample.source)?).audio.clone())
    }
}

/// The ferry plays a score, with its chorus so deep, through a converter with hum and noise.
fn source(score: &Score, chorus: u8) -> Audio {
    let mut rig = Rig::new(Model::NightFerry, RATE, RigSettings::default());
    let frame = |ms: f64| ((ms - score.recording_from_ms) * f64::from(RATE) / 1_000.0) as u64;
    rig.schedule(0, &[0xC0, 1, 0xB0, 93, chorus]);
    for note in &score.notes {
        rig.schedule(frame(note.at_ms), &[0x90, note.key, note.strike]);
        rig.schedule(frame(note.until_ms), &[0x80, note.key, 64]);
    }
    let frames = frame(score.length_ms()) as usize;
    let samples = rig.render(frames).samples;
    Audio::from_interleaved(RATE, samples.len() / frames, &samples)
}

fn with(instrument: &Instrument) -> ProgramWith {
    let instrument = instrument.clone();
    Arc::new(move |wishes: &[Wish]| {
        let mut other = instrument.clone();
        let change = Change::propose("match", &other.said, wishes.to_vec())?;
        lay_over(&mut other.said, &change.fields);
        Ok(other.resolved().program)
    })
}

fn told(laid: &Beside) -> String {
    let mut lines = vec![format!("before {:?}", laid.before)];
    for proposal in laid.proposals.iter().chain(&laid.together) {
        lines.push(format!(
            "{:?} {}: {:?}",
            proposal.what, proposal.says, proposal.after
        ));
    }
    lines.join("\n")
}

fn best(laid: &Beside) -> Apart {
    let all = laid
        .together
        .iter()
        .chain(&laid.proposals)
        .map(|proposal| proposal.after);
    all.min_by(|a, b| a.all_db.total_cmp(&b.all_db))
        .unwrap_or(laid.before)
}

#[test]
fn a_match_brings_the_synthesiser_within_the_bars() -> anyhow::Result<()> {
    let mut ferry = Instrument::made(Made::Ferry).expect("it is ours");
    let keys = sounding_keys(&ferry.resolved().program);
    let score = Score {
        recording_from_ms: -500.0,
        ..Score::of_keys(&keys)
    };
    assert!(score.passages().iter().any(|passage| passage.keys.len() == 3));
    for chorus in [0, 104] {
        let played = source(&score, chorus);
        let mut told_first = None;
        let laid = lay_beside(
            (&played, &score),
            (&with(&ferry), &Takes(&ferry)),
            |apart| {
                told_first = Some(apart.before);
                Ok(())
            },
            &Watch::default(),
        )?;
        assert_eq!(
            told_first,
            Some(laid.before),
            "what they are apart is told at once"
        );
        println!("chorus {chorus}\n{}", told(&laid));
        // 12 ms of delay after half a second of room.
        let late_ms = laid.lag_frames as f64 * 1_000.0 / f64::from(RATE);
        assert!((late_ms - 512.0).abs() < 8.0, "{late_ms}");
        assert!(!laid.judged_by_same);
        let after = best(&laid);
        assert!(after.spectrum_db <= SPECTRUM_DB, "{after:?}");
        assert!(after.level_db <= LEVEL_DB, "{after:?}");
        assert!(after.all_db <= laid.before.all_db);
        let has_chorus = laid.proposals.iter().any(|one| one.what == Some(Nearer::Chorus));
        assert_eq!(
            has_chorus,
            chorus > 0,
            "a chorus is proposed where the source has one"
        );
    }
    Ok(())
}
