//! Names as files have them.

use std::collections::HashSet;

/// A name that every file system and both formats take: what is a separator or a control becomes a low line.
pub fn clean_name(name: &str) -> String {
    let plain: String = name
        .replace('♯', "#")
        .replace('♭', "b")
        .chars()
        .map(|c| {
            if c.is_control() || "/\\:*?\"<>|=$".contains(c) {
                '_'
            } else {
                c
            }
        })
        .collect();
    let plain = plain.trim().trim_matches('.').to_owned();
    if plain.is_empty() {
        "unnamed".to_owned()
    } else {
        plain
    }
}

pub(super) fn unique(taken: &mut HashSet<String>, name: &str) -> String {
    let mut candidate = name.to_owned();
    let mut n = 2;
    while !taken.insert(candidate.to_lowercase()) {
        candidate = format!("{name} {n}");
        n += 1;
    }
    candidate
}
