//! Errors as `application/problem+json` (RFC 9457), with a sentence a musician understands.

use axum::body::Body;
use axum::extract::Request;
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use utoipa::ToSchema;

/// What went wrong.
#[derive(Debug, Serialize, ToSchema)]
pub struct Problem {
    /// Status in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What happened and what to do.
    pub detail: String,
}

impl Problem {
    /// The request cannot be done as it is.
    pub fn refused(sentence: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, sentence)
    }

    /// It is not there.
    pub fn missing(what: &str) -> Self {
        Self::new(
            StatusCode::NOT_FOUND,
            format!("There is no such {what}; it may have been removed."),
        )
    }

    /// With a status of its own.
    pub fn new(status: StatusCode, sentence: impl Into<String>) -> Self {
        Self {
            title: status.canonical_reason().unwrap_or("Error").to_owned(),
            status: status.as_u16(),
            detail: sentence.into(),
        }
    }
}

/// What an error means for whoever waits, as a sentence; `None` where nobody can tell.
pub(crate) fn sentence_of(error: &anyhow::Error) -> Option<(StatusCode, String)> {
    if let Some(refusal) = error.downcast_ref::<work::Refusal>() {
        return Some((StatusCode::UNPROCESSABLE_ENTITY, refusal.0.clone()));
    }
    if store::is_full(error) {
        return Some((
            StatusCode::INSUFFICIENT_STORAGE,
            "The disk is full: make room and try again. What was kept before is safe.".to_owned(),
        ));
    }
    if store::is_locked_out(error) {
        return Some((
            StatusCode::BAD_GATEWAY,
            "The store of the audio does not let Ladder in: its key or secret is not the right one. What was kept before is safe.".to_owned(),
        ));
    }
    store::is_unreachable(error).then(|| {
        (
            StatusCode::SERVICE_UNAVAILABLE,
            "The database does not answer just now. What was kept before is safe; try again in a moment."
                .to_owned(),
        )
    })
}

impl<E: Into<anyhow::Error>> From<E> for Problem {
    fn from(error: E) -> Self {
        let error: anyhow::Error = error.into();
        if let Some((status, sentence)) = sentence_of(&error) {
            tracing::debug!("{error:#}");
            return Self::new(status, sentence);
        }
        tracing::error!("{error:#}");
        Self::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "Something went wrong on Ladder's side. What was kept before is safe; try again.",
        )
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_string(&self).unwrap_or_default();
        (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response()
    }
}

/// So much of a refusal's own words is read.
const MOST_WORDS: usize = 16 << 10;

/// Does all that a request asks for, whether whoever asked still waits for it or not, and turns every refusal into a problem: of a body that
/// cannot be read, of an address or a method that is not there, of a handler that broke down.
pub(crate) async fn carried_to_its_end(request: Request, next: Next) -> Response {
    let response = match tokio::spawn(next.run(request)).await {
        Ok(response) => response,
        Err(error) => {
            tracing::error!("a request broke down: {error}");
            return Problem::new(
                StatusCode::INTERNAL_SERVER_ERROR,
                "Something went wrong on Ladder's side. What was kept before is safe; try again.",
            )
            .into_response();
        }
    };
    let status = response.status();
    let kind = response.headers().get(header::CONTENT_TYPE);
    let is_problem = kind.is_some_and(|kind| kind == "application/problem+json");
    if !(status.is_client_error() || status.is_server_error()) || is_problem {
        return response;
    }
    let (parts, body) = response.into_parts();
    let words = axum::body::to_bytes(body, MOST_WORDS).await.unwrap_or_default();
    let words = String::from_utf8_lossy(&words);
    let mut problem = Problem::new(status, sentence_for(status, &words)).into_response();
    if let Some(allowed) = parts.headers.get(header::ALLOW) {
        problem.headers_mut().insert(header::ALLOW, allowed.clone());
    }
    problem
}

fn sentence_for(status: StatusCode, words: &str) -> String {
    let words = words.trim();
    match status {
        StatusCode::NOT_FOUND => "There is nothing at this address.".to_owned(),
        StatusCode::METHOD_NOT_ALLOWED => "This address cannot be asked in this way.".to_owned(),
        StatusCode::PAYLOAD_TOO_LARGE => "That is more than can be taken at once.".to_owned(),
        StatusCode::URI_TOO_LONG => "This address is too long.".to_owned(),
        StatusCode::REQUEST_TIMEOUT => "Nothing more came: it was left alone. Send it again.".to_owned(),
        _ if words.is_empty() => "This request cannot be understood.".to_owned(),
        _ => format!("This request cannot be understood: {words}"),
    }
}

/// Addresses longer than this lead nowhere.
const LONGEST_PATH: usize = 2_048;

/// Refuses addresses that no file system knows what to do with.
pub(crate) async fn only_short_addresses(request: Request<Body>, next: Next) -> Response {
    if request.uri().path().len() > LONGEST_PATH {
        return Problem::new(StatusCode::URI_TOO_LONG, "This address is too long.").into_response();
    }
    next.run(request).await
}
