//! From what is heard to what a format can hold.

use program::{
    FadeCurve, Loop, LoopRuns, LoopWay, Loudness, Program, RegionKey, RegionOf, Sample, SampleId, Shape,
    ShapeId, Span, StrandId, Turn, When, crossfade_gains, fade_gain,
};
use serde::{Deserialize, Serialize};
use signal::{Audio, db_to_amplitude};
use std::collections::{HashMap, HashSet};

/// A format to export to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// SFZ with WAV files beside it.
    Sfz,
    /// SoundFont 2.04.
    SoundFont2,
}

/// Something that the format cannot hold, and what is written instead.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Loss {
    /// A sentence.
    pub what: String,
    /// Regions it concerns.
    pub regions: usize,
}

/// How one sample of the lowered program is made from one of the original.
#[derive(Debug, Clone, PartialEq)]
pub struct Bake {
    /// Index into the original program's samples.
    pub sample: usize,
    /// Frames `start..end` are taken.
    pub start_frame: u64,
    /// See `start_frame`.
    pub end_frame: u64,
    /// Fades.
    pub fade_in_frames: u64,
    /// See `fade_in_frames`.
    pub fade_out_frames: u64,
    /// Their course.
    pub fade_curve: FadeCurve,
    /// The loop in frames of the original: its crossfade is rendered, and its way back is written out.
    pub looped: Option<Loop>,
    /// Level rendered into the samples.
    pub gain_db: f64,
}

/// A program that a format can hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Lowered {
    /// What reading the export back gives.
    pub program: Program,
    /// How each of its samples is made.
    pub bakes: Vec<Bake>,
    /// What was lost.
    pub losses: Vec<Loss>,
}

/// The highest rate a SoundFont holds (2.04, section 7.10).
const SOUNDFONT_MOST_HZ: u32 = 50_000;

/// The highest `volume` of SFZ, version 1.
const SFZ_MOST_DB: f64 = 6.0;

/// Lowers a program: trims, fades and crossfades are baked into the audio; tuning is rounded to whole cents; and what
/// the format has no word for is left out and named.
pub fn lower(program: &Program, format: Format) -> Lowered {
    let mut lowered = Program {
        name: clean_name(&program.name),
        ..Program::default()
    };
    let (mut bakes, mut losses) = (Vec::new(), Vec::new());
    let mut names = HashSet::new();
    let mut lose = |what: &str, regions: usize| {
        if regions > 0 {
            losses.push(Loss {
                what: what.to_owned(),
                regions,
            });
        }
    };
    let key_up = |region: &program::Region| {
        program
            .strand_of(region)
            .is_some_and(|strand| strand.on.is_key_up())
    };
    let soundfont = format == Format::SoundFont2;
    let count = |test: &dyn Fn(&program::Region) -> bool| program.regions.iter().filter(|r| test(r)).count();
    if soundfont {
        lose(
            "SoundFont has no key-up sounds: they are left out.",
            count(&|r| key_up(r)),
        );
        lose(
            "SoundFont has no round robins: the first of each is written.",
            count(&|r| !key_up(r) && r.when.turn.follows_another()),
        );
        lose(
            "SoundFont holds rates up to 50,000 Hz: these samples cannot be written yet and are left out.",
            count(&|r| {
                program
                    .samples
                    .get(r.sample)
                    .is_some_and(|s| s.rate_hz > SOUNDFONT_MOST_HZ)
            }),
        );
    }
    let fades = |r: &program::Region| {
        [r.when.keys, r.when.strikes]
            .iter()
            .any(|span| *span != Span::of(span.low, span.high))
    };
    if soundfont {
        lose(
            "SoundFont has no pitch that falls as keys rise: it stays.",
            count(&|r| !key_up(r) && r.key_follow < 0.0),
        );
        lose(
            "SoundFont has no crossfades between layers: each begins in the middle of its crossfade.",
            count(&|r| !key_up(r) && fades(r)),
        );
    } else {
        lose(
            "SFZ has no turns at random that never come twice: these are written one after another.",
            count(&|r| matches!(r.when.turn, Turn::Shuffled { .. })),
        );
    }
    // Strands and regions are numbered in the order of the file.
    let kept = program
        .strands
        .iter()
        .filter(|strand| !(soundfont && strand.on.is_key_up()));
    let mut numbers = HashMap::new();
    for (number, strand) in (0..).zip(kept) {
        let loudness = lowered_loudness(program.loudness_of(Some(strand)));
        lowered.shapes.push(Shape {
            id: ShapeId(number),
            loudness,
            ..Shape::default()
        });
        let mut strand = strand.clone();
        numbers.insert(strand.id, number);
        strand.id = StrandId(number);
        strand.gain_db = 0.0;
        strand.name = clean_name(&strand.name);
        strand.shape = ShapeId(number);
        // What it asks for beside its regions is said of each of them, and so is its transposition.
        (strand.when, strand.transpose_keys) = (When::ALWAYS, 0);
        lowered.strands.push(strand);
    }
    for region in &program.regions {
        let Some(sample) = program.samples.get(region.sample) else {
            continue;
        };
        let left_out = soundfont
            && (key_up(region) || region.when.turn.follows_another() || sample.rate_hz > SOUNDFONT_MOST_HZ);
        let end_frame = region.end_frame.min(sample.frames);
        let Some(strand) = numbers.get(&region.key.strand).copied().map(StrandId) else {
            continue;
        };
        if left_out || region.start_frame >= end_frame {
            continue;
        }
        let looped = region
            .looped
            .filter(|l| l.fits(end_frame) && l.start_frame >= region.start_frame + l.crossfade_frames);
        let mut gain_db = region.gain_db + program.strand_of(region).map_or(0.0, |s| s.gain_db);
        gain_db = (gain_db * 100.0).round() / 100.0;
        // A SoundFont only attenuates (2.04, section 8.1.2, initialAttenuation); SFZ's `volume` ends at +6 dB. What is over is in the samples.
        let most_db = if soundfont { 0.0 } else { SFZ_MOST_DB };
        let baked_db = (gain_db - most_db).max(0.0);
        bakes.push(Bake {
            sample: region.sample,
            start_frame: region.start_frame,
            end_frame,
            fade_in_frames: region.fade_in_frames,
            fade_out_frames: if looped.is_some() {
                0
            } else {
                region.fade_out_frames
            },
            fade_curve: region.fade_curve,
            looped,
            gain_db: baked_db,
        });
        // A way back is written out behind the loop, in place of what followed it.
        let frames = match looped {
            Some(l) if l.way == LoopWay::BackAndForth => l.round_end() - region.start_frame,
            _ => end_frame - region.start_frame,
        };
        let name = unique(&mut names, &clean_name(&sample.name));
        lowered.samples.push(Sample {
            id: SampleId(lowered.samples.len() as u64),
            source: format!("samples/{name}.wav"),
            name,
            frames,
            first_channel: 0,
            source_channels: sample.channels,
            ..sample.clone()
        });
        let of_strand = program.strand_of(region);
        let transposed = of_strand.map_or(0, |strand| strand.transpose_keys);
        let cents = (region.recording_cents - region.tune_cents).round() - 100.0 * f64::from(transposed);
        // Whole cents in −50..50, the rest in the root; where the pitch does not follow the key as usual, its root is where it was.
        let above = cents + f64::from(region.root_key) * 100.0;
        let mut key_follow = (region.key_follow * 100.0).round() / 100.0;
        if soundfont {
            // Section 8.1.2, scaleTuning: 0 to 1,200 cents for a key.
            key_follow = key_follow.clamp(0.0, 12.0);
        }
        let root = if key_follow == 1.0 {
            (above / 100.0).round().clamp(0.0, 127.0)
        } else {
            f64::from(region.root_key)
        };
        lowered.regions.push(program::Region {
            key: RegionKey {
                strand,
                of: RegionOf::Own(lowered.regions_of(strand).count() as u64),
            },
            sample: lowered.samples.len() - 1,
            when: lowered_when(region, of_strand.map(|strand| &strand.when), soundfont),
            key_follow,
            shape: None,
            root_key: root as u8,
            recording_cents: above - root * 100.0,
            tune_cents: 0.0,
            gain_db: gain_db - baked_db,
            pan: (region.pan.clamp(-1.0, 1.0) * 100.0).round() / 100.0,
            start_frame: 0,
            end_frame: frames,
            fade_in_frames: 0,
            fade_out_frames: 0,
            fade_curve: FadeCurve::Straight,
            looped: looped.map(|l| {
                let runs = if l.runs_through_release() {
                    LoopRuns::ThroughRelease
                } else {
                    LoopRuns::WhileHeld
                };
                Loop::plain(
                    l.start_frame - region.start_frame,
                    l.round_end() - region.start_frame,
                    runs,
                )
            }),
            ..region.clone()
        });
    }
    Lowered {
        program: lowered,
        bakes,
        losses,
    }
}

/// Whole milliseconds, sustain and the effect of velocity in thousandths.
fn lowered_loudness(loudness: Loudness) -> Loudness {
    let whole = |ms: f64| ms.round().clamp(0.0, 100_000.0);
    Loudness {
        delay_ms: whole(loudness.delay_ms),
        attack_ms: whole(loudness.attack_ms),
        hold_ms: whole(loudness.hold_ms),
        decay_ms: whole(loudness.decay_ms),
        sustain_db: sustain_db_of(sustain_percent(loudness.sustain_db)),
        release_ms: whole(loudness.release_ms),
        velocity_to_level: (loudness.velocity_to_level * 1000.0).round() / 1000.0,
    }
}

/// What region and strand ask for together, as far as a format can say it.
fn lowered_when(region: &program::Region, of_strand: Option<&When>, soundfont: bool) -> When {
    let meet = |own: Span, strands: Option<Span>| {
        let Some(strands) = strands else { return own };
        Span {
            low: own.low.max(strands.low),
            high: own.high.min(strands.high),
            fade_in: own.fade_in.or(strands.fade_in),
            fade_out: own.fade_out.or(strands.fade_out),
            law: own.law,
        }
    };
    let keys = meet(region.when.keys, of_strand.map(|when| when.keys));
    let strikes = meet(region.when.strikes, of_strand.map(|when| when.strikes));
    if soundfont {
        return When::on(keys.without_fades(), strikes.without_fades());
    }
    let turn = match region.when.turn {
        Turn::InOrder { place, of } | Turn::Shuffled { place, of, .. } if of > 1 => {
            Turn::InOrder { place, of }
        }
        Turn::Random { from, to } => Turn::Random { from, to },
        _ => Turn::Always,
    };
    When {
        turn,
        ..When::on(keys, strikes)
    }
}

/// Sustain as SFZ writes it, in thousandths of a percent of amplitude.
pub(crate) fn sustain_percent(db: f64) -> f64 {
    (db_to_amplitude(db.min(0.0)) * 100_000.0).round() / 1000.0
}

pub(crate) fn sustain_db_of(percent: f64) -> f64 {
    if percent >= 100.0 {
        0.0
    } else {
        signal::amplitude_to_db((percent / 100.0).max(1e-5))
    }
}

/// A name that every file system and both formats take: what is a separator or a control becomes a low line.
fn clean_name(name: &str) -> String {
    let plain: String = name
        .replace('♯', "#")
        .replace('♭', "b")
        .chars()
        .map(|c| {
            if c.is_control() || "/\\:*?\"<>|=$".contains(c) {
                '_'
            } else {
                c
            }
        })
        .collect();
    let plain = plain.trim().trim_matches('.').to_owned();
    if plain.is_empty() {
        "unnamed".to_owned()
    } else {
        plain
    }
}

fn unique(taken: &mut HashSet<String>, name: &str) -> String {
    let mut candidate = name.to_owned();
    let mut n = 2;
    while !taken.insert(candidate.to_lowercase()) {
        candidate = format!("{name} {n}");
        n += 1;
    }
    candidate
}

/// Makes the audio of a lowered sample: trimmed, faded, with the loop's crossfade rendered as the engine plays it.
pub fn bake(audio: &Audio, bake: &Bake) -> Audio {
    let (start, end) = (
        bake.start_frame as usize,
        (bake.end_frame as usize).min(audio.frames()),
    );
    let mut out = audio.slice(start, end);
    let gain = db_to_amplitude(bake.gain_db) as f32;
    for (channel, original) in out.channels.iter_mut().zip(&audio.channels) {
        match bake.looped {
            Some(l) if l.way == LoopWay::BackAndForth => {
                channel.truncate(l.end_frame as usize - start);
                channel
                    .extend((l.end_frame..l.round_end()).map(|place| original[l.frame_at(place) as usize]));
            }
            Some(l) => {
                let length = (l.end_frame - l.start_frame) as usize;
                for n in 0..l.crossfade_frames {
                    let at = (l.end_frame - l.crossfade_frames + n) as usize;
                    let (leaving, coming) = crossfade_gains(n, l.crossfade_frames, l.likeness_percent);
                    channel[at - start] =
                        original[at] * leaving as f32 + original[at - length] * coming as f32;
                }
            }
            None => {}
        }
        let frames = channel.len();
        for (n, sample) in channel.iter_mut().enumerate() {
            let mut level = gain;
            if (n as u64) < bake.fade_in_frames {
                level *= fade_gain(bake.fade_curve, n as f64 / bake.fade_in_frames as f64) as f32;
            }
            let left = (frames - n) as u64;
            if left < bake.fade_out_frames {
                level *= fade_gain(bake.fade_curve, left as f64 / bake.fade_out_frames as f64) as f32;
            }
            *sample *= level;
        }
    }
    out
}
