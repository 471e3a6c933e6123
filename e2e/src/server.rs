//! A Ladder with a database, a folder and a port of its own.

use anyhow::{Context, bail};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use store::TestDatabase;
use tempfile::TempDir;

/// A running server. Ends with it.
pub struct Ladder {
    child: Child,
    folder: TempDir,
    database: Option<TestDatabase>,
    demo: bool,
    line: String,
    /// `http://127.0.0.1:…`
    pub address: String,
}

fn from_environment(name: &str) -> anyhow::Result<PathBuf> {
    Ok(PathBuf::from(std::env::var(name).with_context(|| {
        format!("{name} is not set: run the tests through bin/test")
    })?))
}

fn spawn(
    folder: &std::path::Path,
    database: &str,
    demo: bool,
    line: &str,
) -> anyhow::Result<(Child, String)> {
    let mut command = Command::new(from_environment("LADDER_PROGRAM")?);
    command
        .args(["start", "--address", "127.0.0.1:0", "--folder"])
        .arg(folder)
        .arg("--web")
        .arg(from_environment("LADDER_WEB")?)
        .env("LADDER_DATABASE_URL", database)
        .env("LADDER_LINK_FAULTS", line)
        .env("RUST_LOG", "warn")
        .stdout(Stdio::piped());
    if demo {
        command.arg("--demo");
    }
    let mut child = command.spawn()?;
    let mut line = String::new();
    BufReader::new(child.stdout.take().context("no output")?).read_line(&mut line)?;
    let address = line
        .trim()
        .strip_prefix("Ladder is at ")
        .with_context(|| format!("it did not start: {line}"))?;
    Ok((child, address.to_owned()))
}

impl Ladder {
    /// Starts one, with or without the demo.
    pub async fn start(demo: bool) -> anyhow::Result<Self> {
        Self::start_on_line(demo, "").await
    }

    /// With a line between rig and server that loses, reorders and breaks so many of its blocks: `0.05,0.1,0.002`.
    pub async fn start_on_line(demo: bool, line: &str) -> anyhow::Result<Self> {
        let (folder, database) = (TempDir::new()?, TestDatabase::create().await?);
        let (child, address) = spawn(folder.path(), &database.url, demo, line)?;
        Ok(Self {
            child,
            folder,
            database: Some(database),
            demo,
            line: line.to_owned(),
            address,
        })
    }

    /// Kills it with SIGKILL, without a word.
    pub fn kill(&mut self) -> anyhow::Result<()> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }

    /// Starts it again on what it had.
    pub fn restart(&mut self) -> anyhow::Result<()> {
        let url = &self.database.as_ref().context("it has ended")?.url;
        (self.child, self.address) = spawn(self.folder.path(), url, self.demo, &self.line)?;
        Ok(())
    }

    /// Ends it and removes its database.
    pub async fn end(mut self) -> anyhow::Result<()> {
        self.kill()?;
        if let Some(database) = self.database.take() {
            database.remove().await?;
        }
        Ok(())
    }

    /// Where it keeps audio.
    pub fn folder(&self) -> &std::path::Path {
        self.folder.path()
    }

    /// A JSON answer.
    pub fn get(&self, path: &str) -> anyhow::Result<Value> {
        Ok(ureq::get(&format!("{}{path}", self.address))
            .call()?
            .into_json()?)
    }

    /// Bytes.
    pub fn bytes(&self, path: &str) -> anyhow::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(
            &mut ureq::get(&format!("{}{path}", self.address))
                .call()?
                .into_reader(),
            &mut bytes,
        )?;
        Ok(bytes)
    }

    /// Sends JSON; the answer may be empty.
    pub fn post(&self, path: &str, body: &Value) -> anyhow::Result<Value> {
        let text = ureq::post(&format!("{}{path}", self.address))
            .send_json(body)?
            .into_string()?;
        Ok(if text.is_empty() {
            Value::Null
        } else {
            serde_json::from_str(&text)?
        })
    }

    /// Sends a file's bytes.
    pub fn send(&self, path: &str, bytes: &[u8]) -> anyhow::Result<Value> {
        let text = ureq::post(&format!("{}{path}", self.address))
            .set("content-type", "application/octet-stream")
            .send_bytes(bytes)?
            .into_string()?;
        Ok(serde_json::from_str(&text)?)
    }

    /// Asks until the answer is as wished, for a minute at most.
    pub async fn wait_for(&self, path: &str, wished: impl Fn(&Value) -> bool) -> anyhow::Result<Value> {
        let began = Instant::now();
        loop {
            let answer = self.get(path)?;
            if wished(&answer) {
                return Ok(answer);
            }
            if began.elapsed() > Duration::from_secs(120) {
                bail!(
                    "{path} never became as wished: {}",
                    answer.to_string().chars().take(600).collect::<String>()
                );
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }
}

impl Drop for Ladder {
    fn drop(&mut self) {
        // A test that failed half-way must not leave a server behind.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
