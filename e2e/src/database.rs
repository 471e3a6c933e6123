//! A MariaDB of a test's own, that can go away and come back.

use anyhow::{Context, bail};
use std::path::{Path, PathBuf};
use std::process::Command;
use store::TestDatabase;
use tempfile::TempDir;

/// A database server. Ends with it.
pub struct Database {
    folder: TempDir,
    /// The database on it.
    pub url: String,
}

fn script() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../bin/database")
}

fn run(action: &str, folder: &Path) -> anyhow::Result<String> {
    // This process owns it.
    let owner = std::process::id().to_string();
    let output = Command::new(script())
        .arg(action)
        .arg(folder)
        .arg(owner)
        .output()?;
    if !output.status.success() {
        bail!(
            "bin/database {action}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
    Ok(String::from_utf8(output.stdout)?.trim().to_owned())
}

impl Database {
    /// Starts one.
    pub async fn start() -> anyhow::Result<Self> {
        let folder = TempDir::new()?;
        let server = run("tests", folder.path())?;
        let url = TestDatabase::create_on(&server).await?.url.clone();
        Ok(Self { folder, url })
    }

    /// Where its things lie.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    fn process(&self) -> anyhow::Result<String> {
        let file = self.folder.path().join("mariadb.pid");
        Ok(std::fs::read_to_string(file)
            .context("no process")?
            .trim()
            .to_owned())
    }

    /// Ends it: asked to, or killed.
    pub fn stop(&self, killed: bool) -> anyhow::Result<()> {
        let process = self.process()?;
        let signal = if killed { "-KILL" } else { "-TERM" };
        Command::new("kill").args([signal, &process]).status()?;
        for _ in 0..300 {
            if !Path::new("/proc").join(&process).exists() {
                return Ok(());
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        bail!("it does not end")
    }

    /// Starts it again, where it was.
    pub fn start_again(&self) -> anyhow::Result<()> {
        run("tests", self.folder.path()).map(|_| ())
    }

    /// What a statement gives, row by row, as its owner sees it.
    pub fn ask(&self, statement: &str) -> anyhow::Result<Vec<Vec<String>>> {
        ask(&self.url, statement)
    }
}

/// What a statement gives, row by row.
pub(crate) fn ask(url: &str, statement: &str) -> anyhow::Result<Vec<Vec<String>>> {
    let rest = url.strip_prefix("mysql://").context("an address")?;
    let (user, rest) = rest.split_once(':').context("a user")?;
    let (secret, rest) = rest.split_once('@').context("a secret")?;
    let (host, rest) = rest.split_once(':').context("a host")?;
    let (port, name) = rest.split_once('/').context("a name")?;
    let output = Command::new("mariadb")
        .args([
            "--no-defaults",
            "-h",
            host,
            "-P",
            port,
            "-u",
            user,
            "-N",
            "-B",
            name,
            "-e",
            statement,
        ])
        .env("MYSQL_PWD", secret)
        .output()?;
    if !output.status.success() {
        bail!("{}", String::from_utf8_lossy(&output.stderr));
    }
    let text = String::from_utf8(output.stdout)?;
    Ok(text
        .lines()
        .map(|line| line.split('\t').map(str::to_owned).collect())
        .collect())
}

impl Drop for Database {
    fn drop(&mut self) {
        let _ = run("stop", self.folder.path());
    }
}
