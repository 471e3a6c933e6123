//! Steps that set what strands have already: voices, tuning, times, filter, level.

use super::{Plays, Search, Trial, bands_of, mean, rounded, wish};
use crate::mends::signed;
use crate::source::Nearer;
use instrument::{Fact, FilterForm, RouteSaid, Target, Wish};
use program::{Filter, ParamId, Passes, Shape, Source, Strand};
use serde_json::{Value, json};
use signal::{PassageApart, THIRD_OCTAVES};

/// A level that differs by less does not.
const LEAST_LEVEL_DB: f64 = 0.15;
/// What a strike of 48 and one of 104 lie apart at full: 40·log₁₀(104/48).
const DB_PER_STRIKE: f64 = 13.43;
/// Colours whose halves lie apart by less are one, in dB.
const LEAST_BRIGHTER_DB: f64 = 1.0;
/// What a strike of 104 is of the hardest.
const HARD: f64 = 104.0 / 127.0;

impl<P: Plays> Search<'_, P> {
    /// What is worth trying, of what the figures tell.
    pub(super) fn trials(&self, what: Nearer) -> Vec<Trial> {
        match what {
            Nearer::Voices => self.voices(),
            Nearer::Level => self.level(),
            Nearer::StrikeToLevel => self.strike_to_level(),
            Nearer::Pitch => self.pitch(),
            Nearer::Attack => self.attack(),
            Nearer::Release => self.release(),
            Nearer::Cutoff => self.cutoff(),
            Nearer::StrikeToCutoff => self.strike_to_cutoff(),
            Nearer::Tone | Nearer::Width | Nearer::Chorus => Vec::new(),
        }
    }

    /// The same facts of each strand that sounds, made of what it has.
    fn each_strand(&self, of: impl Fn(&Strand, &Shape) -> Vec<(Fact, Value)>) -> Vec<Wish> {
        let plain = Shape::default();
        self.strands()
            .flat_map(|strand| {
                let shape = self.program.shape_of(strand).unwrap_or(&plain);
                of(strand, shape)
                    .into_iter()
                    .map(|(fact, value)| wish(Target::Strand(strand.id), fact, value))
            })
            .collect()
    }

    fn has_filter(&self) -> bool {
        let with = |strand: &Strand| {
            self.program
                .shape_of(strand)
                .is_some_and(|shape| shape.filter.is_some())
        };
        self.strands().any(with)
    }

    /// Chords are played, and a strand has but one voice.
    fn voices(&self) -> Vec<Trial> {
        let alone = |strand: &Strand| strand.voices.glide.is_some() || strand.voices.most == Some(1);
        if !self.strands().any(alone) || self.passages.iter().all(|passage| passage.is_single()) {
            return Vec::new();
        }
        let several = |strand: &Strand, _: &Shape| match alone(strand) {
            true => vec![
                (Fact::StrandGlide, Value::Null),
                (Fact::StrandMostVoices, Value::Null),
            ],
            false => Vec::new(),
        };
        vec![Trial {
            says: "several keys at once in place of one".to_owned(),
            wishes: self.each_strand(several),
        }]
    }

    fn level(&self) -> Vec<Trial> {
        let louder = self.mean(|apart| apart.level_db);
        let Some(db) = louder.filter(|db| db.abs() > LEAST_LEVEL_DB) else {
            return Vec::new();
        };
        let to = |strand: &Strand, _: &Shape| {
            let to = (strand.gain_db + db).clamp(-96.0, 48.0);
            vec![(Fact::StrandGainDb, json!(rounded(to, 100.0)))]
        };
        vec![Trial {
            says: format!("{} dB of level", signed(db, 1)),
            wishes: self.each_strand(to),
        }]
    }

    /// Passages that a match is found by, softer and harder than the middle of all strikes.
    fn by_strike(&self) -> Option<[Vec<PassageApart>; 2]> {
        let strikes = || self.passages.iter().map(|passage| passage.strike);
        let middle = strikes().min()?.midpoint(strikes().max()?);
        let of = |hard: bool| {
            (self.passages.iter().zip(self.source))
                .zip(self.now.iter().zip(&self.finds))
                .filter(|((passage, _), (_, finds))| **finds && (passage.strike > middle) == hard)
                .filter_map(|((_, source), (built, _))| Some(source.apart(built.as_ref()?)))
                .collect::<Vec<_>>()
        };
        Some([of(false), of(true)]).filter(|both| both.iter().all(|of| !of.is_empty()))
    }

    fn strike_to_level(&self) -> Vec<Trial> {
        let levels = self.by_strike().and_then(|both| {
            let [soft, hard] = both.map(|of| mean(of.iter().filter_map(|apart| apart.level_db)));
            Some(hard? - soft?)
        });
        let Some(db) = levels.filter(|db| db.abs() > 2.0 * LEAST_LEVEL_DB) else {
            return Vec::new();
        };
        let by = db / DB_PER_STRIKE;
        let to = |_: &Strand, shape: &Shape| {
            let to = (shape.loudness.velocity_to_level + by).clamp(0.0, 1.0);
            vec![(Fact::ShapeStrikeToLevel, json!(rounded(to, 1_000.0)))]
        };
        vec![Trial {
            says: format!("the strike drives level by {} %", signed(by * 100.0, 0)),
            wishes: self.each_strand(to),
        }]
    }

    fn pitch(&self) -> Vec<Trial> {
        let Some(cents) = self.mean(|apart| apart.cents).filter(|cents| cents.abs() > 1.0) else {
            return Vec::new();
        };
        let to = |strand: &Strand, _: &Shape| {
            let to = (strand.tune_cents + cents).clamp(-1_200.0, 1_200.0);
            vec![(Fact::StrandTuneCents, json!(rounded(to, 10.0)))]
        };
        vec![Trial {
            says: format!("tuned by {} cents", signed(cents, 1)),
            wishes: self.each_strand(to),
        }]
    }

    /// A time of all strands longer or shorter by some shares of a difference.
    fn longer(
        &self,
        (what, fact, now): (&str, Fact, fn(&Shape) -> f64),
        by_ms: f64,
        (least, most): (f64, f64),
        shares: [f64; 3],
    ) -> Vec<Trial> {
        let way = if by_ms > 0.0 { "longer" } else { "shorter" };
        let trial = |share: f64| {
            let by = by_ms * share;
            let to = |_: &Strand, shape: &Shape| {
                let to = (now(shape) + by).clamp(least, most);
                vec![(fact, json!(rounded(to, 10.0)))]
            };
            Trial {
                says: format!("{what} {way} by {:.0} ms", by.abs()),
                wishes: self.each_strand(to),
            }
        };
        shares.map(trial).into()
    }

    fn attack(&self) -> Vec<Trial> {
        let Some(later) = self.mean(|apart| apart.attack_ms).filter(|ms| ms.abs() > 4.0) else {
            return Vec::new();
        };
        let attack = (
            "an attack",
            Fact::ShapeAttackMs,
            (|shape: &Shape| shape.loudness.attack_ms) as fn(&Shape) -> f64,
        );
        self.longer(attack, later, (0.0, 2_000.0), [0.6, 1.0, 1.4])
    }

    fn release(&self) -> Vec<Trial> {
        /// A release is told for 100 dB, a tail for 40.
        const OF_TAIL: f64 = 2.5;
        let Some(later) = self.mean(|apart| apart.tail_ms).filter(|ms| ms.abs() > 15.0) else {
            return Vec::new();
        };
        let release = (
            "a release",
            Fact::ShapeReleaseMs,
            (|shape: &Shape| shape.loudness.release_ms) as fn(&Shape) -> f64,
        );
        self.longer(release, later * OF_TAIL, (1.0, 60_000.0), [0.5, 0.8, 1.0])
    }

    fn cutoff(&self) -> Vec<Trial> {
        let Some(brighter) = brighter(&self.bands(&self.now)).filter(|db| db.abs() > LEAST_BRIGHTER_DB)
        else {
            return Vec::new();
        };
        if self.has_filter() {
            let (name, way) = if brighter > 0.0 {
                ("higher", 1.0)
            } else {
                ("lower", -1.0)
            };
            let trial = |octaves: f64| {
                let to = |_: &Strand, shape: &Shape| {
                    let to = shape
                        .filter
                        .map(|filter| filter.cutoff_hz * 2f64.powf(octaves * way));
                    to.map(|hz| (Fact::FilterCutoffHz, json!(hz.clamp(20.0, 20_000.0).round())))
                        .into_iter()
                        .collect()
                };
                Trial {
                    says: format!("a cutoff {name} by {octaves:.1} octaves"),
                    wishes: self.each_strand(to),
                }
            };
            let mut trials: Vec<Trial> = [0.25, 0.5, 1.0, 1.5, 2.0, 3.0].map(trial).into();
            if brighter > 0.0 {
                trials.push(Trial {
                    says: "no filter".to_owned(),
                    wishes: self.each_strand(|_, _| vec![(Fact::FilterForm, Value::Null)]),
                });
            }
            return trials;
        }
        if brighter > 0.0 {
            return Vec::new();
        }
        let trial = |(cutoff_hz, follow): (f64, f64)| Trial {
            says: format!(
                "a low-pass at {cutoff_hz:.0} Hz{}",
                if follow > 0.0 { " that follows the key" } else { "" }
            ),
            wishes: self.each_strand(|_, _| low_pass(cutoff_hz, follow)),
        };
        [700.0, 1_400.0, 2_800.0, 5_600.0, 11_200.0]
            .into_iter()
            .flat_map(|hz| [(hz, 0.0), (hz, 1.0)])
            .map(trial)
            .collect()
    }

    /// The source is duller where it is struck softly than what was built is, beside what both are hard.
    fn strike_to_cutoff(&self) -> Vec<Trial> {
        let by_strike = self.by_strike().and_then(|both| {
            let [soft, hard] = both.map(|of| brighter(&bands_of(&of)));
            Some(hard? - soft?)
        });
        let takes_another = |filter: &Filter| filter.passes != Passes::Low;
        let is_other = |strand: &Strand| {
            let filter = self.program.shape_of(strand).and_then(|shape| shape.filter);
            filter.as_ref().is_some_and(takes_another)
        };
        let duller = by_strike.filter(|db| *db > LEAST_BRIGHTER_DB);
        if duller.is_none() || self.strands().any(is_other) {
            return Vec::new();
        }
        let trial = |(at_hard_hz, octaves): (f64, f64)| {
            let cutoff_hz = (at_hard_hz * 2f64.powf(-octaves * HARD)).round();
            let mut wishes = self.each_strand(|_, _| low_pass(cutoff_hz, 1.0));
            wishes.extend(self.strands().filter_map(|strand| {
                let shape = self.program.shape_of(strand)?;
                let number = 1 + shape.routes.iter().map(|route| route.id.0).max().unwrap_or(0);
                let route = RouteSaid {
                    from: Source::Strike,
                    times: None,
                    curve: Vec::new(),
                    to: ParamId::Cutoff,
                    amount: octaves * 1_200.0,
                };
                Some(wish(Target::Route(shape.id, number), Fact::Route, json!(route)))
            }));
            Trial {
                says: format!(
                    "a low-pass that the strike opens by {octaves} octaves, from {cutoff_hz:.0} Hz"
                ),
                wishes,
            }
        };
        [1_400.0, 2_000.0, 2_800.0, 4_000.0, 5_600.0, 8_000.0, 12_000.0]
            .into_iter()
            .flat_map(|hz| [(hz, 1.0), (hz, 2.0), (hz, 3.0)])
            .map(trial)
            .collect()
    }
}

fn low_pass(cutoff_hz: f64, follow: f64) -> Vec<(Fact, Value)> {
    let form = FilterForm {
        passes: Passes::Low,
        poles: 2,
    };
    vec![
        (Fact::FilterForm, json!(form)),
        (Fact::FilterCutoffHz, json!(cutoff_hz)),
        (Fact::FilterKeyFollow, json!(follow)),
    ]
}

/// By how much the upper half of what is heard lies over the lower; `None` where there are no two halves.
fn brighter(bands: &[Option<f64>; THIRD_OCTAVES]) -> Option<f64> {
    let known: Vec<(usize, f64)> = (bands.iter().enumerate())
        .filter_map(|(n, db)| Some((n, (*db)?)))
        .collect();
    let middle = known.first()?.0.midpoint(known.last()?.0);
    let half = |high: bool| {
        mean(
            known
                .iter()
                .filter(|(n, _)| (*n > middle) == high)
                .map(|(_, db)| *db),
        )
    };
    Some(half(true)? - half(false)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_upper_half_of_what_is_heard_is_brighter() {
        let mut bands = [None; THIRD_OCTAVES];
        assert_eq!(brighter(&bands), None);
        bands[8..16].fill(Some(-1.0));
        bands[16..24].fill(Some(3.0));
        assert_eq!(brighter(&bands), Some(4.0));
        bands[8..24].fill(None);
        bands[12] = Some(0.0);
        assert_eq!(brighter(&bands), None, "one band has no halves");
    }
}
