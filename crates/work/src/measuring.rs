//! A take is measured.

use crate::overview::{OverviewMaker, levels_path, peaks_path};
use crate::{Effect, Library, Outcome, Part, Recording, TreatedTake, Watch};
use instrument::{Cell, Correction, Kind, Origin, heard_for, suggest, treat};
use signal::Measurement;

/// Columns of a board's thumbnail.
pub const THUMBNAIL_COLUMNS: usize = 64;
/// Takes that are longer than this are drawn from an overview.
pub const DRAWN_FROM_FRAMES: u64 = 1 << 20;

/// A take that is to be measured, with what is said of it already.
#[derive(Debug, Clone)]
pub struct Untreated {
    /// Its number.
    pub id: u64,
    /// Where it belongs.
    pub cell: Cell,
    /// Its audio.
    pub part: Part,
    /// Where it came from.
    pub origin: Origin,
    /// What its instrument is.
    pub kind: Kind,
    /// What the user said.
    pub said: Correction,
}

impl Untreated {
    /// As it follows from what was measured.
    pub fn measured(self, facts: Measurement) -> TreatedTake {
        let facts = heard_for(self.cell.key, facts);
        let (key, rate) = (self.cell.key, self.part.form.rate_hz);
        let inside = self.origin.inside.as_ref();
        let suggestion = suggest(self.kind, key, rate, self.part.frames, &facts, inside);
        TreatedTake {
            treatment: treat(key, &suggestion, &self.said, self.part.frames),
            room: TreatedTake::room_of(&self.origin),
            id: self.id,
            cell: self.cell,
            part: self.part,
            kind: self.kind,
            facts,
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
        let (facts, thumbnail) = {
            let _turn = (self.take.part.frames > DRAWN_FROM_FRAMES).then(|| library.turn());
            crate::measured::measure_part(library, &self.take.part)?
        };
        // A loop that stood inside its file.
        let judged = self.take.clone().measured(facts.clone()).judged_loop(library)?;
        if self.take.part.frames > DRAWN_FROM_FRAMES
            && library.bytes(&peaks_path(&self.recording.hash), 0..1)?.is_none()
        {
            draw(library, &self.recording, watch)?;
        }
        Ok(Outcome {
            effect: Effect::Measured {
                take: self.take.id,
                facts: Box::new(facts),
                thumbnail,
                judged,
            },
            result: serde_json::json!({}),
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
