//! A Ladder with a database, a folder and a port of its own.

use anyhow::{Context, bail};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use store::TestDatabase;
use tempfile::TempDir;

/// How a Ladder is started.
#[derive(Debug, Clone, Default)]
pub struct Start {
    /// With the demo.
    pub demo: bool,
    /// Of the line between rig and server, so many blocks are lost, reordered and broken: `0.05,0.1,0.002`.
    pub line: String,
    /// A database that somebody else made; its own, where it is left out.
    pub database: Option<String>,
    /// A folder that somebody else made; its own, where it is left out.
    pub folder: Option<PathBuf>,
    /// Further environment.
    pub environment: Vec<(String, String)>,
}

/// A running server. Ends with it.
pub struct Ladder {
    child: Child,
    folder: TempDir,
    database: Option<TestDatabase>,
    start: Start,
    url: String,
    /// `http://127.0.0.1:…`
    pub address: String,
}

/// A port that nobody listens on just now.
pub fn free_port() -> anyhow::Result<u16> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

fn from_environment(name: &str) -> anyhow::Result<PathBuf> {
    Ok(PathBuf::from(std::env::var(name).with_context(|| {
        format!("{name} is not set: run the tests through bin/test")
    })?))
}

fn spawn(
    folder: &std::path::Path,
    database: &str,
    start: &Start,
    address: &str,
) -> anyhow::Result<(Child, String)> {
    let mut command = Command::new(from_environment("LADDER_PROGRAM")?);
    command
        .args(["start", "--address", address, "--folder"])
        .arg(folder)
        .arg("--web")
        .arg(from_environment("LADDER_WEB")?)
        .env("LADDER_DATABASE_URL", database)
        .env("LADDER_LINK_FAULTS", &start.line)
        .env(
            "RUST_LOG",
            std::env::var("RUST_LOG").unwrap_or_else(|_| "error".into()),
        )
        .envs(start.environment.iter().cloned())
        .stdout(Stdio::piped());
    if start.demo {
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
        Self::start_as(Start {
            demo,
            ..Start::default()
        })
        .await
    }

    /// With a line between rig and server that loses, reorders and breaks so many of its blocks: `0.05,0.1,0.002`.
    pub async fn start_on_line(demo: bool, line: &str) -> anyhow::Result<Self> {
        Self::start_as(Start {
            demo,
            line: line.to_owned(),
            ..Start::default()
        })
        .await
    }

    /// [`Self::start_measured_demo`] without the organ's panel, its filters and its room: one undo takes them.
    pub async fn start_plain_demo() -> anyhow::Result<Self> {
        let ladder = Self::start_measured_demo().await?;
        let undone = ladder.post("/api/instruments/1/undo", &Value::Null)?;
        anyhow::ensure!(undone["label"] == "a panel of ranks and room", "{undone}");
        Ok(ladder)
    }

    /// Starts one with the demo's three instruments, once all of their takes are measured.
    pub async fn start_measured_demo() -> anyhow::Result<Self> {
        let ladder = Self::start(true).await?;
        ladder
            .wait_for("/api/instruments", |all| {
                all.as_array().is_some_and(|all| {
                    all.len() == 3 && all.iter().all(|one| one["measured"] == one["cells"])
                })
            })
            .await?;
        Ok(ladder)
    }

    /// Starts one as wished.
    pub async fn start_as(start: Start) -> anyhow::Result<Self> {
        let folder = TempDir::new()?;
        let database = match &start.database {
            Some(_) => None,
            None => Some(TestDatabase::create().await?),
        };
        let own = database.as_ref().map(|database| database.url.clone());
        let url = own.or_else(|| start.database.clone()).context("a database")?;
        let at = start.folder.clone().unwrap_or_else(|| folder.path().to_owned());
        let (child, address) = spawn(&at, &url, &start, "127.0.0.1:0")?;
        Ok(Self {
            child,
            folder,
            database,
            start,
            url,
            address,
        })
    }

    /// A worker beside it, that shares its database, its folder and its environment.
    pub fn worker(&self) -> anyhow::Result<Child> {
        let mut command = Command::new(from_environment("LADDER_PROGRAM")?);
        command
            .args(["work", "--folder"])
            .arg(self.folder())
            .env("LADDER_DATABASE_URL", &self.url)
            .env("RUST_LOG", "error")
            .envs(self.start.environment.iter().cloned());
        Ok(command.spawn()?)
    }

    /// What another start on the same folder and database comes to.
    pub fn second_start(&self, address: &str) -> anyhow::Result<std::process::Output> {
        let mut command = Command::new(from_environment("LADDER_PROGRAM")?);
        command
            .args(["start", "--address", address, "--folder"])
            .arg(self.folder())
            .env("LADDER_DATABASE_URL", &self.url);
        Ok(command.output()?)
    }

    /// From its next start on.
    pub fn set_environment(&mut self, environment: Vec<(String, String)>) {
        self.start.environment = environment;
    }

    /// Kills it with SIGKILL, without a word.
    pub fn kill(&mut self) -> anyhow::Result<()> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }

    /// Starts it again on what it had, at the address where it was.
    pub fn restart(&mut self) -> anyhow::Result<()> {
        let at = self.address.trim_start_matches("http://").to_owned();
        let folder = self.folder().to_owned();
        (self.child, self.address) = spawn(&folder, &self.url, &self.start, &at)?;
        Ok(())
    }

    /// Megabytes that it has in memory: now, and at most so far.
    pub fn memory_mb(&self) -> anyhow::Result<(u64, u64)> {
        let text = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let of = |name: &str| -> anyhow::Result<u64> {
            let line = text
                .lines()
                .find(|line| line.starts_with(name))
                .context("memory")?;
            let kb = line.split_whitespace().nth(1).context("kilobytes")?;
            Ok(kb.parse::<u64>()? / 1_024)
        };
        Ok((of("VmRSS:")?, of("VmHWM:")?))
    }

    /// What a statement gives, row by row.
    pub fn ask(&self, statement: &str) -> anyhow::Result<Vec<Vec<String>>> {
        crate::database::ask(&self.url, statement)
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
        self.start.folder.as_deref().unwrap_or(self.folder.path())
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
