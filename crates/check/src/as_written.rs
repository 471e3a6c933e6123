//! What formats cannot hold.

use formats::{Format, lower};
use instrument::{Finding, FindingKind, Resolved, Target, name_below_2_53};

/// As they are called.
const FORMATS: [(Format, &str); 3] = [
    (Format::Sfz, "SFZ"),
    (Format::SoundFont2, "SoundFont"),
    (Format::Page, "A page that plays"),
];

pub(crate) fn found(resolved: &Resolved, chosen: &[Format]) -> Vec<Finding> {
    let program = &resolved.program;
    let mut found = Vec::new();
    for (format, name) in FORMATS.into_iter().filter(|(format, _)| chosen.contains(format)) {
        for loss in lower(program, format).losses {
            let says = format!("{name}: {}", loss.what);
            found.push(Finding {
                part: name_below_2_53(&says),
                ..Finding::measured(FindingKind::FormatLoss, loss.regions as f64, says)
            });
        }
    }
    if !chosen.contains(&Format::SoundFont2) {
        return found;
    }
    let letters = resolved.name.chars().count();
    let says = format!(
        "«{}» has {letters} letters, a SoundFont's preset has 20.",
        resolved.name
    );
    found.push(Finding::measured(FindingKind::NameCut, letters as f64, says));
    found.extend(program.regions.iter().filter_map(|region| {
        let looped = region.looped?;
        let frames = looped.end_frame - looped.start_frame;
        let says = format!("Its loop has {frames} frames, a SoundFont's has 32 at least.");
        let finding = Finding::measured(FindingKind::LoopTooShort, frames as f64, says);
        Some(finding.about(Target::of_region(region)))
    }));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{empty, kinds, over};
    use program::{Loop, On, Program, Region};

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
}
