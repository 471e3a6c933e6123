//! No file of a crate imports, through others, itself: each can be read before those that know it.

use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// A file as a module's path: `loops::rough` of `loops/rough.rs`.
fn module(file: &Path) -> Vec<String> {
    let mut path: Vec<String> = file
        .with_extension("")
        .components()
        .map(|part| part.as_os_str().to_string_lossy().into_owned())
        .collect();
    if path
        .last()
        .is_some_and(|last| ["mod", "lib", "main"].contains(&last.as_str()))
    {
        path.pop();
    }
    path
}

type Imports = BTreeMap<Vec<String>, BTreeSet<Vec<String>>>;

/// Which files of a crate import which by their paths, tests aside; a module and what lies in it count as one.
fn imports(source: &Path) -> anyhow::Result<Imports> {
    let (comment, path) = (
        Regex::new("//[^\n]*")?,
        Regex::new(r"\b(?:crate|super|self)(?:::[a-z_0-9]+)+")?,
    );
    let mut texts = BTreeMap::new();
    for entry in walkdir::WalkDir::new(source) {
        let entry = entry?;
        if entry.path().extension().is_some_and(|ending| ending == "rs") {
            let text = std::fs::read_to_string(entry.path())?;
            let code = text.split("#[cfg(test)]").next().unwrap_or("").to_owned();
            texts.insert(
                module(entry.path().strip_prefix(source)?),
                comment.replace_all(&code, "").into_owned(),
            );
        }
    }
    let mut all = Imports::new();
    for (of, text) in &texts {
        let known = all.entry(of.clone()).or_default();
        for found in path.find_iter(text) {
            let mut words = found.as_str().split("::");
            let mut at = match words.next() {
                Some("crate") => Vec::new(),
                Some("super") => of[..of.len().saturating_sub(1)].to_vec(),
                _ => of.clone(),
            };
            for word in words {
                if word == "super" {
                    at.pop();
                } else {
                    at.push(word.to_owned());
                }
            }
            while !at.is_empty() && !texts.contains_key(&at) {
                at.pop();
            }
            if !at.is_empty() && !of.starts_with(&at) && !at.starts_with(of) {
                known.insert(at);
            }
        }
    }
    Ok(all)
}

/// What is left when those go that import nobody who is left: circles, and what leads to them.
fn circles(mut imports: Imports) -> Vec<String> {
    loop {
        let ends: Vec<_> = imports
            .iter()
            .filter(|(_, known)| !known.iter().any(|one| imports.contains_key(one)))
            .map(|(of, _)| of.clone())
            .collect();
        if ends.is_empty() {
            break imports.keys().map(|of| of.join("::")).collect();
        }
        for of in ends {
            imports.remove(&of);
        }
    }
}

#[test]
fn no_file_imports_in_a_circle() -> anyhow::Result<()> {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates");
    let mut read = 0;
    for entry in std::fs::read_dir(crates)? {
        let source = entry?.path().join("src");
        if source.is_dir() {
            let imports = imports(&source)?;
            read += imports.values().map(BTreeSet::len).sum::<usize>();
            let left = circles(imports);
            assert!(left.is_empty(), "{}: {left:?}", source.display());
        }
    }
    assert!(read > 100, "only {read} imports were found");
    Ok(())
}

#[test]
fn a_circle_is_found() {
    let path = |name: &str| vec![name.to_owned()];
    let knows = |pairs: &[(&str, &[&str])]| -> Imports {
        pairs
            .iter()
            .map(|(of, known)| (path(of), known.iter().map(|name| path(name)).collect()))
            .collect()
    };
    assert!(circles(knows(&[("a", &["b"]), ("b", &["c"]), ("c", &[])])).is_empty());
    assert_eq!(
        circles(knows(&[("a", &["b"]), ("b", &["c"]), ("c", &["b"])])),
        ["a", "b", "c"]
    );
}
