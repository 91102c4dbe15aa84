//! Every text that tells what went wrong, of all crates, in one snapshot: a change of any of them is seen in review.
//! `INSTA_UPDATE=always cargo test -p fennik error_texts` writes it anew.

use std::fs;
use std::path::{Path, PathBuf};

/// All Rust files below a folder, in order.
fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
}

/// The first string of an attribute, with its lines joined as the compiler does.
fn literal(attribute: &str) -> Option<String> {
    let from = attribute.find('"')? + 1;
    let mut text = String::new();
    let mut rest = attribute[from..].chars();
    while let Some(c) = rest.next() {
        match c {
            '"' => return Some(text),
            '\\' => match rest.next()? {
                '\n' => rest = rest.as_str().trim_start().chars(),
                other => text.push(other),
            },
            other => text.push(other),
        }
    }
    None
}

/// The texts of a file: enum, variant and what it says.
fn texts(source: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut at = "";
    let mut rest = source;
    while let Some(start) = rest.find("#[error(") {
        let before = &rest[..start];
        for line in before.lines().chain(rest[start..].lines().skip(1).take(1)) {
            let line = line.trim_start().trim_start_matches("pub ");
            if let Some(name) = line.strip_prefix("enum ").or_else(|| line.strip_prefix("struct ")) {
                at = name.split([' ', '{', '(', '<']).next().unwrap_or(name);
            }
        }
        let Some(length) = rest[start..].find(")]\n") else { break };
        let (attribute, after) = (&rest[start..start + length], &rest[start + length + 3..]);
        if let Some(text) = literal(attribute).filter(|_| !attribute.contains("transparent")) {
            let variant =
                after.lines().find(|l| !l.trim().is_empty() && !l.trim().starts_with('#')).unwrap_or("").trim();
            let variant = variant.trim_start_matches("pub ").trim_start_matches("struct ");
            let variant = variant.split(['{', '(', ',', ' ']).next().unwrap_or("");
            found.push(if variant == at { format!("{at}: {text}") } else { format!("{at}::{variant}: {text}") });
        }
        rest = after;
    }
    found
}

#[test]
fn all_texts_are_as_they_were_agreed() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut files = Vec::new();
    for name in ["core", "media", "render", "store", "app"] {
        sources(&crates.join(name).join("src"), &mut files);
    }
    let all: Vec<String> = files.iter().flat_map(|f| texts(&fs::read_to_string(f).unwrap())).collect();
    assert!(all.len() > 150, "{} texts were found", all.len());
    for line in &all {
        let (_, text) = line.split_once(": ").unwrap();
        assert!(!text.contains("failed to") && !text.ends_with('.'), "{line}");
        assert!(!text.starts_with(char::is_uppercase) || text.starts_with("{"), "{line}");
    }
    insta::assert_snapshot!("error_texts", all.join("\n"));
}
