//! `ladder build`: an instrument of a folder of named recordings.

use crate::checking::reported;
use crate::planned::{name_of, plan_of};
use crate::telling;
use crate::writing::Writing;
use anyhow::anyhow;
use check::Report;
use clap::{Args, ValueEnum};
use formats::{Format, Loss, Place, clean_name};
use instrument::{Kind, Limits};
use maud::{Markup, html};
use serde_json::json;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use work::{
    Beside, Built, ExportSettings, FileBuilt, IntoFolder, NO_SHELL, Shell, ToBuild, ToWrite, build, export,
    export_beside, give_into, refusal, write_whole,
};

#[derive(Args)]
#[command(after_help = "Example: ladder build recordings/organ --out Organ --formats sfz,sf2")]
pub struct Build {
    /// WAV, AIFF, FLAC, Ogg Vorbis or MP3, in this folder and in those inside it: «organ C3 soft 2.wav» tells note, layer and turn.
    folder: PathBuf,
    /// The folder to write into. Files of the same names are replaced, nothing else is touched.
    #[arg(long)]
    out: PathBuf,
    /// As the instrument is called; as its folder is, where it is left out.
    #[arg(long)]
    name: Option<String>,
    /// What is planned and said, a file of TOML; what it does not say is by itself.
    #[arg(long, value_name = "FILE")]
    plan: Option<PathBuf>,
    /// What it is: sustained, pad, voice, struck, plucked or drum; where it is left out, it is heard.
    #[arg(long, value_parser = crate::measure::kind)]
    kind: Option<Kind>,
    /// What is written.
    #[arg(long, value_delimiter = ',', default_value = "sfz")]
    formats: Vec<Wanted>,
    /// Ends without listening to what was built.
    #[arg(long)]
    no_check: bool,
    /// The built page, of which a page that plays is made.
    #[arg(long, default_value = "web/dist", value_name = "FOLDER")]
    web: PathBuf,
    #[command(flatten)]
    writing: Writing,
}

/// What can be written.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Wanted {
    /// An SFZ with its audio.
    Sfz,
    /// A SoundFont.
    Sf2,
    /// The audio alone, with loops and roots inside.
    Wav,
    /// A page that plays, in a folder «page».
    Page,
}

impl Wanted {
    fn format(self) -> Format {
        match self {
            Self::Sfz | Self::Wav => Format::Sfz,
            Self::Sf2 => Format::SoundFont2,
            Self::Page => Format::Page,
        }
    }
}

impl Build {
    /// Does it; prints what was written and lost, and writes a report beside it.
    pub fn run(self) -> anyhow::Result<()> {
        let plan = self.plan.as_deref().map(plan_of).transpose()?;
        let called = || name_of(&self.folder, plan.as_ref());
        let name = self.name.clone().unwrap_or_else(called);
        for wanted in &self.formats {
            self.settings(*wanted)?;
        }
        if self.formats.contains(&Wanted::Page) && !self.web.join(server::SHELL).is_dir() {
            return Err(refusal(NO_SHELL));
        }
        outside(&self.out, &self.folder)?;
        let wish = ToBuild {
            folder: &self.folder,
            name: &name,
            kind: self.kind,
            plan: plan.as_ref(),
        };
        let built = build(wish, &|share| {
            telling::share("listened to", share);
            true
        })?;
        let losses = self.write_all(&built)?;
        let formats: Vec<Format> = self.formats.iter().map(|wanted| wanted.format()).collect();
        let report = (!self.no_check).then(|| reported(&built, &formats, &Limits::default()));
        let report = report.transpose()?;
        telling::over();
        let (json, page) = reports(&built, &losses, report.as_ref());
        write_whole(&self.out.join("report.json"), |out| {
            Ok(out.write_all(json.as_bytes())?)
        })?;
        write_whole(&self.out.join("report.html"), |out| {
            Ok(out.write_all(page.as_bytes())?)
        })?;
        let used = built.files.iter().filter(|file| file.take.is_some()).count();
        println!(
            "{used} of {} files became «{name}»: {}.",
            built.files.len(),
            telling::regions(built.resolved.program.regions.len())
        );
        for file in built.files.iter().filter(|file| !file.says.is_empty()) {
            println!("{}: {}", file.file, file.says.join(" "));
        }
        for (_, lost) in &losses {
            telling::losses(lost);
        }
        if let Some(report) = report {
            crate::printed(report.text().as_bytes())?;
        }
        Ok(())
    }

    fn settings(&self, wanted: Wanted) -> anyhow::Result<ExportSettings> {
        self.writing.settings(wanted.format(), wanted == Wanted::Wav)
    }

    /// All formats: a SoundFont beside those that share their audio files, which are written one after another.
    fn write_all(&self, built: &Built) -> anyhow::Result<Vec<Written>> {
        let (alone, beside): (Vec<Wanted>, Vec<Wanted>) =
            self.formats.iter().partition(|wanted| **wanted == Wanted::Sf2);
        let shares = [Mutex::new(0.0), Mutex::new(0.0)];
        let all = [&beside, &alone];
        let going = all.iter().filter(|of| !of.is_empty()).count() as f64;
        let tell = |group: usize, share: f64| {
            let of = |n: usize| shares[n].lock().unwrap_or_else(PoisonError::into_inner);
            *of(group) = share;
            let sum = *of(0) + *of(1);
            telling::share("written", sum / going.max(1.0));
        };
        let tell = &tell;
        std::thread::scope(|scope| {
            let both = [0, 1].map(|group| {
                let formats = all[group];
                scope.spawn(move || -> anyhow::Result<Vec<Written>> {
                    let one = |(n, wanted): (usize, &Wanted)| {
                        let before = n as f64;
                        let of = formats.len() as f64;
                        self.write(built, *wanted, &|share| tell(group, (before + share) / of))
                    };
                    formats.iter().enumerate().map(one).collect()
                })
            });
            let mut written = Vec::new();
            for group in both {
                written.extend(group.join().map_err(|_| anyhow!("Writing broke."))??);
            }
            Ok(written)
        })
    }

    fn write(&self, built: &Built, wanted: Wanted, tell: &dyn Fn(f64)) -> anyhow::Result<Written> {
        let program = &built.resolved.program;
        let progress = |share: f64| {
            tell(share);
            true
        };
        let settings = self.settings(wanted)?;
        let one = ToWrite {
            program,
            place: Place::default(),
            panel: Some(&built.resolved.panel),
            samples: built,
        };
        if wanted == Wanted::Sf2 {
            let path = self.out.join(format!("{}.sf2", clean_name(&program.name)));
            let exported = write_whole(&path, |out| export(&[one], (settings, None), out, progress))?;
            return Ok(("SoundFont", exported.losses));
        }
        if wanted == Wanted::Page {
            let shell = Shell::of_folder(&self.web.join(server::SHELL))?;
            let into = IntoFolder {
                folder: self.out.join("page"),
                replace: true,
                texts_alone: false,
            };
            let (exported, _) = give_into(&[one], (settings, Some(&shell)), &into, progress)?;
            return Ok(("page", exported.losses));
        }
        let sfz = format!("{}.sfz", clean_name(&program.name));
        let beside = Beside {
            folder: &self.out,
            sfz: (wanted == Wanted::Sfz).then_some(sfz.as_str()),
        };
        let exported = export_beside(&one, settings, beside, progress)?;
        Ok(("SFZ", exported.losses))
    }
}

/// A format, and what it does not hold.
type Written = (&'static str, Vec<Loss>);

/// That what is written does not lie among the recordings: it would be taken for one the next time.
fn outside(out: &Path, folder: &Path) -> anyhow::Result<()> {
    let there = out.ancestors().find_map(|path| {
        let path = if path.as_os_str().is_empty() {
            Path::new(".")
        } else {
            path
        };
        path.canonicalize().ok()
    });
    let Ok(folder) = folder.canonicalize() else {
        return Ok(());
    };
    if there.is_some_and(|out| out.starts_with(folder)) {
        return Err(refusal(
            "--out lies among the recordings, and would be taken for one of them: name another folder.",
        ));
    }
    Ok(())
}

/// The same as JSON and as a page.
fn reports(built: &Built, losses: &[(&str, Vec<Loss>)], report: Option<&Report>) -> (String, String) {
    let resolved = &built.resolved;
    let lost: Vec<_> = losses
        .iter()
        .map(|(format, losses)| json!({ "format": format, "losses": losses }))
        .collect();
    let json = json!({
        "name": resolved.name,
        "kind": resolved.plan.kind,
        "regions": resolved.program.regions.len(),
        "files": built.files,
        "lost": lost,
        "check": report,
    });
    let more = html! {
        h2 { "Files" }
        ul { @for (format, losses) in losses { @for loss in losses {
            li { (format) ": " (loss.what) " (" (loss.regions) ")" }
        } } }
        table {
            tr { @for head in ["file", "take", "sound", "cents", "loop", "stands out", "remarks"] { th { (head) } } }
            @for file in &built.files { (row(file)) }
        }
    };
    let bare = || Report::of(resolved, &check::Heard::default(), &[], Vec::new());
    let report = report.cloned().unwrap_or_else(bare);
    (format!("{json:#}\n"), report.html(&more.into_string()))
}

fn row(file: &FileBuilt) -> Markup {
    let frames = |of: Option<(u64, u64)>| of.map_or(String::new(), |(first, end)| format!("{first}–{end}"));
    let number = |of: Option<f64>| of.map_or(String::new(), |value| format!("{value:+.1}"));
    html! { tr {
        td { (file.file) }
        td { (file.take.as_deref().unwrap_or("left out")) }
        td { (frames(file.sound_frames)) }
        td { (number(file.cents)) }
        td { (frames(file.loop_frames)) }
        td { (number(file.audible_db)) }
        td { (file.says.join(" ")) }
    } }
}
