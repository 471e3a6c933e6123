//! Only pages that this server served may talk to it, and only in the ways that it means.

use crate::problem::Problem;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::net::IpAddr;

fn host_of(authority: &str) -> &str {
    authority.rsplit_once(':').map_or(authority, |(host, port)| {
        if port.chars().all(|c| c.is_ascii_digit()) {
            host
        } else {
            authority
        }
    })
}

/// Whether a name stands for this machine alone: the usual ones, and the address that is listened on.
fn is_own_name(authority: &str, listening: Option<IpAddr>) -> bool {
    let host = host_of(authority);
    if matches!(host, "localhost" | "127.0.0.1" | "[::1]") {
        return true;
    }
    let address = host
        .trim_start_matches('[')
        .trim_end_matches(']')
        .parse::<IpAddr>();
    address.is_ok_and(|address| address.is_loopback() && Some(address) == listening)
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).map(|value| value.to_str().unwrap_or("?"))
}

/// Refuses a foreign `Host` (a name rebound to loopback) and a foreign `Origin` (another site's script).
pub(crate) async fn only_own_pages(
    State(listening): State<Option<IpAddr>>,
    request: Request,
    next: Next,
) -> Response {
    let headers = request.headers();
    let host = text(headers, header::HOST).unwrap_or("?");
    let own_origin = text(headers, header::ORIGIN).is_none_or(|origin| {
        origin
            .strip_prefix("http://")
            .is_some_and(|authority| authority == host)
    });
    if is_own_name(host, listening) && own_origin {
        return next.run(request).await;
    }
    Problem::new(
        StatusCode::FORBIDDEN,
        "Ladder answers only to its own page on this machine.",
    )
    .into_response()
}

/// What a page may do: scripts, sounds and pictures of ours, lines to us, WebAssembly of ours; styles as the page sets them while it draws.
const POLICY: &str = "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; style-src 'self' 'unsafe-inline'; \
    img-src 'self' data: blob:; font-src 'self'; connect-src 'self'; media-src 'self' blob:; worker-src 'self'; object-src 'none'; \
    base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// Says with every answer what pages may do with it.
pub(crate) async fn with_policy(request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    for (name, value) in [
        (header::CONTENT_SECURITY_POLICY, POLICY),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::X_FRAME_OPTIONS, "DENY"),
        (header::REFERRER_POLICY, "no-referrer"),
    ] {
        // What is stricter for itself stays so.
        headers.entry(name).or_insert(HeaderValue::from_static(value));
    }
    response
}
