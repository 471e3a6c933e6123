//! What is told while something goes on, and after it.

use formats::Loss;
use std::io::{IsTerminal, Write};

/// How far it is, on a terminal alone; `what` stands before it.
pub fn share(what: &str, share: f64) {
    if std::io::stderr().is_terminal() {
        eprint!("\r\x1b[K{what}: {:3.0} %", share * 100.0);
        let _ = std::io::stderr().flush();
    }
}

/// That is over.
pub fn over() {
    if std::io::stderr().is_terminal() {
        eprint!("\r\x1b[K");
    }
}

/// So many.
pub fn regions(count: usize) -> String {
    format!("{count} {}", if count == 1 { "region" } else { "regions" })
}

/// What a format could not hold.
pub fn losses(losses: &[Loss]) {
    for loss in losses {
        println!("{} ({})", loss.what, regions(loss.regions));
    }
}
