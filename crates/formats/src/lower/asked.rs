//! What a strand and its regions ask for, as one: a file says it of regions.

use program::{FadeLaw, On, Source, Span, Turn, Within};
use std::collections::BTreeMap;

/// What is asked of controllers, once for each, by their numbers; SFZ has one course of fades for all of them.
pub(super) fn controllers_of<'a>(sources: impl Iterator<Item = &'a Within>) -> Vec<Within> {
    let mut of: BTreeMap<u8, Span> = BTreeMap::new();
    for within in sources {
        if let Source::Controller(number) = within.source {
            let span = of
                .get(&number)
                .map_or(within.span, |span| meet(*span, within.span));
            of.insert(number, span);
        }
    }
    let linear = of.values().any(|span| span.law == FadeLaw::Linear);
    of.into_iter()
        .map(|(number, span)| Within {
            source: Source::Controller(number),
            span: Span {
                // What comes in gradually begins with its key, wherever the controller stands.
                low: if span.fade_in.is_some() { 0 } else { span.low },
                high: if span.fade_out.is_some() { 127 } else { span.high },
                law: if linear { FadeLaw::Linear } else { FadeLaw::Power },
                ..span
            },
        })
        .collect()
}

/// What both ask for.
pub(super) fn meet(own: Span, of_strand: Span) -> Span {
    Span {
        low: own.low.max(of_strand.low),
        high: own.high.min(of_strand.high),
        fade_in: own.fade_in.or(of_strand.fade_in),
        fade_out: own.fade_out.or(of_strand.fade_out),
        law: if of_strand.fade_in.or(of_strand.fade_out).is_some() && own.fade_in.or(own.fade_out).is_none() {
            of_strand.law
        } else {
            own.law
        },
    }
}

/// SFZ's `trigger=release` waits for the pedal; a SoundFont knows any key that goes down.
pub(super) fn lowered_event(on: &On, soundfont: bool) -> On {
    match *on {
        On::KeyDown(_) if soundfont => On::KEY_DOWN,
        On::KeyUp { fall_db_per_s, .. } => On::KeyUp {
            pedal_holds: true,
            fall_db_per_s,
        },
        On::Enters(Within { source, span }) => On::Enters(Within {
            source,
            span: Span::of(span.low, span.high),
        }),
        other @ On::KeyDown(_) => other,
    }
}

/// The turns of strand and region as one: a region counts its own strikes among those that are its strand's turn.
pub(super) fn turn_of_both(of_strand: Turn, of_region: Turn) -> Turn {
    let in_order = |turn: Turn| match turn {
        Turn::InOrder { place, of } | Turn::Shuffled { place, of, .. } if of > 1 => Some((place, of)),
        _ => None,
    };
    match (in_order(of_strand), in_order(of_region)) {
        (Some((place, of)), Some((within, each))) => Turn::InOrder {
            place: place + of * within,
            of: of.saturating_mul(each),
        },
        (Some((place, of)), None) | (None, Some((place, of))) => Turn::InOrder { place, of },
        (None, None) => match (of_strand, of_region) {
            (Turn::Random { from, to }, Turn::Random { from: low, to: high }) => Turn::Random {
                from: from + low * (to - from),
                to: from + high * (to - from),
            },
            (Turn::Random { from, to }, _) | (_, Turn::Random { from, to }) => Turn::Random { from, to },
            _ => Turn::Always,
        },
    }
}
