//! Whoever is refused before all that they sent was read still hears why: a connection that is closed on unread bytes is reset, and the answer
//! is lost with it (RFC 9112, 9.6).

use axum::body::{Body, BodyDataStream, Bytes};
use axum::extract::Request;
use axum::middleware::Next;
use axum::response::Response;
use futures::{Stream, StreamExt};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::sync::oneshot;

/// So many bytes that nobody wants are read, so that the answer arrives.
const MOST_UNWANTED: usize = 256 << 20;
/// So long is waited for each part of them.
const PART_COMES_WITHIN: Duration = Duration::from_secs(5);

/// A body that goes back to where it came from when a handler lets go of it before its end.
struct Lent {
    body: Option<BodyDataStream>,
    back: Option<oneshot::Sender<BodyDataStream>>,
}

impl Stream for Lent {
    type Item = Result<Bytes, axum::Error>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let Some(body) = &mut self.body else {
            return Poll::Ready(None);
        };
        let part = body.poll_next_unpin(context);
        if matches!(part, Poll::Ready(None | Some(Err(_)))) {
            self.body = None;
        }
        part
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        if let (Some(body), Some(back)) = (self.body.take(), self.back.take()) {
            // Nobody waits for it where the answer has gone out already.
            back.send(body).ok();
        }
    }
}

/// Reads what a handler left unread, and answers then.
pub(crate) async fn heard_out(request: Request, next: Next) -> Response {
    let (back, mut rest) = oneshot::channel();
    let request = request.map(|body| {
        Body::from_stream(Lent {
            body: Some(body.into_data_stream()),
            back: Some(back),
        })
    });
    let response = next.run(request).await;
    if let Ok(mut rest) = rest.try_recv() {
        let mut read = 0;
        while let Ok(Some(Ok(part))) = tokio::time::timeout(PART_COMES_WITHIN, rest.next()).await {
            read += part.len();
            if read > MOST_UNWANTED {
                break;
            }
        }
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::Router;
    use axum::http::StatusCode;
    use axum::middleware::from_fn;
    use axum::routing::post;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// Sends so many bytes to a handler that reads none of them or a few, and gives what it answered.
    async fn answer_to(bytes: usize) -> anyhow::Result<String> {
        let router = Router::new()
            .route("/unread", post(async || (StatusCode::NOT_FOUND, "not here")))
            .route("/read", post(async |body: Bytes| body.len().to_string()))
            .layer(from_fn(heard_out));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let serving = tokio::spawn(async move { axum::serve(listener, router).await });
        let mut answers = String::new();
        for path in ["/unread", "/read"] {
            let mut line = tokio::net::TcpStream::connect(address).await?;
            let head = format!(
                "POST {path} HTTP/1.1\r\nhost: a\r\nconnection: close\r\ncontent-length: {bytes}\r\n\r\n"
            );
            line.write_all(head.as_bytes()).await?;
            // Slower than the handler answers.
            for part in vec![b'x'; bytes].chunks(bytes.div_ceil(8).max(1)) {
                tokio::time::sleep(Duration::from_millis(5)).await;
                line.write_all(part).await?;
            }
            line.read_to_string(&mut answers).await?;
        }
        serving.abort();
        Ok(answers)
    }

    #[tokio::test]
    async fn a_refusal_is_heard_however_much_was_sent_to_it() -> anyhow::Result<()> {
        for bytes in [0, 10, 200_000, 20_000_000] {
            let answers = answer_to(bytes).await?;
            assert!(answers.contains("404 Not Found"), "{bytes}: {answers}");
            assert!(answers.contains("not here"), "{bytes}: {answers}");
        }
        // What a handler does read is all there, and too much of it is refused in words.
        assert!(answer_to(200_000).await?.ends_with("200000"));
        assert!(answer_to(20_000_000).await?.contains("413 Payload Too Large"));
        Ok(())
    }
}
