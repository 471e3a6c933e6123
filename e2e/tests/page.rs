//! The page's own code: how it is written, what its linter says, circles of imports among it, and its unit tests.

use std::path::Path;
use std::process::Command;

/// Runs one of the scripts of `web/package.json`; its output is shown where it fails.
fn passes(script: &str) {
    let web = Path::new(env!("CARGO_MANIFEST_DIR")).join("../web");
    let told = Command::new("npm")
        .args(["run", "--silent", script])
        .current_dir(web)
        .output()
        .unwrap();
    assert!(
        told.status.success(),
        "npm run {script}\n{}{}",
        String::from_utf8_lossy(&told.stdout),
        String::from_utf8_lossy(&told.stderr)
    );
}

#[test]
fn is_written_as_all_of_it_is() {
    passes("written");
}

#[test]
fn breaks_no_rule_and_imports_in_no_circle() {
    passes("lint");
}

#[test]
fn computes_what_it_says() {
    passes("test");
}
