//! Long takes: brought, drawn, cut, dealt out to cells.

use super::Created;
use super::files::{FileName, let_come};
use crate::App;
use crate::audio::{Columns, Part, PeaksView, Stretch, peaks_of};
use crate::problem::Problem;
use crate::workers::Importing;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use futures::TryStreamExt;
use instrument::{Cell, Deal, Dealt, MOST_TAKE_S, Origin, Slice, Slicing, deal, deal_by_times};
use serde::{Deserialize, Serialize};
use shown::{InstrumentView, view_of};
use signal::{GridSettings, SilenceSettings, SteadyStretch};
use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};
use store::{LongTakeRow, NewTake};
use utoipa::ToSchema;
use work::{JobKind, levels_path};

/// A phrase longer than this is looked at in parts.
const LONGEST_PHRASE_S: u64 = 120;
/// At most so much of a slice is listened to for its pitch.
const HEARD_S: u64 = 3;

async fn found(app: &App, id: u64) -> Result<LongTakeRow, Problem> {
    app.store
        .long_take(id)
        .await?
        .ok_or_else(|| Problem::missing("long take"))
}

/// Brings a file as a long take: hours long, streamed; a job reads it.
#[utoipa::path(post, path = "/api/instruments/{id}/long-takes", params(("id" = u64, Path), FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn bring_long_take(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<(StatusCode, Json<Created>), Problem> {
    shown::plan_of(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let name = super::checked_name(name.rsplit(['/', '\\']).next().unwrap_or(""), "A file")?;
    let file = format!("uploads/{}", uuid::Uuid::new_v4());
    let broken = AtomicBool::new(false);
    let mut body = body.into_data_stream();
    let told = (&mut body).inspect_err(|_| broken.store(true, Ordering::Relaxed));
    let count = match app.store.put_stream(&file, told).await {
        Err(_) if broken.load(Ordering::Relaxed) => {
            return Err(Problem::refused(format!(
                "«{name}» did not arrive whole: send it again."
            )));
        }
        Err(error) => {
            let_come(&mut body).await;
            return Err(error.into());
        }
        Ok(count) => count,
    };
    if count == 0 {
        app.store.forget_file(&file).await?;
        return Err(Problem::refused(format!("«{name}» is empty.")));
    }
    let importing = Importing {
        file,
        name: name.to_owned(),
    };
    let input = serde_json::to_value(importing)?;
    let id = app.store.enqueue(id, JobKind::Import, &input).await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// What a stretch of a long take looks like.
#[utoipa::path(get, path = "/api/long-takes/{id}/peaks", params(("id" = u64, Path), Columns), responses((status = 200, body = PeaksView)))]
pub(super) async fn long_take_peaks(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Columns>,
) -> Result<Json<PeaksView>, Problem> {
    let row = found(&app, id).await?;
    let part = Part {
        recording: &row.recording,
        form: row.form,
        first: 0,
        frames: row.frames,
    };
    peaks_of(&app, part, wish).await
}

/// Frames of a long take, as those of a take.
#[utoipa::path(get, path = "/api/long-takes/{id}/audio", params(("id" = u64, Path), Stretch), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>)))]
pub(super) async fn long_take_audio(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Stretch>,
) -> Result<impl IntoResponse, Problem> {
    let row = found(&app, id).await?;
    let end = wish
        .end
        .min(wish.first.saturating_add(crate::audio::MOST_FRAMES))
        .min(row.frames);
    if wish.first >= end {
        return Err(Problem::refused("That stretch is empty."));
    }
    let audio = app.store.long_take_audio(&row, wish.first, end).await?;
    Ok((
        [(header::CONTENT_TYPE, "application/octet-stream")],
        work::as_bytes(&audio),
    ))
}

/// How to cut.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum Cutting {
    /// Where it is silent.
    Silence(SilenceSettings),
    /// By the clock.
    Grid(GridSettings),
}

/// What to cut, and how.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct CutWish {
    /// How.
    cut: Cutting,
    /// Only from here.
    #[serde(default)]
    first: Option<u64>,
    /// Only up to here.
    #[serde(default)]
    end: Option<u64>,
}

/// Where it would be cut.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct CutView {
    /// Of the stretch that was looked at.
    noise_floor_dbfs: f64,
    /// In order.
    slices: Vec<Slice>,
}

/// Where a long take would be cut.
#[utoipa::path(post, path = "/api/long-takes/{id}/cut", params(("id" = u64, Path)), request_body = CutWish, responses((status = 200, body = CutView), (status = 422, body = Problem)))]
pub(super) async fn cut(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<CutWish>,
) -> Result<Json<CutView>, Problem> {
    let row = found(&app, id).await?;
    let levels = app
        .store
        .bytes_of(&levels_path(&row.recording), 0..u64::MAX)
        .await?
        .ok_or_else(|| Problem::refused("It is still being looked at: in a moment."))?;
    let view = tokio::task::spawn_blocking(move || {
        let mut envelope = work::envelope_of(&levels, row.form.rate_hz);
        // The floor is that of the whole: a stretch may have no silence of its own.
        let noise_floor_dbfs = envelope.floor_dbfs();
        let step = envelope.step_frames as u64;
        let from = (wish.first.unwrap_or(0) / step).min(envelope.levels.len() as u64);
        let to = (wish.end.unwrap_or(row.frames).div_ceil(step)).clamp(from, envelope.levels.len() as u64);
        envelope.levels = envelope.levels[from as usize..to as usize].to_vec();
        let found = match &wish.cut {
            Cutting::Silence(settings) => signal::slice_by_silence(&envelope, noise_floor_dbfs, settings),
            Cutting::Grid(settings) => signal::slice_by_grid(&envelope, row.form.rate_hz, settings),
        };
        let slices = found
            .into_iter()
            .map(|slice| Slice {
                first_frame: slice.first_frame + from * step,
                end_frame: (slice.end_frame + from * step).min(row.frames),
                key: None,
                cents: None,
                in_tail: slice.in_tail,
                left_out: slice.doubtful,
            })
            .filter(|slice| slice.first_frame < slice.end_frame)
            .collect();
        CutView {
            noise_floor_dbfs,
            slices,
        }
    })
    .await?;
    Ok(Json(view))
}

/// Listens to slices: gives them with the notes heard. At most 64 at once, so that a page can show how far it is.
#[utoipa::path(post, path = "/api/long-takes/{id}/hear", params(("id" = u64, Path)), request_body = Vec<Slice>, responses((status = 200, body = Vec<Slice>)))]
pub(super) async fn hear(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(slices): Json<Vec<Slice>>,
) -> Result<Json<Vec<Slice>>, Problem> {
    let row = found(&app, id).await?;
    if slices.len() > 64 {
        return Err(Problem::refused("At most 64 slices at once."));
    }
    let mut heard = Vec::with_capacity(slices.len());
    for slice in slices {
        let end = slice.end_frame.min(
            slice
                .first_frame
                .saturating_add(HEARD_S * u64::from(row.form.rate_hz)),
        );
        let audio = app.store.long_take_audio(&row, slice.first_frame, end).await?;
        let pitch = tokio::task::spawn_blocking(move || signal::measure_pitch(&audio)).await?;
        heard.push(Slice {
            key: pitch.map(|pitch| pitch.key),
            cents: pitch.map(|pitch| pitch.cents),
            ..slice
        });
    }
    Ok(Json(heard))
}

/// Stretches of a phrase that would hold as notes, best to loop first.
#[utoipa::path(get, path = "/api/long-takes/{id}/phrase", params(("id" = u64, Path), Stretch), responses((status = 200, body = Vec<SteadyStretch>), (status = 422, body = Problem)))]
pub(super) async fn phrase(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<Stretch>,
) -> Result<Json<Vec<SteadyStretch>>, Problem> {
    let row = found(&app, id).await?;
    if wish.end.saturating_sub(wish.first) > LONGEST_PHRASE_S * u64::from(row.form.rate_hz) {
        return Err(Problem::refused(
            "Look closer first: notes are found in two minutes of a phrase at once.",
        ));
    }
    let audio = app
        .store
        .long_take_audio(&row, wish.first, wish.end.min(row.frames))
        .await?;
    if audio.frames() == 0 {
        return Err(Problem::refused("That stretch is empty."));
    }
    let stretches = tokio::task::spawn_blocking(move || {
        let mut found = signal::steady_stretches(&audio.to_mono(), audio.rate_hz);
        for stretch in &mut found {
            stretch.first_frame += wish.first;
            stretch.end_frame += wish.first;
        }
        found
    })
    .await?;
    Ok(Json(stretches))
}

/// How slices find their cells.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum DealName {
    /// See [`Deal`].
    InOrder,
    /// See [`Deal`].
    Repeats,
    /// See [`Deal`].
    ByPitch,
    /// By the times of the plan's MIDI file.
    MidiFile,
}

/// A way to deal.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct DealWish {
    /// Which.
    how: DealName,
}

fn of_instrument(view: &InstrumentView, row: &LongTakeRow) -> Slicing {
    view.long_takes
        .iter()
        .find(|take| take.id == row.id)
        .map(|take| take.slicing.clone())
        .unwrap_or_default()
}

async fn with_instrument(app: &App, id: u64) -> Result<(LongTakeRow, InstrumentView), Problem> {
    let row = found(app, id).await?;
    let view = view_of(&app.store, row.instrument_id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    Ok((row, view))
}

/// Where the kept slices would go; nothing is done yet.
#[utoipa::path(post, path = "/api/long-takes/{id}/deal", params(("id" = u64, Path)), request_body = DealWish, responses((status = 200, body = Vec<Dealt>)))]
pub(super) async fn deal_out(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<DealWish>,
) -> Result<Json<Vec<Dealt>>, Problem> {
    let (row, view) = with_instrument(&app, id).await?;
    let slices = of_instrument(&view, &row).slices;
    let taken: HashSet<Cell> = view.takes.iter().filter(|t| t.chosen).map(|t| t.cell).collect();
    let how = match wish.how {
        DealName::InOrder => Deal::InOrder,
        DealName::Repeats => Deal::Repeats,
        DealName::ByPitch => Deal::ByPitch,
        DealName::MidiFile => {
            let notes: Vec<(Cell, f64)> = work::plan_notes(&view.plan)
                .iter()
                .map(|note| (note.cell, note.sounds_ms(&view.plan) as f64))
                .collect();
            let used: Vec<usize> = (0..slices.len()).filter(|n| !slices[*n].left_out).collect();
            let ms = |frame: u64| frame as f64 * 1_000.0 / f64::from(row.form.rate_hz);
            let starts: Vec<f64> = used.iter().map(|n| ms(slices[*n].first_frame)).collect();
            let dealt = deal_by_times(&starts, &notes)
                .into_iter()
                .map(|d| Dealt {
                    slice: used[d.slice],
                    cell: d.cell,
                })
                .collect();
            return Ok(Json(dealt));
        }
    };
    Ok(Json(deal(&view.plan, &slices, how, &taken)))
}

/// Makes takes of the kept slices.
#[utoipa::path(post, path = "/api/long-takes/{id}/takes", params(("id" = u64, Path)), request_body = Vec<Dealt>, responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn slices_to_takes(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(dealt): Json<Vec<Dealt>>,
) -> Result<StatusCode, Problem> {
    let (row, view) = with_instrument(&app, id).await?;
    let slices = of_instrument(&view, &row).slices;
    let planned: HashSet<Cell> = view.plan.cells().into_iter().collect();
    let mut takes = Vec::new();
    for dealt in dealt {
        let Some(cell) = dealt.cell else { continue };
        let slice = slices
            .get(dealt.slice)
            .ok_or_else(|| Problem::refused("A slice has gone meanwhile: deal again."))?;
        if !planned.contains(&cell) {
            return Err(Problem::refused(
                "A cell has gone from the plan meanwhile: deal again.",
            ));
        }
        let end = slice.end_frame.min(row.frames);
        let frames = end.saturating_sub(slice.first_frame);
        if frames == 0 {
            return Err(Problem::refused(
                "A slice lies outside its recording: cut it again.",
            ));
        }
        if frames > MOST_TAKE_S * u64::from(row.form.rate_hz) {
            return Err(Problem::refused(format!(
                "A slice is longer than {} minutes, which no take may be: cut it.",
                MOST_TAKE_S / 60
            )));
        }
        let origin = Origin {
            file: Some(row.name.clone()),
            ..Origin::default()
        };
        takes.push(NewTake {
            first_frame: slice.first_frame,
            frames,
            ..NewTake::whole(cell, row.recording(), origin)
        });
    }
    if takes.is_empty() {
        return Err(Problem::refused("No slice fits a cell of the plan."));
    }
    app.store.add_takes(row.instrument_id, &takes).await?;
    Ok(StatusCode::NO_CONTENT)
}
