//! Axum: the JSON API, the WebSocket, the web files; the runs and the jobs behind them.

mod api;
mod audio;
mod demo;
mod demo_panels;
mod guard;
mod heard_out;
mod live;
mod problem;
mod recording;
mod serve;
mod sets;
mod shared;
mod shell;
mod sweeping;
mod workers;

pub use api::openapi;
pub use demo::fill_demo;
pub use serve::{listen, serve, serve_folder};
pub use shell::SHELL;
pub use workers::work_forever;

use axum::Router;
use axum::middleware::{from_fn, from_fn_with_state};
use live::Live;
use recording::Recorder;
use sets::Sets;
use shared::Shared;
use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use store::{Folder, Store};
use tokio::sync::Semaphore;
use tower_http::services::{ServeDir, ServeFile};
use tower_http::timeout::RequestBodyTimeoutLayer;

/// Requests that work with audio at once: each may hold a whole take.
const LISTENING_AT_ONCE: usize = 4;
/// A body of which nothing comes for so long has been forgotten by whoever sent it.
const BODY_RESTS: Duration = Duration::from_secs(30);

/// What every handler needs.
#[derive(Clone)]
pub struct App {
    pub(crate) store: Store,
    pub(crate) live: Live,
    pub(crate) recorder: Arc<Recorder>,
    pub(crate) views: Shared,
    pub(crate) programs: Shared,
    pub(crate) shelf: Shared,
    pub(crate) sets: Sets,
    pub(crate) listening: Arc<Semaphore>,
    /// The shell of pages that play; none where it was not built.
    shell: Option<Arc<shell::Built>>,
    /// Held as long as anything here lives.
    _folder: Arc<Folder>,
}

impl App {
    /// Goes on with what was going when the folder's last server ended.
    ///
    /// # Errors
    /// Those of the database and the disk.
    pub async fn start(store: Store, folder: Folder) -> anyhow::Result<Self> {
        let live = Live::start(store.clone()).await?;
        let holder = format!("{}/{}", folder.name(), uuid::Uuid::new_v4());
        let recorder = Arc::new(Recorder::new(store.clone(), live.clone(), holder));
        recorder.go_on(&folder).await?;
        let sets = Sets::default();
        sweeping::sweep_forever(store.clone(), sets.clone());
        Ok(Self {
            store,
            live,
            recorder,
            views: Shared::default(),
            programs: Shared::default(),
            shelf: Shared::default(),
            sets,
            listening: Arc::new(Semaphore::new(LISTENING_AT_ONCE)),
            shell: None,
            _folder: Arc::new(folder),
        })
    }

    /// The whole site; `listening` is the address that it is listened for on.
    pub fn router(self, web: &Path, listening: Option<IpAddr>) -> Router {
        let files = ServeDir::new(web).fallback(ServeFile::new(web.join("index.html")));
        api::routes(self)
            .fallback_service(files)
            .layer(RequestBodyTimeoutLayer::new(BODY_RESTS))
            .layer(from_fn(problem::carried_to_its_end))
            .layer(from_fn(problem::only_short_addresses))
            .layer(from_fn_with_state(listening, guard::only_own_pages))
            .layer(from_fn(guard::with_policy))
            .layer(from_fn(heard_out::heard_out))
    }
}
