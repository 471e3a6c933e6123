//! What the tests of the whole stand on: a Ladder of their own, a headless Chromium, a page without a browser, a database that can go away.

mod access;
mod browser;
mod database;
mod figures;
mod objects;
mod page;
mod plain_server;
mod rendered;
mod server;

pub use access::follows_rules_of_access;
pub use browser::Browser;
pub use database::Database;
pub use figures::{Spent, say};
pub use objects::Objects;
pub use page::{Page, PageEnd, Playing, Sound};
pub use plain_server::PlainServer;
pub use rendered::{Played, same_as_page, same_samples};
pub use server::{Ladder, Start, free_port};

use rand::SeedableRng;
use rand_pcg::Pcg64;
use std::collections::BTreeMap;
use std::io::{Cursor, Read};

/// The files of a zip, by their paths.
///
/// # Errors
/// Where it is none.
pub fn files_of(zip: Vec<u8>) -> anyhow::Result<BTreeMap<String, Vec<u8>>> {
    let mut zip = zip::ZipArchive::new(Cursor::new(zip))?;
    let mut files = BTreeMap::new();
    for place in 0..zip.len() {
        let mut file = zip.by_index(place)?;
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes)?;
        files.insert(file.name().to_owned(), bytes);
    }
    Ok(files)
}

/// How often something random is tried: once, or as often as the long run wants it (`bin/test --long`).
pub fn rounds(long: usize) -> usize {
    if std::env::var_os("LADDER_LONG").is_some() {
        long
    } else {
        1
    }
}

/// Random numbers from a seed that is printed, so that what failed can be seen again with `LADDER_SEED`.
pub fn seeded() -> Pcg64 {
    let given = std::env::var("LADDER_SEED")
        .ok()
        .and_then(|text| text.parse().ok());
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let seed = given.unwrap_or_else(|| now.map_or(1, |since| since.as_millis() as u64));
    println!("LADDER_SEED={seed}");
    Pcg64::seed_from_u64(seed)
}
