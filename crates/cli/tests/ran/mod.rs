//! The program, run as a user runs it.

use std::path::Path;
use std::process::{Command, Output};

/// `ladder` with some words, in a folder.
pub fn ladder(folder: &Path, arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_ladder"))
        .current_dir(folder)
        .args(arguments)
        .output()
        .unwrap()
}

/// What it said, where it has to have done it.
pub fn done(folder: &Path, arguments: &[&str]) -> String {
    let output = ladder(folder, arguments);
    let error = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{arguments:?}: {error}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// What it said, where it has to have refused.
pub fn refused(folder: &Path, arguments: &[&str]) -> String {
    let output = ladder(folder, arguments);
    assert_eq!(output.status.code(), Some(1), "{arguments:?}");
    String::from_utf8_lossy(&output.stderr).into_owned()
}
