//! What is played, to and from MIDI files: nothing of it is kept here.

use crate::problem::Problem;
use axum::Json;
use axum::body::Bytes;
use axum::http::header;
use axum::response::IntoResponse;
use formats::{Phrase, read_phrase, write_phrase};

/// No phrase that is brought is longer.
pub(super) const MOST_BYTES: usize = 16 << 20;

/// What a MIDI file plays.
#[utoipa::path(post, path = "/api/phrases/read", request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = Phrase), (status = 422, body = Problem)))]
pub(super) async fn read(bytes: Bytes) -> Result<Json<Phrase>, Problem> {
    let phrase = read_phrase(&bytes).map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(phrase))
}

/// What was played, as a MIDI file.
#[utoipa::path(post, path = "/api/phrases/write", request_body = Phrase, responses((status = 200, content_type = "audio/midi", body = Vec<u8>)))]
pub(super) async fn write(Json(phrase): Json<Phrase>) -> impl IntoResponse {
    ([(header::CONTENT_TYPE, "audio/midi")], write_phrase(&phrase))
}
