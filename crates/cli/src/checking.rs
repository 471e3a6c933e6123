//! `ladder check`: what is wrong with an instrument, without a server.

use crate::from::Reading;
use crate::planned::{name_of, plan_of};
use crate::telling;
use check::Report;
use clap::Args;
use formats::Format;
use instrument::{FindingKind, Kind, Limits};
use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;
use work::{AtHand, OpenedInPlace, ToBuild, build, check_at_hand, write_whole};

#[derive(Args)]
#[command(after_help = "Example: ladder check Organ/Organ.sfz --limit hum=-60 --json")]
pub struct Check {
    /// An SFZ with its audio beside it, a SoundFont, or a folder of named recordings, which is built first.
    instrument: PathBuf,
    #[command(flatten)]
    reading: Reading,
    /// Of a folder: what is planned and said, a file of TOML.
    #[arg(long, value_name = "FILE")]
    plan: Option<PathBuf>,
    /// Of a folder: what it is; where it is left out, it is heard.
    #[arg(long, value_parser = crate::measure::kind)]
    kind: Option<Kind>,
    /// What would be written: what that cannot hold is found, too.
    #[arg(long, value_delimiter = ',', value_parser = format, value_name = "FORMATS")]
    formats: Vec<Format>,
    /// Another limit, «hum=-60»; as often as wished.
    #[arg(long = "limit", value_parser = limit, value_name = "KIND=VALUE")]
    limits: Vec<(FindingKind, f64)>,
    /// As one JSON object, for programs.
    #[arg(long)]
    json: bool,
    /// The same as a page, into a file.
    #[arg(long, value_name = "FILE")]
    html: Option<PathBuf>,
}

impl Check {
    /// Does it; 0 where nothing is over its limit, 1 where something is.
    pub fn run(self) -> anyhow::Result<ExitCode> {
        let plan = self.plan.as_deref().map(plan_of).transpose()?;
        let report = if self.instrument.is_dir() {
            let name = name_of(&self.instrument, plan.as_ref());
            let wish = ToBuild {
                folder: &self.instrument,
                name: &name,
                kind: self.kind,
                plan: plan.as_ref(),
            };
            self.report(&build(wish, &told("measured"))?)?
        } else {
            let opened = self.reading.open(&self.instrument)?;
            self.report(&OpenedInPlace::of(opened, &told("measured"))?)?
        };
        telling::over();
        if let Some(path) = &self.html {
            let page = report.html("");
            write_whole(path, |out| Ok(out.write_all(page.as_bytes())?))?;
        }
        let text = if self.json {
            serde_json::to_string_pretty(&report)? + "\n"
        } else {
            report.text()
        };
        crate::printed(text.as_bytes())?;
        let left = report.open().next().is_some();
        Ok(if left {
            ExitCode::FAILURE
        } else {
            ExitCode::SUCCESS
        })
    }

    fn report(&self, of: &impl AtHand) -> anyhow::Result<Report> {
        let with = |limits: Limits, (kind, limit): &(FindingKind, f64)| limits.with(*kind, *limit);
        let limits = self.limits.iter().fold(Limits::default(), with);
        reported(of, &self.formats, &limits)
    }
}

/// Listens to an instrument, and reports.
pub fn reported(of: &impl AtHand, formats: &[Format], limits: &Limits) -> anyhow::Result<Report> {
    let checked = check_at_hand(of, (formats, limits), &told("listened to"))?;
    Ok(Report::of(
        of.resolved(),
        &checked.heard,
        &checked.findings,
        Vec::new(),
    ))
}

fn told(what: &'static str) -> impl Fn(f64) -> bool + Sync {
    move |share| {
        telling::share(what, share);
        true
    }
}

fn format(text: &str) -> Result<Format, String> {
    match text {
        "sfz" => Ok(Format::Sfz),
        "sf2" => Ok(Format::SoundFont2),
        "page" => Ok(Format::Page),
        _ => Err("it is sfz, sf2 or page".to_owned()),
    }
}

fn limit(text: &str) -> Result<(FindingKind, f64), String> {
    let parts = text.split_once('=').and_then(|(name, value)| {
        let value: f64 = value.trim().replace('−', "-").parse().ok()?;
        Some((name.trim(), value)).filter(|(_, value)| value.is_finite())
    });
    let (name, value) = parts.ok_or("it is a kind and a number, as hum=-60")?;
    let mut kinds = FindingKind::all().filter(|kind| kind.has_limit());
    let known = || {
        let names = FindingKind::all()
            .filter(|kind| kind.has_limit())
            .map(FindingKind::name);
        format!(
            "there is no limit of «{name}»; there are {}",
            names.collect::<Vec<_>>().join(", ")
        )
    };
    let kind = kinds.find(|kind| kind.name() == name).ok_or_else(known)?;
    Ok((kind, value))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_is_a_kind_and_a_number() {
        assert_eq!(limit("hum=-60"), Ok((FindingKind::Hum, -60.0)));
        assert_eq!(limit("level_step = 2"), Ok((FindingKind::LevelStep, 2.0)));
        for wrong in ["hum", "hum=", "hum=loud", "hmu=3", "hum=inf", "wrong_octave=1"] {
            assert!(limit(wrong).is_err(), "{wrong}");
        }
    }
}
