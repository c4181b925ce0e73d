//! What the documents say is so: their examples run, and nothing is left out of their lists.

use std::path::PathBuf;

use ninekeys_core::demo;
use serde_json::Value;
use testkit::{TestEnv, data};

use crate::PROGRAM;

fn document(name: &str) -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..").join(name);
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

/// The first block of a document behind some words of it.
fn block<'a>(document: &'a str, behind: &str) -> &'a str {
    let rest = &document[document.find(behind).expect(behind)..];
    let block = rest.split("```").nth(1).expect("a block");
    block.split_once('\n').unwrap().1
}

#[test]
fn the_tour_of_the_readme_runs_line_by_line() {
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_PASSPHRASE", "seven tides over the outer harbour");
    env.file("app-release.apk", &testkit::builds::crossing().apk());
    env.file("app-release.aab", &demo::CROSSING.aab());
    env.file("quayside.jks", &std::fs::read(data("samples").join("ferries.jks")).unwrap());
    for (name, text) in [("store.txt", "store-pass-1\n"), ("crew.txt", "crew-key-pass\n")] {
        env.file(name, text.as_bytes());
    }
    let readme = document("README.md");
    let lines =
        block(&readme, "## A tour").lines().map(|line| line.split("  #").next().unwrap_or(line).trim());
    let commands: Vec<&str> = lines.filter(|line| !line.is_empty()).collect();
    assert!(commands.len() > 9, "{commands:?}");
    for command in commands {
        let words = command.strip_prefix("ninekeys").unwrap_or_else(|| panic!("{command} is not ours"));
        env.run(&words.trim().replace("signed/*.apk signed/*.aab", SIGNED).replace('"', "'")).exit(0);
    }
}

/// What a shell makes of the tour's pattern.
const SIGNED: &str = "signed/crossing-2.4.0-12-direct.apk signed/crossing-2.4.0-12-store.aab";

#[test]
fn the_project_file_of_the_page_is_read_and_every_key_stands_there() {
    let page = document("docs/project-file.md");
    let env = TestEnv::new(PROGRAM);
    env.file("ninekeys.toml", block(&page, "A file that has everything").as_bytes());
    env.file("crossing.apk", &testkit::builds::crossing().apk());
    // unsigned, and the cabinet of the example is nowhere: it is known all the same which app it is
    env.run("check crossing.apk").exit(1).says("Crossing 2.4.0 (12)");
    let misspelt = block(&page, "A file that has everything").replace("due-days", "due-day");
    env.file("ninekeys.toml", misspelt.as_bytes());
    let line = misspelt.lines().position(|line| line.starts_with("due-day ")).unwrap() + 1;
    env.run("check crossing.apk").exit(3).says("due-day").says(&format!("line {line}"));

    let schema: Value = serde_json::from_str(&document("docs/schemas/project-file.json")).unwrap();
    let mut keys = Vec::new();
    properties(&schema, &mut keys);
    assert!(keys.len() > 15, "{keys:?}");
    for key in keys.iter().filter(|key| {
        !matches!(
            key.as_str(),
            "policy"
                | "app"
                | "android"
                | "ios"
                | "properties"
                | "lend"
                | "account"
                | "review"
                | "store"
                | "store-keys"
        )
    }) {
        let told = page.lines().any(|line| line.starts_with('|') && line.contains(&format!("`{key}`")));
        assert!(told, "docs/project-file.md says nothing of {key}");
    }
}

fn properties(schema: &Value, into: &mut Vec<String>) {
    if let Some(object) = schema.as_object() {
        for (name, inner) in object {
            // a key of ours is called so too: what it is described by are texts and lists
            if let (true, Some(listed)) = (name == "properties", inner.as_object())
                && listed.values().all(Value::is_object)
            {
                into.extend(listed.keys().cloned());
            }
            properties(inner, into);
        }
    }
}

/// The words that commands are grouped under.
const NOUNS: [&str; 11] = [
    "keystore", "cabinet", "app", "identity", "profile", "device", "apikey", "portal", "rotate", "date",
    "testers",
];

#[test]
fn every_command_stands_in_the_readme_and_every_exit_code_on_its_page() {
    let readme = document("README.md");
    let listed = &readme[readme.find("## Commands").unwrap()..readme.find("## Formats").unwrap()];
    let env = TestEnv::new(PROGRAM);
    let folder = env.path("manual");
    env.run("manual manual").exit(0);
    for page in std::fs::read_dir(folder).unwrap() {
        let name = page.unwrap().file_name().into_string().unwrap();
        let words: Vec<&str> = name.trim_end_matches(".1").split('-').skip(1).collect();
        let command = words.join(" ");
        let told = match words.as_slice() {
            [] => true,
            [noun] if NOUNS.contains(noun) => true,
            [noun, verb @ ..] if NOUNS.contains(noun) => listed
                .lines()
                .filter(|line| line.starts_with(&format!("| `{noun} ")))
                .any(|line| line.contains(&verb.join("-")) || verb.iter().all(|word| line.contains(word))),
            ["stand", "in"] => true,
            ["stand", "in", verb @ ..] => listed.contains(&format!("`stand-in {}", verb.join("-"))),
            _ => [&command, &words.join("-")].iter().any(|word| listed.contains(&format!("`{word}"))),
        };
        assert!(told, "the README says nothing of {command}");
    }
    let errors = document("docs/errors.md");
    for code in [0, 1, 2, 3, 4, 5, 6, 70, 130] {
        assert!(errors.contains(&format!("\n| {code} |")), "docs/errors.md says nothing of {code}");
    }
}
