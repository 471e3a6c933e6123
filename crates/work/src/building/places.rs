//! The place of each file of a folder: as a plan names it, or as its name and its sound tell.

use super::files::{FileBuilt, Heard, left_out};
use crate::refusal;
use anyhow::Context;
use instrument::{
    Cell, Change, Fact, Facts, HeardInFile, Kind, LevelOf, PlacedFile, Placing, Plan, PlanFile, Said,
    Spelling, Target, Wish, contradicts, even_normalised, is_normalised, kind_offered, lay_over,
    map_of_files, map_wishes, place_files, plan_with, says_of,
};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

/// The place of a file.
pub(super) struct Place {
    pub(super) take: u64,
    pub(super) cell: Cell,
    /// Index of its file, and of that of its right side.
    pub(super) file: usize,
    pub(super) right: Option<usize>,
    /// As its recording is called; by its place, where it is left out.
    pub(super) called: Option<String>,
    /// Whether its name or its sound placed it.
    pub(super) is_by_name: bool,
    /// What does not agree.
    pub(super) says: Vec<String>,
}

/// A plan, what is said, and a place for each file.
pub(super) struct Placed {
    pub(super) plan: Plan,
    pub(super) said: Facts,
    pub(super) places: Vec<Place>,
}

/// As a plan names them.
pub(super) fn by_plan(
    file: &PlanFile,
    said: Facts,
    names: &[String],
    files: &mut Vec<FileBuilt>,
) -> anyhow::Result<Placed> {
    let plan = file.plan.clone().context("a plan that names files has places")?;
    let place_of: HashMap<&str, usize> = names.iter().map(String::as_str).zip(0..).collect();
    let mut places = Vec::with_capacity(file.recordings.len());
    for of in &file.recordings {
        match place_of.get(of.file.as_str()) {
            Some(&found) => places.push(Place {
                take: of.take,
                cell: of.cell(),
                file: found,
                right: None,
                called: of.called.clone(),
                is_by_name: false,
                says: Vec::new(),
            }),
            None if files.iter().any(|left| left.file == of.file) => {}
            None => files.push(left_out(
                of.file.clone(),
                "The plan names it, and it is not there.",
            )),
        }
    }
    if places.is_empty() {
        return Err(refusal("None of the files that the plan names is there."));
    }
    let named: HashSet<usize> = places.iter().map(|place| place.file).collect();
    for (_, name) in (0..).zip(names).filter(|(n, _)| !named.contains(n)) {
        files.push(left_out(name.clone(), "The plan does not name it."));
    }
    Ok(Placed { plan, said, places })
}

/// As their names and their sound tell, into what is planned.
pub(super) fn by_names(
    (kind, plan): (Option<Kind>, Option<&PlanFile>),
    said_first: Facts,
    (names, good): (&[String], &[(PathBuf, Heard)]),
    files: &mut Vec<FileBuilt>,
) -> anyhow::Result<Placed> {
    let of_takes = |(target, _): &(Target, Fact)| matches!(target, Target::Take(_));
    if said_first.keys().any(of_takes) {
        return Err(refusal(
            "The plan says something of takes, and does not name their files: [[recording]] is missing.",
        ));
    }
    let base = plan.and_then(|file| file.plan.clone());
    let told: Vec<HeardInFile> = good.iter().map(|(_, heard)| heard.told.clone()).collect();
    let placed = place_files(names, &told, Spelling::default(), None);
    let planned = base.as_ref().map(|plan| plan.kind);
    let kind = kind
        .or(planned)
        .unwrap_or_else(|| kind_offered(Kind::Sustained, &told));
    let mut placings: Vec<Placing> = Vec::new();
    let mic = placed.files.iter().find_map(|of| of.guess.mic.clone());
    for of in placed.files {
        let why = if of.key.is_none() {
            "Neither its name nor its sound tells a note."
        } else if of.guess.mic.is_some() && of.guess.mic != mic {
            "It is of another mic: one is built."
        } else {
            placings.push(of);
            continue;
        };
        files.push(left_out(names[of.file].clone(), why));
    }
    if placings.is_empty() {
        return Err(refusal(
            "None of these files tells a note, by its name or by its sound.",
        ));
    }
    let cells: Vec<PlacedFile> = placings.iter().map(in_plan).collect();
    let form = good[placings[0].file].1.form;
    let mut next = 0;
    let mut fresh = || {
        next += 1;
        next
    };
    let (plan, cells) =
        plan_with(base, kind, &placed.layers, &cells, &[], form, &mut fresh).map_err(refusal)?;
    let mut said = Facts::new();
    let levels = levels_of(&placings, good, &cells);
    let evened = even_normalised(&levels);
    let gains = (evened.iter())
        .map(|of| Wish::from((Target::Take(of.take), Fact::GainDb, Said::Value(of.value.into()))));
    let map = map_of_files(&plan).map(map_wishes).unwrap_or_default();
    let change = Change::propose(
        "make an instrument of files",
        &said,
        map.into_iter().map(Wish::from).chain(gains),
    );
    lay_over(&mut said, &change.map_err(|error| refusal(error.0))?.fields);
    said.extend(said_first);
    let places = (0u64..).zip(&placings).zip(cells).map(|((take, of), cell)| {
        let heard = &good[of.file].1;
        let mut says = says_of(&of.guess, &heard.told, of.key);
        if contradicts(&of.guess, &heard.told, of.key) {
            says.push("Look at it: what is heard is another note.".to_owned());
        }
        Place {
            take,
            cell,
            file: of.file,
            right: of.right,
            called: Some(names[of.file].clone()),
            is_by_name: true,
            says,
        }
    });
    Ok(Placed {
        places: places.collect(),
        plan,
        said,
    })
}

fn in_plan(of: &Placing) -> PlacedFile {
    PlacedFile {
        file: of.file as u64,
        right: of.right.map(|right| right as u64),
        key: of.key.unwrap_or_default(),
        layer: of.layer,
        round_robin: of.round_robin,
        key_up: of.guess.key_up,
        mic: None,
        pass: None,
    }
}

/// What says whether a set was normalised; nothing where one of them has no level.
fn levels_of(placings: &[Placing], good: &[(PathBuf, Heard)], cells: &[Cell]) -> Vec<LevelOf> {
    let level = |((take, of), cell): ((u64, &Placing), &Cell)| {
        let told = &good[of.file].1.told;
        Some(LevelOf {
            take,
            cell: *cell,
            peak_dbfs: told.peak_dbfs?,
            loudness_lufs: told.loudness_lufs?,
        })
    };
    let all: Option<Vec<LevelOf>> = (0u64..).zip(placings).zip(cells).map(level).collect();
    all.filter(|levels| is_normalised(levels)).unwrap_or_default()
}
