//! Audio files are brought: read to their end, and refused where they are not what they say.

use crate::{Effect, Library, Outcome, Recording, RecordingForm, Sink, Watch, refusal};
use formats::FormatError;
use instrument::{HeardInFile, Inside, InsideLoop};
use std::fs::File;
use std::io::BufReader;

/// A file that was sent becomes a long take.
#[derive(Debug, Clone)]
pub struct Import {
    /// Where it lies in the library.
    pub file: String,
    /// As its owner named it.
    pub name: String,
}

impl Import {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled, or the file cannot be read.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let source = library.local(&self.file)?;
        let bytes = source.metadata()?.len();
        let recording = read_file(library, source, &self.name, |form, frames, _| {
            // How much of the file was read is not told by the decoder: by the size of what came out.
            let out = frames * form.frame_bytes();
            watch.tell(0.9 * out as f64 / bytes.max(out) as f64)?;
            Ok(())
        })?;
        watch.tell(1.0)?;
        let name = self.name.clone();
        Ok(Outcome {
            effect: Effect::LongTake { name, recording },
            result: serde_json::json!({}),
        })
    }
}

/// Reads a file into a recording. `heard` is told of every piece: its form, the frames so far, its samples.
///
/// # Errors
/// Those of the library; a [`crate::Refusal`] where the file is no audio, holds none, is cut short, or is not what it says.
pub fn read_file(
    library: &dyn Library,
    source: File,
    name: &str,
    mut heard: impl FnMut(RecordingForm, u64, &[f32]) -> anyhow::Result<()>,
) -> anyhow::Result<Recording> {
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_owned());
    let mut reader = formats::AudioReader::open(Box::new(source), ending.as_deref()).map_err(refused)?;
    let form = RecordingForm {
        rate_hz: reader.rate_hz(),
        channels: reader.channels() as u16,
        bits: reader.bits(),
    };
    let mut sink: Box<dyn Sink> = library.begin(form)?;
    while let Some(piece) = reader.next_piece().map_err(refused)? {
        sink.write(&piece)?;
        heard(form, sink.frames(), &piece)?;
    }
    if sink.frames() == 0 {
        return Err(refusal("There is no sound in this file."));
    }
    sink.keep()
}

/// Root, loop and mark that stand inside a file.
///
/// # Errors
/// Those of the disk.
pub fn inside_of(file: &File) -> std::io::Result<HeardInFile> {
    let bytes = formats::small_chunks(&mut BufReader::new(file))?;
    let sampler = formats::read_sampler(&bytes).or_else(|| formats::read_aiff_sampler(&bytes));
    Ok(HeardInFile {
        inside: sampler.as_ref().map(|s| Inside {
            root_key: Some(s.root_key),
            recording_cents: s.recording_cents,
            looped: s.looped.map(|l| InsideLoop {
                start_frame: l.start_frame,
                end_frame: l.end_frame,
            }),
        }),
        from_take: formats::read_mark(&bytes)
            .as_deref()
            .and_then(instrument::take_of_mark),
        ..HeardInFile::default()
    })
}

/// What is wrong with a file is final; what is wrong with the disk is not.
fn refused(error: FormatError) -> anyhow::Error {
    match error {
        FormatError::Unreadable(sentence) | FormatError::TooMuch(sentence) => refusal(sentence),
        FormatError::Io(error) => error.into(),
    }
}
