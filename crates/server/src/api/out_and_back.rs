//! Takes that go out to be edited as files, and come back as new takes of the same cells.

use super::Created;
use super::files::{Brought, FileName, brought};
use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use instrument::{Origin, file_of_take, mark_of_take, take_of_name};
use serde::Deserialize;
use shown::{TakeView, seen};
use std::collections::BTreeSet;
use std::io::Write;
use store::{NewTake, StoreLibrary};
use utoipa::IntoParams;
use work::{MadeTake, TreatedTake};

/// Takes that go out.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct OutWish {
    /// Their numbers, with commas between; none for every chosen take.
    #[serde(default)]
    takes: String,
    /// Trimmed, faded and levelled, not as they were recorded.
    #[serde(default)]
    treated: bool,
}

/// Takes as files with stable names and a mark inside, in a zip, to be edited elsewhere.
#[utoipa::path(get, path = "/api/instruments/{id}/out", params(("id" = u64, Path), OutWish), responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 422, body = Problem)))]
pub(super) async fn takes_out(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(wish): Query<OutWish>,
) -> Result<impl IntoResponse, Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let asked: BTreeSet<u64> = wish
        .takes
        .split(',')
        .filter_map(|id| id.trim().parse().ok())
        .collect();
    let wanted = |take: &TakeView| {
        if asked.is_empty() {
            take.chosen
        } else {
            asked.contains(&take.id)
        }
    };
    let snapshot = seen.snapshot(wanted);
    let going: Vec<Going> = snapshot
        .takes
        .into_values()
        .map(|take| Going {
            name: file_of_take(&seen.view.plan, take.cell, take.id),
            treated: wish.treated,
            take,
        })
        .collect();
    if going.is_empty() {
        return Err(Problem::refused(
            "Choose takes that are measured: there is nothing to send out.",
        ));
    }
    let disposition = super::attachment(&format!("{} takes.zip", seen.view.name));
    // With all that play goes what a script builds the same from.
    let whole =
        asked.is_empty() && !wish.treated && !seen.view.brought.as_ref().is_some_and(|of| of.as_brought);
    let plan = if whole {
        Some(seen.plan_file().to_toml().map_err(Problem::refused)?)
    } else {
        None
    };
    // The zip is written while it is read: neither memory nor disk holds all of it.
    let (near, far) = tokio::io::duplex(PIPE_BYTES);
    let library = app.store.library();
    tokio::task::spawn_blocking(move || {
        let out = tokio_util::io::SyncIoBridge::new(far);
        if let Err(error) = write_going(&library, going, plan, out) {
            // The page has gone, or a recording cannot be read: the zip stays without its end, which every reader notices.
            tracing::warn!("takes going out: {error:#}");
        }
    });
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_owned()),
        (header::CONTENT_DISPOSITION, disposition),
    ];
    Ok((
        headers,
        Body::from_stream(tokio_util::io::ReaderStream::new(near)),
    ))
}

/// What lies between the writer of a zip and the one who reads it.
const PIPE_BYTES: usize = 256 * 1024;

/// A take on its way out.
struct Going {
    name: String,
    /// Not as it was recorded.
    treated: bool,
    take: TreatedTake,
}

/// Writes takes into a zip, one at a time in memory.
fn write_going(
    library: &StoreLibrary,
    going: Vec<Going>,
    plan: Option<String>,
    out: impl Write,
) -> anyhow::Result<()> {
    let mut zip = zip::ZipWriter::new_stream(out);
    let plain = zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Stored)
        .large_file(true);
    if let Some(plan) = plan {
        zip.start_file("plan.toml", plain)?;
        zip.write_all(plan.as_bytes())?;
    }
    for Going { name, treated, take } in going {
        let mut sampler = formats::Sampler {
            root_key: take.cell.key,
            recording_cents: 0.0,
            looped: None,
            remarks: formats::Remarks {
                mark: Some(mark_of_take(take.id)),
                ..formats::Remarks::default()
            },
        };
        let audio = if treated {
            let treatment = &take.treatment;
            let bake = formats::Bake {
                sample: 0,
                start_frame: treatment.start_frame,
                end_frame: treatment.end_frame,
                fade_in_frames: treatment.fade_in_frames,
                fade_out_frames: treatment.fade_out_frames,
                fade_curve: treatment.fade_curve,
                looped: None,
                rounds: formats::Rounds::PLAIN,
                gain_db: treatment.gain_db,
                one_side: false,
                recast: None,
            };
            (sampler.root_key, sampler.recording_cents) = (treatment.root_key, treatment.recording_cents);
            formats::bake(&take.whole(library)?, &bake)
        } else {
            take.raw(library, (0, usize::MAX), 0, u64::MAX)?
        };
        zip.start_file(name, plain)?;
        formats::write_wav(&mut zip, &audio, take.part.form.bits, Some(&sampler))?;
    }
    zip.finish()?.into_inner().flush()?;
    Ok(())
}

/// A file that comes back, edited: a new take of the same cell, linked to the one it went out as.
#[utoipa::path(post, path = "/api/instruments/{id}/back", params(("id" = u64, Path), FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn take_back(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let Brought { recording, heard } = brought(&app, &name, body).await?;
    // An editor may drop the mark or rename the file: either is enough.
    let from = match heard.from_take.or_else(|| take_of_name(&name)) {
        Some(take) => app.store.take(take).await?.filter(|row| row.instrument_id == id),
        None => None,
    };
    let from = from.ok_or_else(|| {
        Problem::refused(format!(
            "«{name}» does not say which take of this instrument it was: keep the [take …] in its name."
        ))
    })?;
    let origin = Origin {
        from_take: Some(from.id),
        made_by: Some("edited outside".to_owned()),
        file: Some(name),
        ..Origin::default()
    };
    // The earlier one may have been chosen by hand: what comes back is meant to be used, and Undo brings the earlier one back.
    let made = MadeTake {
        said: Vec::new(),
        take: NewTake::whole(from.cell, recording, origin),
        in_place_of: Some(from.id),
        looped: None,
    };
    let ids = app.store.use_made(id, "use the edited take", &[made]).await?;
    let id = ids.first().copied().unwrap_or(0);
    Ok((StatusCode::CREATED, Json(Created { id })))
}
