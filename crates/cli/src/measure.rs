//! `ladder measure`: the facts of audio files.

use clap::Args;
use std::path::PathBuf;
use std::process::ExitCode;
use work::FileReport;

#[derive(Args)]
pub struct Measure {
    /// WAV, AIFF, FLAC, Ogg Vorbis or MP3.
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// One JSON object a line.
    #[arg(long)]
    json: bool,
}

impl Measure {
    /// Measures every file; fails if one failed, having measured the rest.
    pub fn run(self) -> ExitCode {
        let mut failed = false;
        for path in &self.files {
            let name = path.display().to_string();
            // A file that breaks what measures it is one file: the others are measured all the same.
            let reported = std::panic::catch_unwind(|| report(path))
                .unwrap_or_else(|_| Err(anyhow::anyhow!("This sound broke what measures it.")));
            match reported {
                Ok(report) if self.json => println!("{}", serde_json::to_string(&report).unwrap_or_default()),
                Ok(report) => print_plain(&report),
                Err(error) => {
                    failed = true;
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
        }
        if failed {
            ExitCode::FAILURE
        } else {
            ExitCode::SUCCESS
        }
    }
}

fn report(path: &std::path::Path) -> anyhow::Result<FileReport> {
    let bytes = std::fs::read(path)?;
    let audio = formats::decode(bytes, path.extension().and_then(|e| e.to_str()))?;
    Ok(FileReport::of(&path.display().to_string(), &audio))
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
        format!("loop {}–{} ({:.0} dB)", l.start_frame, l.end_frame, l.seam_db)
    });
    let loudness = report
        .loudness_lufs
        .map_or("silent".to_owned(), |lufs| format!("{lufs:.1} LUFS"));
    println!(
        "{}: {pitch}, {}–{}, {loudness}, {looped}",
        report.file, report.start_frame, report.end_frame
    );
}
