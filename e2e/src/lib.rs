//! What the browser tests stand on: a Ladder of their own, and a headless Chromium.

mod browser;
mod server;

pub use browser::Browser;
pub use server::Ladder;
