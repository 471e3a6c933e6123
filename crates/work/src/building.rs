//! An instrument made of a folder of named recordings, without a database or a server: measured, placed by names and sound, trimmed, tuned, looped, laid out.

mod files;
mod places;
mod sounds;

use crate::checking::sides_of;
use crate::treated::judged;
use crate::{Samples, refusal, take_of_source};
use anyhow::Context;
pub use files::FileBuilt;
use files::{Heard, audio_files, heard_all, left_out};
use instrument::{
    ByTreatment, Counted, Facts, Kind, Known, Origin, PlanFile, RecordedTake, Resolved, ResolvedTake,
    resolve, take_name,
};
use places::{Place, Placed, by_names, by_plan};
use program::Sample;
use signal::{Audio, Levels, LoopFacts};
use sounds::Sounds;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// An instrument that was built.
pub struct Built {
    /// All of it.
    pub resolved: Resolved,
    /// What became of each file, by their names.
    pub files: Vec<FileBuilt>,
    /// What was said of it.
    pub said: Facts,
    sounds: Sounds,
}

/// What is to be built.
#[derive(Debug, Clone, Copy)]
pub struct ToBuild<'a> {
    /// The folder of recordings.
    pub folder: &'a Path,
    /// As it is called.
    pub name: &'a str,
    /// What it is; where that is left out, it is planned or heard.
    pub kind: Option<Kind>,
    /// What is planned and said.
    pub plan: Option<&'a PlanFile>,
}

/// Makes an instrument of all audio files in a folder and in those inside it. `progress` is told how far it is, 0 to 1, and stops it by answering false.
///
/// # Errors
/// With a sentence, where there is no audio, none of it tells a note, what is said does not fit, or it was stopped.
pub fn build(wish: ToBuild, progress: &(dyn Fn(f64) -> bool + Sync)) -> anyhow::Result<Built> {
    let ToBuild {
        folder,
        name,
        kind,
        plan,
    } = wish;
    // What can be refused is refused before anything is heard.
    let said = plan.map_or(Ok(Facts::new()), PlanFile::facts).map_err(refusal)?;
    let paths = audio_files(folder)?;
    if paths.is_empty() {
        return Err(refusal(format!(
            "There are no audio files in «{}».",
            folder.display()
        )));
    }
    let heard = heard_all(&paths, progress)?;
    let name_of = |path: &Path| {
        let path = path.strip_prefix(folder).unwrap_or(path);
        path.to_string_lossy().replace('\\', "/")
    };
    let mut files: Vec<FileBuilt> = Vec::new();
    let mut good: Vec<(PathBuf, Heard)> = Vec::new();
    for (path, heard) in paths.into_iter().zip(heard) {
        match heard {
            Ok(heard) if !heard.told.silent => good.push((path, heard)),
            Ok(_) => files.push(left_out(name_of(&path), "Every sample of it is 0.")),
            Err(error) => files.push(left_out(name_of(&path), &error.to_string())),
        }
    }
    let names: Vec<String> = good.iter().map(|(path, _)| name_of(path)).collect();
    let placed = match plan.filter(|file| !file.recordings.is_empty()) {
        Some(file) => by_plan(file, said, &names, &mut files)?,
        None => by_names((kind, plan), said, (&names, &good), &mut files)?,
    };
    let Placed { plan, said, places } = placed;
    let takes = || {
        let recorded = |of: &Place| {
            let heard = &good[of.file].1;
            let recorded = RecordedTake {
                id: of.take,
                cell: of.cell,
                rate_hz: heard.form.0,
                channels: if of.right.is_some() { 2 } else { heard.form.1 },
                frames: heard.frames,
                origin: Origin {
                    file: of.called.clone(),
                    inside: heard.told.inside.filter(|_| of.is_by_name),
                    ..Origin::default()
                },
            };
            let counted = Counted {
                facts: heard.facts.clone(),
                suggested: Vec::new(),
            };
            (recorded, Some(counted))
        };
        places.iter().map(recorded).collect()
    };
    let resolved_with = |cleaned_levels: &ByTreatment<Levels>, judged_loops: &ByTreatment<LoopFacts>| {
        resolve(Known {
            name,
            plan: &plan,
            said: &said,
            brought: None,
            takes: takes(),
            cleaned_levels,
            judged_loops,
        })
    };
    let (mut levels, mut loops) = (HashMap::new(), HashMap::new());
    let mut resolved = resolved_with(&levels, &loops);
    let sounds = Sounds::of(&places, &good);
    // What a hand had cleaned or looped is heard once more, as it is then.
    for take in &resolved.takes {
        judged(take, || sounds.audio(take), &mut levels, &mut loops)?;
    }
    if !(levels.is_empty() && loops.is_empty()) {
        resolved = resolved_with(&levels, &loops);
    }
    for (take, of) in resolved.takes.iter().zip(&places) {
        let mut says = of.says.clone();
        if !take.chosen {
            says.push("Another file has the same place, and is played.".to_owned());
        }
        let treatment = take.treatment.as_ref();
        let looped = treatment.and_then(|treatment| treatment.looped.as_ref());
        files.push(FileBuilt {
            file: names[of.file].clone(),
            take: Some(take_name(&plan, take.recorded.cell)),
            says,
            sound_frames: treatment.map(|treatment| (treatment.start_frame, treatment.end_frame)),
            cents: treatment.map(|treatment| treatment.recording_cents),
            loop_frames: looped.map(|looped| (looped.start_frame, looped.end_frame)),
            audible_db: take.seam.as_ref().and_then(|seam| seam.audible_db),
        });
    }
    files.sort_by(|a, b| a.file.cmp(&b.file));
    Ok(Built {
        sounds,
        resolved,
        files,
        said,
    })
}

impl Built {
    /// A take, cleaned where that is said.
    pub(crate) fn audio_of(&self, take: &ResolvedTake) -> anyhow::Result<Audio> {
        self.sounds.audio(take)
    }
}

impl Samples for Built {
    fn audio(&self, sample: &Sample) -> anyhow::Result<Audio> {
        let id = take_of_source(&sample.source)?;
        let take = self.resolved.takes.iter().find(|take| take.recorded.id == id);
        let audio = self.sounds.audio(take.context("a take is not there")?)?;
        Ok(sides_of(audio, sample))
    }

    fn files(&self) -> Vec<PathBuf> {
        self.sounds.files()
    }
}
