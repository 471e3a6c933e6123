//! What would bring what was built nearer to its source: tried out as it would sound, and judged on notes that it was not found by.

use crate::source::{Apart, Nearer, Proposal, beside};
use instrument::{EFFECT_SETTINGS, Fact, FilterForm, Passage, Said, Target, Wish};
use program::{BusId, EffectId, EffectKind, On, Passes, Program, Strand};
use serde_json::{Value, json};
use signal::{PassageApart, PassageSound, THIRD_OCTAVES, third_octave_hz};

/// What brings both nearer by less is not worth saying, in dB and as a share.
const LEAST_DB: f64 = 0.15;
const LEAST_SHARE: f64 = 0.03;
/// A level that differs by less does not.
const LEAST_LEVEL_DB: f64 = 0.15;
/// A tone that is tried, to hear what each of its bands does.
const TRIED_DB: f64 = 4.0;
/// No band of a tone is moved further.
const MOST_TONE_DB: f64 = 15.0;
/// What a strike of 48 and one of 104 lie apart at full: 40·log₁₀(104/48).
const DB_PER_STRIKE: f64 = 13.43;

/// Plays the passages on what was built.
pub trait Plays {
    /// What goes wrong.
    type Error;

    /// What is heard of every passage that is wanted, and nothing of the others, for each list of wishes that is laid over what was said.
    ///
    /// # Errors
    /// Where it cannot be played, or was stopped.
    fn sounds(
        &mut self,
        with: &[Vec<Wish>],
        wanted: Wanted<'_>,
    ) -> Result<Vec<Vec<PassageSound>>, Self::Error>;
}

/// What is to be heard.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'a> {
    /// Which passages.
    pub passages: &'a [bool],
    /// Whether their pitch is, which takes longest to find.
    pub pitch: bool,
}

/// What is proposed.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Match {
    /// What brings both nearer, what does most first.
    pub proposals: Vec<Proposal>,
    /// All of it.
    pub together: Option<Proposal>,
}

/// What was tried: what is said with it, and how.
struct Trial {
    says: String,
    wishes: Vec<Wish>,
}

struct Search<'a, P: Plays> {
    program: &'a Program,
    passages: &'a [Passage],
    source: &'a [PassageSound],
    plays: &'a mut P,
    all: Vec<bool>,
    /// Passages that a match is found by.
    finds: Vec<bool>,
    /// What is taken so far, and how it sounds.
    wishes: Vec<Wish>,
    now: Vec<PassageSound>,
}

/// Finds what brings both nearer, step by step: each step is kept where it helps both the passages that it was found by and those that judge. Of what is built is told
/// what is heard of it as it is.
///
/// # Errors
/// Those of who plays.
pub fn find_match<P: Plays>(
    program: &Program,
    (passages, source, built): (&[Passage], &[PassageSound], Vec<PassageSound>),
    plays: &mut P,
) -> Result<Match, P::Error> {
    let finds = crate::source::judges(passages)
        .iter()
        .map(|judges| !judges)
        .collect();
    let all = vec![true; passages.len()];
    let whole = Wanted {
        passages: &all,
        pitch: true,
    };
    let mut search = Search {
        program,
        passages,
        source,
        plays,
        all: all.clone(),
        finds,
        wishes: Vec::new(),
        now: built,
    };
    let mut taken: Vec<(Nearer, Trial)> = Vec::new();
    for what in [
        Nearer::Pitch,
        Nearer::Attack,
        Nearer::Release,
        Nearer::Cutoff,
        Nearer::Chorus,
        Nearer::Tone,
        Nearer::Width,
        Nearer::StrikeToLevel,
        Nearer::Level,
    ] {
        let found = match what {
            Nearer::Chorus => search.chorus()?,
            Nearer::Tone => search.tone()?,
            Nearer::Width => search.width()?,
            other => {
                let trials = search.trials(other);
                search.best(other, trials)?
            }
        };
        if let Some(trial) = found {
            search.wishes.extend(trial.wishes.iter().cloned());
            taken.push((what, trial));
        }
    }
    let alone: Vec<Vec<Wish>> = taken.iter().map(|(_, trial)| trial.wishes.clone()).collect();
    let sounds = search.plays.sounds(&alone, whole)?;
    let mut proposals: Vec<Proposal> = (taken.into_iter().zip(&sounds))
        .map(|((what, trial), sounds)| Proposal {
            what: Some(what),
            says: trial.says,
            wishes: trial.wishes,
            after: search.apart(sounds, true),
        })
        .collect();
    proposals.sort_by(|a, b| a.after.all_db.total_cmp(&b.after.all_db));
    let together = (proposals.len() > 1).then(|| Proposal {
        what: None,
        says: "all of it at once".to_owned(),
        wishes: search.wishes.clone(),
        after: search.apart(&search.now, true),
    });
    Ok(Match { proposals, together })
}

fn found_by(passages: &[bool]) -> Wanted<'_> {
    Wanted {
        passages,
        pitch: false,
    }
}

fn wish(target: Target, fact: Fact, value: Value) -> Wish {
    Wish::from((target, fact, Said::Value(value)))
}

fn mean(all: impl Iterator<Item = f64>) -> Option<f64> {
    let all: Vec<f64> = all.collect();
    (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
}

impl<P: Plays> Search<'_, P> {
    /// Passages that judge, or those that a match is found by; all where none judge. Those that were not played are left out.
    fn aparts(&self, built: &[PassageSound], judging: bool) -> Vec<PassageApart> {
        let all = beside(self.passages, self.source, built);
        let none_judge = !all.iter().any(|one| one.judges);
        all.into_iter()
            .filter(|one| (none_judge || one.judges == judging) && !one.built.course_db.is_empty())
            .map(|one| one.apart)
            .collect()
    }

    fn apart(&self, built: &[PassageSound], judging: bool) -> Apart {
        Apart::of(self.aparts(built, judging).iter())
    }

    /// How far apart they are in what a step is to bring nearer.
    fn figure(&self, what: Nearer, built: &[PassageSound], judging: bool) -> f64 {
        let mut aparts = self.aparts(built, judging);
        if what != Nearer::Level {
            let louder = mean(aparts.iter().filter_map(|apart| apart.level_db)).unwrap_or(0.0);
            for db in aparts.iter_mut().filter_map(|apart| apart.level_db.as_mut()) {
                *db -= louder;
            }
        }
        if what == Nearer::Chorus {
            // Two choruses move as far and as fast as each other, but never together.
            aparts
                .iter_mut()
                .for_each(|apart| (apart.course_db, apart.cents) = (0.0, None));
        }
        let apart = Apart::of(aparts.iter());
        match what {
            Nearer::Level | Nearer::StrikeToLevel => apart.level_db,
            Nearer::Pitch => apart.cents / 10.0,
            Nearer::Tone | Nearer::Cutoff => apart.spectrum_db,
            Nearer::Attack | Nearer::Release => apart.course_db,
            Nearer::Width => apart.side_db,
            Nearer::Chorus => apart.all_db,
        }
    }

    /// How far apart they are with each of some trials laid over what is taken so far, by the passages that a match is found by; the nearest first.
    fn ranked(&mut self, what: Nearer, trials: Vec<Trial>) -> Result<Vec<(f64, Trial)>, P::Error> {
        let with = |trial: &Trial| [self.wishes.clone(), trial.wishes.clone()].concat();
        let all: Vec<Vec<Wish>> = trials.iter().map(with).collect();
        let wanted = Wanted {
            passages: &self.finds,
            pitch: what == Nearer::Pitch,
        };
        let sounds = self.plays.sounds(&all, wanted)?;
        let mut ranked: Vec<(f64, Trial)> = (trials.into_iter().zip(sounds))
            .map(|(trial, sounds)| (self.figure(what, &sounds, false), trial))
            .collect();
        ranked.sort_by(|a, b| a.0.total_cmp(&b.0));
        Ok(ranked)
    }

    /// The best of some trials, where it helps enough, those passages too that it was not found by: then it is part of what is heard from now on.
    fn best(&mut self, what: Nearer, trials: Vec<Trial>) -> Result<Option<Trial>, P::Error> {
        let Some((found_by, trial)) = self.ranked(what, trials)?.into_iter().next() else {
            return Ok(None);
        };
        let with = [self.wishes.clone(), trial.wishes.clone()].concat();
        let wanted = Wanted {
            passages: &self.all,
            pitch: true,
        };
        let Some(sounds) = self.plays.sounds(&[with], wanted)?.pop() else {
            return Ok(None);
        };
        let gained = |before: f64, after: f64, share: f64| {
            before - after > LEAST_DB * share && before - after > before * LEAST_SHARE * share
        };
        // Nor may all the rest become worse by it.
        let all = |sounds: &[PassageSound], judging| self.apart(sounds, judging).all_db;
        let harms = [false, true]
            .into_iter()
            .any(|judging| all(&sounds, judging) > all(&self.now, judging) + LEAST_DB);
        let helps = !harms
            && gained(self.figure(what, &self.now, false), found_by, 1.0)
            && gained(
                self.figure(what, &self.now, true),
                self.figure(what, &sounds, true),
                0.5,
            );
        if !helps {
            return Ok(None);
        }
        self.now = sounds;
        Ok(Some(trial))
    }

    /// What a key that goes down starts.
    fn strands(&self) -> impl Iterator<Item = &Strand> {
        self.program
            .strands
            .iter()
            .filter(|strand| matches!(strand.on, On::KeyDown(_)) && !strand.muted)
    }

    fn each_strand(&self, of: impl Fn(&Strand) -> Vec<(Fact, Value)>) -> Vec<Wish> {
        self.strands()
            .flat_map(|strand| {
                of(strand)
                    .into_iter()
                    .map(|(fact, value)| wish(Target::Strand(strand.id), fact, value))
            })
            .collect()
    }

    /// The mean of something over the passages that a match is found by.
    fn mean(&self, of: impl Fn(&PassageApart) -> Option<f64>) -> Option<f64> {
        mean(self.aparts(&self.now, false).iter().filter_map(of))
    }

    /// What is worth trying of what one figure tells.
    fn trials(&self, what: Nearer) -> Vec<Trial> {
        match what {
            Nearer::Level => self.level(),
            Nearer::StrikeToLevel => self.strike_to_level(),
            Nearer::Pitch => self.pitch(),
            Nearer::Attack => self.attack(),
            Nearer::Release => self.release(),
            Nearer::Cutoff => self.cutoff(),
            Nearer::Tone | Nearer::Width | Nearer::Chorus => Vec::new(),
        }
    }

    fn level(&self) -> Vec<Trial> {
        let Some(db) = self
            .mean(|apart| apart.level_db)
            .filter(|db| db.abs() > LEAST_LEVEL_DB)
        else {
            return Vec::new();
        };
        let wishes = self.each_strand(|strand| {
            let to = (strand.gain_db + db).clamp(-96.0, 48.0);
            vec![(Fact::StrandGainDb, json!(rounded(to, 100.0)))]
        });
        vec![Trial {
            says: format!("{db:+.1} dB of level"),
            wishes,
        }]
    }

    fn strike_to_level(&self) -> Vec<Trial> {
        let of = |hard: bool| {
            let all = beside(self.passages, self.source, &self.now);
            let strikes = || all.iter().map(|one| one.passage.strike);
            let middle = strikes().min()?.midpoint(strikes().max()?);
            let chosen = all
                .iter()
                .filter(|one| !one.judges && (one.passage.strike > middle) == hard);
            mean(chosen.filter_map(|one| one.apart.level_db))
        };
        let (Some(soft), Some(hard)) = (of(false), of(true)) else {
            return Vec::new();
        };
        let by = (hard - soft) / DB_PER_STRIKE;
        if (hard - soft).abs() < 2.0 * LEAST_LEVEL_DB {
            return Vec::new();
        }
        let wishes = self.each_strand(|strand| {
            let now = self
                .program
                .shape_of(strand)
                .map_or(0.0, |shape| shape.loudness.velocity_to_level);
            vec![(
                Fact::ShapeStrikeToLevel,
                json!(rounded((now + by).clamp(0.0, 1.0), 1_000.0)),
            )]
        });
        vec![Trial {
            says: format!("the strike drives level by {:+.0} %", by * 100.0),
            wishes,
        }]
    }

    fn pitch(&self) -> Vec<Trial> {
        let Some(cents) = self.mean(|apart| apart.cents).filter(|cents| cents.abs() > 1.0) else {
            return Vec::new();
        };
        let wishes = self.each_strand(|strand| {
            vec![(
                Fact::StrandTuneCents,
                json!(rounded(
                    (strand.tune_cents + cents).clamp(-1_200.0, 1_200.0),
                    10.0
                )),
            )]
        });
        vec![Trial {
            says: format!("tuned by {cents:+.1} cents"),
            wishes,
        }]
    }

    fn attack(&self) -> Vec<Trial> {
        let Some(later) = self.mean(|apart| apart.attack_ms).filter(|ms| ms.abs() > 4.0) else {
            return Vec::new();
        };
        let trial = |share: f64| {
            let to = |now: f64| rounded((now + later * share).clamp(0.0, 2_000.0), 10.0);
            Trial {
                says: format!("an attack {} by {:.0} ms", longer(later), (later * share).abs()),
                wishes: self.each_strand(|strand| {
                    let now = self
                        .program
                        .shape_of(strand)
                        .map_or(0.0, |shape| shape.loudness.attack_ms);
                    vec![(Fact::ShapeAttackMs, json!(to(now)))]
                }),
            }
        };
        [0.6, 1.0, 1.4].map(trial).into()
    }

    fn release(&self) -> Vec<Trial> {
        let Some(later) = self.mean(|apart| apart.tail_ms).filter(|ms| ms.abs() > 15.0) else {
            return Vec::new();
        };
        // A release is told for 100 dB, a tail for 40.
        let trial = |share: f64| {
            let to = |now: f64| rounded((now + later * 2.5 * share).clamp(1.0, 60_000.0), 1.0);
            Trial {
                says: format!(
                    "a release {} by {:.0} ms",
                    longer(later),
                    (later * 2.5 * share).abs()
                ),
                wishes: self.each_strand(|strand| {
                    let now = self
                        .program
                        .shape_of(strand)
                        .map_or(0.0, |shape| shape.loudness.release_ms);
                    vec![(Fact::ShapeReleaseMs, json!(to(now)))]
                }),
            }
        };
        [0.5, 0.8, 1.0].map(trial).into()
    }

    /// Mean of each third of an octave that some passages tell.
    fn bands(&self, built: &[PassageSound]) -> [Option<f64>; THIRD_OCTAVES] {
        let aparts = self.aparts(built, false);
        std::array::from_fn(|band| mean(aparts.iter().filter_map(|apart| *apart.bands_db.get(band)?)))
    }

    fn cutoff(&self) -> Vec<Trial> {
        let bands = self.bands(&self.now);
        let known: Vec<(usize, f64)> = bands
            .iter()
            .enumerate()
            .filter_map(|(n, db)| Some((n, (*db)?)))
            .collect();
        let (Some(first), Some(last)) = (known.first(), known.last()) else {
            return Vec::new();
        };
        let middle = first.0.midpoint(last.0);
        let part = |high: bool| {
            mean(
                known
                    .iter()
                    .filter(|(n, _)| (*n > middle) == high)
                    .map(|(_, db)| *db),
            )
        };
        let (Some(low), Some(high)) = (part(false), part(true)) else {
            return Vec::new();
        };
        let brighter = high - low;
        let has_one = self.strands().any(|strand| {
            self.program
                .shape_of(strand)
                .is_some_and(|shape| shape.filter.is_some())
        });
        if brighter.abs() < 1.0 || (!has_one && brighter > 0.0) {
            return Vec::new();
        }
        if has_one {
            let trial = |octaves: f64| Trial {
                says: format!(
                    "a cutoff {} by {:.1} octaves",
                    if brighter > 0.0 { "higher" } else { "lower" },
                    octaves
                ),
                wishes: self.each_strand(|strand| {
                    let filter = self.program.shape_of(strand).and_then(|shape| shape.filter);
                    let Some(filter) = filter else { return Vec::new() };
                    let to = filter.cutoff_hz * 2f64.powf(octaves.copysign(brighter));
                    vec![(Fact::FilterCutoffHz, json!(to.clamp(20.0, 20_000.0).round()))]
                }),
            };
            return [0.25, 0.5, 1.0, 1.5, 2.0, 2.5, 3.0, 4.0].map(trial).into();
        }
        let form = json!(FilterForm {
            passes: Passes::Low,
            poles: 2
        });
        let trial = |cutoff: f64, follow: f64| Trial {
            says: format!(
                "a low-pass at {cutoff:.0} Hz{}",
                if follow > 0.0 { " that follows the key" } else { "" }
            ),
            wishes: self.each_strand(|_| {
                vec![
                    (Fact::FilterForm, form.clone()),
                    (Fact::FilterCutoffHz, json!(cutoff)),
                    (Fact::FilterKeyFollow, json!(follow)),
                ]
            }),
        };
        [700.0, 1_400.0, 2_800.0, 5_600.0, 11_200.0]
            .into_iter()
            .flat_map(|cutoff| [trial(cutoff, 0.0), trial(cutoff, 1.0)])
            .collect()
    }

    /// A row of the whole with one more effect at its end, set to some of its values.
    fn effect(&self, kind: EffectKind, settings: &[f64]) -> Vec<Wish> {
        let row = self.program.buses.iter().find(|bus| bus.id == BusId::WHOLE);
        let known = row.map_or(0, |row| {
            row.effects.iter().map(|effect| effect.id.0).max().unwrap_or(0)
        });
        let added = (self.wishes.iter())
            .filter(|wish| wish.fact == Fact::EffectKind)
            .count() as u64;
        let id = EffectId(known + 1 + added);
        let target = Target::Effect(BusId::WHOLE, id.0);
        let set = EFFECT_SETTINGS.iter().zip(settings);
        let settings = set.map(|(fact, value)| wish(target, *fact, json!(rounded(*value, 100.0))));
        std::iter::once(wish(target, Fact::EffectKind, json!(kind)))
            .chain(settings)
            .collect()
    }

    /// A chorus, where the source moves more: how deep around what delay from afar, then one setting of the best after another.
    fn chorus(&mut self) -> Result<Option<Trial>, P::Error> {
        const AROUND_MS: [f64; 8] = [3.0, 4.5, 6.0, 7.5, 9.0, 11.0, 14.0, 18.0];
        const DEEP_MS: [f64; 4] = [0.8, 1.5, 2.5, 4.5];
        /// Places in [`program::EffectKind::settings`], and by what the setting there is multiplied.
        const NEAR: [(usize, &[f64]); 7] = [
            (0, &[0.4, 0.6, 0.8, 1.25, 1.6, 2.5]),
            (2, &[0.6, 0.8, 0.9, 1.1, 1.3]),
            (3, &[0.88, 0.92, 0.96, 1.04, 1.08, 1.12]),
            (1, &[0.7, 0.85, 1.15, 1.3]),
            (0, &[0.7, 0.85, 1.15, 1.3]),
            (3, &[0.96, 0.98, 1.02, 1.04]),
            (2, &[0.9, 0.95, 1.05, 1.1]),
        ];
        let moves = self.mean(|apart| Some(apart.moves_db)).unwrap_or(0.0);
        if moves < 0.4 {
            return Ok(None);
        }
        let mut afar: Vec<[f64; 5]> = Vec::new();
        for voices in [0.0, 1.0] {
            for around in AROUND_MS {
                let deep = DEEP_MS.into_iter().filter(|deep| *deep < around);
                afar.extend(deep.map(|deep| [0.7, deep, 45.0, around, voices]));
            }
        }
        let Some(mut best) = self.best_chorus(afar)? else {
            return Ok(None);
        };
        for (place, shares) in NEAR {
            let mut near = vec![best];
            near.extend(shares.iter().map(|share| {
                let mut near = best;
                near[place] = rounded(best[place] * share, 100.0);
                near
            }));
            best = self.best_chorus(near)?.unwrap_or(best);
        }
        let trial = self.chorus_of(&best);
        self.best(Nearer::Chorus, vec![trial])
    }

    fn chorus_of(&self, settings: &[f64; 5]) -> Trial {
        Trial {
            says: format!(
                "a chorus of {} Hz, {} ms deep around {} ms, {:.0} % of it",
                settings[0], settings[1], settings[3], settings[2]
            ),
            wishes: self.effect(EffectKind::Chorus, settings),
        }
    }

    /// The best of some choruses, by notes and chords at the harder of their strikes: there is more to hear in them.
    fn best_chorus(&mut self, all: Vec<[f64; 5]>) -> Result<Option<[f64; 5]>, P::Error> {
        let is_harder = |one: &Passage| {
            let same = self.passages.iter().filter(|other| other.keys == one.keys);
            same.map(|other| other.strike).max() == Some(one.strike)
        };
        let wanted: Vec<bool> = (self.passages.iter().zip(&self.finds))
            .map(|(passage, finds)| *finds && is_harder(passage))
            .collect();
        let tried = |settings: &[f64; 5]| [self.wishes.clone(), self.chorus_of(settings).wishes].concat();
        let with: Vec<Vec<Wish>> = all.iter().map(tried).collect();
        let sounds = self.plays.sounds(&with, found_by(&wanted))?;
        let ranked = (all.into_iter().zip(sounds))
            .map(|(settings, sounds)| (self.figure(Nearer::Chorus, &sounds, false), settings));
        Ok(ranked
            .min_by(|a, b| a.0.total_cmp(&b.0))
            .map(|(_, settings)| settings))
    }

    fn width(&mut self) -> Result<Option<Trial>, P::Error> {
        let wider = self.mean(|apart| Some(apart.side_db)).unwrap_or(0.0);
        if wider.abs() < 0.7 {
            return Ok(None);
        }
        let percent = 100.0 * 10f64.powf(wider / 20.0);
        let trials = [0.7, 1.0, 1.3].map(|share| {
            let percent = (100.0 + (percent - 100.0) * share).clamp(0.0, 200.0);
            Trial {
                says: format!("sides {percent:.0} % as wide"),
                wishes: self.effect(EffectKind::Width, &[percent]),
            }
        });
        self.best(Nearer::Width, trials.into())
    }

    /// An equaliser: what each of its bands does is heard, and least squares tell how much of each.
    fn tone(&mut self) -> Result<Option<Trial>, P::Error> {
        let wanted = self.bands(&self.now);
        let known: Vec<usize> = (0..THIRD_OCTAVES)
            .filter(|band| wanted[*band].is_some())
            .collect();
        let (Some(first), Some(last)) = (known.first(), known.last()) else {
            return Ok(None);
        };
        let at = |share: f64| {
            let (low, high) = (third_octave_hz(*first).log2(), third_octave_hz(*last).log2());
            2f64.powf(low + (high - low) * share)
        };
        let places = [
            at(0.2).clamp(20.0, 2_000.0),
            at(0.5).clamp(50.0, 16_000.0),
            at(0.8).clamp(500.0, 18_000.0),
        ];
        let settings = |gains: [f64; 3]| {
            let [low, middle, high] = places.map(f64::round);
            [gains[0], low, gains[1], middle, 0.6, gains[2], high]
        };
        let trial = |search: &Self, gains: [f64; 3]| Trial {
            says: format!(
                "a tone of {:+.1} dB at {:.0} Hz, {:+.1} dB at {:.0} Hz and {:+.1} dB at {:.0} Hz",
                gains[0], places[0], gains[1], places[1], gains[2], places[2]
            ),
            wishes: search.effect(EffectKind::Equaliser, &settings(gains)),
        };
        let over =
            |search: &Self, gains: [f64; 3]| [search.wishes.clone(), trial(search, gains).wishes].concat();
        let tried: Vec<Vec<Wish>> = (0..3)
            .map(|n| {
                let mut gains = [0.0; 3];
                gains[n] = TRIED_DB;
                over(self, gains)
            })
            .collect();
        let sounds = self.plays.sounds(&tried, found_by(&self.finds))?;
        // What a band does to each third of an octave, by dB of it, level aside.
        let does: Vec<[Option<f64>; THIRD_OCTAVES]> =
            sounds.iter().map(|sounds| self.bands(sounds)).collect();
        let rows: Vec<([f64; 3], f64)> = (known.iter())
            .filter_map(|band| {
                let mut row = [0.0; 3];
                for (slot, does) in row.iter_mut().zip(&does) {
                    *slot = (wanted[*band]? - does[*band]?) / TRIED_DB;
                }
                Some((row, wanted[*band]?))
            })
            .collect();
        let Some(gains) = least_squares(&rows) else {
            return Ok(None);
        };
        let trials = [0.6, 0.85, 1.0].map(|share| {
            let gains = gains.map(|db| rounded((db * share).clamp(-MOST_TONE_DB, MOST_TONE_DB), 10.0));
            trial(self, gains)
        });
        self.best(Nearer::Tone, trials.into())
    }
}

fn longer(by: f64) -> &'static str {
    if by > 0.0 { "longer" } else { "shorter" }
}

fn rounded(value: f64, parts: f64) -> f64 {
    (value * parts).round() / parts
}

/// What times three columns comes nearest to what is wanted: the normal equations, with a little weight on small values where columns are alike, solved by Cramer's
/// rule. `None` where they tell nothing.
fn least_squares(rows: &[([f64; 3], f64)]) -> Option<[f64; 3]> {
    const WEIGHT: f64 = 0.02;
    let mut m = [[0.0; 3]; 3];
    let mut v = [0.0; 3];
    for (row, wanted) in rows {
        for i in 0..3 {
            v[i] += row[i] * wanted;
            for j in 0..3 {
                m[i][j] += row[i] * row[j];
            }
        }
    }
    for (i, row) in m.iter_mut().enumerate() {
        row[i] += WEIGHT;
    }
    let det = |m: &[[f64; 3]; 3]| {
        m[0][0] * (m[1][1] * m[2][2] - m[1][2] * m[2][1]) - m[0][1] * (m[1][0] * m[2][2] - m[1][2] * m[2][0])
            + m[0][2] * (m[1][0] * m[2][1] - m[1][1] * m[2][0])
    };
    let whole = det(&m);
    if whole.abs() < 1e-9 {
        return None;
    }
    Some(std::array::from_fn(|column| {
        let mut with = m;
        for (row, value) in with.iter_mut().zip(v) {
            row[column] = value;
        }
        det(&with) / whole
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use instrument::Score;

    /// Plays every passage at a level that strands set, 20 dB under full scale, and nothing else of it.
    struct Levels {
        passages: usize,
        tried: usize,
    }

    fn sound(level_dbfs: f64) -> PassageSound {
        PassageSound {
            level_dbfs: Some(level_dbfs),
            bands_db: vec![None; THIRD_OCTAVES],
            course_db: vec![level_dbfs],
            ..PassageSound::default()
        }
    }

    impl Plays for Levels {
        type Error = String;

        fn sounds(&mut self, with: &[Vec<Wish>], _: Wanted<'_>) -> Result<Vec<Vec<PassageSound>>, String> {
            self.tried += with.len();
            if self.tried > 20 {
                return Err("it was stopped".to_owned());
            }
            let gain = |wishes: &Vec<Wish>| {
                let said = wishes.iter().rfind(|wish| wish.fact == Fact::StrandGainDb);
                match said.map(|wish| &wish.after) {
                    Some(Said::Value(value)) => value.as_f64().unwrap_or(0.0),
                    _ => 0.0,
                }
            };
            let all = |wishes| vec![sound(-20.0 + gain(wishes)); self.passages];
            Ok(with.iter().map(all).collect())
        }
    }

    #[test]
    fn what_is_louder_is_raised_by_that_and_nothing_else_is_proposed() {
        let passages = Score::of_keys(&(40..=80).collect::<Vec<u8>>()).passages();
        let program = Program::plain("tones", Vec::new(), Vec::new());
        let mut plays = Levels {
            passages: passages.len(),
            tried: 0,
        };
        let at = |db: f64| vec![sound(db); passages.len()];
        let found = find_match(&program, (&passages, &at(-14.0), at(-20.0)), &mut plays).unwrap();
        let [level] = &found.proposals[..] else {
            panic!("{found:?}");
        };
        assert_eq!(
            (level.what, &level.says[..]),
            (Some(Nearer::Level), "+6.0 dB of level")
        );
        assert_eq!(level.after.level_db, 0.0);
        assert_eq!(found.together, None, "one alone is all of it");
        let same = find_match(&program, (&passages, &at(-20.0), at(-20.0)), &mut plays).unwrap();
        assert_eq!(same.proposals, []);
        plays.tried = 20;
        let stopped = find_match(&program, (&passages, &at(-14.0), at(-20.0)), &mut plays);
        assert_eq!(stopped, Err("it was stopped".to_owned()));
    }

    #[test]
    fn three_columns_are_fitted() {
        let rows: Vec<([f64; 3], f64)> = (0..12)
            .map(|n| {
                let n = f64::from(n);
                let row = [1.0 / (1.0 + n), (n * 0.7).sin(), n / 12.0];
                (row, 3.0 * row[0] - 2.0 * row[1] + 5.0 * row[2])
            })
            .collect();
        let found = least_squares(&rows).unwrap();
        for (found, put) in found.iter().zip([3.0, -2.0, 5.0]) {
            assert!((found - put).abs() < 0.15, "{found} {put}");
        }
        assert_eq!(least_squares(&[]).map(|all| all.map(f64::abs)), Some([0.0; 3]));
    }
}
