//! `ladder build`: an instrument of a folder of named recordings.

use crate::telling;
use crate::writing::Writing;
use anyhow::anyhow;
use clap::{Args, ValueEnum};
use formats::{Format, Loss, Place, clean_name};
use instrument::{Kind, PlanFile};
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
        let planned = || plan.as_ref().and_then(|file| file.name.clone());
        let called = self.name.clone().or_else(planned).or_else(|| {
            let folder = self.folder.canonicalize().ok()?;
            Some(folder.file_name()?.to_string_lossy().into_owned())
        });
        let name = called.unwrap_or_else(|| "Instrument".to_owned());
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
        telling::over();
        let (json, page) = reports(&built, &losses);
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

fn plan_of(path: &Path) -> anyhow::Result<PlanFile> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| refusal(format!("«{}» cannot be read: {error}", path.display())))?;
    PlanFile::read(&text).map_err(refusal)
}

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
fn reports(built: &Built, losses: &[(&str, Vec<Loss>)]) -> (String, String) {
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
    });
    let rows: String = built.files.iter().map(row).collect();
    let lost: String = (losses.iter())
        .flat_map(|(format, losses)| losses.iter().map(move |loss| (format, loss)))
        .map(|(format, loss)| format!("<li>{format}: {} ({})</li>", escaped(&loss.what), loss.regions))
        .collect();
    let page = format!(
        "<!doctype html><meta charset=\"utf-8\"><title>{name}</title><style>body{{font:14px system-ui;margin:2em;color:#222;background:#faf8f4}}\
         td,th{{padding:2px 12px 2px 0;text-align:left;vertical-align:top}}td.n{{text-align:right;font-variant-numeric:tabular-nums}}</style>\
         <h1>{name}</h1><p>{count} files, {regions} regions, {kind}.</p><ul>{lost}</ul>\
         <table><tr><th>file<th>take<th>sound<th>cents<th>loop<th>stands out<th>remarks</tr>{rows}</table>\n",
        name = escaped(&resolved.name),
        count = built.files.len(),
        regions = resolved.program.regions.len(),
        kind = resolved.plan.kind.name(),
    );
    (format!("{json:#}\n"), page)
}

fn row(file: &FileBuilt) -> String {
    let frames = |of: Option<(u64, u64)>| of.map_or(String::new(), |(first, end)| format!("{first}–{end}"));
    let number = |of: Option<f64>| of.map_or(String::new(), |value| format!("{value:+.1}"));
    format!(
        "<tr><td>{}<td>{}<td class=n>{}<td class=n>{}<td class=n>{}<td class=n>{}<td>{}</tr>",
        escaped(&file.file),
        escaped(file.take.as_deref().unwrap_or("left out")),
        frames(file.sound_frames),
        number(file.cents),
        frames(file.loop_frames),
        number(file.audible_db),
        escaped(&file.says.join(" ")),
    )
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}
