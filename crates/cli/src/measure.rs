//! `ladder measure`: the facts of audio files.

use clap::Args;
use instrument::{Kind, Spelling, octave_habit, settle};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use work::{FileReport, Measured};

#[derive(Args)]
pub struct Measure {
    /// WAV, AIFF, FLAC, Ogg Vorbis or MP3.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// One JSON object a line.
    #[arg(long)]
    json: bool,
    /// What they are: sustained, pad, voice, struck, plucked or drum. What is held is looped, what dies away is not; where it is left out, it is heard.
    #[arg(long, value_parser = kind)]
    kind: Option<Kind>,
    /// Takes the notes in the files' names as hints, in whichever octave they are written.
    #[arg(long)]
    keys_from_names: bool,
}

pub(crate) fn kind(name: &str) -> Result<Kind, String> {
    let value = serde_json::Value::String(name.to_lowercase());
    serde_json::from_value(value)
        .map_err(|_| "it is sustained, pad, voice, struck, plucked or drum".to_owned())
}

impl Measure {
    /// Measures every file; fails if one failed, having measured the rest.
    pub fn run(self) -> ExitCode {
        let mut failed = false;
        let mut measured = Vec::new();
        for path in &self.files {
            // A file that breaks what measures it is one file: the others are measured all the same.
            let of = std::panic::catch_unwind(|| measure(path))
                .unwrap_or_else(|_| Err(anyhow::anyhow!("This sound broke what measures it.")));
            match of {
                // Names are understood together: what they say waits for the last of them.
                Ok(file) if self.keys_from_names => measured.push(file),
                Ok(file) => self.print(&FileReport::of(&file, self.kind, None)),
                Err(error) => {
                    failed = true;
                    self.print_error(&path.display().to_string(), &error);
                }
            }
        }
        for (file, key) in measured.iter().zip(keys_of(&measured)) {
            self.print(&FileReport::of(file, self.kind, key));
        }
        if failed {
            ExitCode::FAILURE
        } else {
            ExitCode::SUCCESS
        }
    }

    fn print(&self, report: &FileReport) {
        if self.json {
            println!("{}", serde_json::to_string(report).unwrap_or_default());
        } else {
            print_plain(report);
        }
    }

    fn print_error(&self, name: &str, error: &anyhow::Error) {
        if self.json {
            println!(
                "{}",
                serde_json::json!({ "file": name, "error": error.to_string() })
            );
        } else {
            eprintln!("{name}: {error}");
        }
    }
}

fn measure(path: &Path) -> anyhow::Result<Measured> {
    let bytes = std::fs::read(path)?;
    let audio = formats::decode(bytes, path.extension().and_then(|e| e.to_str()))?;
    Ok(Measured::of(&path.display().to_string(), &audio))
}

/// The key that each file's name gives it, in the octaves that most of them sound in.
fn keys_of(files: &[Measured]) -> Vec<Option<u8>> {
    let names: Vec<String> = files.iter().map(|file| file.name.clone()).collect();
    let named: Vec<Option<u8>> = settle(&names, Spelling::default())
        .guesses
        .into_iter()
        .map(|guess| guess.key)
        .collect();
    let heard = files.iter().map(|file| file.facts.pitch.map(|pitch| pitch.key));
    let pairs: Vec<(u8, u8)> = named.iter().zip(heard).filter_map(|(a, b)| (*a).zip(b)).collect();
    let shift = octave_habit(&pairs).map_or(0, |habit| habit.shift_keys);
    named
        .into_iter()
        .map(|key| key.and_then(|key| u8::try_from(i16::from(key) + shift).ok()))
        .collect()
}

fn print_plain(report: &FileReport) {
    let pitch = match (report.key, report.cents) {
        (Some(key), Some(cents)) => format!(
            "{} {cents:+.1} ct",
            instrument::key_name(key, instrument::MiddleC::C4)
        ),
        _ => "no pitch".to_owned(),
    };
    let looped = report.looped.as_ref().map_or("no loop".to_owned(), |l| {
        let stands_out = l
            .audible_db
            .map_or(String::new(), |db| format!(", stands out by {db:+.1} dB"));
        format!(
            "loop {}–{} ({:.0} dB{stands_out})",
            l.start_frame, l.end_frame, l.seam_db
        )
    });
    let loudness = report
        .loudness_lufs
        .map_or("silent".to_owned(), |lufs| format!("{lufs:.1} LUFS"));
    println!(
        "{}: {pitch}, {}–{}, {loudness}, {looped}",
        report.file, report.start_frame, report.end_frame
    );
}
