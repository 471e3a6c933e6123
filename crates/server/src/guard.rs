//! Only pages that this server served may talk to it.

use crate::problem::Problem;
use axum::extract::Request;
use axum::http::{HeaderMap, HeaderName, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

fn is_loopback_name(authority: &str) -> bool {
    let host = authority.rsplit_once(':').map_or(authority, |(host, port)| {
        if port.chars().all(|c| c.is_ascii_digit()) {
            host
        } else {
            authority
        }
    });
    matches!(host, "localhost" | "127.0.0.1" | "[::1]")
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<&str> {
    headers.get(name).map(|value| value.to_str().unwrap_or("?"))
}

/// Refuses a foreign `Host` (a name rebound to loopback) and a foreign `Origin` (another site's script).
pub(crate) async fn only_own_pages(request: Request, next: Next) -> Response {
    let headers = request.headers();
    let host = text(headers, header::HOST).unwrap_or("?");
    let own_origin = text(headers, header::ORIGIN).is_none_or(|origin| {
        origin
            .strip_prefix("http://")
            .is_some_and(|authority| authority == host)
    });
    if is_loopback_name(host) && own_origin {
        return next.run(request).await;
    }
    Problem::new(
        StatusCode::FORBIDDEN,
        "Ladder answers only to its own page on this machine.",
    )
    .into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_loopback_names_are_own() {
        for name in ["localhost:4000", "127.0.0.1", "[::1]:80", "localhost"] {
            assert!(is_loopback_name(name), "{name}");
        }
        for name in [
            "example.org",
            "localhost.example.org:80",
            "192.168.0.2:80",
            "evil",
            "127.0.0.1.example.org",
            "?",
        ] {
            assert!(!is_loopback_name(name), "{name}");
        }
    }
}
