//! The page's own code: how it is written, what its linter says, circles of imports among it, and its unit tests.

use std::path::Path;
use std::process::Command;

/// Runs one of the scripts of `web/package.json`; what it says is shown where it fails.
fn run(script: &str) -> anyhow::Result<()> {
    let web = Path::new(env!("CARGO_MANIFEST_DIR")).join("../web");
    let told = Command::new("npm")
        .args(["run", "--silent", script])
        .current_dir(web)
        .output()?;
    let said = [told.stdout, told.stderr].concat();
    anyhow::ensure!(
        told.status.success(),
        "npm run {script}\n{}",
        String::from_utf8_lossy(&said)
    );
    Ok(())
}

#[test]
fn is_written_as_all_of_it_is() -> anyhow::Result<()> {
    run("written")
}

#[test]
fn breaks_no_rule_and_imports_in_no_circle() -> anyhow::Result<()> {
    run("lint")
}

#[test]
fn computes_what_it_says() -> anyhow::Result<()> {
    run("test")
}
