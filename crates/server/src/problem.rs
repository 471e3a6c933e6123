//! Errors as `application/problem+json` (RFC 9457), with a sentence a musician understands.

use axum::http::{StatusCode, header};
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

impl<E: Into<anyhow::Error>> From<E> for Problem {
    fn from(error: E) -> Self {
        let error: anyhow::Error = error.into();
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
