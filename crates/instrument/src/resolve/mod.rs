//! The one place where what was measured, what follows from it and what was said become an instrument: its takes as they are treated, and
//! the program. The page's view, jobs and exports begin here.

use crate::brought::lay_brought;
use crate::panel::lay_panel;
use crate::{
    ANOTHER_NOTE_CENTS, Advice, Brought, Cell, Correction, Fact, Facts, Kind, MapSettings, Missing, Origin,
    Panel, PlacedTake, Plan, RegionSaid, Ring, StrandSaid, Suggestion, TakeLoop, Target, Treatment, advice,
    heard_for, key_name, lay_by_hand, lay_strands, make_program, map_of, missing, plan_of, said_of,
    said_of_regions, said_of_strands, suggest, treat, wants_a_loop,
};
use program::{Program, Sample};
use signal::{Levels, LoopFacts, MEASURE_VERSION, Measurement};
use std::collections::HashMap;

mod curves;
mod outline;

pub use outline::{Extent, Outline, OutlinedTake, outline};

/// A take without its audio.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordedTake {
    /// Its number.
    pub id: u64,
    /// Where it belongs.
    pub cell: Cell,
    /// Frames per second.
    pub rate_hz: u32,
    /// Of its recording.
    pub channels: u16,
    /// Length.
    pub frames: u64,
    /// Where it came from.
    pub origin: Origin,
}

/// What follows from a measurement for a take of a kind, at a key.
#[derive(Debug, Clone, PartialEq)]
pub struct Suggested {
    /// What its instrument is.
    pub kind: Kind,
    /// Its cell's key.
    pub key: u8,
    /// What is done to it by itself.
    pub suggestion: Suggestion,
}

impl Suggested {
    /// By today's rules.
    pub fn now(kind: Kind, take: &RecordedTake, measured: &Measurement) -> Self {
        let key = take.cell.key;
        let inside = take.origin.inside.as_ref();
        let by_rule = || {
            let facts = heard_for(key, measured.clone());
            suggest(kind, key, take.rate_hz, take.frames, &facts, inside)
        };
        Self {
            kind,
            key,
            suggestion: take.origin.as_made.clone().unwrap_or_else(by_rule),
        }
    }
}

/// What counts of a take: what one version measured, and what followed from it then.
#[derive(Debug, Clone, PartialEq)]
pub struct Counted {
    /// What was measured.
    pub facts: Measurement,
    /// What followed, for each kind and key that was asked for.
    pub suggested: Vec<Suggested>,
}

impl Counted {
    /// What followed from it for a kind at a key; `None` where nobody asked yet.
    pub fn suggested(&self, kind: Kind, key: u8) -> Option<&Suggestion> {
        let of = self.suggested.iter().find(|of| (of.kind, of.key) == (kind, key));
        of.map(|of| &of.suggestion)
    }
}

/// What a measured take comes to.
#[derive(Debug, Clone, PartialEq)]
pub struct Followed {
    /// What was measured, heard for its cell.
    pub facts: Measurement,
    /// What is done by itself.
    pub suggestion: Suggestion,
    /// What is done.
    pub treatment: Treatment,
    /// What its loop is worth; `None` where it has none or turns in place, and until it is judged.
    pub seam: Option<LoopFacts>,
    /// Whether what is done by itself follows by today's rules, having never been asked for: it is kept from now on.
    pub is_new: bool,
}

/// Lays what was said of a take over what follows for it, with what loops are worth that measuring did not find. What followed once stays: a changed rule
/// changes nothing that was finished.
pub fn follow(
    kind: Kind,
    take: &RecordedTake,
    counted: Counted,
    said: &Correction,
    judged: &ByTreatment<LoopFacts>,
) -> Followed {
    let key = take.cell.key;
    let known = counted.suggested(kind, key).cloned();
    let is_new = known.is_none();
    let suggestion = known.unwrap_or_else(|| Suggested::now(kind, take, &counted.facts).suggestion);
    let facts = heard_for(key, counted.facts);
    let mut treatment = treat(key, &suggestion, said, take.frames);
    let seam = treatment.loop_name(&facts).and_then(|name| {
        let measured = treatment.measured_loop(&facts);
        measured.or_else(|| judged.get(&(take.id, name)).copied())
    });
    // What is heard while the key is held is the loop: cents follow from the one that was set by hand, too.
    if let Some(cents) = cents_of_own_loop(take, &facts, &suggestion, said, seam) {
        treatment.recording_cents = cents;
    }
    Followed {
        facts,
        suggestion,
        treatment,
        seam,
        is_new,
    }
}

/// How far a take lies above its root while its loop goes round, where its maker set that and nothing else of its pitch, and it was listened to.
fn cents_of_own_loop(
    take: &RecordedTake,
    facts: &Measurement,
    suggestion: &Suggestion,
    said: &Correction,
    seam: Option<LoopFacts>,
) -> Option<f64> {
    let inside = take.origin.inside.as_ref();
    let rooted = said.no_pitch
        || take.origin.as_made.is_some()
        || said.recording_cents.is_some()
        || said.root_key.is_some()
        || inside.is_some_and(|inside| inside.root_key.is_some());
    let by_hand = matches!(said.looped, Some(Some(_)));
    if rooted || !by_hand {
        return None;
    }
    let in_tune = |cents: &f64| cents.abs() < ANOTHER_NOTE_CENTS;
    let held = seam?.held_cents.filter(in_tune)?;
    // What the suggested loop made of it is taken back.
    let suggested = facts
        .loops
        .iter()
        .find(|found| Some(TakeLoop::found(found)) == suggestion.looped)
        .and_then(|found| found.held_cents)
        .filter(in_tune);
    let cents = suggestion.recording_cents - suggested.unwrap_or(0.0) + held;
    Some((cents * 100.0).round() / 100.0)
}

/// Facts of takes by their number and the name of what is done to them.
pub type ByTreatment<T> = HashMap<(u64, String), T>;

/// All that is known of an instrument.
#[derive(Debug)]
pub struct Known<'a> {
    /// Its name when it was made.
    pub name: &'a str,
    /// Its plan when it was made.
    pub plan: &'a Plan,
    /// What was said.
    pub said: &'a Facts,
    /// What was brought, where others made it.
    pub brought: Option<&'a Brought>,
    /// Its takes, oldest first, with what counts of those that are measured.
    pub takes: Vec<(RecordedTake, Option<Counted>)>,
    /// Levels of takes as they were cleaned.
    pub cleaned_levels: &'a ByTreatment<Levels>,
    /// What loops are worth that measuring did not find.
    pub judged_loops: &'a ByTreatment<LoopFacts>,
}

/// An instrument as it stands.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// Its name.
    pub name: String,
    /// Words to find it by.
    pub tags: Vec<String>,
    /// What is recorded.
    pub plan: Plan,
    /// How rungs share keys.
    pub map: MapSettings,
    /// Its takes, oldest first.
    pub takes: Vec<ResolvedTake>,
    /// What sounds.
    pub program: Program,
    /// What whoever plays it sees and moves.
    pub panel: Panel,
    /// Of each of its regions: what it is called, and what was set by hand.
    pub regions: Vec<RegionSaid>,
    /// Of each of its strands the same.
    pub strands: Vec<StrandSaid>,
    /// What the takes so far tell about the plan.
    pub advice: Vec<Advice>,
    /// What follows from measurements by today's rules and was not kept yet: take, and version of what measured it.
    pub followed: Vec<(u64, u32, Suggested)>,
}

/// A take as it stands. What follows from its measurement is `None` until it is measured.
#[derive(Debug, Clone)]
pub struct ResolvedTake {
    /// As it was recorded.
    pub recorded: RecordedTake,
    /// Whether it is the chosen one of its cell.
    pub chosen: bool,
    /// What was measured, heard for its cell.
    pub facts: Option<Measurement>,
    /// Whether an earlier version measured it: measured again, it may be suggested otherwise.
    pub outdated: bool,
    /// What is done by itself.
    pub suggestion: Option<Suggestion>,
    /// What was said.
    pub correction: Correction,
    /// What is done.
    pub treatment: Option<Treatment>,
    /// A name of what cleaning makes of it; `None` where nothing is cleaned.
    pub cleaned: Option<String>,
    /// How loud it is before its gain: as recorded, or as it is cleaned; `None` until that is known.
    pub levels: Option<Levels>,
    /// What its loop is worth; `None` where it has none or turns in place, and until it is judged.
    pub seam: Option<LoopFacts>,
    /// Where the loudness of its layer runs at its key, gains included, in LUFS; `None` where too few takes tell.
    pub curve_lufs: Option<f64>,
    /// Where the instrument's own tuning runs at its key, in cents from the planned one; `None` where too few takes tell.
    pub curve_cents: Option<f64>,
    /// What it should have, being of its kind, and was not found; nothing until it is measured.
    pub missing: Vec<Missing>,
}

/// What follows from all that is known and said of an instrument.
pub fn resolve(known: Known<'_>) -> Resolved {
    let said = known.said;
    let plan = plan_of(known.plan, said);
    let name = said_of(said, Fact::Name).unwrap_or_else(|| known.name.to_owned());
    let map = map_of(said);
    let candidates = known.takes.iter().map(|(take, _)| Candidate::of(take));
    let chosen = chosen(candidates, said);
    let mut followed = Vec::new();
    let mut takes: Vec<ResolvedTake> = known
        .takes
        .into_iter()
        .map(|(recorded, counted)| {
            let is_chosen = chosen.get(&recorded.cell) == Some(&recorded.id);
            let correction = Correction::of(recorded.id, said).made_for(&plan, recorded.cell);
            let mut take = ResolvedTake::unmeasured(recorded, is_chosen, correction);
            if let Some(counted) = counted {
                let version = counted.facts.version;
                let kind = plan.kind_of(take.recorded.cell.pass);
                let follows = follow(
                    kind,
                    &take.recorded,
                    counted,
                    &take.correction,
                    known.judged_loops,
                );
                if follows.is_new {
                    let suggested = Suggested {
                        kind,
                        key: take.recorded.cell.key,
                        suggestion: follows.suggestion.clone(),
                    };
                    followed.push((take.recorded.id, version, suggested));
                }
                take.measured(&plan, follows, known.cleaned_levels);
            }
            take
        })
        .collect();
    curves::tell_tuning(&mut takes);
    curves::tell_levels(&mut takes);
    let placed: Vec<PlacedTake> = takes.iter().filter_map(|take| take.placed(&plan)).collect();
    let rings: Vec<Ring> = takes.iter().filter_map(|take| take.ring(&plan)).collect();
    let brought = known.brought.filter(|_| is_as_brought(said));
    let (program, panel) = program_of(&name, &plan, &map, &placed, (said, brought));
    Resolved {
        regions: said_of_regions(&program, said),
        strands: said_of_strands(&program, said, brought.is_some()),
        tags: said_of(said, Fact::Tags).unwrap_or_default(),
        program,
        panel,
        advice: advice(&plan, &rings),
        name,
        plan,
        map,
        takes,
        followed,
    }
}

/// Whether regions are those that were brought, where any were.
fn is_as_brought(said: &Facts) -> bool {
    said_of(said, Fact::AsBrought).unwrap_or(true)
}

/// What sounds: as it was brought or by rule, with what was said of regions and of strands laid over it.
fn program_of(
    name: &str,
    plan: &Plan,
    map: &MapSettings,
    placed: &[PlacedTake],
    (said, brought): (&Facts, Option<&Brought>),
) -> (Program, Panel) {
    let mut program = match brought {
        Some(brought) => lay_brought(brought, name, placed),
        None => make_program(name, plan, map, placed),
    };
    lay_by_hand(&mut program, said);
    lay_strands(&mut program, said);
    program.credits = said_of(said, Fact::Credits).unwrap_or(program.credits);
    program.licence = said_of(said, Fact::Licence).unwrap_or(program.licence);
    program.most_voices = said_of(said, Fact::MostVoices).unwrap_or(program.most_voices);
    let panel = lay_panel(&mut program, said);
    (program, panel)
}

impl ResolvedTake {
    fn unmeasured(recorded: RecordedTake, chosen: bool, correction: Correction) -> Self {
        Self {
            recorded,
            chosen,
            facts: None,
            outdated: false,
            suggestion: None,
            correction,
            treatment: None,
            cleaned: None,
            levels: None,
            seam: None,
            curve_lufs: None,
            curve_cents: None,
            missing: Vec::new(),
        }
    }

    fn measured(&mut self, plan: &Plan, of: Followed, cleaned_levels: &ByTreatment<Levels>) {
        let Followed {
            facts,
            suggestion,
            treatment,
            seam,
            ..
        } = of;
        let RecordedTake {
            id,
            cell,
            rate_hz,
            frames,
            ref origin,
            ..
        } = self.recorded;
        self.cleaned = treatment.cleaned_name(&facts);
        self.levels = match &self.cleaned {
            Some(name) => cleaned_levels.get(&(id, name.clone())).copied(),
            None => Some(facts.levels()),
        };
        self.seam = seam;
        self.missing = plan.pass(cell.pass).map_or_else(Vec::new, |pass| {
            let lies = (rate_hz, frames);
            missing(
                plan.kind,
                pass.sounds_on,
                &facts,
                lies,
                origin,
                &self.correction,
                Some(&treatment),
            )
        });
        self.outdated = facts.version < MEASURE_VERSION;
        self.facts = Some(facts);
        self.suggestion = Some(suggestion);
        self.treatment = Some(treatment);
    }

    /// Where it sounds; `None` where another of its cell is chosen, and until it is measured, unless whoever made it did what there is to do.
    fn placed(&self, plan: &Plan) -> Option<PlacedTake> {
        let recorded = &self.recorded;
        let untouched =
            |made: &Treatment| treat(recorded.cell.key, made, &Correction::default(), recorded.frames);
        let as_made = recorded.origin.as_made.as_ref().map(untouched);
        let treatment = self.treatment.clone().or_else(|| as_made.clone());
        let treatment = treatment.filter(|_| self.chosen)?;
        Some(PlacedTake {
            cell: recorded.cell,
            sample: Sample {
                id: program::SampleId::default(),
                name: sound_name(plan, recorded),
                source: source_of(recorded.id, self.cleaned.clone()),
                rate_hz: recorded.rate_hz,
                first_channel: 0,
                source_channels: recorded.channels,
                channels: recorded.channels,
                frames: recorded.frames,
            },
            treatment,
            as_made,
            falls_silent_ms: self.facts.as_ref().and_then(|facts| facts.falls_silent_ms),
        })
    }

    /// What it tells about its plan.
    fn ring(&self, plan: &Plan) -> Option<Ring> {
        let (facts, recorded) = (self.facts.as_ref()?, &self.recorded);
        let frames = facts.end_frame.saturating_sub(facts.start_frame);
        Some(Ring {
            pass: recorded.cell.pass,
            seconds: frames as f64 / f64::from(recorded.rate_hz),
            cut_off: facts.end_frame as u64 >= recorded.frames,
            beats_s: facts.beats.map(|beats| beats.seconds),
            wants_a_loop: wants_a_loop(plan.kind_of(recorded.cell.pass), recorded.rate_hz, facts),
        })
    }
}

/// A take that may be the chosen one of its cell.
#[derive(Debug, Clone, Copy)]
struct Candidate {
    id: u64,
    cell: Cell,
    /// It is refused, or made from another: used only where somebody says so.
    only_by_word: bool,
}

impl Candidate {
    fn of(take: &RecordedTake) -> Self {
        Self {
            id: take.id,
            cell: take.cell,
            only_by_word: take.origin.only_by_word(),
        }
    }
}

/// The newest take of each cell that is neither refused nor made from another, unless one was chosen.
fn chosen(takes: impl Iterator<Item = Candidate>, facts: &Facts) -> HashMap<Cell, u64> {
    let mut by_cell: HashMap<Cell, (bool, u64)> = HashMap::new();
    for take in takes {
        let said = facts
            .get(&(Target::Take(take.id), Fact::Chosen))
            .and_then(serde_json::Value::as_bool);
        if said == Some(false) || (said.is_none() && take.only_by_word) {
            continue;
        }
        let candidate = (said == Some(true), take.id);
        let best = by_cell.entry(take.cell).or_insert(candidate);
        *best = candidate.max(*best);
    }
    by_cell.into_iter().map(|(cell, (_, id))| (cell, id)).collect()
}

/// A take's place in words: pass, note, layer and turn.
pub fn take_name(plan: &Plan, cell: Cell) -> String {
    let pass = plan.pass(cell.pass);
    let layer = pass.and_then(|pass| pass.layer(cell.layer));
    let mut name = format!(
        "{} {} {}",
        pass.map_or("", |pass| pass.name.as_str()),
        key_name(cell.key, crate::MiddleC::C4),
        layer.map_or("", |layer| layer.name.as_str()),
    );
    if pass
        .zip(layer)
        .is_some_and(|(pass, layer)| pass.round_robins_of(layer) > 1)
    {
        name.push_str(&format!(" {}", cell.round_robin + 1));
    }
    name.trim().to_owned()
}

/// What a take is called where it sounds: one of a kit, or that was brought with an instrument, as its file was; all else by its place.
fn sound_name(plan: &Plan, take: &RecordedTake) -> String {
    let goes_by_file = plan.kind == Kind::Drum || take.origin.as_made.is_some();
    let file = take.origin.file.as_deref().filter(|_| goes_by_file);
    let stem = file.map(|file| {
        let name = file.rsplit(['/', '\\']).next().unwrap_or(file);
        name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()
    });
    stem.filter(|stem| !stem.is_empty())
        .unwrap_or_else(|| take_name(plan, take.cell))
}

/// The name under which a program's sample is brought: the take's number, and what was made of it.
pub fn source_of(take: u64, cleaned: Option<String>) -> String {
    match cleaned {
        Some(name) => format!("{take}~{name}"),
        None => take.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::tests::plan;
    use serde_json::json;
    use signal::{Audio, Pitch, hz_of_key, measure};

    fn recorded(id: u64, key: u8) -> RecordedTake {
        RecordedTake {
            id,
            cell: Cell {
                pass: crate::PassId(0),
                key,
                layer: crate::LayerId(0),
                round_robin: 0,
            },
            rate_hz: 48_000,
            channels: 1,
            frames: 96_000,
            origin: Origin::default(),
        }
    }

    fn counted(key: u8, cents: f64) -> Counted {
        let facts = Measurement {
            start_frame: 4_800,
            end_frame: 90_000,
            pitch: Some(Pitch {
                hz: hz_of_key(f64::from(key) + cents / 100.0),
                key,
                cents,
                confidence: 0.9,
            }),
            ..measure(&Audio::mono(48_000, Vec::new()))
        };
        Counted {
            facts,
            suggested: Vec::new(),
        }
    }

    fn resolved(plan: &Plan, said: &Facts, takes: Vec<(RecordedTake, Option<Counted>)>) -> Resolved {
        resolve(Known {
            name: "Bench",
            plan,
            said,
            brought: None,
            takes,
            cleaned_levels: &HashMap::new(),
            judged_loops: &HashMap::new(),
        })
    }

    #[test]
    fn the_newest_take_of_a_cell_sounds_unless_another_was_chosen() {
        let plan = plan(&[60, 64], &[100], 1);
        let takes = || {
            let of = |id, key| (recorded(id, key), Some(counted(key, 3.0)));
            vec![of(1, 60), of(2, 60), of(3, 64), (recorded(4, 64), None)]
        };
        let newest = resolved(&plan, &Facts::new(), takes());
        let chosen = |of: &Resolved| -> Vec<u64> {
            let chosen = of.takes.iter().filter(|take| take.chosen);
            chosen.map(|take| take.recorded.id).collect()
        };
        assert_eq!(chosen(&newest), [2, 4]);
        // The last is not measured yet: nothing of its cell sounds.
        let sources: Vec<&str> = newest.program.samples.iter().map(|s| s.source.as_str()).collect();
        assert_eq!(sources, ["2"]);
        assert_eq!(newest.program.samples[0].name, "Keys C4 layer 100");
        let said = Facts::from([
            ((Target::Take(1), Fact::Chosen), json!(true)),
            ((Target::Take(4), Fact::Chosen), json!(false)),
        ]);
        assert_eq!(chosen(&resolved(&plan, &said, takes())), [1, 3]);
    }

    #[test]
    fn what_followed_once_stays_and_what_follows_now_is_to_be_kept() {
        let plan = plan(&[60], &[100], 1);
        let first = resolved(
            &plan,
            &Facts::new(),
            vec![(recorded(1, 60), Some(counted(60, 3.0)))],
        );
        let [(1, MEASURE_VERSION, follows)] = &first.followed[..] else {
            panic!("{:?}", first.followed);
        };
        // An earlier version suggested otherwise: that holds.
        let mut earlier = follows.clone();
        earlier.suggestion.start_frame = 17;
        let kept = Counted {
            suggested: vec![earlier],
            ..counted(60, 3.0)
        };
        let later = resolved(&plan, &Facts::new(), vec![(recorded(1, 60), Some(kept))]);
        assert!(later.followed.is_empty());
        let treatment = later.takes[0].treatment.as_ref().unwrap();
        assert_eq!(treatment.start_frame, 17);
        // What is said lies over it.
        let said = Facts::from([((Target::Take(1), Fact::StartFrame), json!(900))]);
        let said = resolved(&plan, &said, vec![(recorded(1, 60), Some(counted(60, 3.0)))]);
        assert_eq!(said.takes[0].treatment.as_ref().unwrap().start_frame, 900);
    }

    #[test]
    fn cents_follow_from_a_loop_that_is_set_by_hand() {
        let plan = plan(&[60], &[100], 1);
        let said = Facts::from([(
            (Target::Take(1), Fact::Loop),
            json!({"start_frame": 9_000, "end_frame": 40_000, "crossfade_frames": 0}),
        )]);
        let take = || vec![(recorded(1, 60), Some(counted(60, 3.0)))];
        let before = resolved(&plan, &said, take());
        let treatment = before.takes[0].treatment.as_ref().unwrap();
        assert_eq!(treatment.recording_cents, 3.0);
        let name = treatment
            .loop_name(before.takes[0].facts.as_ref().unwrap())
            .unwrap();
        let judged = LoopFacts {
            seam_db: None,
            drift_db: 0.0,
            audible_db: None,
            held_cents: Some(-4.5),
        };
        let with = |said: &Facts| {
            let all = resolve(Known {
                name: "Bench",
                plan: &plan,
                said,
                brought: None,
                takes: take(),
                cleaned_levels: &HashMap::new(),
                judged_loops: &HashMap::from([((1, name.clone()), judged)]),
            });
            all.takes[0].treatment.as_ref().unwrap().recording_cents
        };
        assert_eq!(with(&said), -1.5);
        // What was said of its cents goes before.
        let mut more = said.clone();
        more.insert((Target::Take(1), Fact::RecordingCents), json!(7.0));
        assert_eq!(with(&more), 7.0);
    }

    /// Nothing lets it go: it would sound for ever.
    #[test]
    fn what_sounds_as_a_key_comes_up_is_not_looped_by_itself() {
        let mut plan = plan(&[69], &[100], 1);
        let turn = 440.0 * std::f64::consts::TAU / 48_000.0;
        let tone = (0..96_000)
            .map(|n| (f64::from(n) * turn).sin() as f32 * 0.5)
            .collect();
        let facts = measure(&Audio::mono(48_000, tone));
        assert!(!facts.loops.is_empty());
        let of = |plan: &Plan| {
            let counted = Counted {
                facts: facts.clone(),
                suggested: Vec::new(),
            };
            let all = resolved(plan, &Facts::new(), vec![(recorded(1, 69), Some(counted))]);
            (
                all.program.regions[0].looped.is_some(),
                all.takes[0].missing.len(),
            )
        };
        assert_eq!(of(&plan), (true, 0));
        plan.passes[0].sounds_on = program::SoundsOn::KeyUp;
        assert_eq!(of(&plan), (false, 0));
    }

    #[test]
    fn a_chord_has_its_rung_as_root_whatever_is_heard() {
        let mut plan = plan(&[60], &[100], 1);
        let of = |plan: &Plan| {
            let all = resolved(
                plan,
                &Facts::new(),
                vec![(recorded(1, 60), Some(counted(67, 20.0)))],
            );
            let treatment = all.takes[0].treatment.clone().unwrap();
            (treatment.root_key, treatment.recording_cents)
        };
        assert_eq!(of(&plan), (67, 20.0));
        plan.passes[0].chord = vec![4, 7];
        assert_eq!(of(&plan), (60, 0.0));
    }
}
