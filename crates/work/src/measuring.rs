//! A take is measured.

use crate::overview::{OverviewMaker, levels_path, peaks_path};
use crate::{Effect, Library, MeasuredTake, Outcome, Part, Recording, TreatedTake, Watch};
use instrument::{ByTreatment, Correction, Counted, Kind, RecordedTake, Suggested, follow};
use signal::{LoopFacts, Measurement};

/// Columns of a board's thumbnail.
pub const THUMBNAIL_COLUMNS: usize = 64;
/// Takes that are longer than this are drawn from an overview.
pub const DRAWN_FROM_FRAMES: u64 = 1 << 20;

/// A take that is to be measured, with what is said of it already.
#[derive(Debug, Clone)]
pub struct Untreated {
    /// As it was recorded.
    pub recorded: RecordedTake,
    /// Its audio.
    pub part: Part,
    /// What its instrument is.
    pub kind: Kind,
    /// What the user said.
    pub said: Correction,
}

impl Untreated {
    /// What follows from a measurement.
    pub fn suggested(&self, facts: &Measurement) -> Suggested {
        Suggested::now(self.kind, &self.recorded, facts)
    }

    /// As it follows from what counts of it, and from what loops are worth that measuring did not find.
    pub fn measured(self, counted: Counted, judged: &ByTreatment<LoopFacts>) -> TreatedTake {
        let followed = follow(self.kind, &self.recorded, counted, &self.said, judged);
        TreatedTake {
            treatment: followed.treatment,
            room: TreatedTake::room_of(&self.recorded.origin),
            id: self.recorded.id,
            cell: self.recorded.cell,
            part: self.part,
            kind: self.kind,
            facts: followed.facts,
        }
    }
}

/// Measures a take, and draws its recording where that is long.
#[derive(Debug, Clone)]
pub struct Measure {
    /// Which.
    pub take: Untreated,
    /// The recording that it is a part of.
    pub recording: Recording,
}

impl Measure {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let measured = measured(library, &self.take)?;
        if self.take.part.frames > DRAWN_FROM_FRAMES
            && library.bytes(&peaks_path(&self.recording.hash), 0..1)?.is_none()
        {
            draw(library, &self.recording, watch)?;
        }
        Ok(Outcome {
            effect: Effect::Measured(Box::new(measured)),
            result: serde_json::json!({}),
        })
    }
}

fn measured(library: &dyn Library, take: &Untreated) -> anyhow::Result<MeasuredTake> {
    let (facts, thumbnail) = {
        let _turn = (take.part.frames > DRAWN_FROM_FRAMES).then(|| library.turn());
        crate::measured::measure_part(library, &take.part)?
    };
    let suggested = take.suggested(&facts);
    let counted = Counted {
        facts: facts.clone(),
        suggested: vec![suggested.clone()],
    };
    // Its loop is judged below.
    let treated = take.clone().measured(counted, &ByTreatment::new());
    Ok(MeasuredTake {
        take: take.recorded.id,
        // A loop that stood inside its file.
        judged: treated.judged_loop(library)?,
        facts,
        suggested,
        thumbnail,
    })
}

/// Measures takes again that an earlier version measured: all of them count as they are measured now, or none.
#[derive(Debug, Clone)]
pub struct MeasureAgain {
    /// For "Undo …".
    pub label: String,
    /// Which.
    pub takes: Vec<Untreated>,
}

impl MeasureAgain {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        let mut all = Vec::with_capacity(self.takes.len());
        for (n, take) in self.takes.iter().enumerate() {
            watch.tell(n as f64 / self.takes.len() as f64)?;
            all.push(measured(library, take)?);
        }
        watch.tell(1.0)?;
        Ok(Outcome {
            result: serde_json::json!({ "measured": all.len() }),
            effect: Effect::MeasuredAgain {
                label: self.label.clone(),
                all,
            },
        })
    }
}

/// Draws a long take from afar.
#[derive(Debug, Clone)]
pub struct Draw {
    /// Its recording.
    pub recording: Recording,
}

impl Draw {
    /// Does it.
    ///
    /// # Errors
    /// Those of the library; a [`crate::Refusal`] where it is cancelled.
    pub fn run(&self, library: &dyn Library, watch: &Watch) -> anyhow::Result<Outcome> {
        draw(library, &self.recording, watch)?;
        Ok(Outcome::default())
    }
}

/// Frames read at once: 5 s at 48 kHz.
const PIECE_FRAMES: u64 = 240_000;

fn draw(library: &dyn Library, recording: &Recording, watch: &Watch) -> anyhow::Result<()> {
    let (form, frames) = (recording.form, recording.frames);
    let channels = usize::from(form.channels);
    let mut maker = OverviewMaker::new(form.rate_hz, channels);
    let mut first = 0;
    while first < frames {
        watch.tell(first as f64 / frames as f64)?;
        let end = (first + PIECE_FRAMES).min(frames);
        let audio = library.frames(&recording.hash, form, first..end, 0..channels)?;
        maker.push(&audio.interleaved());
        first = end;
    }
    let (peaks, levels) = maker.finish();
    // The levels first: where the peaks are there, so is all of it.
    library.put_bytes(&levels_path(&recording.hash), levels)?;
    library.put_bytes(&peaks_path(&recording.hash), peaks)?;
    Ok(())
}
