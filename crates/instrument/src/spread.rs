//! What was said of one take, put on others: the same values, or only how far they lie from what was automatic.

use crate::{Correction, Fact, Said, Suggestion, TakeLoop};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::ToSchema;

/// What of a take is put on others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Part {
    /// Start, end, fades and level.
    Trim,
    /// Root, cents and what is added on playing.
    Tune,
    /// The loop.
    Loop,
}

/// How it is put there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Spread {
    /// The same values; times stay times where rates differ.
    Values,
    /// Each its own automatic value, moved as far as this one was.
    Offsets,
}

/// A take as this looks at it.
#[derive(Debug, Clone, Copy)]
pub struct SpreadTake<'a> {
    /// What is automatic.
    pub suggestion: &'a Suggestion,
    /// What was said.
    pub said: &'a Correction,
    /// Frames per second.
    pub rate_hz: u32,
    /// Length.
    pub frames: u64,
}

/// What is to be said of `to` so that it is treated as `from` was by hand; what was not said of `from` is left alone.
pub fn spread(part: Part, how: Spread, from: SpreadTake, to: SpreadTake) -> Vec<(Fact, Said)> {
    let (said, was, own) = (from.said, from.suggestion, to.suggestion);
    let per_frame = f64::from(to.rate_hz) / f64::from(from.rate_hz.max(1));
    let frame = |value: u64, automatic: u64, others: u64| -> Option<u64> {
        let moved = match how {
            Spread::Values => value as f64 * per_frame,
            Spread::Offsets => others as f64 + (value as f64 - automatic as f64) * per_frame,
        };
        (0.0..=to.frames as f64)
            .contains(&moved)
            .then(|| moved.round() as u64)
    };
    let number = |value: f64, automatic: f64, others: f64| match how {
        Spread::Values => value,
        Spread::Offsets => others + value - automatic,
    };
    let length = |value: u64| (value as f64 * per_frame).round() as u64;
    let found: Vec<(Fact, Option<Value>)> = match part {
        Part::Trim => vec![
            (
                Fact::StartFrame,
                said.start_frame
                    .and_then(|value| frame(value, was.start_frame, own.start_frame))
                    .map(|at| json!(at)),
            ),
            (
                Fact::EndFrame,
                said.end_frame
                    .and_then(|value| frame(value, was.end_frame, own.end_frame))
                    .map(|at| json!(at)),
            ),
            (
                Fact::FadeInFrames,
                said.fade_in_frames.map(|value| json!(length(value))),
            ),
            (
                Fact::FadeOutFrames,
                said.fade_out_frames.map(|value| json!(length(value))),
            ),
            (Fact::FadeCurve, said.fade_curve.map(|curve| json!(curve))),
            (
                Fact::GainDb,
                said.gain_db
                    .map(|value| json!(number(value, was.gain_db, own.gain_db))),
            ),
        ],
        Part::Tune => vec![
            (
                Fact::RootKey,
                said.root_key.map(|key| {
                    let moved = number(f64::from(key), f64::from(was.root_key), f64::from(own.root_key));
                    json!(moved.clamp(0.0, 127.0) as u8)
                }),
            ),
            (
                Fact::RecordingCents,
                said.recording_cents
                    .map(|value| json!(number(value, was.recording_cents, own.recording_cents))),
            ),
            (
                Fact::TuneCents,
                said.tune_cents
                    .map(|value| json!(number(value, was.tune_cents, own.tune_cents))),
            ),
        ],
        Part::Loop => {
            let looped = said.looped.and_then(|looped| {
                let Some(l) = looped else { return Some(Value::Null) };
                let (automatic, others) = match how {
                    Spread::Values => (l, l),
                    Spread::Offsets => (was.looped?, own.looped?),
                };
                let moved = TakeLoop {
                    start_frame: frame(l.start_frame, automatic.start_frame, others.start_frame)?,
                    end_frame: frame(l.end_frame, automatic.end_frame, others.end_frame)?,
                    crossfade_frames: length(l.crossfade_frames),
                    ..l
                };
                (moved.start_frame < moved.end_frame).then(|| json!(moved))
            });
            vec![(Fact::Loop, looped)]
        }
    };
    found
        .into_iter()
        .filter_map(|(fact, value)| Some((fact, Said::Value(value?))))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use program::FadeCurve;

    fn automatic(start: u64, looped: Option<(u64, u64)>) -> Suggestion {
        Suggestion {
            start_frame: start,
            end_frame: 90_000,
            fade_in_frames: 48,
            fade_out_frames: 960,
            fade_curve: FadeCurve::Straight,
            pan: 0.0,
            cleaning: signal::Cleaning::default(),
            gain_db: 0.0,
            root_key: 60,
            recording_cents: 4.0,
            tune_cents: 0.0,
            looped: looped.map(|(start, end)| TakeLoop::plain(start, end, 100)),
        }
    }

    fn put(
        part: Part,
        how: Spread,
        said: &Correction,
        onto: &Suggestion,
        rate_hz: u32,
    ) -> Vec<(Fact, Value)> {
        let nothing = Correction::default();
        let own = automatic(1_000, Some((20_000, 60_000)));
        let from = SpreadTake {
            suggestion: &own,
            said,
            rate_hz: 48_000,
            frames: 96_000,
        };
        let to = SpreadTake {
            suggestion: onto,
            said: &nothing,
            rate_hz,
            frames: 96_000,
        };
        spread(part, how, from, to)
            .into_iter()
            .map(|(fact, said)| match said {
                Said::Value(value) => (fact, value),
                Said::Automatic => (fact, json!("automatic")),
            })
            .collect()
    }

    #[test]
    fn a_start_is_put_on_others_as_it_is_or_as_it_was_moved() {
        let said = Correction {
            start_frame: Some(1_240),
            fade_in_frames: Some(96),
            ..Correction::default()
        };
        let onto = automatic(5_000, None);
        let of = |how, rate| put(Part::Trim, how, &said, &onto, rate);
        assert_eq!(
            of(Spread::Values, 48_000),
            [(Fact::StartFrame, json!(1_240)), (Fact::FadeInFrames, json!(96))]
        );
        assert_eq!(of(Spread::Offsets, 48_000)[0], (Fact::StartFrame, json!(5_240)));
        // Five milliseconds are five milliseconds at twice the rate, and so are two of fade.
        assert_eq!(
            of(Spread::Offsets, 96_000),
            [(Fact::StartFrame, json!(5_480)), (Fact::FadeInFrames, json!(192))]
        );
    }

    #[test]
    fn what_would_lie_outside_a_take_is_left_alone() {
        let said = Correction {
            start_frame: Some(0),
            ..Correction::default()
        };
        assert!(put(Part::Trim, Spread::Offsets, &said, &automatic(500, None), 48_000).is_empty());
        assert!(
            put(
                Part::Trim,
                Spread::Offsets,
                &Correction::default(),
                &automatic(500, None),
                48_000
            )
            .is_empty()
        );
    }

    #[test]
    fn an_octave_is_put_on_others_as_an_octave() {
        let said = Correction {
            root_key: Some(48),
            recording_cents: Some(6.0),
            ..Correction::default()
        };
        let onto = Suggestion {
            root_key: 71,
            recording_cents: -3.0,
            ..automatic(0, None)
        };
        assert_eq!(
            put(Part::Tune, Spread::Offsets, &said, &onto, 48_000),
            [(Fact::RootKey, json!(59)), (Fact::RecordingCents, json!(-1.0))]
        );
        assert_eq!(
            put(Part::Tune, Spread::Values, &said, &onto, 48_000)[0].1,
            json!(48)
        );
    }

    #[test]
    fn a_loop_moves_with_its_own_or_is_the_same() {
        let said = Correction {
            looped: Some(Some(TakeLoop::plain(20_100, 60_300, 480))),
            ..Correction::default()
        };
        let onto = automatic(0, Some((30_000, 50_000)));
        let of = |how, onto: &Suggestion| {
            let found = put(Part::Loop, how, &said, onto, 48_000);
            found
                .first()
                .map(|(_, l)| (l["start_frame"].as_u64(), l["end_frame"].as_u64()))
        };
        assert_eq!(of(Spread::Offsets, &onto), Some((Some(30_100), Some(50_300))));
        assert_eq!(of(Spread::Values, &onto), Some((Some(20_100), Some(60_300))));
        assert_eq!(of(Spread::Offsets, &automatic(0, None)), None);
        let none = Correction {
            looped: Some(None),
            ..Correction::default()
        };
        assert_eq!(
            put(Part::Loop, Spread::Offsets, &none, &onto, 48_000),
            [(Fact::Loop, Value::Null)]
        );
    }
}
