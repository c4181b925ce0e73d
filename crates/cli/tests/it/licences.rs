//! What is linked: under licences that `deny.toml` allows, from where it allows, and listed in docs/licences.md.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;
use toml_edit::DocumentMut;

/// What a list of linked crates is of.
const TARGET: &str = "x86_64-unknown-linux-gnu";

fn project() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn metadata() -> Value {
    let words = ["metadata", "--format-version", "1", "--locked", "--offline", "--filter-platform", TARGET];
    let output = Command::new(env!("CARGO")).args(words).current_dir(project()).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// The crates that are linked into the program: what it depends on, and what that depends on, tests, build scripts
/// and macros aside.
fn linked(metadata: &Value) -> Vec<&Value> {
    let text = |value: &'_ Value| value.as_str().unwrap().to_owned();
    let nodes = metadata["resolve"]["nodes"].as_array().unwrap();
    let nodes: BTreeMap<String, &Value> = nodes.iter().map(|node| (text(&node["id"]), node)).collect();
    let packages = metadata["packages"].as_array().unwrap();
    let targets = |package: &Value| package["targets"].as_array().unwrap().clone();
    let runs_in_the_compiler =
        |package: &&Value| targets(package).iter().any(|one| one["kind"][0] == "proc-macro");
    let macros: BTreeSet<String> =
        packages.iter().filter(runs_in_the_compiler).map(|package| text(&package["id"])).collect();
    let program = packages.iter().find(|package| package["name"] == "ninekeys").unwrap();
    let mut seen = BTreeSet::new();
    let mut open = vec![text(&program["id"])];
    while let Some(id) = open.pop() {
        if macros.contains(&id) || !seen.insert(id.clone()) {
            continue;
        }
        let all = nodes[&id]["deps"].as_array().unwrap().iter();
        let usual =
            all.filter(|one| one["dep_kinds"].as_array().unwrap().iter().any(|kind| kind["kind"].is_null()));
        open.extend(usual.map(|one| text(&one["pkg"])));
    }
    let built = built();
    let is_built = |package: &&Value| {
        let [name, version] = ["name", "version"].map(|field| package[field].as_str().unwrap());
        built.contains(&format!("{name} v{version}"))
    };
    packages
        .iter()
        .filter(|package| seen.contains(package["id"].as_str().unwrap()))
        .filter(is_built)
        .collect()
}

/// Name and version of everything that is built. The resolution that the metadata tells has what a feature asks for of a crate
/// that no feature asks for, too: a second provider of cryptography beside the one that is taken.
fn built() -> BTreeSet<String> {
    let words =
        ["tree", "--package", "ninekeys", "--edges", "normal", "--prefix", "none", "--locked", "--offline"];
    let output =
        Command::new(env!("CARGO")).args(words).args(["--target", TARGET]).current_dir(project()).output();
    let output = output.unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    let one = |line: &str| line.split(' ').take(2).collect::<Vec<_>>().join(" ");
    text.lines().map(one).collect()
}

/// Whether an SPDX expression can be met with what is allowed. `/` is how some say `OR`.
fn is_met(expression: &str, allowed: &BTreeSet<String>) -> bool {
    let spaced = expression.replace('/', " OR ").replace('(', " ( ").replace(')', " ) ");
    let words: Vec<&str> = spaced.split_whitespace().collect();
    let mut at = 0;
    let met = either(&words, &mut at, allowed);
    met && at == words.len()
}

fn either(words: &[&str], at: &mut usize, allowed: &BTreeSet<String>) -> bool {
    let mut met = every(words, at, allowed);
    while words.get(*at) == Some(&"OR") {
        *at += 1;
        met |= every(words, at, allowed);
    }
    met
}

fn every(words: &[&str], at: &mut usize, allowed: &BTreeSet<String>) -> bool {
    let mut met = one(words, at, allowed);
    while words.get(*at) == Some(&"AND") {
        *at += 1;
        met &= one(words, at, allowed);
    }
    met
}

fn one(words: &[&str], at: &mut usize, allowed: &BTreeSet<String>) -> bool {
    let Some(word) = words.get(*at) else { return false };
    *at += 1;
    if *word == "(" {
        let met = either(words, at, allowed);
        *at += 1;
        return met && words.get(*at - 1) == Some(&")");
    }
    let mut licence = (*word).to_owned();
    if words.get(*at) == Some(&"WITH") {
        licence = format!("{licence} WITH {}", words.get(*at + 1).unwrap_or(&""));
        *at += 2;
    }
    allowed.contains(&licence)
}

/// The most crates that the program may link, its own and procedural macros among them.
const MOST_CRATES: usize = 150;

#[test]
fn no_more_crates_are_linked_than_there_may_be() {
    let all = built();
    assert!(all.len() <= MOST_CRATES, "{} crates are linked, {MOST_CRATES} may be", all.len());
}

#[test]
fn an_expression_is_met_by_one_side_of_or_and_by_both_of_and() {
    let allowed = BTreeSet::from(["MIT".to_owned(), "Apache-2.0 WITH LLVM-exception".to_owned()]);
    for good in
        ["MIT", "MIT OR GPL-3.0", "GPL-3.0/MIT", "(GPL-3.0 OR MIT) AND MIT", "Apache-2.0 WITH LLVM-exception"]
    {
        assert!(is_met(good, &allowed), "{good}");
    }
    for bad in [
        "",
        "GPL-3.0",
        "MIT AND GPL-3.0",
        "Apache-2.0",
        "(MIT",
        "MIT)",
        "MIT MIT",
        "GPL-3.0 WITH LLVM-exception",
    ] {
        assert!(!is_met(bad, &allowed), "{bad}");
    }
}

#[test]
fn what_is_linked_is_allowed_and_listed() {
    let deny: DocumentMut = std::fs::read_to_string(project().join("deny.toml")).unwrap().parse().unwrap();
    let allowed = deny["licenses"]["allow"].as_array().unwrap().iter();
    let allowed: BTreeSet<String> = allowed.map(|one| one.as_str().unwrap().to_owned()).collect();
    let banned = deny["bans"]["deny"].as_array().unwrap().iter();
    let banned: Vec<&str> =
        banned.map(|one| one.as_inline_table().unwrap().get("crate").unwrap().as_str().unwrap()).collect();
    let metadata = metadata();
    let all = linked(&metadata);
    assert!(all.len() > 80, "only {} crates were found", all.len());
    let mut table = String::from("| crate | version | licence |\n|---|---|---|\n");
    let mut rows = BTreeSet::new();
    for package in all {
        let [name, version] = ["name", "version"].map(|field| package[field].as_str().unwrap());
        if package["source"].is_null() {
            continue;
        }
        let licence = package["license"].as_str().unwrap_or("");
        assert!(is_met(licence, &allowed), "{name} is under `{licence}`, which deny.toml does not allow");
        assert!(!banned.contains(&name), "{name} is banned in deny.toml");
        let source = package["source"].as_str().unwrap();
        assert!(source.starts_with("registry+"), "{name} comes from {source}");
        rows.insert(format!("| {name} | {version} | {licence} |"));
    }
    rows.iter().for_each(|row| writeln!(table, "{row}").unwrap());
    let path = project().join("docs/licences.md");
    let page = std::fs::read_to_string(&path).unwrap_or_default();
    let head = page.split("| crate |").next().unwrap().to_owned();
    let wanted = format!("{head}{table}");
    if std::env::var_os("NINEKEYS_WRITE_DOCS").is_some() {
        std::fs::write(&path, &wanted).unwrap();
    }
    assert_eq!(
        page, wanted,
        "docs/licences.md is not current: run this test once with NINEKEYS_WRITE_DOCS=1"
    );
}
