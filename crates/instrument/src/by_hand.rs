//! What was said of single regions, laid over those that were made by rule: it stays whatever the rule makes anew.

use crate::facts::said_about;
use crate::limits::{ByController, within};
use crate::{About, Fact, Facts, Target};
use program::{Program, Region, ShapeId, Span, StrandId};
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// How a region of a program is named where something is said of it, and what was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct RegionSaid {
    /// Its number among those of its strand.
    pub number: u64,
    /// What was set by hand.
    pub by_hand: Vec<Fact>,
    /// The controller that chooses it.
    pub controller: Option<ByController>,
    /// The name that a shape of its own has, whether it has one or not.
    pub own_shape: ShapeId,
}

/// The same of every region, in the program's order.
pub fn said_of_regions(program: &Program, said: &Facts) -> Vec<RegionSaid> {
    let of = |region: &Region| RegionSaid {
        own_shape: ShapeId::of_region(region.key),
        number: region.key.of.number(),
        by_hand: Fact::of(About::Region)
            .filter(|fact| said.contains_key(&(Target::of_region(region), *fact)))
            .collect(),
        controller: said_about::<Option<ByController>>(
            said,
            Target::of_region(region),
            Fact::RegionController,
        )
        .flatten(),
    };
    program.regions.iter().map(of).collect()
}

/// Lays what was said over the regions of a program, and adds those that were made by hand. A mic's regions have what was said of those of the first,
/// and what was said of them beside it.
pub fn lay_by_hand(program: &mut Program, said: &Facts) {
    crate::splitting::add_own(program, said);
    let shared: HashMap<StrandId, StrandId> = (program.strands.iter())
        .filter_map(|strand| Some((strand.id, strand.regions_of?)))
        .collect();
    for region in &mut program.regions {
        let own = region.key.strand;
        if let Some(&of) = shared.get(&own) {
            region.key.strand = of;
            lay_by_hand_of(region, said);
            region.key.strand = own;
        }
        lay_by_hand_of(region, said);
    }
}

/// The same of one.
pub(crate) fn lay_by_hand_of(region: &mut Region, said: &Facts) {
    let target = Target::of_region(region);
    let step = |fact: Fact| said_about::<u8>(said, target, fact);
    region.when.keys = span_as_said(
        region.when.keys,
        step(Fact::RegionLowKey),
        step(Fact::RegionHighKey),
    );
    region.when.strikes = span_as_said(
        region.when.strikes,
        step(Fact::RegionLowStrike),
        step(Fact::RegionHighStrike),
    );
    let number = |fact: Fact| said_about::<f64>(said, target, fact);
    region.gain_db += number(Fact::RegionGainDb).unwrap_or(0.0);
    region.tune_cents += number(Fact::RegionTuneCents).unwrap_or(0.0);
    region.key_follow = number(Fact::KeyFollow).unwrap_or(region.key_follow);
    region.pan = (region.pan + number(Fact::RegionPan).unwrap_or(0.0)).clamp(-1.0, 1.0);
    if let Some(offset) = said_about::<u64>(said, target, Fact::RegionOffsetFrames) {
        // A frame at least is left, and a loop is not begun in its middle.
        let latest = (region.looped).map_or(region.end_frame.saturating_sub(1), |looped| {
            looped.start_frame - looped.crossfade_frames
        });
        region.start_frame = region
            .start_frame
            .saturating_add(offset)
            .min(latest.max(region.start_frame));
    }
    if let Some(to_end) = said_about(said, target, Fact::RegionToEnd) {
        region.to_end = to_end;
        // What goes round has no end.
        region.looped = region.looped.filter(|_| !to_end);
    }
    if let Some(by) = said_about::<Option<ByController>>(said, target, Fact::RegionController) {
        region.when.sources = by.map(within).into_iter().collect();
    }
}

/// A span with limits that were said: a fade at an end that was set is gone, and one that was passed by the other end is taken with it.
fn span_as_said(rule: Span, low: Option<u8>, high: Option<u8>) -> Span {
    let (from, to) = match (low, high) {
        (Some(low), Some(high)) => (low.min(high), high.max(low)),
        (Some(low), None) => (low, rule.high.max(low)),
        (None, Some(high)) => (rule.low.min(high), high),
        (None, None) => return rule,
    };
    Span {
        low: from,
        high: to,
        fade_in: rule.fade_in.filter(|_| from == rule.low),
        fade_out: rule.fade_out.filter(|_| to == rule.high),
        law: rule.law,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::{RegionOf, StrandId};
    use serde_json::json;

    fn program() -> Program {
        let mut program = Program::plain("x", Vec::new(), vec![Region::whole(0, 60, 100).on_keys(55, 60)]);
        program.regions[0].key.of = RegionOf::Cell {
            pass: 3,
            key: 60,
            layer: 5,
            round_robin: 0,
        };
        program
    }

    /// The room's regions are those of the close mic, cut and stretched with them, with a level of their own.
    #[test]
    fn mics_share_what_was_said_of_the_first_and_have_a_say_of_their_own() {
        let mut program = program();
        let (close, room) = (StrandId(0), StrandId(1));
        let mut second = program.strands[0].clone();
        (second.id, second.regions_of) = (room, Some(close));
        program.strands.push(second);
        let mut heard = program.regions[0].clone();
        heard.key.strand = room;
        program.regions.push(heard);
        let number = program.regions[0].key.of.number();
        let of = |strand, number| Target::Region(strand, number);
        let said = Facts::from([
            ((of(close, number), Fact::RegionHighKey), json!(57)),
            ((of(close, number), Fact::RegionGainDb), json!(-3.0)),
            ((of(room, number), Fact::RegionGainDb), json!(-6.0)),
            ((of(close, 9), Fact::RegionCopyOf), json!(number)),
            ((of(close, 9), Fact::RegionLowKey), json!(58)),
        ]);
        lay_by_hand(&mut program, &said);
        let seen = |strand| {
            let all = program.regions_of(strand);
            all.map(|region| (region.when.keys.low, region.when.keys.high, region.gain_db))
                .collect::<Vec<_>>()
        };
        assert_eq!(seen(close), [(55, 57, -3.0), (58, 60, 0.0)]);
        assert_eq!(seen(room), [(55, 57, -9.0), (58, 60, 0.0)]);
    }

    #[test]
    fn what_was_said_of_a_region_stands_and_the_rest_follows_the_rule() {
        let mut program = program();
        let target = Target::of_region(&program.regions[0]);
        let said = Facts::from([
            ((target, Fact::RegionHighKey), json!(72)),
            ((target, Fact::RegionGainDb), json!(-3.0)),
        ]);
        lay_by_hand(&mut program, &said);
        let region = &program.regions[0];
        assert_eq!(
            (region.when.keys, region.gain_db, region.key_follow),
            (Span::of(55, 72), -3.0, 1.0)
        );
        assert_eq!(
            said_of_regions(&program, &said)[0].by_hand,
            [Fact::RegionHighKey, Fact::RegionGainDb]
        );
        // Of another region nothing is said.
        program.regions[0].key.strand = StrandId(9);
        assert!(said_of_regions(&program, &said)[0].by_hand.is_empty());
    }

    #[test]
    fn limits_that_pass_each_other_take_each_other_along() {
        let rule = Span::of(50, 60);
        assert_eq!(span_as_said(rule, Some(64), None), Span::of(64, 64));
        assert_eq!(span_as_said(rule, None, Some(40)), Span::of(40, 40));
        assert_eq!(span_as_said(rule, Some(70), Some(65)), Span::of(65, 70));
        let faded = Span {
            fade_in: Some(program::Fade { from: 49, to: 55 }),
            ..rule
        };
        assert_eq!(span_as_said(faded, None, Some(58)).fade_in, faded.fade_in);
        assert_eq!(span_as_said(faded, Some(45), None).fade_in, None);
    }
}
