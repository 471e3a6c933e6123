//! What a plan lacks, and what its map leaves out.

use crate::mends::mend;
use instrument::{
    Covered, Fact, Fill, Finding, FindingKind, How, Mend, MiddleC, Resolved, Said, Target, coverage, key_name,
};
use program::{On, Region};
use std::collections::HashSet;

/// Cells without a take, plans that do not fit, keys that nothing or too much answers, regions that are stretched far, strands that nothing sounds.
pub(crate) fn found(resolved: &Resolved) -> Vec<Finding> {
    let mut found = not_recorded(resolved);
    found.extend(advised(resolved));
    found.extend(covered(resolved));
    found.extend(stretched(resolved));
    found.extend(never_heard(resolved));
    found
}

fn not_recorded(resolved: &Resolved) -> Vec<Finding> {
    let taken: HashSet<_> = (resolved.takes.iter())
        .filter(|take| take.chosen)
        .map(|take| take.recorded.cell)
        .collect();
    let left_out: HashSet<_> = resolved.takes.iter().map(|take| take.recorded.cell).collect();
    // A plan that nobody began with lacks everything: that is no fault.
    if taken.is_empty() {
        return Vec::new();
    }
    let cells = resolved
        .plan
        .cells()
        .into_iter()
        .filter(|cell| !taken.contains(cell));
    cells
        .map(|cell| {
            let says = if left_out.contains(&cell) {
                "Its takes are all left out."
            } else {
                "It is planned, and has no take."
            };
            let part = u64::from(cell.key) | (u64::from(cell.round_robin) << 8);
            Finding {
                part,
                ..Finding::so(FindingKind::NotRecorded, says)
            }
            .about(Target::Layer(cell.pass, cell.layer))
            .on(cell)
        })
        .collect()
}

/// Files are as long as they are: what a plan would ask for is no matter there.
fn advised(resolved: &Resolved) -> impl Iterator<Item = Finding> {
    let is_asked_for = resolved.plan.source.how != How::Files;
    let advice = resolved.advice.iter().filter(move |_| is_asked_for);
    advice.map(|advice| {
        let number = |value: u32| Said::Value(value.into());
        let pass = Target::Pass(advice.pass);
        let mut wishes = vec![
            (pass, Fact::HoldMs, number(advice.hold_ms)),
            (pass, Fact::TailMs, number(advice.tail_ms)),
        ];
        if let Some(kind) = advice.kind.and_then(|kind| serde_json::to_value(kind).ok()) {
            wishes.push((Target::Instrument, Fact::Kind, Said::Value(kind)));
        }
        let changes = format!(
            "Hold {:.1} s, tail {:.1} s.",
            f64::from(advice.hold_ms) / 1_000.0,
            f64::from(advice.tail_ms) / 1_000.0
        );
        Finding::so(FindingKind::PlanDiffers, advice.because.clone())
            .about(pass)
            .mended_by(Some(mend("Take it into the plan", changes, wishes)))
    })
}

fn covered(resolved: &Resolved) -> impl Iterator<Item = Finding> {
    let all = coverage(&resolved.program, &resolved.map);
    all.into_iter().map(|of| {
        let name = |key| key_name(key, MiddleC::C4);
        let strikes = match (of.low_strike, of.high_strike) {
            (1, 127) => String::new(),
            (low, high) => format!(", struck {low} to {high}"),
        };
        let (kind, what) = match of.what {
            Covered::Gap => (FindingKind::Gap, "Nothing answers"),
            Covered::Overlap => (
                FindingKind::Overlap,
                "More than one region sounds, and their levels add up,",
            ),
        };
        let says = format!(
            "{what} from {} to {}{strikes}.",
            name(of.low_key),
            name(of.high_key)
        );
        let part = [of.low_key, of.high_key, of.low_strike, of.high_strike];
        Finding {
            part: u64::from(u32::from_le_bytes(part)),
            keys: Some([of.low_key, of.high_key]),
            strikes: Some([of.low_strike, of.high_strike]),
            ..Finding::measured(kind, f64::from(of.high_key - of.low_key) + 1.0, says)
        }
        .about(Target::Strand(of.strand))
    })
}

fn is_struck(resolved: &Resolved, region: &Region) -> bool {
    let strand = resolved.program.strand_of(region);
    strand.is_some_and(|strand| !strand.muted && matches!(strand.on, On::KeyDown(_)))
}

fn stretched(resolved: &Resolved) -> impl Iterator<Item = Finding> {
    let pitched = resolved.plan.kind.pitched();
    let regions = (resolved.program.regions.iter())
        .filter(move |region| pitched && region.key_follow != 0.0 && is_struck(resolved, region));
    // Layers and turns of one rung are stretched alike: that is one finding.
    let mut known = HashSet::new();
    regions.filter_map(move |region| {
        let keys = region.when.keys;
        let (down, up) = (
            region.root_key.saturating_sub(keys.low),
            keys.high.saturating_sub(region.root_key),
        );
        let keys_off = down.max(up);
        let way = if down > up { "down" } else { "up" };
        let says = format!(
            "{} is played {keys_off} keys {way}.",
            key_name(region.root_key, MiddleC::C4)
        );
        let is_new = known.insert((region.key.strand, region.root_key, keys.low, keys.high));
        (keys_off > 0 && is_new).then(|| {
            Finding {
                part: u64::from(region.root_key),
                keys: Some([keys.low, keys.high]),
                ..Finding::measured(FindingKind::Stretched, f64::from(keys_off), says)
            }
            .about(Target::Strand(region.key.strand))
            .mended_by(shared_by_both(resolved, region, down > up))
        })
    })
}

/// Where one of two neighbours has all keys between them, both are stretched half as far.
fn shared_by_both(resolved: &Resolved, region: &Region, down: bool) -> Option<Mend> {
    let one_sided = if down { Fill::Down } else { Fill::Up };
    let other = |of: &Region| {
        if down {
            of.root_key < region.root_key
        } else {
            of.root_key > region.root_key
        }
    };
    let between = resolved.program.regions_of(region.key.strand).any(other);
    let wish = (Target::Instrument, Fact::Fill, Said::Value("middle".into()));
    let changes = "Keys between two rungs go to the nearer one, on all rungs.";
    (resolved.map.fill == one_sided && between).then(|| mend("Share keys evenly", changes, vec![wish]))
}

fn never_heard(resolved: &Resolved) -> impl Iterator<Item = Finding> {
    let program = &resolved.program;
    // Of what nobody recorded yet every strand is empty.
    let strands = program.strands.iter().filter(|_| !program.regions.is_empty());
    strands.filter_map(move |strand| {
        let mut regions = program.regions_of(strand.id).peekable();
        let says = if strand.muted {
            "It is muted, and written nowhere."
        } else if regions.peek().is_none() {
            "It has no regions."
        } else if !regions.any(|region| meets(region, strand)) {
            "None of its regions lies within its keys and strikes."
        } else {
            return None;
        };
        let says = format!("{}: {says}", strand.name);
        Some(Finding::so(FindingKind::NeverHeard, says).about(Target::Strand(strand.id)))
    })
}

fn meets(region: &Region, strand: &program::Strand) -> bool {
    let meet = |a: program::Span, b: program::Span| a.low.max(b.low) <= a.high.min(b.high);
    meet(region.when.keys, strand.when.keys) && meet(region.when.strikes, strand.when.strikes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{empty, kinds, over, plan, resolved, take};
    use instrument::{Counted, RecordedTake};
    use program::{Program, Region, Span};

    /// Takes of all cells of the plan but one: tones at their pitch, held to their end.
    fn takes_but(left_out: usize) -> Vec<(RecordedTake, Option<Counted>)> {
        let cells = plan().cells().into_iter().enumerate();
        let tone = |(n, cell): (usize, instrument::Cell)| {
            let hz = signal::hz_of_key(f64::from(cell.key));
            let wave = |n: usize| (n as f64 * hz / 48_000.0 * std::f64::consts::TAU).sin();
            take(n as u64 + 1, cell, |n| (wave(n) * 0.3) as f32)
        };
        cells.filter(|(n, _)| *n != left_out).map(tone).collect()
    }

    #[test]
    fn a_cell_without_a_take_is_found_where_others_have_one() {
        let all = resolved(takes_but(99));
        assert_eq!(not_recorded(&all), []);
        let one = not_recorded(&resolved(takes_but(3)));
        assert_eq!(kinds(&one), [FindingKind::NotRecorded]);
        assert_eq!(one[0].cell, Some(plan().cells()[3]));
        assert_eq!(one[0].says, "It is planned, and has no take.");
    }

    #[test]
    fn what_the_first_takes_tell_is_mended_in_the_plan() {
        // They sound to their last frame: the tail is too short. Of files nothing is asked for.
        let mut all = resolved(takes_but(99));
        assert_eq!(advised(&all).count(), 0);
        all.plan.source.how = How::OverMidi;
        let advised: Vec<Finding> = advised(&all).collect();
        assert_eq!(kinds(&advised), [FindingKind::PlanDiffers]);
        let mend = advised[0].mend.as_ref().expect("a mend");
        let facts: Vec<Fact> = mend.wishes.iter().map(|wish| wish.fact).collect();
        assert_eq!(facts, [Fact::HoldMs, Fact::TailMs]);
    }

    /// With regions in the strand of a plain program.
    fn with(regions: Vec<Region>) -> Resolved {
        let mut of = empty();
        of.program = Program::plain("x", Vec::new(), regions);
        of
    }

    #[test]
    fn gaps_overlaps_and_far_stretches_are_one_finding_each() {
        let on = |root: u8, low: u8, high: u8| Region::whole(0, root, 100).on_keys(low, high);
        let found = over(found(&with(vec![on(50, 44, 54), on(50, 44, 54), on(60, 58, 62)])));
        let mut all = kinds(&found);
        all.sort();
        assert_eq!(
            all,
            [FindingKind::Gap, FindingKind::Overlap, FindingKind::Stretched]
        );
        let stretched = found
            .iter()
            .find(|found| found.kind == FindingKind::Stretched)
            .unwrap();
        assert_eq!((stretched.keys, stretched.how_much), (Some([44, 54]), Some(6.0)));
        assert_eq!(stretched.says, "D3 is played 6 keys down.");
        assert_eq!(
            stretched.mend, None,
            "nothing lies below it that could take some of them"
        );
    }

    #[test]
    fn a_strand_that_nothing_can_sound_is_never_heard() {
        let mut of = with(vec![Region::whole(0, 60, 100).on_keys(58, 62)]);
        assert_eq!(never_heard(&of).count(), 0);
        of.program.strands[0].when.keys = Span::of(70, 80);
        let says: Vec<String> = never_heard(&of).map(|found| found.says).collect();
        assert!(
            says[0].ends_with("None of its regions lies within its keys and strikes."),
            "{says:?}"
        );
        let mut other = of.program.strands[0].clone();
        (other.id, other.name) = (program::StrandId(9), "Other".to_owned());
        of.program.strands.push(other);
        let says: Vec<String> = never_heard(&of).map(|found| found.says).collect();
        assert_eq!(says.last().map(String::as_str), Some("Other: It has no regions."));
        of.program.regions.clear();
        assert_eq!(never_heard(&of).count(), 0, "nothing was recorded yet");
    }
}
