//! What formats cannot hold.

use formats::{Format, Lowered, Placed, SOUNDFONT_NAME_LETTERS, fits_sf2, lower, soundfont_name};
use instrument::{Finding, FindingKind, Resolved, Target, name_below_2_53};
use program::{Program, Sample};
use std::collections::{HashMap, HashSet};

/// As they are called.
const FORMATS: [(Format, &str); 3] = [
    (Format::Sfz, "SFZ"),
    (Format::SoundFont2, "SoundFont"),
    (Format::Page, "A page that plays"),
];

/// A file in the format of an SFZ's samples counts its bytes in 32 bits.
const MOST_WAV_BYTES: u64 = 0xFFF0_0000;

pub(crate) fn found(resolved: &Resolved, chosen: &[Format]) -> Vec<Finding> {
    let mut found = Vec::new();
    for (format, name) in FORMATS.into_iter().filter(|(format, _)| chosen.contains(format)) {
        let Lowered { program, losses, .. } = lower(&resolved.program, format);
        for loss in losses {
            let says = format!("{name}: {}", loss.what);
            found.push(Finding {
                part: name_below_2_53(&says),
                ..Finding::measured(FindingKind::FormatLoss, loss.regions as f64, says)
            });
        }
        found.extend(too_much(program, format, resolved.plan.bits).map(|says| {
            let says = format!("{name}: {says}");
            Finding {
                part: format as u64,
                ..Finding::so(FindingKind::OverFormat, says)
            }
        }));
    }
    found.extend(same_names(resolved, chosen));
    if chosen.contains(&Format::SoundFont2) {
        found.extend(in_a_soundfont(resolved));
    }
    found
}

/// Why a lowered program cannot be written at all.
fn too_much(lowered: Program, format: Format, bits: u16) -> Option<String> {
    match format {
        Format::SoundFont2 => {
            let placed = Placed::alone(lowered);
            let fits = fits_sf2(std::slice::from_ref(&placed), bits);
            fits.err().map(|error| error.to_string())
        }
        Format::Sfz => {
            let bytes = |of: &Sample| of.frames * u64::from(of.channels) * u64::from(bits / 8);
            let over = lowered.samples.iter().find(|of| bytes(of) > MOST_WAV_BYTES)?;
            let says = "is over 4 GiB, which a WAV file does not count to: cut it, or use a lower rate.";
            Some(format!("«{}» {says}", over.name))
        }
        Format::Page => None,
    }
}

/// Strands and controls that whoever opens a file cannot tell from each other.
fn same_names(resolved: &Resolved, chosen: &[Format]) -> Vec<Finding> {
    let program = &resolved.program;
    let is_cut = chosen.contains(&Format::SoundFont2);
    let mut found = Vec::new();
    let mut known: HashMap<String, &str> = HashMap::new();
    for strand in program.strands.iter().filter(|_| !chosen.is_empty()) {
        let held = if is_cut {
            soundfont_name(&strand.name)
        } else {
            strand.name.clone()
        };
        if let Some(before) = known.insert(held.to_lowercase(), &strand.name) {
            let says = if before.eq_ignore_ascii_case(&strand.name) {
                format!("Two strands are called «{before}».")
            } else {
                format!(
                    "A SoundFont holds so much of «{before}» and «{}» that they are the same.",
                    strand.name
                )
            };
            found.push(Finding::so(FindingKind::SameName, says).about(Target::Strand(strand.id)));
        }
    }
    let mut known = HashSet::new();
    for control in program.controls.iter().filter(|_| !chosen.is_empty()) {
        if !known.insert(control.name.to_lowercase()) {
            let says = format!("Two controls are called «{}».", control.name);
            found.push(Finding {
                part: control.id.0,
                ..Finding::so(FindingKind::SameName, says)
            });
        }
    }
    found
}

fn in_a_soundfont(resolved: &Resolved) -> Vec<Finding> {
    let letters = resolved.name.chars().count();
    let says = format!(
        "«{}» has {letters} letters, a SoundFont's preset has {SOUNDFONT_NAME_LETTERS}.",
        resolved.name
    );
    let cut = Finding::measured(FindingKind::NameCut, letters as f64, says);
    let short = resolved.program.regions.iter().filter_map(|region| {
        let looped = region.looped?;
        let frames = looped.end_frame - looped.start_frame;
        let says = format!("Its loop has {frames} frames, a SoundFont's has 32 at least.");
        let finding = Finding::measured(FindingKind::LoopTooShort, frames as f64, says);
        Some(finding.about(Target::of_region(region)))
    });
    std::iter::once(cut).chain(short).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{empty, kinds, over};
    use program::{Loop, On, Region, SampleId, Strand, StrandId};

    #[test]
    fn only_what_is_written_is_looked_at() {
        let mut of = empty();
        let mut region = Region::whole(0, 60, 1_000).on_keys(60, 60);
        region.looped = Some(Loop {
            start_frame: 500,
            end_frame: 520,
            crossfade_frames: 0,
            likeness_percent: 100,
            way: program::LoopWay::Forward,
            runs: program::LoopRuns::ThroughRelease,
        });
        of.program = Program::plain("x", Vec::new(), vec![region]);
        of.program.strands[0].on = On::KeyUp {
            pedal_holds: true,
            fall_db_per_s: 0.0,
        };
        assert_eq!(found(&of, &[]), []);
        let soundfont = over(found(&of, &[Format::SoundFont2]));
        let all = kinds(&soundfont);
        for kind in [
            FindingKind::FormatLoss,
            FindingKind::NameCut,
            FindingKind::LoopTooShort,
        ] {
            assert!(all.contains(&kind), "{kind:?}: {soundfont:?}");
        }
        assert!(soundfont[0].says.starts_with("SoundFont: "), "{soundfont:?}");
        assert!(
            over(found(&of, &[Format::Sfz]))
                .iter()
                .all(|found| found.says.starts_with("SFZ: "))
        );
    }

    #[test]
    fn what_a_format_does_not_count_to_is_found_before_it_is_written() {
        let hour = 48_000 * 3_600;
        let sample = |id, frames| Sample {
            id: SampleId(id),
            name: format!("reed {id}"),
            source: format!("{id}"),
            rate_hz: 48_000,
            first_channel: 0,
            source_channels: 2,
            channels: 2,
            frames,
        };
        let found_of = |samples: Vec<Sample>, format| {
            let mut of = empty();
            of.name = "Reeds".into();
            let regions = samples.iter().enumerate();
            let regions = regions
                .map(|(n, of)| Region::whole(n, 60 + n as u8, of.frames).on_keys(60 + n as u8, 60 + n as u8));
            of.program = Program::plain("reeds", samples.clone(), regions.collect());
            over(found(&of, &[format]))
        };
        // Five recordings of an hour in 24 bits and two channels are 4.83 GiB, one is 0.97.
        let long = || (0..5).map(|id| sample(id, hour)).collect();
        let soundfont = found_of(long(), Format::SoundFont2);
        assert_eq!(kinds(&soundfont), [FindingKind::OverFormat]);
        assert!(
            soundfont[0].says.starts_with("SoundFont: This needs 4.8 GiB"),
            "{soundfont:?}"
        );
        assert_eq!(found_of(long(), Format::Sfz), []);
        assert_eq!(
            kinds(&found_of(vec![sample(0, 5 * hour)], Format::Sfz)),
            [FindingKind::OverFormat]
        );
    }

    #[test]
    fn strands_and_controls_that_are_called_the_same_are_told_where_something_is_written() {
        let named = |names: &[&str]| {
            let mut of = empty();
            of.name = "Reeds".into();
            of.program = Program::plain("reeds", Vec::new(), Vec::new());
            let first = of.program.strands[0].clone();
            of.program.strands = (names.iter().enumerate())
                .map(|(n, name)| Strand {
                    id: StrandId(n as u64),
                    name: (*name).to_owned(),
                    ..first.clone()
                })
                .collect();
            of
        };
        let same = |names: &[&str], formats: &[Format]| kinds(&over(found(&named(names), formats))).len();
        assert_eq!(same(&["Front", "Back"], &[Format::Sfz]), 0);
        assert_eq!(same(&["Front", "front"], &[Format::Sfz]), 1);
        assert_eq!(same(&["Front", "front"], &[]), 0);
        let long = ["Front rank of reeds, open", "Front rank of reeds, muffled"];
        assert_eq!(
            (same(&long, &[Format::Sfz]), same(&long, &[Format::SoundFont2])),
            (0, 1)
        );
    }
}
