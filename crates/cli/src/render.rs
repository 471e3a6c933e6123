//! `ladder render`: a MIDI file played through an SFZ or a SoundFont.

use crate::from::From;
use anyhow::Context;
use clap::Args;
use std::path::PathBuf;
use work::spare;

#[derive(Args)]
#[command(after_help = "Example: ladder render Organ/Organ.sfz song.mid --out song.wav")]
pub struct Render {
    #[command(flatten)]
    from: From,
    /// A Standard MIDI File; all of its channels are played.
    song: PathBuf,
    /// The WAV file to write.
    #[arg(long)]
    out: PathBuf,
    /// Frames per second.
    #[arg(long, default_value_t = 48_000, value_parser = clap::value_parser!(u32).range(8_000..=192_000))]
    rate: u32,
    /// Most voices at once.
    #[arg(long, default_value_t = 128, value_parser = clap::value_parser!(u16).range(1..=4_096))]
    voices: u16,
    /// Width of the WAV file: 16, 24 or 32 (float).
    #[arg(long, default_value_t = 24, value_parser = crate::bits)]
    bits: u16,
    /// Prints voices, seconds and times real time in a line.
    #[arg(long)]
    figures: bool,
}

impl Render {
    /// Does it.
    pub fn run(self) -> anyhow::Result<()> {
        let opened = self.from.open()?;
        spare(&opened, std::iter::once(self.out.clone()))?;
        for what in &opened.lost {
            eprintln!("{what}");
        }
        let song =
            std::fs::read(&self.song).with_context(|| format!("«{}» cannot be read", self.song.display()))?;
        let phrase = formats::read_phrase(&song)?;
        let voices = usize::from(self.voices);
        let (audio, figures) = work::play(&opened.program, &opened, &phrase, self.rate, voices)?;
        let peak_db = signal::peak_dbfs(&audio);
        if peak_db > 0.0 && self.bits < 32 {
            eprintln!(
                "It is louder than the file can hold by {peak_db:.1} dB: what is over is cut. --bits 32 holds it."
            );
        }
        work::write_whole(&self.out, |out| {
            Ok(formats::write_wav(out, &audio, self.bits, None)?)
        })?;
        if self.figures {
            println!(
                "{} voices at most, {:.1} s, {:.1} times real time",
                figures.voices, figures.seconds, figures.times_real_time
            );
        }
        Ok(())
    }
}
