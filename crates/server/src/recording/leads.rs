//! Who leads a recording: what a plan and the wish to record it ask of a session.

use super::run::Keep;
use super::{RunSettings, What};
use instrument::{Cell, How, PAGE_RIG, Plan, Score};
use rig::{PlayedNote, Rig};
use session::{
    CellJob, HandSession, HandSettings, Lead, LongSession, ScoreSession, Session, SessionSettings,
};
use shown::InstrumentView;
use std::collections::HashSet;

/// The cells to record: those asked for, else those without a take that is not refused.
pub(super) fn jobs_of(view: &InstrumentView, settings: &RunSettings) -> Vec<CellJob> {
    let taken: HashSet<Cell> = view
        .takes
        .iter()
        .filter(|take| take.chosen)
        .map(|take| take.cell)
        .collect();
    let asked: HashSet<Cell> = settings.cells.iter().copied().collect();
    view.plan
        .cells()
        .into_iter()
        .filter(|cell| {
            if asked.is_empty() {
                !taken.contains(cell)
            } else {
                asked.contains(cell)
            }
        })
        .filter_map(|cell| {
            let (pass, layer) = view.plan.layer_of(cell)?;
            Some(CellJob {
                cell,
                keys: pass.keys_at(cell.key),
                velocity: layer.strike_velocity,
                hold_ms: pass.hold_ms_at(cell.key),
                tail_ms: pass.tail_ms,
                on: pass.sounds_on,
                controller: pass.controller,
            })
        })
        .collect()
}

pub(super) fn lead_of(
    view: &InstrumentView,
    settings: &RunSettings,
    jobs: Vec<CellJob>,
    channels: usize,
) -> Result<(Box<dyn Lead>, Keep), String> {
    let plan = &view.plan;
    let over_midi = SessionSettings {
        rate_hz: plan.rate_hz,
        channels,
        midi_channel: plan.source.channel - 1,
        midi_bank: plan.source.bank,
        midi_program: plan.source.program - 1,
    };
    if settings.what == What::Check {
        // Every cell may have its take: the check tries the middle of the plan all the same.
        let all = RunSettings {
            cells: plan.cells(),
            ..RunSettings::default()
        };
        let mut jobs = jobs_of(view, &all);
        if plan.source.how == How::OverMidi {
            return Ok((Box::new(Session::check_only(over_midi, jobs)), Keep::Nothing));
        }
        // The loudest note that is planned.
        jobs.sort_by_key(|job| std::cmp::Reverse(job.velocity));
        let hand = hand_settings(view, settings, channels);
        return Ok((Box::new(HandSession::check_only(hand, jobs)), Keep::Nothing));
    }
    if settings.what == What::Source {
        let score = score_for(view, settings)?;
        let keep = Keep::Source(format!("Source {}", chrono_now()), score.clone());
        return Ok((Box::new(ScoreSession::new(over_midi, score)), keep));
    }
    Ok(match plan.source.how {
        How::OverMidi | How::Files => (Box::new(Session::new(over_midi, jobs)), Keep::Takes),
        How::LongTake => {
            let name = format!("{} {}", view.name, chrono_now());
            // A simulated player knows when the piece is over.
            let over = (plan.source.rig != PAGE_RIG).then(|| notes_of(plan).1);
            (Box::new(LongSession::new(channels, over)), Keep::LongTake(name))
        }
        How::ByHand => {
            let hand = hand_settings(view, settings, channels);
            (Box::new(HandSession::new(hand, jobs)), Keep::Takes)
        }
    })
}

/// What is played on the source: what was asked for, else what tells most of it; where nothing can be, why not.
fn score_for(view: &InstrumentView, settings: &RunSettings) -> Result<Score, String> {
    if view.plan.source.how != How::OverMidi {
        return Err(
            "Its source is not played over MIDI: bring a recording of it, with the MIDI file that it plays."
                .into(),
        );
    }
    let asked = settings.score.clone().unwrap_or_default();
    let score = Score {
        notes: match asked.notes.is_empty() {
            true => Score::of_keys(&work::sounding_keys(&view.program)).notes,
            false => asked.notes,
        },
        ..asked
    };
    if score.notes.is_empty() {
        return Err(
            "Nothing sounds yet: record its notes first, then they are laid beside their source.".into(),
        );
    }
    if !score.is_playable() {
        return Err(
            "That phrase cannot be played: it has too many notes, is too long, or has notes without an end."
                .into(),
        );
    }
    Ok(score)
}

fn hand_settings(view: &InstrumentView, settings: &RunSettings, channels: usize) -> HandSettings {
    let plan = &view.plan;
    HandSettings {
        rate_hz: plan.rate_hz,
        channels,
        pitched: plan.kind.pitched(),
        dies_away: !plan.kind.loops(),
        hands_free: settings.hands_free,
        reference_ms: settings.reference_ms,
        count_in_ms: settings.count_in_ms,
        heard: view
            .takes
            .iter()
            .filter(|take| take.chosen)
            .filter_map(|take| {
                let (_, layer) = plan.layer_of(take.cell)?;
                Some((layer.strike_velocity, take.facts.as_ref()?.peak_dbfs?))
            })
            .collect(),
    }
}

/// The plan's notes in frames, and the frame at which the last is over.
pub(super) fn notes_of(plan: &Plan) -> (Vec<PlayedNote>, u64) {
    let frame = |ms: u64| ms * u64::from(plan.rate_hz) / 1_000;
    let notes = work::plan_notes(plan);
    let end = notes.last().map_or(0, |note| frame(note.end_ms));
    let played = notes
        .iter()
        .map(|note| {
            let times = (note.on_ms, note.off_ms);
            PlayedNote::timed(plan.rate_hz, times, note.cell.key, note.velocity)
        })
        .collect();
    (played, end)
}

/// A simulated player plays the whole plan by heart, with a false start in the middle.
pub(super) fn perform(rig: &mut Rig, plan: &Plan) {
    let (notes, _) = notes_of(plan);
    rig.perform(&notes, &[notes.len() / 2]);
}

/// Date and time, UTC, to the minute.
fn chrono_now() -> String {
    chrono::Utc::now().format("%Y-%m-%d %H:%M").to_string()
}
