//! Instruments made of real recordings by themselves, each family of the SoundFont one, played from their lowest to their highest key.

use super::{Real, has_no_pitch, recordings, rms_db};
use engine::{Event, EventKind, render_offline};
use instrument::{
    Change, Counted, Facts, Kind, Known, Origin, PlacedFile, RecordedTake, lay_over, map_of_files,
    map_wishes, plan_with, resolve,
};
use program::Program;
use std::collections::{BTreeMap, HashMap};

/// An instrument of fewer recordings is none.
const FEWEST: usize = 3;
const RATE_HZ: u32 = 48_000;

/// Those of one family, by name of the SoundFont's instrument.
fn families() -> BTreeMap<&'static str, Vec<&'static Real>> {
    let mut all: BTreeMap<&str, Vec<&Real>> = BTreeMap::new();
    for real in recordings().iter().filter(|real| !has_no_pitch(real)) {
        all.entry(&real.family).or_default().push(real);
    }
    all.retain(|_, of| of.len() >= FEWEST);
    all
}

/// As the page makes it: a rung for each name's note, everything else by itself.
fn made_of(family: &str, of: &[&Real]) -> Program {
    let files: Vec<PlacedFile> = (0u64..)
        .zip(of)
        .map(|(file, real)| PlacedFile {
            file,
            right: None,
            key: real.pitch.round() as u8,
            layer: 0,
            round_robin: 0,
            key_up: false,
            mic: None,
            pass: None,
        })
        .collect();
    let form = (of[0].audio.rate_hz, 1);
    let (plan, cells) = plan_with(None, Kind::Sustained, &[], &files, &[], form, &mut || 0).expect("a plan");
    let takes = (0u64..).zip(of).zip(&cells).map(|((id, real), &cell)| {
        let recorded = RecordedTake {
            id,
            cell,
            rate_hz: real.audio.rate_hz,
            channels: 1,
            frames: real.audio.frames() as u64,
            origin: Origin::default(),
        };
        let counted = Counted {
            facts: real.found.clone(),
            suggested: Vec::new(),
        };
        (recorded, Some(counted))
    });
    let map = map_of_files(&plan).unwrap_or_default();
    let change = Change::propose("lay out", &Facts::new(), map_wishes(map)).expect("a map");
    let mut said = Facts::new();
    lay_over(&mut said, &change.fields);
    let known = Known {
        brought: None,
        name: family,
        plan: &plan,
        said: &said,
        takes: takes.collect(),
        cleaned_levels: &HashMap::new(),
        judged_loops: &HashMap::new(),
    };
    resolve(known).program
}

/// A key held for so many seconds, in mono.
fn held(program: &Program, of: &[&Real], key: u8, seconds: u32) -> Vec<f32> {
    let samples = program.samples.iter().map(|sample| {
        let index: usize = sample.source.parse().expect("a number");
        of[index].audio.channels.clone()
    });
    let events = [Event {
        frame: 0,
        kind: EventKind::NoteOn { key, velocity: 100 },
    }];
    let frames = (seconds * RATE_HZ) as usize;
    let (left, right) = render_offline(program, samples.collect(), f64::from(RATE_HZ), &events, frames);
    left.iter().zip(&right).map(|(l, r)| (l + r) / 2.0).collect()
}

/// How far what is heard lies from a key, in cents: the mean over time of the pitch of the loudest of its first partials. An organ whose lowest rank is
/// an octave down is heard there, and is in tune.
fn off_cents(sound: &[f32], key: u8) -> f64 {
    let hz = signal::hz_of_key(f64::from(key));
    let hop = RATE_HZ as usize / 25;
    let course = signal::pitch_curve(sound, RATE_HZ, 0, sound.len().min(2 * RATE_HZ as usize), hz, hop);
    assert!(course.len() > 25, "no pitch on key {key}");
    let cents = course.iter().map(|point| 1200.0 * (point.hz / hz).log2());
    cents.sum::<f64>() / course.len() as f64
}

/// How far each key of a family is off.
fn played((family, of): &(&str, Vec<&Real>)) -> Vec<(f64, String)> {
    let program = made_of(family, of);
    let rungs = of.iter().map(|real| real.pitch.round() as u8);
    let (low, high) = rungs.fold((127, 0), |(low, high), key| (key.min(low), key.max(high)));
    let off_of = |key: u8| {
        let seconds = if key == low || key == high { 20 } else { 3 };
        let sound = held(&program, of, key, seconds);
        let second = |n: usize| &sound[n * RATE_HZ as usize..(n + 1) * RATE_HZ as usize];
        let (early, late) = (rms_db(second(1)), rms_db(second(seconds as usize - 1)));
        assert!(early > -60.0, "{family}: key {key} is silent");
        assert!(
            (early - late).abs() < 12.0,
            "{family}: key {key} goes from {early:.1} to {late:.1} dB"
        );
        (
            off_cents(&sound[RATE_HZ as usize..], key),
            format!("{family} {key}"),
        )
    };
    (low..=high).map(off_of).collect()
}

/// Bars: in tune within 5 cents on every key (missed by a few, see docs/accuracy.md: what rotates or beats has no one pitch), none silent, held for 20 s.
#[test]
fn families_are_in_tune_on_every_key_and_hold() {
    if recordings().is_empty() {
        return;
    }
    let all: Vec<_> = families().into_iter().collect();
    let (some, others) = all.split_at(all.len() / 2);
    let mut worst: Vec<(f64, String)> = std::thread::scope(|scope| {
        let halves =
            [some, others].map(|half| scope.spawn(|| half.iter().flat_map(played).collect::<Vec<_>>()));
        halves
            .into_iter()
            .flat_map(|half| half.join().expect("no key fails"))
            .collect()
    });
    let keys = worst.len();
    worst.sort_by(|a, b| b.0.abs().total_cmp(&a.0.abs()));
    println!(
        "{keys} keys; furthest off, in cents: {:.1?}",
        &worst[..worst.len().min(20)]
    );
    let off = worst.iter().filter(|(cents, _)| cents.abs() > 5.0).count();
    println!("{off} of {keys} keys are over 5 cents off");
    assert!(off * 100 <= keys * 3 && worst.iter().all(|(cents, _)| cents.abs() < 8.0));
}
