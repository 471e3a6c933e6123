//! SFZ, version 1 opcodes wherever they can say it.

use crate::FormatError;
use crate::lower::{sustain_db_of, sustain_percent};
use program::{
    Loop, LoopRuns, Program, Region, RegionKey, RegionOf, RoundRobin, Sample, SampleId, Shape, SoundsOn,
    Strand, StrandId,
};
use std::collections::HashMap;
use std::fmt::Write;

/// Writes a lowered program.
pub fn write_sfz(program: &Program) -> String {
    let mut text = format!("// {}\n", program.name);
    text.push_str("// group_label names a strand; everything else is version 1.\n");
    for strand in &program.strands {
        let shape = &strand.shape;
        let trigger = if strand.sounds_on == SoundsOn::KeyUp {
            "release"
        } else {
            "attack"
        };
        let _ = write!(
            text,
            "\n<group>\ngroup_label={}\ntrigger={trigger}\nampeg_attack={} ampeg_decay={} ampeg_sustain={} ampeg_release={}\namp_veltrack={}\n",
            strand.name,
            shape.attack_ms / 1000.0,
            shape.decay_ms / 1000.0,
            sustain_percent(shape.sustain_db),
            shape.release_ms / 1000.0,
            shape.velocity_to_level * 100.0,
        );
        for region in program.regions_of(strand.id) {
            let Some(sample) = program.samples.get(region.sample) else {
                continue;
            };
            write_region(&mut text, region, sample);
        }
    }
    text
}

fn write_region(text: &mut String, region: &Region, sample: &Sample) {
    let _ = write!(
        text,
        "\n<region>\nsample={}\nlokey={} hikey={} lovel={} hivel={} pitch_keycenter={}",
        sample.source,
        region.low_key,
        region.high_key,
        region.low_velocity,
        region.high_velocity,
        region.root_key,
    );
    // `tune` is added on playing: the negative of how far the recording lies above its root.
    if region.recording_cents != 0.0 {
        let _ = write!(text, " tune={}", -region.recording_cents);
    }
    if region.gain_db != 0.0 {
        let _ = write!(text, " volume={}", region.gain_db);
    }
    if region.pan != 0.0 {
        let _ = write!(text, " pan={}", (region.pan * 100.0).round());
    }
    if region.round_robin.length > 1 {
        let _ = write!(
            text,
            " seq_length={} seq_position={}",
            region.round_robin.length,
            region.round_robin.position + 1
        );
    }
    match region.looped {
        Some(looped) => {
            let mode = if looped.runs == LoopRuns::WhileHeld {
                "loop_sustain"
            } else {
                "loop_continuous"
            };
            // `loop_end` is the last frame of the loop.
            let _ = write!(
                text,
                "\nloop_mode={mode} loop_start={} loop_end={}",
                looped.start_frame,
                looped.end_frame - 1
            );
        }
        None => text.push_str("\nloop_mode=no_loop"),
    }
    text.push('\n');
}

/// Reads SFZ text. `probe` gives rate, channels and frames of a sample by its path.
///
/// # Errors
/// Where a sample is missing or a number is none, with the line.
pub fn read_sfz(text: &str, probe: impl Fn(&str) -> Option<(u32, u16, u64)>) -> Result<Program, FormatError> {
    let name = text
        .lines()
        .next()
        .and_then(|line| line.strip_prefix("//"))
        .unwrap_or("")
        .trim()
        .to_owned();
    let mut program = Program {
        name,
        ..Program::default()
    };
    let mut global: HashMap<String, String> = HashMap::new();
    let mut group = global.clone();
    let mut samples: HashMap<String, usize> = HashMap::new();
    for (header, opcodes) in sections(text) {
        match header.as_str() {
            "global" => {
                global = opcodes;
                group = global.clone();
            }
            "group" => {
                group = global.clone();
                group.extend(opcodes);
                program.strands.push(strand_of(&group, program.strands.len())?);
            }
            "region" => {
                if program.strands.is_empty() {
                    program.strands.push(strand_of(&group, 0)?);
                }
                let mut all = group.clone();
                all.extend(opcodes);
                let source = all.get("sample").cloned().unwrap_or_default().replace('\\', "/");
                let index = match samples.get(&source) {
                    Some(&index) => index,
                    None => {
                        let (rate_hz, channels, frames) = probe(&source).ok_or_else(|| {
                            FormatError::Unreadable(format!("The sample «{source}» is not there."))
                        })?;
                        let name = source.rsplit('/').next().unwrap_or(&source);
                        let name = name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned();
                        program.samples.push(Sample {
                            id: SampleId(program.samples.len() as u64),
                            name,
                            source: source.clone(),
                            rate_hz,
                            first_channel: 0,
                            source_channels: channels,
                            channels,
                            frames,
                        });
                        samples.insert(source, program.samples.len() - 1);
                        program.samples.len() - 1
                    }
                };
                program.regions.push(region_of(&all, &program, index)?);
            }
            _ => {}
        }
    }
    Ok(program)
}

/// Headers with their opcodes. A value may hold spaces up to the next `opcode=`.
fn sections(text: &str) -> Vec<(String, HashMap<String, String>)> {
    let mut sections: Vec<(String, HashMap<String, String>)> = Vec::new();
    for line in text.lines() {
        let mut rest = line.split("//").next().unwrap_or("").trim();
        while let Some(after) = rest.strip_prefix('<') {
            let Some((header, tail)) = after.split_once('>') else {
                break;
            };
            sections.push((header.trim().to_owned(), HashMap::new()));
            rest = tail.trim_start();
        }
        let Some((_, opcodes)) = sections.last_mut() else {
            continue;
        };
        let mut key: Option<String> = None;
        for word in rest.split(' ') {
            if let Some((name, value)) = word.split_once('=').filter(|(name, _)| !name.is_empty()) {
                opcodes.insert(name.to_owned(), value.to_owned());
                key = Some(name.to_owned());
            } else if let Some(value) = key.as_ref().and_then(|key| opcodes.get_mut(key)) {
                value.push(' ');
                value.push_str(word);
            }
        }
        if let Some(value) = key.as_ref().and_then(|key| opcodes.get_mut(key)) {
            value.truncate(value.trim_end().len());
        }
    }
    sections
}

fn number(opcodes: &HashMap<String, String>, name: &str, default: f64) -> Result<f64, FormatError> {
    let Some(text) = opcodes.get(name) else {
        return Ok(default);
    };
    let parsed = text
        .trim()
        .parse::<f64>()
        .ok()
        .or_else(|| key_of_name(text.trim()).map(f64::from));
    parsed
        .filter(|x| x.is_finite())
        .ok_or_else(|| FormatError::Unreadable(format!("{name}={text} is no number.")))
}

/// `c4` is 60; `#` and `b` shift.
fn key_of_name(name: &str) -> Option<u8> {
    let lower = name.to_lowercase();
    let letter = "c d ef g a b".find(lower.chars().next()?)? as i32;
    let rest = &lower[1..];
    let (shift, octave) = match rest.chars().next()? {
        '#' => (1, &rest[1..]),
        'b' => (-1, &rest[1..]),
        _ => (0, rest),
    };
    u8::try_from(letter + shift + 12 * (octave.parse::<i32>().ok()? + 1))
        .ok()
        .filter(|key| *key < 128)
}

/// Of a region that is added to the last strand: regions are numbered in each, in the file's order.
pub(crate) fn next_key(program: &Program) -> RegionKey {
    let strand = program
        .strands
        .last()
        .map_or_else(StrandId::default, |strand| strand.id);
    RegionKey {
        strand,
        of: RegionOf::Own(program.regions_of(strand).count() as u64),
    }
}

fn strand_of(group: &HashMap<String, String>, index: usize) -> Result<Strand, FormatError> {
    let ms =
        |name: &str, default: f64| Ok::<f64, FormatError>((number(group, name, default)? * 1000.0).round());
    Ok(Strand {
        id: StrandId(index as u64),
        name: group
            .get("group_label")
            .cloned()
            .unwrap_or_else(|| format!("Strand {}", index + 1)),
        sounds_on: if group.get("trigger").is_some_and(|t| t == "release") {
            SoundsOn::KeyUp
        } else {
            SoundsOn::KeyDown
        },
        gain_db: 0.0,
        shape: Shape {
            attack_ms: ms("ampeg_attack", 0.0)?,
            decay_ms: ms("ampeg_decay", 0.0)?,
            sustain_db: sustain_db_of(number(group, "ampeg_sustain", 100.0)?),
            release_ms: ms("ampeg_release", 0.0)?,
            velocity_to_level: (number(group, "amp_veltrack", 100.0)? * 10.0).round() / 1000.0,
        },
    })
}

fn region_of(all: &HashMap<String, String>, program: &Program, sample: usize) -> Result<Region, FormatError> {
    let key =
        |name: &str, default: f64| Ok::<u8, FormatError>(number(all, name, default)?.clamp(0.0, 127.0) as u8);
    let frames = program.samples[sample].frames;
    let own = all.get("key").is_some();
    let centre = f64::from(key("key", 60.0)?);
    let (low, high) = if own { (centre, centre) } else { (0.0, 127.0) };
    let looped = match all.get("loop_mode").map(String::as_str) {
        Some(mode @ ("loop_continuous" | "loop_sustain")) => Some(Loop {
            start_frame: number(all, "loop_start", 0.0)? as u64,
            end_frame: number(all, "loop_end", frames as f64 - 1.0)? as u64 + 1,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: program::LoopWay::Forward,
            runs: if mode == "loop_sustain" {
                LoopRuns::WhileHeld
            } else {
                LoopRuns::ThroughRelease
            },
        }),
        _ => None,
    };
    let tune = number(all, "tune", 0.0)?;
    Ok(Region {
        key: next_key(program),
        sample,
        low_key: key("lokey", low)?,
        high_key: key("hikey", high)?,
        low_velocity: key("lovel", 1.0)?.max(1),
        high_velocity: key("hivel", 127.0)?,
        root_key: key("pitch_keycenter", centre)?,
        recording_cents: if tune == 0.0 { 0.0 } else { -tune },
        tune_cents: 0.0,
        gain_db: number(all, "volume", 0.0)?,
        pan: number(all, "pan", 0.0)? / 100.0,
        start_frame: number(all, "offset", 0.0)? as u64,
        end_frame: all
            .get("end")
            .map_or(Ok(frames), |_| number(all, "end", 0.0).map(|end| end as u64 + 1))?
            .min(frames),
        fade_in_frames: 0,
        fade_out_frames: 0,
        fade_curve: program::FadeCurve::Straight,
        looped,
        round_robin: RoundRobin {
            position: (number(all, "seq_position", 1.0)? as u32).saturating_sub(1),
            length: (number(all, "seq_length", 1.0)? as u32).max(1),
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Format, lower};
    use proptest::prelude::*;

    fn any_region(samples: usize, strands: usize) -> impl Strategy<Value = Region> {
        let place = (
            0..strands,
            0..samples,
            0u8..128,
            0u8..128,
            1u8..128,
            1u8..128,
            0u8..128,
        );
        let sound = (-80.0f64..80.0, -30.0f64..30.0, -24.0f64..12.0, -1.0f64..1.0);
        let frames = (
            0u64..400,
            500u64..900,
            proptest::option::of((420u64..450, 460u64..490, 0u64..20)),
            0u32..4,
            1u32..5,
        );
        (place, sound, frames).prop_map(
            |((strand, sample, a, b, v, w, root), (cents, tune, gain, pan), (start, end, looped, rr, of))| {
                Region {
                    key: RegionKey {
                        strand: StrandId(strand as u64),
                        of: RegionOf::Own(0),
                    },
                    sample,
                    low_key: a.min(b),
                    high_key: a.max(b),
                    low_velocity: v.min(w),
                    high_velocity: v.max(w),
                    root_key: root.clamp(2, 125),
                    recording_cents: cents,
                    tune_cents: tune,
                    gain_db: gain,
                    pan,
                    start_frame: start,
                    end_frame: end,
                    fade_in_frames: 3,
                    fade_out_frames: 5,
                    fade_curve: program::FadeCurve::Straight,
                    looped: looped.map(|(start_frame, end_frame, crossfade_frames)| Loop {
                        start_frame,
                        end_frame,
                        crossfade_frames,
                        likeness_percent: 100,
                        way: program::LoopWay::Forward,
                        runs: if rr % 2 == 0 {
                            LoopRuns::WhileHeld
                        } else {
                            LoopRuns::ThroughRelease
                        },
                    }),
                    round_robin: RoundRobin {
                        position: rr.min(of - 1),
                        length: of,
                    },
                }
            },
        )
    }

    fn any_program() -> impl Strategy<Value = Program> {
        let strand = (
            "[A-Za-z ]{1,12}",
            any::<bool>(),
            -6.0f64..6.0,
            0.0f64..900.0,
            -40.0f64..0.0,
            0.0f64..1.0,
        );
        let strands = proptest::collection::vec(strand, 1..4);
        strands.prop_flat_map(|strands| {
            let count = strands.len();
            proptest::collection::vec(any_region(4, count), 1..12).prop_map(move |mut regions| {
                regions.sort_by_key(|region: &Region| region.key.strand);
                for n in 0..regions.len() {
                    let before = regions[..n]
                        .iter()
                        .filter(|other| other.key.strand == regions[n].key.strand);
                    regions[n].key.of = RegionOf::Own(before.count() as u64);
                }
                let strands =
                    strands
                        .iter()
                        .enumerate()
                        .map(|(n, (name, up, gain, ms, sustain, velocity))| Strand {
                            id: StrandId(n as u64),
                            name: name.clone(),
                            sounds_on: if *up { SoundsOn::KeyUp } else { SoundsOn::KeyDown },
                            gain_db: *gain,
                            shape: Shape {
                                attack_ms: *ms,
                                decay_ms: ms * 2.0,
                                sustain_db: *sustain,
                                release_ms: ms * 3.0,
                                velocity_to_level: *velocity,
                            },
                        });
                let sample = |n: u32| Sample {
                    id: SampleId(u64::from(n)),
                    name: format!("bar C♯{n} / soft"),
                    source: n.to_string(),
                    rate_hz: 48_000,
                    first_channel: 0,
                    source_channels: 2,
                    channels: 2,
                    frames: 1_000,
                };
                Program {
                    name: "Slate: chimes".into(),
                    samples: (0..4).map(sample).collect(),
                    strands: strands.collect(),
                    regions,
                }
            })
        })
    }

    proptest! {
        /// Bars page: import(export(p)) = lower(p), and exporting that again gives the same bytes.
        #[test]
        fn reading_an_export_back_gives_the_lowered_program(program in any_program()) {
            let lowered = lower(&program, Format::Sfz).program;
            let text = write_sfz(&lowered);
            let probe = |path: &str| lowered.samples.iter().find(|s| s.source == path).map(|s| (s.rate_hz, s.channels, s.frames));
            let read = read_sfz(&text, probe).unwrap();
            prop_assert_eq!(&read, &lowered);
            prop_assert_eq!(write_sfz(&read), text);
        }
    }

    #[test]
    fn values_with_spaces_and_note_names_are_read() {
        let text = "<region> sample=my samples/low bar.wav lokey=c4 hikey=C#5 pitch_keycenter=60 // end\n";
        let program = read_sfz(text, |_| Some((44_100, 1, 100))).unwrap();
        assert_eq!(program.samples[0].source, "my samples/low bar.wav");
        assert_eq!(
            (program.regions[0].low_key, program.regions[0].high_key),
            (60, 73)
        );
        assert!(read_sfz("<region> sample=a.wav", |_| None).is_err());
        assert!(read_sfz("<region> sample=a.wav lokey=loud", |_| Some((1, 1, 1))).is_err());
    }
}
