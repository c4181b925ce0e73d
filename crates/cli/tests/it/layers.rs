//! The layers of ARCHITECTURE.md, with a test between them: which crate may use which, and what only one may.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

/// What each crate may use of ours.
const ALLOWED: &[(&str, &[&str])] = &[
    ("schema", &["schema-off"]),
    ("formats", &[]),
    ("core", &["formats"]),
    ("cabinet", &["core", "formats"]),
    ("portal", &["core", "formats"]),
    ("ops", &["cabinet", "portal", "core", "formats"]),
    ("cli", &["ops", "cabinet", "portal", "core", "formats"]),
];

/// Crates of others that stand for a border: SQL, sockets, a terminal, files that are written.
const ONLY_IN: &[(&str, &str)] = &[
    ("scrypt", "cabinet"),
    ("httparse", "portal"),
    ("ureq", "portal"),
    ("rustls", "portal"),
    ("clap", "cli"),
    ("terminal_size", "cli"),
    ("rpassword", "cli"),
    ("anstream", "cli"),
    ("toml_edit", "ops"),
];

/// Who may speak SQL: the cabinet, and what stands in for the portal, each to a file of its own.
const SQL: [&str; 2] = ["cabinet", "portal"];

/// The names under `[dependencies]` of a manifest.
fn dependencies(manifest: &Path) -> BTreeSet<String> {
    let text = std::fs::read_to_string(manifest).unwrap();
    let section = text.split("\n[dependencies]\n").nth(1).unwrap_or_default();
    let section = section.split("\n[").next().unwrap_or_default();
    let name = |line: &str| line.split(['.', ' ', '=']).next().unwrap_or_default().to_owned();
    section.lines().filter(|line| !line.is_empty()).map(name).collect()
}

#[test]
fn every_crate_uses_only_what_is_below_it() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let found: BTreeMap<String, BTreeSet<String>> = std::fs::read_dir(crates)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .map(|path| {
            (path.file_name().unwrap().to_string_lossy().into_owned(), dependencies(&path.join("Cargo.toml")))
        })
        .collect();
    let names: Vec<&str> = found.keys().map(String::as_str).collect();
    let mut known: Vec<&str> = ALLOWED.iter().map(|(name, _)| *name).collect();
    known.sort_unstable();
    assert_eq!(names, known, "a new crate needs a line here and in ARCHITECTURE.md");
    for (name, allowed) in ALLOWED {
        let used = found[*name].iter().filter_map(|dependency| dependency.strip_prefix("ninekeys-"));
        for other in used {
            assert!(allowed.contains(&other), "{name} may not use {other}");
        }
        assert!(!found[*name].contains("testkit"), "{name} may not ship the testkit");
    }
    for (name, used) in &found {
        assert_eq!(used.contains("rusqlite"), SQL.contains(&name.as_str()), "{name} and SQL");
    }
    for (dependency, home) in ONLY_IN {
        for (name, used) in &found {
            assert!(
                !used.contains(*dependency) || name == home,
                "{dependency} belongs into {home}, not into {name}"
            );
        }
        assert!(found[*home].contains(*dependency), "{home} does not use {dependency}: this list is stale");
    }
}

#[test]
fn the_lower_layers_open_no_file_and_read_no_clock() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    for layer in ["formats", "core"] {
        let mut folders = vec![crates.join(layer).join("src")];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                    continue;
                }
                let text = std::fs::read_to_string(&path).unwrap();
                for word in
                    ["std::fs", "std::env", "std::net", "SystemTime", "Instant::now", "Timestamp::now"]
                {
                    assert!(!text.contains(word), "{} uses {word}", path.display());
                }
            }
        }
    }
}
