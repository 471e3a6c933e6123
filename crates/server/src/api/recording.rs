//! Recordings: begun, told what to do, and the line over which a page brings its frames.

use crate::App;
use crate::problem::Problem;
use crate::recording::{FromPage, PageEnd, RunSettings, ToPage};
use axum::Json;
use axum::extract::ws::{Message, WebSocket, WebSocketUpgrade};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Response;
use futures::{SinkExt, StreamExt};
use rig::Block;
use serde::Deserialize;
use session::Order;
use std::sync::PoisonError;
use tokio::sync::mpsc;
use utoipa::ToSchema;

/// Begins a recording.
#[utoipa::path(post, path = "/api/instruments/{id}/run", params(("id" = u64, Path)), request_body = RunSettings, responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn run(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(settings): Json<RunSettings>,
) -> Result<StatusCode, Problem> {
    app.recorder
        .begin(id, settings)
        .await?
        .map_err(Problem::refused)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Tells a recording what to do.
#[utoipa::path(post, path = "/api/instruments/{id}/run/{order}", params(("id" = u64, Path), ("order" = Order, Path)), responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn order(
    State(app): State<App>,
    Path((id, order)): Path<(u64, Order)>,
) -> Result<StatusCode, Problem> {
    if app.recorder.order(id, order) {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::refused("No recording is going."))
    }
}

/// Takes to play through a box.
#[derive(Debug, Deserialize, ToSchema)]
pub(super) struct ThroughWish {
    /// Their numbers.
    takes: Vec<u64>,
    /// Channels that the page sends; `None` takes the simulated box.
    #[serde(default)]
    channels: Option<u16>,
}

/// Plays takes through an outside box and records what comes back, as new takes of the same cells.
#[utoipa::path(post, path = "/api/instruments/{id}/through", params(("id" = u64, Path)), request_body = ThroughWish, responses((status = 204), (status = 422, body = Problem)))]
pub(super) async fn through(
    State(app): State<App>,
    Path(id): Path<u64>,
    Json(wish): Json<ThroughWish>,
) -> Result<StatusCode, Problem> {
    app.recorder
        .begin_through(id, &wish.takes, wish.channels)
        .await?
        .map_err(Problem::refused)?;
    Ok(StatusCode::NO_CONTENT)
}

/// The line of a page with real devices. The page sends binary messages, each the number of its first frame (64 bits,
/// little-endian) and interleaved 32-bit floats, and [`FromPage`] as text; it is sent [`ToPage`]. It may break and come back: the
/// first message says which frame is wanted next.
pub(super) async fn line(State(app): State<App>, Path(id): Path<u64>, upgrade: WebSocketUpgrade) -> Response {
    let end = app.recorder.page_end(id);
    let why_not = app.recorder.why_not(id);
    upgrade.on_upgrade(|socket| async move {
        match end {
            Some(end) => carry(socket, end).await,
            None => refuse(socket, why_not).await,
        }
    })
}

/// A refused upgrade has no words that a page could read: the line opens, says why, and closes.
async fn refuse(mut socket: WebSocket, sentence: String) {
    if let Ok(text) = serde_json::to_string(&ToPage::Refused { sentence }) {
        // A page that has gone again need not be told.
        let _ = socket.send(Message::Text(text.into())).await;
        let _ = socket.send(Message::Close(None)).await;
    }
}

async fn carry(socket: WebSocket, end: PageEnd) {
    let (mut to_page, mut from_page) = socket.split();
    let (sender, mut messages) = mpsc::unbounded_channel();
    let frame = *end.wanted.lock().unwrap_or_else(PoisonError::into_inner);
    let run = end.run.clone();
    // The newest line is the page's: one that broke without a word is forgotten.
    let _ = sender.send(ToPage::Opened { run, frame });
    for message in end.unsent.lock().unwrap_or_else(PoisonError::into_inner).values() {
        let _ = sender.send(message.clone());
    }
    *end.page.lock().unwrap_or_else(PoisonError::into_inner) = Some(sender);
    let writing = tokio::spawn(async move {
        while let Some(message) = messages.recv().await {
            let Ok(text) = serde_json::to_string(&message) else {
                continue;
            };
            if to_page.send(Message::Text(text.into())).await.is_err() {
                return;
            }
        }
    });
    while let Some(Ok(message)) = from_page.next().await {
        let sent = match message {
            Message::Binary(bytes) => Block::of_message(&bytes).map(|block| end.blocks.send(Ok(block))),
            Message::Text(text) => serde_json::from_str::<FromPage>(&text)
                .ok()
                .map(|said| end.blocks.send(Err(said))),
            // 1001, "going away" (RFC 6455, 7.4.1): the page was closed or left. A line that breaks says nothing.
            Message::Close(Some(close)) if close.code == 1001 => Some(end.blocks.send(Err(FromPage::Closed))),
            _ => None,
        };
        // The recording is over: what still comes is of no use.
        if sent.is_some_and(|sent| sent.is_err()) {
            break;
        }
    }
    writing.abort();
}
