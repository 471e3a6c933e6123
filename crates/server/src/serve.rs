//! Serving: connections are taken one by one, and what is only half sent ends.

use crate::App;
use anyhow::Context;
use axum::Router;
use axum::http::{HeaderValue, header};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::service::TowerToHyperService;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use tokio::net::TcpListener;
use tower_http::services::ServeDir;
use tower_http::set_header::SetResponseHeaderLayer;

/// A request whose head is not there after so long has been forgotten by whoever sent it.
const HEAD_WITHIN: Duration = Duration::from_secs(15);
/// After an error of the listener itself (too many open files) it rests so long.
const REST: Duration = Duration::from_millis(100);

/// Listens. Only loopback is allowed, since there is no sign-in yet.
///
/// # Errors
/// With a sentence, where the address is another machine's to reach, or taken.
pub async fn listen(address: SocketAddr) -> anyhow::Result<TcpListener> {
    anyhow::ensure!(
        address.ip().is_loopback(),
        "Ladder has no sign-in yet and so listens on loopback only, not on {address}"
    );
    TcpListener::bind(address)
        .await
        .with_context(|| format!("{address} cannot be listened on: is a Ladder running there already?"))
}

/// Serves until the process ends.
///
/// # Errors
/// Those of the listener, at its start.
pub async fn serve(app: App, listener: TcpListener, web: &Path) -> anyhow::Result<()> {
    let router = app.router(web, Some(listener.local_addr()?.ip()));
    answer(router, listener).await
}

/// Serves the files of a folder, and nothing else, until the process ends.
///
/// # Errors
/// That there is no page in it.
pub async fn serve_folder(folder: &Path, listener: TcpListener) -> anyhow::Result<()> {
    anyhow::ensure!(
        folder.join("index.html").is_file(),
        "«{}» holds no page: there is no index.html in it",
        folder.display()
    );
    let files = ServeDir::new(folder);
    // What is looked at again is asked for again: a newer page is seen at once.
    let fresh =
        SetResponseHeaderLayer::overriding(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    answer(Router::new().fallback_service(files).layer(fresh), listener).await
}

async fn answer(router: Router, listener: TcpListener) -> anyhow::Result<()> {
    loop {
        let (stream, _) = match listener.accept().await {
            Ok(accepted) => accepted,
            Err(error) => {
                tracing::warn!("a connection could not be taken: {error}");
                tokio::time::sleep(REST).await;
                continue;
            }
        };
        // Small messages of a line go at once.
        let _ = stream.set_nodelay(true);
        let service = TowerToHyperService::new(router.clone());
        tokio::spawn(async move {
            let mut builder = Builder::new(TokioExecutor::new());
            builder
                .http1()
                .timer(TokioTimer::new())
                .header_read_timeout(HEAD_WITHIN);
            if let Err(error) = builder
                .serve_connection_with_upgrades(TokioIo::new(stream), service)
                .await
            {
                tracing::debug!("a connection ended: {error}");
            }
        });
    }
}
