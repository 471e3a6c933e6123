//! What would bring what was built nearer to its source: tried out as it would sound, and judged on notes that it was not found by.

mod numbers;
mod rows;

use crate::source::{Apart, Nearer, Proposal, judges};
use instrument::{Fact, Passage, Said, Target, Wish};
use program::{On, Program, Strand};
use serde_json::Value;
use signal::{PassageApart, PassageSound, THIRD_OCTAVES};

/// What brings both nearer by less is not worth saying, in dB and as a share.
const LEAST_DB: f64 = 0.15;
const LEAST_SHARE: f64 = 0.03;

/// Plays the passages on what was built.
pub trait Plays {
    /// What goes wrong.
    type Error;

    /// What is heard of every passage that is wanted, `None` of the others, for each list of wishes that is laid over what was said.
    ///
    /// # Errors
    /// Where it cannot be played, or was stopped.
    fn sounds(&mut self, with: &[Vec<Wish>], wanted: Wanted<'_>) -> Result<Vec<Sounds>, Self::Error>;
}

/// What is heard of passages, in their order; `None` of those that were not played.
pub type Sounds = Vec<Option<PassageSound>>;

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

/// Finds what brings both nearer, step by step: each step is kept where it helps both the passages that it was found by and those that judge. What is built is told as it
/// is heard without any of it.
///
/// # Errors
/// Those of who plays.
pub fn find_match<P: Plays>(
    program: &Program,
    (passages, source, built): (&[Passage], &[PassageSound], Vec<PassageSound>),
    plays: &mut P,
) -> Result<Match, P::Error> {
    let judging = judges(passages);
    let mut search = Search {
        program,
        passages,
        source,
        plays,
        all: vec![true; passages.len()],
        finds: judging.iter().map(|judges| !judges).collect(),
        none_judge: !judging.contains(&true),
        judging,
        wishes: Vec::new(),
        now: built.into_iter().map(Some).collect(),
    };
    let mut taken: Vec<(Nearer, Trial)> = Vec::new();
    for what in Nearer::IN_ORDER {
        let found = match what {
            Nearer::Chorus => search.chorus()?,
            Nearer::Tone => search.tone()?,
            Nearer::Width => search.width()?,
            of_strands => {
                let trials = search.trials(of_strands);
                search.best(of_strands, trials)?
            }
        };
        if let Some(trial) = found {
            search.wishes = search.over_now(&trial);
            taken.push((what, trial));
        }
    }
    let alone: Vec<Vec<Wish>> = taken.iter().map(|(_, trial)| trial.wishes.clone()).collect();
    let sounds = search.plays.sounds(
        &alone,
        Wanted {
            passages: &search.all,
            pitch: true,
        },
    )?;
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

/// Something to try: what is said with it, and how.
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
    /// The others; where there are none, all find and judge.
    judging: Vec<bool>,
    none_judge: bool,
    /// What is taken so far, and how it sounds.
    wishes: Vec<Wish>,
    now: Sounds,
}

impl<P: Plays> Search<'_, P> {
    /// Passages that judge, or those that a match is found by, of those that were played.
    fn aparts(&self, built: &Sounds, judging: bool) -> Vec<PassageApart> {
        (self.source.iter().zip(built).zip(&self.judging))
            .filter(|(_, judges)| self.none_judge || **judges == judging)
            .filter_map(|((source, built), _)| Some(source.apart(built.as_ref()?)))
            .collect()
    }

    fn apart(&self, built: &Sounds, judging: bool) -> Apart {
        Apart::of(self.aparts(built, judging).iter())
    }

    /// The same with the mean of all levels aside: what sets that comes last.
    fn level_aside(&self, built: &Sounds, judging: bool) -> Vec<PassageApart> {
        let mut aparts = self.aparts(built, judging);
        let louder = mean(aparts.iter().filter_map(|apart| apart.level_db)).unwrap_or(0.0);
        for db in aparts.iter_mut().filter_map(|apart| apart.level_db.as_mut()) {
            *db -= louder;
        }
        aparts
    }

    /// How far apart they are in what a step is to bring nearer.
    fn figure(&self, what: Nearer, built: &Sounds, judging: bool) -> f64 {
        let mut aparts = match what {
            Nearer::Level | Nearer::Voices => self.aparts(built, judging),
            _ => self.level_aside(built, judging),
        };
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
            Nearer::Tone | Nearer::Cutoff | Nearer::StrikeToCutoff => apart.spectrum_db,
            Nearer::Attack | Nearer::Release => apart.course_db,
            Nearer::Width => apart.side_db,
            Nearer::Voices | Nearer::Chorus => apart.all_db,
        }
    }

    /// What is taken so far with a trial over it: of what both say, the trial's.
    fn over_now(&self, trial: &Trial) -> Vec<Wish> {
        let is_said = |one: &&Wish| {
            let same = |other: &Wish| (other.target, other.fact) == (one.target, one.fact);
            !trial.wishes.iter().any(same)
        };
        let before = self.wishes.iter().filter(is_said);
        before.chain(&trial.wishes).cloned().collect()
    }

    /// The nearest of some trials laid over what is taken so far, by some of the passages that a match is found by.
    fn nearest(
        &mut self,
        what: Nearer,
        trials: Vec<Trial>,
        passages: &[bool],
    ) -> Result<Option<(f64, Trial)>, P::Error> {
        let with: Vec<Vec<Wish>> = trials.iter().map(|trial| self.over_now(trial)).collect();
        let wanted = Wanted {
            passages,
            pitch: what == Nearer::Pitch,
        };
        let sounds = self.plays.sounds(&with, wanted)?;
        let figures = (trials.into_iter().zip(&sounds))
            .map(|(trial, sounds)| (self.figure(what, sounds, false), trial));
        Ok(figures.min_by(|a, b| a.0.total_cmp(&b.0)))
    }

    /// The best of some trials, where it helps enough, those passages too that it was not found by: then it is part of what is heard from now on.
    fn best(&mut self, what: Nearer, trials: Vec<Trial>) -> Result<Option<Trial>, P::Error> {
        let finds = self.finds.clone();
        let Some((found_by, trial)) = self.nearest(what, trials, &finds)? else {
            return Ok(None);
        };
        let with = self.over_now(&trial);
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
        // Nor may all the rest become worse by it; a chord of which one key was heard is another sound.
        let all = |sounds: &Sounds, judging| Apart::of(self.level_aside(sounds, judging).iter()).all_db;
        let harms = [false, true]
            .into_iter()
            .any(|judging| all(&sounds, judging) > all(&self.now, judging) + LEAST_DB);
        let judged = |sounds: &Sounds| self.figure(what, sounds, true);
        let helps = (!harms || what == Nearer::Voices)
            && gained(self.figure(what, &self.now, false), found_by, 1.0)
            && gained(judged(&self.now), judged(&sounds), 0.5);
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

    /// The mean of something over the passages that a match is found by.
    fn mean(&self, of: impl Fn(&PassageApart) -> Option<f64>) -> Option<f64> {
        mean(self.aparts(&self.now, false).iter().filter_map(of))
    }

    /// Mean of each third of an octave that the passages tell that a match is found by.
    fn bands(&self, built: &Sounds) -> [Option<f64>; THIRD_OCTAVES] {
        bands_of(&self.aparts(built, false))
    }
}

/// Mean of each third of an octave that some passages tell.
fn bands_of(aparts: &[PassageApart]) -> [Option<f64>; THIRD_OCTAVES] {
    std::array::from_fn(|band| mean(aparts.iter().filter_map(|apart| *apart.bands_db.get(band)?)))
}

fn wish(target: Target, fact: Fact, value: Value) -> Wish {
    Wish::from((target, fact, Said::Value(value)))
}

fn mean(all: impl Iterator<Item = f64>) -> Option<f64> {
    let all: Vec<f64> = all.collect();
    (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
}

fn rounded(value: f64, parts: f64) -> f64 {
    (value * parts).round() / parts
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
            ..PassageSound::default()
        }
    }

    impl Plays for Levels {
        type Error = String;

        fn sounds(&mut self, with: &[Vec<Wish>], _: Wanted<'_>) -> Result<Vec<Sounds>, String> {
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
            let all = |wishes| vec![Some(sound(-20.0 + gain(wishes))); self.passages];
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
}
