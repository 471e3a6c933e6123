//! The panel: a first one, and the pictures that stand on it.

use super::files::receive;
use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use formats::picture_kind;
use instrument::offered_panel;
use serde::Serialize;
use shown::seen;
use std::io::Read;
use utoipa::ToSchema;
use work::PICTURES;

/// A picture is no longer than this.
const MOST_PICTURE_BYTES: u64 = 8 << 20;
const NO_PICTURE: &str = "That is no PNG, JPEG, WebP or SVG picture.";
/// What a picture may do where somebody opens it by itself: nothing but be seen.
const SANDBOXED: &str = "default-src 'none'; style-src 'unsafe-inline'; sandbox";

/// Lays out a panel made of what the instrument has, by one change; nothing sounds otherwise until somebody moves it.
#[utoipa::path(post, path = "/api/instruments/{id}/panel", params(("id" = u64, Path)), responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn lay_out_panel(
    State(app): State<App>,
    Path(id): Path<u64>,
) -> Result<StatusCode, Problem> {
    let seen = seen(&app.store, id)
        .await?
        .ok_or_else(|| Problem::missing("instrument"))?;
    if !seen.view.panel.parts.is_empty() {
        return Err(Problem::refused(
            "There is a panel already: remove its parts to have one laid out.",
        ));
    }
    let wishes = offered_panel(&seen.view.program);
    if wishes.is_empty() {
        return Err(Problem::refused(
            "Nothing sounds yet: a panel is made of what can be heard.",
        ));
    }
    (app.store.change(id, "lay out a first panel", wishes).await?)
        .map_err(|error| Problem::refused(error.to_string()))?;
    Ok(StatusCode::NO_CONTENT)
}

/// A picture that was kept.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct KeptPicture {
    /// Its name: the hash of its bytes.
    hash: String,
}

/// Keeps a picture for panels.
#[utoipa::path(post, path = "/api/pictures", request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201, body = KeptPicture), (status = 422, body = Problem)))]
pub(super) async fn keep_picture(
    State(app): State<App>,
    body: Body,
) -> Result<(StatusCode, Json<KeptPicture>), Problem> {
    let file = app.store.scratch().file()?;
    receive(
        body,
        "picture",
        file.reopen()?,
        MOST_PICTURE_BYTES,
        "A picture is no longer than 8 MB.",
    )
    .await?;
    let mut bytes = Vec::new();
    file.reopen()?.read_to_end(&mut bytes)?;
    if picture_kind(&bytes).is_none() {
        return Err(Problem::refused(NO_PICTURE));
    }
    let hash = blake3::hash(&bytes).to_hex().to_string();
    app.store.put_bytes(&format!("{PICTURES}{hash}"), bytes).await?;
    Ok((StatusCode::CREATED, Json(KeptPicture { hash })))
}

/// A picture as it was kept.
#[utoipa::path(get, path = "/api/pictures/{hash}", params(("hash" = String, Path)), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem)))]
pub(super) async fn picture(State(app): State<App>, Path(hash): Path<String>) -> Result<Response, Problem> {
    let is_hash = hash.len() == 64 && hash.bytes().all(|byte| byte.is_ascii_hexdigit());
    if !is_hash {
        return Err(Problem::missing("picture"));
    }
    let bytes = app
        .store
        .bytes_of(&format!("{PICTURES}{hash}"), 0..u64::MAX)
        .await?;
    let bytes = bytes.ok_or_else(|| Problem::missing("picture"))?;
    let kind = picture_kind(&bytes).unwrap_or("application/octet-stream");
    let headers = [
        (header::CONTENT_TYPE, kind),
        (header::CONTENT_SECURITY_POLICY, SANDBOXED),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::CACHE_CONTROL, "private, max-age=31536000, immutable"),
    ];
    Ok((headers, bytes).into_response())
}
