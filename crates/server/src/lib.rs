//! Axum: the JSON API, the WebSocket, the web files; the runs and the jobs behind them.

mod api;
mod audio;
mod curves;
mod demo;
mod guard;
mod live;
mod making;
mod problem;
mod recording;
mod seeking;
mod treated;
mod view;
mod workers;

pub use api::openapi;
pub use demo::fill_demo;
pub use workers::work_forever;

use axum::Router;
use live::Live;
use recording::Recorder;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use store::Store;
use tower_http::services::{ServeDir, ServeFile};

/// What every handler needs.
#[derive(Clone)]
pub struct App {
    pub(crate) store: Store,
    pub(crate) live: Live,
    pub(crate) recorder: Arc<Recorder>,
}

impl App {
    /// Opens everything and goes on with the runs that were going when the server ended.
    pub async fn start(store: Store) -> anyhow::Result<Self> {
        for entry in std::fs::read_dir(store.spool_folder())? {
            // What lies here is half a take: nothing of it was promised.
            std::fs::remove_file(entry?.path())?;
        }
        let live = Live::start(store.clone()).await?;
        let recorder = Arc::new(Recorder::new(store.clone(), live.clone()));
        for (instrument, settings) in store.runs().await? {
            tracing::info!(instrument, "going on with a run");
            let settings = serde_json::from_str(&settings).unwrap_or_default();
            if let Err(sentence) = recorder.begin(instrument, settings).await? {
                tracing::warn!(instrument, "{sentence}");
            }
        }
        Ok(Self {
            store,
            live,
            recorder,
        })
    }

    /// The whole site.
    pub fn router(self, web: &Path) -> Router {
        let files = ServeDir::new(web).fallback(ServeFile::new(web.join("index.html")));
        api::routes(self)
            .fallback_service(files)
            .layer(axum::middleware::from_fn(guard::only_own_pages))
    }
}

/// Serves until the process ends. Only loopback is allowed, since there is no sign-in yet.
pub async fn serve(
    app: App,
    address: SocketAddr,
    web: &Path,
    ready: impl FnOnce(SocketAddr),
) -> anyhow::Result<()> {
    anyhow::ensure!(
        address.ip().is_loopback(),
        "Ladder has no sign-in yet and so listens on loopback only, not on {address}"
    );
    let listener = tokio::net::TcpListener::bind(address).await?;
    ready(listener.local_addr()?);
    axum::serve(listener, app.router(web)).await?;
    Ok(())
}
