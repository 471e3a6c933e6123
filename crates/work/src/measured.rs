//! What is measured of a part of a recording, in little memory however long, wide and high in rate it is: two channels at a time, at 48 kHz or
//! less; seams are confirmed on all channels, at the full rate.

use crate::{Library, Part, THUMBNAIL_COLUMNS, raw};
use signal::{Audio, LoopCandidate, Lowering, Measurement};

/// Channels that are measured: a take is as loud, and lies as it lies, in its first mic.
const MEASURED_CHANNELS: usize = 2;
/// Frames read at once.
const PIECE_FRAMES: u64 = 1 << 18;
/// A seam that fits worse on all channels than on the first two, by more than this, is another one.
const MOST_WORSE_DB: f64 = 6.0;

/// Measures, and draws a thumbnail.
///
/// # Errors
/// Those of the library.
pub fn measure_part(library: &dyn Library, part: &Part) -> anyhow::Result<(Measurement, Vec<u8>)> {
    let channels = usize::from(part.form.channels).min(MEASURED_CHANNELS);
    let (audio, full) = lowered(library, part, channels)?;
    let mut facts = signal::measure(&audio);
    let thumbnail = signal::thumbnail(&audio, THUMBNAIL_COLUMNS);
    drop(audio);
    if let Some(full) = full {
        let by = signal::lowering_of(part.form.rate_hz) as usize;
        facts.start_frame *= by;
        facts.end_frame = (facts.end_frame * by).min(part.frames as usize);
        (facts.peak_dbfs, facts.clipped_frames) = full.told();
        for place in &mut facts.loops {
            place.start_frame *= by;
            place.end_frame *= by;
            place.crossfade_frames *= by;
        }
        confirm(library, part, &mut facts, by)?;
    } else if channels < usize::from(part.form.channels) {
        confirm(library, part, &mut facts, 1)?;
    }
    Ok((facts, thumbnail))
}

/// Peaks of a sound of a high rate, which a lower one would round off.
#[derive(Debug, Default)]
struct FullRate {
    /// Peak and clipped frames of each piece.
    pieces: Vec<(f64, u64)>,
}

impl FullRate {
    fn told(&self) -> (Option<f64>, u64) {
        let peak = self.pieces.iter().map(|(peak, _)| *peak).fold(f64::MIN, f64::max);
        // What is clipped stands at the plateau of the whole.
        let at_plateau = self.pieces.iter().filter(|(top, _)| *top > peak - 0.001);
        let clipped = at_plateau.map(|(_, clipped)| clipped).sum();
        (Some(peak).filter(|peak| peak.is_finite()), clipped)
    }
}

fn lowered(library: &dyn Library, part: &Part, channels: usize) -> anyhow::Result<(Audio, Option<FullRate>)> {
    let Some(mut lowering) = Lowering::new(part.form.rate_hz, channels) else {
        return Ok((raw(library, part, (0, channels), 0, part.frames)?, None));
    };
    let mut full = FullRate::default();
    for first in (0..part.frames).step_by(PIECE_FRAMES as usize) {
        let piece = raw(library, part, (0, channels), first, first + PIECE_FRAMES)?;
        full.pieces
            .push((signal::peak_dbfs(&piece), signal::clipped_frames(&piece)));
        lowering.push(&piece);
    }
    Ok((lowering.finish(), Some(full)))
}

/// Fits the ends of the loops that were found to the frame, `by` frames around where they are, and keeps those whose seams hold on all channels.
fn confirm(library: &dyn Library, part: &Part, facts: &mut Measurement, by: usize) -> anyhow::Result<()> {
    let Some(pitch) = facts.pitch else {
        return Ok(());
    };
    let period = f64::from(part.form.rate_hz) / pitch.hz;
    let mut kept: Vec<LoopCandidate> = Vec::with_capacity(facts.loops.len());
    for place in &facts.loops {
        let reach = signal::seam_reach(part.form.rate_hz, period);
        let around = |middle: usize, more: usize| {
            let first = middle.saturating_sub(reach + more) as u64;
            let end = (middle + reach + more) as u64;
            raw(library, part, (0, usize::MAX), first, end)
        };
        let (start, end) = (around(place.start_frame, 0)?, around(place.end_frame, by)?);
        let at_start = place.start_frame.min(reach);
        let at_end = place.end_frame.min(reach + by);
        // Both stretches one after the other, as if the loop were no longer than they are.
        let between = start.frames();
        let mut both = start;
        for (channel, more) in both.channels.iter_mut().zip(end.channels) {
            channel.extend(more);
        }
        let fitted = (0..=2 * (by - 1))
            .filter_map(|off| {
                let end = between + at_end + off + 1 - by;
                Some((signal::seam_db(&both, at_start, end, period)?, off))
            })
            .min_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((seam_db, off)) = fitted.filter(|(seam, _)| *seam <= place.seam_db + MOST_WORSE_DB) {
            kept.push(LoopCandidate {
                end_frame: place.end_frame + off + 1 - by,
                seam_db,
                likeness_percent: signal::likeness_percent(seam_db),
                ..*place
            });
        }
    }
    facts.loops = kept;
    Ok(())
}
