//! Instruments that others made, and packed files: brought as a set of files, looked through, and taken in.

use super::files::{Brought, FileName, heard_in, receive};
use super::{Created, checked_name, download, fresh_name};
use crate::App;
use crate::audio::with_library;
use crate::problem::Problem;
use crate::sets::Set;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::Response;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::sync::Arc;
use store::BroughtRow;
use utoipa::ToSchema;
use uuid::Uuid;
use work::{Found, MOST_BROUGHT_FILES, Offered};

/// No file that is brought is longer: the end of a RIFF file.
const MOST_BYTES: u64 = 4 << 30;
/// Nor are all of a set together.
const MOST_SET_BYTES: u64 = 16 << 30;

/// A set of files.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct NewSet {
    /// Its name.
    #[schema(value_type = String)]
    id: Uuid,
}

/// What is in a set.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct SetView {
    /// What was found in it.
    found: Found,
    /// How many files there are.
    files: usize,
    /// So long are they together.
    bytes: u64,
}

/// How far something is.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Share {
    /// 0 to 1.
    share: f64,
}

/// Which instrument of a set is wanted.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct Wanted {
    /// The file that it stands in.
    file: String,
    /// Its place there.
    place: Option<usize>,
    /// As it is to be called; as it is called there, where this is left out.
    name: Option<String>,
}

fn set_of(app: &App, id: Uuid) -> Result<Arc<Set>, Problem> {
    app.sets.get(id).ok_or_else(|| {
        Problem::new(
            StatusCode::NOT_FOUND,
            "These files are not here any more: bring them again. What was taken in of them is safe.",
        )
    })
}

/// Begins a set of files.
#[utoipa::path(post, path = "/api/brought", responses((status = 201, body = NewSet), (status = 422, body = Problem)))]
pub(super) async fn begin_set(State(app): State<App>) -> Result<(StatusCode, Json<NewSet>), Problem> {
    let begun = app.sets.begin(app.store.scratch().path())?;
    let id = begun.ok_or_else(|| {
        Problem::refused(
            "Too many files are being gone through at once: take in or put aside some, and bring these then.",
        )
    })?;
    Ok((StatusCode::CREATED, Json(NewSet { id })))
}

/// Adds a file to a set, under a path in it; a zip is unpacked.
#[utoipa::path(post, path = "/api/brought/{set}/files", params(("set" = String, Path), FileName), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn add_to_set(
    State(app): State<App>,
    Path(id): Path<Uuid>,
    Query(FileName { name }): Query<FileName>,
    body: Body,
) -> Result<StatusCode, Problem> {
    let set = set_of(&app, id)?;
    let inside = work::path_inside(&name)
        .ok_or_else(|| Problem::refused(format!("«{name}» is no name of a file that can be brought.")))?;
    let most = MOST_BYTES.min(MOST_SET_BYTES.saturating_sub(set.arrived().bytes));
    if set.arrived().files >= MOST_BROUGHT_FILES || most == 0 {
        return Err(Problem::refused(
            "These are more files than one instrument has: bring fewer at once.",
        ));
    }
    let too_long = format!("«{name}» is over 4 GB, or all of them are over 16 GB together.");
    let arriving = app.store.scratch().file()?;
    let bytes = receive(body, &name, arriving.reopen()?, most, &too_long).await?;
    let is_zip = name.to_lowercase().ends_with(".zip");
    let into = set.clone();
    let unpacked = tokio::task::spawn_blocking(move || -> anyhow::Result<usize> {
        if is_zip {
            return work::unpack(arriving.reopen()?, into.folder());
        }
        drop(work::place_for(into.folder(), &inside)?);
        arriving.persist(into.folder().join(inside))?;
        Ok(1)
    });
    unpacked.await?.map_err(|error| named(&name, error))?;
    set.arrive(bytes);
    *set.found.lock().await = None;
    Ok(StatusCode::NO_CONTENT)
}

/// A refusal says of which file it is.
fn named(name: &str, error: anyhow::Error) -> Problem {
    match error.downcast_ref::<work::Refusal>() {
        Some(why) => Problem::refused(format!("«{name}» was left aside. {why}")),
        None => error.into(),
    }
}

async fn found_in(app: &App, set: &Arc<Set>) -> Result<Arc<Found>, Problem> {
    let mut found = set.found.lock().await;
    if let Some(found) = &*found {
        return Ok(found.clone());
    }
    let of = set.clone();
    let fresh = with_library(app, move |_| work::look_through(of.folder())).await?;
    Ok(found.insert(Arc::new(fresh)).clone())
}

/// What is in a set.
#[utoipa::path(get, path = "/api/brought/{set}", params(("set" = String, Path)), responses((status = 200, body = SetView), (status = 404, body = Problem)))]
pub(super) async fn show_set(State(app): State<App>, Path(id): Path<Uuid>) -> Result<Json<SetView>, Problem> {
    let set = set_of(&app, id)?;
    let found = found_in(&app, &set).await?;
    let arrived = set.arrived();
    Ok(Json(SetView {
        found: Found::clone(&found),
        files: arrived.files,
        bytes: arrived.bytes,
    }))
}

/// A set is put aside: what was taken in of it stays.
#[utoipa::path(delete, path = "/api/brought/{set}", params(("set" = String, Path)), responses((status = 204)))]
pub(super) async fn forget_set(State(app): State<App>, Path(id): Path<Uuid>) -> StatusCode {
    app.sets.forget(id);
    StatusCode::NO_CONTENT
}

/// Takes one instrument of a set in: it is on the shelf with all of its recordings when this answers, or nothing of it is.
#[utoipa::path(post, path = "/api/brought/{set}/taking", params(("set" = String, Path)), request_body = Wanted, responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn take_of_set(
    State(app): State<App>,
    Path(id): Path<Uuid>,
    Json(wanted): Json<Wanted>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let set = set_of(&app, id)?;
    let found = found_in(&app, &set).await?;
    let is_it = |of: &&Offered| of.file == wanted.file && of.place == wanted.place && of.refused.is_none();
    let of = (found.instruments.iter().find(is_it))
        .ok_or_else(|| Problem::missing("instrument in these files"))?
        .clone();
    let watch = set.begin_taking();
    let source = source_of(&app, &set, &of.file).await?;
    let (file, files) = (of.file.clone(), set.clone());
    let taken = with_library(&app, move |library| {
        work::take_in(files.folder(), &of, library, &watch, &mut fresh_name)
    });
    let taken = taken.await?;
    let row = BroughtRow {
        brought: taken.planned.brought,
        source,
        lost: taken.lost,
        file,
    };
    let stem = std::path::Path::new(&row.file).file_stem();
    let called = wanted
        .name
        .filter(|name| !name.trim().is_empty())
        .or(Some(taken.name).filter(|name| !name.trim().is_empty()))
        .or(stem.map(|stem| stem.to_string_lossy().into_owned()))
        .unwrap_or_else(|| "Brought".to_owned());
    let called: String = called.chars().filter(|c| !c.is_control()).take(120).collect();
    let name = checked_name(&called, "An instrument")?;
    let id = app
        .store
        .make_of_brought(name, &taken.planned.plan, &row, &taken.takes)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The hash under which a file of a set lies in the store: it is put there once.
async fn source_of(app: &App, set: &Set, file: &str) -> Result<String, Problem> {
    let mut sources = set.sources.lock().await;
    if let Some(hash) = sources.get(file) {
        return Ok(hash.clone());
    }
    let inside = work::path_inside(file).ok_or_else(|| Problem::missing("file"))?;
    let hash = app.store.put_source(&set.folder().join(inside)).await?;
    sources.insert(file.to_owned(), hash.clone());
    Ok(hash)
}

/// How far what is being taken in is.
#[utoipa::path(get, path = "/api/brought/{set}/taking", params(("set" = String, Path)), responses((status = 200, body = Share)))]
pub(super) async fn taking_of_set(
    State(app): State<App>,
    Path(id): Path<Uuid>,
) -> Result<Json<Share>, Problem> {
    let share = set_of(&app, id)?.share();
    Ok(Json(Share { share }))
}

/// What is being taken in is not wanted any more.
#[utoipa::path(delete, path = "/api/brought/{set}/taking", params(("set" = String, Path)), responses((status = 204)))]
pub(super) async fn stop_taking(State(app): State<App>, Path(id): Path<Uuid>) -> Result<StatusCode, Problem> {
    set_of(&app, id)?.stop_taking();
    Ok(StatusCode::NO_CONTENT)
}

/// An audio file of a set waits at an instrument from now on, as if it had been brought there.
#[utoipa::path(post, path = "/api/brought/{set}/to/{instrument}", params(("set" = String, Path), ("instrument" = u64, Path), FileName), responses((status = 201, body = Created), (status = 422, body = Problem)))]
pub(super) async fn set_to_instrument(
    State(app): State<App>,
    Path((id, instrument)): Path<(Uuid, u64)>,
    Query(FileName { name }): Query<FileName>,
) -> Result<(StatusCode, Json<Created>), Problem> {
    let set = set_of(&app, id)?;
    let path = work::path_inside(&name).map(|inside| set.folder().join(inside));
    let path = path
        .filter(|path| path.is_file())
        .ok_or_else(|| Problem::missing("file"))?;
    shown::plan_of(&app.store, instrument)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    let Brought { recording, heard } = heard_in(&app, &name, move || File::open(&path)).await?;
    let heard = serde_json::to_value(heard)?;
    let id = app
        .store
        .add_waiting(instrument, &name, &recording, &heard)
        .await?;
    Ok((StatusCode::CREATED, Json(Created { id })))
}

/// The file that an instrument was brought from, byte for byte.
#[utoipa::path(get, path = "/api/instruments/{id}/source", params(("id" = u64, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem)))]
pub(super) async fn source_file(State(app): State<App>, Path(id): Path<u64>) -> Result<Response, Problem> {
    let source = app.store.source(id).await?;
    let (file, hash) = source.ok_or_else(|| Problem::missing("file"))?;
    let (length, bytes) = app.store.read_source(&hash).await?;
    let name = file.rsplit('/').next().unwrap_or(&file);
    download(name, length, bytes)
}
