//! A server of files, as plain as can be: what any page must do with. Each answer ends its connection, so that one that was stopped answers nobody any more.

use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Serves a folder on loopback until it is stopped or dropped.
pub struct PlainServer {
    /// Where, without a slash at its end.
    pub address: String,
    stopped: Arc<AtomicBool>,
}

impl PlainServer {
    /// Begins.
    ///
    /// # Errors
    /// Where nothing can be listened on.
    pub fn start(folder: &Path) -> anyhow::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let address = format!("http://{}", listener.local_addr()?);
        let stopped = Arc::new(AtomicBool::new(false));
        let (folder, over) = (folder.to_owned(), stopped.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if over.load(Ordering::Relaxed) {
                    return;
                }
                let folder = folder.clone();
                // Whoever hangs up has what they wanted.
                std::thread::spawn(move || answer(stream, &folder).ok());
            }
        });
        Ok(Self { address, stopped })
    }

    /// Answers nobody any more.
    pub fn stop(&self) {
        self.stopped.store(true, Ordering::Relaxed);
        // So that it looks up.
        TcpStream::connect(self.address.trim_start_matches("http://")).ok();
    }
}

impl Drop for PlainServer {
    fn drop(&mut self) {
        self.stop();
    }
}

fn answer(mut stream: TcpStream, folder: &Path) -> std::io::Result<()> {
    let mut lines = BufReader::new(stream.try_clone()?).lines();
    let first = lines.next().transpose()?.unwrap_or_default();
    for line in lines {
        if line?.is_empty() {
            break;
        }
    }
    let asked = first.split(' ').nth(1).unwrap_or("/");
    let path = asked.split('?').next().unwrap_or("/").trim_start_matches('/');
    let folders = if path.is_empty() || path.ends_with('/') {
        "index.html"
    } else {
        ""
    };
    let path = format!("{path}{folders}").replace("%20", " ");
    let file = (!path.contains(".."))
        .then(|| std::fs::read(folder.join(&path)).ok())
        .flatten();
    let kind = match PathBuf::from(&path)
        .extension()
        .and_then(|ending| ending.to_str())
    {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript",
        Some("css") => "text/css",
        Some("json") => "application/json",
        Some("svg") => "image/svg+xml",
        _ => "application/octet-stream",
    };
    let (status, body) = match file {
        Some(body) => ("200 OK", body),
        None => ("404 Not Found", Vec::new()),
    };
    let length = body.len();
    write!(
        stream,
        "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
    )?;
    stream.write_all(&body)
}
