//! What is played, to and from MIDI files: nothing of it is kept here.

use crate::problem::Problem;
use axum::Json;
use axum::body::Bytes;
use axum::http::header;
use axum::response::IntoResponse;
use formats::{Phrase, PhraseEvent, read_phrase, write_phrase};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// No phrase that is brought is longer.
pub(super) const MOST_BYTES: usize = 16 << 20;

/// A channel message of MIDI, and when it comes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PhraseEventView {
    /// From the beginning of the phrase, in milliseconds.
    at_ms: f64,
    /// Status byte, with the channel.
    status: u8,
    /// Data bytes.
    first: u8,
    second: u8,
}

/// What is played, over time.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PhraseView {
    /// As its maker calls it.
    name: String,
    /// The tempo that it begins at, in quarter notes a minute.
    quarters_a_minute: f64,
    /// Until it begins anew.
    length_ms: f64,
    events: Vec<PhraseEventView>,
}

/// What a MIDI file plays.
#[utoipa::path(post, path = "/api/phrases/read", request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = PhraseView), (status = 422, body = Problem)))]
pub(super) async fn read(bytes: Bytes) -> Result<Json<PhraseView>, Problem> {
    let phrase = read_phrase(&bytes).map_err(|error| Problem::refused(error.to_string()))?;
    Ok(Json(PhraseView {
        name: phrase.name,
        quarters_a_minute: phrase.quarters_a_minute,
        length_ms: phrase.length_ms,
        events: (phrase.events.iter())
            .map(|event| PhraseEventView {
                at_ms: event.at_ms,
                status: event.bytes[0],
                first: event.bytes[1],
                second: event.bytes[2],
            })
            .collect(),
    }))
}

/// What was played, as a MIDI file.
#[utoipa::path(post, path = "/api/phrases/write", request_body = PhraseView, responses((status = 200, content_type = "audio/midi", body = Vec<u8>)))]
pub(super) async fn write(Json(phrase): Json<PhraseView>) -> impl IntoResponse {
    let phrase = Phrase {
        name: phrase.name,
        quarters_a_minute: phrase.quarters_a_minute,
        length_ms: phrase.length_ms,
        events: (phrase.events.iter())
            .map(|event| PhraseEvent {
                at_ms: event.at_ms,
                bytes: [event.status, event.first, event.second],
            })
            .collect(),
    };
    ([(header::CONTENT_TYPE, "audio/midi")], write_phrase(&phrase))
}
