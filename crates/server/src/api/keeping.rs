//! What is kept beside the instruments: shapes and courses under a name, how loud the shelf is meant to be.

use crate::App;
use crate::problem::Problem;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use shown::{HOUSE_LIMITS, SHELF};
use utoipa::ToSchema;

/// A kind of thing that is kept.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum KeptKind {
    /// A whole shape, used on any strand.
    Shape,
    /// A course over time, used for loudness, brightness or pitch of any strand.
    Course,
    /// A number that all instruments of the shelf go by.
    Shelf,
    /// From where on something is found, in all instruments: by the name of its kind.
    Limit,
}

impl KeptKind {
    fn word(self) -> &'static str {
        match self {
            Self::Shape => "shape",
            Self::Course => "course",
            Self::Shelf => SHELF,
            Self::Limit => HOUSE_LIMITS,
        }
    }
}

/// Something that is kept.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct KeptView {
    /// Of which kind.
    kind: KeptKind,
    /// As its maker calls it.
    name: String,
    /// What the page made of it.
    said: serde_json::Value,
}

/// Longer ones are no shape.
const MOST_BYTES: usize = 1 << 20;

/// What is kept of a kind, by name.
#[utoipa::path(get, path = "/api/kept/{kind}", params(("kind" = KeptKind, Path)), responses((status = 200, body = Vec<KeptView>)))]
pub(super) async fn kept(
    State(app): State<App>,
    Path(kind): Path<KeptKind>,
) -> Result<Json<Vec<KeptView>>, Problem> {
    let all = app.store.kept(kind.word()).await?;
    Ok(Json(
        all.into_iter()
            .map(|(name, said)| KeptView { kind, name, said })
            .collect(),
    ))
}

/// Keeps something; one of the same name is this one from now on.
#[utoipa::path(put, path = "/api/kept/{kind}/{name}", params(("kind" = KeptKind, Path), ("name" = String, Path)), request_body = serde_json::Value, responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn keep(
    State(app): State<App>,
    Path((kind, name)): Path<(KeptKind, String)>,
    Json(said): Json<serde_json::Value>,
) -> Result<StatusCode, Problem> {
    let name = super::checked_name(&name, "What is kept")?;
    if said.to_string().len() > MOST_BYTES {
        return Err(Problem::refused(
            "That is too long to be kept: a megabyte is the most.",
        ));
    }
    app.store.keep(kind.word(), name, &said).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets something; what was made with it stays.
#[utoipa::path(delete, path = "/api/kept/{kind}/{name}", params(("kind" = KeptKind, Path), ("name" = String, Path)), responses((status = 204)))]
pub(super) async fn forget(
    State(app): State<App>,
    Path((kind, name)): Path<(KeptKind, String)>,
) -> Result<StatusCode, Problem> {
    app.store.forget(kind.word(), &name).await?;
    Ok(StatusCode::NO_CONTENT)
}
